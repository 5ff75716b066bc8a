"""Statistics along the first axis of a stack of pictures."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from ..base.compiled import compiled

Stack = NDArray[Any]
Plane = NDArray[Any]

# Values a first median is taken of: it only starts the fit off.
_START = 20
# Times the median distance that is the standard deviation of normal noise.
_NORMAL = 1.4826


def median(values: Stack) -> Plane:
    """Median along the first axis; a whole sort is two to three times faster than NumPy's own median.

    Parameters
    ----------
    values : ndarray, (count, ...)
        One picture or more.

    Returns
    -------
    ndarray, (...)
    """
    ordered = np.sort(values, axis=0)
    middle = len(values) // 2
    return ordered[middle] if len(values) % 2 else (ordered[middle - 1] + ordered[middle]) / 2


def robust(values: Stack, weight: Stack, rounds: int = 6, least: float = 0.008) -> tuple[Plane, Plane]:
    """Robust weighted mean along the first axis, and the weight that bore it (M-estimator: Beaton and Tukey 1974).

    Parameters
    ----------
    values, weight : ndarray, (count, ...)
    rounds : int
        The first weighs by one over the square of the distance, the others by its square.
    least : float
        Standard deviation below which no spread is taken to lie.

    Returns
    -------
    mean, borne : ndarray, float32, (...)
        Both 0 where there are no values; the mean also where nothing has weight.
    """
    shape = values.shape[1:]
    if not len(values):
        nothing = np.zeros(shape, np.float32)
        return nothing, nothing
    flat, heavy = (np.ascontiguousarray(v, np.float32).reshape(len(values), -1) for v in (values, weight))
    some = flat[:: max(1, len(values) // _START)]
    centre = median(some)
    spread = np.maximum(_NORMAL * median(np.abs(some - centre)), least).astype(np.float32)
    mean, borne = _robust(flat, heavy, centre, spread, rounds)
    return mean.reshape(shape), borne.reshape(shape)


@compiled(fast={"contract", "reassoc", "nsz"})
def _robust(values: Stack, weight: Stack, start: Plane, spread: Plane, rounds: int) -> tuple[Plane, Plane]:
    count, size = values.shape
    mean, borne = np.zeros(size, np.float32), np.zeros(size, np.float32)
    # As many samples at a time as the cache holds of all pictures.
    block = 1024
    total, load, whole = np.empty(block, np.float32), np.empty(block, np.float32), np.empty(block, np.float32)
    one = np.float32(1)
    for first in range(0, size, block):
        here = min(block, size - first)
        centre, wide = start[first : first + here].copy(), spread[first : first + here]
        for n in range(rounds):
            total[:here] = 0
            load[:here] = 0
            whole[:here] = 0
            for k in range(count):
                own, heavy = values[k, first : first + here], weight[k, first : first + here]
                for p in range(here):
                    away = (own[p] - centre[p]) / wide[p]
                    less = away * away + one
                    if n:
                        less = less * less
                    kept = heavy[p] / less
                    total[p] += kept
                    load[p] += kept * own[p]
                    whole[p] += heavy[p]
            for p in range(here):
                centre[p] = load[p] / max(total[p], np.float32(1e-9))
        for p in range(here):
            borne[first + p] = total[p]
            # Where nothing speaks, nothing is said.
            mean[first + p] = centre[p] if whole[p] > np.float32(1e-6) else np.float32(0)
    return mean, borne


def running_median(values: Stack, size: int) -> Plane:
    """Median of a window of so many values along each row; edge values go on outside.

    Parameters
    ----------
    values : ndarray, float64, (rows, columns)
    size : int
        Of an even number of values it is the upper of the two in the middle.

    Returns
    -------
    ndarray, float64, (rows, columns)
    """
    return _running_median(np.ascontiguousarray(values, np.float64), size)


@compiled("(float64[:, ::1], int64)")
def _running_median(values: Stack, size: int) -> Plane:
    rows, columns = values.shape
    found, held = np.empty((rows, columns)), np.empty(size)
    before = size // 2
    for y in range(rows):
        row = values[y]
        for k in range(size):
            held[k] = row[min(max(k - before, 0), columns - 1)]
        held.sort()
        found[y, 0] = held[before]
        for x in range(1, columns):
            gone, new = row[max(x - 1 - before, 0)], row[min(x + size - 1 - before, columns - 1)]
            at = np.searchsorted(held, gone)
            # What lies between the one that goes and the one that comes moves up, or down, by one place.
            while at + 1 < size and held[at + 1] < new:
                held[at] = held[at + 1]
                at += 1
            while at > 0 and held[at - 1] > new:
                held[at] = held[at - 1]
                at -= 1
            held[at] = new
            found[y, x] = held[before]
    return found


def ranked(values: Stack) -> tuple[Plane, Plane, Plane, Plane]:
    """Order statistics along the first axis, of two pictures or more.

    Parameters
    ----------
    values : ndarray, float32, (count, height, width)

    Returns
    -------
    second, last_but_one, middle, apart : ndarray, float32, (height, width)
        The second smallest and the second largest; the median; and how far those two are apart, or of up to three pictures the smallest
        and the largest, 0 at least.
    """
    return _ranked(np.ascontiguousarray(values, np.float32))


@compiled("(float32[:, :, ::1],)")
def _ranked(values: Stack) -> tuple[Plane, Plane, Plane, Plane]:
    count, height, width = values.shape
    low, high = np.empty((height, width), np.float32), np.empty((height, width), np.float32)
    middle, apart = np.empty((height, width), np.float32), np.empty((height, width), np.float32)
    held = np.empty((count, width), np.float32)
    second, lower, upper = min(1, count - 1), (count - 1) // 2, count // 2
    last = count - 1 - second
    for y in range(height):
        # Exchanged row by row, so that the comparisons of a whole row are made at once (odd-even transposition).
        for k in range(count):
            held[k] = values[k, y]
        for turn in range(count):
            for k in range(turn % 2, count - 1, 2):
                for x in range(width):
                    one, other = held[k, x], held[k + 1, x]
                    held[k, x], held[k + 1, x] = min(one, other), max(one, other)
        for x in range(width):
            low[y, x], high[y, x] = held[second, x], held[last, x]
            middle[y, x] = (held[lower, x] + held[upper, x]) * np.float32(0.5)
            apart[y, x] = max(held[last, x] - held[second, x], np.float32(0)) if count > 3 else held[count - 1, x] - held[0, x]
    return low, high, middle, apart
