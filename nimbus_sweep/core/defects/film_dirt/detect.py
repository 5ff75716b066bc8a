"""Specks and hairs of film: some frames of a shot are looked at closely, and told of as one family."""

from __future__ import annotations

from collections.abc import Callable, Iterator

import cv2
import numpy as np

from ...base.parallel import buffered_map
from ...evidence.frames_at_hand import Span
from ...imaging.levels import luma, noise_of
from ...imaging.motion import Plane
from ...media.frames import Frame
from ...model.findings import Finding, Note, Surveyed
from ...model.regions import Masked
from .evidence import DirtEvidence
from .likelihood import with_prior
from .look_over import look_over
from .specks import CROWDED, Speck

# Frames looked at, and those about each that lend.
_LOOKED, _ABOUT = 16, 2
# Shorter side from which a picture is looked at at half the size.
_LARGE = 640
# Of a sure speck, and as many in so many frames are told of without doubt.
_SURE, _ENOUGH = 0.5, 3
_SHOWN = 40


def surveyed(
    span: Span, first: int, stop: int, on_progress: Callable[[float], None] | None = None, hold_out: Masked | None = None
) -> Surveyed:
    """Look for specks in some frames of a shot.

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
    if count < 3:
        return Surveyed([], (Note(kind="film-dirt", code="too-short"),))
    layout = span.source.format
    wanted = np.unique(np.linspace(0, count - 1, min(count, _LOOKED)).round().astype(int)).tolist()
    seen: list[tuple[int, Speck]] = []
    crowded = 0
    # What is worth telling of a large picture is told at half the size.
    factor = 2 if min(layout.height, layout.width) >= _LARGE else 1

    def stretches() -> Iterator[tuple[int, list[Frame]]]:
        for place in wanted:
            begin, end = max(0, min(place - _ABOUT, count - 3)), min(count, max(place + _ABOUT + 1, 3))
            frames = list(span.frames(begin, end))
            # One that cannot be read leaves a gap.
            at = next((k for k, f in enumerate(frames) if f.number == int(span.numbers[place])), None)
            if at is not None and len(frames) >= 3:
                yield at, frames

    def looked_at(stretch: tuple[int, list[Frame]]) -> tuple[list[Speck], bool]:
        at, frames = stretch
        lights = [_reduced(luma(f), factor) for f in frames]
        found_here = look_over(lights, noise_of(lights[:2]), at, at + 1)[0]
        held = None if hold_out is None else _reduced(hold_out.mask((layout.height, layout.width), frames[at].number), factor)
        return [s for s, _, _ in found_here.specks if held is None or not held[s.box][s.mask].any()], found_here.marked > CROWDED

    looked = 0
    for (at, frames), (specks, full) in buffered_map(looked_at, stretches(), most=3):
        seen += [(frames[at].number, s) for s in specks]
        crowded += full
        looked += 1
        if on_progress:
            on_progress(looked / len(wanted))
    if not looked:
        return Surveyed([])
    sure = with_prior(np.array([s.sure for _, s in seen]), looked)
    specks_seen = [(n, s, float(p)) for (n, s), p in zip(seen, sure, strict=True) if p >= _SURE]
    if not specks_seen:
        return Surveyed([])
    return Surveyed([_family(specks_seen, looked, crowded, factor, count, first, stop, layout.width, layout.height)])


def _family(
    seen: list[tuple[int, Speck, float]], looked: int, crowded: int, factor: int, count: int, first: int, stop: int, width: int, height: int
) -> Finding:
    frames = len({n for n, _, _ in seen})
    each = len(seen) / looked
    bright = sum(s.bright for _, s, _ in seen) / len(seen)
    contrast = float(np.median([s.contrast for _, s, _ in seen]))
    largest = factor * factor * max(int(s.mask.sum()) for _, s, _ in seen)
    passing = crowded > looked / 3
    confidence = min(1.0, 0.5 + 0.5 * float(np.mean([p for _, _, p in seen])) * min(1.0, frames / _ENOUGH))
    if passing or frames < min(_ENOUGH, looked):
        confidence = min(confidence, 0.45)
    surest = ((n, _middle(s), p) for n, s, p in sorted(seen, key=lambda one: -one[2])[:_SHOWN])
    places = [(n, factor * x, factor * y, round(p, 2)) for n, (x, y), p in surest]
    evidence = DirtEvidence(
        places=tuple(places),
        seen=len(seen),
        frames=frames,
        looked=looked,
        each=round(each, 3),
        in_shot=round(each * count),
        bright=round(bright, 3),
        contrast=round(contrast, 1),
        largest=largest,
        crowded=crowded,
        passing=passing,
    )
    return Finding(
        kind="film-dirt",
        step="speck-sweep",
        x=0,
        y=0,
        width=width,
        height=height,
        first=first,
        stop=stop,
        confidence=round(confidence, 2),
        evidence=evidence,
    )


def _reduced(plane: Plane, factor: int) -> Plane:
    if factor == 1:
        return plane
    return np.asarray(cv2.resize(plane, (plane.shape[1] // factor, plane.shape[0] // factor), interpolation=cv2.INTER_AREA))


def _middle(speck: Speck) -> tuple[int, int]:
    rows, cols = np.nonzero(speck.mask)
    return speck.box[1].start + int(cols.mean()), speck.box[0].start + int(rows.mean())
