"""Measures how a candidate behaves once it is filled from its neighbours: compiled, as it is done for very many."""

from __future__ import annotations

from typing import Any, NamedTuple

import numpy as np
from numpy.typing import NDArray

from ...base.compiled import compiled

Array = NDArray[Any]


class Examined(NamedTuple):
    """How a candidate behaves; the shares and gains are of the two neighbours.

    Attributes
    ----------
    fill : ndarray, float32, (rows, columns)
        Its window filled, in codes.
    layer : ndarray, float32, (rows, columns)
        What that takes off, above 0 for what it is to take off.
    ring : ndarray, bool, (rows, columns)
        The samples about it that it is judged by.
    usable : tuple of bool
        Whether a neighbour shows the place.
    marks : tuple of float
        How far a neighbour comes and goes itself there.
    shares, gains : tuple of float
        Of the neighbours in the fill, and the contrast each was given.
    contrast, misfit, least : float
        What it is out by; what the fill, and the better neighbour, miss on the ring; in codes.
    differ : float
        By how much the neighbours tell different things inside, in codes; below 0 where there is one only.
    moves : float
        Spread of the motion on the ring, in pixels.
    life, flat : float
        Deviation of the ring, and from a plane through it, in codes.
    """

    fill: Array
    layer: Array
    ring: Array
    usable: tuple[bool, bool]
    marks: tuple[float, float]
    shares: tuple[float, float]
    gains: tuple[float, float]
    contrast: float
    misfit: float
    least: float
    differ: float
    moves: float
    life: float
    flat: float


@compiled("(float32[:, ::1], float32[:, ::1], float32[:, ::1], boolean[:, :], int64, int64)")
def at_blob(departs: Array, left_over: Array, beside: Array, blob: Array, top: int, left: int) -> tuple[float, float, float]:
    """Over a blob that lies at a row and a column: the 80th percentile of what departs, and the means of two maps.

    Parameters
    ----------
    departs : ndarray, float32, (height, width)
    left_over, beside : ndarray, float32, (rows, columns)
        On a picture that may be smaller.
    blob : ndarray, bool
    top, left : int
    """
    height, width = departs.shape
    rows, cols = left_over.shape
    count, first, second = 0, 0.0, 0.0
    values = np.empty(blob.size, np.float32)
    for y in range(blob.shape[0]):
        row = (top + y) * rows // height
        for x in range(blob.shape[1]):
            if blob[y, x]:
                values[count] = departs[top + y, left + x]
                col = (left + x) * cols // width
                first += left_over[row, col]
                second += beside[row, col]
                count += 1
    return float(np.percentile(values[:count], 80)), first / count, second / count


@compiled("(uint8[:, :], boolean[:, :], float32[:, :])")
def _shows(core: Array, seen: Array, marked: Array) -> tuple[bool, float]:
    """Whether a neighbour shows the place, and how far it comes and goes itself there."""
    inside = shown = 0
    marks = 0.0
    for y in range(core.shape[0]):
        for x in range(core.shape[1]):
            if core[y, x]:
                inside += 1
                shown += seen[y, x]
                marks += marked[y, x]
    return shown > 0.9 * inside, marks / max(1, inside)


@compiled("(float32[:, :], float32[:, :], boolean[:, :])")
def _fitted(here: Array, source: Array, ring: Array) -> tuple[float, float, float]:
    """A neighbour's contrast and level fitted on the ring, held towards the neighbour as it is: gain, its level, and the level it gets."""
    count, level, own = 0, 0.0, 0.0
    for y in range(ring.shape[0]):
        for x in range(ring.shape[1]):
            if ring[y, x]:
                count += 1
                level += source[y, x]
                own += here[y, x]
    level, own = level / count, own / count
    power = product = 0.0
    for y in range(ring.shape[0]):
        for x in range(ring.shape[1]):
            if ring[y, x]:
                away = source[y, x] - level
                power += away * away
                product += away * here[y, x]
    power, product = power / count, product / count
    hold = 0.05 * max(power, 9.0)
    # A little of the neighbour's own level is kept, too.
    return (product + hold) / (power + hold), level, level + (own - level) / 1.02


@compiled("(float32[:, :], float32[:, :], boolean[:, :])")
def _rms_difference(here: Array, made: Array, ring: Array) -> float:
    count, squares = 0, 0.0
    for y in range(ring.shape[0]):
        for x in range(ring.shape[1]):
            if ring[y, x]:
                away = here[y, x] - made[y, x]
                squares += away * away
                count += 1
    return float(np.sqrt(squares / max(1, count)))


@compiled("(float32[:, :], boolean[:, :])")
def _calm(here: Array, ring: Array) -> tuple[float, float]:
    """Deviation of the ring, and from the plane through it (normal equations about its middle)."""
    count, middle_y, middle_x, level = 0, 0.0, 0.0, 0.0
    for y in range(ring.shape[0]):
        for x in range(ring.shape[1]):
            if ring[y, x]:
                count += 1
                middle_y += y
                middle_x += x
                level += here[y, x]
    middle_y, middle_x, level = middle_y / count, middle_x / count, level / count
    yy = xx = xy = yv = xv = vv = 0.0
    for y in range(ring.shape[0]):
        for x in range(ring.shape[1]):
            if ring[y, x]:
                down, across, value = y - middle_y, x - middle_x, here[y, x] - level
                yy += down * down
                xx += across * across
                xy += down * across
                yv += down * value
                xv += across * value
                vv += value * value
    # A ring is never a line.
    power = max(xx * yy - xy * xy, 1e-9)
    steep_y, steep_x = (yv * xx - xv * xy) / power, (xv * yy - yv * xy) / power
    left = vv - steep_y * yv - steep_x * xv
    return np.sqrt(vv / count), np.sqrt(max(left, 0.0) / count)


