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


@njit("(float64[:, ::1], int64[::1])", cache=True, nogil=True, error_model="numpy")
def bright_middles(signed: Array, xs: NDArray[np.int64]) -> tuple[Array, Array]:
    """In each row, the middle of what stands out about a place, and how much that tells.

    Parameters
    ----------
    signed : ndarray, float64, (rows, columns)
        How far samples stand out.
    xs : ndarray, int64, (rows,)

    Returns
    -------
    places, weights : ndarray, float64, (rows,)
    """
    count, width = signed.shape
    places, weights = np.zeros(count), np.zeros(count)
    for row in range(count):
        x = xs[row]
        top = max(0, x - 3)
        for at in range(top, min(width, x + 4)):
            if signed[row, at] > signed[row, top]:
                top = at
        mass = moment = 0.0
        for at in range(max(0, top - 3), min(width, top + 4)):
            out = max(signed[row, at], 0.0)
            mass += out
            moment += out * at
        weights[row] = min(mass, 40.0) + 1e-3
        places[row] = moment / mass if mass > 0 else x
    return places, weights


@njit("(float64[:, ::1], float64[:, ::1], int8[:, ::1], int64, float64, float64)", cache=True, nogil=True)
def way_to(
    signed: Array, sides: Array, steps: NDArray[np.int8], at: int, speaks: float, edge: float
) -> tuple[NDArray[np.int64], float, float, float, float]:
    """The best way down that ends in a column, and what lies along it.

    Parameters
    ----------
    signed, sides : ndarray, float64, (bands, width)
        Scores, and by how much the two sides differ; see `threads.Scores`.
    steps : ndarray, int8, (bands, width)
        See `ways_down`.
    at : int
        Its last column.
    speaks, edge : float
        The score that speaks for a line, and the difference that is an edge's.

    Returns
    -------
    xs : ndarray, int64, (bands,)
    mean, share, edged, uneven : float
        Mean of the scores; shares of the bands that speak for it, that differ by that much the one way or the other, and either way.
    """
    bands = signed.shape[0]
    xs = np.empty(bands, np.int64)
    total = 0.0
    speaking = rises = falls = 0
    x = at
    for band in range(bands - 1, -1, -1):
        xs[band] = x
        total += signed[band, x]
        speaking += signed[band, x] > speaks
        rises += sides[band, x] > edge
        falls += sides[band, x] < -edge
        x += steps[band, x]
    return xs, total / bands, speaking / bands, max(rises, falls) / bands, (rises + falls) / bands
