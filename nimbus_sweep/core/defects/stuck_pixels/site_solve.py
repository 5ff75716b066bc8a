"""What a bad site makes of the samples about it, solved for in each frame and taken off.

A site of a mosaic is wrong in one channel; making the colours spreads it over its neighbours by known shares. So of all the samples it
reaches a single number is unknown in each frame: how far the site is off. Least squares against the picture's own texture (a
Gaussian Markov random field, as in `texture`) tell it, and with it every sample is put right and keeps its own grain. That holds whatever
the site does: stuck, hot by some amount, or coming and going. A block of four has a number for each of them.

What is taken to be wrong (which mosaic, which place, how coarser chroma is averaged) is what explains most of what departs from
the texture, beyond what it explains of the sound picture beside.

References
----------
Rue and Held, "Gaussian Markov Random Fields", 2005, section 2.2 (means and densities by the precision matrix).
Keys, "Cubic convolution interpolation for digital image processing", IEEE Transactions on Acoustics, Speech, and Signal Processing 29, 1981.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from functools import lru_cache
from itertools import product

import cv2
import numpy as np
from numpy.typing import NDArray

from ...evidence.time_volume import TimeVolume
from ...media.colour import from_rgb, possible
from ...media.frames import Colour, Component, PictureFormat, Samples, as_numbers
from .sensor_site import KERNELS, PHASES
from .texture import PAIRS, tied, weighed

Grid = NDArray[np.float64]
Mask = NDArray[np.bool_]
Cell = tuple[int, int]
Box = tuple[int, int, int, int]
# Pixels of the window about a site, on whole cells; how far about it texture is learned; frames that tell it; samples at most.
_WINDOW, _ROOM, _FRAMES, _ENOUGH = 12, 22, 16, 20000
# Pixels from the picture's edge where too little lies about a site; how far off sound places lie that it is compared with, and how many at least.
_EDGE, _AWAY, _STEP, _LEAST_SOUND = 6, (8, 12), 4, 4
# How much more than it explains of sound places a number must explain; how many of the best are compared with these.
_DEAR, _BEST = 3.0, 24
# By how much of what a site does to coarser chroma its averaging may be otherwise; how far off a site's change may be told, as a share; how
# much more than in sound places it may leave unexplained; codes a site cannot be off by; and a percent.
_OTHERWISE, _TOLD, _REST, _RANGE, _A_PERCENT = 0.03, 0.5, 5.0, 280.0, 0.01
# Of what a texture leaves over: its least deviation, in codes; by how much single ones count at most; a mean size as a deviation. How firmly
# each number is told at least, as a share; how firmly a pattern is, of what a smooth surface tells of it; and sound places that are too few.
_LEAST_DEVIATION, _BOUNDED, _DEVIATION, _FIRM, _LEAST_TIED, _LEAST_PLACES = 0.15, 4.0, 1.2533, 1e-3, 0.05, 40
_SIZES = ((1, 1), (2, 1), (1, 2), (2, 2))
_COLOURS = ((1.0, 0.0, 0.0), (0.0, 1.0, 0.0), (0.0, 0.0, 1.0))


@dataclass(frozen=True)
class Taken:
    """How what a site makes of one component is told and taken off.

    Attributes
    ----------
    touched : ndarray, int64, (n,)
        Samples put right, numbered in row order.
    cover : ndarray, float64, (n, numbers)
        How far each is off for each of the site's numbers, in sample values.
    sources : ndarray, int64, (m,)
        Samples the numbers are told from.
    weights : ndarray, float64, (numbers, m)
        How much each tells of each number, for its sample value.
    """

    touched: NDArray[np.int64]
    cover: Grid
    sources: NDArray[np.int64]
    weights: Grid

    def tells(self, samples: Samples) -> Grid:
        """What a frame's component tells of the site's numbers."""
        rows, cols = np.divmod(self.sources, samples.shape[1])
        return np.asarray(self.weights @ samples[rows, cols].astype(np.float64))

    def take_off(self, samples: Samples, numbers: Grid, component: Component) -> None:
        """Put `samples` right in place."""
        rows, cols = np.divmod(self.touched, samples.shape[1])
        samples[rows, cols] = component.samples(samples[rows, cols] - self.cover @ numbers, samples.dtype)


class _About:
    """What lies about a site: the samples of every component in a window, and what texture makes of them.

    Samples of all components are one after the other. `precision` is that of the texture; `seen` is it times the samples of each frame,
    in inverse codes.
    """

    def __init__(self, volume: TimeVolume, x: int, y: int, width: int, height: int, others: Sequence[Box]) -> None:
        layout = volume.format
        self.components = [i for i, c in enumerate(layout.components) if c.name != "A"]
        self.cells = [layout.subsampling(i) for i in self.components]
        self.left, self.top = (
            min(max(0, (at - _WINDOW // 2 + 1) // 2 * 2), max(0, (size - _WINDOW) // 2 * 2))
            for at, size in ((x, layout.width), (y, layout.height))
        )
        self.shapes = [(_WINDOW // down, _WINDOW // across) for across, down in self.cells]
        self.ends = np.cumsum([0, *(h * w for h, w in self.shapes)])
        chosen = np.unique(np.linspace(0, len(volume.numbers) - 1, min(len(volume.numbers), _FRAMES)).round().astype(int))
        # By a texture that may be, and as fitted.
        self.stencils: list[tuple[Grid, Grid]] = []
        self.variances: list[tuple[float, float]] = []
        self._wide: list[tuple[Grid, Grid]] = []
        self._corners: list[Cell] = []
        for i, (across, down) in zip(self.components, self.cells, strict=True):
            stack, code = volume.component_stack(i), layout.components[i].code
            rows, cols = stack.shape[1:]
            centre = (y // down, x // across)
            (r0, r1), (c0, c1) = (
                (max(0, at - _ROOM // cell), min(size, at + _ROOM // cell + 1))
                for at, cell, size in zip(centre, (down, across), (rows, cols), strict=True)
            )
            bad = np.zeros((r1 - r0, c1 - c0), bool)
            for box in ((x, y, width, height), *others):
                bad[_cells(box, (across, down), 2, r0, c0)] = True
            stencils, variances = _local_texture(as_numbers(stack[chosen, r0:r1, c0:c1]).astype(np.float64) / code, bad)
            (r0, r1), (c0, c1) = (
                (max(0, (at - _AWAY[1]) // cell), min(size, (at + _WINDOW + _AWAY[1]) // cell))
                for at, cell, size in zip((self.top, self.left), (down, across), (rows, cols), strict=True)
            )
            part = as_numbers(stack[chosen, r0:r1, c0:c1]).astype(np.float64) / code
            self.stencils.append(stencils)
            self.variances.append(variances)
            possible_one, fitted = (
                np.stack([cv2.filter2D(p, -1, stencil, borderType=cv2.BORDER_REFLECT_101) for p in part]) for stencil in stencils
            )
            self._wide.append((possible_one, fitted))
            self._corners.append((r0, c0))
        self.taken = np.concatenate([self._mask(others, m, 1).ravel() for m in range(len(self.cells))])
        self.near = np.concatenate([self._mask([(x, y, width, height)], m, 2).ravel() for m in range(len(self.cells))]) & ~self.taken
        self._others = others
        self._site = (x, y)

    def _mask(self, boxes: Sequence[Box], m: int, more: int) -> Mask:
        mask = np.zeros(self.shapes[m], bool)
        across, down = self.cells[m]
        for box in boxes:
            mask[_cells(box, self.cells[m], more, self.top // down, self.left // across)] = True
        return mask

    def precision(self, inflated: Grid, fitted: bool) -> Grid:
        """Of the texture in the window, the variance of each component's samples being larger by so much."""
        whole = np.zeros((self.ends[-1], self.ends[-1]))
        for m, (stencils, variances) in enumerate(zip(self.stencils, self.variances, strict=True)):
            part = slice(self.ends[m], self.ends[m + 1])
            whole[part, part] = tied(stencils[fitted].tobytes(), self.shapes[m]) / (variances[fitted] + inflated[m])
        return whole

    def seen(self, inflated: Grid, fitted: bool, down: int = 0, across: int = 0) -> Grid | None:
        """Precision times samples, of each frame, of the window moved by so many pixels; None where it leaves the picture."""
        parts = []
        for m, (wide, corner) in enumerate(zip(self._wide, self._corners, strict=True)):
            cell = self.cells[m]
            row, col = (self.top + down) // cell[1] - corner[0], (self.left + across) // cell[0] - corner[1]
            height, width = self.shapes[m]
            part = wide[fitted][:, max(0, row) : row + height, max(0, col) : col + width]
            if part.shape[1:] != (height, width):
                return None
            parts.append(part.reshape(len(part), -1) / (self.variances[m][fitted] + inflated[m]))
        return np.concatenate(parts, 1)

    def sound(self, inflated: Grid, fitted: bool) -> Grid:
        """The same of places beside the site, one after the other."""
        found = []
        for down, across in product(range(-_AWAY[1], _AWAY[1] + 1, _STEP), repeat=2):
            x, y = self._site[0] + across, self._site[1] + down
            near = any(abs(b[0] - x) < 6 and abs(b[1] - y) < 6 for b in self._others)
            if max(abs(down), abs(across)) >= _AWAY[0] and not near and (part := self.seen(inflated, fitted, down, across)) is not None:
                found.append(part)
        return np.concatenate(found) if found else np.zeros((0, self.ends[-1]))

    def split(self, values: Grid) -> list[Grid]:
        """Values of all samples, (..., samples), component by component, as pictures."""
        return [
            values[..., a:b].reshape(*values.shape[:-1], *shape)
            for a, b, shape in zip(self.ends[:-1], self.ends[1:], self.shapes, strict=True)
        ]


