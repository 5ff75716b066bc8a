"""What a scratch lays over the picture, measured over all of it, and undone."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from ...imaging.motion import Plane
from .lines import BOUND, Array, band_edges, band_middles
from .row_fit import left_over, row_fit

# What covers more hides the picture.
HIDES = 0.85
# -- what a scratch does to the picture ------------------------------------------------------------------------
# Half width of the window a row is looked at in, in standard deviations of the profile, and the part of it that is the line.
_WINDOW, _CORE = 6.0, 2.6
_NEAR = 5.0
# Rows of a frame that tell how wide a line is, and samples either side of it.
_TELLING, _ROOM = 240, 16
# How many times wider or narrower it may be than was said.
_ROUGHLY = 1.7
# How far a line usually lies beside where it was found, turned and bent: standard deviations in pixels.
_BEND = np.array([1.0, 0.7, 0.5])
# How far from a line, in times the least, places lie that tell what none would look like; their deviations within which a cover is doubted.
_PLACEBOS, _DOUBTS = (1.0, 1.5, 2.0, 2.5), 1.5
# Codes from black, or white, within which a line may have been cut off; how much lower it is for each code of the picture if it lies at one level.
_CUT_OFF, _AT_ONE_LEVEL = 4.0, 0.5
# How many times what is seen of a line over all rows it may come to, and what is nothing, in codes.
_HELD, _NOTHING = 1.4, 0.5
# Between which percentiles of the picture under a line it is lighter, or darker, all over.
_NEARLY = (2, 98)
# Rows that a profile is measured in at least.
_ENOUGH = 20
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
    there : float
        Share of its rows that show it.
    """

    width: float
    cover: float
    level: float
    there: float = 1.0


def rows_of(xs: Array, height: int) -> Array:
    """Where a line crosses each row, from where it crosses the middle of each band."""
    return np.interp(np.arange(height), band_middles(height), xs)


def windows(plane: Plane, at: Array, half: int) -> tuple[Array, Array, NDArray[np.bool_]]:
    """Samples about a line, row by row: values, how far each lies from it, and which lie on the picture: (height, 2 half + 1)."""
    columns = np.rint(at).astype(int)[:, None] + np.arange(-half, half + 1)[None]
    inside = (columns >= 0) & (columns < plane.shape[1])
    values = np.take_along_axis(plane, np.clip(columns, 0, plane.shape[1] - 1), 1).astype(np.float64)
    return values, columns - at[:, None], inside


def half(width: float) -> int:
    """Half width of the window that a line so wide is told in, in samples."""
    return int(np.ceil(_WINDOW * width)) + 2


def apart(width: float, times: float = 1.0) -> tuple[int, int]:
    """How far to either side of a line so wide nothing of it is left in the window, in samples; or so many times as far."""
    far = int(np.ceil(times * (9 * width + 3)))
    return -far, far


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


def profile_of(
    samples: Sequence[tuple[Plane, Array]],
    width: float | None = None,
    about: float | None = None,
    within: tuple[float, float] = (-np.inf, np.inf),
) -> Profile | None:
    """Measure the profile of a scratch on one component over some frames.

    Parameters
    ----------
    samples : sequence of (ndarray, float32, (height, width); ndarray, float64, (height,))
        A component in codes, and where the line crosses each of its rows.
    width : float
        Its standard deviation, where that is known.
    about : float
        The same, where it is known roughly.
    within : tuple of float
        Black and white, in codes: a line that reaches them is higher than it looks.

    Returns
    -------
    Profile or None
        Nothing where no rows are left to measure.
    """
    if not samples:
        return None
    if width is None:
        width = _width_of(samples, about)
    tall, ground = _rows(samples, width)
    # Where the background is told too high, the line is told too low: what that does beside the line is no cover.
    beside = [_rows([(plane, at + by) for plane, at in samples], width) for times in _PLACEBOS for by in apart(width, times)]
    none_there = [_line_through(under, none, np.ones_like(none), (-1.0, 1.0)) for none, under in beside if len(none) >= _ENOUGH]
    if len(tall) < _ENOUGH or not none_there:
        return None
    slopes, _, noises = np.array(none_there).T
    lies, (black, white) = ground + tall, within
    whole = np.where(tall < 0, lies > black + _CUT_OFF, lies < white - _CUT_OFF)
    tall = tall - float(np.median(slopes)) * (ground - np.median(ground))
    # What lies at one level wherever it does not reach black or white is not cut off there: it hides the picture.
    if (
        _ENOUGH <= whole.sum() < len(whole)
        and _line_through(ground[whole], tall[whole], np.ones(int(whole.sum())), (-1.0, 1.0))[0] > -_AT_ONE_LEVEL
    ):
        tall, ground = tall[whole], ground[whole]
    return _with_gaps(tall, ground, float(np.median(noises)), _usual_size(slopes - np.median(slopes)), width)


