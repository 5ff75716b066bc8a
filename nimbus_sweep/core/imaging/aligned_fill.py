"""Filling a part of a frame from other frames of the shot: each aligned on its own by what moves around the part.

How the scene has gone is told on the place about the part, first coarsely on the whole picture, then finely with the
part itself left out (see `borrow.Hole`); what no frame shows is made up from the surroundings.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field, replace

import cv2
import numpy as np
from numpy.typing import NDArray

from ..media.frames import Component, Frame, PictureFormat, Samples, as_numbers
from .borrowing import Hole, Lent
from .box import Box
from .grain import Grain
from .levels import luma
from .motion import Plane, agreement, carried, flow, look

Mask = NDArray[np.float32]
# Pixels about a part that tell how it is to be filled, at least and at most, and as a share of its size.
_ROOM, _WIDEST, _SHARE = 24, 120, 0.75
# Longer side of the picture that coarse motion is told on.
_COARSE = 240
# Codes by which a frame may miss the surroundings before what these make up is trusted as much: at an edge it misses by many,
# and is nearer to the truth all the same.
_DOUBT = 30.0
# Share of a sample that must be covered before it is rewritten.
_LEAST = 0.004


@dataclass(frozen=True)
class Lender:
    """A frame that lends.

    Attributes
    ----------
    frame : Frame
    hidden : ndarray, float32, (height, width) or None
        Where it must not be borrowed from, 0 to 1.
    nudge : tuple of float
        What is added by hand to where it is found, in pixels across and down.
    """

    frame: Frame
    hidden: Mask | None = None
    nudge: tuple[float, float] = (0.0, 0.0)


@dataclass(frozen=True)
class Filled:
    """A part of a frame, filled.

    Attributes
    ----------
    box : Box
        The place the fill is for, in pixels, on whole chroma cells.
    planes : tuple of ndarray, float32
        The place filled, for each component at its own size, in 8-bit codes (see `codes`); without fresh grain.
    own : tuple of ndarray, float32
        The same as it was.
    borrowed : ndarray, float32, (height, width)
        How far it comes from other frames, 0 to 1.
    same : ndarray, float32, (height, width)
        How much of its own grain the fill has kept.
    """

    box: Box
    planes: tuple[Plane, ...]
    own: tuple[Plane, ...]
    borrowed: Plane
    same: Plane


def codes(samples: Samples, component: Component) -> Plane:
    """Samples in 8-bit codes.

    Parameters
    ----------
    samples : ndarray, uint8, uint16 or float32, (height, width)
    component : Component

    Returns
    -------
    ndarray, float32, (height, width)
        Colour differences lie about 0.
    """
    return as_numbers(samples) / np.float32(component.code) - np.float32(128 if component.is_chroma else 0)


def place_about(mask: Mask, layout: PictureFormat) -> Box | None:
    """The place about a masked part that tells how it is to be filled.

    Parameters
    ----------
    mask : ndarray, float32, (height, width)
        0 to 1.
    layout : PictureFormat

    Returns
    -------
    Box or None
        On whole chroma cells; None for an empty mask.
    """
    rows, cols = np.flatnonzero((mask > _LEAST).any(1)), np.flatnonzero((mask > _LEAST).any(0))
    if not len(rows):
        return None
    size = max(rows[-1] - rows[0], cols[-1] - cols[0]) + 1
    room = int(min(_WIDEST, max(_ROOM, _SHARE * size)))
    return cells_box(int(cols[0]) - room, int(rows[0]) - room, int(cols[-1]) + 1 + room, int(rows[-1]) + 1 + room, layout)


def cells_box(left: int, top: int, right: int, bottom: int, layout: PictureFormat) -> Box:
    """A box kept on the picture, its edges on whole chroma cells."""
    across = max(layout.subsampling(i)[0] for i in range(len(layout.components)))
    down = max(layout.subsampling(i)[1] for i in range(len(layout.components)))
    left, top = max(0, left) // across * across, max(0, top) // down * down
    right, bottom = min(layout.width, -(-right // across) * across), min(layout.height, -(-bottom // down) * down)
    return Box(left, top, right - left, bottom - top)


@dataclass(frozen=True)
class Coarse:
    """A frame's luma made small, for coarse motion."""

    gray: NDArray[np.uint8]
    factor: float

    @classmethod
    def of(cls, frame: Frame) -> Coarse:
        """Of a frame."""
        light = luma(frame)
        factor = max(1.0, max(light.shape) / _COARSE)
        small = cv2.resize(
            light, (max(8, round(light.shape[1] / factor)), max(8, round(light.shape[0] / factor))), interpolation=cv2.INTER_AREA
        )
        return cls(look(small, 1.0).gray, factor)


