"""Sweeps off specks and hairs: each is filled from the frames beside it, along the motion, and given their grain."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from dataclasses import replace

import cv2
import numpy as np
from numpy.typing import NDArray

from ...evidence.frames_at_hand import Span, frames_of
from ...evidence.moments import Moment, each_moment
from ...imaging.grain import Grain
from ...imaging.levels import grain_of, luma, noise_of, samples_at
from ...imaging.motion import Plane
from ...imaging.neighbours import Neighbour
from ...imaging.patches import Patch, PatchPlan
from ...media.frames import Frame, PictureFormat
from ...model.regions import Masked
from .choosing import SpeckSweepSettings
from .look_over import Found, LastingSpecks, Looked, look_over
from .shot_odds import Candidate, in_shot
from .specks import Speck, ring_about

# Candidates less sure than this are not kept; those that are may be raised by what the user says of others.
DOUBTFUL = 0.05


def analyse(
    span: Span, settings: SpeckSweepSettings, on_progress: Callable[[float], None] | None = None, hold_out: Masked | None = None
) -> PatchPlan:
    """Find and fill the specks of a shot.

    Parameters
    ----------
    span : Span
        Of the shot.
    settings : SpeckSweepSettings
        Only choose afterwards.
    on_progress : callable
        Told the share done, 0 to 1; may raise to stop.
    hold_out : Region
        Where nothing is looked for.
    """
    layout = span.source.format
    if len(span) < 3:
        return PatchPlan.of(layout, [], {"few": True, "frames": len(span)})
    sampled = frames_of(span)
    noise, grain = noise_of([luma(f) for f in sampled]), grain_of(sampled)
    sweep = _Sweep(grain, hold_out)
    for done, (moment, looked) in enumerate(each_moment(span, sweep.look, noise=noise), 1):
        sweep.take(moment, looked)
        if on_progress:
            on_progress(min(1.0, done / len(span)))
    patches, candidates = sweep.finish()
    sure, looks = in_shot(candidates, len(span), (layout.height, layout.width))
    resolved = [replace(p, sure=float(s), looks=tuple(own)) for p, s, own in zip(patches, sure, looks.tolist(), strict=True)]
    return PatchPlan.of(layout, [p for p in resolved if p.sure >= DOUBTFUL], {"frames": len(span), "noise": round(noise, 3)})


class _Sweep:
    """Gathers the patches of a shot's specks."""

    def __init__(self, grain: tuple[Grain, ...], hold_out: Masked | None) -> None:
        self._grain, self._hold_out = grain, hold_out
        self._lasting = LastingSpecks()
        self._patches: list[Patch] = []
        self._candidates: list[Candidate] = []

    def look(self, at: Moment) -> Looked:
        """The specks of a frame with their patches; called from several threads at once."""
        return look_over(at, self._patch_of)

    def take(self, at: Moment, looked: Looked) -> None:
        """Take in the next frame's."""
        self._gather(self._lasting.take(at, looked))

    def finish(self) -> tuple[list[Patch], list[Candidate]]:
        """All of them, and what the shot says of each is told by."""
        self._gather(self._lasting.finish())
        return self._patches, self._candidates

    def _gather(self, told: Iterator[tuple[Moment, list[Found]]]) -> None:
        for at, found in told:
            held = None if self._hold_out is None else self._hold_out.mask(at.light.shape, at.frame.number)
            for one in found:
                if one.patch is not None and (held is None or not held[one.speck.box][one.speck.mask].any()):
                    self._patches.append(one.patch)
                    self._candidates.append(one.candidate(at))

    def _patch_of(self, at: Moment, speck: Speck, offsets: tuple[int, ...], near: Sequence[Neighbour]) -> Patch:
        return patch_of(at.frame, [at.at(k) for k in offsets], speck, near, self._grain)


