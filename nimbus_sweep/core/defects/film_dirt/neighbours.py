"""A frame beside its neighbours, laid on it along the motion."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import cv2
import numpy as np
from numpy.typing import NDArray

from ...imaging.motion import Field, Gray, Plane, flow, inside, look

Mask = NDArray[np.bool_]
# Shorter side of a picture from which motion is told at half the size.
_HALF = 400


@dataclass(frozen=True)
class Pair:
    """The way from a frame to the next, and back: (height, width, 2), in pixels, x first."""

    there: Field
    back: Field


@dataclass(frozen=True)
class Neighbour:
    """A frame beside the one looked at, along the motion.

    Attributes
    ----------
    light : ndarray, float32, (height, width)
        Its luma where the scene of each pixel lies in it, in codes.
    marked : ndarray, float32, (height, width)
        How far that is marked itself, 0 to 1.
    seen : ndarray, bool, (height, width)
        Where the scene lies inside its picture.
    motion : ndarray, float32, (height, width, 2)
    raw : ndarray, float32, (height, width)
        Its luma as it is.
    """

    light: Plane
    marked: Plane
    seen: Mask
    motion: Field
    raw: Plane


def ready(light: Plane, noise: float) -> Gray:
    """A picture made ready for motion: at half the size where it is large."""
    if min(light.shape) < _HALF:
        return look(light, noise).gray
    size = (light.shape[1] // 2, light.shape[0] // 2)
    return look(cv2.resize(light, size, interpolation=cv2.INTER_AREA), noise / 2).gray


def pair(one: Gray, other: Gray, shape: tuple[int, ...]) -> Pair:
    """How the scene moves from one frame to the next, and back, at the pictures' full size.

    Parameters
    ----------
    one, other : ndarray, uint8
        As `ready` gives them.
    shape : tuple of int
        Height and width of the frames.
    """
    ways = (flow(one, other), flow(other, one))
    if one.shape == shape:
        return Pair(*ways)
    scale = np.array([shape[1] / one.shape[1], shape[0] / one.shape[0]], np.float32)
    return Pair(*(cv2.resize(w, shape[::-1], interpolation=cv2.INTER_LINEAR) * scale for w in ways))


def onward(way: Field, next_way: Field, places: Field) -> Field:
    """One way, and another from where it leads to."""
    return np.asarray(way + cv2.remap(next_way, places + way, None, cv2.INTER_LINEAR, borderMode=cv2.BORDER_REPLICATE))


def along(other: Plane, marked: Plane | None, there: Field, places: Field) -> Neighbour:
    """A neighbouring frame along the way there."""
    at = places + there
    light = cv2.remap(other, at, None, cv2.INTER_CUBIC, borderMode=cv2.BORDER_REPLICATE)
    marks_here = np.zeros_like(light) if marked is None else cv2.remap(marked, at, None, cv2.INTER_LINEAR)
    return Neighbour(light, marks_here, inside(there, places, 1.0), there, other)


def limits(near: Sequence[Neighbour]) -> tuple[Plane, Plane]:
    """The least and the most that the neighbours hold about each place, with a pixel's tolerance."""
    kernel = np.ones((3, 3), np.uint8)
    return (
        np.minimum.reduce([cv2.erode(n.light, kernel) for n in near]),
        np.maximum.reduce([cv2.dilate(n.light, kernel) for n in near]),
    )


def departures(light: Plane, near: Sequence[Neighbour], held: tuple[Plane, Plane], bright: bool) -> tuple[Plane, Plane]:
    """Rank-ordered departure and smaller difference of one sign, in codes; negative where there is none.

    Parameters
    ----------
    light : ndarray, float32, (height, width)
    near : sequence of Neighbour
    held : tuple of ndarray
        What they hold, see `limits`.
    bright : bool
        What is brighter than both neighbours, or darker.
    """
    low, high = held
    out = light - high if bright else low - light
    differences = [light - n.light if bright else n.light - light for n in near]
    return out, np.minimum.reduce(differences)
