"""Cue marks: something that sits in an upper corner for a few frames, is not there before and behind, and comes again.

What comes and what goes from one frame to the next is told along the motion, in luma and in colour, for it may show
in colour alone. What comes and goes at one place a few frames apart is then filled from the clean frames before and
behind, on the full picture: of a mark the fill takes off much in all its frames, and nothing where it is not. Four
frames, about 168 clear ones, and four again are common practice (no source).
"""

from __future__ import annotations

import itertools
from collections import deque
from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from threading import Lock
from typing import Any

import cv2
import numpy as np
from numpy.typing import NDArray

from ...base.parallel import parallel_map
from ...evidence.frames_at_hand import Span
from ...evidence.moments import Moment
from ...imaging.aligned_fill import Filled, Lender, Looks, cells_box, cells_of, codes, fill, place_about
from ...imaging.box import Box
from ...imaging.levels import MIXED
from ...imaging.motion import Field, Look, Plane, carried, flow, look, smooth_way
from ...media.frames import Frame, PictureFormat
from ...model.regions import Masked

Places = NDArray[np.bool_]
# The corners, as shares of the picture, and its height when they are searched.
_ACROSS, _DOWN, _HEIGHT = 0.22, 0.28, 360
# Widths that motion in a corner is smoothed by, in pixels.
_SCALES = (6.0, 16.0, 48.0)
# Frames a mark stays, and from one to the next of a pair.
SHORTEST, LONGEST = 2, 6
APART = (155, 190)
# Codes by which something has to stand out to be looked at; how much colour counts.
_STANDS, _COLOUR = 9.0, 1.3
# Smallest and largest, as shares of the picture.
_SMALL, _LARGE = 0.00005, 0.012
# How far, in pixels, an edge may be met beside.
_BESIDE = 0.7
# Codes by which the two marks of a pair may differ, in luma and in colour.
_LUMA, _TINT = 40, 16
# Corners of frames that are kept until they are asked for again.
_HELD = 16
# Times what the fill takes off beside it, and codes, below which something has no strength.
_CLEAR, _WEAK = 3.0, 4.0
# How far what comes and what goes have to lie over one another.
_SAME = 0.2
# Times what changes there before it comes, and codes, that what comes and goes has to stand out by to be looked at closely; and the
# share of it that changes from frame to frame while it is there.
_NEW, _REST, _STAYS = 2.0, 0.5, 0.9
# One row and column in so many tell the usual change of a corner.
_SPARSE = 3


@dataclass(frozen=True)
class Event:
    """Something that sat at one place for a few frames.

    Attributes
    ----------
    first, stop : int
        Places in the span.
    hole : ndarray, bool, (height, width)
        That holds it, with room about it.
    contrast : float
        What it is out by, in codes.
    ratio : float
        That, over what the same fill takes off the clean frames beside.
    alike : float
        How alike it is from frame to frame, -1 to 1.
    rim : float
        What the fill takes off at the rim of the hole, over its contrast.
    colour : tuple of float
        Luma, blue and red difference where it is strongest, in codes.
    lasts : int
        Frames it stays for, those that repeat others among them.
    """

    first: int
    stop: int
    hole: Places
    contrast: float
    ratio: float
    alike: float
    rim: float
    colour: tuple[float, float, float] = (0.0, 0.0, 0.0)
    lasts: int = 0

    @property
    def strength(self) -> float:
        """How far it behaves as a mark does, 0 to 1."""
        parts = ((self.ratio - _CLEAR) / 5, (self.alike - 0.2) / 0.4, (0.6 - self.rim) / 0.3, (self.contrast - _WEAK) / 6)
        return float(np.prod([np.clip(p, 0, 1) for p in parts]))

    @property
    def middle(self) -> tuple[float, float]:
        """Of its hole, x and y."""
        rows, cols = np.nonzero(self.hole)
        return float(cols.mean()), float(rows.mean())

    def there(self, other: Event) -> bool:
        """Whether both lie at one place."""
        return float(np.hypot(*np.subtract(self.middle, other.middle))) < 0.3 * max(self.box()[2:])

    def mates(self, other: Event) -> bool:
        """Whether both may be of one pair: as far apart as marks are, at one place, of one colour, as long as one another."""
        apart = APART[0] <= abs(self.first - other.first) <= APART[1]
        long = abs((self.stop - self.first) - (other.stop - other.first)) <= 1
        unlike = np.abs(np.subtract(self.colour, other.colour))
        return apart and long and self.there(other) and unlike[0] < _LUMA and unlike[1:].max() < _TINT

    def box(self) -> tuple[int, int, int, int]:
        """Left, top, width and height of its hole."""
        rows, cols = np.nonzero(self.hole)
        return int(cols.min()), int(rows.min()), int(np.ptp(cols)) + 1, int(np.ptp(rows)) + 1


