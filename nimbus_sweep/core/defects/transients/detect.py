"""Things that cross: what goes on at a steady pace through three frames or more of a shot is told of.

It is named, never suggested: only the user knows whether a bird belongs to the picture.
"""

from __future__ import annotations

from collections import deque
from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from ...evidence.frames_at_hand import Span
from ...evidence.moments import Moment
from ...model.findings import Finding, Surveyed
from ...model.regions import Masked
from .evidence import CrossingEvidence
from .passing import Passed, passed_in
from .paths import steady

# Shortest shot that is looked at.
_FRAMES = 7
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
        for _, one, next_one, pace in steady(before, here, behind, round(self._size[1] / self._factor)):
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
