"""Fits a line's profile over a smooth background in every row of a window: compiled, as it is done for millions of rows."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from ...base.compiled import compiled

Array = NDArray[Any]

# Added to the squares of each function, so that rows with few samples stay solvable.
_RIDGE = 1e-3
# The share of a stretch's bands that may lie on a better one.
_SHARED = 0.3


@compiled()
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


@compiled()
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


@compiled("(float64[:, ::1], float64[::1])")
def best_stretches(signed: Array, slopes: Array) -> tuple[Array, NDArray[np.int64]]:
    """For each straight way down the picture, the stretch of it with the largest sum (Kadane 1977, by Bentley 1984).

    Parameters
    ----------
    signed : ndarray, float64, (bands, width)
        Scores, below 0 where nothing speaks for a line; drawn linearly between columns.
    slopes : ndarray, float64, (slopes,)
        Columns that a way goes across from a band to the next.

    Returns
    -------
    sums : ndarray, float64, (slopes, width)
        By slope, and by the column in which a way crosses the middle of the picture.
    bands : ndarray, int64, (slopes, width, 2)
        The first band of the stretch, and the one after its last.
    """
    count, width = signed.shape
    sums, bands = np.zeros((len(slopes), width)), np.zeros((len(slopes), width, 2), np.int64)
    total, first = np.empty(width), np.empty(width, np.int64)
    for n in range(len(slopes)):
        total[:] = 0.0
        for band in range(count):
            by = slopes[n] * (band - (count - 1) / 2)
            whole = int(np.floor(by))
            share = by - whole
            for x in range(width):
                one = x + whole
                if total[x] <= 0.0:
                    total[x] = 0.0
                    first[x] = band
                if one >= 0 and one + 1 < width:
                    total[x] += signed[band, one] * (1 - share) + signed[band, one + 1] * share
                else:
                    total[x] = 0.0
                if total[x] > sums[n, x]:
                    sums[n, x] = total[x]
                    bands[n, x, 0] = first[x]
                    bands[n, x, 1] = band + 1
    return sums, bands


@compiled("(float64[:, ::1], int64[:, :, ::1], float64[::1], int64, float64, int64, int64, float64)")
def stretches(
    sums: Array, bands: NDArray[np.int64], slopes: Array, count: int, least: float, shortest: int, most: int, room: float
) -> Array:
    """The best stretches that lie apart from one another.

    Parameters
    ----------
    sums, bands, slopes
        See `best_stretches`.
    count : int
        Bands of the picture.
    least : float
        Sum from which a stretch counts.
    shortest : int
        Bands it has at least.
    most : int
        Stretches that are told at most, the best first.
    room : float
        Columns that two lie apart at least, where both are.

    Returns
    -------
    ndarray, float64, (found, 5)
        Column in the middle of the picture, slope, first band, the one after the last, and sum.
    """
    left = sums.copy()
    tall = bands[:, :, 1] - bands[:, :, 0]
    for n in range(left.shape[0]):
        for x in range(left.shape[1]):
            if tall[n, x] < shortest:
                left[n, x] = 0.0
    found = np.zeros((most, 5))
    told = 0
    while told < most:
        best = int(np.argmax(left))
        n, x = best // left.shape[1], best % left.shape[1]
        if left[n, x] < least:
            break
        first, stop = bands[n, x, 0], bands[n, x, 1]
        found[told, 0], found[told, 1], found[told, 4] = x, slopes[n], left[n, x]
        found[told, 2], found[told, 3] = first, stop
        told += 1
        for m in range(left.shape[0]):
            reach = room + abs(slopes[m] - slopes[n]) * count
            for k in range(max(0, int(x - reach)), min(left.shape[1], int(x + reach) + 2)):
                top, end = max(first, bands[m, k, 0]), min(stop, bands[m, k, 1])
                if left[m, k] > 0 and end - top > _SHARED * (bands[m, k, 1] - bands[m, k, 0]):
                    away = (top + end - 1) / 2 - (count - 1) / 2
                    if abs(k + slopes[m] * away - x - slopes[n] * away) < room:
                        left[m, k] = 0.0
        left[n, x] = 0.0
    return found[:told]


@compiled("(float32[:, ::1], float64, float64, int64, int64, int64, int64)")
def straightened(light: Array, top: float, lean: float, first: int, stop: int, fold: int, reach: int) -> Array:
    """A straight line and what is beside it, upright: rows of the picture averaged, samples drawn linearly.

    Parameters
    ----------
    light : ndarray, float32, (height, width)
    top, lean : float
        Where the line crosses row 0, and how far it goes across a row.
    first, stop : int
        Rows of the picture.
    fold : int
        Rows that make one.
    reach : int
        Columns either side.

    Returns
    -------
    ndarray, float32, ((stop - first) // fold, 2 reach + 1)
    """
    width = light.shape[1]
    count = (stop - first) // fold
    out = np.zeros((count, 2 * reach + 1), np.float32)
    for n in range(count):
        for row in range(first + n * fold, first + (n + 1) * fold):
            at = top + lean * row
            left = int(np.floor(at))
            share = np.float32(at - left)
            for k in range(2 * reach + 1):
                one = min(max(left + k - reach, 0), width - 1)
                other = min(one + 1, width - 1)
                out[n, k] += light[row, one] * (np.float32(1) - share) + light[row, other] * share
    return out / np.float32(fold)


@compiled("(float64[:, ::1], int64[::1])")
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
