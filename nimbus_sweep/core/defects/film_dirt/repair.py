"""Sweeps off specks and hairs: each is filled from the frames beside it, along the motion, and given their grain."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, replace
from typing import Literal

import cv2
import numpy as np
from numpy.typing import NDArray
from pydantic import BaseModel, ConfigDict, Field

from ...base.parallel import in_processes
from ...evidence.frames_at_hand import Span, frames_of
from ...imaging.grain import Grain
from ...imaging.levels import grain_of, luma, noise_of
from ...imaging.motion import Plane
from ...imaging.patches import Patch, PatchPlan, PatchTable
from ...media.frames import Frame, PictureFormat
from ...model.regions import Masked
from .likelihood import with_prior
from .look_over import look_over
from .neighbours import Neighbour
from .specks import UNLIKELY, Speck

# Frames looked at together, and those lent to them on either side; and bytes of luma that they may take up.
_STRETCH, _LENT, _ROOM = 16, 3, 160 << 20
# Frames up to which the caller looks at them alone.
_ALONE = 64
# Swept off; left alone by the user; because it is not sure enough, or what moves there cannot be followed; by size or sign.
Judged = Literal["swept", "left", "unsure", "fast", "other"]


class LeftAlone(BaseModel):
    """Where and when specks are left alone: in one frame, in a range of frames, in an area."""

    model_config = ConfigDict(frozen=True, extra="forbid")

    first: int = Field(ge=0)
    stop: int = Field(ge=1)
    box: tuple[int, int, int, int] | None = Field(default=None, description="left, top, width, height; everywhere when not named")


class SpeckSweepSettings(BaseModel):
    """Which of the specks that are found are swept off."""

    model_config = ConfigDict(frozen=True, extra="forbid")

    sure: float = Field(default=0.5, ge=0.2, le=0.99, description="how sure it must be that it is a speck")
    takes: Literal["both", "bright", "dark"] = Field(default="both", description="bright ones, dark ones or both")
    smallest: int = Field(default=1, ge=1, le=1_000_000, description="pixels; smaller ones stay")
    largest: int = Field(default=0, ge=0, le=100_000_000, description="pixels; larger ones stay; 0 for no limit")
    left: tuple[LeftAlone, ...] = Field(default=(), max_length=10_000, description="what is left alone")

    def chosen(self, table: PatchTable) -> NDArray[np.bool_]:
        """Which of the patches are put on."""
        chosen = (table.sure >= self.sure) & (table.areas >= self.smallest)
        if self.largest:
            chosen &= table.areas <= self.largest
        if self.takes != "both":
            chosen &= (table.contrast > 0) == (self.takes == "bright")
        return chosen & ~self.dismissed(table)

    def judged(self, table: PatchTable) -> list[Judged]:
        """What becomes of each, and why."""
        swept, gone = self.chosen(table), self.dismissed(table)
        found: list[Judged] = []
        for n in range(len(table)):
            if swept[n] or gone[n]:
                found.append("swept" if swept[n] else "left")
            elif table.sure[n] < self.sure:
                found.append("fast" if table.fast[n] else "unsure")
            else:
                found.append("other")
        return found

    def dismissed(self, table: PatchTable) -> NDArray[np.bool_]:
        """Which are left alone because the user said so: their middle lies where and when he did."""
        gone = np.zeros(len(table), bool)
        middle = table.boxes[:, :2] + table.boxes[:, 2:] / 2
        for rule in self.left:
            here = (table.frames >= rule.first) & (table.frames < rule.stop)
            if rule.box is not None:
                left, top, width, height = rule.box
                here &= (middle[:, 0] >= left) & (middle[:, 0] < left + width) & (middle[:, 1] >= top) & (middle[:, 1] < top + height)
            gone |= here
        return gone


# Settings that only choose among what was found.
CHOOSES = frozenset(SpeckSweepSettings.model_fields)


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
    patches: list[Patch] = []
    stretches = _stretches(span, noise, grain, hold_out)
    # Starting processes takes about as long as a stretch of frames does.
    found = in_processes(_found_in, stretches) if len(span) > _ALONE else map(_found_in, stretches)
    done = 0
    for many, found_here in found:
        patches += found_here
        done += many
        if on_progress:
            on_progress(min(1.0, done / len(span)))
    sure = with_prior(np.array([p.sure for p in patches]), len(span))
    resolved = [replace(p, sure=float(s)) for p, s in zip(patches, sure, strict=True)]
    return PatchPlan.of(layout, [p for p in resolved if p.sure >= UNLIKELY], {"frames": len(span), "noise": round(noise, 3)})


@dataclass(frozen=True)
class _Stretch:
    """Frames that follow one another: those at places `first` to `stop` - 1 are looked at, the others only lend."""

    frames: list[Frame]
    first: int
    stop: int
    noise: float
    grain: tuple[Grain, ...]
    hold_out: Masked | None


def _found_in(stretch: _Stretch) -> tuple[int, list[Patch]]:
    """How many frames were looked at, and what was found in them."""
    layout = stretch.frames[0].format
    patches = []
    looked = look_over([luma(f) for f in stretch.frames], stretch.noise, stretch.first, stretch.stop)
    for n, found_here in zip(range(stretch.first, stretch.stop), looked, strict=True):
        held = None if stretch.hold_out is None else stretch.hold_out.mask((layout.height, layout.width), stretch.frames[n].number)
        for speck, lends, near in found_here.specks:
            if held is None or not held[speck.box][speck.mask].any():
                patches.append(patch_of(stretch.frames, n, speck, lends, near, stretch.grain))
    return stretch.stop - stretch.first, patches


def _stretches(span: Span, noise: float, grain: tuple[Grain, ...], hold_out: Masked | None) -> Iterator[_Stretch]:
    """The frames of a shot, a few at a time, with some that only lend on either side."""
    layout = span.source.format
    most = max(4, min(_STRETCH, _ROOM // (4 * layout.width * layout.height) - 2 * _LENT))
    held: list[Frame] = []
    first = 0
    for frame in span.frames():
        held.append(frame)
        if len(held) >= first + most + _LENT:
            yield _Stretch(held, first, first + most, noise, grain, hold_out)
            keep = max(0, first + most - _LENT)
            held, first = held[keep:], first + most - keep
    if len(held) > first:
        yield _Stretch(held, first, len(held), noise, grain, hold_out)


def patch_of(
    frames: Sequence[Frame], n: int, speck: Speck, lends: tuple[int, ...], near: Sequence[Neighbour], grain: Sequence[Grain]
) -> Patch:
    """A speck's fill for every component of the picture, in the frame's own samples.

    Parameters
    ----------
    frames : sequence of Frame
        Of the stretch.
    n : int
        The speck's frame, as a place in it.
    lends : tuple of int
        The places of the frames that fill it.
    near : sequence of Neighbour
        Those frames along the motion.
    grain : sequence of Grain
        Of each component.
    """
    frame, layout = frames[n], frames[n].format
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
            made = _lent(frames, i, speck, lends, near, part, (across, down), own[part], hole)
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
        tuple(frames[k].number for k in lends),
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
    frames: Sequence[Frame],
    index: int,
    speck: Speck,
    lends: tuple[int, ...],
    near: Sequence[Neighbour],
    part: tuple[slice, slice],
    cells: tuple[int, int],
    samples: NDArray[np.generic],
    hole: NDArray[np.bool_],
) -> Plane:
    """A component of the window made of the frames that lend, at the level around the hole; in 8-bit codes."""
    component = frames[0].format.components[index]
    code = np.float32(component.code)
    rows, cols = np.mgrid[part].astype(np.float32)
    made = np.zeros(hole.shape, np.float32)
    for k, weight, neighbour in zip(lends, speck.weights, near, strict=True):
        if not weight:
            continue
        way = neighbour.motion[
            np.minimum(rows.astype(int) * cells[1], neighbour.motion.shape[0] - 1),
            np.minimum(cols.astype(int) * cells[0], neighbour.motion.shape[1] - 1),
        ]
        lent = frames[k].component(index)
        at = (cols + way[..., 0] / np.float32(cells[0]), rows + way[..., 1] / np.float32(cells[1]))
        # Only what may be asked for is converted.
        y0, x0 = max(0, int(at[1].min()) - 3), max(0, int(at[0].min()) - 3)
        y1, x1 = min(lent.shape[0], int(at[1].max()) + 5), min(lent.shape[1], int(at[0].max()) + 5)
        y0, x0 = min(y0, lent.shape[0] - 1), min(x0, lent.shape[1] - 1)
        piece = lent[y0 : max(y1, y0 + 1), x0 : max(x1, x0 + 1)].astype(np.float32) / code
        moved = cv2.remap(piece, at[0] - np.float32(x0), at[1] - np.float32(y0), cv2.INTER_CUBIC, borderMode=cv2.BORDER_REPLICATE)
        made += np.float32(weight) * moved
    here = samples.astype(np.float32) / code
    ring = (cv2.dilate(hole.astype(np.uint8), np.ones((7, 7), np.uint8)) > 0) & (
        cv2.dilate(hole.astype(np.uint8), np.ones((3, 3), np.uint8)) == 0
    )
    if ring.sum() >= 6:
        made += np.float32(np.median((here - made)[ring]))
    return made
