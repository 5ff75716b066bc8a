"""Lifts cue marks: each frame that has one is aligned on its own to the clean frames beside, and only the mark is replaced."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from typing import Literal

import cv2
import numpy as np
from numpy.typing import NDArray
from pydantic import BaseModel, ConfigDict, Field

from ...evidence.frames_at_hand import Span, frames_of
from ...imaging.aligned_fill import Filled, Lender, Looks, fill, patch_samples
from ...imaging.grain import Grain
from ...imaging.levels import grain_of, luma, noise_of
from ...imaging.patches import Patch, PatchPlan
from ...media.frames import Frame
from ...model.findings import CONVINCES, Finding
from ...model.regions import Masked
from .events import LONGEST, Places, partners, run_about
from .evidence import CueEvidence

# Of its contrast, from which a sample belongs to a mark; and pixels of its soft edge.
_PART, _SOFT = 0.1, 2
# Share of its hull that a disc covers at least.
_SOLID = 0.6


class CueSeed(BaseModel):
    """A cue mark: the frames it is in, and a line around it."""

    model_config = ConfigDict(frozen=True, extra="forbid")

    first: int = Field(ge=0)
    stop: int = Field(ge=1, description="a mark placed by hand names one frame: the others are found")
    outline: tuple[tuple[int, int], ...] = Field(min_length=3, max_length=1000)
    by_hand: bool = False


class FrameNudge(BaseModel):
    """What is added by hand, in one frame, to where the clean frames are found to lie."""

    model_config = ConfigDict(frozen=True, extra="forbid")

    frame: int = Field(ge=0)
    across: float = Field(default=0.0, ge=-200, le=200)
    down: float = Field(default=0.0, ge=-200, le=200)


class CueLiftSettings(BaseModel):
    """Which cue marks are lifted; none named means those that the survey of the shot finds."""

    model_config = ConfigDict(frozen=True, extra="forbid")

    marks: tuple[CueSeed, ...] | None = Field(default=None, max_length=2000)
    sure: float = Field(default=CONVINCES, ge=0.3, le=1, description="least confidence of a found mark")
    lends: Literal["both", "before", "behind"] = Field(default="both", description="which clean frames lend")
    nudges: tuple[FrameNudge, ...] = Field(default=(), max_length=10_000)
    grain: bool = Field(default=True, description="match the grain")


def resolve(settings: CueLiftSettings, findings: Iterable[Finding]) -> CueLiftSettings:
    """Name the marks that were found, if none are named."""
    if settings.marks is not None:
        return settings
    found = ((f, f.evidence) for f in findings if isinstance(f.evidence, CueEvidence) and f.confidence >= settings.sure)
    marks = tuple(CueSeed(first=f.first, stop=f.stop, outline=e.outline, by_hand=f.by_hand) for f, e in found)
    return settings.model_copy(update={"marks": marks})


def acts_on(settings: CueLiftSettings, finding: Finding) -> bool:
    """Whether resolved settings name the mark of a finding."""
    assert isinstance(finding.evidence, CueEvidence)
    return finding.evidence.outline in [mark.outline for mark in settings.marks or ()]


def analyse(
    span: Span, settings: CueLiftSettings, on_progress: Callable[[float], None] | None = None, hold_out: Masked | None = None
) -> PatchPlan:
    """Fill the marks named, frame by frame, from the clean frames beside each run."""
    layout = span.source.format
    marks = settings.marks or ()
    if not marks or len(span) < 2:
        return PatchPlan.of(layout, [], {"marks": 0, "frames": []})
    sampled = frames_of(span)
    noise = noise_of([luma(f) for f in sampled])
    grain = grain_of(sampled) if settings.grain else None
    runs = list(_runs(span, marks, noise))
    nudged = {n.frame: (n.across, n.down) for n in settings.nudges}
    patches: list[Patch] = []
    for done, (thing, first, stop, hole) in enumerate(runs):
        patches += _lifted(span, thing, first, stop, hole, settings, nudged, noise, grain)
        if on_progress:
            on_progress((done + 1) / len(runs))
    return PatchPlan.of(layout, patches, {"marks": len(runs), "frames": sorted(p.frame for p in patches)})


def _runs(span: Span, marks: tuple[CueSeed, ...], noise: float) -> Iterable[tuple[int, int, int, Places]]:
    """For each mark its number, places of its first and behind its last frame, and its hole; of one by hand, those found from it."""
    shape = (span.source.format.height, span.source.format.width)
    taken: list[tuple[int, int]] = []
    for thing, mark in enumerate(marks):
        hole = np.zeros(shape, np.uint8)
        cv2.fillPoly(hole, [np.array(mark.outline, np.int32)], 1)
        if not hole.any():
            continue
        first, stop = (int(np.searchsorted(span.numbers, n)) for n in (mark.first, mark.stop))
        stop = max(stop, first + 1)
        found = [(first, stop)]
        if mark.by_hand and first < len(span):
            event = run_about(span, first, hole > 0, noise)
            if event is not None:
                found = [(event.first, event.stop), *((e.first, e.stop) for e in partners(span, event, noise))]
        for run in found:
            if run[0] < len(span) and not any(run[0] < t[1] and t[0] < run[1] for t in taken if mark.by_hand):
                taken.append(run)
                yield thing, run[0], min(run[1], len(span)), hole > 0


def _lifted(
    span: Span,
    thing: int,
    first: int,
    stop: int,
    hole: Places,
    settings: CueLiftSettings,
    nudged: dict[int, tuple[float, float]],
    noise: float,
    grain: tuple[Grain, ...] | None,
) -> Iterable[Patch]:
    source, numbers, looks = span.source, span.numbers, Looks()
    clean = [k for k, wanted in ((first - 1, "before"), (stop, "behind")) if 0 <= k < len(span) and settings.lends in ("both", wanted)]
    # A shot that begins or ends with a mark has clean frames on one side only.
    clean = clean or [k for k in (first - 1, stop) if 0 <= k < len(span)]
    lenders = [source.frame(int(numbers[k])) for k in clean]
    for place in range(first, min(stop, first + LONGEST + 2)):
        frame = source.frame(int(numbers[place]))
        nudge = nudged.get(frame.number, (0.0, 0.0))
        filled = fill(frame, hole.astype(np.float32), [Lender(f, nudge=nudge) for f in lenders], noise, looks)
        if filled is None or frame.missing:
            continue
        mask, contrast = _mask(frame, filled, hole, noise)
        if not mask.any():
            continue
        rows, cols = np.nonzero(mask > 0)
        box = (int(cols.min()), int(rows.min()), int(np.ptp(cols)) + 1, int(np.ptp(rows)) + 1)
        samples = patch_samples(frame, filled, mask, grain, (thing,))
        yield Patch(frame.number, box, 1.0, contrast, int((mask > 0).sum()), tuple(f.number for f in lenders), samples, thing)


def _mask(frame: Frame, filled: Filled, hole: Places, noise: float) -> tuple[NDArray[np.float32], float]:
    """Where the mark itself lies in its hole, its soft edge with it, 0 to 1; and what it is out by."""
    size = (filled.box.width, filled.box.height)
    out = np.zeros(size[::-1], np.float32)
    light = np.zeros_like(out)
    for i, component in enumerate(frame.format.components):
        if component.name == "A":
            continue
        change = filled.own[i] - filled.planes[i]
        change = change if change.shape == out.shape else cv2.resize(change, size, interpolation=cv2.INTER_LINEAR)
        light = change if i == 0 else light
        out = np.maximum(out, np.abs(cv2.GaussianBlur(change, (0, 0), 0.7)))
    where = filled.box.samples(hole)
    contrast = float(np.percentile(out[where], 90)) if where.any() else 0.0
    level = max(3 * noise, _PART * contrast, 1.5)
    part = ((out > level) & where).astype(np.uint8)
    # Grain that stands out here and there is no part of it.
    count, labels, stats, _ = cv2.connectedComponentsWithStats(part, connectivity=8)
    large = [k for k in range(1, count) if stats[k, cv2.CC_STAT_AREA] >= max(6, 0.05 * part.sum())]
    part = np.isin(labels, large).astype(np.uint8)
    if part.any():
        # Of a disc some may be like the picture behind it; of strokes made by hand the gaps are the picture's own.
        rows, cols = np.nonzero(part)
        hull = np.zeros_like(part)
        cv2.fillConvexPoly(hull, cv2.convexHull(np.column_stack([cols, rows]).astype(np.int32)), 1)
        part = hull if part.sum() > _SOLID * hull.sum() else part
    disc = cv2.getStructuringElement(cv2.MORPH_ELLIPSE, (2 * _SOFT + 1, 2 * _SOFT + 1))
    part = cv2.dilate(cv2.morphologyEx(part, cv2.MORPH_CLOSE, disc), disc)
    soft = np.maximum(part, cv2.GaussianBlur(part.astype(np.float32), (0, 0), 0.8)) * where
    whole = np.zeros((frame.format.height, frame.format.width), np.float32)
    filled.box.put(np.where(soft > 0.05, soft, 0).astype(np.float32), whole)
    sign = -1.0 if float(light[part > 0].sum()) < 0 else 1.0
    return whole, sign * contrast
