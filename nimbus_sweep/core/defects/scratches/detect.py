"""Scratches as findings: every frame of a shot is read once, lines are followed through it, and what they do is measured."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np

from ...base.parallel import buffered_map
from ...evidence.frames_at_hand import Span
from ...imaging.levels import luma, noise_of
from ...imaging.motion import Gray, Plane
from ...model.findings import Finding, Surveyed
from ...model.regions import Masked
from .evidence import ScratchEvidence
from .profiles import HIDES, Profile, line_ends, measured, sureness
from .threads import Line, Scores, Thread, ThreadFollower, lines, moved, ready, scores

# Frames a scratch is measured in, and places of its way that are kept.
_MEASURED, _KEPT = 10, 200


def surveyed(
    span: Span, first: int, stop: int, on_progress: Callable[[float], None] | None = None, hold_out: Masked | None = None
) -> Surveyed:
    """Look for scratches in a shot.

    Parameters
    ----------
    span : Span
        Of the shot.
    first, stop : int
        The shot's frames.
    on_progress : callable
        Told the share done, 0 to 1; may raise to stop.
    hold_out : Region
        What is not to be looked at: a line most of which lies there is none.
    """
    if len(span) < 3:
        return Surveyed([])
    layout = span.source.format
    followers = {bright: ThreadFollower(bright) for bright in (True, False)}
    moves: list[Plane] = []
    numbers: list[int] = []
    before: Gray | None = None
    noise = 0.0

    def looked_at(item: tuple[int, Plane]) -> dict[bool, list[Line]]:
        scored = scores(item[1])
        return {bright: lines(scored, bright) for bright in (True, False)}

    lights = ((f.number, luma(f)) for f in span.frames())
    for place, ((number, light), found) in enumerate(buffered_map(looked_at, lights)):
        noise = noise or noise_of([light])
        small = ready(light, noise)
        if before is not None:
            moves.append(moved(before, small, layout.width))
        before = small
        numbers.append(number)
        for bright, own in found.items():
            followers[bright].add(
                place, own if hold_out is None else [n for n in own if not _held(n, hold_out, layout.height, layout.width, number)]
            )
        if on_progress:
            on_progress(0.9 * (place + 1) / len(span))
    threads = [t for follower in followers.values() for t in follower.threads(moves, layout.width)]
    findings = []
    for thread in threads:
        profile = _measure(span, numbers, thread)
        sure = sureness(thread, profile, len(span)) if profile is not None else 0.0
        if profile is not None and sure:
            findings.append(_finding(thread, profile, sure, numbers, layout.height, layout.width))
    return Surveyed(sorted(findings, key=lambda f: -f.confidence))


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
        samples.append((light, scores(light), thread.xs[k]))
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