def corners(layout: PictureFormat) -> list[Box]:
    """The upper left and the upper right one."""
    across, down = round(layout.width * _ACROSS), round(layout.height * _DOWN)
    return [cells_box(left, 0, left + across, down, layout) for left in (0, layout.width - across)]


def _pictured(frame: Frame, box: Box, factor: float) -> Plane:
    """A place in luma, blue and red difference, in codes, so many times smaller: (height, width, 3)."""
    layout = frame.format
    size = (max(16, round(box.width / factor)), max(16, round(box.height / factor)))
    planes = [codes(cells_of(box, layout, i).samples(frame.component(i)), c) for i, c in enumerate(layout.components)]
    return _three(planes, layout, size)


def _out(change: Plane) -> Plane:
    """How far samples are out, in luma or in colour: codes."""
    return np.maximum(np.abs(change[..., 0]), _COLOUR * np.hypot(change[..., 1], change[..., 2]))


@dataclass(frozen=True)
class _Corner:
    """A corner of a frame, and the same for telling motion."""

    plane: Plane
    look: Look

    @classmethod
    def of(cls, frame: Frame, box: Box, factor: float, noise: float) -> _Corner:
        plane = _pictured(frame, box, factor)
        return cls(plane, look(np.ascontiguousarray(plane[..., 0]), noise))


def _moved(mine: Look, theirs: Look) -> tuple[Field, Field]:
    """The way from each of two pictures to the other, as what moves about a place says."""
    forward, backward = flow(mine.gray, theirs.gray), flow(theirs.gray, mine.gray)
    to, fro = smooth_way(forward, backward, mine, _SCALES), smooth_way(backward, forward, theirs, _SCALES)
    return np.zeros_like(forward) if to is None else to, np.zeros_like(backward) if fro is None else fro


def _way_in(zone: Box, way: Field | None, layout: PictureFormat, shape: tuple[int, ...]) -> Field:
    """A way over the whole picture as it is in a part of it, on a picture of that part with that shape, in its pixels."""
    size = (shape[1], shape[0])
    if way is None:
        return np.zeros((*shape[:2], 2), np.float32)
    down, across = way.shape[0] / layout.height, way.shape[1] / layout.width
    rows = slice(int(zone.top * down), max(int(zone.top * down) + 1, round((zone.top + zone.height) * down)))
    cols = slice(int(zone.left * across), max(int(zone.left * across) + 1, round((zone.left + zone.width) * across)))
    scale = np.array([size[0] / (zone.width * across), size[1] / (zone.height * down)], np.float32)
    return np.asarray(cv2.resize(way[rows, cols], size, interpolation=cv2.INTER_LINEAR) * scale)


@dataclass(frozen=True)
class _Patch:
    """What is in one frame and not in the other: where, and by how much."""

    mask: Places
    change: Plane

    def same(self, other: _Patch) -> bool:
        """Whether both may be the coming and the going of one thing: at one place, and out by the same."""
        both = self.mask & other.mask
        if both.sum() <= _SAME * (self.mask | other.mask).sum():
            return False
        a, b = self.change[both].ravel(), other.change[both].ravel()
        return float(a @ b) > 0.6 * float(np.sqrt((a @ a) * (b @ b)))


