"""Things that cross: what goes on at a steady pace through three frames or more of a shot is told of.

It is named, never suggested: only the user knows whether a bird belongs to the picture.
"""

from __future__ import annotations

from collections import deque
from collections.abc import Callable, Iterator
from dataclasses import dataclass

import numpy as np

from ...evidence.frames_at_hand import Span
from ...evidence.moments import Moment
from ...model.findings import Finding, Surveyed
from ...model.regions import Masked
from .evidence import CrossingEvidence
from .passing import Passed, passed_in

# Shortest shot that is looked at.
_FRAMES = 7
# How far a step may differ from the one before, as a share of it, in its own size and in pixels.
_STEADY, _OWN, _GIVE = 0.35, 0.8, 3.0
# Least step in its own size, and largest as a share of the picture's width: dirt that chance lines up lies further apart.
_CLEAR, _FARTHEST = 0.6, 0.12
# How many times longer than wide a piece of a scratch is, and nothing that crosses.
_THIN = 3.5
# How much larger one may be than the next.
_GROWS = 2.5
# What is added for each that is found, of as many frames, and for each frame that one goes on for. Chosen on three open clips, sound ones
# and with flocks; of three others none that was sound convinced, and all six flocks did.
_EACH, _OF, _LONGER = 0.1, 10, 0.05
_SHOWN = 40


@dataclass(frozen=True)
class _Crossing:
    """Something that crosses, in a frame.

    Attributes
    ----------
    frame : int
    one : Passed
    pace : float
        In pixels of the picture looked at, a frame.
    long : int
        For how many frames it was followed at that pace, so far.
    """

    frame: int
    one: Passed
    pace: float
    long: int


class CrossingWatch:
    """Looks for things that cross in every frame of a shot.

    Parameters
    ----------
    span : Span
        Of the shot.
    first, stop : int
        The shot's frames.
    hold_out : Region
        Where nothing is looked for.
    """

    def __init__(self, span: Span, first: int, stop: int, hold_out: Masked | None = None) -> None:
        self._first, self._stop, self._hold_out = first, stop, hold_out
        self._short = len(span) < _FRAMES
        self._size = (span.source.format.height, span.source.format.width)
        # What passed in the last frames, with the frames' numbers.
        self._passed: deque[tuple[int, list[Passed]]] = deque(maxlen=3)
        self._going: dict[int, int] = {}
        self._found: list[_Crossing] = []
        self._factor, self._looked = 1.0, 0

    def look(self, at: Moment) -> list[Passed]:
        """What passed in a frame; called from several threads at once."""
        return [] if self._short or len(at.offsets) < 4 else passed_in(at)

    def take(self, at: Moment, seen: list[Passed]) -> None:
        """Take in what passed in the next frame."""
        self._factor = self._size[1] / at.small().shape[1]
        self._passed.append((at.frame.number, seen))
        if len(self._passed) < 3:
            return
        self._looked += 1
        (_, before), (number, here), (_, behind) = self._passed
        if not (before and here and behind):
            self._going = {}
            return
        held = None if self._hold_out is None else self._hold_out.mask(self._size, number)
        going: dict[int, int] = {}
        for one, next_one, pace in _chains(before, here, behind, _FARTHEST * self._size[1] / self._factor):
            x, y = (int(v * self._factor) for v in one.middle)
            if held is None or held[min(y, self._size[0] - 1), min(x, self._size[1] - 1)] < 0.5:
                going[id(next_one)] = long = self._going.get(id(one), 0) + 1
                self._found.append(_Crossing(number, one, pace, long))
        self._going = going

    def finish(self, on_progress: Callable[[float], None]) -> Surveyed:
        """All that crosses, as one finding, if anything does."""
        return Surveyed([self._finding()] if self._found else [])

    def _finding(self) -> Finding:
        found, factor = self._found, self._factor
        frames = {f.frame for f in found}
        pace = factor * float(np.median([f.pace for f in found]))
        dark = sum(f.one.contrast < 0 for f in found)
        keeps = "lighter" if dark > 0.8 * len(found) else "darker" if dark < 0.2 * len(found) else "middle"
        largest = sorted(found, key=lambda f: -int(f.one.mask.sum()))[:_SHOWN]
        places = [(f.frame, int(factor * f.one.middle[0]), int(factor * f.one.middle[1]), 1.0) for f in largest]
        evidence = CrossingEvidence(
            places=tuple(places), seen=len(found), frames_seen=len(frames), looked=self._looked, dark=dark, pace=round(pace, 1), keeps=keeps
        )
        # Chance lines up three now and then: many among few frames tell, and one that goes on.
        usual, longest = len(found) * min(1.0, _OF / self._looked), max(f.long for f in found)
        sure = min(0.9, 0.25 + _EACH * usual + _LONGER * (longest - 1))
        return Finding.of_picture("transient", "fleeting", self._size, (self._first, self._stop), sure, evidence)


def _chains(before: list[Passed], here: list[Passed], behind: list[Passed], farthest: float) -> Iterator[tuple[Passed, Passed, float]]:
    """What goes on at a steady pace through three frames, clear of itself: in the second and in the third; and its pace, in pixels a frame."""
    for one in here:
        if max(one.mask.shape) > _THIN * min(one.mask.shape):
            continue
        for a in before:
            step = np.subtract(one.middle, a.middle)
            pace = float(np.hypot(*step))
            if (a.contrast > 0) != (one.contrast > 0) or not _CLEAR * one.size <= pace <= farthest or _unlike(a, one):
                continue
            mates = (b for b in behind if (b.contrast > 0) == (one.contrast > 0) and not _unlike(one, b))
            give = min(_STEADY * pace, _OWN * one.size) + _GIVE
            goes_on = next((b for b in mates if np.hypot(*(np.subtract(b.middle, one.middle) - step)) < give), None)
            if goes_on is not None:
                yield one, goes_on, pace
                break


def _unlike(one: Passed, other: Passed) -> bool:
    a, b = sorted((int(one.mask.sum()), int(other.mask.sum())))
    return b > _GROWS * a