@compiled("(float32[:, :], float32[:, :], boolean[:, :])")
def _unsteady(at_x: Array, at_y: Array, ring: Array) -> float:
    """Spread of the motion on the ring, by where it leads to, in pixels."""
    count, mean_x, mean_y, square_x, square_y = 0, 0.0, 0.0, 0.0, 0.0
    for y in range(ring.shape[0]):
        for x in range(ring.shape[1]):
            if ring[y, x]:
                across, down = at_x[y, x] - x - at_x[0, 0], at_y[y, x] - y - at_y[0, 0]
                count += 1
                mean_x += across
                mean_y += down
                square_x += across * across
                square_y += down * down
    mean_x, mean_y = mean_x / count, mean_y / count
    return float(np.sqrt(max(0.0, square_x / count - mean_x * mean_x) + max(0.0, square_y / count - mean_y * mean_y)))


@compiled(
    "(float32[:, :], UniTuple(float32[:, :], 2), UniTuple(boolean[:, :], 2), UniTuple(float32[:, :], 2), UniTuple(float32[:, :], 2), UniTuple(float32[:, :], 2), uint8[:, :], uint8[:, :], float64, boolean)"
)
def examined(
    here: Array,
    lights: tuple[Array, Array],
    seen: tuple[Array, Array],
    marked: tuple[Array, Array],
    at_x: tuple[Array, Array],
    at_y: tuple[Array, Array],
    core: Array,
    ring: Array,
    noise: float,
    bright: bool,
) -> Examined | None:
    """Fill a candidate from its neighbours and measure how that behaves.

    Parameters
    ----------
    here : ndarray, float32, (rows, columns)
        The window about it, in codes.
    lights, seen, marked, at_x, at_y : tuple of ndarray
        Of each of two neighbours over the window; see `imaging.neighbours.Neighbour`.
    core, ring : ndarray, uint8, (rows, columns)
        1 on the candidate, and about it.
    noise : float
        Standard deviation of the noise, in codes.
    bright : bool
        Whether it is to be brighter than its surroundings.

    Returns
    -------
    Examined or None
        None where no neighbour shows it, or too little lies about it.
    """
    usable_0, marks_0 = _shows(core, seen[0], marked[0])
    usable_1, marks_1 = _shows(core, seen[1], marked[1])
    if not (usable_0 or usable_1):
        return None
    shape = here.shape
    bare, both = np.zeros(shape, np.bool_), np.zeros(shape, np.bool_)
    whole = left = shown = 0
    for y in range(shape[0]):
        for x in range(shape[1]):
            if ring[y, x]:
                whole += 1
                both[y, x] = seen[0][y, x] and seen[1][y, x]
                shown += both[y, x]
                first = not usable_0 or (seen[0][y, x] and marked[0][y, x] < 0.05)
                second = not usable_1 or (seen[1][y, x] and marked[1][y, x] < 0.05)
                bare[y, x] = first and second
                left += bare[y, x]
    judged = bare
    if left < max(12.0, 0.3 * whole):
        judged, left = both, shown
    if left < 12:
        return None
    gain_0 = gain_1 = 0.0
    error_0 = error_1 = np.inf
    made_0, made_1 = np.zeros(shape, np.float32), np.zeros(shape, np.float32)
    if usable_0:
        gain_0, level, own = _fitted(here, lights[0], judged)
        made_0 = (gain_0 * (lights[0] - level) + own).astype(np.float32)
        error_0 = _rms_difference(here, made_0, judged)
    if usable_1:
        gain_1, level, own = _fitted(here, lights[1], judged)
        made_1 = (gain_1 * (lights[1] - level) + own).astype(np.float32)
        error_1 = _rms_difference(here, made_1, judged)
    # What is marked there itself counts only where the other shows nothing.
    doubt_0 = (0.05 if marks_0 > 0.1 else 1.0) / (error_0 * error_0 + 0.25 + noise * noise)
    doubt_1 = (0.05 if marks_1 > 0.1 else 1.0) / (error_1 * error_1 + 0.25 + noise * noise)
    share_0 = doubt_0 / (doubt_0 + doubt_1)
    share_1 = 1 - share_0
    fill = (share_0 * made_0 + share_1 * made_1).astype(np.float32)
    sign = np.float32(1 if bright else -1)
    layer = sign * (here - fill)
    inside, apart, count = np.empty(core.size, np.float32), 0.0, 0
    for y in range(shape[0]):
        for x in range(shape[1]):
            if core[y, x]:
                inside[count] = layer[y, x]
                apart += abs(made_0[y, x] - made_1[y, x])
                count += 1
    moves = 0.0
    if usable_0:
        moves += _unsteady(at_x[0], at_y[0], judged)
    if usable_1:
        moves += _unsteady(at_x[1], at_y[1], judged)
    life, flat = _calm(here, judged)
    return Examined(
        fill,
        layer,
        judged,
        (usable_0, usable_1),
        (marks_0, marks_1),
        (share_0, share_1),
        (gain_0, gain_1),
        float(np.percentile(inside[:count], 80)),
        _rms_difference(here, fill, judged),
        min(error_0, error_1),
        apart / count if usable_0 and usable_1 else -1.0,
        moves / (int(usable_0) + int(usable_1)),
        life,
        flat,
    )
