"""Tries a candidate before it is looked for elsewhere: fills it, and tells how that behaves and how far it reaches; compiled, for very many."""

from __future__ import annotations

from typing import Any, NamedTuple

import numpy as np
from numpy.typing import NDArray

from ...base.compiled import compiled
from .examine import at_blob, examined
from .likelihood import UNTOLD, sureness

Array = NDArray[Any]
# Pixels a hole may reach beyond what departs, and the gap to the ring it is fitted on, and that ring.
_SOFT, _GAP, _RING = 4, 1, 5
ROOM = _SOFT + _GAP + _RING + 1
# How far a neighbour comes and goes itself at a place that it still tells.
_UNMARKED = 0.1
# A sample of the hole is left as it is where what is taken off is no more than this, in codes.
_KEPT = 1.7


class Attempt(NamedTuple):
    """A candidate filled.

    Attributes
    ----------
    top, left : int
        Of its window.
    core : ndarray, uint8, (rows, columns)
        1 on what departs.
    hole : ndarray, bool, (rows, columns)
        What would be filled.
    fill : ndarray, float32, (rows, columns)
        In codes.
    shares, gains : tuple of float
        Of the neighbours in the fill, and the contrast each was given.
    shown : tuple of bool
        Whether a neighbour shows the place.
    motion : tuple of tuple of float
        The way to each neighbour, in pixels across and down.
    contrast : float
        What it is out by, in codes.
    told : tuple
        What it tells by itself, in the order of the fields of `likelihood.SpeckEvidence`; all but whether it is found elsewhere.
    """

    top: int
    left: int
    core: Array
    hole: Array
    fill: Array
    shares: tuple[float, float]
    gains: tuple[float, float]
    shown: tuple[bool, bool]
    motion: tuple[tuple[float, float], tuple[float, float]]
    contrast: float
    told: tuple[float, float, float, float, float, float, int, float, float, float, float, float]


@compiled("(uint8[:, ::1], int64)")
def dilated(part: Array, reach: int) -> Array:
    """A part of a picture, uint8, grown by a disc of so many pixels (see `imaging.neighbours.disc`); nothing comes in from outside."""
    height, width = part.shape
    grown = part.copy()
    for y in range(height):
        for x in range(width):
            if not part[y, x]:
                continue
            # What lies inside all round brings in nothing that its surroundings do not.
            if 0 < y < height - 1 and 0 < x < width - 1 and part[y - 1, x] and part[y + 1, x] and part[y, x - 1] and part[y, x + 1]:
                continue
            for v in range(max(0, y - reach), min(height, y + reach + 1)):
                across = int(np.rint(np.sqrt(reach * reach - (v - y) ** 2)))
                for u in range(max(0, x - across), min(width, x + across + 1)):
                    grown[v, u] = 1
    return grown


@compiled("(uint8[:, ::1],)")
def _drawn_in(part: Array) -> Array:
    """A part of a picture without what has one of the four pixels about it outside of it."""
    height, width = part.shape
    left = part.copy()
    for y in range(height):
        for x in range(width):
            if (
                (y > 0 and not part[y - 1, x])
                or (y < height - 1 and not part[y + 1, x])
                or (x > 0 and not part[y, x - 1])
                or (x < width - 1 and not part[y, x + 1])
            ):
                left[y, x] = 0
    return left


@compiled("(float32[:, ::1], uint8[:, ::1], uint8[:, ::1], float64)")
def reached(layer: Array, core: Array, wide: Array, least: float) -> Array:
    """The hole: what departs about the core, closed, as far as it hangs together with it; bool, (rows, columns)."""
    height, width = core.shape
    out = np.zeros((height, width), np.uint8)
    for y in range(height):
        for x in range(width):
            if core[y, x] or (wide[y, x] and layer[y, x] > least):
                out[y, x] = 1
    closed = _drawn_in(dilated(out, _GAP))
    hole = np.zeros((height, width), np.bool_)
    places = np.empty(height * width, np.int64)
    count = 0
    for y in range(height):
        for x in range(width):
            if core[y, x]:
                hole[y, x] = True
                places[count] = y * width + x
                count += 1
    while count:
        count -= 1
        y, x = places[count] // width, places[count] % width
        for v in range(max(0, y - 1), min(height, y + 2)):
            for u in range(max(0, x - 1), min(width, x + 2)):
                if closed[v, u] and wide[v, u] and not hole[v, u]:
                    hole[v, u] = True
                    places[count] = v * width + u
                    count += 1
    return hole


@compiled("(float32[:, ::1], float32[:, :], float32[:, :])")
def _carried(marked: Array, at_x: Array, at_y: Array) -> Array:
    """What is marked where the scene of each pixel lies, between four pixels; nothing outside the picture."""
    height, width = at_x.shape
    rows, cols = marked.shape
    made = np.zeros((height, width), np.float32)
    for y in range(height):
        for x in range(width):
            left, top = int(np.floor(at_x[y, x])), int(np.floor(at_y[y, x]))
            across, down = at_x[y, x] - np.float32(left), at_y[y, x] - np.float32(top)
            for v in range(2):
                for u in range(2):
                    if 0 <= top + v < rows and 0 <= left + u < cols:
                        share = (across if u else np.float32(1) - across) * (down if v else np.float32(1) - down)
                        made[y, x] += share * marked[top + v, left + u]
    return made


