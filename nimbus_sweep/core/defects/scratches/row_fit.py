"""Fits a line's profile over a smooth background in every row of a window: compiled, as it is done for millions of rows."""

from __future__ import annotations

from typing import Any

import numpy as np
from numba import njit
from numpy.typing import NDArray

Array = NDArray[Any]

# Added to the squares of each function, so that rows with few samples stay solvable.
_RIDGE = 1e-3


@njit(cache=True, nogil=True, error_model="numpy")
def row_fit(values: Array, away: Array, inside: NDArray[np.bool_], width: float, reach: float, sliding: bool) -> Array:
    """Least squares, row by row, of a Gaussian line over a cubic background (normal equations, Cholesky 1924).

    Parameters
    ----------
    values, away : ndarray, float64, (rows, columns)
        Samples, and how far each lies from the line, in samples.
    inside : ndarray, bool, (rows, columns)
        Which samples count.
    width : float
        Standard deviation of the Gaussian, in samples.
    reach : float
        Samples from the line at which the background's own place is 1.
    sliding : bool
        Fit the Gaussian's slope, too: by how much the line lies beside.

    Returns
    -------
    ndarray, float64, (rows, 5 or 6)
        Height of the Gaussian, of its slope when `sliding`, then the background's coefficients, constant first.
    """
    rows, columns = values.shape
    count = 6 if sliding else 5
    first = count - 4
    found = np.zeros((rows, count))
    normal, load, basis = np.empty((count, count)), np.empty(count), np.empty(count)
    for row in range(rows):
        normal[:] = 0.0
        load[:] = 0.0
        for i in range(count):
            normal[i, i] = _RIDGE
        for col in range(columns):
            if not inside[row, col]:
                continue
            far = away[row, col]
            u = far / reach
            basis[0] = np.exp(-0.5 * (far / width) ** 2)
            if sliding:
                basis[1] = basis[0] * far / (width * width)
            basis[first], basis[first + 1], basis[first + 2], basis[first + 3] = 1.0, u, u * u, u * u * u
            value = values[row, col]
            for i in range(count):
                load[i] += basis[i] * value
                for j in range(i + 1):
                    normal[i, j] += basis[i] * basis[j]
        # The lower triangle becomes its own root; then forward and back.
        for i in range(count):
            for j in range(i + 1):
                total = normal[i, j]
                for k in range(j):
                    total -= normal[i, k] * normal[j, k]
                normal[i, j] = np.sqrt(total) if i == j else total / normal[j, j]
        for i in range(count):
            total = load[i]
            for k in range(i):
                total -= normal[i, k] * load[k]
            load[i] = total / normal[i, i]
        for i in range(count - 1, -1, -1):
            total = load[i]
            for k in range(i + 1, count):
                total -= normal[k, i] * found[row, k]
            found[row, i] = total / normal[i, i]
    return found


@njit(cache=True, nogil=True, error_model="numpy")
def left_over(values: Array, away: Array, inside: NDArray[np.bool_], width: float, reach: float, found: Array, near: float) -> Array:
    """Mean square of what a fit without slope leaves within `near` samples of the line: (rows,)."""
    rows, columns = values.shape
    left = np.zeros(rows)
    for row in range(rows):
        total, count = 0.0, 0
        for col in range(columns):
            far = away[row, col]
            if inside[row, col] and abs(far) <= near:
                u = far / reach
                made = (
                    found[row, 0] * np.exp(-0.5 * (far / width) ** 2)
                    + found[row, 1]
                    + u * (found[row, 2] + u * (found[row, 3] + u * found[row, 4]))
                )
                total += (values[row, col] - made) ** 2
                count += 1
        left[row] = total / max(count, 1)
    return left


@njit(cache=True, nogil=True)
def ways_down(signed: Array, slant: int, cost: float) -> tuple[Array, NDArray[np.int8]]:
    """Best sums of scores from the top down, moving across by at most `slant` columns a band (Viterbi 1967).

    Parameters
    ----------
    signed : ndarray, float64, (bands, width)
    slant : int
    cost : float
        Of each column moved across.

    Returns
    -------
    total : ndarray, float64, (width,)
        Of the best way that ends in each column.
    steps : ndarray, int8, (bands, width)
        From each place to the column it came from in the band above.
    """
    bands, width = signed.shape
    total, fresh = signed[0].copy(), np.empty(width)
    steps = np.zeros((bands, width), np.int8)
    for band in range(1, bands):
        for x in range(width):
            best, move = total[x], 0
            for across in range(1, slant + 1):
                for step in (-across, across):
                    if 0 <= x + step < width and total[x + step] - cost * across > best:
                        best, move = total[x + step] - cost * across, step
            fresh[x] = best + signed[band, x]
            steps[band, x] = move
        total[:] = fresh
    return total, steps