def _rows(samples: Sequence[tuple[Plane, Array]], width: float) -> tuple[Array, Array]:
    """Height of the line, and of the background under it, in every row of some frames."""
    heights, grounds = [], []
    for plane, at in samples:
        values, away, inside = windows(plane, at, half(width))
        height, ground, _ = across(values, away, inside, width)
        on = inside.mean(1) > 0.5
        heights.append(height[on])
        grounds.append(ground[on])
    return np.concatenate(heights), np.concatenate(grounds)


def _with_gaps(tall: Array, ground: Array, noise: float, doubt: float, width: float) -> Profile | None:
    """What a line does where it is there, and in how many rows it is: two kinds of rows told apart (Dempster, Laird and Rubin 1977).

    A cover is drawn to none as far as places beside the line, which have none, would show one, too: that much is in `doubt`.
    """
    level, slope, share = float(np.sign(np.median(tall)) * np.percentile(np.abs(tall), 60)), 0.0, 0.8
    there = np.ones_like(tall)
    for _ in range(10):
        usual = level + slope * ground
        speaks = np.clip(0.5 * (tall**2 - (tall - usual) ** 2) / noise**2, -30, 30)
        there = 1 / (1 + (1 - share) / share * np.exp(-speaks))
        share = float(np.clip(there.mean(), 0.2, 0.98))
        if there.sum() < _ENOUGH:
            return None
        slope, level, _ = _line_through(ground, tall, there, (-_most(tall, ground, there), 0.0))
    believed = slope * max(0.0, 1 - (_DOUBTS * doubt / min(slope, -1e-6)) ** 2)
    _, level, _ = _line_through(ground, tall - believed * ground, there, (0.0, 0.0))
    # In rough pictures rows that stand out by chance are taken for the line: over all rows it comes to no more than what is seen there.
    size = 3 * _usual_size(tall - np.median(tall))
    seen = float(np.clip(tall, np.median(tall) - size, np.median(tall) + size).mean())
    taken = float((there * (level + believed * ground)).mean())
    held = float(np.clip(_HELD * seen / taken, 0.0, 1.0)) if abs(taken) > _NOTHING else 1.0
    return Profile(width, -held * believed, held * level, float(there.mean()))


def _most(tall: Array, ground: Array, there: Array) -> float:
    """The most that a line can cover: what is lighter than the picture is so nearly wherever it lies, and what is darker, too."""
    height, lies = np.average(tall, weights=there), np.average(ground, weights=there)
    low, high = np.percentile(ground[there > 0.5], _NEARLY) if (there > 0.5).any() else (lies, lies)
    return float(np.clip(abs(height) / max((high - lies) if height > 0 else (lies - low), 1.0), 0.0, 0.98))


def _usual_size(values: Array) -> float:
    """Standard deviation of normal values of such a median size: another line beside this one does not count."""
    return 1.4826 * float(np.median(np.abs(values)))


def _line_through(ground: Array, tall: Array, counts: Array, within: tuple[float, float]) -> tuple[float, float, float]:
    """Height against background, robustly: slope, height over black, and what is left, as a standard deviation."""
    weight, slope, level, size = counts, 0.0, 0.0, 0.0
    for _ in range(8):
        mx, my = np.average(ground, weights=weight), np.average(tall, weights=weight)
        spread = np.average((ground - mx) ** 2, weights=weight)
        # Where the background does not live, nothing is told of the cover: it is drawn to none.
        slope = float(np.clip(np.average((ground - mx) * (tall - my), weights=weight) / (spread + 4.0), *within))
        level = float(my - slope * mx)
        rest = tall - level - slope * ground
        size = _usual_size(rest[counts > 0.5]) + 0.3 if (counts > 0.5).any() else 1.0
        weight = counts / (1 + (rest / (2 * size)) ** 2)
    return slope, level, size