@dataclass(frozen=True)
class _Change:
    """What is in one frame and not in the other: compact parts of it, and how far each place is out, in codes."""

    parts: list[_Patch]
    out: Plane

    def within(self, place: Places) -> float:
        """What stands out within a place, in codes."""
        return float(np.percentile(self.out[place], 85))


def _changed(one: Plane, other: Plane, way: Field, picture: float) -> _Change:
    """What is in one corner and not in the other; `picture` is the size of the whole picture."""
    carried_there = np.dstack([carried(np.ascontiguousarray(other[..., k]), way, smooth=False) for k in range(3)])
    change = one - carried_there
    # All of it may have become lighter or darker.
    change -= np.median(change[::_SPARSE, ::_SPARSE].reshape(-1, 3), 0).astype(np.float32)
    out = _out(change)
    # An edge that is met a fraction of a pixel beside is no mark.
    steep = cv2.blur(np.abs(cv2.Sobel(carried_there[..., 0], -1, 1, 0)) + np.abs(cv2.Sobel(carried_there[..., 0], -1, 0, 1)), (3, 3)) / 8
    level = max(_STANDS, 6 * 1.4826 * float(np.median(out[::_SPARSE, ::_SPARSE])))
    count, labels, stats, _ = cv2.connectedComponentsWithStats((out > level + _BESIDE * steep).astype(np.uint8), connectivity=8)
    found = []
    for k in range(1, count):
        _, _, width, height, area = stats[k]
        if not _SMALL * picture <= area <= _LARGE * picture:
            continue
        if max(width, height) > 3.2 * min(width, height) or area < 0.15 * width * height:
            continue
        found.append(_Patch(labels == k, change))
    return _Change(found, out)


def _stayed(where: Places, before: _Change | None, came: _Change, inside: Sequence[_Change], gone: _Change) -> bool:
    """Whether something came to a place and went again, rather than that the place is restless."""
    stands = min(came.within(where), gone.within(where))
    rest = 0.0 if before is None else before.within(where)
    still = not inside or float(np.median([c.within(where) for c in inside])) < _STAYS * stands
    return still and stands > _NEW * (rest + _REST)


def _held(where: Places, came: _Change, gone: _Change) -> bool:
    """Whether beside a place the picture stays the same to the last sample, as one that is held does."""
    return max(float(np.percentile(c.out[~where], 90)) for c in (came, gone)) < _REST


# What is new in a corner, and what is gone from it.
Change = tuple[_Change, _Change]


