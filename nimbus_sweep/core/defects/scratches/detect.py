"""Scratches as findings: every frame of a shot is read once, lines are followed through it, and what they do is measured."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from numpy.typing import NDArray

from ...evidence.frames_at_hand import Span
from ...evidence.moments import Moment
from ...imaging.levels import luma
from ...imaging.motion import Plane
from ...media.frames import Frame
from ...model.findings import Finding, Surveyed
from ...model.regions import Masked
from .evidence import ScratchEvidence
from .profiles import HIDES, Profile, line_ends, measured, sureness
from .threads import Line, Scores, Thread, ThreadFollower, band_means, lines, moved, scores

# Frames a scratch is measured in, and places of its way that are kept.
_MEASURED, _KEPT = 10, 200


class ScratchWatch:
    """Looks for scratches in every frame of a shot.

    Parameters
    ----------
    span : Span
        Of the shot.
    hold_out : Region
        What is not to be looked at: a line most of which lies there is none.
    """

    def __init__(self, span: Span, hold_out: Masked | None = None) -> None:
        self._span, self._hold_out = span, hold_out
        self._size = (span.source.format.height, span.source.format.width)
        self._followers = {bright: ThreadFollower(bright) for bright in (True, False)}
        self._moves: list[Plane] = []
        self._numbers: list[int] = []

    def look(self, at: Moment) -> tuple[dict[bool, list[Line]], Plane | None]:
        """The lines of a frame, and how the scene came to it; called from several threads at once."""
        scored = scores(_means_of(at.frame))
        came = moved(at.came(), self._size[1]) if -1 in at.offsets else None
        return {bright: lines(scored, bright) for bright in (True, False)}, came

    def take(self, at: Moment, seen: tuple[dict[bool, list[Line]], Plane | None]) -> None:
        """Take in what was seen in the next frame."""
        found, came = seen
        number = at.frame.number
        if came is not None:
            self._moves.append(came)
        self._numbers.append(number)
        for bright, own in found.items():
            kept = own if self._hold_out is None else [n for n in own if not _held(n, self._hold_out, *self._size, number)]
            self._followers[bright].add(at.place, kept)

    def finish(self, on_progress: Callable[[float], None]) -> Surveyed:
        """The scratches, surest first."""
        height, width = self._size
        if len(self._numbers) < 3:
            return Surveyed([])
        findings = []
        threads = [t for follower in self._followers.values() for t in follower.threads(self._moves, width)]
        for done, thread in enumerate(threads):
            on_progress(done / len(threads))
            profile = _measure(self._span, self._numbers, thread) if thread.may_be_a_scratch else None
            sure = sureness(thread, profile, len(self._span)) if profile is not None else 0.0
            if profile is not None and sure:
                findings.append(_finding(thread, profile, sure, self._numbers, height, width))
        return Surveyed(sorted(findings, key=lambda f: -f.confidence))


def _means_of(frame: Frame) -> NDArray[np.float32]:
    """Means of the bands of its luma, in 8-bit codes."""
    first = frame.format.components[0]
    if first.name == "Y":
        return np.asarray(band_means(frame.component(0)) / np.float32(first.code))
    return np.asarray(band_means(luma(frame)))


def _held(line: Line, hold_out: Masked, height: int, width: int, frame: int) -> bool:
    mask = hold_out.mask((height, width), frame)
    rows = ((np.arange(len(line.xs)) + 0.5) * height / len(line.xs)).astype(int)
    return bool((mask[rows, np.clip(line.xs.astype(int), 0, width - 1)] > 0).mean() > 0.5)


def _measure(span: Span, numbers: list[int], thread: Thread) -> Profile | None:
    places = np.unique(np.linspace(0, len(thread.frames) - 1, min(_MEASURED, len(thread.frames))).round().astype(int))
    samples: list[tuple[Plane, Scores, np.ndarray]] = []
    for k in places:
        number = numbers[thread.frames[k]]
        light = luma(span.source.frame(number))
        samples.append((light, scores(band_means(light)), thread.xs[k]))
    return measured(samples, thread.bright)


def _finding(thread: Thread, profile: Profile, sure: float, numbers: list[int], height: int, width: int) -> Finding:
    keep = np.unique(np.linspace(0, len(thread.frames) - 1, min(_KEPT, len(thread.frames))).round().astype(int))
    track = [[numbers[thread.frames[k]], *(round(v, 2) for v in line_ends(thread.xs[k], height))] for k in keep]
    ends = np.array([t[1:] for t in track])
    left, right = int(max(0, np.floor(ends.min() - 2))), int(min(width, np.ceil(ends.max() + 3)))
    begin, end = numbers[thread.frames[0]], numbers[thread.frames[-1]]
    lean = abs(ends[:, 1] - ends[:, 0]).mean()
    wander = float(np.ptp(ends.mean(1)))
    evidence = ScratchEvidence(
        track=tuple((int(n), float(top), float(bottom)) for n, top, bottom in track),
        bright=thread.bright,
        seen=len(thread.frames),
        width=round(profile.width, 3),
        cover=round(profile.cover, 4),
        hides=profile.cover >= HIDES,
        there=round(profile.there, 3),
        level=round(profile.level, 2),
        doubt=round(profile.doubt, 3),
        lean=round(float(lean), 1),
        wander=round(wander, 1),
        travel=round(thread.travel, 1),
        proven=thread.proven,
    )
    return Finding(
        kind="scratch",
        step="line-lift",
        x=left,
        y=0,
        width=right - left,
        height=height,
        first=begin,
        stop=end + 1,
        confidence=round(sure, 2),
        evidence=evidence,
    )
