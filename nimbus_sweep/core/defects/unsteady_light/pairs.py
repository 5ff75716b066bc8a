"""How the light of a place differs between two frames, along the motion of the scene, over many pairs of frames of a shot."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from functools import lru_cache
from typing import Any

import cv2
import numpy as np
from numpy.typing import NDArray

from ...base.parallel import parallel_map
from ...evidence.light_record import LightRecord
from ...imaging.grain import flattest
from ...imaging.motion import Along, Look, Plane, carried, flow, grid, inside, look

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

    def held(couple: tuple[int, int]) -> tuple[Cells, Cells, Cells, Cells]:
        mine, theirs = ready(couple[0]), ready(couple[1])
        forward, backward = flow(mine.look.gray, theirs.look.gray), flow(theirs.look.gray, mine.look.gray)
        return _cells(mine, theirs, forward, backward, places, noise)

    ones, others = (np.array([c[k] for c in couples], np.int64).reshape(-1) for k in (0, 1))
    cols, rows = _cells_of(height, width) if couples else (1, 1)
    ratio, level, weight = (np.zeros((len(couples), rows, cols), np.float32) for _ in range(3))
    away = np.zeros((len(couples), rows, cols, 2), np.float32)
    for done, part in enumerate(parallel_map(held, couples)):
        ratio[done], level[done], weight[done], away[done] = part
        if on_progress and done % 16 == 0:
            on_progress(done / len(couples))
    return Pairs(count, ones, others, ratio, level, weight, away, np.zeros_like(ratio))


def _cells_of(height: int, width: int) -> tuple[int, int]:
    """Cells across and down of a small picture."""
    return max(1, width // _CELL[1]), max(1, height // _CELL[0])


def _cells(mine: _Ready, theirs: _Ready, there: Plane, back: Plane, places: Plane, noise: float) -> tuple[Cells, Cells, Cells, Cells]:
    returned = carried(back, there, places, smooth=False)
    gap = cv2.magnitude(there[..., 0] + returned[..., 0], there[..., 1] + returned[..., 1])
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
