"""Cue marks as findings: each mark with the frames it is in, and the other of its pair."""

from __future__ import annotations

from collections.abc import Callable

import cv2
import numpy as np

from ...evidence.frames_at_hand import Span, frames_of
from ...imaging.levels import luma, noise_of
from ...imaging.outlines import line_round, outline_of
from ...model.findings import Finding, Surveyed
from ...model.regions import Masked
from ...model.shapes import Shape
from .events import SHORTEST, Cue, events, paired
from .evidence import CueEvidence


def surveyed(
    span: Span, first: int, stop: int, on_progress: Callable[[float], None] | None = None, hold_out: Masked | None = None
) -> Surveyed:
    """Look for cue marks in the upper corners of a shot.

    Parameters
    ----------
    span : Span
        Of the shot.
    first, stop : int
        The shot's frames.
    on_progress : callable
        Told the share done, 0 to 1; may raise to stop.
    hold_out : Region
        Where nothing is looked for.
    """
    if len(span) < SHORTEST + 2:
        return Surveyed([])
    noise = noise_of([luma(f) for f in frames_of(span)])
    cues = paired(events(span, noise, on_progress, hold_out))
    return Surveyed([_finding(span, cue) for cue in sorted(cues, key=lambda c: -c.sure)])


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
    numbers = span.numbers[event.first : event.stop].tolist()
    begin, end = numbers[0], numbers[-1]
    x, y, width, height = event.box()
    partner = int(span.numbers[cue.partner]) if cue.partner >= 0 else None
    evidence = CueEvidence(
        outline=tuple((px, py) for px, py in outline_of(event.hole)),
        frames=tuple(numbers),
        right=x > span.source.format.width / 2,
        contrast=round(event.contrast, 1),
        ratio=round(event.ratio, 1),
        alike=round(event.alike, 3),
        partner=partner,
        apart=0 if partner is None else abs(cue.partner - event.first) - len(numbers),
    )
    return Finding(
        kind="cue-mark",
        step="cue-lift",
        x=x,
        y=y,
        width=width,
        height=height,
        first=begin,
        stop=end + 1,
        confidence=round(cue.sure, 2),
        evidence=evidence,
    )
