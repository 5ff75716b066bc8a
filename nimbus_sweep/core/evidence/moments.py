"""The frames of a shot one after the other, each with those beside it laid on it along the motion of the scene.

One pass over the shot answers once what every detector asks of neighbouring frames. Motion is told twice: from the frames as
they are, and again from frames in which whatever comes and goes for one frame was drawn to what the neighbours hold, so that
it is not disturbed by it. Frames are worked on by all cores at once, a few of them at a time: memory does not grow with the
shot.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence
from concurrent.futures import Future
from dataclasses import dataclass
from functools import cached_property
from threading import Lock
from typing import Any, Generic, Protocol, TypeVar

import cv2
import numpy as np
from numpy.typing import NDArray

from ..base.parallel import Tasks, cores, single_threaded_pictures
from ..imaging.levels import luma, noise_of
from ..imaging.motion import Field, Look, Plane, flow, grid, look, smooth_way
from ..imaging.neighbours import Box, Marks, Neighbour, comes_and_goes, drawn_between, limits
from ..media.frames import Frame
from ..model.findings import Surveyed
from .frames_at_hand import Span, frames_of

Seen = TypeVar("Seen")
# Shorter side of a picture from which it is looked at smaller, that of the smaller picture, and that from which motion is told at half
# the size of what is looked at.
_LARGE, _LOOKED_AT, _HALF = 640, 360, 400
# How far apart frames are laid on one another.
REACH = 2
# Widths that the motion of the scene is smoothed by, in pixels of the picture it is told on; pixels of the picture looked at that are no
# motion; and one row and column in so many tells that.
_SCALES = (10.0, 24.0, 60.0, 160.0)
_STILL, _SPARSE = 0.12, 4
_TO_A_ROW = 1024
# Pixels of room about what comes and goes; of pictures looked at smaller, as many of the frame's as at half its size.
_ROOM = 4


class Pair:
    """The way from a frame to the next, and back.

    Attributes
    ----------
    forward, backward : ndarray, float32, (rows, columns, 2)
        In pixels of the picture motion is told on, x first.
    """

    def __init__(self, forward: Field, backward: Field, looks: tuple[Look, Look], still: float) -> None:
        self.forward, self.backward, self._looks, self._still = forward, backward, looks, still
        self._lock = Lock()
        self._scene: dict[int, Field | None] = {}

    def scene(self, step: int) -> Field | None:
        """The way forward, 1, or back, -1, as the scene goes: small things do not tell it; None for no motion at all."""
        with self._lock:
            if step not in self._scene:
                there, back = (self.forward, self.backward) if step > 0 else (self.backward, self.forward)
                way = smooth_way(there, back, self._looks[0 if step > 0 else 1], _SCALES, 4)
                self._scene[step] = None if way is None or _moves_less(way, self._still) else way
            return self._scene[step]


def _moves_less(way: Field, pixels: float) -> bool:
    """Whether hardly anything of a picture moves farther than that."""
    sparse = way[::_SPARSE, ::_SPARSE]
    return float(np.percentile(np.hypot(sparse[..., 0], sparse[..., 1]), 95)) < pixels


@dataclass(frozen=True)
class _Picture:
    """A frame made ready to be looked at: its light, the picture motion is told on, and how that looks for it."""

    frame: Frame
    light: Plane
    small: Plane
    look: Look


@dataclass(frozen=True)
class _Cleaned:
    """A frame's light without what comes and goes: how it looks for motion, and where something did, if anywhere."""

    look: Look
    marks: Marks | None


