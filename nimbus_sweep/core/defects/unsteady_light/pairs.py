"""How the light of a place differs between two frames, along the motion of the scene, over many pairs of frames of a shot."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from functools import lru_cache
from itertools import groupby
from typing import Any

import cv2
import numpy as np
from numpy.typing import NDArray

from ...base.parallel import parallel_map
from ...evidence.light_record import LightRecord
from ...imaging.grain import flattest
from ...imaging.motion import Along, Look, Plane, agreement, carried, flow, grid, inside, look, smooth_way

LAGS = (1, 2, 4, 8, 16)
# Frames that are far apart say much the same as those beside them: not every one is asked.
_EVERY = {1: 1, 2: 1, 4: 2, 8: 2, 16: 4}
# Small pixels to a cell, down and across: fine down the picture, where bands lie.
_CELL = (2, 4)
# White, in 8-bit codes above black, and light that is too near to black or to white to be gone by.
WHITE = 219.0
_DARK, _BRIGHT = 6.0, 0.955
# Pixels by which motion that agrees there and back is still unsure, and what the log of a small pixel is unsure by in any case.
_UNSURE, _LEAST = 0.12, 0.008
# Float32 throughout; arithmetic with plain numbers hides that from the type checker.
Cells = NDArray[Any]
_Told = tuple[Cells, Cells, Cells, Cells]


@dataclass(frozen=True)
class Pairs:
    """Differences of light between pairs of frames, cell by cell.

    Attributes
    ----------
    count : int
        Frames of the shot.
    one, other : ndarray, int64, (pairs,)
        Places of the two frames.
    ratio : ndarray, float32, (pairs, rows, cols)
        Log of the light of `one` over that of `other` at the same points of the scene.
    level : ndarray, float32, (pairs, rows, cols)
        Log of the light of `one` over white.
    weight : ndarray, float32, (pairs, rows, cols)
        How far to trust it: one over its variance; 0 for not at all.
    away : ndarray, float32, (pairs, rows, cols, 2)
        Where the scene of the cell lies in `other`, in cells across and down from its place in `one`.
    spread : ndarray, float32, (pairs, rows, cols)
        How far the ratios within the cell, as far as it was joined of others, are apart: standard deviation.
    """

    count: int
    one: NDArray[np.int64]
    other: NDArray[np.int64]
    ratio: Cells
    level: Cells
    weight: Cells
    away: Cells
    spread: Cells

    def grouped(self, rows: int, cols: int) -> Pairs:
        """The same with cells joined, so that at most `rows` by `cols` are left."""
        size = (min(cols, self.ratio.shape[2]), min(rows, self.ratio.shape[1]))
        if size[::-1] == self.ratio.shape[1:]:
            return self
        scale = np.array([size[0] / self.ratio.shape[2], size[1] / self.ratio.shape[1]], np.float32)

        def joined(values: Cells) -> Cells:
            return np.stack([cv2.resize(v, size, interpolation=cv2.INTER_AREA) for v in values])

        weight = joined(self.weight)
        least = np.maximum(weight, 1e-6)
        ratio, level = (joined(self.weight * v) / least for v in (self.ratio, self.level))
        spread = np.sqrt(np.maximum(joined(self.weight * (self.ratio**2 + self.spread**2)) / least - ratio**2, 0))
        away = joined(self.weight[..., None] * self.away) / least[..., None] * scale
        return Pairs(self.count, self.one, self.other, ratio, level, weight, away, spread)


@dataclass(frozen=True)
class _Ready:
    light: Plane
    log: Plane
    look: Look
    slope: Plane
    usable: Plane


def measure(
    record: LightRecord,
    reach: int = LAGS[-1],
    along: Along = "both",
    usable: Callable[[int], Plane | None] | None = None,
    on_progress: Callable[[float], None] | None = None,
    couples: Sequence[tuple[int, int]] | None = None,
) -> Pairs:
    """Measure the light between frames that are 1, 2, 4, 8 and 16 apart.

    Parameters
    ----------
    record : LightRecord
    reach : int
        No two frames further apart are held against one another.
    along : str
        ``x`` where rows, ``y`` where columns of the picture are in a light of their own: motion is told without it.
    usable : callable
        Gives for the place of a frame where it may be looked at, (height, width), 0 to 1; None is everywhere.
    on_progress : callable
        Told the share done, 0 to 1; may raise to stop.
    couples : sequence of pairs
        Places of the frames that are held against one another, where it is not all.
    """
    count = len(record)
    if couples is None:
        couples = [(n, n + lag) for n in range(count) for lag in LAGS if lag <= reach and n + lag < count and n % _EVERY[lag] == 0]
    height, width = record.shape
    places = grid((height, width))
    top = _BRIGHT * WHITE
    step = max(1, count // 6)
    noise = float(np.median([flattest(record.light(n), 9) for n in range(0, count, step)])) if count else 0.0

    @lru_cache(maxsize=4 * LAGS[-1] + 8)
    def ready(n: int) -> _Ready:
        light = record.light(n)
        log = np.log(np.maximum(light, 1.0) / np.float32(WHITE))
        slope = cv2.magnitude(cv2.Sobel(log, -1, 1, 0, scale=1 / 8), cv2.Sobel(log, -1, 0, 1, scale=1 / 8))
        # Black and white are held off by a rim: part of a small pixel may be clipped although its mean is not.
        sound = np.clip((light - _DARK) / 10, 0, 1) * (cv2.dilate(light, np.ones((3, 3), np.uint8)) < top)
        mask = usable(n) if usable else None
        return _Ready(light, log, look(light, noise, along=along), slope, sound if mask is None else sound * mask)

    ways = _Ways((height, width))

    def held(couple: tuple[int, int]) -> tuple[_Told, Plane, Plane]:
        mine, theirs = ready(couple[0]), ready(couple[1])
        there = flow(mine.look.gray, theirs.look.gray, ways.start(*couple))
        back = flow(theirs.look.gray, mine.look.gray, ways.start(*couple[::-1]))
        to, fro = _carried_in(there, back, mine.look), _carried_in(back, there, theirs.look)
        # Motion that was carried in agrees with itself; whether the scene was met at all is told by what was found.
        unsure = _gap(there, back, places), _gap(back, there, places)
        told = _cells(mine, theirs, to, fro, unsure[0], places, noise), _cells(theirs, mine, fro, to, unsure[1], places, noise)
        return _both(*told), to, fro

    # Nearest first: where a frame further off shows the scene is known from those between.
    couples = sorted(couples, key=lambda c: abs(c[1] - c[0]))
    ones, others = (np.array([c[k] for c in couples], np.int64).reshape(-1) for k in (0, 1))
    cols, rows = _cells_of(height, width) if couples else (1, 1)
    ratio, level, weight = (np.zeros((len(couples), rows, cols), np.float32) for _ in range(3))
    away = np.zeros((len(couples), rows, cols, 2), np.float32)
    done = 0
    for _, alike in groupby(couples, key=lambda c: abs(c[1] - c[0])):
        batch = list(alike)
        fresh = {}
        for couple, (told, to, fro) in zip(batch, parallel_map(held, batch), strict=True):
            ratio[done], level[done], weight[done], away[done] = told
            done += 1
            fresh[couple], fresh[couple[::-1]] = ways.kept(to), ways.kept(fro)
            if on_progress and done % 16 == 0:
                on_progress(done / len(couples))
        ways.next(fresh)
    return Pairs(count, ones, others, ratio, level, weight, away, np.zeros_like(ratio))


def _both(told: _Told, back: _Told) -> _Told:
    """What two frames tell of one another, told from either.

    A frame is met between samples in the other, which softens it, and places are chosen by one frame's slopes and light: what
    that adds to a ratio is the same from either side, and cancels.
    """
    ratio, level, weight, away = told
    size = weight.shape
    at_y, at_x = np.mgrid[0 : size[0], 0 : size[1]].astype(np.float32)
    there_x, there_y = at_x + away[..., 0], at_y + away[..., 1]

    def met(values: Cells) -> Cells:
        return np.asarray(cv2.remap(values, there_x, there_y, cv2.INTER_LINEAR, borderMode=cv2.BORDER_REPLICATE))

    other = met(back[2])
    reverse = met(back[2] * back[0]) / np.maximum(other, 1e-6)
    shared = 2 * weight * other / np.maximum(weight + other, 1e-6)
    return (ratio - reverse) / 2, level, shared, away


def _carried_in(there: Plane, back: Plane, mine: Look) -> Plane:
    """Motion where the scene shows it; elsewhere, in a sky, as its surroundings move."""
    smooth = smooth_way(there, back, mine, (8.0, 20.0, 60.0))
    if smooth is None:
        return there
    sure = (np.clip(1.5 * mine.texture, 0, 1) * np.clip(20 * agreement(there, back), 0, 1))[..., None]
    return np.asarray((sure * there + (1 - sure) * smooth).astype(np.float32))


class _Ways:
    """Where the scene lies in frames so many apart, small, to begin from where frames are twice as far apart."""

    def __init__(self, shape: tuple[int, int]) -> None:
        self._size = (max(1, shape[1] // 2), max(1, shape[0] // 2))
        self._full = shape[::-1]
        self._known: dict[tuple[int, int], Plane] = {}
        self._places = grid(self._size[::-1])

    def kept(self, way: Plane) -> Plane:
        return np.asarray(cv2.resize(way, self._size, interpolation=cv2.INTER_AREA).astype(np.float16))

    def next(self, fresh: dict[tuple[int, int], Plane]) -> None:
        self._known = fresh

    def start(self, one: int, other: int) -> Plane | None:
        """One way after the other; None where they are not known."""
        middle = (one + other) // 2
        first, second = self._known.get((one, middle)), self._known.get((middle, other))
        if first is None or second is None:
            return None
        there = first.astype(np.float32)
        # Ways are in pixels of the full size, places in those of the small one.
        on = carried(second.astype(np.float32), there / 2, self._places, smooth=False)
        return np.asarray(cv2.resize(there + on, self._full, interpolation=cv2.INTER_LINEAR))


def _cells_of(height: int, width: int) -> tuple[int, int]:
    """Cells across and down of a small picture."""
    return max(1, width // _CELL[1]), max(1, height // _CELL[0])


def _gap(there: Plane, back: Plane, places: Plane) -> Plane:
    """By how many pixels the way there and back misses where it began."""
    returned = carried(back, there, places, smooth=False)
    return np.asarray(cv2.magnitude(there[..., 0] + returned[..., 0], there[..., 1] + returned[..., 1]))


def _cells(mine: _Ready, theirs: _Ready, there: Plane, back: Plane, unsure: Plane, places: Plane, noise: float) -> _Told:
    gap = np.maximum(_gap(there, back, places), unsure)
    scene = carried(theirs.log, there, places, smooth=False)
    # Where motion is unsure only flat parts of the scene can be gone by.
    doubt = mine.slope * (_UNSURE + gap)
    grain = np.float32(noise) / np.maximum(mine.light, 4)
    sound = mine.usable * carried(theirs.usable, there, places, smooth=False) * inside(there, places, 0.5) * (gap < 6)
    weight = (sound / (_LEAST**2 + doubt * doubt + 2 * grain * grain)).astype(np.float32)
    height, width = weight.shape
    size = _cells_of(height, width)

    def joined(plane: Plane) -> Cells:
        return np.asarray(cv2.resize(plane, size, interpolation=cv2.INTER_AREA).astype(np.float32))

    mass = joined(weight)
    least = np.maximum(mass, 1e-6)
    ratio, level = joined(weight * (mine.log - scene)) / least, joined(weight * mine.log) / least
    scale = np.array([size[0] / width, size[1] / height], np.float32)
    away = joined(weight[..., None] * there).reshape(size[1], size[0], 2) / least[..., None] * scale
    return ratio, level, mass, away


def close(pairs: Pairs, most: int = 2) -> Pairs:
    """Only the pairs whose frames are at most so far apart."""
    kept = pairs.other - pairs.one <= most
    cells = {name: getattr(pairs, name)[kept] for name in ("one", "other", "ratio", "level", "weight", "away", "spread")}
    return replace(pairs, **cells)
