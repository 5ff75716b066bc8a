"""Statistics along the first axis of a stack of pictures, in compiled loops that go row by row, so that it stays in the cache."""

from __future__ import annotations

from typing import Any

import numpy as np
from numba import njit
from numpy.typing import NDArray

Stack = NDArray[Any]
Plane = NDArray[Any]

# Values a first median is taken of: it only starts the fit off.
_START = 20
# Times the median distance that is the standard deviation of normal noise.
_NORMAL = 1.4826


def median(values: Stack) -> Plane:
    """Median along the first axis, of one value or more: (count, ...) gives float32 (...)."""
    flat = np.ascontiguousarray(values, np.float32).reshape(len(values), -1)
    return _median(flat).reshape(values.shape[1:])


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
    mean, borne = _robust(flat, heavy, max(1, len(values) // _START), rounds, np.float32(least))
    return mean.reshape(shape), borne.reshape(shape)


@njit(cache=True, nogil=True)
def _middle(room: Plane, count: int) -> np.float32:
    """Median of the first values of `room`, which it sorts."""
    for i in range(1, count):
        value = room[i]
        j = i - 1
        while j >= 0 and room[j] > value:
            room[j + 1] = room[j]
            j -= 1
        room[j + 1] = value
    half = count // 2
    return room[half] if count % 2 else (room[half - 1] + room[half]) / np.float32(2)


@njit(cache=True, nogil=True)
def _median(values: Stack) -> Plane:
    count, size = values.shape
    told = np.empty(size, np.float32)
    room = np.empty(count, np.float32)
    for p in range(size):
        for k in range(count):
            room[k] = values[k, p]
        told[p] = _middle(room, count)
    return told


@njit(cache=True, nogil=True, error_model="numpy", fastmath={"contract", "reassoc", "nsz"})
def _robust(values: Stack, weight: Stack, step: int, rounds: int, least: np.float32) -> tuple[Plane, Plane]:
    count, size = values.shape
    mean, borne = np.zeros(size, np.float32), np.zeros(size, np.float32)
    # As many samples at a time as the cache holds of all pictures.
    block = 1024
    room = np.empty(count // step + 1, np.float32)
    centre, narrow = np.empty(block, np.float32), np.empty(block, np.float32)
    total, load = np.empty(block, np.float32), np.empty(block, np.float32)
    one = np.float32(1)
    for start in range(0, size, block):
        here = min(block, size - start)
        for p in range(here):
            many = 0
            for k in range(0, count, step):
                room[many] = values[k, start + p]
                many += 1
            middle = _middle(room, many)
            for k in range(many):
                room[k] = abs(room[k] - middle)
            centre[p] = middle
            narrow[p] = one / max(np.float32(_NORMAL) * _middle(room, many), least)
        for n in range(rounds):
            total[:here] = 0
            load[:here] = 0
            for k in range(count):
                own, heavy = values[k, start : start + here], weight[k, start : start + here]
                for p in range(here):
                    away = (own[p] - centre[p]) * narrow[p]
                    less = away * away + one
                    if n:
                        less = less * less
                    kept = heavy[p] / less
                    total[p] += kept
                    load[p] += kept * own[p]
            for p in range(here):
                centre[p] = load[p] / max(total[p], np.float32(1e-9))
        for p in range(here):
            borne[start + p] = total[p]
            whole = np.float32(0)
            for k in range(count):
                whole += weight[k, start + p]
            # Where nothing speaks, nothing is said.
            mean[start + p] = centre[p] if whole > np.float32(1e-6) else np.float32(0)
    return mean, borne