def solve(volume: TimeVolume, x: int, y: int, width: int, height: int, others: Sequence[Box]) -> dict[int, Taken] | None:
    """Tell what a bad site does to the samples about it, and how much of it, in every frame.

    Parameters
    ----------
    volume : TimeVolume
    x, y, width, height : int
        The site, in pixels; of up to 2 x 2.
    others : sequence of (x, y, width, height)
        Other sites of the shot.

    Returns
    -------
    dict of int to Taken, or None
        For every colour component, by its number. None where nothing is told well enough.
    """
    layout = volume.format
    if max(width, height) > 2 or min(x, y, layout.width - x - width, layout.height - y - height) < _EDGE:
        return None
    cells = [layout.subsampling(i) for i in range(len(layout.components))]
    if min(layout.width, layout.height) < 2 * _WINDOW or max(max(c) for c in cells) > 2:
        return None
    near = [b for b in others if abs(b[0] - x) < _ROOM + 4 and abs(b[1] - y) < _ROOM + 4]
    try:
        return _solved(volume, x, y, width, height, near)
    except np.linalg.LinAlgError:
        # Too little is sound about it, or nothing but one tone.
        return None


def _solved(volume: TimeVolume, x: int, y: int, width: int, height: int, near: Sequence[Box]) -> dict[int, Taken] | None:
    layout = volume.format
    about = _About(volume, x, y, width, height, near)
    guesses = _guesses(about.ends.tobytes(), tuple(about.cells), y - about.top, x - about.left, layout, volume.colour)
    inflated = np.zeros(len(about.cells))
    best = _chosen(about, guesses, inflated)
    coarse = np.array([a * d > 1 for a, d in about.cells])
    if best is not None and coarse.any():
        size = np.array([np.sqrt((c.reshape(len(c), -1) ** 2).mean(0).max()) for c in about.split(best.numbers @ best.columns)])
        inflated = np.where(coarse, (_OTHERWISE * size) ** 2, 0.0)
        best = _chosen(about, guesses, inflated)
    if best is None or best.wrong > _TOLD * np.sqrt(((best.numbers @ best.columns) ** 2).mean(0).max()):
        return None
    return _plan(about, layout, best, inflated)


