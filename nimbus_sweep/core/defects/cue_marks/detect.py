"""Cue marks as findings: each mark with the frames it is in, and the other of its pair."""

from __future__ import annotations

from collections.abc import Callable

import cv2
import numpy as np

from ...evidence.frames_at_hand import Span, frames_of
from ...imaging.levels import luma, noise_of
from ...imaging.outlines import line_round, outline_of
from ...regions import Masked, Shape
from ...survey.findings import CONVINCES, Finding, Surveyed
from .events import SHORTEST, Cue, events, paired


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
    sentence = f"Drawn by hand in frame {frame}. Its other frames, and the other of its pair, are found when Cue lift learns it."
    told = {"outline": line, "frames": [frame], "partner": None}
    return Finding("cue-mark", "cue-lift", x, y, width, height, frame, frame + 1, 1.0, "Cue mark", sentence, told, by_hand=True)


def _finding(span: Span, cue: Cue) -> Finding:
    event = cue.event
    numbers = span.numbers[event.first : event.stop].tolist()
    begin, end = numbers[0], numbers[-1]
    x, y, width, height = event.box()
    many = len(numbers)
    sentence = (
        f"Sits in the upper {'right' if x > span.source.format.width / 2 else 'left'} corner in {many} frames, {begin} to {end}, and is not "
        f"there before and behind. It stands out by {event.contrast:.0f} codes, {event.ratio:.0f} times what the same fill leaves of clean frames. "
    )
    if cue.partner >= 0:
        other = int(span.numbers[cue.partner])
        clear = abs(cue.partner - event.first) - many
        sentence += f"The other of the pair begins at frame {other}, {clear} clear frames {'later' if other > begin else 'before'}."
    elif cue.sure >= CONVINCES:
        sentence += "No other of a pair is in this shot; it may lie in the next."
    else:
        sentence += "No other of a pair is in this shot: it may be a lamp or a glint of the scene."
    told = {
        "outline": outline_of(event.hole),
        "frames": numbers,
        "contrast": round(event.contrast, 1),
        "ratio": round(event.ratio, 1),
        "alike": round(event.alike, 3),
        "partner": int(span.numbers[cue.partner]) if cue.partner >= 0 else None,
    }
    return Finding("cue-mark", "cue-lift", x, y, width, height, begin, end + 1, round(cue.sure, 2), "Cue mark", sentence, told)
