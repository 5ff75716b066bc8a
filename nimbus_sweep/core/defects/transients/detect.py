"""Things that cross: some frames of a shot are looked at, and what goes on at a steady pace through three of them is told of.

It is named, never suggested: only the user knows whether a bird belongs to the picture.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import replace

import cv2
import numpy as np

from ...base.parallel import buffered_map
from ...evidence.frames_at_hand import Span, frames_of
from ...imaging.levels import luma, noise_of
from ...model.findings import Finding, Surveyed
from ...model.regions import Masked
from .evidence import CrossingEvidence
from .passing import Known, Passed, Ready, motion_between, passing, ready

# Places looked at, and frames about each; the shorter side from which pictures are looked at at half the size.
_LOOKED, _ABOUT, _LARGE = 10, 3, 640
# How far a step may differ from the one before, as a share of it, in its own size and in pixels.
_STEADY, _OWN, _GIVE = 0.35, 0.8, 3.0
# Least step in its own size, and largest as a share of the picture's width: dirt that chance lines up lies further apart.
_CLEAR, _FARTHEST = 0.6, 0.12
# How many times longer than wide a piece of a scratch is, and nothing that crosses.
_THIN = 3.5
# How much larger one may be than the next.
_GROWS = 2.5
_SHOWN = 40


def surveyed(
    span: Span, first: int, stop: int, on_progress: Callable[[float], None] | None = None, hold_out: Masked | None = None
) -> Surveyed:
    """Look for things that cross in some frames of a shot.

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
    count = len(span)
    if count < 2 * _ABOUT + 1:
        return Surveyed([])
    layout = span.source.format
    noise = noise_of([luma(f) for f in frames_of(span)])
    factor = 2 if min(layout.height, layout.width) >= _LARGE else 1
    wanted = np.unique(np.linspace(_ABOUT, count - 1 - _ABOUT, min(count, _LOOKED)).round().astype(int)).tolist()

    def stretches() -> Iterator[list[Ready]]:
        for place in wanted:
            frames = list(span.frames(place - _ABOUT, place + _ABOUT + 1))
            if len(frames) == 2 * _ABOUT + 1:
                yield [_reduced(ready(f, noise, 2 * factor if min(layout.height, layout.width) > 300 else 1), factor) for f in frames]

    def looked_at(stretch: list[Ready]) -> list[tuple[Passed, float]]:
        found = []
        known: Known = {}
        for k in range(_ABOUT - 1, _ABOUT + 2):
            others = [stretch[j] for j in (k - 2, k - 1, k + 1, k + 2)]
            ways = [motion_between(stretch[k], other, noise / factor, known) for other in others]
            found.append(passing(stretch[k], others, ways, "middle", noise / factor)[0])
        before, here, behind = found
        return list(_chains(before, here, behind, _FARTHEST * layout.width / factor))

    found: list[tuple[int, Passed, float]] = []
    for done, (stretch, chains) in enumerate(buffered_map(looked_at, stretches(), most=3)):
        middle = stretch[_ABOUT].frame.number
        held = None if hold_out is None else hold_out.mask((layout.height, layout.width), middle)
        for one, pace in chains:
            x, y = (int(v * factor) for v in one.middle)
            if held is None or held[min(y, layout.height - 1), min(x, layout.width - 1)] < 0.5:
                found.append((middle, one, pace))
        if on_progress:
            on_progress((done + 1) / len(wanted))
    return Surveyed([_finding(found, len(wanted), factor, layout.width, layout.height, first, stop)] if found else [])


def _reduced(one: Ready, factor: int) -> Ready:
    if factor == 1:
        return one
    size = (one.light.shape[1] // factor, one.light.shape[0] // factor)
    return replace(one, light=cv2.resize(one.light, size, interpolation=cv2.INTER_AREA))


def _chains(before: list[Passed], here: list[Passed], behind: list[Passed], farthest: float) -> Iterator[tuple[Passed, float]]:
    """What goes on at a steady pace through three frames, clear of itself; with its pace, in pixels a frame."""
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
            if any(np.hypot(*(np.subtract(b.middle, one.middle) - step)) < give for b in mates):
                yield one, pace
                break


def _unlike(one: Passed, other: Passed) -> bool:
    a, b = sorted((int(one.mask.sum()), int(other.mask.sum())))
    return b > _GROWS * a


def _finding(found: list[tuple[int, Passed, float]], looked: int, factor: int, width: int, height: int, first: int, stop: int) -> Finding:
    frames = {n for n, _, _ in found}
    pace = factor * float(np.median([p for _, _, p in found]))
    dark = sum(one.contrast < 0 for _, one, _ in found)
    keeps = "lighter" if dark > 0.8 * len(found) else "darker" if dark < 0.2 * len(found) else "middle"
    largest = sorted(found, key=lambda f: -int(f[1].mask.sum()))[:_SHOWN]
    places = [(n, int(factor * one.middle[0]), int(factor * one.middle[1]), 1.0) for n, one, _ in largest]
    evidence = CrossingEvidence(
        places=tuple(places), seen=len(found), frames_seen=len(frames), looked=looked, dark=dark, pace=round(pace, 1), keeps=keeps
    )
    sure = min(0.9, 0.25 + 0.1 * len(found))
    return Finding(
        kind="transient",
        step="fleeting",
        x=0,
        y=0,
        width=width,
        height=height,
        first=first,
        stop=stop,
        confidence=round(sure, 2),
        evidence=evidence,
    )