def patch_of(frame: Frame, lenders: Sequence[Frame], speck: Speck, near: Sequence[Neighbour], grain: Sequence[Grain]) -> Patch:
    """A speck's fill for every component of the picture, in the frame's own samples.

    Parameters
    ----------
    frame : Frame
        The speck's.
    lenders : sequence of Frame
        Those that fill it.
    speck : Speck
    near : sequence of Neighbour
        Those frames along the motion.
    grain : sequence of Grain
        Of each component.
    """
    layout = frame.format
    top, left = speck.box[0].start, speck.box[1].start
    rows, cols = np.nonzero(speck.mask)
    samples = []
    for i, component in enumerate(layout.components):
        if component.name == "A":
            samples.append((np.zeros(0, np.int64), np.zeros(0, layout.dtype)))
            continue
        own = frame.component(i)
        across, down = layout.subsampling(i)
        y0, x0 = top // down, left // across
        y1, x1 = min(component.height, -(-speck.box[0].stop // down)), min(component.width, -(-speck.box[1].stop // across))
        part = np.s_[y0:y1, x0:x1]
        hole = speck.mask if (across, down) == (1, 1) else _in_cells(speck, layout, part, across, down)
        if i == 0 and component.name == "Y":
            made, kept = speck.fill, speck.grain
        else:
            kept = float(np.sqrt(sum(w * w for w in speck.weights)))
            made = _lent(lenders, i, speck, near, part, (across, down), own[part], hole)
        places = np.flatnonzero(hole.ravel())
        fill = made.ravel()[places]
        level = made - (128 if component.is_chroma else 0)
        # An average of frames has less grain than one of them.
        missing = float(np.sqrt(max(0.0, 1 - kept * kept)))
        fill = fill + missing * grain[i].fresh(level, (frame.number, top, left, i)).ravel()[places]
        local = np.unravel_index(places, hole.shape)
        numbers = (local[0] + y0).astype(np.int64) * component.width + local[1] + x0
        samples.append((numbers, component.samples(fill.astype(np.float64) * component.code, own.dtype)))
    box = (left + int(cols.min()), top + int(rows.min()), int(np.ptp(cols)) + 1, int(np.ptp(rows)) + 1)
    contrast = speck.contrast if speck.bright else -speck.contrast
    return Patch(
        frame.number,
        box,
        speck.sure,
        contrast,
        int(speck.mask.sum()),
        tuple(f.number for f in lenders),
        tuple(samples),
        fast=speck.evidence.fast,
    )


# Share of a chroma sample's pixels that a speck has to lie on.
_CELL = 0.2


def _in_cells(speck: Speck, layout: PictureFormat, part: tuple[slice, slice], across: int, down: int) -> NDArray[np.bool_]:
    """A speck's samples at the size of a component whose samples stand for several pixels."""
    tall, wide = part[0].stop - part[0].start, part[1].stop - part[1].start
    whole = np.zeros((tall * down, wide * across), np.float32)
    y, x = speck.box[0].start - part[0].start * down, speck.box[1].start - part[1].start * across
    held = speck.mask[: whole.shape[0] - y, : whole.shape[1] - x]
    whole[y : y + held.shape[0], x : x + held.shape[1]] = held
    return np.asarray(cv2.resize(whole, (wide, tall), interpolation=cv2.INTER_AREA) > _CELL)


def _lent(
    lenders: Sequence[Frame],
    index: int,
    speck: Speck,
    near: Sequence[Neighbour],
    part: tuple[slice, slice],
    cells: tuple[int, int],
    samples: NDArray[np.generic],
    hole: NDArray[np.bool_],
) -> Plane:
    """A component of the window made of the frames that lend, at the level around the hole; in 8-bit codes."""
    component = lenders[0].format.components[index]
    code = np.float32(component.code)
    rows, cols = np.mgrid[part].astype(np.float32)
    made = np.zeros(hole.shape, np.float32)
    for lender, weight, neighbour in zip(lenders, speck.weights, near, strict=True):
        if not weight:
            continue
        # Motion of every pixel that a sample begins with.
        pixels = np.s_[part[0].start * cells[1] : part[0].stop * cells[1], part[1].start * cells[0] : part[1].stop * cells[0]]
        way = neighbour.motion(pixels)[:: cells[1], :: cells[0]]
        at = (cols + way[..., 0] / np.float32(cells[0]), rows + way[..., 1] / np.float32(cells[1]))
        made += np.float32(weight) * samples_at(lender.component(index), *at, component.code)
    here = samples.astype(np.float32) / code
    ring = ring_about(hole)
    if ring.sum() >= 6:
        made += np.float32(np.median((here - made)[ring]))
    return made
