"""Threads: lines of one sign that go on from frame to frame."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from functools import cached_property

import numpy as np
from scipy.optimize import linear_sum_assignment

from .lines import BANDS, Array
from .sightings import Sighting

# Pixels a line may move across from a frame to the next; frames it may be lost for, and those after which it may go on.
_WANDER, _LOST, _GAP = 3.0, 3, 12
# How unlike a thread a line may be that goes on with it, see `_unlike`, after a frame and after a gap; frames its usual looks are told from.
_UNLIKE, _UNLIKE_LATER, _USUAL = 1.6, 1.2, 9
# How much its rows weigh in that, and what of its height is seen at its own place in the frame beside, at least, if it goes on there.
_ROWS, _SHOWS = 0.5, 0.8
# Frames in which a line and what it goes on as may both be seen.
_BOTH = 6
# More than any that is allowed.
_NEVER = 99.0
# Widths of a line within which another is its shoulder.
_SHOULDER = 6.0
# Frames in which an end lies within the picture, and bands that the scene climbs or sinks meanwhile, from which it is told whether it goes
# along; how much less it moves against the scene then than on the picture.
_ENDS, _CLIMBS, _WITH = 8, 1.5, 1.25
# Frames it is seen in at least, and before it may go on after a gap; share of its life that it has to be seen in.
_LASTS, _BEFORE, _SEEN = 4, 3, 0.35


@dataclass(frozen=True)
class Thread:
    """A line through time.

    Attributes
    ----------
    frames : list of int
        Places of the frames it was seen in.
    seen : list of Sighting
        What it looks like there.
    """

    frames: list[int]
    seen: list[Sighting]

    @property
    def bright(self) -> bool:
        """Whether it is lighter than what is beside it."""
        return self.seen[0].line.bright

    @property
    def life(self) -> int:
        """Frames from the first to the last."""
        return self.frames[-1] - self.frames[0] + 1

    @cached_property
    def rows(self) -> tuple[int, int]:
        """First row it is seen in, and the row after the last: of most of its frames."""
        return int(np.median([s.line.first for s in self.seen])), int(np.median([s.line.stop for s in self.seen]))

    def usual(self) -> tuple[float, float, float]:
        """Log of its height, first row and the row after its last, of its last frames."""
        last = self.seen[-_USUAL:]
        told = [(np.log(s.height), s.line.first, s.line.stop) for s in last]
        height, first, stop = (float(np.median(one)) for one in zip(*told, strict=True))
        return height, first, stop

    @cached_property
    def own(self) -> Array:
        """Pixels it moves across from each frame it is seen in to the next, a frame: (frames - 1,)."""
        steps = []
        for k in range(1, len(self.seen)):
            before, after = self.seen[k - 1].line, self.seen[k].line
            row = (max(before.first, after.first) + min(before.stop, after.stop) - 1) / 2
            steps.append((after.at(row) - before.at(row)) / (self.frames[k] - self.frames[k - 1]))
        return np.array(steps)

    @cached_property
    def scene(self) -> Array:
        """Pixels the scene moves across where it lies, a frame, at each of the same times: (frames - 1,)."""
        return np.array([-s.goes.get(-1, 0.0) for s in self.seen[1:]])

    @cached_property
    def travel(self) -> float:
        """How far the scene moves behind it, in pixels."""
        gaps = np.diff(self.frames)
        return float(np.ptp(np.concatenate([[0.0], np.cumsum((self.own - self.scene) * gaps)])))

    def ends_with_scene(self, height: int) -> bool:
        """Whether it ends where the scene has it end: as that goes up or down, so does an end within the picture, and none stays."""
        band = height / BANDS
        sinks = np.array([-s.sinks.get(-1, 0.0) for s in self.seen[1:]])
        way = np.concatenate([[0.0], np.cumsum(sinks * np.diff(self.frames))])
        ends = np.array([(s.line.first, s.line.stop) for s in self.seen], np.float64)
        told = []
        for end, within in ((ends[:, 0], ends[:, 0] > band), (ends[:, 1], ends[:, 1] < height - band)):
            if within.sum() >= _ENDS and np.ptp(way[within]) >= _CLIMBS * band:
                told.append(end[within].std() > _WITH * (end - way)[within].std())
        return bool(told) and all(told)

    def lies_beside(self, other: Thread) -> bool:
        """Whether it is another line once more, or its shoulder, as what is light makes what is beside it look dark: in most of its frames."""
        room = _SHOULDER * float(np.median([s.width for s in other.seen]))
        # Where the other was lost for some frames, it is taken to be where it was seen next.
        places = np.clip(np.searchsorted(other.frames, self.frames), 0, len(other.frames) - 1)
        near = [
            other.frames[0] <= n <= other.frames[-1] and other.seen[k].line.apart(s.line) <= room
            for n, k, s in zip(self.frames, places.tolist(), self.seen, strict=True)
        ]
        return float(np.mean(near)) > 0.5


class ThreadFollower:
    """Follows lines of one sign from frame to frame."""

    def __init__(self) -> None:
        self._open: list[Thread] = []
        self._closed: list[Thread] = []

    def add(self, place: int, found: Sequence[Sighting]) -> None:
        """The lines of the next frame: as many as can be go on with the threads that they are most like."""
        taken: set[int] = set()
        if self._open and found:
            usual = [thread.usual() for thread in self._open]
            unlike = np.array([[_unlike(t, told, place, seen) for seen in found] for t, told in zip(self._open, usual, strict=True)])
            allowed = unlike <= _UNLIKE
            threads, lines = linear_sum_assignment(np.where(allowed, unlike, _NEVER))
            for t, n in zip(threads.tolist(), lines.tolist(), strict=True):
                if allowed[t, n]:
                    self._open[t].frames.append(place)
                    self._open[t].seen.append(found[n])
                    taken.add(n)
        self._closed += [t for t in self._open if place - t.frames[-1] >= _LOST]
        self._open = [t for t in self._open if place - t.frames[-1] < _LOST]
        self._open += [Thread([place], [seen]) for n, seen in enumerate(found) if n not in taken]

    def threads(self) -> list[Thread]:
        """What lasted."""
        joined = _joined([*self._closed, *self._open])
        return [t for t in joined if len(t.frames) >= max(_LASTS, _SEEN * t.life)]


def _unlike(thread: Thread, usual: tuple[float, float, float], place: int, seen: Sighting) -> float:
    """How unlike a line is to a thread that it may go on with: infinite where it is too far off.

    Of a scratch that begins or ends the frame beside shows nothing at its place, whatever else passes there.
    """
    return _away(thread, usual, seen) + (_ended(thread, seen) if thread.frames[-1] == place - 1 else 0.0)


def _ended(thread: Thread, seen: Sighting) -> float:
    """How far the frames beside them tell that a thread ended, or that a line begins: 0 where its place shows it there, too."""
    shown = seen.in_place.get(-1, 1.0), thread.seen[-1].in_place.get(1, 1.0)
    return sum(max(0.0, _SHOWS - part) for part in shown)


def _away(thread: Thread, usual: tuple[float, float, float], seen: Sighting, farther: float = 1.0) -> float:
    """How far a line is from a thread in place, height and rows."""
    across = thread.seen[-1].line.apart(seen.line)
    if across > farther * _WANDER:
        return np.inf
    height, first, stop = usual
    shared = max(0.0, min(stop, seen.line.stop) - max(first, seen.line.first)) / (max(stop, seen.line.stop) - min(first, seen.line.first))
    return float(across / _WANDER + abs(np.log(seen.height) - height) + _ROWS * (1 - shared))


def _joined(threads: list[Thread]) -> list[Thread]:
    """Threads that go on where others were lost, as one."""
    joined: list[Thread] = []
    for thread in sorted(threads, key=lambda t: t.frames[0]):
        before = [
            (_away(other, other.usual(), thread.seen[0], 1.5) + _ended(other, thread.seen[0]), n)
            for n, other in enumerate(joined)
            if -_BOTH <= thread.frames[0] - other.frames[-1] <= _GAP
            and len(other.frames) >= _BEFORE
            and thread.frames[-1] > other.frames[-1]
        ]
        if before and min(before)[0] <= _UNLIKE_LATER:
            nearest = joined[min(before)[1]]
            # For some frames both may be seen.
            later = sum(n <= nearest.frames[-1] for n in thread.frames)
            nearest.frames.extend(thread.frames[later:])
            nearest.seen.extend(thread.seen[later:])
        else:
            joined.append(Thread(list(thread.frames), list(thread.seen)))
    return joined
