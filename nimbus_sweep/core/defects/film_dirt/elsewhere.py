"""Looks for a candidate near by in the frames beside it: what is found again only moved, and is no speck."""

from __future__ import annotations

from collections.abc import Sequence

import cv2
import numpy as np

from ...base.compiled import compiled
from ...imaging.motion import Plane
from ...imaging.neighbours import Neighbour, disc
from .attempt import Attempt
from .likelihood import FOUND

# How far a thing may have moved, of the picture's longer side.
_SEARCH = 0.07
# Farthest that a small thing is looked for; and smallest side, and reach, from which the picture it is looked for on is halved.
_NEAR, _LARGE, _FAR = 32, 8, 24


def found_elsewhere(light: Plane, made: Attempt, near: Sequence[Neighbour]) -> float:
    """How well the same thing is found near by in a neighbour.

    Parameters
    ----------
    light : ndarray, float32, (height, width)
        Of the frame, or a part of it, in codes.
    made : Attempt
    near : sequence of Neighbour
        Two, over the same part.

    Returns
    -------
    float
        What is left over at the best place, root mean square, of its contrast; `likelihood.FOUND` where it is no less than that.
    """
    shape = near[0].raw.shape
    reach = max(8, int(_SEARCH * max(shape)))
    mask = cv2.dilate(made.core, disc(2))
    rows, cols = np.flatnonzero(mask.any(1)), np.flatnonzero(mask.any(0))
    top, left, tall, wide = made.top + rows[0], made.left + cols[0], rows[-1] - rows[0] + 1, cols[-1] - cols[0] + 1
    thing = light[top : top + tall, left : left + wide]
    mask = mask[rows[0] : rows[-1] + 1, cols[0] : cols[-1] + 1].astype(np.float32)
    # What is large enough to be known on a smaller picture is looked for there; what is not, is not looked for so far.
    times = 1
    while min(thing.shape) // times >= _LARGE and reach // times > _FAR:
        times *= 2
    thing, mask = _smaller(thing, times), _smaller(mask, times)
    reach = reach if times > 1 else min(reach, _NEAR)
    weight = float(mask.sum())
    bound = best = weight * (FOUND * made.contrast) ** 2
    for n, use, (across, down) in zip(near, made.shown, made.motion, strict=True):
        if not use:
            continue
        above, before = int(top + down) - reach, int(left + across) - reach
        below, behind = above + 2 * reach + tall, before + 2 * reach + wide
        place = n.raw[max(0, above) : min(shape[0], below), max(0, before) : min(shape[1], behind)]
        best = least_left(_smaller(place, times), thing, mask, best)
    return FOUND if best >= bound else float(np.sqrt(best / weight) / made.contrast)


def _smaller(plane: Plane, times: int) -> Plane:
    if times == 1 or not plane.size:
        return plane
    return np.asarray(cv2.resize(plane, (max(1, plane.shape[1] // times), max(1, plane.shape[0] // times)), interpolation=cv2.INTER_AREA))


def least_left(place: Plane, thing: Plane, mask: Plane, bound: float) -> float:
    """Least sum of squared differences, times the square of a mask, that a thing leaves anywhere in a place; `bound` where none is less.

    Parameters
    ----------
    place : ndarray, float32, (rows, columns)
    thing, mask : ndarray, float32, (height, width)
    bound : float
    """
    if place.shape[0] < thing.shape[0] or place.shape[1] < thing.shape[1]:
        return bound
    return float(_least_left(np.ascontiguousarray(place), np.ascontiguousarray(thing), np.ascontiguousarray(mask), bound))


@compiled("(float32[:, ::1], float32[:, ::1], float32[:, ::1], float64)")
def _least_left(place: Plane, thing: Plane, mask: Plane, bound: float) -> float:
    (rows, cols), (height, width) = place.shape, thing.shape
    count, level = 0, 0.0
    for y in range(height):
        for x in range(width):
            if mask[y, x] > 0:
                level += thing[y, x]
                count += 1
    level /= max(1, count)
    at, stands = np.empty(count, np.int64), np.empty(count)
    codes, weights = np.empty(count, np.float32), np.empty(count, np.float32)
    count = 0
    for y in range(height):
        for x in range(width):
            if mask[y, x] > 0:
                at[count] = y * cols + x
                codes[count], weights[count] = thing[y, x], mask[y, x]
                stands[count] = -abs(thing[y, x] - level) * mask[y, x]
                count += 1
    # What stands out most tells soonest that it is not here.
    order = np.argsort(stands)
    at, codes, weights = at[order], codes[order], weights[order]
    flat, best = place.ravel(), bound
    for top in range(rows - height + 1):
        for left in range(cols - width + 1):
            first, left_over = top * cols + left, 0.0
            for k in range(count):
                away = (flat[first + at[k]] - codes[k]) * weights[k]
                left_over += away * away
                if left_over >= best:
                    break
            if left_over < best:
                best = left_over
    return best
