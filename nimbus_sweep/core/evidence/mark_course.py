"""The light of a place over time against the light just around it: what a finding that stays put is told by, to be looked at."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import cv2
import numpy as np
from numpy.typing import NDArray

from ..imaging.light import light_of
from .time_volume import TimeVolume

# Pixels between a place and its ring, and across the ring at least.
_APART, _RING = 2, 3
# Codes that keep a ratio of dark lights within bounds.
_FLOOR = 1.0


@dataclass(frozen=True)
class MarkCourse:
    """The light of a place over time.

    Attributes
    ----------
    frames : ndarray, int64, (held,)
    here, around : ndarray, float64, (held,)
        Median of it and of the ring about it, in 8-bit codes above black.
    """

    frames: NDArray[np.int64]
    here: NDArray[np.float64]
    around: NDArray[np.float64]

    @property
    def share(self) -> tuple[float, float]:
        """The light here as a share of that around it, the middle over time; and how far half of the frames lie from that."""
        ratio = (self.here + _FLOOR) / (self.around + _FLOOR)
        middle = float(np.median(ratio))
        return middle, float(np.median(np.abs(ratio - middle)))

    @property
    def follows(self) -> float:
        """Correlation of the two over time, -1 to 1; 0 where one of them never changes."""
        one, other = self.here - self.here.mean(), self.around - self.around.mean()
        power = float(np.sqrt((one * one).sum() * (other * other).sum()))
        return float((one * other).sum()) / power if power > 1e-9 else 0.0

    @property
    def spread(self) -> tuple[float, float]:
        """Standard deviations over time of the light here and around, in 8-bit codes."""
        return float(self.here.std()), float(self.around.std())


def mark_course(volume: TimeVolume, box: tuple[int, int, int, int], outline: Sequence[tuple[int, int]] = ()) -> MarkCourse | None:
    """The course of a place.

    Parameters
    ----------
    volume : TimeVolume
    box : tuple of int
        Left, top, width and height of the place, in pixels.
    outline : sequence of (x, y)
        The line around it, in pixels; the whole box where empty.

    Returns
    -------
    MarkCourse or None
        None of a place off the picture, or without anything around it.
    """
    left, top, width, height = box
    wide = max(_RING, min(width, height) // 4)
    room = _APART + wide
    x0, y0 = max(0, left - room), max(0, top - room)
    x1, y1 = min(volume.format.width, left + width + room), min(volume.format.height, top + height + room)
    if x1 <= x0 or y1 <= y0:
        return None
    place = np.zeros((y1 - y0, x1 - x0), np.uint8)
    if outline:
        cv2.fillPoly(place, [np.array(outline, np.int32) - (x0, y0)], 1)
    else:
        place[max(0, top - y0) : top + height - y0, max(0, left - x0) : left + width - x0] = 1
    near, far = (cv2.dilate(place, np.ones((2 * n + 1, 2 * n + 1), np.uint8)) for n in (_APART, room))
    inside, ring = place > 0, (far > 0) & (near == 0)
    if not inside.any() or not ring.any():
        return None
    names = [c.name for c in volume.format.components]
    index = names.index("G") if "G" in names else 0
    stack, component = volume.component_stack(index)[:, y0:y1, x0:x1], volume.format.components[index]
    lights = [light_of(picture, component, volume.colour) for picture in stack]
    here, around = (np.array([np.median(p[where]) for p in lights], np.float64) for where in (inside, ring))
    return MarkCourse(volume.numbers, here, around)
