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
from ...media.frames import Frame, as_numbers
from ...model.findings import CONVINCES, Finding
from ...model.regions import Masked
from .evidence import ScratchEvidence
from .profiles import Profile, lifted, measured, placed, presence, profile_of, rows_of, straight
from .threads import Array, Scores, band_means, scores

# Frames a scratch is measured in; and those it may be lost for before it is over.
_MEASURED, _LOST = 10, 6
# Mean presence from which it is there at all.
_THERE = 0.2
# Of the light, below which nothing and above which all of an undone sample is believed.
_GONE, _KEPT = 0.12, 0.3


class Seed(BaseModel):
    """A scratch, by where it crosses the top and the bottom of some frames."""

    model_config = ConfigDict(frozen=True, extra="forbid")

    bright: bool
    track: tuple[tuple[int, float, float], ...] = Field(min_length=1, max_length=400, description="frame, x at the top, x at the bottom")

    def at(self, frame: int, height: int) -> Array:
        """Where it is expected to cross the bands of a frame."""
        numbers = np.array([t[0] for t in self.track])
        top, bottom = (float(np.interp(frame, numbers, [t[k] for t in self.track])) for k in (1, 2))
        return straight(top, bottom, height)


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
    return settings.model_copy(update={"lines": tuple(Seed(bright=e.bright, track=e.track) for e in found)})


def acts_on(settings: LineLiftSettings, finding: Finding) -> bool:
    """Whether resolved settings name the scratch of a finding."""
    assert isinstance(finding.evidence, ScratchEvidence)
    return finding.evidence.track in [line.track for line in settings.lines or ()]


@dataclass
class _Known:
    """What is known of a scratch while it is followed."""

    seed: Seed
    profiles: tuple[Profile | None, ...]
    off: Array | None = None
    lost: int = 0
    over: bool = False

    def expected(self, frame: int, height: int) -> Array:
        usual = self.seed.at(frame, height)
        # Past the frames that are named it goes on from where it was last seen.
        return usual if self.off is None or self.seed.track[0][0] <= frame <= self.seed.track[-1][0] else self.off


def analyse(
    span: Span, settings: LineLiftSettings, on_progress: Callable[[float], None] | None = None, hold_out: Masked | None = None
) -> PatchPlan:
    """Follow the scratches named through the shot, and undo them."""
    layout = span.source.format
    seeds = settings.lines or ()
    grain = grain_of(frames_of(span)) if settings.grain and seeds else None
    known = [k for k in (_measured(span, seed) for seed in seeds) if k is not None]
    patches: list[Patch] = []
    if known:
        lights = ((frame, luma(frame)) for frame in span.frames())
        for done, ((frame, light), scored) in enumerate(buffered_map(lambda item: scores(band_means(item[1])), lights), start=1):
            for thing, one in enumerate(known):
                found = _followed(frame, light, scored, one)
                if found is not None:
                    patches.append(_patch(frame, found, one, thing, grain))
            if on_progress:
                on_progress(done / len(span))
    return PatchPlan.of(layout, patches, {"frames": len(span), "lines": len(known)})


def _measured(span: Span, seed: Seed) -> _Known | None:
    """What a scratch does to each component, measured over some of its frames."""
    inside = [n for n in span.numbers.tolist() if seed.track[0][0] <= n <= seed.track[-1][0]]
    if not inside:
        return None
    height = span.source.format.height
    chosen = [inside[k] for k in np.unique(np.linspace(0, len(inside) - 1, min(_MEASURED, len(inside))).round().astype(int))]
    frames = [span.source.frame(n) for n in chosen]
    samples = [(light, scores(band_means(light)), seed.at(f.number, height)) for f in frames for light in (luma(f),)]
    profile = measured(samples, seed.bright)
    if profile is None:
        return None
    ways = [rows_of(placed(light, scored, xs, seed.bright, profile), height) for light, scored, xs in samples]
    profiles: list[Profile | None] = []
    for i, c in enumerate(span.source.format.components):
        across, down = span.source.format.subsampling(i)
        if c.name == "A":
            profiles.append(None)
        elif i == 0 and c.name == "Y":
            profiles.append(profile)
        else:
            samples_at = [(_codes(f, i), _at_cells(at, across, down, c.height)) for f, at in zip(frames, ways, strict=True)]
            found = profile_of(samples_at, max(0.45, profile.width / across))
            profiles.append(found)
    return _Known(seed, tuple(profiles))


def _codes(frame: Frame, index: int) -> Plane:
    return as_numbers(frame.component(index)) / np.float32(frame.format.components[index].code)


def _at_cells(at: Array, across: int, down: int, height: int) -> Array:
    """Where a line crosses the rows of a component whose samples stand for several pixels."""
    rows = np.minimum(np.arange(height) * down + (down - 1) / 2, len(at) - 1)
    return np.asarray((np.interp(rows, np.arange(len(at)), at) - (across - 1) / 2) / across)


def _followed(frame: Frame, light: Plane, scored: Scores, one: _Known) -> tuple[Array, Array] | None:
    """Where the scratch crosses each row of a frame, and how far it is there; nothing where it is not."""
    profile = next(p for p in one.profiles if p is not None)
    named = one.seed.track[0][0] <= frame.number <= one.seed.track[-1][0]
    if one.over and not named:
        return None
    xs = placed(light, scored, one.expected(frame.number, light.shape[0]), one.seed.bright, profile)
    at = rows_of(xs, light.shape[0])
    there = presence(light, at, profile)
    if there.mean() < _THERE:
        one.lost += 1
        one.over = not named and frame.number > one.seed.track[-1][0] and one.lost > _LOST
        return None
    one.lost, one.off = 0, xs
    return at, there


def _patch(frame: Frame, found: tuple[Array, Array], one: _Known, thing: int, grain: tuple[Grain, ...] | None) -> Patch:
    at, there = found
    layout = frame.format
    samples: list[tuple[NDArray[np.int64], NDArray[np.generic]]] = []
    for i, (component, profile) in enumerate(zip(layout.components, one.profiles, strict=True)):
        if profile is None:
            samples.append((np.zeros(0, np.int64), np.zeros(0, layout.dtype)))
            continue
        across, down = layout.subsampling(i)
        cells_at = at if (across, down) == (1, 1) else _at_cells(at, across, down, component.height)
        own_there = there if down == 1 else np.interp(np.arange(component.height) * down, np.arange(len(there)), there)
        plane = _codes(frame, i)
        undone = lifted(plane, cells_at, profile, own_there)
        values = _settled(
            plane, undone.columns, undone.values, undone.kept, undone.changed, component.is_chroma, grain[i] if grain else None
        )
        rows = np.repeat(np.arange(component.height)[:, None], undone.columns.shape[1], 1)
        places = rows[undone.changed].astype(np.int64) * component.width + undone.columns[undone.changed]
        dtype = frame.component(i).dtype
        samples.append((places, component.samples(values[undone.changed] * component.code, dtype)))
    left, right = int(at.min()), int(at.max())
    luma_profile = next(p for p in one.profiles if p is not None)
    contrast = float(luma_profile.level - luma_profile.cover * 128)
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
