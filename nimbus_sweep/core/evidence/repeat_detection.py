"""Frames that repeat the one before, and the cadence they come in."""

from __future__ import annotations

from itertools import pairwise
from typing import Any

import cv2
import numpy as np
from numpy.typing import NDArray

from ..media.frames import Frame, as_numbers
from ..media.repeats import Repeats
from .moments import smaller


class RepeatFinder:
    """Looks for repeated frames as frames go by.

    Each frame is held against the one before in blocks: of a repeated frame even the block that changes most changes
    no more than coding makes it, whether the scene moves in a corner only or its grain alone is alive. Where the
    scene moved a little, if only as a film weaves, its slopes explain what changed (Lucas and Kanade 1981); what
    coding does to a repeated frame they do not.
    """

    def __init__(self) -> None:
        self._before: NDArray[Any] | None = None
        self._frame_change: list[float] = []
        self._same: list[bool] = []
        self._first: list[float] = []
        self._second: list[float] = []
        self._moved: list[float] = []

    def add(self, frame: Frame) -> None:
        """Take in the next frame."""
        component = frame.format.components[0]
        now = frame.component(0)
        if now.dtype == np.float16:
            now = now.astype(np.float32)
        if frame.missing or self._before is None or self._before.shape != now.shape:
            self._nothing()
        else:
            # Half of the rows tell as much; both fields are among them.
            change = cv2.absdiff(_rows(now), _rows(self._before))
            # Blocks 16 samples wide first; then rows of all, of the first and of the second field.
            lines = cv2.resize(change.astype(np.float32), (max(1, now.shape[1] // 16), change.shape[0]), interpolation=cv2.INTER_AREA)
            lines /= np.float32(component.code)
            self._same.append(bool(not change.any() and np.array_equal(now, self._before)))
            self._frame_change.append(_liveliest(lines))
            self._first.append(_liveliest(lines[0::2]))
            self._second.append(_liveliest(lines[1::2]))
            # It is asked where a frame changes less than those before it did: others are no repeats anyway.
            lately = np.nan_to_num(self._frame_change[-_LATELY:-1])
            calm = 0 < self._frame_change[-1] < _AT_MOST * lately.max(initial=0)
            self._moved.append(_explained_by_motion(*(_small(v, component.code) for v in (self._before, now))) if calm else 0.0)
        if not frame.missing:
            self._before = now

    def _nothing(self) -> None:
        self._same.append(False)
        for values in (self._frame_change, self._first, self._second, self._moved):
            values.append(np.nan)

    def finish(self) -> Repeats:
        """The map of all frames taken in."""
        change = np.array(self._frame_change)
        repeated = _repeated(change, np.array(self._same), np.array(self._moved) > _MOVES)
        fields = _fields(np.array(self._first), np.array(self._second), repeated)
        period = _period(repeated)
        return Repeats(repeated, period, fields)


def _rows(samples: NDArray[Any]) -> NDArray[Any]:
    """Two rows of every four."""
    tall = samples.shape[0] // 4 * 4
    if not tall:
        return samples
    return np.ascontiguousarray(samples[:tall].reshape(tall // 4, 4, -1)[:, :2].reshape(tall // 2, -1))


def _small(samples: NDArray[Any], code: float) -> NDArray[np.float32]:
    """A picture about `_WIDE` samples wide, in 8-bit display steps."""
    return smaller(as_numbers(samples) / np.float32(code), max(1, samples.shape[1] // _WIDE))


def _explained_by_motion(before: NDArray[np.float32], now: NDArray[np.float32]) -> float:
    """How much of what changes in a block its own shift explains, 0 to 1: the middle one of those that change more than most."""
    change, scene = now - before, (now + before) / 2
    across, down = (cv2.Sobel(scene, -1, *way, ksize=1, scale=0.5) for way in ((1, 0), (0, 1)))

    def summed(plane: NDArray[np.float32]) -> NDArray[np.float64]:
        blocks = max(1, plane.shape[1] // _BLOCK), max(1, plane.shape[0] // _BLOCK)
        return np.asarray(cv2.resize(plane, blocks, interpolation=cv2.INTER_AREA), np.float64).ravel()

    power = summed(change * change)
    most = power > np.median(power)
    if not most.any():
        return 0.0
    pulls = np.column_stack([summed(change * across)[most], summed(change * down)[most]])
    xx, xy, yy = (summed(a * b)[most] for a, b in ((across, across), (across, down), (down, down)))
    held = np.stack([np.stack([xx, xy], -1), np.stack([xy, yy], -1)], -2) + 1e-3 * np.eye(2)
    explained = (pulls * np.linalg.solve(held, pulls[..., None])[..., 0]).sum(1)
    return float(np.median(explained / power[most]))


def _liveliest(lines: NDArray[np.float32]) -> float:
    """How much the blocks of 16 samples square that change most change, in 8-bit display steps."""
    if not lines.size:
        return 0.0
    blocks = cv2.resize(np.ascontiguousarray(lines), (lines.shape[1], max(1, lines.shape[0] // 8)), interpolation=cv2.INTER_AREA)
    return float(np.percentile(blocks, 98))


# Width at which motion is asked for, about, side of its blocks, and how much of their change it explains from where the scene moved: 0.79 and more
# in nine tenths of the frames of a clip that weaves, 0.64 and less in nine tenths of the repeats of four clips in H.264. Frames looked back on.
_WIDE, _BLOCK, _MOVES, _LATELY = 480, 16, 0.7, 6
# A dip this deep beside the frames around it and those next to it is a repeat on its own; in a cadence less will do.
_ALONE, _DIP = 0.17, 0.4
_IN_STEP, _AT_MOST = 0.45, 0.8
_PERIODS = (5, 2, 3, 4, 6, 10)
# Where less than this goes on, in 8-bit display steps, only frames that are the very same are told to be repeats.
_ALIVE = 1.2


def _against_usual(change: NDArray[np.float64]) -> NDArray[np.float64]:
    """Each frame's change beside the livelier of those within five frames; 1 where nothing can be told."""
    count = len(change)
    padded = np.pad(change, 5, constant_values=np.nan)
    around = np.stack([padded[5 + d : 5 + d + count] for d in range(-5, 6) if d])
    known = (~np.isnan(around)).sum(0) >= 2
    usual = np.full(count, np.nan)
    if known.any():
        usual[known] = np.nanpercentile(around[:, known], 70, axis=0)
    alive = usual > _ALIVE
    return np.where(np.isnan(change) | ~alive, 1.0, change / np.where(alive, usual, 1.0))


def _repeated(change: NDArray[np.float64], same: NDArray[np.bool_], moved: NDArray[np.bool_]) -> NDArray[np.bool_]:
    """Repeated frames, by how much each changes from the one before, whether it is the very same, and whether its scene moved."""
    if len(change) < 2:
        return np.zeros(len(change), bool)
    ratio = np.where(moved, 1.0, _against_usual(change))
    beside = np.fmin(np.append(change[1:], np.nan), np.insert(change[:-1], 0, np.nan))
    dip = change < _DIP * np.where(np.isnan(beside), np.inf, beside)
    repeated = same | ((ratio < _ALONE) & dip)
    for period in _PERIODS:
        repeated |= _in_step(ratio, change, period)
    return (repeated | (_expected(repeated, change, beside) & ~moved)) & ~np.isnan(change)


def _expected(repeated: NDArray[np.bool_], change: NDArray[np.float64], beside: NDArray[np.float64]) -> NDArray[np.bool_]:
    """Frames at the places where a cadence found elsewhere asks for a repeat, that change less than those next to them."""
    found = np.zeros(len(repeated), bool)
    period = _step(np.flatnonzero(repeated))
    if not period:
        return found
    at = np.flatnonzero(repeated)
    for one, other in pairwise(at):
        if (other - one) % period == 0:
            found[one:other:period] = True
    found[at[0] % period : at[0] : period] = found[at[-1] :: period] = True
    return found & (change < _AT_MOST * np.where(np.isnan(beside), 0, beside))


def _step(at: NDArray[np.int64]) -> int:
    """The distance of repeats that nearly all others are a multiple of; 0 if there is none."""
    if len(at) < 4:
        return 0
    steps = np.diff(at)
    usual = int(np.median(steps))
    return usual if usual >= 2 and (steps % usual != 0).mean() <= 0.1 else 0


def _in_step(ratio: NDArray[np.float64], change: NDArray[np.float64], period: int, spans: int = 6) -> NDArray[np.bool_]:
    """Frames whose change is small at the same places of every period, for `spans` periods or more on end."""
    found = np.zeros(len(ratio), bool)
    for start in range(0, len(ratio) - spans * period + 1):
        window = ratio[start : start + spans * period].reshape(spans, period)
        usual = np.median(window, axis=0)
        low = usual < _IN_STEP * usual.max()
        if not low.any() or usual[~low].min() < 0.6 * usual.max() or usual[low].max() > _IN_STEP:
            continue
        # In every period the frames named lie below all others.
        below = window[:, low].max(1) < _AT_MOST * window[:, ~low].min(1)
        if below.mean() < 0.8:
            continue
        places = np.arange(start, start + spans * period).reshape(spans, period)
        found[places[:, low].ravel()] = True
    return found


def _period(repeated: NDArray[np.bool_]) -> tuple[int, int]:
    """(distinct, carried) where repeats come at the same place of nearly every period."""
    at = np.flatnonzero(repeated)
    step = _step(at)
    if not step or len(at) * step < 0.8 * len(repeated):
        return 0, 0
    return step - 1, step


def _fields(first: NDArray[np.float64], second: NDArray[np.float64], repeated: NDArray[np.bool_]) -> NDArray[np.int8]:
    """Where one field repeats that of the frame before and the other does not."""
    fields = np.zeros(len(first), np.int8)
    if len(first) < 10:
        return fields
    mine, other = (np.where(np.isnan(f), 1.0, f) for f in (first, second))
    usual = np.maximum(mine, other)
    fields[(other < _ALONE * usual) & ~repeated] = 1
    fields[(mine < _ALONE * usual) & ~repeated] = 2
    # One frame alone may be still by chance; film comes in a rhythm.
    return fields if (fields > 0).mean() > 0.15 else np.zeros_like(fields)
