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
from ...media.frames import Frame
from ...model.findings import CONVINCES, Finding
from ...model.regions import Masked
from .evidence import ScratchEvidence
from .lines import Array, band_means, scores
from .presence import presence
from .profiles import lifted, placed, rows_of
from .seeds import BESIDE, Known, Seed, at_cells, codes, known
from .threads import WANDER

# Frames it may be lost for before it is over.
_LOST = 6
# What has to be seen of it, of what it usually is, in the frames it was found in and in others.
_THERE, _GOES_ON = 0.35, 0.65
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
    return settings.model_copy(update={"lines": tuple(Seed(bright=e.bright, track=e.track, rows=e.rows) for e in found)})


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

    def names(self, frame: int) -> bool:
        """Whether the frame lies within those it was found in."""
        return self.known.seed.track[0][0] <= frame <= self.known.seed.track[-1][0]

    def expected(self, frame: int, height: int) -> Array:
        # Past the frames that are named it goes on from where it was last seen.
        return self.known.seed.expected(frame, height) if self.off is None or self.names(frame) else self.off


def analyse(
    span: Span, settings: LineLiftSettings, on_progress: Callable[[float], None] | None = None, hold_out: Masked | None = None
) -> PatchPlan:
    """Follow the scratches named through the shot, and undo them."""
    layout = span.source.format
    seeds = settings.lines or ()
    grain = grain_of(frames_of(span)) if settings.grain and seeds else None
    followed = [_Followed(k) for k in (known(span, seed) for seed in seeds) if k is not None]
    patches: list[Patch] = []
    if followed:
        lights = ((frame, luma(frame)) for frame in span.frames())
        for done, ((frame, light), scored) in enumerate(buffered_map(lambda item: scores(band_means(item[1])), lights), start=1):
            for thing, one in enumerate(followed):
                found = _where(frame, light, scored, one)
                if found is not None:
                    patches.append(_patch(frame, found, one, thing, grain))
            if on_progress:
                on_progress(done / len(span))
    return PatchPlan.of(layout, patches, {"frames": len(span), "lines": len(followed)})


def _where(frame: Frame, light: Plane, scored: Array, one: _Followed) -> tuple[Array, Array] | None:
    """Where the scratch crosses each row of a frame, and how far it is there; nothing where it is not."""
    seed, height = one.known.seed, light.shape[0]
    if one.over and not one.names(frame.number):
        return None
    room = BESIDE if one.names(frame.number) else int(WANDER)
    xs = placed(light, scored, one.expected(frame.number, height), seed.bright, one.known.profile, seed.bands(height), room)
    at = rows_of(xs, height)
    there, seen = presence(light, at, one.known.profile, one.known.steady, one.known.rows)
    if seen < (_THERE if one.names(frame.number) else _GOES_ON):
        one.lost += 1
        one.over = not one.names(frame.number) and frame.number > seed.track[-1][0] and one.lost > _LOST
        return None
    one.lost, one.off = 0, xs
    return at, there


def _patch(frame: Frame, found: tuple[Array, Array], one: _Followed, thing: int, grain: tuple[Grain, ...] | None) -> Patch:
    at, there = found
    layout = frame.format
    samples: list[tuple[NDArray[np.int64], NDArray[np.generic]]] = []
    for i, (component, profile) in enumerate(zip(layout.components, one.known.profiles, strict=True)):
        if profile is None:
            samples.append((np.zeros(0, np.int64), np.zeros(0, layout.dtype)))
            continue
        across, down = layout.subsampling(i)
        cells_at = at if (across, down) == (1, 1) else at_cells(at, across, down, component.height)
        own_there = there if down == 1 else np.interp(np.arange(component.height) * down, np.arange(len(there)), there)
        plane = codes(frame, i)
        undone = lifted(plane, cells_at, profile, own_there)
        values = _settled(
            plane, undone.columns, undone.values, undone.kept, undone.changed, component.is_chroma, grain[i] if grain else None
        )
        rows = np.repeat(np.arange(component.height)[:, None], undone.columns.shape[1], 1)
        places = rows[undone.changed].astype(np.int64) * component.width + undone.columns[undone.changed]
        dtype = frame.component(i).dtype
        samples.append((places, component.samples(values[undone.changed] * component.code, dtype)))
    left, right = int(at.min()), int(at.max())
    contrast = float(one.known.profile.level - one.known.profile.cover * 128)
    return Patch(frame.number, (left, 0, right - left + 1, layout.height), 1.0, contrast, len(samples[0][0]), (), tuple(samples), thing)


def _settled(
    plane: Plane, columns: Array, values: Array, kept: Array, changed: NDArray[np.bool_], chroma: bool, grain: Grain | None
) -> Array:
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
