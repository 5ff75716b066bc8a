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
from numpy.typing import NDArray

from ...imaging.motion import Plane
from ...imaging.neighbours import LEAST, SEED, Box, Mask, Neighbour, departures, disc, limits, missed_by_better
from .examine import at_blob, examined
from .likelihood import UNTOLD, SpeckEvidence

# What belongs to a speck, in deviations of the noise.
_EXTENT = 2.5
# And in deviations of what the neighbours leave around it.
_UNREST = 3.5
# Levels, as shares of a blob's strongest departure, at which it is cut loose from what else departs.
_LEVELS = (0.0, 0.12, 0.25, 0.5)
# Pixels a hole may reach beyond what departs, and the gap to the ring it is fitted on, and that ring.
_SOFT, _GAP, _RING = 4, 1, 5
# The largest part of the picture, and of its longer side, that a speck takes up.
_LARGEST, _LONGEST = 0.012, 0.4
# How far a thing may have moved, of the picture's longer side, to be looked for in the neighbours.
_SEARCH = 0.07
# How far around a speck the picture is asked whether its motion can be trusted, likewise.
_AROUND = 0.03
# Candidates of one sign that are looked at in a frame.
_MOST = 300
# Share of the picture that comes and goes from which it may be weather, or a scene that cannot be followed.
CROWDED = 0.06
# Candidates less sure than this are not kept.
UNLIKELY = 0.2
# A sample of the hole is left as it is where what is taken off is no more than this, in codes.
_KEPT = 1.7


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
        """Of a frame."""
        side = 2 * max(7, round(_AROUND * max(light.shape))) + 1
        step = max(1, side // 9)
        size = (max(1, light.shape[1] // step), max(1, light.shape[0] // step))
        side = 2 * round((side / step - 1) / 2) + 1
        missed = missed_by_better(light, near[0].light, near[1].light, marked)
        small, free = (cv2.resize(p, size, interpolation=cv2.INTER_AREA) for p in (missed, marked))
        left_over = np.maximum(cv2.blur(small, (side, side)), 0) / np.maximum(1 - cv2.blur(free, (side, side)), 0.05)
        beside = cv2.blur(np.maximum(near[0].marked_smaller(step), near[1].marked_smaller(step)), (side, side))
        return cls(left_over, beside)


def candidates(
    light: Plane,
    near: Sequence[Neighbour],
    noise: float,
    marked: Plane,
    allowed: Mask | None = None,
    one_sided: bool = False,
    least: float | None = None,
) -> list[Speck]:
    """What may be specks in a frame, each with how sure it is.

    Parameters
    ----------
    light : ndarray, float32, (height, width)
        Luma, in 8-bit codes.
    near : sequence of Neighbour
        One before and one behind.
    noise : float
        Standard deviation of the noise, in codes.
    marked : ndarray, float32, (height, width)
        1 where the frame may hold specks, by a first look.
    allowed : ndarray, bool, (height, width)
        Where they may lie; everywhere when None.
    one_sided : bool
        Both neighbours lie on one side in time: what they agree upon proves less.
    least : float
        How sure they must be to be kept at all.
    """
    extent = max(_EXTENT * noise, 0.4 * LEAST)
    seen = near[0].seen & near[1].seen
    if allowed is not None:
        seen = seen & allowed
    frame = _Compared(light, near, noise, Unrest.of(light, near, marked), one_sided, UNLIKELY if least is None else least)
    # Where the neighbours do not tell the scene well anyway, more is asked of a seed.
    least_out = np.maximum(np.float32(max(SEED * noise, LEAST)), np.float32(_UNREST) * np.sqrt(frame.unrest.left_over))
    made: list[Speck] = []
    held = limits(near[0], near[1])
    for bright in (True, False):
        out, departs, seeds = departures(light, near, held, seen, bright, least_out)
        taken = np.zeros(light.shape, bool)
        # Where more than that many depart it is no dirt, and looking at each would take for ever.
        for box, blob, strength in _strongest(_blobs(departs, out, seeds, extent)):
            if (taken[box] & blob).any():
                continue
            speck = _tried(frame, departs, box, blob, bright, strength)
            if speck is not None:
                made.append(speck)
                if speck.sure >= 0.5:
                    taken[speck.box] |= speck.mask
    return _apart(made)


def _apart(found: list[Speck]) -> list[Speck]:
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


def _blobs(departs: Plane, out: Plane, seeds: Mask, extent: float) -> list[tuple[Box, Mask, float]]:
    """Windows of blobs that hold a seed, at several levels, the largest first."""
    size, longest = departs.size, _LONGEST * max(departs.shape)
    if not seeds.any():
        return []
    _, named, stats, _ = cv2.connectedComponentsWithStats((departs > extent).astype(np.uint8), connectivity=8)
    blobs: list[tuple[Box, Mask, float]] = []
    holding = np.unique(named[seeds])
    for n in holding[holding > 0]:
        left, top, wide, tall, _ = (int(v) for v in stats[n])
        box = np.s_[top : top + tall, left : left + wide]
        blob_mask = named[box] == n
        inner, outer, held_seeds = departs[box], out[box], seeds[box]
        peak = float(inner[blob_mask].max())
        before = -1
        for share in _LEVELS:
            level = max(extent, share * peak)
            count, parts, sizes, _ = cv2.connectedComponentsWithStats((blob_mask & (inner > level)).astype(np.uint8), connectivity=8)
            area = int(sizes[1:, cv2.CC_STAT_AREA].sum())
            if area == before:
                continue
            before = area
            for k in range(1, count):
                x, y, w, h, held = (int(v) for v in sizes[k])
                if held > _LARGEST * size or max(w, h) > longest or held < 2:
                    continue
                part = np.s_[y : y + h, x : x + w]
                blob = parts[part] == k
                if held_seeds[part][blob].any():
                    strength = float(outer[part][blob].max())
                    blobs.append((np.s_[top + y : top + y + h, left + x : left + x + w], blob, strength))
    return sorted(blobs, key=lambda b: -int(b[1].sum()))


def _strongest(blobs: list[tuple[Box, Mask, float]]) -> list[tuple[Box, Mask, float]]:
    """The strongest of very many, the largest first."""
    if len(blobs) <= _MOST:
        return blobs
    least = sorted((b[2] for b in blobs), reverse=True)[_MOST]
    return [b for b in blobs if b[2] > least]


def _window(box: Box, by: int, shape: tuple[int, ...]) -> Box:
    rows, cols = box
    return (
        slice(max(0, rows.start - by), min(shape[0], rows.stop + by)),
        slice(max(0, cols.start - by), min(shape[1], cols.stop + by)),
    )


@dataclass(frozen=True)
class _Compared:
    """A frame, what it is held against, and how sure what is found must be."""

    light: Plane
    near: Sequence[Neighbour]
    noise: float
    unrest: Unrest
    one_sided: bool
    least: float


def _tried(frame: _Compared, departs: Plane, box: Box, blob: Mask, bright: bool, strength: float) -> Speck | None:
    """A blob filled from the neighbours, and how it behaves."""
    noise, unrest, least = frame.noise, frame.unrest, frame.least
    # Most of what departs is texture that was not followed, and is known by what is about it without being filled.
    rough, left_over, beside = at_blob(departs, unrest.left_over, unrest.beside, blob, box[0].start, box[1].start)
    wide, area = float(np.sqrt(left_over)), float(blob.sum())
    hoped = SpeckEvidence(rough, 0.0, 0.0, 0.05, 0.0, area, 2, min(1.0, strength / rough), 0.0, wide / rough, beside, 2.0, 1.0)
    if hoped.sure < least:
        return None
    window, core = _windowed(box, blob, frame.light.shape)
    soft = cv2.dilate(core, disc(_SOFT))
    beyond = cv2.dilate(soft, disc(_GAP))
    here = frame.light[window]
    made = examined(
        here,
        (frame.near[0].light[window], frame.near[1].light[window]),
        (frame.near[0].seen[window], frame.near[1].seen[window]),
        (frame.near[0].marked_in(window), frame.near[1].marked_in(window)),
        (frame.near[0].x[window], frame.near[1].x[window]),
        (frame.near[0].y[window], frame.near[1].y[window]),
        core,
        cv2.subtract(cv2.dilate(beyond, disc(_RING)), beyond),
        noise,
        bright,
    )
    if made is None or made.contrast < 0.6 * max(SEED * noise, LEAST):
        return None
    contrast = made.contrast
    sound = sum(m <= 0.1 and use for m, use in zip(made.marks, made.usable, strict=True))
    evidence = SpeckEvidence(
        contrast=contrast,
        misfit=made.misfit / contrast,
        differ=made.differ / contrast if made.differ >= 0 else UNTOLD,
        moves=made.moves,
        life=made.life / contrast,
        area=area,
        usable=min(1 if frame.one_sided else 2, sound),
        strength=strength / contrast,
        least=made.least / contrast,
        wide=wide / contrast,
        beside=beside,
        flat=made.flat / contrast,
        found=1.0,
    )
    # What does not convince even if all that is costly to tell spoke for it need not be looked at further.
    if evidence.sure < least:
        return None
    hole = _reached(made.layer, core, soft, max(2 * noise, 0.05 * contrast, 1.3 * made.misfit, _KEPT))
    evidence = replace(evidence, area=float(np.count_nonzero(hole)))
    if evidence.sure < least:
        return None
    evidence = replace(evidence, found=_found_elsewhere(here, core, contrast, frame.near, made.usable, window))
    if evidence.sure < least:
        return None
    kept = float(np.sqrt(sum((w * g) ** 2 for w, g in zip(made.shares, made.gains, strict=True))))
    return Speck(window, hole, made.fill, made.shares, kept, bright, contrast, evidence.sure, evidence)


def _windowed(box: Box, blob: Mask, shape: tuple[int, ...]) -> tuple[Box, NDArray[np.uint8]]:
    """The window about a blob, and 1 where the blob lies in it."""
    window = _window(box, _SOFT + _GAP + _RING + 1, shape)
    core = np.zeros((window[0].stop - window[0].start, window[1].stop - window[1].start), np.uint8)
    y, x = box[0].start - window[0].start, box[1].start - window[1].start
    core[y : y + blob.shape[0], x : x + blob.shape[1]] = blob
    return window, core


def _reached(layer: Plane, core: NDArray[np.uint8], wide: NDArray[np.uint8], least: float) -> Mask:
    """The hole: what departs about the core, hanging together with it, closed."""
    out = ((layer > least) & (wide > 0)) | (core > 0)
    closed = cv2.morphologyEx(out.astype(np.uint8), cv2.MORPH_CLOSE, disc(1)) & wide
    _, named = cv2.connectedComponents(closed, connectivity=8)
    held = np.unique(named[core > 0])
    return np.isin(named, held[held > 0])


def _found_elsewhere(
    here: Plane, core: NDArray[np.uint8], contrast: float, near: Sequence[Neighbour], usable: Sequence[bool], window: Box
) -> float:
    """How well the same thing is found near by in a neighbour: what is left over, of its contrast; small for what only moved."""
    shape = near[0].raw.shape
    reach = max(8, int(_SEARCH * max(shape)))
    mask = cv2.dilate(core, disc(2))
    rows, cols = np.flatnonzero(mask.any(1)), np.flatnonzero(mask.any(0))
    part = np.s_[rows[0] : rows[-1] + 1, cols[0] : cols[-1] + 1]
    thing, mask = here[part], mask[part].astype(np.float32)
    # What is large enough to be known at half the size is looked for so; what is not, is not looked for so far.
    step = 2 if min(thing.shape) >= 8 and reach > 24 else 1
    reach = reach if step > 1 else min(reach, 32)
    if step > 1:
        size = (max(3, thing.shape[1] // step), max(3, thing.shape[0] // step))
        thing, mask = cv2.resize(thing, size, interpolation=cv2.INTER_AREA), cv2.resize(mask, size, interpolation=cv2.INTER_AREA)
    weight = float(mask.sum())
    best = np.inf
    for n, use in zip(near, usable, strict=True):
        if not use:
            continue
        middle = n.motion(window)[core > 0].mean(0)
        top = int(window[0].start + rows[0] + middle[1]) - reach
        left = int(window[1].start + cols[0] + middle[0]) - reach
        bottom, right = top + 2 * reach + (part[0].stop - part[0].start), left + 2 * reach + (part[1].stop - part[1].start)
        top, left, bottom, right = max(0, top), max(0, left), min(shape[0], bottom), min(shape[1], right)
        place = n.raw[top:bottom, left:right]
        if step > 1 and min(place.shape) >= 2:
            place = cv2.resize(place, (max(1, place.shape[1] // step), max(1, place.shape[0] // step)), interpolation=cv2.INTER_AREA)
        if place.shape[0] < thing.shape[0] or place.shape[1] < thing.shape[1]:
            continue
        left_over = cv2.matchTemplate(place, thing, cv2.TM_SQDIFF, mask=mask)
        best = min(best, float(left_over.min()))
    return float(np.sqrt(max(best, 0) / weight) / contrast) if np.isfinite(best) else 1.0