@dataclass(frozen=True)
class _Best:
    """What explains most.

    Attributes
    ----------
    columns : ndarray, float64, (numbers, samples)
    fitted : bool
        Whether texture is taken as fitted.
    weights : ndarray, float64, (numbers, samples)
        What tells its numbers from precision times samples.
    numbers : ndarray, float64, (frames, numbers)
    wrong : float
        How far its change is told wrong in sound places, at the worst sample; rms, in codes.
    """

    columns: Grid
    fitted: bool
    weights: Grid
    numbers: Grid
    wrong: float


class _Weighed:
    """Precision with the samples that may be anything taken out of it, and what is explained with it."""

    def __init__(self, precision: Grid, free: Mask) -> None:
        self.out = np.zeros_like(precision)
        if free.any():
            self.out[:, free] = np.linalg.solve(precision[np.ix_(free, free)], precision[free]).T
        self.precision = precision - self.out @ precision
        self.own = np.where(free, 0.0, np.diag(precision))

    def explained(self, columns: Grid, seen: Grid) -> NDArray[np.float64]:
        """Twice the logarithm of the likelihood ratio by which each guess, (guesses, numbers, samples), explains what is seen; mean of frames."""
        power = self._power(columns)
        left = seen - seen @ self.out.T
        told = np.einsum("ts,gns->gtn", left, columns, optimize=True)
        return np.asarray((np.linalg.solve(power[:, None], told[..., None])[..., 0] * told).sum(2).mean(1))

    def solved(self, columns: Grid) -> Grid:
        """What tells the numbers of one guess, (numbers, samples)."""
        whole = columns - columns @ self.out
        return np.asarray(np.linalg.solve(self._power(columns[None])[0], whole))

    def _power(self, columns: Grid) -> Grid:
        # Fitted texture may tell a slow pattern less than not at all: it tells each number a little at least.
        firm = _FIRM * (columns**2) @ self.own + 1e-12
        return np.asarray((columns @ self.precision) @ columns.swapaxes(1, 2) + firm[:, :, None] * np.eye(columns.shape[1]))


