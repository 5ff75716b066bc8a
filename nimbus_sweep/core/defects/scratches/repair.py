"""Lifts scratches off: each is followed through its frames, and what it lays over the picture is undone.

Where it hides the picture it is filled across, from both sides.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from pydantic import BaseModel, ConfigDict, Field

from ...base.parallel import buffered_map
from ...evidence.frames_at_hand import Span, frames_of
from ...imaging.grain import Grain, calmed
from ...imaging.levels import grain_of, luma
from ...imaging.motion import Plane
from ...imaging.patches import Patch, PatchPlan
from ...model.findings import CONVINCES, Finding
from ...model.regions import Masked
from .evidence import ScratchEvidence
from .lines import Array, band_means, band_places, scores
from .seeds import BESIDE, THERE, Cleared, Known, Seed, Where, all_known, begun, where

# Frames it may be lost for before it is over; what has to be seen of it, of what it usually is, in frames it was not found in.
_LOST, _GOES_ON = 6, 0.65
# Pixels it may move across from a frame to the next where it is not named.
_GOES = 4
# Of the light, below which nothing and above which all of an undone sample is believed.
_GONE, _KEPT = 0.12, 0.3


class LineLiftSettings(BaseModel):
    """Which scratches are lifted; none named means those that the survey of the shot finds."""

    model_config = ConfigDict(frozen=True, extra="forbid")

    lines: tuple[Seed, ...] | None = None
    sure: float = Field(default=CONVINCES, ge=0.3, le=1, description="least confidence of a found scratch")
    grain: bool = Field(default=True, description="match the grain")


def resolve(settings: LineLiftSettings, findings: Iterable[Finding]) -> LineLiftSettings:
    """Name the scratches that were found, if none are named."""
    if settings.lines is not None:
        return settings
    found = (f.evidence for f in findings if isinstance(f.evidence, ScratchEvidence) and f.confidence >= settings.sure)
    return settings.model_copy(
        update={"lines": tuple(Seed(bright=e.bright, track=e.track, rows=e.rows, width=e.width or None) for e in found)}
    )


def acts_on(settings: LineLiftSettings, finding: Finding) -> bool:
    """Whether resolved settings name the scratch of a finding."""
    assert isinstance(finding.evidence, ScratchEvidence)
    return finding.evidence.track in [line.track for line in settings.lines or ()]


@dataclass
class _Followed:
    """A scratch while it is followed."""

    known: Known
    off: Array | None = None
    lost: int = 0
    over: bool = False

    def expected(self, frame: int, height: int) -> Array:
        # Past the frames that are named it goes on from where it was last seen.
        return self.known.seed.expected(frame, height) if self.off is None or self.known.seed.names(frame) else self.off


def analyse(
    span: Span, settings: LineLiftSettings, on_progress: Callable[[float], None] | None = None, hold_out: Masked | None = None
) -> PatchPlan:
    """Follow the scratches named through the shot, and undo them."""
    layout = span.source.format
    seeds = settings.lines or ()
    grain = grain_of(frames_of(span)) if settings.grain and seeds else None
    followed = [_Followed(begun(span, one, _GOES, _GOES_ON)) for one in all_known(span, seeds)]
    patches: list[Patch] = []
    if followed:
        lights = ((frame, luma(frame)) for frame in span.frames())
        for done, ((frame, light), scored) in enumerate(buffered_map(lambda item: scores(band_means(item[1])), lights), start=1):
            picture = Cleared(frame, light)
            for thing, one in enumerate(followed):
                there = _where(picture, scored, one)
                if there is not None:
                    patches.append(_patch(picture, there, one.known, thing, grain))
                    # Where two lie over one another, the second is undone in what the first leaves.
                    picture = picture.without(one.known, there.at, there.there) if len(followed) > 1 else picture
            if on_progress:
                on_progress(done / len(span))
    return PatchPlan.of(layout, patches, {"frames": len(span), "lines": len(followed)})


def _where(picture: Cleared, scored: Array, one: _Followed) -> Where | None:
    """Where the scratch is in a frame; nothing where it is not."""
    seed, number = one.known.seed, picture.frame.number
    named = seed.names(number)
    if one.over and not named:
        return None
    expected = one.expected(number, picture.light.shape[0])
    found = where(one.known, picture.light, scored, expected, BESIDE if named else _GOES)
    if found.seen < (THERE if named else _GOES_ON):
        one.lost += 1
        one.over = not named and number > seed.track[-1][0] and one.lost > _LOST
        return None
    one.lost, one.off = 0, band_places(found.at)
    return found


def _patch(picture: Cleared, found: Where, one: Known, thing: int, grain: tuple[Grain, ...] | None) -> Patch:
    frame, layout = picture.frame, picture.frame.format
    samples: list[tuple[NDArray[np.int64], NDArray[np.generic]]] = []
    for i, component in enumerate(layout.components):
        undone = picture.undone(one, i, found.at, found.there)
        if undone is None:
            samples.append((np.zeros(0, np.int64), np.zeros(0, layout.dtype)))
            continue
        own_grain = grain[i] if grain else None
        values = _settled(picture.plane(i), undone.columns, undone.values, undone.kept, component.is_chroma, own_grain)
        rows = np.repeat(np.arange(component.height)[:, None], undone.columns.shape[1], 1)
        places = rows[undone.changed].astype(np.int64) * component.width + undone.columns[undone.changed]
        samples.append((places, component.samples(values[undone.changed] * component.code, frame.component(i).dtype)))
    left, right = int(found.at.min()), int(found.at.max())
    contrast = float(one.profile.level - one.profile.cover * 128)
    return Patch(frame.number, (left, 0, right - left + 1, layout.height), 1.0, contrast, len(samples[0][0]), (), tuple(samples), thing)


def _settled(plane: Plane, columns: Array, values: Array, kept: Array, chroma: bool, grain: Grain | None) -> Array:
    """Undone samples, their grain calmed; those that keep too little of the picture filled from both sides of the line."""
    made = values.astype(np.float32)
    if grain is not None:
        level = made - np.float32(128 if chroma else 0)
        calm = calmed(made, (1 / np.maximum(kept, 0.1)).astype(np.float32), grain.at(level))
        made = np.where(kept < 0.97, calm, made)
    believed = np.clip((kept - _GONE) / (_KEPT - _GONE), 0, 1)
    if (believed >= 1).all():
        return np.asarray(made, np.float64)
    width = plane.shape[1]
    rows = np.arange(plane.shape[0])
    ends = []
    for side in (0, -1):
        step = -1 if side == 0 else 1
        sides = np.stack([plane[rows, np.clip(columns[:, side] + step * k, 0, width - 1)] for k in (1, 2)])
        ends.append(sides.mean(0))
    share = np.linspace(0, 1, columns.shape[1])[None]
    across = ends[0][:, None] * (1 - share) + ends[1][:, None] * share
    if grain is not None:
        across = across + grain.fresh((across - (128 if chroma else 0)).astype(np.float32), (int(columns[0, 0]), plane.shape[0]))
    return np.asarray(believed * made + (1 - believed) * across, np.float64)
