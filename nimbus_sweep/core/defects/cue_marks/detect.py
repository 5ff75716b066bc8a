"""Cue marks as findings: each mark with the frames it is in, and the other of its pair."""

from __future__ import annotations

from collections.abc import Callable

import cv2
import numpy as np

from ...evidence.frames_at_hand import Span
from ...evidence.moments import Moment
from ...imaging.outlines import line_round, outline_of
from ...model.findings import Finding, Surveyed
from ...model.regions import Masked
from ...model.shapes import Shape
from .events import Change, EventFinder
from .evidence import CueEvidence
from .pairing import Cue, paired


class CueWatch:
    """Looks for cue marks in the upper corners of a shot.

    Parameters
    ----------
    span : Span
        Of the shot.
    noise : float
        Standard deviation of its luma, in codes.
    hold_out : Region
        Where nothing is looked for.
    """

    def __init__(self, span: Span, noise: float, hold_out: Masked | None = None) -> None:
        self._span, self._events = span, EventFinder(span.source.format, noise, hold_out)
        self._numbers: list[int] = []

    def look(self, at: Moment) -> list[Change] | None:
        """What comes and goes in the corners with a frame; called from several threads at once."""
        return self._events.compared(at) if -1 in at.offsets else None

    def take(self, at: Moment, seen: list[Change] | None) -> None:
        """Take in what came and went with the next frame."""
        self._numbers.append(at.frame.number)
        if seen is not None:
            self._events.add(at.place, at.frame.number, seen)

    def finish(self, on_progress: Callable[[float], None]) -> Surveyed:
        """The marks, surest first."""
        if len(self._numbers) < 3:
            return Surveyed([])
        # Frames that could not be read after all have no place among those that were.
        read = Span(self._span.source, np.array(self._numbers, np.int64))
        return Surveyed([_finding(read, cue) for cue in sorted(paired(self._events.finish(read, on_progress)), key=lambda c: -c.sure)])


def drawn_by_hand(shape: Shape, size: tuple[int, int], frame: int) -> Finding:
    """A cue mark that the user drew a line round in one frame; the others are found when the step learns it.

    Parameters
    ----------
    shape : Shape
        Of a region.
    size : tuple of int
        Height and width of the picture.
    frame : int
        That shows the mark.

    Raises
    ------
    SweepError
        If nothing of it lies on the picture.
    """
    line = line_round(shape, size)
    x, y, width, height = cv2.boundingRect(np.array(line, np.int32))
    evidence = CueEvidence(outline=tuple((px, py) for px, py in line), frames=(frame,))
    return Finding(
        kind="cue-mark",
        step="cue-lift",
        x=x,
        y=y,
        width=width,
        height=height,
        first=frame,
        stop=frame + 1,
        confidence=1.0,
        evidence=evidence,
        by_hand=True,
    )


def _finding(span: Span, cue: Cue) -> Finding:
    event = cue.event
    # Frames that repeat others show it, too.
    begin, stop = int(span.numbers[event.first]), int(span.numbers[event.stop])
    x, y, width, height = event.box()
    partner = int(span.numbers[cue.partner]) if cue.partner >= 0 else None
    evidence = CueEvidence(
        outline=tuple((px, py) for px, py in outline_of(event.hole)),
        frames=tuple(range(begin, stop)),
        right=x > span.source.format.width / 2,
        contrast=round(event.contrast, 1),
        ratio=round(event.ratio, 1),
        alike=round(event.alike, 3),
        partner=partner,
        apart=0 if partner is None else abs(cue.partner - event.first) - (event.stop - event.first),
    )
    return Finding(
        kind="cue-mark",
        step="cue-lift",
        x=x,
        y=y,
        width=width,
        height=height,
        first=begin,
        stop=stop,
        confidence=round(cue.sure, 2),
        evidence=evidence,
    )