def _chosen(about: _About, guesses: Sequence[Grid], inflated: Grid) -> _Best | None:
    precision, seen, sound = about.precision(inflated, False), about.seen(inflated, False), about.sound(inflated, False)
    if seen is None or len(sound) < _LEAST_SOUND * len(seen):
        return None
    bare, way = _Weighed(precision, np.zeros_like(about.taken)), _Weighed(precision, about.taken)
    explained = [way.explained(group, seen) for group in guesses]
    # No guess is right to a percent: a number has to explain more than that.
    least = _A_PERCENT * max(float(e.max()) for e in explained)
    scored: list[tuple[float, int, int]] = []
    for k, each in enumerate(explained):
        scored += [(float(e) - (_DEAR + least) * guesses[k].shape[1], k, n) for n, e in enumerate(each)]
    best, first = 0.0, None
    for score, k, n in sorted(scored, reverse=True)[:_BEST]:
        one = guesses[k][n : n + 1]
        usual = float(bare.explained(one, sound)[0])
        if (score := score - _DEAR * max(0.0, usual - one.shape[1])) > best:
            weights = way.solved(one[0])
            if np.abs((seen @ weights.T).mean(0)).max() < _RANGE:
                best, first = score, (k, n)
    # What holds a colour of its own hides what is under it: that is made up, not solved for.
    if first is None or first[0] == len(guesses) - 1:
        return None
    columns = guesses[first[0]][first[1]]
    whole = _free_explains(precision, about.taken | about.near, seen) - _free_explains(precision, about.taken, seen)
    rest = whole - float(explained[first[0]][first[1]])
    if rest > _REST * _free_explains(precision, about.near, sound):
        return None
    told = []
    for fitted in (False, True):
        precision, seen, sound = about.precision(inflated, fitted), about.seen(inflated, fitted), about.sound(inflated, fitted)
        if seen is None:
            continue
        weights = _Weighed(precision, about.taken).solved(columns)
        elsewhere = _Weighed(precision, np.zeros_like(about.taken)).solved(columns)
        off = float(np.sqrt(((sound @ elsewhere.T @ columns) ** 2).mean(0)).max())
        told.append(_Best(columns, fitted, weights, seen @ weights.T, off))
    # Fitted weights tell a site's numbers without being a texture's: how well, sound places say.
    return min(told, key=lambda one: one.wrong)


def _free_explains(precision: Grid, free: Mask, seen: Grid) -> float:
    """What is explained if some samples may be anything."""
    if not free.any():
        return 0.0
    part = seen[:, free]
    return float((part * np.linalg.solve(precision[np.ix_(free, free)], part.T).T).sum(1).mean())