class EventFinder:
    """Looks through a shot for what sits in an upper corner for a few frames.

    Parameters
    ----------
    layout : PictureFormat
        Of its frames.
    noise : float
        Standard deviation of its luma, in codes.
    hold_out : Region
        Where nothing is looked for.
    """

    def __init__(self, layout: PictureFormat, noise: float, hold_out: Masked | None = None) -> None:
        self._layout, self._noise, self._hold_out = layout, noise, hold_out
        self._zones = corners(self._layout)
        self._factor = max(1.0, self._layout.height / _HEIGHT)
        # One more than a mark stays for: what changed before it came.
        self._came: list[deque[_Change]] = [deque(maxlen=LONGEST + 1) for _ in self._zones]
        self._found: list[tuple[int, int, Box, Places]] = []
        self._numbers: list[int] = []
        self._corners: dict[tuple[int, int], Plane] = {}
        self._lock = Lock()

    def compared(self, at: Moment) -> list[Change]:
        """What comes and goes in each corner with a frame; may be called from several threads at once."""
        whole = self._layout.width * self._layout.height / self._factor**2
        ways = at.scene_way(0, start=-1), at.scene_way(-1)
        changes = []
        for zone in self._zones:
            before, behind = (self._corner(f, zone) for f in (at.at(-1), at.frame))
            forward, backward = (_way_in(zone, way, self._layout, before.shape) for way in ways)
            # What is in the earlier one alone is gone; what is in the later one alone has come.
            changes.append((_changed(behind, before, backward, whole), _changed(before, behind, forward, whole)))
        return changes

    def _corner(self, frame: Frame, zone: Box) -> Plane:
        """A corner of a frame; each is asked for twice."""
        key = (frame.number, zone.left)
        with self._lock:
            held = self._corners.pop(key, None)
        if held is not None:
            return held
        picture = _pictured(frame, zone, self._factor)
        with self._lock:
            if len(self._corners) >= _HELD:
                self._corners.pop(next(iter(self._corners)))
            self._corners[key] = picture
        return picture

    def add(self, place: int, number: int, changes: Sequence[Change]) -> None:
        """Take in what came and went with the frame at a place among those that can be read, and its number; in order."""
        self._numbers.append(number)
        for zone, seen, (new, gone) in zip(self._zones, self._came, changes, strict=True):
            # It came in frame `place - length` and is gone in frame `place`.
            for length in range(1, min(LONGEST, len(seen)) + 1):
                # What shows in one frame alone has to be repeated.
                if length < SHORTEST and not SHORTEST <= number - self._numbers[-length - 1] <= LONGEST:
                    continue
                came, *inside = itertools.islice(seen, len(seen) - length, None)
                before = seen[-length - 1] if length < len(seen) else None
                for one in came.parts:
                    mates = [g for g in gone.parts if one.same(g)]
                    if not mates:
                        continue
                    where = one.mask | mates[0].mask
                    if _stayed(where, before, came, inside, gone) and (length >= SHORTEST or _held(where, came, gone)):
                        self._found.append((place - length, place, zone, where))
            seen.append(new)

    def finish(self, span: Span, on_progress: Callable[[float], None]) -> list[Event]:
        """What sat in a corner, each looked at closely; `span` has the frames that could be read."""
        size = (self._layout.height, self._layout.width)

        def looked(one: tuple[int, int, Box, Places]) -> Event | None:
            first, stop, zone, blob = one
            hole = _hole(blob, zone, self._factor, self._layout)
            number = int(span.numbers[first])
            if self._hold_out is not None and (self._hold_out.mask(size, number)[hole] > 0.5).any():
                return None
            return weighed(span, first, stop, hole, self._noise, promising=True)

        found = []
        seen = _joined(self._found)
        for done, event in enumerate(parallel_map(looked, seen), 1):
            found += [event] if event is not None else []
            on_progress(done / len(seen))
        return [_completed(span, event, self._noise) for event in _apart(found)]


def _joined(found: list[tuple[int, int, Box, Places]]) -> list[tuple[int, int, Box, Places]]:
    """What was seen, and beside it what comes and goes with the same frames close by as one: a mark scratched in is open."""
    joined = []
    for (first, stop, _), alike in itertools.groupby(sorted(found, key=_when), key=_when):
        several = list(alike)
        joined += several
        if len(several) > 1:
            zone, parts = several[0][2], [blob for *_, blob in several]
            together = np.any(parts, axis=0).astype(np.uint8)
            reach = 2 * max(int(np.sqrt(max(part.sum() for part in parts))), 2) + 1
            near, labels = cv2.connectedComponents(cv2.dilate(together, np.ones((reach, reach), np.uint8)), connectivity=8)
            for k in range(1, near):
                part = (together > 0) & (labels == k)
                if sum(bool((p & part).any()) for p in parts) > 1:
                    joined.append((first, stop, zone, part))
    return joined


def _when(one: tuple[int, int, Box, Places]) -> tuple[int, int, int]:
    return one[0], one[1], one[2].left


