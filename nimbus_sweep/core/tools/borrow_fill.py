"""Fills a drawn region from frames before and behind: burns, holes and splices that grow and move over some frames.

The region is drawn at a few frames and changes gradually between them. Each frame is filled from the nearest ones that
show the place whole, along the motion around it; where all of them are damaged the nearest lend what they have, and
what none shows is made up from the surroundings.
"""

from __future__ import annotations

from collections.abc import Callable
from typing import Any, Literal

import numpy as np
from numpy.typing import NDArray
from pydantic import BaseModel, ConfigDict, Field

from ..evidence.frames_at_hand import Span, frames_of
from ..imaging.aligned_fill import Lender, Looks, Mask, fill, patch_samples
from ..imaging.levels import grain_of, luma, noise_of
from ..imaging.patches import Patch, PatchPlan
from ..model.kinds import StepKind
from ..model.regions import Masked, Outside

# Damaged frames each side that are asked for what they show of the place.
_ASKED = 3


class BorrowFillSettings(BaseModel):
    """Which frames are filled, and which lend."""

    model_config = ConfigDict(frozen=True, extra="forbid")

    first: int | None = Field(default=None, ge=0, description="first frame that is filled; that of the first key when not named")
    stop: int | None = Field(default=None, ge=1, description="the frame behind the last; behind that of the last key when not named")
    lends: Literal["both", "before", "behind"] = Field(default="both", description="on which side the frames are that lend")
    reach: int = Field(default=24, ge=1, le=500, description="how many frames away one may be")
    grain: bool = Field(default=True, description="match the grain")


def frames_named(settings: BorrowFillSettings, keys: list[int]) -> tuple[int, int]:
    """The first frame that is filled, and the one behind the last; keys are the frames the region is drawn at."""
    first = settings.first if settings.first is not None else min(keys, default=0)
    stop = settings.stop if settings.stop is not None else max(keys, default=-1) + 1
    return first, max(first, stop)


def analyse(
    span: Span, settings: BorrowFillSettings, on_progress: Callable[[float], None] | None = None, outside: Masked | None = None
) -> PatchPlan:
    """Fill the region in its frames.

    Parameters
    ----------
    span : Span
        Of the shot.
    settings : BorrowFillSettings
    on_progress : callable
        Told the share done, 0 to 1; may raise to stop.
    outside : Masked
        All that is not to be filled; without it nothing is.
    """
    layout = span.source.format
    if not isinstance(outside, Outside) or not len(span):
        return PatchPlan.of(layout, [], {"frames": [], "unlent": []})
    keys = [k.frame for part in outside.region.parts for k in part.keys]
    first, stop = frames_named(settings, keys)
    places = np.flatnonzero((span.numbers >= first) & (span.numbers < stop))
    size = (layout.height, layout.width)
    sampled = frames_of(span)
    noise = noise_of([luma(f) for f in sampled])
    grain = grain_of(sampled) if settings.grain else None
    masks = {int(k): (1 - outside.mask(size, int(span.numbers[k]))).astype(np.float32) for k in places}
    looks = Looks()
    patches: list[Patch] = []
    unlent: list[int] = []
    for done, place in enumerate(places.tolist()):
        frame = span.source.frame(int(span.numbers[place]))
        mask = masks[place]
        chosen = _lending(span, place, masks, settings)
        lenders = [Lender(span.source.frame(int(span.numbers[k])), masks.get(k)) for k in chosen]
        filled = None if frame.missing else fill(frame, mask, [one for one in lenders if not one.frame.missing], noise, looks)
        if filled is not None:
            part = filled.box.samples(mask) > 0.5
            if part.any() and float(filled.borrowed[part].mean()) < 0.5:
                unlent.append(frame.number)
            # Samples are kept whole here: the region's own soft edge is put on when the step is.
            hard = (mask > 0).astype(np.float32)
            rows, cols = np.nonzero(hard)
            box = (int(cols.min()), int(rows.min()), int(np.ptp(cols)) + 1, int(np.ptp(rows)) + 1)
            samples = patch_samples(frame, filled, hard, grain)
            lent = tuple(int(span.numbers[k]) for k in chosen)
            patches.append(Patch(frame.number, box, 1.0, 0.0, int(hard.sum()), lent[:2], samples))
        if on_progress:
            on_progress((done + 1) / len(places))
    return PatchPlan.of(layout, patches, {"frames": [p.frame for p in patches], "unlent": unlent})


def _lending(span: Span, place: int, masks: dict[int, Mask], settings: BorrowFillSettings) -> list[int]:
    """The nearest frames each side that are sound, and those next to the damaged one that show something of what it hides."""
    sides: dict[int, list[int]] = {-1: [], 1: []}
    for way, name in ((-1, "before"), (1, "behind")):
        if settings.lends not in ("both", name):
            continue
        k = place + way
        while 0 <= k < len(span) and abs(k - place) <= settings.reach:
            if k not in masks:
                # A sound frame shows all; one more of them is enough.
                sides[way] += [k, *([k + way] if 0 <= k + way < len(span) and k + way not in masks else [])]
                break
            if len(sides[way]) < _ASKED and _shows(masks[place], masks[k]) > 0.5:
                sides[way].append(k)
            k += way
    return [*sides[-1], *sides[1]]


def _shows(mine: Mask, other: Mask) -> float:
    """How much of what is damaged in one frame another shows, 0 to 1."""
    part: NDArray[Any] = mine > 0.5
    return float((other[part] < 0.02).mean()) if part.any() else 0.0


STEPS = (
    StepKind(
        kind="borrow-fill",
        title="Borrow fill",
        summary="Fills a drawn region, frame by frame, from earlier and later frames: burns, holes and splices that grow and move.",
        version=1,
        settings=BorrowFillSettings,
        analyse=analyse,
        load=PatchPlan.load,
        learns_from="frames",
        needs_region=True,
        learns_within=True,
        repeats=True,
        shot_settings=("first", "stop"),
    ),
)
