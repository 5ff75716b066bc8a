"""A frame beside its neighbours, laid on it along the motion of the scene."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from functools import cache
from typing import Any, NamedTuple

import cv2
import numpy as np
from numba import njit
from numpy.typing import NDArray

from .motion import Field, Plane

Mask = NDArray[np.bool_]
Box = tuple[slice, slice]
# What comes and goes is out by so many deviations of the noise, and at least by so many 8-bit codes.
SEED, LEAST = 5.0, 6.0
_SQUARE = np.ones((3, 3), np.uint8)


class Marks:
    """Where something comes and goes in a frame as it is.

    Parameters
    ----------
    whole : ndarray, float32, (height, width)
        1 there.
    """

    def __init__(self, whole: Plane) -> None:
        self.whole = whole
        self._smaller: dict[int, Plane] = {}

    def smaller(self, factor: int) -> Plane:
        """How much of each place does, 0 to 1; so many times smaller, and only worked out once."""
        if factor not in self._smaller:
            size = (max(1, self.whole.shape[1] // factor), max(1, self.whole.shape[0] // factor))
            self._smaller[factor] = np.asarray(cv2.resize(self.whole, size, interpolation=cv2.INTER_AREA))
        return self._smaller[factor]


@dataclass(frozen=True)
class Neighbour:
    """A frame beside the one looked at, along the motion; over the whole picture, or a part of it.

    Attributes
    ----------
    light : ndarray, float32, (rows, columns)
        Its luma where the scene of each pixel lies in it, in codes.
    marks : Marks or None
        Where something comes and goes in it; None for nowhere.
    seen : ndarray, bool, (rows, columns)
        Where the scene lies inside its picture.
    x, y : ndarray, float32, (rows, columns)
        Where that is, in pixels of the picture.
    raw : ndarray, float32, (height, width)
        Its luma as it is.
    """

    light: Plane
    marks: Marks | None
    seen: Mask
    x: Plane
    y: Plane
    raw: Plane

    @classmethod
    def along(cls, way: Field, other: Plane, marks: Marks | None = None, box: Box | None = None) -> Neighbour:
        """A frame along the way to it.

        Parameters
        ----------
        way : ndarray, float32, (rows, columns, 2)
            In pixels of a picture of that size, which may be smaller, x first.
        other : ndarray, float32, (height, width)
            Its luma, in codes.
        marks : Marks or None
            Where something comes and goes in it.
        box : tuple of slice, or None
            The part of the picture that is asked for; all of it when None.
        """
        x, y, seen = _led(way, *other.shape) if box is None else _led_in(box, way, *other.shape)
        light = cv2.remap(other, x, y, cv2.INTER_CUBIC, borderMode=cv2.BORDER_REPLICATE)
        return cls(light, marks, seen, x, y, other)

    def part(self, box: Box) -> Neighbour:
        """The same over a part of the picture alone."""
        light, seen, x, y = (np.ascontiguousarray(p[box]) for p in (self.light, self.seen, self.x, self.y))
        return Neighbour(light, self.marks, seen, x, y, self.raw)

    def marked_smaller(self, factor: int) -> Plane:
        """How far each place of it, along the motion, comes and goes itself, 0 to 1; so many times smaller."""
        size = (max(1, self.light.shape[1] // factor), max(1, self.light.shape[0] // factor))
        if self.marks is None:
            return np.zeros(size[::-1], np.float32)
        x, y = (cv2.resize(at, size, interpolation=cv2.INTER_NEAREST) / np.float32(factor) for at in (self.x, self.y))
        return np.asarray(cv2.remap(self.marks.smaller(factor), x, y, cv2.INTER_LINEAR))

    def motion(self, box: Box) -> Field:
        """The way to it over a part of the picture: (rows, columns, 2), in pixels, x first."""
        x, y = self.x[box], self.y[box]
        across = np.arange(box[1].start, box[1].start + x.shape[1], dtype=np.float32)
        down = np.arange(box[0].start, box[0].start + x.shape[0], dtype=np.float32)
        return np.dstack([x - across, y - down[:, None]])


def _led(way: Field, height: int, width: int) -> tuple[Plane, Plane, Mask]:
    """Where each pixel is found along a way that may be told on a smaller picture, and whether a pixel or more inside the picture."""
    rows, cols = way.shape[:2]
    full = way if (rows, cols) == (height, width) else cv2.resize(way, (width, height), interpolation=cv2.INTER_LINEAR)
    return _placed(np.ascontiguousarray(full), np.float32(width / cols), np.float32(height / rows))


def _led_in(box: Box, way: Field, height: int, width: int) -> tuple[Plane, Plane, Mask]:
    """The same over a part of the picture."""
    down, across = np.float32(height / way.shape[0]), np.float32(width / way.shape[1])
    cols, rows = np.meshgrid(*(np.arange(box[k].start, box[k].stop, dtype=np.float32) for k in (1, 0)))
    half = np.float32(0.5)
    part = cv2.remap(way, (cols + half) / across - half, (rows + half) / down - half, cv2.INTER_LINEAR, borderMode=cv2.BORDER_REPLICATE)
    x, y = cols + part[..., 0] * across, rows + part[..., 1] * down
    return x, y, (x >= 1) & (y >= 1) & (x <= width - 2) & (y <= height - 2)


@njit("(float32[:, :, ::1], float32, float32)", cache=True, nogil=True, error_model="numpy")
def _placed(way: Field, across: np.float32, down: np.float32) -> tuple[Plane, Plane, Mask]:
    height, width = way.shape[:2]
    at_x, at_y = np.empty((height, width), np.float32), np.empty((height, width), np.float32)
    seen = np.empty((height, width), np.bool_)
    one, last_x, last_y = np.float32(1), np.float32(width - 2), np.float32(height - 2)
    for y in range(height):
        for x in range(width):
            at_x[y, x] = np.float32(x) + way[y, x, 0] * across
            at_y[y, x] = np.float32(y) + way[y, x, 1] * down
        for x in range(width):
            seen[y, x] = (at_x[y, x] >= one) & (at_y[y, x] >= one) & (at_x[y, x] <= last_x) & (at_y[y, x] <= last_y)
    return at_x, at_y, seen


def limits(one: Neighbour, other: Neighbour) -> tuple[Plane, Plane]:
    """The least and the most that two neighbours hold about each place, with a pixel's tolerance."""
    return cv2.erode(cv2.min(one.light, other.light), _SQUARE), cv2.dilate(cv2.max(one.light, other.light), _SQUARE)