def _completed(span: Span, event: Event, noise: float) -> Event:
    """The event with its hole grown to what belongs to it, however little of that stands out of the picture."""
    layout = span.source.format
    size = max(event.box()[2:])
    reach = max(4, size // 3)
    wide = cv2.dilate(event.hole.astype(np.uint8), cv2.getStructuringElement(cv2.MORPH_ELLIPSE, (2 * reach + 1, 2 * reach + 1)))
    looks = Looks()
    lenders = [Lender(span.source.frame(int(span.numbers[k]))) for k in (event.first - 1, event.stop)]
    place = place_about(wide.astype(np.float32), layout)
    made = [fill(span.source.frame(int(n)), wide.astype(np.float32), lenders, noise, looks) for n in span.numbers[event.first : event.stop]]
    layers = [_Layer.of(filled, wide > 0, layout) for filled in made if filled is not None]
    if place is None or not layers:
        return event
    # It stays where it is while the picture goes on.
    out = _out(cv2.GaussianBlur(np.median(np.stack([layer.change for layer in layers]), 0), (0, 0), 1.0))
    part = (out > max(2.0 * noise, 0.05 * event.contrast, 1.5)) & (place.samples(wide) > 0)
    count, labels = cv2.connectedComponents(part.astype(np.uint8), connectivity=8)
    core = place.samples(event.hole) & (out > 0.4 * event.contrast)
    core_part = np.isin(labels, [k for k in np.unique(labels[core]) if k]) if count > 1 else part
    if not core_part.any():
        return event
    hole = np.zeros(event.hole.shape, np.uint8)
    place.put(core_part.astype(np.uint8), hole)
    room = max(4, round(0.12 * size))
    hull = cv2.dilate(_hull(hole), cv2.getStructuringElement(cv2.MORPH_ELLIPSE, (2 * room + 1, 2 * room + 1)))
    return replace(event, hole=hull > 0)


def _hull(part: NDArray[Any]) -> NDArray[np.uint8]:
    """The convex hull of what is not zero, as a mask."""
    rows, cols = np.nonzero(part)
    filled = np.zeros(part.shape, np.uint8)
    cv2.fillConvexPoly(filled, cv2.convexHull(np.column_stack([cols, rows]).astype(np.int32)), 1)
    return filled


def _hole(blob: Places, zone: Box, factor: float, layout: PictureFormat) -> Places:
    """What holds a blob seen in a corner, with room for its soft edge, on the whole picture."""
    part = cv2.resize(blob.astype(np.float32), (zone.width, zone.height), interpolation=cv2.INTER_LINEAR) > 0.3
    hole = np.zeros((layout.height, layout.width), bool)
    zone.put(part, hole)
    rows, cols = np.nonzero(hole)
    # A mark made by hand is open; what lies between its strokes is looked at, too.
    filled = _hull(hole)
    size = max(np.ptp(rows), np.ptp(cols)) + 1
    reach = round(max(4, 2.5 * factor, 0.22 * size))
    return np.asarray(cv2.dilate(filled, cv2.getStructuringElement(cv2.MORPH_ELLIPSE, (2 * reach + 1, 2 * reach + 1))) > 0)


@dataclass(frozen=True)
class _Layer:
    """What a fill takes off: luma, blue and red difference, (height, width, 3); the same of the frame itself, and the hole."""

    change: Plane
    own: Plane
    hole: Places

    @classmethod
    def of(cls, filled: Filled, hole: Places, layout: PictureFormat) -> _Layer:
        size = (filled.box.width, filled.box.height)
        picture = _three(filled.own, layout, size)
        return cls(picture - _three(filled.planes, layout, size), picture, filled.box.samples(hole))

    def strongest(self) -> float:
        """What stands out of it; a mark made of thin strokes fills little of its hole."""
        out = _out(cv2.GaussianBlur(self.change, (0, 0), 1.0))[self.hole]
        return float(np.percentile(out, 85)) if out.size else 0.0


def _three(planes: Sequence[Plane], layout: PictureFormat, size: tuple[int, int]) -> Plane:
    """Components in 8-bit codes as luma, blue and red difference, at one size, width and height: (height, width, 3)."""
    names = [c.name for c in layout.components]
    small = [p if p.shape == size[::-1] else cv2.resize(p, size, interpolation=cv2.INTER_AREA) for p in planes]
    if "G" in names:
        red, green, blue = (small[names.index(n)] for n in "RGB")
        light = MIXED["R"] * red + MIXED["G"] * green + MIXED["B"] * blue
        return np.dstack([light, (blue - light) / 1.8556, (red - light) / 1.5748]).astype(np.float32)
    if "Cb" not in names:
        return np.dstack([small[0], np.zeros_like(small[0]), np.zeros_like(small[0])])
    return np.dstack([small[0], small[names.index("Cb")], small[names.index("Cr")]])


def weighed(span: Span, first: int, stop: int, hole: Places, noise: float, promising: bool = False) -> Event | None:
    """How something behaves that may sit in a hole in the frames at places `first` to `stop` - 1.

    Parameters
    ----------
    span : Span
    first, stop : int
    hole : ndarray, bool, (height, width)
    noise : float
        Of luma, in codes.
    promising : bool
        Look no further at what has no strength, see `Event`: most of what comes and goes is no mark.

    Returns
    -------
    Event
        None when there are not enough clean frames beside it, or it has no strength and only what is promising was asked for.
    """
    count = len(span)
    if first < 1 or stop >= count:
        return None
    looks = Looks()
    mask = hole.astype(np.float32)
    held: dict[int, Frame] = {}

    def at(place: int) -> Frame:
        if place not in held:
            held[place] = span.source.frame(int(span.numbers[place]))
        return held[place]

    def taken(place: int, lenders: Sequence[int]) -> _Layer | None:
        filled = fill(at(place), mask, [Lender(at(k)) for k in lenders if 0 <= k < count], noise, looks)
        return None if filled is None else _Layer.of(filled, hole, span.source.format)

    neighbours = ((first - 1, (first - 2, stop)), (stop, (first - 1, stop + 1)))
    layers: list[_Layer] = []
    contrast, rests = np.inf, []
    # One frame beside it, then those it is in, then the other one beside.
    for n, others in (neighbours[0], *((n, (first - 1, stop)) for n in range(first, stop)), neighbours[1]):
        layer = taken(n, others)
        if first <= n < stop:
            if layer is None or not layer.hole.any():
                return None
            layers.append(layer)
            contrast = min(contrast, layer.strongest())
        elif layer is not None:
            rests.append(layer.strongest())
        if promising and layers and (contrast <= _WEAK or contrast <= _CLEAR * (max(rests, default=noise) + 0.5)):
            return None
    lasts = int(span.numbers[stop] - span.numbers[first])
    if max(len(layers), lasts) < SHORTEST:
        return None
    rest = max(rests, default=noise)
    vectors = [cv2.GaussianBlur(layer.change, (0, 0), 2.0)[layer.hole].ravel() for layer in layers]
    alike = [float(a @ b / max(np.sqrt((a @ a) * (b @ b)), 1e-6)) for n, a in enumerate(vectors) for b in vectors[n + 1 :]]
    rims, colours = [], []
    for layer in layers:
        out = _out(cv2.GaussianBlur(layer.change, (0, 0), 1.0))
        # The picture's own edge is no rim.
        deep = cv2.erode(layer.hole.astype(np.uint8), np.ones((5, 5), np.uint8), borderType=cv2.BORDER_CONSTANT, borderValue=1) > 0
        edge, core = layer.hole & ~deep, layer.hole & (out >= 0.6 * contrast)
        rims.append(float(np.median(out[edge])) if edge.any() else 0.0)
        colours.append(layer.own[core].mean(0) if core.any() else layer.own[layer.hole].mean(0))
    rim = max(0.0, float(np.median(rims)) - rest) / max(contrast, 1e-3)
    luma_, blue, red = (float(v) for v in np.mean(colours, 0))
    return Event(first, stop, hole, contrast, contrast / (rest + 0.5), float(np.median(alike or [1.0])), rim, (luma_, blue, red), lasts)


def _apart(found: list[Event]) -> list[Event]:
    """Of what lies over one another in place and time the one that behaves most like a mark."""
    kept: list[Event] = []
    for event in sorted(found, key=lambda e: (-e.strength, -int(e.hole.sum()))):
        if event.strength and not any(e.first < event.stop + 2 and event.first < e.stop + 2 and (e.hole & event.hole).any() for e in kept):
            kept.append(event)
    return sorted(kept, key=lambda e: e.first)


def run_about(span: Span, place: int, hole: Places, noise: float) -> Event | None:
    """The frames about a place in the span in which something sits in a hole: it came with the first and is gone behind the last.

    Parameters
    ----------
    span : Span
        Of the shot.
    place : int
        Of a frame that shows it.
    hole : ndarray, bool, (height, width)
        That holds it.
    noise : float
        Of luma, in codes.
    """
    looks, mask = Looks(), hole.astype(np.float32)

    def new(at: int, neighbour: int) -> float:
        """What one frame has in the hole that the one beside has not."""
        if not (0 <= at < len(span) and 0 <= neighbour < len(span)):
            return 0.0
        one, other = (span.source.frame(int(span.numbers[k])) for k in (at, neighbour))
        filled = fill(one, mask, [Lender(other)], noise, looks)
        if filled is None:
            return 0.0
        return _Layer.of(filled, hole, span.source.format).strongest()

    came = [(new(k, k - 1), k) for k in range(max(1, place - LONGEST + 1), place + 1)]
    gone = [(new(k, k + 1), k + 1) for k in range(place, min(len(span) - 1, place + LONGEST))]
    if not came or not gone:
        return None
    first, stop = max(came)[1], max(gone)[1]
    return weighed(span, first, stop, hole, noise) if stop - first <= LONGEST else None


def partners(span: Span, event: Event, noise: float) -> list[Event]:
    """The other marks of a reel that sit where one does, as far before or behind it as such marks lie apart."""
    layout = span.source.format
    x, y, width, height = event.box()
    zone = cells_box(x - width, y - height, x + 2 * width, y + 2 * height, layout)
    factor = max(1.0, layout.height / _HEIGHT)
    found: list[Event] = []
    for low, high in ((event.first - APART[1], event.first - APART[0]), (event.first + APART[0], event.first + APART[1])):
        places = range(max(0, low - 1), min(len(span), high + LONGEST + 1))
        if len(places) < 4:
            continue
        seen = [_Corner.of(f, zone, factor, noise) for f in span.frames(places[0], places[-1] + 1)]
        if len(seen) < len(places):
            continue
        change = []
        where = cv2.resize(zone.samples(event.hole).astype(np.float32), seen[0].plane.shape[1::-1], interpolation=cv2.INTER_AREA) > 0.5
        # A mark of a pixel or two may leave nothing of itself on the small picture.
        if not where.any():
            continue
        for one, other in itertools.pairwise(seen):
            forward, _ = _moved(one.look, other.look)
            moved = np.dstack([carried(np.ascontiguousarray(other.plane[..., k]), forward, smooth=False) for k in range(3)])
            change.append(float(np.percentile(_out(one.plane - moved)[where], 85)))
        # It came and went where most is new, a few frames apart.
        at = np.array(change)
        sums = [(at[a] + at[a + n], a, n) for n in range(SHORTEST, LONGEST + 1) for a in range(len(at) - n)]
        for _, a, n in sorted(sums, reverse=True)[:3]:
            mate = weighed(span, places[0] + a + 1, places[0] + a + 1 + n, event.hole, noise)
            if mate is not None and mate.strength > 0.3:
                found.append(mate)
                break
    return found
