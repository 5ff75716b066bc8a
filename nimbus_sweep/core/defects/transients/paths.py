"""Paths: what goes on at a steady pace through three frames, clear of itself, in one sign and about one size."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import Any

import numpy as np

from .passing import Passed

# How far a step may differ from the one before, as a share of it, in its own size and in pixels of a picture so wide.
_STEADY, _OWN, _GIVE, _WIDE = 0.35, 0.8, 3.0, 640
# Least step in its own size, and largest as a share of the picture's width: dirt that chance lines up lies further apart.
_CLEAR, FARTHEST = 0.4, 0.12
# How many times longer than wide a piece of a scratch is, and nothing that crosses.
_THIN = 8.0
# How much larger one may be than the next.
_GROWS = 4.0


def steady(
    before: Sequence[Passed], here: Sequence[Passed], behind: Sequence[Passed], width: int, gaps: tuple[int, int] = (1, 1)
) -> Iterator[tuple[Passed, Passed, Passed, float]]:
    """What goes on through three frames, in each of them, and its pace in pixels a frame.

    Parameters
    ----------
    before, here, behind : sequence of Passed
        What passed in each frame.
    width : int
        Of the picture, in pixels.
    gaps : tuple of int
        Frames from the first to the second, and from that to the third.
    """
    give = _GIVE * max(1.0, width / _WIDE)
    for one in here:
        if max(one.mask.shape) > _THIN * min(one.mask.shape):
            continue
        for a in before:
            step = np.subtract(one.middle, a.middle) / gaps[0]
            pace = float(np.hypot(*step))
            if (a.contrast > 0) != (one.contrast > 0) or not _CLEAR * one.size <= pace <= FARTHEST * width or _unlike(a, one):
                continue
            mates = (b for b in behind if (b.contrast > 0) == (one.contrast > 0) and not _unlike(one, b))
            room = min(_STEADY * pace, _OWN * one.size) + give
            goes_on = next((b for b in mates if np.hypot(*(np.subtract(b.middle, one.middle) - gaps[1] * step)) < gaps[1] * room), None)
            if goes_on is not None:
                yield a, one, goes_on, pace
                break


def at_the_edge(here: Sequence[Passed], behind: Sequence[Passed], size: tuple[int, int]) -> Iterator[tuple[Passed, Passed]]:
    """What is in two frames that follow one another, and comes into the picture with the first or leaves it with the second.

    Parameters
    ----------
    here, behind : sequence of Passed
        What passed in each frame.
    size : tuple of int
        Height and width of the picture.
    """
    height, width = size

    def gone(place: Any, room: float) -> bool:
        return not (room <= place[0] <= width - room and room <= place[1] <= height - room)

    for one in here:
        for other in behind:
            step = np.subtract(other.middle, one.middle)
            pace, room = float(np.hypot(*step)), max(one.size, other.size) / 2
            if (one.contrast > 0) != (other.contrast > 0) or not _CLEAR * one.size <= pace <= FARTHEST * width or _unlike(one, other):
                continue
            if gone(one.middle - step, room) or gone(other.middle + step, room):
                yield one, other


def _unlike(one: Passed, other: Passed) -> bool:
    a, b = sorted((int(one.mask.sum()), int(other.mask.sum())))
    return b > _GROWS * a