def comes_and_goes(light: Plane, held: tuple[Plane, Plane], noise: float, room: int) -> Plane | None:
    """Where a frame is outside what its neighbours hold, with room about it.

    Parameters
    ----------
    light : ndarray, float32, (height, width)
    held : tuple of ndarray
        What they hold, see `limits`.
    noise : float
        Standard deviation of the noise, in codes.
    room : int
        Pixels about it.

    Returns
    -------
    ndarray, float32, (height, width), or None
        1 there; None for nowhere.
    """
    out = outside(light, held, max(SEED * noise, LEAST))
    return cv2.dilate(out, disc(room)).astype(np.float32) if out.any() else None


def outside(light: Plane, held: tuple[Plane, Plane], by: float) -> NDArray[np.uint8]:
    """1 where a frame is outside what its neighbours hold by more than so many codes: (height, width)."""
    return _outside(light, *held, np.float32(by))


@njit("(float32[:, ::1], float32[:, ::1], float32[:, ::1], float32)", cache=True, nogil=True, error_model="numpy")
def _outside(light: Plane, low: Plane, high: Plane, by: np.float32) -> NDArray[Any]:
    out = np.empty(light.shape, np.uint8)
    for y in range(light.shape[0]):
        for x in range(light.shape[1]):
            out[y, x] = max(light[y, x] - high[y, x], low[y, x] - light[y, x]) > by
    return out


class Departures(NamedTuple):
    """How a frame departs from what two neighbours hold, in 8-bit codes; 0 where not seen.

    Attributes
    ----------
    out, spike : ndarray, float32, (height, width)
        Rank-ordered departure, and smaller difference of one sign; negative where there is none.
    seeds : ndarray, bool, (height, width)
        Where the first is as large as was asked for.
    """

    out: Plane
    spike: Plane
    seeds: Mask


def departures(light: Plane, near: Sequence[Neighbour], held: tuple[Plane, Plane], seen: Mask, bright: bool, least: Plane) -> Departures:
    """How a frame departs from two neighbours.

    Parameters
    ----------
    light : ndarray, float32, (height, width)
    near : sequence of Neighbour
        Two.
    held : tuple of ndarray
        What they hold, see `limits`.
    seen : ndarray, bool, (height, width)
        Where both can be gone by.
    bright : bool
        What is brighter than both neighbours, or darker.
    least : ndarray, float32, (rows, columns)
        How far a seed has to be out, on a picture that may be smaller.

    References
    ----------
    Nadenau and Mitra, "Blotch and scratch detection in image sequences based on rank ordered differences", 1997; Kokaram, "Detection
    of missing data in image sequences", IEEE Transactions on Image Processing 4 (11), 1995: the spike detection index.
    """
    return Departures(*_departures(light, near[0].light, near[1].light, *held, seen, bright, least))


