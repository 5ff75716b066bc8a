"""Specks and hairs that live for one frame: found and filled against the frames before and behind, along the motion.

Seeds are samples outside what both neighbours hold about their place (the rank-ordered difference of Nadenau and Mitra
1997, with a pixel's tolerance); how far they reach is told by the smaller difference of one sign to both (the spike
detection index of Kokaram 1995). A speck is believed for how its repair behaves: filled from the neighbours it must meet
the picture around it, both neighbours must tell the same, and what is taken off must end at its rim and be found nowhere
near by in either of them.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

import cv2
import numpy as np

from ...imaging.motion import Plane
from ...imaging.neighbours import LEAST, SEED, Box, Mask, Neighbour, departures, limits, missed_by_better
from .attempt import ROOM, attempted
from .blobs import blobs_of
from .elsewhere import found_elsewhere
from .likelihood import SpeckEvidence

# What belongs to a speck, in deviations of the noise.
_EXTENT = 2.5
# And in deviations of what the neighbours leave around it.
_UNREST = 3.5
# How far around a speck the picture is asked whether its motion can be trusted, likewise.
_AROUND = 0.03
# Candidates of one sign that are looked at in a frame.
_MOST = 300
# Share of the picture that comes and goes from which it may be weather, or a scene that cannot be followed.
CROWDED = 0.06
# Candidates less sure than this are not kept to be mended.
UNLIKELY = 0.1
# From which one is told of as a speck.
SURE = 0.5
# Marks of a neighbour that has none.
_NOWHERE = np.zeros((1, 1), np.float32)


@dataclass(frozen=True)
class Speck:
    """A speck in a frame.

    Attributes
    ----------
    box : tuple of slice
        Rows and columns of its window.
    mask : ndarray, bool
        The samples that are filled, over the window.
    fill : ndarray, float32
        Luma over the window, in codes.
    weights : tuple of float
        Of the neighbours' samples in the fill.
    grain : float
        How much of one frame's grain the luma of the fill has, 0 to 1.
    bright : bool
    contrast : float
        What it is out by, in codes.
    sure : float
        0 to 1.
    evidence : Evidence
    """

    box: Box
    mask: Mask
    fill: Plane
    weights: tuple[float, ...]
    grain: float
    bright: bool
    contrast: float
    sure: float
    evidence: SpeckEvidence

    def moved(self, part: Box) -> Speck:
        """The same on the picture of which this is a part."""
        (rows, cols), (down, across) = self.box, (part[0].start, part[1].start)
        return replace(self, box=np.s_[rows.start + down : rows.stop + down, cols.start + across : cols.stop + across])


@dataclass(frozen=True)
class Unrest:
    """How far a frame is not told by its neighbours around each place; on a smaller picture, as it changes little from pixel to pixel.

    Attributes
    ----------
    left_over : ndarray, float32, (rows, columns)
        Mean square of what the better neighbour leaves, without what may be specks.
    beside : ndarray, float32, (rows, columns)
        Share of the surroundings that may be specks in the neighbours.
    """

    left_over: Plane
    beside: Plane

    @classmethod
    def of(cls, light: Plane, near: Sequence[Neighbour], marked: Plane) -> Unrest:
        """Of a frame, or a part of it."""
        side = 2 * _reach(near[0].raw.shape) + 1
        step = max(1, side // 9)
        size = (max(1, light.shape[1] // step), max(1, light.shape[0] // step))
        side = 2 * round((side / step - 1) / 2) + 1
        missed = missed_by_better(light, near[0].light, near[1].light, marked)
        small, free = (cv2.resize(p, size, interpolation=cv2.INTER_AREA) for p in (missed, marked))
        left_over = np.maximum(cv2.blur(small, (side, side)), 0) / np.maximum(1 - cv2.blur(free, (side, side)), 0.05)
        beside = cv2.blur(np.maximum(near[0].marked_smaller(step), near[1].marked_smaller(step)), (side, side))
        return cls(left_over, beside)


def _reach(shape: tuple[int, ...]) -> int:
    """How far around a speck, in pixels, a picture of a shape is asked whether its motion can be trusted."""
    return max(7, round(_AROUND * max(shape)))


def around(shape: tuple[int, ...]) -> int:
    """How much of a picture of a shape about a speck tells of it, in pixels."""
    return _reach(shape) + ROOM


def candidates(
    light: Plane,
    near: Sequence[Neighbour],
    noise: float,
    marked: Plane,
    allowed: Mask | None = None,
    one_sided: bool = False,
) -> list[Speck]:
    """What may be specks in a frame, or a part of it, each with how sure it is.

    Parameters
    ----------
    light : ndarray, float32, (height, width)
        Luma, in 8-bit codes.
    near : sequence of Neighbour
        One before and one behind, over the same part.
    noise : float
        Standard deviation of the noise, in codes.
    marked : ndarray, float32, (height, width)
        1 where the frame may hold specks, by a first look.
    allowed : ndarray, bool, (height, width)
        Where they may lie; everywhere when None.
    one_sided : bool
        Both neighbours lie on one side in time: what they agree upon proves less.
    """
    extent = max(_EXTENT * noise, 0.4 * LEAST)
    seen = near[0].seen & near[1].seen
    if allowed is not None:
        seen = seen & allowed
    frame = _Compared(light, near, noise, Unrest.of(light, near, marked), one_sided)
    # Where the neighbours do not tell the scene well anyway, more is asked of a seed.
    least_out = np.maximum(np.float32(max(SEED * noise, LEAST)), np.float32(_UNREST) * np.sqrt(frame.unrest.left_over))
    made: list[Speck] = []
    held = limits(near[0], near[1])
    for bright in (True, False):
        out, departs, seeds = departures(light, near, held, seen, bright, least_out)
        taken = np.zeros(light.shape, bool)
        # Where more than that many depart it is no dirt, and looking at each would take for ever.
        for box, blob, strength in _strongest(blobs_of(departs, out, seeds, extent, near[0].raw.shape)):
            if (taken[box] & blob).any():
                continue
            speck = _tried(frame, departs, box, blob, bright, strength)
            if speck is not None:
                made.append(speck)
                if speck.sure >= SURE:
                    taken[speck.box] |= speck.mask
    return apart(made)


def ring_about(hole: Mask) -> Mask:
    """What lies two and three pixels from a hole: bool, of its shape."""
    near, far = (cv2.dilate(np.ascontiguousarray(hole, np.uint8), np.ones((n, n), np.uint8)) > 0 for n in (3, 7))
    return np.asarray(far & ~near)


def apart(found: list[Speck]) -> list[Speck]:
    """Each place once: of candidates that overlap the surest stays."""
    kept: list[Speck] = []
    for speck in sorted(found, key=lambda s: -s.sure):
        if all(not overlapping(speck, other) for other in kept):
            kept.append(speck)
    return kept


def overlapping(one: Speck, other: Speck) -> bool:
    (a, b), (c, d) = one.box, other.box
    top, bottom, left, right = max(a.start, c.start), min(a.stop, c.stop), max(b.start, d.start), min(b.stop, d.stop)
    if top >= bottom or left >= right:
        return False
    mine = one.mask[top - a.start : bottom - a.start, left - b.start : right - b.start]
    return bool((mine & other.mask[top - c.start : bottom - c.start, left - d.start : right - d.start]).any())


def _strongest(blobs: list[tuple[Box, Mask, float]]) -> list[tuple[Box, Mask, float]]:
    """The strongest of very many, the largest first."""
    if len(blobs) <= _MOST:
        return blobs
    least = sorted((b[2] for b in blobs), reverse=True)[_MOST]
    return [b for b in blobs if b[2] > least]


@dataclass(frozen=True)
class _Compared:
    """A frame, and what it is held against."""

    light: Plane
    near: Sequence[Neighbour]
    noise: float
    unrest: Unrest
    one_sided: bool


def _tried(frame: _Compared, departs: Plane, box: Box, blob: Mask, bright: bool, strength: float) -> Speck | None:
    """A blob filled from the neighbours, and how it behaves."""
    one, other = frame.near
    made = attempted(
        frame.light,
        (one.light, other.light),
        (one.seen, other.seen),
        (_NOWHERE if one.marks is None else one.marks.whole, _NOWHERE if other.marks is None else other.marks.whole),
        (one.x, other.x),
        (one.y, other.y),
        departs,
        frame.unrest.left_over,
        frame.unrest.beside,
        blob,
        box[0].start,
        box[1].start,
        frame.noise,
        bright,
        strength,
        frame.one_sided,
        0.6 * max(SEED * frame.noise, LEAST),
        UNLIKELY,
    )
    if made is None:
        return None
    found = found_elsewhere(frame.light, made, frame.near)
    evidence = SpeckEvidence(*made.told, found)
    if evidence.sure < UNLIKELY:
        return None
    rows, cols = made.core.shape
    window = np.s_[made.top : made.top + rows, made.left : made.left + cols]
    kept = float(np.sqrt(sum((w * g) ** 2 for w, g in zip(made.shares, made.gains, strict=True))))
    return Speck(window, made.hole, made.fill, made.shares, kept, bright, made.contrast, evidence.sure, evidence)
