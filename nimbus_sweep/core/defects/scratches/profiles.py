"""Scratches: upright lines that last, found in frames that follow one another and followed down the picture and through time.

Bands of rows are averaged, and what stands out of a median along them is held against their usual departures; a line is
the best way down through the bands (Viterbi 1967), and a scratch is a line that is there in frame after frame at a place
of its own while the scene moves behind it. The profile it lays over the picture is measured over all of it, and undone.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from scipy.ndimage import gaussian_filter1d

from ...imaging.motion import Plane
from .row_fit import left_over, row_fit
from .threads import BOUND, LASTS, WANDER, Array, Scores, Thread, band_edges, sharpened

# Of a scratch: how far its rows may differ from its profile at most, where the scene moves behind it and where not; and the share
# that shows it at least.
_DOUBT, _DOUBT_STILL, _THERE = 0.3, 0.15, 0.35
# Share of its bands that may lie at an edge of the scene where it does not move behind it; and what covers more hides the picture, as a post does.
_EDGES_STILL, HIDES = 0.5, 0.85
# -- what a scratch does to the picture ------------------------------------------------------------------------
# Half width of the window a row is looked at in, in standard deviations of the profile, and the part of it that is the line.
_WINDOW, _CORE = 6.0, 2.6
_NEAR = 5.0
# Rows that tell how wide a line is.
_TELLING = 240
_WIDTHS = (0.5, 0.6, 0.7, 0.8, 0.9, 1.0, 1.15, 1.3, 1.5, 1.8, 2.1, 2.5, 3.0, 3.6, 4.3)


@dataclass(frozen=True)
class Profile:
    """What a scratch does to one component: ``D = S (1 - cover g) + level g`` with a Gaussian `g` across.

    Attributes
    ----------
    width : float
        Standard deviation, in samples.
    cover : float
        Share of the picture that is lost in its middle.
    level : float
        What it lays there, in codes.
    doubt : float
        How far what is seen differs from that, of what is seen; small for what was laid over the picture.
    there : float
        Share of its rows that show it.
    """

    width: float
    cover: float
    level: float
    doubt: float = 0.0
    there: float = 1.0

    @property
    def laid_over(self) -> bool:
        """Whether it behaves like something laid over the picture, rather than a part of it."""
        return self.doubt < _DOUBT and self.there > _THERE


def rows_of(xs: Array, height: int) -> Array:
    """Where a line crosses each row, from where it crosses the middle of each band."""
    middles = [(a + b - 1) / 2 for a, b in band_edges(height)]
    return np.interp(np.arange(height), middles, xs)


def windows(plane: Plane, at: Array, half: int) -> tuple[Array, Array, NDArray[np.bool_]]:
    """Samples about a line, row by row: values, how far each lies from it, and which lie on the picture: (height, 2 half + 1)."""
    columns = np.rint(at).astype(int)[:, None] + np.arange(-half, half + 1)[None]
    inside = (columns >= 0) & (columns < plane.shape[1])
    values = np.take_along_axis(plane, np.clip(columns, 0, plane.shape[1] - 1), 1).astype(np.float64)
    return values, columns - at[:, None], inside


def _half(width: float) -> int:
    """Half width of the window for a line so wide."""
    return int(np.ceil(_WINDOW * width)) + 2


def across(values: Array, away: Array, inside: NDArray[np.bool_], width: float) -> tuple[Array, Array, Array]:
    """In each row, the height of a Gaussian line over a cubic background, the background at the line, and what is left.

    Parameters
    ----------
    values, away : ndarray, float64, (rows, columns)
        Samples, and how far each lies from the line.
    inside : ndarray, bool
    width : float
        Standard deviation of the line.

    Returns
    -------
    height, background, left : ndarray, float64, (rows,)
        The last as a mean square.
    """
    reach = _WINDOW * width
    found = row_fit(values, away, inside, width, reach, False)
    # Told on the line itself, so that lines of other widths can be held against one another.
    return found[:, 0], found[:, 1], left_over(values, away, inside, width, reach, found, _NEAR)


def profile_of(samples: Sequence[tuple[Plane, Array]], width: float | None = None) -> Profile | None:
    """Measure the profile of a scratch on one component over some frames.

    Parameters
    ----------
    samples : sequence of (ndarray, float32, (height, width); ndarray, float64, (height,))
        A component in codes, and where the line crosses each of its rows.
    width : float
        Its standard deviation, where that is known.

    Returns
    -------
    Profile or None
        Nothing where no rows are left to measure.
    """
    if not samples:
        return None
    if width is None:
        width = min(_WIDTHS, key=lambda tried: _left_by(samples[:6], tried))
    heights, grounds = [], []
    for plane, at in samples:
        height, ground, _ = across(*windows(plane, at, _half(width)), width)
        heights.append(height)
        grounds.append(ground)
    tall, ground = np.concatenate(heights), np.concatenate(grounds)
    if not len(tall):
        return None
    # Gaps of a broken line say nothing of it: rows that show a good part of what it usually is are gone by.
    strong = np.sign(np.median(tall)) * tall > 0.4 * float(np.percentile(np.abs(tall), 70))
    slope = level = 0.0
    for _ in range(3):
        if strong.sum() < 20:
            return None
        slope, level = _line_through(ground[strong], tall[strong])
        usual = level + slope * ground
        strong = np.where(np.abs(usual) > 3, tall * usual > 0.5 * usual * usual, np.abs(tall) < 8)
    if strong.sum() < 20:
        return None
    tall, ground = tall[strong], ground[strong]
    seen = float(np.median(np.abs(tall)))
    doubt = float(np.median(np.abs(tall - level - slope * ground))) / max(seen, 0.3)
    return Profile(width, -slope, float(level), doubt, float(strong.mean()))


def _line_through(ground: Array, tall: Array) -> tuple[float, float]:
    """Height against background, robustly: what covers is the lower the nearer the picture is to its own level."""
    weight = np.ones_like(tall)
    slope = level = 0.0
    for _ in range(8):
        mx, my = np.average(ground, weights=weight), np.average(tall, weights=weight)
        spread = np.average((ground - mx) ** 2, weights=weight)
        # Where the background does not live, nothing is told of the cover: it is drawn to none.
        slope = float(np.clip(np.average((ground - mx) * (tall - my), weights=weight) / (spread + 4.0), -0.98, 0.0))
        level = float(my - slope * mx)
        rest = tall - level - slope * ground
        size = 1.4826 * float(np.median(np.abs(rest))) + 0.3
        weight = 1 / (1 + (rest / (2 * size)) ** 2)
    return slope, level


def sureness(thread: Thread, profile: Profile, frames: int) -> float:
    """How sure a line is a scratch, 0 to 1; below a half where it does not last, or might be a part of the scene.

    Parameters
    ----------
    thread : Thread
    profile : Profile
    frames : int
        Of the shot.
    """
    if not profile.laid_over or not thread.may_be_a_scratch:
        return 0.0
    distinct = profile.doubt < _DOUBT_STILL and thread.edged <= _EDGES_STILL and profile.cover < HIDES
    if (not thread.proven and not distinct) or len(thread.frames) < min(LASTS, frames // 2):
        return 0.4
    return min(1.0, 0.5 + 0.5 * (1 - profile.doubt / _DOUBT) * min(1.0, thread.share))


def _left_by(samples: Sequence[tuple[Plane, Array]], width: float) -> float:
    """What a line of a width leaves unexplained; some of the rows tell it."""
    left = []
    for plane, at in samples:
        step = max(1, len(at) // _TELLING)
        left.append(np.median(across(*windows(plane[::step], at[::step], _half(width)), width)[2]))
    return float(np.mean(left))


def measured(samples: Sequence[tuple[Plane, Scores, Array]], bright: bool) -> Profile | None:
    """The profile of a scratch on luma, its place told anew by what is learned of it.

    Parameters
    ----------
    samples : sequence of (ndarray, Scores, ndarray)
        Luma of some frames, and where the line crosses their bands.
    bright : bool
    """
    profile = profile_of([(light, rows_of(xs, light.shape[0])) for light, _, xs in samples])
    for _ in range(2):
        if profile is None:
            return None
        ways = [placed(light, score, xs, bright, profile) for light, score, xs in samples]
        profile = profile_of([(light, rows_of(xs, light.shape[0])) for (light, _, _), xs in zip(samples, ways, strict=True)])
    return profile


@dataclass(frozen=True)
class Undone:
    """Samples about a line, row by row, with it undone.

    Attributes
    ----------
    columns : ndarray, int64, (height, n)
        Which they are.
    values : ndarray, float64, (height, n)
        In codes.
    kept : ndarray, float64, (height, n)
        Share of the picture that was left in each, 0 to 1.
    changed : ndarray, bool, (height, n)
        Those that are to be rewritten.
    """

    columns: Array
    values: Array
    kept: Array
    changed: NDArray[np.bool_]


def lifted(plane: Plane, at: Array, profile: Profile, there: Array) -> Undone:
    """Undo a line.

    Parameters
    ----------
    plane : ndarray, float32, (height, width)
        A component, in codes.
    at : ndarray, float64, (height,)
        Where the line crosses each row.
    profile : Profile
    there : ndarray, float64, (height,)
        How far the line is there in each row: 1 as measured, 0 where it is broken.
    """
    half = int(np.ceil(_CORE * profile.width)) + 1
    values, away, inside = windows(plane, at, half)
    shape = np.exp(-0.5 * (away / profile.width) ** 2) * there[:, None]
    kept = 1 - np.clip(profile.cover * shape, 0, 0.95)
    made = (values - profile.level * shape) / kept
    columns = np.rint(at).astype(int)[:, None] + np.arange(-half, half + 1)[None]
    changed = inside & (np.abs(away) <= _CORE * profile.width + 0.5) & (np.abs(made - values) >= 0.5)
    return Undone(columns, made, kept, changed)


def presence(plane: Plane, at: Array, profile: Profile) -> Array:
    """How far a line is there in each row, from what is seen of it: smooth down the picture, 0 to 1.5."""
    height, ground, left = across(*windows(plane, at, _half(profile.width)), profile.width)
    usual = profile.level - profile.cover * ground
    # Rows tell by how strong the line would be there against what is not explained.
    weight = usual * usual / (left + 0.5)
    sigma = max(2.0, plane.shape[0] / 120)
    smoothed = gaussian_filter1d(height * usual / (left + 0.5), sigma, mode="nearest")
    power = gaussian_filter1d(weight, sigma, mode="nearest") + 0.15
    found = np.clip(smoothed / power, 0, 1.3)
    # A little of a line is none; most of it is all of it.
    return np.asarray(np.where(found < 0.45, 0.0, np.where(found > 0.75, np.clip(found, 0.95, 1.05), found)))


def placed(light: Plane, score: Scores, expected: Array, bright: bool, profile: Profile) -> Array:
    """Where a scratch crosses the bands of a frame, told from where it is expected within a few pixels: (bands,).

    Parameters
    ----------
    light : ndarray, float32, (height, width)
        Luma, in codes.
    score : Scores
        Of it.
    expected : ndarray, float64, (bands,)
    bright : bool
    profile : Profile
        Of its luma.
    """
    signed = score.out if bright else -score.out
    count, width = signed.shape
    rows = np.arange(count)

    def told(by: int) -> float:
        columns = np.rint(expected).astype(int) + by
        inside = (columns >= 0) & (columns < width)
        return float(np.clip(signed[rows, np.clip(columns, 0, width - 1)], -2, BOUND)[inside].sum())

    by = max(range(-WANDER, WANDER + 1), key=lambda k: told(k) - 0.1 * abs(k))
    xs = sharpened(signed, np.clip(np.rint(expected).astype(int) + by, 0, width - 1))
    # A band that shows nothing of the line follows the others.
    away = xs - expected - by
    xs = np.where(np.abs(away - np.median(away)) > 2.5, expected + by + np.median(away), xs)
    for _ in range(3):
        xs = xs + _misplaced(light, xs, profile)
    return xs


def _misplaced(light: Plane, xs: Array, profile: Profile) -> Array:
    """By how much a line lies beside where it is taken to be, band by band: the part of its slope that is in the picture."""
    at = rows_of(xs, light.shape[0])
    values, away, inside = windows(light, at, _half(profile.width))
    found = row_fit(values, away, inside, profile.width, _WINDOW * profile.width, True)
    height, slope = found[:, 0], found[:, 1]
    usual = profile.level - profile.cover * found[:, 2]
    # Rows where the line is as it should be tell most.
    trust = np.clip(1 - np.abs(height / np.where(np.abs(usual) < 1, 1, usual) - 1), 0, 1) * usual * usual
    shifts, powers = np.zeros(len(xs)), np.zeros(len(xs))
    for band, (a, b) in enumerate(band_edges(light.shape[0])):
        shifts[band] = float((trust[a:b] * np.clip(slope[a:b] / np.where(np.abs(height[a:b]) < 1, 1, height[a:b]), -1.5, 1.5)).sum())
        powers[band] = float(trust[a:b].sum()) + 1e-3
    step = gaussian_filter1d(shifts, 0.8, mode="nearest") / gaussian_filter1d(powers, 0.8, mode="nearest")
    return np.asarray(np.clip(step, -1, 1))


def line_ends(xs: Array, height: int) -> tuple[float, float]:
    """Where the straight line nearest a way down the bands crosses the first and the last row."""
    middles = [(a + b - 1) / 2 for a, b in band_edges(height)]
    slope, start = np.polyfit(middles, xs, 1)
    return float(start), float(start + slope * (height - 1))


def straight(top: float, bottom: float, height: int) -> Array:
    """Where a straight line crosses the middle of each band."""
    middles = np.array([(a + b - 1) / 2 for a, b in band_edges(height)])
    return top + (bottom - top) * middles / max(1, height - 1)
