"""Threads: lines of one sign that go on from frame to frame."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from functools import cached_property

import numpy as np

from .lines import Array
from .sightings import Sighting

# Pixels a line may move across from a frame to the next; frames it may be lost for, and those after which it may go on.
WANDER, _LOST, _GAP = 4.0, 3, 12
# Frames in which a line and what it goes on as may both be seen.
_BOTH = 6
# Widths of a line within which another is its shoulder.
_SHOULDER = 6.0
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
        """The lines of the next frame."""
        near = sorted((thread.seen[-1].line.apart(seen.line), t, n) for t, thread in enumerate(self._open) for n, seen in enumerate(found))
        threads: set[int] = set()
        taken: set[int] = set()
        for far, t, n in near:
            if far > WANDER:
                break
            if t not in threads and n not in taken:
                self._open[t].frames.append(place)
                self._open[t].seen.append(found[n])
                threads.add(t)
                taken.add(n)
        self._closed += [t for t in self._open if place - t.frames[-1] >= _LOST]
        self._open = [t for t in self._open if place - t.frames[-1] < _LOST]
        self._open += [Thread([place], [seen]) for n, seen in enumerate(found) if n not in taken]

    def threads(self) -> list[Thread]:
        """What lasted."""
        joined = _joined([*self._closed, *self._open])
        return [t for t in joined if len(t.frames) >= max(_LASTS, _SEEN * t.life)]


def _joined(threads: list[Thread]) -> list[Thread]:
    """Threads that go on where others were lost, as one."""
    joined: list[Thread] = []
    for thread in sorted(threads, key=lambda t: t.frames[0]):
        line = thread.seen[0].line
        before = [
            (other.seen[-1].line.apart(line), n)
            for n, other in enumerate(joined)
            if -_BOTH <= thread.frames[0] - other.frames[-1] <= _GAP
            and len(other.frames) >= _BEFORE
            and thread.frames[-1] > other.frames[-1]
        ]
        if before and min(before)[0] <= 1.5 * WANDER:
            nearest = joined[min(before)[1]]
            # For some frames both may be seen.
            later = sum(n <= nearest.frames[-1] for n in thread.frames)
            nearest.frames.extend(thread.frames[later:])
            nearest.seen.extend(thread.seen[later:])
        else:
            joined.append(Thread(list(thread.frames), list(thread.seen)))
    return joined