def _width_of(samples: Sequence[tuple[Plane, Array]], about: float | None) -> float:
    """The width of a line as high in all rows that explains most of them, over cubic backgrounds in one and the same window."""
    rows, places, weights = [], [], []
    smooth = np.linalg.qr(np.vander(np.linspace(-1, 1, 2 * _ROOM + 1), 4))[0]
    for plane, at in samples:
        step = max(1, len(at) // _TELLING)
        values, away, inside = windows(plane[::step], at[::step], _ROOM)
        whole = inside.all(1)
        values, away = values[whole], away[whole]
        left = values - (values @ smooth) @ smooth.T
        beside = np.abs(away) > _ROOM / 2
        rows.append(left)
        places.append(away)
        weights.append(1 / ((left**2 * beside).sum(1) / beside.sum(1) + 1.0))
    left, away, weight = np.concatenate(rows), np.concatenate(places), np.concatenate(weights)
    if len(left) < _ENOUGH:
        return about or 1.0

    def explained(width: float) -> float:
        line = np.exp(-0.5 * (away / width) ** 2)
        line = line - (line @ smooth) @ smooth.T
        power = float((weight * (line * line).sum(1)).sum())
        return float((weight * (line * left).sum(1)).sum()) ** 2 / max(power, 1e-9)

    likely = [w for w in _WIDTHS if about is None or about / _ROUGHLY <= w <= about * _ROUGHLY]
    return max(likely or _WIDTHS, key=explained)


def measured(
    samples: Sequence[tuple[Plane, Array, Array]],
    bright: bool,
    bands: slice,
    room: int,
    about: float | None = None,
    within: tuple[float, float] = (-np.inf, np.inf),
) -> Profile | None:
    """The profile of a scratch on luma, its place told anew by what is learned of it.

    Parameters
    ----------
    samples : sequence of (ndarray, ndarray, ndarray)
        Luma of some frames, its scores (see `lines.scores`), and where the line crosses all of their bands.
    bright : bool
    bands : slice
        The bands it is in.
    room : int
        Pixels that it may lie beside.
    about : float
        Its standard deviation, where that is known roughly.
    within : tuple of float
        Black and white, in codes.
    """
    edges = band_edges(samples[0][0].shape[0])[bands]
    rows = slice(edges[0][0], edges[-1][1])

    def profile_at(ways: Sequence[Array]) -> Profile | None:
        return profile_of(
            [(light[rows], rows_of(way, len(light))[rows]) for (light, *_), way in zip(samples, ways, strict=True)],
            about=about,
            within=within,
        )

    profile = profile_at([xs for *_, xs in samples])
    for _ in range(2):
        if profile is None:
            return None
        profile = profile_at([placed(light, scored, xs, bright, profile, bands, room) for light, scored, xs in samples])
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


def without(plane: Plane, undone: Undone) -> Plane:
    """A component with a line taken off."""
    left = plane.copy()
    rows = np.repeat(np.arange(len(plane))[:, None], undone.columns.shape[1], 1)
    left[rows[undone.changed], undone.columns[undone.changed]] = undone.values[undone.changed]
    return left


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


def placed(light: Plane, scored: Array, expected: Array, bright: bool, profile: Profile, bands: slice, room: int) -> Array:
    """Where a scratch crosses the bands of a frame, told from where it is expected within a few pixels: (all bands,).

    Parameters
    ----------
    light : ndarray, float32, (height, width)
        Luma, in codes.
    scored : ndarray, float32, (bands, width)
        See `lines.scores`.
    expected : ndarray, float64, (bands,)
    bright : bool
    profile : Profile
        Of its luma.
    bands : slice
        Those it is in; in others it goes on beside where it is expected.
    room : int
        Pixels that it is looked for to either side, at first.
    """
    signed = np.asarray(scored if bright else -scored, np.float64)[bands]
    own = expected[bands]
    count, width = signed.shape
    rows = np.arange(count)

    def told(by: int) -> float:
        columns = np.rint(own).astype(int) + by
        inside = (columns >= 0) & (columns < width)
        return float(np.clip(signed[rows, np.clip(columns, 0, width - 1)], -2, BOUND)[inside].sum())

    by = max(range(-room, room + 1), key=lambda k: told(k) - 0.1 * abs(k))
    edges = band_edges(light.shape[0])[bands]
    beside = np.full(count, float(by))
    for _ in range(4):
        beside = beside + _misplaced(light, own + beside, profile, edges)
    return np.asarray(expected + np.interp(np.arange(len(expected)), np.arange(len(expected))[bands], beside))


def _misplaced(light: Plane, xs: Array, profile: Profile, edges: Sequence[tuple[int, int]]) -> Array:
    """By how much a line lies beside where it is taken to be, in each band: the part of its slope that is in the picture.

    A scratch is nearly straight: it is moved, turned and bent, by no more than its rows agree on.
    """
    first, stop = edges[0][0], edges[-1][1]
    at = np.interp(np.arange(first, stop), [(a + b - 1) / 2 for a, b in edges], xs)
    values, away, inside = windows(light[first:stop], at, half(profile.width))
    found = row_fit(values, away, inside, profile.width, _WINDOW * profile.width, True)
    height, slope = found[:, 0], found[:, 1]
    usual = profile.level - profile.cover * found[:, 2]
    # Rows where the line is as it should be tell most.
    trust = np.clip(1 - np.abs(height / np.where(np.abs(usual) < 1, 1, usual) - 1), 0, 1) * usual * usual
    shifts, powers = np.zeros(len(xs)), np.zeros(len(xs))
    for band, (a, b) in enumerate(edges):
        own = slice(a - first, b - first)
        shifts[band] = float((trust[own] * np.clip(slope[own] / np.where(np.abs(height[own]) < 1, 1, height[own]), -1.5, 1.5)).sum())
        powers[band] = float(trust[own].sum()) + 1e-3
    shifts = shifts / powers
    down = np.linspace(-1, 1, len(xs))
    shapes = np.stack([np.ones_like(down), down, down * down - 1 / 3], 1)
    weight = powers / powers.mean()
    found_by = np.zeros(3)
    for _ in range(3):
        rest = shifts - shapes @ found_by
        spread = float((weight * np.minimum(rest * rest, 1.0)).sum() / weight.sum()) + 1e-4
        held = weight / (1 + rest * rest / (4 * spread))
        found_by = np.linalg.solve(shapes.T @ (held[:, None] * shapes) + np.diag(spread / _BEND**2), shapes.T @ (held * shifts))
    return np.asarray(np.clip(shapes @ found_by, -1, 1))