class Moment:
    """A frame of a shot, and those about it.

    Attributes
    ----------
    place : int
        Of the frame among those that can be read, from 0.
    frame : Frame
    factor : int
        How many times smaller than the frame `light` is.
    noise : float
        Standard deviation of the noise of `light`, in codes.
    light : ndarray, float32, (height, width)
        Luma in 8-bit codes.
    marked : ndarray, float32, (height, width)
        1 where something comes and goes, by a first look.
    """

    def __init__(self, about: _About, place: int) -> None:
        self._about = about
        self.place = place
        picture = about.pictures[place]
        self.frame, self.light, self.look = picture.frame, picture.light, picture.look
        self.factor, self.noise = about.factor, about.noise
        self._laid_on: dict[int, Neighbour] = {}
        self._ways: dict[int, Field] = {}

    @property
    def offsets(self) -> list[int]:
        """Which frames about it there are: of -2, -1, 1 and 2."""
        return [k for k in range(-REACH, REACH + 1) if k and self.place + k in self._about.cleaned]

    @property
    def beside(self) -> tuple[int, ...]:
        """Offsets of the two frames it is held against: one each side, or two on the one side there is; fewer in a shorter shot."""
        return _beside(self.offsets)

    @property
    def is_one_sided(self) -> bool:
        """Whether those lie on one side alone."""
        return len({k > 0 for k in self.beside}) < 2

    @cached_property
    def marked(self) -> Plane:
        marks = self._about.cleaned[self.place].marks
        return np.zeros_like(self.light) if marks is None else marks.whole

    @cached_property
    def marked_share(self) -> float:
        """Share of it that comes and goes, 0 to 1."""
        marks = self._about.cleaned[self.place].marks
        return 0.0 if marks is None else float(marks.whole.mean())

    def small(self, offset: int = 0) -> Plane:
        """Luma of a frame about it on the picture motion is told on: (rows, columns), float32, in 8-bit codes."""
        return self._about.pictures[self.place + offset].small

    def at(self, offset: int) -> Frame:
        """The frame so far from it."""
        return self._about.pictures[self.place + offset].frame

    def light_of(self, offset: int) -> Plane:
        """Luma of a frame about it: (height, width), float32, in 8-bit codes."""
        return self._about.pictures[self.place + offset].light

    def way(self, offset: int) -> Field:
        """How the scene moves to a frame about it: (rows, columns, 2), in pixels of the picture motion is told on."""
        if offset not in self._ways:
            self._ways[offset] = _way(self._about.pairs, self.place, self.place + offset)
        return self._ways[offset]

    def came(self) -> Field:
        """How the scene moved from the frame before to it; there has to be one."""
        return self._about.pairs[self.place - 1].forward

    def scene_way(self, offset: int, start: int = 0) -> Field | None:
        """How the scene moves to a frame about it, from it or from another such frame, without what small things do; None for not at all."""
        step = 1 if offset > start else -1
        way: Field | None = None
        for k in range(start, offset, step):
            onto = self._about.pairs[self.place + (k if step > 0 else k - 1)].scene(step)
            way = onto if way is None else way if onto is None else onward(way, onto)
        return way

    def light_at(self, offset: int, rows: NDArray[np.int64], cols: NDArray[np.int64]) -> Plane:
        """Luma of a frame about it where the scene of some of its pixels lies in it: (pixels,), in 8-bit codes."""
        way, other = self.way(offset), self._about.pictures[self.place + offset].light
        down, across = other.shape[0] / way.shape[0], other.shape[1] / way.shape[1]
        # As many to a row as the library takes.
        padded = -(-len(rows) // _TO_A_ROW) * _TO_A_ROW
        x, y = (np.resize(at, padded).reshape(-1, _TO_A_ROW).astype(np.float32) for at in (cols, rows))
        moved = cv2.remap(
            way,
            np.float32(1 / across) * (x + 0.5) - np.float32(0.5),
            np.float32(1 / down) * (y + 0.5) - np.float32(0.5),
            cv2.INTER_LINEAR,
            borderMode=cv2.BORDER_REPLICATE,
        )
        x, y = x + moved[..., 0] * np.float32(across), y + moved[..., 1] * np.float32(down)
        return np.asarray(cv2.remap(other, x, y, cv2.INTER_CUBIC, borderMode=cv2.BORDER_REPLICATE).ravel()[: len(rows)])

    def let_go(self) -> None:
        """Drop what was laid on it; it is made again where it is asked for."""
        self._laid_on.clear()

    def neighbour(self, offset: int, box: Box | None = None) -> Neighbour:
        """A frame about it laid on it, or on a part of it."""
        if box is not None and offset in self._laid_on:
            return self._laid_on[offset].part(box)
        if box is None and offset in self._laid_on:
            return self._laid_on[offset]
        other = self.place + offset
        made = Neighbour.along(self.way(offset), self._about.pictures[other].light, self._about.cleaned[other].marks, box)
        if box is None:
            self._laid_on[offset] = made
        return made


@dataclass(frozen=True)
class _About:
    """What is known about a frame when it is looked at: of the frames within reach of it, by their places."""

    pictures: Mapping[int, _Picture]
    cleaned: Mapping[int, _Cleaned]
    pairs: Mapping[int, Pair]
    factor: int
    noise: float


def _beside(offsets: Sequence[int]) -> tuple[int, ...]:
    if -1 in offsets and 1 in offsets:
        return -1, 1
    return tuple(sorted(offsets, key=abs)[:2])


def _way(pairs: Mapping[int, Pair], one: int, other: int) -> Field:
    """The way from a frame to another, over those between them."""
    step = 1 if other > one else -1
    way = pairs[one].forward if step > 0 else pairs[one - 1].backward
    return way if one + step == other else onward(way, _way(pairs, one + step, other))


def onward(way: Field, next_way: Field) -> Field:
    """One way, and another from where it leads to: (rows, columns, 2)."""
    return np.asarray(way + cv2.remap(next_way, grid(way.shape) + way, None, cv2.INTER_LINEAR, borderMode=cv2.BORDER_REPLICATE))


def looked_at_size(height: int, width: int) -> int:
    """How many times smaller a picture is looked at, to be surveyed."""
    shorter = min(height, width)
    return 1 if shorter < _LARGE else max(2, round(shorter / _LOOKED_AT))


def smaller(plane: Plane, factor: int) -> Plane:
    """A picture so many times smaller."""
    if factor == 1:
        return plane
    size = (max(1, plane.shape[1] // factor), max(1, plane.shape[0] // factor))
    return np.asarray(cv2.resize(plane, size, interpolation=cv2.INTER_AREA))


def _told_on(height: int, width: int, factor: int) -> int:
    """How many times smaller than what is looked at, `factor` times smaller than the frame, the picture is that motion is told on."""
    return 2 if factor > 1 or min(height, width) >= _HALF else 1


def noise_at_hand(span: Span, factor: int = 1) -> float:
    """Standard deviation of the noise of a shot's luma, so many times smaller, in codes."""
    return noise_of([smaller(luma(f), factor) for f in frames_of(span)])


def each_moment(
    span: Span, look_at: Callable[[Moment], Seen], factor: int = 1, noise: float | None = None
) -> Iterator[tuple[Moment, Seen]]:
    """Look at every frame of a shot, with those about it.

    Parameters
    ----------
    span : Span
        Of the shot; frames that cannot be read are left out.
    look_at : callable
        Called with each moment, from several threads at once.
    factor : int
        How many times smaller pictures are looked at.
    noise : float
        Standard deviation of the noise at that size, in codes; measured when None.

    Yields
    ------
    Moment, and what was made of it, in order.
    """
    yield from _Pass(span, look_at, factor, noise_at_hand(span, factor) if noise is None else noise).run()


class _Pass(Generic[Seen]):
    """One pass over a shot: what is made of each frame is a task, begun as soon as what it is made of is under way.

    Tasks wait for those they rest on. They are begun in an order in which those come first, so that none waits for one that has
    no core.
    """

    def __init__(self, span: Span, look_at: Callable[[Moment], Seen], factor: int, noise: float) -> None:
        self._span, self._look_at, self._factor, self._noise = span, look_at, factor, noise
        self._half = _told_on(span.source.format.height, span.source.format.width, factor)
        # What misleads the motion told on a large picture is seen at the size it is told on.
        self._coarse = self._half > 1 and factor == 1 and min(span.source.format.height, span.source.format.width) >= _LARGE
        self._still = _STILL / self._half
        self._room = min(_ROOM, max(2, round(2 * _ROOM / factor)))
        self._tasks = Tasks(cores())
        self._pictures: dict[int, Future[_Picture]] = {}
        self._raw: dict[int, Future[Pair]] = {}
        self._cleaned: dict[int, Future[_Cleaned]] = {}
        self._pairs: dict[int, Future[Pair]] = {}
        self._seen: dict[int, Future[tuple[Moment, Seen]]] = {}
        self._next_cleaned = self._next_seen = self._next_given = 0

    def run(self) -> Iterator[tuple[Moment, Seen]]:
        with single_threaded_pictures(), self._tasks:
            count = 0
            for count, frame in enumerate(self._span.frames(), 1):
                self._pictures[count - 1] = self._tasks.begin(self._picture, frame)
                if count > 1:
                    self._raw[count - 2] = self._tasks.begin(self._pair, self._pictures[count - 2], self._pictures[count - 1])
                # A frame at the end is held against two on its one side.
                self._begin(count, cleaned=0 if count < 3 else count - 1)
                yield from self._given(waiting=cores() + 2)
            self._begin(count, cleaned=count, ended=True)
            yield from self._given(waiting=0)

    def _begin(self, count: int, cleaned: int, ended: bool = False) -> None:
        """Begin what can be begun once so many frames are there, and so many can be cleaned."""
        while self._next_cleaned < cleaned:
            n = self._next_cleaned
            near = {k: self._raw[k] for k in range(n - REACH, n + REACH) if k in self._raw}
            self._cleaned[n] = self._tasks.begin(self._clean, n, {k: self._pictures[k] for k in self._within(n, count)}, near)
            if n:
                self._pairs[n - 1] = self._tasks.begin(self._clean_pair, self._cleaned[n - 1], self._cleaned[n])
            self._next_cleaned += 1
        while self._next_seen < (cleaned if ended else cleaned - REACH):
            n = self._next_seen
            within = self._within(n, count)
            self._seen[n] = self._tasks.begin(
                self._look,
                n,
                {k: self._pictures[k] for k in within},
                {k: self._cleaned[k] for k in within},
                {k: self._pairs[k] for k in within if k in self._pairs and k + 1 in within},
            )
            self._next_seen += 1

    def _within(self, n: int, count: int) -> range:
        return range(max(0, n - REACH), min(count, n + REACH + 1))

    def _given(self, waiting: int) -> Iterator[tuple[Moment, Seen]]:
        """Give what is done, until no more than so many are under way; what nobody asks for any more is dropped."""
        while len(self._seen) > waiting:
            yield self._seen.pop(self._next_given).result()
            self._next_given += 1
            for held in (self._pictures, self._raw, self._cleaned, self._pairs):
                held.pop(self._next_given - REACH - 2, None)

    # -- tasks ----------------------------------------------------------------------------------------------------

    def _picture(self, frame: Frame) -> _Picture:
        light = smaller(luma(frame), self._factor)
        small = smaller(light, self._half)
        return _Picture(frame, light, small, look(small, self._noise / self._half))

    def _pair(self, one: Future[_Picture], other: Future[_Picture]) -> Pair:
        mine, theirs = one.result().look.gray, other.result().look.gray
        # Only what comes and goes is told by it; what is cleaned of that tells motion better.
        return Pair(flow(mine, theirs, rough=True), flow(theirs, mine, rough=True), (one.result().look, other.result().look), self._still)

    def _clean(self, n: int, pictures: Mapping[int, Future[_Picture]], raw: Mapping[int, Future[Pair]]) -> _Cleaned:
        here = pictures[n].result()
        beside = _beside([k - n for k in pictures if k != n])
        if len(beside) < 2:
            return _Cleaned(here.look, None)
        pairs = {k: pair.result() for k, pair in raw.items()}
        lights = {k: pictures[n + k].result().small if self._coarse else pictures[n + k].result().light for k in (0, *beside)}
        less = self._half if self._coarse else 1
        light, (one, other) = lights[0], (Neighbour.along(_way(pairs, n, n + k), lights[k]) for k in beside)
        marked = comes_and_goes(light, one, other, self._noise / less, max(1, self._room // less))
        if marked is None:
            return _Cleaned(here.look, None)
        drawn = drawn_between(light, one.light, other.light, limits(one, other), marked)
        whole = marked if less == 1 else cv2.resize(marked, here.light.shape[::-1], interpolation=cv2.INTER_NEAREST)
        return _Cleaned(look(smaller(drawn, self._half // less), self._noise / self._half), Marks(whole))

    def _clean_pair(self, one: Future[_Cleaned], other: Future[_Cleaned]) -> Pair:
        mine, theirs = one.result(), other.result()
        looks = (mine.look, theirs.look)
        return Pair(flow(looks[0].gray, looks[1].gray), flow(looks[1].gray, looks[0].gray), looks, self._still)

    def _look(
        self, n: int, pictures: Mapping[int, Future[_Picture]], cleaned: Mapping[int, Future[_Cleaned]], pairs: Mapping[int, Future[Pair]]
    ) -> tuple[Moment, Seen]:
        about = _About(
            {k: one.result() for k, one in pictures.items()},
            {k: one.result() for k, one in cleaned.items()},
            {k: one.result() for k, one in pairs.items()},
            self._factor,
            self._noise,
        )
        moment = Moment(about, n)
        seen = self._look_at(moment)
        # What waits to be given holds no pictures that were made for it alone.
        moment.let_go()
        return moment, seen


class Watch(Protocol):
    """A detector that looks at one frame after the other, with those about it."""

    def look(self, at: Moment) -> Any:
        """What is seen in a frame; called from several threads at once."""
        ...

    def take(self, at: Moment, seen: Any) -> None:
        """Take in what was seen in a frame; called in order."""
        ...

    def finish(self, on_progress: Callable[[float], None]) -> Surveyed:
        """What was found, after the last frame; tells the share done of what that takes, and may be stopped by it."""
        ...


def watched(span: Span, watch: Watch, on_progress: Callable[[float], None] | None = None) -> Surveyed:
    """What one detector finds in a shot."""
    layout = span.source.format
    for done, (moment, seen) in enumerate(each_moment(span, watch.look, looked_at_size(layout.height, layout.width)), 1):
        watch.take(moment, seen)
        if on_progress:
            on_progress(min(1.0, done / len(span)))
    return watch.finish(lambda share: None)
