"""A frame beside its neighbours, laid on it along the motion of the scene."""

from __future__ import annotations

from collections.abc import Sequence
from functools import cache, cached_property
from typing import Any, NamedTuple

import cv2
import numpy as np
from numpy.typing import NDArray

from ..base.compiled import compiled
from .motion import Field, Plane

Mask = NDArray[np.bool_]
Box = tuple[slice, slice]
# What comes and goes is out by so many deviations of the noise, and at least by so many 8-bit codes.
SEED, LEAST = 5.0, 6.0
_SQUARE = np.ones((3, 3), np.uint8)
# Pixels of a frame that are looked up along the motion at a time.
_BAND = 1 << 16


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


class Neighbour:
    """A frame beside the one looked at, along the motion; over the whole picture, or a part of it.

    Parameters
    ----------
    light : ndarray, float32, (rows, columns)
        Its luma where the scene of each pixel lies in it, in codes.
    seen : ndarray, bool, (rows, columns)
        Where that is a pixel or more inside its picture.
    way : ndarray, float32, (rows, columns, 2)
        How the scene gets there, in pixels of a picture of that size, which may be smaller, x first.
    raw : ndarray, float32, (height, width)
        Its luma as it is.
    marks : Marks or None
        Where something comes and goes in it; None for nowhere.
    box : tuple of slice
        The part of the picture.
    """

    def __init__(self, light: Plane, seen: Mask, way: Field, raw: Plane, marks: Marks | None, box: Box) -> None:
        self.light = light
        self.seen = seen
        self.raw = raw
        self.marks = marks
        self._way = way
        self._box = box

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
        rows, cols = box = _whole(box or np.s_[:, :], other.shape)
        way, light = np.ascontiguousarray(way, np.float32), np.empty((rows.stop - rows.start, cols.stop - cols.start), np.float32)
        seen = np.empty(light.shape, np.bool_)
        # A band at a time, whose places are still in the processor's cache when they are looked up.
        tall = max(8, _BAND // light.shape[1])
        for first in range(0, len(light), tall):
            band = light[first : first + tall]
            x, y, seen[first : first + tall] = _placed(
                way, other.shape, rows.start + first, rows.start + first + len(band), cols.start, cols.stop
            )
            cv2.remap(other, x, y, cv2.INTER_CUBIC, band, borderMode=cv2.BORDER_REPLICATE)
        return cls(light, seen, way, other, marks, box)

    @cached_property
    def _places(self) -> tuple[Plane, Plane, Mask]:
        rows, cols = self._box
        return _placed(self._way, self.raw.shape, rows.start, rows.stop, cols.start, cols.stop)

    @property
    def x(self) -> Plane:
        """Where the scene of each pixel lies, across, in pixels of the picture: (rows, columns), float32."""
        return self._places[0]

    @property
    def y(self) -> Plane:
        """The same down."""
        return self._places[1]

    def part(self, box: Box) -> Neighbour:
        """The same over a part of the picture alone."""
        light, seen = (np.ascontiguousarray(p[box]) for p in (self.light, self.seen))
        return Neighbour(light, seen, self._way, self.raw, self.marks, _whole(box, self.raw.shape))

    def marked_smaller(self, factor: int) -> Plane:
        """How far each place of it, along the motion, comes and goes itself, 0 to 1; so many times smaller."""
        size = (max(1, self.light.shape[1] // factor), max(1, self.light.shape[0] // factor))
        if self.marks is None:
            return np.zeros(size[::-1], np.float32)
        x, y = (cv2.resize(at, size, interpolation=cv2.INTER_NEAREST) / np.float32(factor) for at in (self.x, self.y))
        return np.asarray(cv2.remap(self.marks.smaller(factor), x, y, cv2.INTER_LINEAR))

    def motion(self, box: Box) -> Field:
        """The way to it over a part of the picture: (rows, columns, 2), in pixels, x first."""
        rows, cols = _whole(box, self.raw.shape)
        x, y, _ = _placed(self._way, self.raw.shape, rows.start, rows.stop, cols.start, cols.stop)
        across, down = (np.arange(at.start, at.stop, dtype=np.float32) for at in (cols, rows))
        return np.dstack([x - across, y - down[:, None]])


def _whole(box: Box, shape: tuple[int, ...]) -> Box:
    """A part of a picture with both of its ends told, counted from the beginning."""
    rows, cols = (slice(*at.indices(size)) for at, size in zip(box, shape, strict=True))
    return rows, cols


@compiled("(float32[:, :, ::1], UniTuple(int64, 2), int64, int64, int64, int64)")
def _placed(way: Field, shape: tuple[int, ...], first: int, last: int, left: int, right: int) -> tuple[Plane, Plane, Mask]:
    """Where each pixel of a part of the picture is found along a way told on a smaller one, and whether a pixel or more inside."""
    (height, width), (rows, cols) = shape, way.shape[:2]
    tall, wide = last - first, right - left
    down, across = np.float32(height / rows), np.float32(width / cols)
    at_x, at_y = np.empty((tall, wide), np.float32), np.empty((tall, wide), np.float32)
    seen = np.empty((tall, wide), np.bool_)
    one, last_x, last_y = np.float32(1), np.float32(width - 2), np.float32(height - 2)
    before, behind, share = np.empty(wide, np.int64), np.empty(wide, np.int64), np.empty(wide, np.float32)
    for x in range(wide):
        place = min(max((left + x + 0.5) / across - 0.5, 0.0), cols - 1.0)
        before[x] = min(int(place), max(0, cols - 2))
        behind[x] = min(before[x] + 1, cols - 1)
        share[x] = place - before[x]
    # Between two rows of the way first, then between its columns.
    row = np.empty((2, cols), np.float32)
    for y in range(tall):
        place = min(max((first + y + 0.5) / down - 0.5, 0.0), rows - 1.0)
        above = min(int(place), max(0, rows - 2))
        part, below = np.float32(place - above), min(above + 1, rows - 1)
        for x in range(before[0], behind[wide - 1] + 1):
            row[0, x] = across * (way[above, x, 0] + part * (way[below, x, 0] - way[above, x, 0]))
            row[1, x] = down * (way[above, x, 1] + part * (way[below, x, 1] - way[above, x, 1]))
        for x in range(wide):
            at_x[y, x] = np.float32(left + x) + (row[0, before[x]] + share[x] * (row[0, behind[x]] - row[0, before[x]]))
            at_y[y, x] = np.float32(first + y) + (row[1, before[x]] + share[x] * (row[1, behind[x]] - row[1, before[x]]))
        for x in range(wide):
            seen[y, x] = (at_x[y, x] >= one) & (at_y[y, x] >= one) & (at_x[y, x] <= last_x) & (at_y[y, x] <= last_y)
    return at_x, at_y, seen


def limits(one: Neighbour, other: Neighbour) -> tuple[Plane, Plane]:
    """The least and the most that two neighbours hold about each place, with a pixel's tolerance."""
    return cv2.erode(cv2.min(one.light, other.light), _SQUARE), cv2.dilate(cv2.max(one.light, other.light), _SQUARE)


def comes_and_goes(light: Plane, one: Neighbour, other: Neighbour, noise: float, room: int) -> Plane | None:
    """Where a frame is outside what two neighbours hold, with room about it.

    Parameters
    ----------
    light : ndarray, float32, (height, width)
    one, other : Neighbour
        Laid on it.
    noise : float
        Standard deviation of the noise, in codes.
    room : int
        Pixels about it.

    Returns
    -------
    ndarray, float32, (height, width), or None
        1 there; None for nowhere.
    """
    out = outside(light, one, other, max(SEED * noise, LEAST))
    return cv2.dilate(out, disc(room)).astype(np.float32) if out.any() else None


def outside(light: Plane, one: Neighbour, other: Neighbour, by: float) -> NDArray[np.uint8]:
    """1 where a frame is outside what two neighbours hold, see `limits`, by more than so many codes: (height, width)."""
    return _outside(light, one.light, other.light, np.float32(by))


@compiled("(float32[:, ::1], float32[:, ::1], float32[:, ::1], float32)")
def _outside(light: Plane, one: Plane, other: Plane, by: np.float32) -> NDArray[Any]:
    height, width = light.shape
    out = np.zeros(light.shape, np.uint8)
    for y in range(height):
        for x in range(width):
            # Few are outside of what is held at their own place: what is held about them is looked up for those alone.
            out[y, x] = max(light[y, x] - max(one[y, x], other[y, x]), min(one[y, x], other[y, x]) - light[y, x]) > by
        for x in range(width):
            if out[y, x]:
                low = high = one[y, x]
                for v in range(max(0, y - 1), min(height, y + 2)):
                    for u in range(max(0, x - 1), min(width, x + 2)):
                        low, high = min(low, one[v, u], other[v, u]), max(high, one[v, u], other[v, u])
                out[y, x] = max(light[y, x] - high, low - light[y, x]) > by
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


@compiled(
    "(float32[:, ::1], float32[:, ::1], float32[:, ::1], float32[:, ::1], float32[:, ::1], boolean[:, ::1], boolean, float32[:, ::1])"
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


@compiled("(float32[:, ::1], float32[:, ::1], float32[:, ::1], float32[:, ::1])")
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


@compiled("(float32[:, ::1], float32[:, ::1], float32[:, ::1], float32[:, ::1], float32[:, ::1], float32[:, ::1])")
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


@compiled("(float32[:, ::1], float32[:, ::1], float32[:, ::1], float32, float32)")
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