@njit(
    "(float32[:, ::1], float32[:, ::1], float32[:, ::1], float32[:, ::1], float32[:, ::1], boolean[:, ::1], boolean, float32[:, ::1])",
    cache=True,
    nogil=True,
    error_model="numpy",
)
def _departures(
    light: Plane, one: Plane, other: Plane, low: Plane, high: Plane, seen: Mask, bright: bool, least: Plane
) -> tuple[Plane, Plane, Mask]:
    height, width = light.shape
    rows, cols = least.shape
    out, spike = np.empty((height, width), np.float32), np.empty((height, width), np.float32)
    seeds = np.zeros((height, width), np.bool_)
    places = np.arange(width) * cols // width
    sign, none = np.float32(1 if bright else -1), np.float32(0)
    held = high if bright else low
    for y in range(height):
        row = y * rows // height
        most = none
        for x in range(width):
            here = sign * light[y, x]
            departs = here - sign * held[y, x] if seen[y, x] else none
            out[y, x] = departs
            most = max(most, departs)
            spike[y, x] = min(here - sign * one[y, x], here - sign * other[y, x]) if seen[y, x] else none
        if most > none:
            for x in range(width):
                seeds[y, x] = out[y, x] > least[row, places[x]]
    return out, spike, seeds


def missed_by_better(light: Plane, one: Plane, other: Plane, marked: Plane) -> Plane:
    """Square of what the better of two neighbours leaves of a frame, 0 where that is `marked`: (height, width), float32."""
    return _squared_miss(light, one, other, marked)


@njit("(float32[:, ::1], float32[:, ::1], float32[:, ::1], float32[:, ::1])", cache=True, nogil=True, error_model="numpy")
def _squared_miss(light: Plane, one: Plane, other: Plane, marked: Plane) -> Plane:
    missed = np.empty(light.shape, np.float32)
    for y in range(light.shape[0]):
        for x in range(light.shape[1]):
            least = min(abs(light[y, x] - one[y, x]), abs(light[y, x] - other[y, x]))
            missed[y, x] = least * least * (np.float32(1) - marked[y, x])
    return missed


def drawn_between(light: Plane, one: Plane, other: Plane, held: tuple[Plane, Plane], marked: Plane) -> Plane:
    """A frame with what comes and goes drawn to what its neighbours hold.

    Parameters
    ----------
    light, one, other : ndarray, float32, (height, width)
        The frame, and the neighbours laid on it.
    held : tuple of ndarray
        See `limits`.
    marked : ndarray, float32, (height, width)
        1 where something comes and goes.
    """
    return _drawn(light, one, other, *held, marked)


@njit(
    "(float32[:, ::1], float32[:, ::1], float32[:, ::1], float32[:, ::1], float32[:, ::1], float32[:, ::1])",
    cache=True,
    nogil=True,
    error_model="numpy",
)
def _drawn(light: Plane, one: Plane, other: Plane, low: Plane, high: Plane, marked: Plane) -> Plane:
    drawn = np.empty(light.shape, np.float32)
    half, none = np.float32(0.5), np.float32(0)
    for y in range(light.shape[0]):
        for x in range(light.shape[1]):
            middle = (one[y, x] + other[y, x]) * half
            clipped = min(max(light[y, x], min(low[y, x], middle)), max(high[y, x], middle))
            drawn[y, x] = clipped if marked[y, x] > none else light[y, x]
    return drawn


def stays(light: Plane, back: Plane, ahead: Plane, least: float, share: float) -> NDArray[np.uint8]:
    """Where a frame departs from the one behind by more than `least`, and from the one ahead by less than a share of that: 1, or 0."""
    return _stays(light, back, ahead, np.float32(least), np.float32(share))


@njit("(float32[:, ::1], float32[:, ::1], float32[:, ::1], float32, float32)", cache=True, nogil=True, error_model="numpy")
def _stays(light: Plane, back: Plane, ahead: Plane, least: np.float32, share: np.float32) -> NDArray[np.uint8]:
    found = np.empty(light.shape, np.uint8)
    for y in range(light.shape[0]):
        for x in range(light.shape[1]):
            departs = abs(light[y, x] - back[y, x])
            found[y, x] = (departs > least) & (abs(light[y, x] - ahead[y, x]) < share * departs)
    return found


@cache
def disc(radius: int) -> NDArray[np.uint8]:
    """A disc of so many pixels each side of its middle."""
    return np.asarray(cv2.getStructuringElement(cv2.MORPH_ELLIPSE, (2 * radius + 1, 2 * radius + 1)).astype(np.uint8))
