"""Whether a small departure has the profile of a sensor site, or of a point of light drawn by a lens.

A stuck site is one pixel or a block of up to 2 x 2, sharp, or spread by demosaicing: a little by edge-aware
methods, bilinearly in its own channel by the simple one. Chroma subsampling averages it over its cells. A lens
spreads a point of light over its neighbours in all channels. Each profile is fitted, by least squares with free
amplitudes in all components, to what departs from the smoothest surface through the surroundings.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from functools import lru_cache
from itertools import product
from math import erf, sqrt

import cv2
import numpy as np
from numpy.typing import NDArray

from ...imaging.inpainting import biharmonic_weights
from ...media.colour import from_rgb, luma_weights, possible, to_rgb
from ...media.frames import Colour, PictureFormat
from .departures import Plane
from .texture import Texture, tied

Grid = NDArray[np.float64]
_WINDOW = 16
# A misfit up to this is a plain profile.
_PLAIN = 0.1
_HOLE = 6
# How much more of a departure's energy one profile may leave than another and still explain it as well, and how many
# such are looked at.
_TIE, _KIN = 0.01, 12
# How much of the energy of the usual departures is expected to be left by any profile.
_ALLOWANCE = 0.15
# How a single site spreads (common practice, no source): not at all, a little, and by bilinear interpolation of
# a red or blue site and of a green one.
KERNELS = {
    "sharp": np.array([[0, 0, 0], [0, 1, 0], [0, 0, 0]], np.float64),
    "mild": np.array([[0.02, 0.14, 0.02], [0.14, 1, 0.14], [0.02, 0.14, 0.02]], np.float64),
    "mosaic": np.array([[0.25, 0.5, 0.25], [0.5, 1, 0.5], [0.25, 0.5, 0.25]], np.float64),
    "mosaic-green": np.array([[0, 0.25, 0], [0.25, 1, 0.25], [0, 0.25, 0]], np.float64),
}
# Interpolation between sites of one colour spreads that colour alone.
_ALL, _ONE = {(True, True, True)}, {(True, False, False), (False, True, False), (False, False, True)}
_HELD_BY = {
    "sharp": _ALL | _ONE,
    "mild": _ALL | _ONE,
    "mosaic": {(True, False, False), (False, False, True)},
    "mosaic-green": {(False, True, False)},
}
# Which channel the sites of a block of four lie in, by rows, for the four phases of a mosaic.
PHASES = ((0, 1, 1, 2), (1, 0, 2, 1), (1, 2, 0, 1), (2, 1, 1, 0))
_LENS_SIGMAS = (0.5, 0.65, 0.85, 1.1)
# Samples each way of what departs about a site in a component with cells of one pixel and of more; how firmly a texture tells a
# profile at least, of what it would if its samples told nothing of one another.
_DEPARTS, _DEPARTS_COARSE, _FIRM = 2, 1, 0.05


@dataclass(frozen=True)
class SiteFit:
    """The sensor profile that fits a departure best.

    Attributes
    ----------
    x, y, width, height : int
        The pixels at the profile's top.
    spread : str
        ``sharp``, ``mild``, ``mosaic`` or ``mosaic-green``.
    amplitudes : tuple of float
        Departure at the top in each component, in 8-bit display steps.
    ground : tuple of float
        The smooth surface under it, in the same steps.
    misfit, lens_misfit : float
        Share of the departure's energy that the best sensor profile, and the best lens profile, leaves over,
        the texture of the surroundings allowed for.
    contrast : float
        The departure's energy in units of that allowance.
    """

    x: int
    y: int
    width: int
    height: int
    spread: str
    amplitudes: tuple[float, ...]
    ground: tuple[float, ...]
    misfit: float
    lens_misfit: float
    contrast: float

    def drawn(self, cells: tuple[int, int], width: int, height: int) -> Grid:
        """How much of each sample the site takes over: (height, width) samples of a component with such cells."""
        across, down = cells
        cover = np.zeros((height * down + 2, width * across + 2))
        for j in range(self.height):
            for i in range(self.width):
                top, left = self.y + j, self.x + i
                part = cover[top : top + 3, left : left + 3]
                np.maximum(part, KERNELS[self.spread][: part.shape[0], : part.shape[1]], out=part)
        return np.asarray(cover[1:-1, 1:-1].reshape(height, down, width, across).mean((1, 3)))


@dataclass(frozen=True)
class HeldProfile:
    """A profile whose channels are held at an end of their range.

    Attributes
    ----------
    site : SiteFit
        With the profile's place, size and spread.
    amplitudes : tuple of float
        Departure at the top in each component, in 8-bit display steps, over the ground at the top.
    shares : tuple of float
        How much of each component the held channels are.
    misfit : float
        Share of the departure's energy left over.
    """

    site: SiteFit
    amplitudes: tuple[float, ...]
    shares: tuple[float, ...]
    misfit: float


@dataclass(frozen=True)
class _Profile:
    dx: int
    dy: int
    width: int
    height: int
    spread: str


def fit_site(values: Sequence[Plane], cells: Sequence[tuple[int, int]], scales: Sequence[float], x: int, y: int) -> SiteFit:
    """Fit the profiles of sensor sites near `x`, `y` and those of a lens.

    Parameters
    ----------
    values : sequence of ndarray, (height, width)
        Mean over time of each component, in 8-bit display steps.
    cells : sequence of tuple of int
        How many pixels across and down share a sample of each component.
    scales : sequence of float
        The usual departure near the place in each component, in 8-bit display steps.
    x, y : int
        Pixel of the picture; the search goes on from the best profile while it moves.
    """
    wide = _settled(values, tuple(cells), scales, x, y, False)
    if wide.misfit <= _PLAIN:
        return wide
    # Where the surroundings are busy, one pixel and its neighbours are told better through a smaller hole.
    tight = _settled(values, tuple(cells), scales, x, y, True)
    return tight if tight.misfit <= _PLAIN and tight.lens_misfit > 4 * tight.misfit + 0.04 else wide


def _settled(values: Sequence[Plane], cells: tuple[tuple[int, int], ...], scales: Sequence[float], x: int, y: int, tight: bool) -> SiteFit:
    fit = _fit_near(values, cells, scales, x, y, tight)
    for _ in range(3):
        if (fit.x, fit.y) == (x, y):
            break
        x, y = fit.x, fit.y
        fit = _fit_near(values, cells, scales, x, y, tight)
    return fit


def _fit_near(values: Sequence[Plane], cells: tuple[tuple[int, int], ...], scales: Sequence[float], x: int, y: int, tight: bool) -> SiteFit:
    left, top = _corner(cells, x, y)
    profiles, sensor, lens = _profiles(cells, x - left, y - top)
    left_sensor, left_lens = np.zeros(len(profiles)), np.zeros(len(lens[0]))
    energy = allowance = 0.0
    amplitudes, grounds = [], []
    for i, (value, (across, down)) in enumerate(zip(values, cells, strict=True)):
        window = _window(value, left // across, top // down, _WINDOW // across, _WINDOW // down)
        hole = _hole(across, down, tight)
        departs, ground, used = _departure(window, (x - left) // across, (y - top) // down, *hole)
        weight = 1 / (scales[i] ** 2 + 1)
        at = departs[used]
        own = float(at @ at)
        energy += weight * own
        allowance += weight * scales[i] ** 2 * _ALLOWANCE * used.sum()
        for profile, rest in ((sensor[i], left_sensor), (lens[i], left_lens)):
            drawn = profile[:, used.ravel()]
            power = (drawn**2).sum(1) + 1e-9
            fitted = drawn @ at / power
            rest += weight * (own - fitted**2 * power)
            if rest is left_sensor:
                amplitudes.append(fitted)
        grounds.append(float(ground[(y - top) // down, (x - left) // across]))
    if tight:
        left_sensor[[shape.width * shape.height > 1 for shape in profiles]] = np.inf
    best = int(np.argmin(left_sensor))
    shape = profiles[best]
    height, width = values[0].shape[0] * cells[0][1], values[0].shape[1] * cells[0][0]
    misfit, lens_misfit = (max(0.0, float(rest.min()) - allowance) / max(energy, 1e-9) for rest in (left_sensor, left_lens))
    return SiteFit(
        x=min(max(0, x + shape.dx), width - 1),
        y=min(max(0, y + shape.dy), height - 1),
        width=shape.width,
        height=shape.height,
        spread=shape.spread,
        amplitudes=tuple(float(a[best]) for a in amplitudes),
        ground=tuple(grounds),
        misfit=misfit,
        lens_misfit=lens_misfit,
        contrast=energy / max(allowance, 1e-9),
    )


def held_value(fit: SiteFit, layout: PictureFormat, colour: Colour) -> tuple[NDArray[np.float64], NDArray[np.bool_], float]:
    """The value a site holds in red, green and blue, which of them it holds, and how far off 0 or 255 the worst lies."""
    change = to_rgb(fit.amplitudes, layout, colour, difference=True)
    held = to_rgb(fit.ground, layout, colour) + change
    size = np.abs(change)
    off = np.minimum(np.abs(held), np.abs(255 - held))
    departs = size > 0.25 * size.max()
    short = float(off[departs].max(initial=0))
    # A channel that departs little is held too if it lies at an end, as blue is by white before a bright sky.
    return held, departs | ((size > 5) & (off < 15)), short


def held_profile(
    values: Sequence[Plane], cells: Sequence[tuple[int, int]], scales: Sequence[float], fit: SiteFit, layout: PictureFormat, colour: Colour
) -> HeldProfile | None:
    """Which profile near `fit`, holding which channels at which end of the range, explains the departure best.

    The end says how far each sample departs, so nothing is left free: profiles that look alike at amplitudes of
    their own are told apart.

    Parameters
    ----------
    values, cells, scales
        As for `fit_site`.
    fit : SiteFit
    layout : PictureFormat
    colour : Colour

    Returns
    -------
    HeldProfile or None
        None if no channel departs.
    """
    wide = _held_near(values, tuple(cells), scales, fit, layout, colour, False)
    if wide is None or wide.misfit <= _PLAIN:
        return wide
    tight = _held_near(values, tuple(cells), scales, fit, layout, colour, True)
    return tight if tight and tight.misfit <= _PLAIN else wide


def _held_near(
    values: Sequence[Plane],
    cells: tuple[tuple[int, int], ...],
    scales: Sequence[float],
    fit: SiteFit,
    layout: PictureFormat,
    colour: Colour,
    tight: bool,
) -> HeldProfile | None:
    left, top = _corner(cells, fit.x, fit.y)
    profiles, drawn, _ = _profiles(cells, fit.x - left, fit.y - top)
    small = np.array([not tight or shape.width * shape.height == 1 for shape in profiles])
    allowed = [_HELD_BY[shape.spread] for shape in profiles]
    parts, grounds, windows = [], [], []
    energy = allowance = 0.0
    for i, (value, (across, down)) in enumerate(zip(values, cells, strict=True)):
        window = _window(value, left // across, top // down, _WINDOW // across, _WINDOW // down)
        hole = _hole(across, down, tight)
        departed, smooth, used = _departure(window, (fit.x - left) // across, (fit.y - top) // down, *hole)
        grounds.append(float(smooth[(fit.y - top) // down, (fit.x - left) // across]))
        windows.append(window)
        parts.append((departed[used], smooth[used] - grounds[-1], drawn[i][:, used.ravel()], 1 / (scales[i] ** 2 + 1)))
        energy += parts[-1][3] * float(parts[-1][0] @ parts[-1][0])
        allowance += parts[-1][3] * scales[i] ** 2 * _ALLOWANCE * used.sum()
    candidates: list[_Candidate] = []
    # Where the matrix is not named the site itself tells it.
    for guess in possible(colour):
        ground = to_rgb(grounds, layout, guess)
        _, departs, _ = held_value(fit, layout, guess)
        free = tuple(bool(d) for d in departs)
        weights = luma_weights(guess, layout.height)
        for channels in dict.fromkeys([free, *_ALL, *_ONE]):
            usable = small & [channels in may or (channels == free and may >= _ALL) for may in allowed]
            for high in product(*((False, True) if c else (False,) for c in channels)):
                held = np.where(channels, np.where(high, 255.0, 0.0), ground)
                amplitudes = from_rgb(held - ground, layout, guess, difference=True)
                shares = _shares(channels, layout, weights)
                rest = np.where(usable, 0.0, np.inf)
                for (at, around, cover, weight), amplitude, share in zip(parts, amplitudes, shares, strict=True):
                    rest += weight * ((at - cover * (amplitude - share * around)) ** 2).sum(1)
                candidates += [_Candidate(float(rest[n]), int(n), amplitudes, shares) for n in np.argsort(rest)[:_KIN]]
    candidates = [one for one in sorted(candidates, key=lambda one: one.rest) if np.isfinite(one.rest)]
    if not candidates:
        return None
    # Those that explain the departure as well are told apart by what they make of the picture under it.
    alike = [one for one in candidates if one.rest <= candidates[0].rest + _TIE * energy][:_KIN]
    inverse = [part[3] for part in parts]
    best = (
        min(alike, key=lambda one: _roughness(windows, [d[one.profile] for d in drawn], one, grounds, inverse))
        if len(alike) > 1
        else candidates[0]
    )
    shape = profiles[best.profile]
    site = replace(
        fit,
        x=fit.x + shape.dx,
        y=fit.y + shape.dy,
        width=shape.width,
        height=shape.height,
        spread=shape.spread,
        ground=tuple(grounds),
    )
    return HeldProfile(site, tuple(best.amplitudes), tuple(best.shares), max(0.0, best.rest - allowance) / max(energy, 1e-9))


@dataclass(frozen=True)
class _Candidate:
    rest: float
    profile: int
    amplitudes: list[float]
    shares: list[float]


@dataclass(frozen=True)
class DrawnBy:
    """How much of what departs from the texture about a place profiles explain, as likelihood ratios: twice their logarithms.

    Attributes
    ----------
    site : float
        By the profile of a sensor site, free in every component.
    one_colour : float
        By one that holds red, green, blue or all of them, as a site of a mosaic does.
    block : float
        By four sites of a mosaic, each off by as much as it is.
    lens : float
        By a point drawn by a lens, free in every component.
    departs : float
        All of what departs there.
    """

    site: float
    one_colour: float
    block: float
    lens: float
    departs: float


def drawn_by(
    textures: Sequence[Texture], cells: Sequence[tuple[int, int]], x: int, y: int, layout: PictureFormat, colour: Colour
) -> DrawnBy:
    """Hold profiles near `x`, `y` against what texture leaves over there.

    Parameters
    ----------
    textures : sequence of Texture
        Of each component.
    cells, layout, colour
        As for `held_profile`.
    x, y : int
        Pixel of the picture.
    """
    left, top = _corner(tuple(cells), x, y)
    profiles, sensor, lens = _profiles(tuple(cells), x - left, y - top)
    sites_moved, points_moved = _alike(tuple(cells), x - left, y - top)
    parts: list[tuple[Grid, Grid]] = []
    by_lens = np.zeros(len(lens[0]))
    departs = 0.0
    for texture, site, point, site_moved, point_moved, (across, down) in zip(
        textures, sensor, lens, sites_moved, points_moved, cells, strict=True
    ):
        row, col = min(y // down, texture.left.shape[0] - 1), min(x // across, texture.left.shape[1] - 1)
        weights, variance = texture.weights_at(row, col), texture.usual_at(row, col) ** 2
        window = _window(texture.left, left // across, top // down, _WINDOW // across, _WINDOW // down).ravel()
        # How firmly the texture tells each profile's height.
        firm, firm_lens = (np.maximum(moved @ weights.ravel(), _FIRM * moved[:, 12]) + 1e-9 for moved in (site_moved, point_moved))
        parts.append((site @ window / variance, firm / variance))
        by_lens += (point @ window) ** 2 / firm_lens / variance
        reach = _DEPARTS if across * down == 1 else _DEPARTS_COARSE
        departs += texture.departs(row, col, reach) / variance
    free = sum((seen**2 / firm for seen, firm in parts), np.zeros(len(profiles)))
    best = 0.0
    for guess in possible(colour):
        for channels in _ALL | _ONE:
            usable = np.array([channels in _HELD_BY[shape.spread] for shape in profiles])
            shares = from_rgb(np.array(channels, float), layout, guess, difference=True)
            seen = sum((s * one for s, (one, _) in zip(shares, parts, strict=True)), np.zeros(len(profiles)))
            firm = sum((s * s * one for s, (_, one) in zip(shares, parts, strict=True)), np.zeros(len(profiles)))
            best = max(best, float((seen**2 / firm)[usable].max()))
    block = _by_block(textures, cells, x, y, layout, colour)
    return DrawnBy(float(free.max()), best, block, float(by_lens.max()), departs)


def _by_block(
    textures: Sequence[Texture], cells: Sequence[tuple[int, int]], x: int, y: int, layout: PictureFormat, colour: Colour
) -> float:
    """What four sites of a mosaic explain, the best of all phases, up to a pixel beside a place."""
    left, top = _corner(tuple(cells), x, y)
    drawn = _mosaic_sites(tuple(cells), x - left, y - top)
    told, power, own = [], [], []
    for texture, profiles, (across, down) in zip(textures, drawn, cells, strict=True):
        row, col = min(y // down, texture.left.shape[0] - 1), min(x // across, texture.left.shape[1] - 1)
        shape = (_WINDOW // down, _WINDOW // across)
        variance = texture.usual_at(row, col) ** 2
        window = _window(texture.left, left // across, top // down, shape[1], shape[0]).ravel()
        told.append(profiles @ window / variance)
        power.append(profiles @ tied(texture.weights_at(row, col).tobytes(), shape) @ profiles.T / variance)
        own.append((profiles**2).sum(1) / variance)
    best = 0.0
    for guess in possible(colour):
        shares = np.array([from_rgb(np.eye(3)[c], layout, guess, difference=True) for c in range(3)])
        seen = sum((shares[_CHANNEL, m] * each for m, each in enumerate(told)), np.zeros(len(_CHANNEL)))
        firm = sum(
            (np.outer(shares[_CHANNEL, m], shares[_CHANNEL, m]) * each for m, each in enumerate(power)), np.zeros((len(_CHANNEL),) * 2)
        )
        alone = np.sqrt(sum((shares[_CHANNEL, m] ** 2 * each for m, each in enumerate(own)), np.full(len(_CHANNEL), 1e-9)))
        # Patterns of the four that the texture tells little of count as told a little at least, as single profiles do.
        power_of, along = np.linalg.eigh((firm / np.outer(alone, alone))[_BLOCKS[:, :, None], _BLOCKS[:, None, :]])
        parts = np.einsum("nij,ni->nj", along, (seen / alone)[_BLOCKS])
        best = max(best, float((parts**2 / np.maximum(power_of, _FIRM)).sum(1).max()))
    return best


# Of the sites of `_mosaic_sites`, the channel of each; and which four make up a block, for each place and phase.
_PLACES = tuple(product((-1, 0, 1, 2), repeat=2))
_CHANNEL = np.array([c for _ in _PLACES for c in range(3)])
_BLOCKS = np.array(
    [
        [3 * _PLACES.index((j + k // 2, i + k % 2)) + c for k, c in enumerate(phase)]
        for j, i in product((-1, 0, 1), repeat=2)
        for phase in PHASES
    ]
)


@lru_cache(maxsize=64)
def _mosaic_sites(cells: tuple[tuple[int, int], ...], col: int, row: int) -> list[Grid]:
    """Single sites of a mosaic, red, green and blue, about a place of the window, drawn in each component: (sites, samples)."""
    drawn = []
    for (j, i), channel in product(_PLACES, range(3)):
        picture = np.zeros((_WINDOW, _WINDOW))
        picture[row + j - 1 : row + j + 2, col + i - 1 : col + i + 2] = KERNELS["mosaic-green" if channel == 1 else "mosaic"]
        drawn.append(picture)
    return [_in_cells(drawn, c) for c in cells]


@lru_cache(maxsize=64)
def _alike(cells: tuple[tuple[int, int], ...], col: int, row: int) -> tuple[list[Grid], list[Grid]]:
    """Of the profiles of `_profiles`, and of the lens: each times itself, moved by up to two samples each way: (profiles, 25)."""
    _, sensor, lens = _profiles(cells, col, row)
    return [_moved(p, c) for p, c in zip(sensor, cells, strict=True)], [_moved(p, c) for p, c in zip(lens, cells, strict=True)]


def _moved(drawn: Grid, cell: tuple[int, int]) -> Grid:
    pictures = drawn.reshape(len(drawn), _WINDOW // cell[1], _WINDOW // cell[0])
    padded = np.pad(pictures, ((0, 0), (2, 2), (2, 2)))
    height, width = pictures.shape[1:]
    return np.stack([(padded[:, j : j + height, i : i + width] * pictures).sum((1, 2)) for j in range(5) for i in range(5)], 1)


def _roughness(windows: list[Grid], drawn: list[Grid], one: _Candidate, grounds: list[float], weights: list[float]) -> float:
    """How rough the mean picture is with the site turned back: its curvature, summed over components."""
    rough = 0.0
    for window, flat, amplitude, share, ground, weight in zip(windows, drawn, one.amplitudes, one.shares, grounds, weights, strict=True):
        cover = flat.reshape(window.shape)
        lost = share * cover > 0.8
        back = (window - cover * (amplitude + share * ground)) / np.where(lost, 1.0, 1 - share * cover)
        if lost.any():
            back[lost] = biharmonic_weights(lost) @ back[~lost]
        rough += weight * float((cv2.Laplacian(back, cv2.CV_64F)[1:-1, 1:-1] ** 2).sum())
    return rough


def _shares(channels: Sequence[bool], layout: PictureFormat, weights: Sequence[float]) -> list[float]:
    """How much of each colour component a site covers that holds these channels of red, green and blue."""
    shares = []
    for component in layout.components:
        if component.name in "RGB":
            shares.append(float(channels["RGB".index(component.name)]))
        elif component.is_chroma:
            shares.append(sum(channels) / 3)
        elif component.name != "A":
            shares.append(float(np.dot(weights, channels)))
    return shares


def _hole(across: int, down: int, tight: bool) -> tuple[int, int]:
    """Samples across and down that a site may reach in a component with such cells."""
    return (3, 3) if tight else (_HOLE if across == 1 else 4, _HOLE if down == 1 else 4)


def _corner(cells: tuple[tuple[int, int], ...], x: int, y: int) -> tuple[int, int]:
    """Left upper pixel of the window about a place, on a whole cell of every component."""
    wide, tall = max(c[0] for c in cells), max(c[1] for c in cells)
    half = _WINDOW // 2
    return (x - half + 1) // wide * wide, (y - half + 1) // tall * tall


def _window(plane: Plane, left: int, top: int, width: int, height: int) -> Grid:
    rows = cv2.borderInterpolate
    ys = [rows(v, plane.shape[0], cv2.BORDER_REFLECT_101) for v in range(top, top + height)]
    xs = [rows(v, plane.shape[1], cv2.BORDER_REFLECT_101) for v in range(left, left + width)]
    return plane[np.ix_(ys, xs)].astype(np.float64)


def _departure(window: Grid, col: int, row: int, across: int, down: int) -> tuple[Grid, Grid, NDArray[np.bool_]]:
    """What departs, in a hole about the place, from the smoothest surface through the samples around the hole."""
    hole = np.zeros(window.shape, bool)
    top, left = row - (down - 1) // 2, col - (across - 1) // 2
    hole[max(0, top) : top + down, max(0, left) : left + across] = True
    ground = window.copy()
    ground[hole] = biharmonic_weights(hole) @ window[~hole]
    return window - ground, ground, hole


@lru_cache(maxsize=64)
def _profiles(cells: tuple[tuple[int, int], ...], col: int, row: int) -> tuple[list[_Profile], list[Grid], list[Grid]]:
    """All profiles about a place of the window, drawn in each component: (profiles, samples of the window)."""
    profiles = []
    drawn = []
    for spread, kernel in KERNELS.items():
        for width, height in ((1, 1), (2, 1), (1, 2), (2, 2)):
            for dy in range(-1, 3 - height):
                for dx in range(-1, 3 - width):
                    picture = np.zeros((_WINDOW, _WINDOW))
                    for j in range(height):
                        for i in range(width):
                            window = picture[row + dy + j - 1 : row + dy + j + 2, col + dx + i - 1 : col + dx + i + 2]
                            window[:] = np.maximum(window, kernel)
                    profiles.append(_Profile(dx, dy, width, height, spread))
                    drawn.append(picture)
    points = [
        np.outer(_point(row + dy, sigma), _point(col + dx, sigma))
        for sigma in _LENS_SIGMAS
        for dy in np.arange(-1, 1.01, 0.25)
        for dx in np.arange(-1, 1.01, 0.25)
    ]
    return profiles, [_in_cells(drawn, c) for c in cells], [_in_cells(points, c) for c in cells]


def _point(centre: float, sigma: float) -> Grid:
    """A Gaussian integrated over each pixel of a row of the window."""
    edges = [0.5 * (1 + erf((e - 0.5 - centre) / (sigma * sqrt(2)))) for e in range(_WINDOW + 1)]
    return np.diff(edges)


def _in_cells(pictures: list[Grid], cell: tuple[int, int]) -> Grid:
    across, down = cell
    stack = np.stack(pictures).reshape(len(pictures), _WINDOW // down, down, _WINDOW // across, across)
    return np.asarray(stack.mean((2, 4)).reshape(len(pictures), -1))