def shift_about(one: Coarse, other: Coarse, box: Box, mask: Mask | None = None) -> tuple[float, float]:
    """How far what lies about a place, and not in the masked part, has gone from one frame to another: pixels across and down."""
    found, back = flow(one.gray, other.gray), flow(other.gray, one.gray)
    height, width = one.gray.shape
    reach = max(box.width, box.height) / one.factor / 4
    top, bottom = (int(np.clip(v, 0, height)) for v in (box.top / one.factor - reach, (box.top + box.height) / one.factor + reach + 1))
    left, right = (int(np.clip(v, 0, width)) for v in (box.left / one.factor - reach, (box.left + box.width) / one.factor + reach + 1))
    cut = np.s_[top : max(bottom, top + 1), left : max(right, left + 1)]
    # What goes there and comes back to where it was counts; what is hidden does not.
    sure = agreement(found, back)[cut] > 0.5
    if mask is not None:
        hidden = cv2.resize(mask, (width, height), interpolation=cv2.INTER_AREA)
        sure &= cv2.dilate(hidden, np.ones((5, 5), np.uint8))[cut] < 0.01
    part = found[cut][sure] if sure.sum() >= 12 else found[cut].reshape(-1, 2)
    middle = np.median(part, 0) * one.factor
    return float(middle[0]), float(middle[1])


@dataclass
class Looks:
    """Frames made small once each, the last few kept."""

    most: int = 24
    _held: dict[int, Coarse] = field(default_factory=dict)

    def of(self, frame: Frame) -> Coarse:
        """Of a frame, by its number."""
        if frame.number not in self._held:
            while len(self._held) >= self.most:
                self._held.pop(next(iter(self._held)))
            self._held[frame.number] = Coarse.of(frame)
        return self._held[frame.number]


def fill(frame: Frame, mask: Mask, lenders: Sequence[Lender], noise: float, looks: Looks | None = None) -> Filled | None:
    """Fill a part of a frame from others.

    Parameters
    ----------
    frame : Frame
    mask : ndarray, float32, (height, width)
        The part, 0 to 1; all that is above zero is filled.
    lenders : sequence of Lender
    noise : float
        Standard deviation of the grain of luma, in codes.
    looks : Looks
        Kept between calls on frames of one shot.

    Returns
    -------
    Filled
        None when the mask is empty.
    """
    layout = frame.format
    box = place_about(mask, layout)
    if box is None:
        return None
    looks = looks or Looks()
    own = _planes(frame, box)
    chroma = tuple(c.is_chroma for c in layout.components)
    light = _light(own, layout)
    hole = Hole((box.cut(mask) > _LEAST).astype(np.float32), noise, chroma, _DOUBT)
    filled = hole.filled(light, own, [_lent(hole, frame, lender, box, mask, looks) for lender in lenders])
    return Filled(box, filled.planes, own, filled.borrowed, filled.same)


def _lent(hole: Hole, frame: Frame, lender: Lender, box: Box, mask: Mask | None, looks: Looks) -> tuple[Lent, tuple[float, float]]:
    """A lender's place ready to be borrowed from, cut where the scene has gone, and how far it has gone beyond that."""
    layout = frame.format
    across, down = (max(layout.subsampling(i)[k] for i in range(len(layout.components))) for k in (0, 1))
    shift = shift_about(looks.of(frame), looks.of(lender.frame), box, mask)
    # In whole chroma cells; the rest is told finely.
    whole = (round(shift[0] / across) * across, round(shift[1] / down) * down)
    there = box.moved(*whole)
    planes = _planes(lender.frame, there)
    hidden = 1 - there.on((layout.height, layout.width))
    if lender.hidden is not None:
        hidden = np.maximum(hidden, there.samples(lender.hidden))
    made = replace(hole.lent(_light(planes, layout), planes, hidden), nudge=lender.nudge)
    return made, (shift[0] - whole[0], shift[1] - whole[1])