def _plan(about: _About, layout: PictureFormat, best: _Best, inflated: Grid) -> dict[int, Taken]:
    found = {}
    columns, weights = about.split(best.columns), about.split(best.weights)
    for m, i in enumerate(about.components):
        across, down = about.cells[m]
        component = layout.components[i]
        touched = np.abs(columns[m]).max(0) > 0
        rows, cols = np.nonzero(touched)
        top, left = about.top // down, about.left // across
        # The weights are of precision times samples: of the samples themselves they reach farther.
        stencil = about.stencils[m][best.fitted]
        told = np.stack([cv2.filter2D(np.pad(w, 4), -1, stencil, borderType=cv2.BORDER_CONSTANT)[2:-2, 2:-2] for w in weights[m]])
        told /= about.variances[m][best.fitted] + inflated[m]
        from_rows, from_cols = np.nonzero(np.abs(told).max(0) > 0)
        found[i] = Taken(
            touched=(rows + top) * component.width + cols + left,
            cover=np.ascontiguousarray(columns[m][:, touched].T) * component.code,
            sources=(from_rows - 2 + top) * component.width + from_cols - 2 + left,
            weights=told[:, from_rows, from_cols] / component.code,
        )
    return found


@lru_cache(maxsize=32)
def _guesses(packed: bytes, cells: tuple[Cell, ...], row: int, col: int, layout: PictureFormat, colour: Colour) -> tuple[Grid, ...]:
    """All that may be wrong at a place of the window, up to a pixel beside it: what each number does to all samples of the window.

    Returns
    -------
    tuple of ndarray, float64, (guesses, numbers, samples)
        One number: a site of a mosaic; four: a block of a mosaic; and a block of any colour, sharp or mildly spread.
    """
    ends = np.frombuffer(packed, np.int64)
    at = [(down, across) for down in (-1, 0, 1) for across in (-1, 0, 1)]
    component = np.repeat(np.arange(len(cells)), np.diff(ends))
    one: list[Grid] = []
    four: list[Grid] = []
    free: list[Grid] = []
    for n, guess in enumerate(possible(colour)):
        shares = [from_rgb(np.array(c), layout, guess, difference=True) for c in _COLOURS]
        for halved in _HALVED if any(d > 1 for _, d in cells) else ("box",):
            drawn = {
                (j, i, c): _drawn(cells, "mosaic-green" if c == 1 else "mosaic", row + j, col + i, (1, 1), halved, shares[c])
                for j, i, c in product((-1, 0, 1, 2), (-1, 0, 1, 2), range(3))
            }
            one += [drawn[j, i, c] for (j, i), c in product(at, range(3))]
            four += [np.stack([drawn[j + k // 2, i + k % 2, c] for k, c in enumerate(phase)]) for (j, i), phase in product(at, PHASES)]
        for (j, i), size, spread in product(at, _SIZES, ("sharp", "mild")) if n == 0 else ():
            parts = _drawn(cells, spread, row + j, col + i, size, "box", [1.0] * len(cells))
            free.append(np.stack([parts * (component == m) for m in range(len(cells))]))
    return np.stack(one)[:, None], np.stack(four), np.stack(free)


def _drawn(cells: Sequence[Cell], spread: str, row: int, col: int, size: Cell, halved: str, shares: Sequence[float]) -> Grid:
    """A site of a spread and size, its height in each component given, in all samples of a window."""
    return np.concatenate([share * _in_cells(spread, row, col, *size, cell, halved) for share, cell in zip(shares, cells, strict=True)])


@lru_cache(maxsize=8192)
def _in_cells(spread: str, row: int, col: int, across: int, down: int, cell: Cell, halved: str) -> Grid:
    picture = np.zeros((_WINDOW, _WINDOW))
    for j, i in product(range(down), range(across)):
        top, left = row + j - 1, col + i - 1
        part = picture[max(0, top) : top + 3, max(0, left) : left + 3]
        np.maximum(part, KERNELS[spread][max(0, -top) :, max(0, -left) :][: part.shape[0], : part.shape[1]], out=part)
    narrow = picture.reshape(_WINDOW, _WINDOW // cell[0], cell[0]).mean(2)
    if cell[1] == 1:
        return np.asarray(narrow.ravel())
    weights = _HALVED[halved]
    more = len(weights) // 2 - 1
    padded = np.pad(narrow, ((more, more), (0, 0)))
    return np.concatenate([weights @ padded[2 * r : 2 * r + len(weights)] for r in range(_WINDOW // 2)])


def _cubic_halved() -> Grid:
    """Weights of eight rows of which one is made, by cubic convolution stretched over twice the distance (Keys 1981, with a = -0.6)."""
    away = np.abs(np.arange(8) - 3.5) / 2
    a = -0.6
    near, far = (a + 2) * away**3 - (a + 3) * away**2 + 1, a * (away**3 - 5 * away**2 + 8 * away - 4)
    weights = np.where(away < 1, near, far)
    return np.asarray(weights / weights.sum())


# Of which rows one of coarser chroma is made (common practice, no source): of two alike, by linear interpolation stretched over twice the
# distance, or by cubic.
_HALVED = {"box": np.array([0.5, 0.5]), "linear": np.array([0.125, 0.375, 0.375, 0.125]), "cubic": _cubic_halved()}


def _cells(box: Box, cell: Cell, more: int, row: int, col: int) -> tuple[slice, slice]:
    """The samples of a component within `more` pixels of a box, counted from a sample."""
    (x, y, width, height), (across, down) = box, cell
    top, bottom = (y - more) // down - row, (y + height - 1 + more) // down + 1 - row
    left, right = (x - more) // across - col, (x + width - 1 + more) // across + 1 - col
    return slice(max(0, top), max(0, bottom)), slice(max(0, left), max(0, right))


def _local_texture(frames: Grid, bad: Mask) -> tuple[tuple[Grid, Grid], tuple[float, float]]:
    """What a sample counts, and those around it, in the texture of some frames, (5, 5); and the variance of what that leaves, in codes.

    Of a texture that may be, and as fitted.
    """
    spoilt = cv2.dilate(bad.astype(np.uint8), np.ones((5, 5), np.uint8)).astype(bool)
    height, width = bad.shape
    whole = ~spoilt[2:-2, 2:-2]

    def moved(down: int, across: int) -> Grid:
        return np.asarray(frames[:, 2 + down : height - 2 + down, 2 + across : width - 2 + across][:, whole].ravel())

    if whole.sum() < _LEAST_PLACES:
        raise np.linalg.LinAlgError("too few sound places")
    own, told = moved(0, 0), np.stack([moved(y, x) + moved(-y, -x) for y, x in PAIRS], 1)
    every = len(own) // _ENOUGH + 1
    own, told = own[::every], told[::every]
    asked, from_rest = own - told[:, 0] / 2, np.ascontiguousarray(told[:, 1:] - told[:, :1])
    found = weighed(from_rest, np.ascontiguousarray(asked))
    stencil = np.zeros((5, 5))
    stencil[2, 2] = 1
    for (y, x), share in zip(PAIRS, [0.5 - found.sum(), *found], strict=True):
        stencil[2 + y, 2 + x] = stencil[2 - y, 2 - x] = -share
    variances = []
    stencils = _possible(stencil), stencil
    for each in stencils:
        left = np.abs(each[2, 2] * own + told @ np.array([each[2 + y, 2 + x] for y, x in PAIRS]))
        variances.append((_DEVIATION * float(np.minimum(left, _BOUNDED * left.mean()).mean()) + _LEAST_DEVIATION) ** 2)
    return stencils, (variances[0], variances[1])


def _possible(stencil: Grid) -> Grid:
    """A stencil drawn towards that of a smooth surface until no pattern is told less than not at all: fitted weights need not be a texture's."""
    smooth = np.zeros((5, 5))
    smooth[1:4, 1:4] = [[0, 1, 0], [1, -4, 1], [0, 1, 0]]
    smooth = cv2.filter2D(smooth, -1, smooth[1:4, 1:4], borderType=cv2.BORDER_CONSTANT)
    smooth /= smooth[2, 2]
    own, drawn = _spectrum(stencil), _spectrum(smooth)
    short = _LEAST_TIED * drawn - own
    share = float(np.max(np.where(short > 1e-9, short / np.maximum(drawn - own, 1e-9), 0.0)))
    return np.asarray((1 - share) * stencil + share * smooth)


def _spectrum(stencil: Grid) -> Grid:
    whole = np.zeros((32, 32))
    whole[:5, :5] = stencil
    return np.asarray(np.fft.fft2(np.roll(whole, (-2, -2), (0, 1))).real)
