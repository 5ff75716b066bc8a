"""The few hot loops, compiled."""

from __future__ import annotations

import numba as nb
import numpy as np
from numpy.typing import NDArray


@nb.njit(parallel=True, cache=True)
def median_and_spread(stack: NDArray[np.float32]) -> tuple[NDArray[np.float32], NDArray[np.float32]]:  # pragma: no cover
    """Median over time of every pixel, and its median absolute deviation as a standard deviation.

    Parameters
    ----------
    stack : ndarray, float32, (frames, height, width)

    Returns
    -------
    median, spread : ndarray, float32, (height, width)
        `spread` is 1.4826 times the median absolute deviation (consistent for a normal distribution).
    """
    count, height, width = stack.shape
    median = np.empty((height, width), np.float32)
    spread = np.empty((height, width), np.float32)
    low, high = (count - 1) // 2, count // 2
    for y in nb.prange(height):
        values = np.empty(count, np.float32)
        for x in range(width):
            for k in range(count):
                values[k] = stack[k, y, x]
            values.sort()
            middle = np.float32(0.5) * (values[low] + values[high])
            for k in range(count):
                values[k] = abs(values[k] - middle)
            values.sort()
            median[y, x] = middle
            spread[y, x] = np.float32(0.7413) * (values[low] + values[high])
    return median, spread