def aligned(frame: Frame, lender: Lender, box: Box, mask: Mask | None, looks: Looks | None = None) -> tuple[Plane, ...]:
    """A place of a frame as another one shows it, along the motion about a part of it.

    Parameters
    ----------
    frame : Frame
    lender : Lender
    box : Box
        The place, on whole chroma cells.
    mask : ndarray, float32, (height, width) of the place, or None
        The part that does not tell the motion, 0 to 1.
    looks : Looks
        Kept between calls on frames of one shot.

    Returns
    -------
    tuple of ndarray, float32
        For each component at its own size, in 8-bit codes (see `codes`).
    """
    layout = frame.format
    looks = looks or Looks()
    hidden = np.zeros(box.shape, np.float32) if mask is None else (mask > _LEAST).astype(np.float32)
    whole_mask = None
    if mask is not None:
        whole_mask = np.zeros((layout.height, layout.width), np.float32)
        box.put(mask, whole_mask)
    hole = Hole(hidden, 1.0, tuple(c.is_chroma for c in layout.components), _DOUBT)
    lent, rest = _lent(hole, frame, lender, box, whole_mask, looks)
    way = hole.way_to(_light(_planes(frame, box), layout), lent, rest)
    made = []
    for i, plane in enumerate(lent.planes):
        cells = layout.subsampling(i)
        own = way if cells == (1, 1) else cv2.resize(way, plane.shape[::-1], interpolation=cv2.INTER_AREA) / np.array(cells, np.float32)
        # What has not moved is taken as it is.
        made.append(plane if float(np.abs(own).max()) < 0.02 else carried(plane, own.astype(np.float32)))
    return tuple(made)


def _light(planes: tuple[Plane, ...], layout: PictureFormat) -> Plane:
    names = [c.name for c in layout.components]
    return planes[names.index("G") if "G" in names else 0]


def _planes(frame: Frame, box: Box) -> tuple[Plane, ...]:
    layout = frame.format
    return tuple(codes(cells_of(box, layout, i).samples(frame.component(i)), c) for i, c in enumerate(layout.components))


def cells_of(box: Box, layout: PictureFormat, index: int) -> Box:
    """The place in samples of a component; its edges lie on whole cells."""
    across, down = layout.subsampling(index)
    return Box(box.left // across, box.top // down, -(-box.width // across), -(-box.height // down))


def patch_samples(
    frame: Frame, filled: Filled, mask: Mask, grain: Sequence[Grain] | None, seed: tuple[int, ...] = ()
) -> tuple[tuple[NDArray[np.int64], Samples], ...]:
    """What is put into each component of a frame, blended in by the mask, with the grain that an average of frames lacks.

    Parameters
    ----------
    frame : Frame
    filled : Filled
        Of the frame.
    mask : ndarray, float32, (height, width)
        0 to 1.
    grain : sequence of Grain
        Of each component; none is added when None.
    seed : tuple of int
        Tells one fill's grain from another's.
    """
    layout, box = frame.format, filled.box
    samples: list[tuple[NDArray[np.int64], Samples]] = []
    part = box.cut(mask)
    for i, component in enumerate(layout.components):
        own, made = filled.own[i], filled.planes[i]
        if component.name == "A":
            samples.append((np.zeros(0, np.int64), np.zeros(0, layout.dtype)))
            continue
        share = part if own.shape == part.shape else cv2.resize(part, own.shape[::-1], interpolation=cv2.INTER_AREA)
        if grain is not None:
            kept = filled.same if own.shape == part.shape else cv2.resize(filled.same, own.shape[::-1], interpolation=cv2.INTER_AREA)
            fresh = grain[i].fresh(made, (frame.number, box.left, box.top, i, *seed))
            made = made + np.sqrt(np.maximum(0, 1 - kept * kept)) * fresh
        rows, cols = np.nonzero(share > _LEAST)
        weight = share[rows, cols]
        value = own[rows, cols] * (1 - weight) + made[rows, cols] * weight
        across, down = layout.subsampling(i)
        y, x = rows + box.top // down, cols + box.left // across
        zero = 128 if component.is_chroma else 0
        put = component.samples((value.astype(np.float64) + zero) * component.code, frame.component(i).dtype)
        samples.append((y.astype(np.int64) * component.width + x, put))
    return tuple(samples)