@compiled("(float32[:, :], float32[:, :], uint8[:, ::1], int64, int64)")
def _led(at_x: Array, at_y: Array, core: Array, top: int, left: int) -> tuple[float, float]:
    """The mean way over a core: pixels across and down."""
    count, across, down = 0, 0.0, 0.0
    for y in range(core.shape[0]):
        for x in range(core.shape[1]):
            if core[y, x]:
                across += at_x[y, x] - x - left
                down += at_y[y, x] - y - top
                count += 1
    return across / count, down / count


_PLANE = "float32[:, ::1]"
_PLANES = f"UniTuple({_PLANE}, 2)"


@compiled(
    f"({_PLANE}, {_PLANES}, UniTuple(boolean[:, ::1], 2), {_PLANES}, {_PLANES}, {_PLANES}, {_PLANE}, {_PLANE}, {_PLANE}, boolean[:, :], int64, int64, float64, boolean, float64, boolean, float64, float64)"
)
def attempted(
    light: Array,
    lights: tuple[Array, Array],
    seen: tuple[Array, Array],
    marked: tuple[Array, Array],
    at_x: tuple[Array, Array],
    at_y: tuple[Array, Array],
    departs: Array,
    left_over: Array,
    beside: Array,
    blob: Array,
    top: int,
    left: int,
    noise: float,
    bright: bool,
    strength: float,
    one_sided: bool,
    faintest: float,
    least: float,
) -> Attempt | None:
    """Try a candidate.

    Parameters
    ----------
    light : ndarray, float32, (height, width)
        Of the frame, in codes.
    lights, seen, at_x, at_y : tuple of ndarray
        Of each of two neighbours; see `imaging.neighbours.Neighbour`.
    marked : tuple of ndarray, float32, (height, width)
        Where each comes and goes as it is; of one pixel for nowhere.
    departs : ndarray, float32, (height, width)
    left_over, beside : ndarray, float32
        On a picture that may be smaller; see `specks.Unrest`.
    blob : ndarray, bool
        What departs, over a window at row `top` and column `left`.
    noise : float
        Standard deviation of the noise, in codes.
    bright : bool
    strength : float
        The largest rank-ordered difference, in codes.
    one_sided : bool
        Both neighbours lie on one side in time.
    faintest : float
        Least contrast, in codes.
    least : float
        How sure it must be even if it is found nowhere else.

    Returns
    -------
    Attempt or None
        None for what is not sure enough.
    """
    height, width = light.shape
    area = 0.0
    for y in range(blob.shape[0]):
        for x in range(blob.shape[1]):
            area += blob[y, x]
    # Most of what departs is texture that was not followed, and is known by what is about it without being filled.
    rough, unlike, near = at_blob(departs, left_over, beside, blob, top, left)
    wide = np.sqrt(unlike)
    if sureness(rough, 0.0, 0.0, 0.05, 0.0, area, 2, min(1.0, strength / rough), 0.0, wide / rough, near, 2.0, 1.0) < least:
        return None
    first, stop = max(0, top - ROOM), min(height, top + blob.shape[0] + ROOM)
    begin, end = max(0, left - ROOM), min(width, left + blob.shape[1] + ROOM)
    core = np.zeros((stop - first, end - begin), np.uint8)
    for y in range(blob.shape[0]):
        for x in range(blob.shape[1]):
            core[top - first + y, left - begin + x] = blob[y, x]
    soft = dilated(core, _SOFT)
    beyond = dilated(soft, _GAP)
    ring = dilated(beyond, _RING) - beyond
    here = light[first:stop, begin:end]
    x_0, x_1 = at_x[0][first:stop, begin:end], at_x[1][first:stop, begin:end]
    y_0, y_1 = at_y[0][first:stop, begin:end], at_y[1][first:stop, begin:end]
    made = examined(
        here,
        (lights[0][first:stop, begin:end], lights[1][first:stop, begin:end]),
        (seen[0][first:stop, begin:end], seen[1][first:stop, begin:end]),
        (_carried(marked[0], x_0, y_0), _carried(marked[1], x_1, y_1)),
        (x_0, x_1),
        (y_0, y_1),
        core,
        ring,
        noise,
        bright,
    )
    if made is None or made.contrast < faintest:
        return None
    contrast = made.contrast
    sound = int(made.usable[0] and made.marks[0] <= _UNMARKED) + int(made.usable[1] and made.marks[1] <= _UNMARKED)
    usable = min(1 if one_sided else 2, sound)
    differ = made.differ / contrast if made.differ >= 0 else UNTOLD
    misfit, life, better, flat = made.misfit / contrast, made.life / contrast, made.least / contrast, made.flat / contrast
    stands, doubt = strength / contrast, wide / contrast
    # What does not convince even if all that is costly to tell spoke for it need not be looked at further.
    if sureness(contrast, misfit, differ, made.moves, life, area, usable, stands, better, doubt, near, flat, 1.0) < least:
        return None
    hole = reached(made.layer, core, soft, max(max(2 * noise, 0.05 * contrast), max(1.3 * made.misfit, _KEPT)))
    area = float(hole.sum())
    if sureness(contrast, misfit, differ, made.moves, life, area, usable, stands, better, doubt, near, flat, 1.0) < least:
        return None
    return Attempt(
        first,
        begin,
        core,
        hole,
        made.fill,
        made.shares,
        made.gains,
        made.usable,
        (_led(x_0, y_0, core, first, begin), _led(x_1, y_1, core, first, begin)),
        contrast,
        (contrast, misfit, differ, made.moves, life, area, usable, stands, better, doubt, near, flat),
    )
