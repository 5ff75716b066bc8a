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
from functools import cache
from math import exp, log

import cv2
import numpy as np
from numpy.typing import NDArray

from ..imaging.motion import Field, Gray, Plane, flow, grid, inside, look

Mask = NDArray[np.bool_]
Box = tuple[slice, slice]

# What a seed is out by and what belongs to it, in deviations of the noise; and at least, in 8-bit codes.
_SEED, _EXTENT, _LEAST = 5.0, 2.5, 6.0
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
# Shorter side of a picture from which motion is told at half the size.
_HALF = 400
# What of its contrast a thing leaves that is found again, and the difference taken for two neighbours of which one is not seen.
_FOUND, _UNTOLD = 0.3, 0.3
_BIAS = -0.21
# What stays for two frames departs from the frame beside it by no more than this share; where more of the picture does
# so than this, it moves; and less sure ones are not believed.
_STAYS, _CROWDED, _LASTS = 0.35, 0.03, 0.5
# Candidates of one sign that are looked at in a frame.
_MOST = 300
# Share of the picture that comes and goes from which it may be weather, or a scene that cannot be followed.
CROWDED = 0.06
# Specks a frame at which a candidate is as sure as its evidence says, what is added to both so that a few frames do not
# tell too much, and what is counted.
_USUAL, _FEW, _CERTAIN = 4.0, 0.3, 0.9
# In codes, what is plainly seen.
_PLAIN = 20.0
# Candidates less sure than this are not kept.
UNLIKELY = 0.2
# A sample of the hole is left as it is where what is taken off is no more than this, in codes.
_KEPT = 1.7


@dataclass(frozen=True)
class Pair:
    """The way from a frame to the next, and back: (height, width, 2), in pixels, x first."""

    there: Field
    back: Field


@dataclass(frozen=True)
class Neighbour:
    """A frame beside the one looked at, along the motion.

    Attributes
    ----------
    light : ndarray, float32, (height, width)
        Its luma where the scene of each pixel lies in it, in codes.
    marked : ndarray, float32, (height, width)
        How far that is marked itself, 0 to 1.
    seen : ndarray, bool, (height, width)
        Where the scene lies inside its picture.
    motion : ndarray, float32, (height, width, 2)
    raw : ndarray, float32, (height, width)
        Its luma as it is.
    """

    light: Plane
    marked: Plane
    seen: Mask
    motion: Field
    raw: Plane


@dataclass(frozen=True)
class Evidence:
    """How the repair of a candidate behaves.

    Attributes
    ----------
    contrast : float
        What it is out by, in codes; the shares below are of it.
    misfit, least : float
        What the fill, and the better neighbour, miss on the ring around the hole.
    differ : float
        By how much the two neighbours tell different things inside.
    moves : float
        Spread of the motion on the ring, in pixels.
    life, flat : float
        Deviation of the ring, and from a plane through it.
    area : float
        Samples of the hole.
    usable : int
        Neighbours that are not marked there themselves.
    strength : float
        The largest rank-ordered difference.
    wide : float
        What the better neighbour misses in the wider surroundings.
    beside : float
        Share of those that may be specks in the neighbours.
    found : float
        What is left over where it is best found near by in a neighbour.
    """

    contrast: float
    misfit: float
    differ: float
    moves: float
    life: float
    area: float
    usable: int
    strength: float
    least: float
    wide: float
    beside: float
    flat: float
    found: float

    @property
    def fast(self) -> bool:
        """Whether it would be taken for a speck if the motion about it could be followed."""
        followed = replace(self, moves=0.05, wide=0.0, beside=0.0)
        return self.contrast >= _PLAIN and self.sure < 0.5 and followed.sure >= _CERTAIN

    @property
    def sure(self) -> float:
        """How sure it is a speck, 0 to 1."""
        single = 2 - self.usable
        log_area = log(min(max(self.area, 2), 5000))
        told = (
            _BIAS
            + 2.08 * log(min(max(self.contrast, 3), 200))
            - 1.53 * min(self.misfit, 2) ** 0.5
            + (1.55 * single - 6.49) * min(self.differ, 2) ** 0.5
            - 0.55 * log(min(max(self.moves, 0.05), 30))
            - 1.22 * min(self.life, 4) ** 0.5
            - 0.62 * log_area
            - 1.45 * single
            + 3.03 * min(max(self.strength, 0), 1)
            - 1.89 * min(self.least, 2) ** 0.5
            - 5.01 * min(self.wide, 2) ** 0.5
            - 3.26 * max(self.beside, 0) ** 0.5
            + 1.02 * min(self.flat, 2) ** 0.5
            - 31.8 * max(0.0, _FOUND - self.found)
            - 0.88 * max(0.0, log_area - 6)
        )
        return 1 / (1 + exp(-min(max(told, -40), 40)))


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
    evidence: Evidence


def ready(light: Plane, noise: float) -> Gray:
    """A picture made ready for motion: at half the size where it is large."""
    if min(light.shape) < _HALF:
        return look(light, noise).gray
    size = (light.shape[1] // 2, light.shape[0] // 2)
    return look(cv2.resize(light, size, interpolation=cv2.INTER_AREA), noise / 2).gray


def pair(one: Gray, other: Gray, shape: tuple[int, ...]) -> Pair:
    """How the scene moves from one frame to the next, and back, at the pictures' full size.

    Parameters
    ----------
    one, other : ndarray, uint8
        As `ready` gives them.
    shape : tuple of int
        Height and width of the frames.
    """
    ways = (flow(one, other), flow(other, one))
    if one.shape == shape:
        return Pair(*ways)
    scale = np.array([shape[1] / one.shape[1], shape[0] / one.shape[0]], np.float32)
    return Pair(*(cv2.resize(w, shape[::-1], interpolation=cv2.INTER_LINEAR) * scale for w in ways))


def onward(way: Field, next_way: Field, places: Field) -> Field:
    """One way, and another from where it leads to."""
    return way + cv2.remap(next_way, places + way, None, cv2.INTER_LINEAR, borderMode=cv2.BORDER_REPLICATE)


def along(other: Plane, marked: Plane | None, there: Field, places: Field) -> Neighbour:
    """A neighbouring frame along the way there."""
    at = places + there
    light = cv2.remap(other, at, None, cv2.INTER_CUBIC, borderMode=cv2.BORDER_REPLICATE)
    own = np.zeros_like(light) if marked is None else cv2.remap(marked, at, None, cv2.INTER_LINEAR)
    return Neighbour(light, own, inside(there, places, 1.0), there, other)


def limits(near: Sequence[Neighbour]) -> tuple[Plane, Plane]:
    """The least and the most that the neighbours hold about each place, with a pixel's tolerance."""
    kernel = np.ones((3, 3), np.uint8)
    return (
        np.minimum.reduce([cv2.erode(n.light, kernel) for n in near]),
        np.maximum.reduce([cv2.dilate(n.light, kernel) for n in near]),
    )


def departures(light: Plane, near: Sequence[Neighbour], held: tuple[Plane, Plane], bright: bool) -> tuple[Plane, Plane]:
    """Rank-ordered departure and smaller difference of one sign, in codes; negative where there is none.

    Parameters
    ----------
    light : ndarray, float32, (height, width)
    near : sequence of Neighbour
    held : tuple of ndarray
        What they hold, see `limits`.
    bright : bool
        What is brighter than both neighbours, or darker.
    """
    low, high = held
    out = light - high if bright else low - light
    differences = [light - n.light if bright else n.light - light for n in near]
    return out, np.minimum.reduce(differences)


@dataclass(frozen=True)
class Unrest:
    """How far a frame is not told by its neighbours around each place.

    Attributes
    ----------
    left_over : ndarray, float32, (height, width)
        Mean square of what the better neighbour leaves, without what may be specks.
    here, beside : ndarray, float32, (height, width)
        Share of the surroundings that may be specks: in this frame, and in the neighbours.
    """

    left_over: Plane
    here: Plane
    beside: Plane

    @classmethod
    def of(cls, light: Plane, near: Sequence[Neighbour], marked: Plane) -> Unrest:
        """Of a frame."""
        side = 2 * max(7, round(_AROUND * max(light.shape))) + 1
        missed = np.minimum.reduce([(light - n.light) ** 2 for n in near])
        free = 1 - marked
        told = cv2.blur(free, (side, side))
        left_over = np.maximum(cv2.blur(missed * free, (side, side)), 0) / np.maximum(told, 0.05)
        return cls(left_over, cv2.blur(marked, (side, side)), cv2.blur(np.maximum.reduce([n.marked for n in near]), (side, side)))


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
    extent = max(_EXTENT * noise, 0.4 * _LEAST)
    seen = near[0].seen & near[1].seen
    if allowed is not None:
        seen = seen & allowed
    frame = _Looked(light, near, noise, Unrest.of(light, near, marked), one_sided, UNLIKELY if least is None else least)
    # Where the neighbours do not tell the scene well anyway, more is asked of a seed.
    seed = np.maximum(max(_SEED * noise, _LEAST), _UNREST * np.sqrt(frame.unrest.left_over))
    made: list[Speck] = []
    held = limits(near)
    for bright in (True, False):
        out, departs = (d * seen for d in departures(light, near, held, bright))
        taken = np.zeros(light.shape, bool)
        # Where more than that many depart it is no dirt, and looking at each would take for ever.
        for box, blob, strength in _strongest(_blobs(departs, out, out > seed, extent)):
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
        if all(not _overlap(speck, other) for other in kept):
            kept.append(speck)
    return kept


def _overlap(one: Speck, other: Speck) -> bool:
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
    _, named, told, _ = cv2.connectedComponentsWithStats((departs > extent).astype(np.uint8), connectivity=8)
    blobs: list[tuple[Box, Mask, float]] = []
    holding = np.unique(named[seeds])
    for n in holding[holding > 0]:
        left, top, wide, tall, _ = (int(v) for v in told[n])
        box = np.s_[top : top + tall, left : left + wide]
        own = named[box] == n
        inner, outer, held_seeds = departs[box], out[box], seeds[box]
        peak = float(inner[own].max())
        before = -1
        for share in _LEVELS:
            level = max(extent, share * peak)
            count, parts, sizes, _ = cv2.connectedComponentsWithStats((own & (inner > level)).astype(np.uint8), connectivity=8)
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
class _Looked:
    """A frame, what it is held against, and how sure what is found must be."""

    light: Plane
    near: Sequence[Neighbour]
    noise: float
    unrest: Unrest
    one_sided: bool
    least: float


def _tried(frame: _Looked, departs: Plane, box: Box, blob: Mask, bright: bool, strength: float) -> Speck | None:
    """A blob filled from the neighbours, and how it behaves."""
    light, near, noise, unrest, one_sided, least = frame.light, frame.near, frame.noise, frame.unrest, frame.one_sided, frame.least
    # Most of what departs is texture that was not followed, and is known by what is about it without being filled.
    wide, beside = float(np.sqrt(unrest.left_over[box][blob].mean())), float(unrest.beside[box][blob].mean())
    rough = float(np.percentile(departs[box][blob], 80))
    hoped = Evidence(rough, 0.0, 0.0, 0.05, 0.0, float(blob.sum()), 2, min(1.0, strength / rough), 0.0, wide / rough, beside, 2.0, 1.0)
    if hoped.sure < least:
        return None
    window = _window(box, _SOFT + _GAP + _RING + 1, light.shape)
    core = np.zeros((window[0].stop - window[0].start, window[1].stop - window[1].start), np.uint8)
    y, x = box[0].start - window[0].start, box[1].start - window[1].start
    core[y : y + blob.shape[0], x : x + blob.shape[1]] = blob
    if not core.any():
        return None
    soft = cv2.dilate(core, _disc(_SOFT))
    beyond = cv2.dilate(soft, _disc(_GAP))
    ring = (cv2.dilate(beyond, _disc(_RING)) > 0) & (beyond == 0)
    here = light[window]
    sources = [n.light[window] for n in near]
    usable = [bool(n.seen[window][core > 0].mean() > 0.9) for n in near]
    if not any(usable):
        return None
    marks = [float(n.marked[window][core > 0].mean()) for n in near]
    bare = ring & np.logical_and.reduce([(n.marked[window] < 0.05) & n.seen[window] for n, use in zip(near, usable, strict=True) if use])
    ring = bare if bare.sum() >= max(12, 0.3 * ring.sum()) else ring & np.logical_and.reduce([n.seen[window] for n in near])
    if ring.sum() < 12:
        return None
    sign = np.float32(1 if bright else -1)
    inner = core > 0
    told = here[ring]
    singles = [_fitted(told, s, ring) if use else None for s, use in zip(sources, usable, strict=True)]
    errors = [float(np.sqrt(_mean_square(told - s.made[ring]))) if s is not None else np.inf for s in singles]
    doubts = [1 / (e * e + 0.25 + noise * noise) for e in errors]
    # What is marked there itself counts only where the other shows nothing.
    shares = [d * (0.05 if m > 0.1 else 1) for d, m in zip(doubts, marks, strict=True)]
    shares = [s / sum(shares) for s in shares]
    fill: Plane = np.zeros_like(here)
    for share, single in zip(shares, singles, strict=True):
        if single is not None:
            fill += np.float32(share) * single.made
    layer = sign * (here - fill)
    contrast = float(np.percentile(layer[inner], 80))
    if contrast < 0.6 * max(_SEED * noise, _LEAST):
        return None
    misfit = float(np.sqrt(_mean_square(told - fill[ring])))
    told_both = [s.made for s in singles if s is not None]
    evidence = Evidence(
        contrast=contrast,
        misfit=misfit / contrast,
        differ=float(np.abs(told_both[0] - told_both[1])[inner].mean()) / contrast if len(told_both) == 2 else _UNTOLD,
        moves=0.05,
        life=0.0,
        area=float(blob.sum()),
        usable=min(1 if one_sided else 2, sum(m <= 0.1 and use for m, use in zip(marks, usable, strict=True))),
        strength=strength / contrast,
        least=min(errors) / contrast,
        wide=wide / contrast,
        beside=beside,
        flat=2.0,
        found=1.0,
    )
    # What does not convince even if all that is costly to tell spoke for it need not be looked at further.
    if evidence.sure < least:
        return None
    hole = _reached(layer, core, soft, max(2 * noise, 0.05 * contrast, 1.3 * misfit, _KEPT))
    evidence = replace(
        evidence,
        moves=float(np.mean([np.hypot(*n.motion[window][ring].std(0)) for n, use in zip(near, usable, strict=True) if use])),
        life=float(told.std()) / contrast,
        area=float(hole.sum()),
        flat=float(np.sqrt(_mean_square(told - _plane(here, ring)[ring]))) / contrast,
    )
    if evidence.sure < least:
        return None
    evidence = replace(evidence, found=_elsewhere(here, core, contrast, near, usable, window))
    if evidence.sure < least:
        return None
    kept = float(np.sqrt(sum((w * s.gain) ** 2 for w, s in zip(shares, singles, strict=True) if s is not None)))
    return Speck(window, hole, fill, tuple(shares), kept, bright, contrast, evidence.sure, evidence)


def _plane(here: Plane, ring: Mask) -> Plane:
    """The plane through the ring, over the window."""
    rows, cols = np.nonzero(ring)
    y, x, told = rows - rows.mean(), cols - cols.mean(), here[ring].astype(np.float64)
    yy, xx, xy = float(y @ y), float(x @ x), float(x @ y)
    # Normal equations about the ring's middle; a ring is never a line.
    power = max(xx * yy - xy * xy, 1e-9)
    down, across = (float(y @ told) * xx - float(x @ told) * xy) / power, (float(x @ told) * yy - float(y @ told) * xy) / power
    height = float(told.mean()) - down * float(rows.mean()) - across * float(cols.mean())
    return np.asarray(height + down * np.arange(here.shape[0])[:, None] + across * np.arange(here.shape[1]), np.float32)


def _reached(layer: Plane, core: NDArray[np.uint8], wide: NDArray[np.uint8], least: float) -> Mask:
    """The hole: what departs about the core, hanging together with it, closed."""
    out = ((layer > least) & (wide > 0)) | (core > 0)
    closed = cv2.morphologyEx(out.astype(np.uint8), cv2.MORPH_CLOSE, _disc(1)) & wide
    _, named = cv2.connectedComponents(closed, connectivity=8)
    held = np.unique(named[core > 0])
    return np.isin(named, held[held > 0])


def _mean_square(values: Plane) -> float:
    return float(np.vdot(values, values)) / len(values)


@dataclass(frozen=True)
class _Fitted:
    made: Plane
    gain: float


def _fitted(told: Plane, source: Plane, ring: Mask) -> _Fitted:
    """A neighbour's window with its contrast and level fitted on the ring, held towards the neighbour as it is."""
    seen = source[ring]
    level, mine = float(seen.mean()), float(told.mean())
    away = seen - np.float32(level)
    power = _mean_square(away)
    hold = 0.05 * max(power, 9.0)
    gain = (float(np.dot(away, told)) / len(told) + hold) / (power + hold)
    # A little of the neighbour's own level is kept, too.
    shift = (mine - level) / 1.02
    return _Fitted(np.float32(gain) * (source - np.float32(level)) + np.float32(level + shift), gain)


def _elsewhere(
    here: Plane, core: NDArray[np.uint8], contrast: float, near: Sequence[Neighbour], usable: Sequence[bool], window: Box
) -> float:
    """How well the same thing is found near by in a neighbour: what is left over, of its contrast; small for what only moved."""
    shape = near[0].raw.shape
    reach = max(8, int(_SEARCH * max(shape)))
    mask = cv2.dilate(core, _disc(2))
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
        middle = n.motion[window][core > 0].mean(0)
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


@cache
def _disc(radius: int) -> NDArray[np.uint8]:
    return cv2.getStructuringElement(cv2.MORPH_ELLIPSE, (2 * radius + 1, 2 * radius + 1)).astype(np.uint8)


def roughly_cleaned(light: Plane, near: Sequence[Neighbour], noise: float) -> tuple[Plane, Plane]:
    """A frame with whatever may be a speck drawn to what its neighbours hold, to tell motion by, and where that was.

    Returns
    -------
    light : ndarray, float32, (height, width)
    marked : ndarray, float32, (height, width)
        1 where it was drawn.
    """
    low, high = limits(near)
    seed = max(_SEED * noise, _LEAST)
    out = np.maximum(light - high, low - light) > seed
    if not out.any():
        return light, np.zeros_like(light)
    marked = cv2.dilate(out.astype(np.uint8), _disc(4)).astype(np.float32)
    middle = (near[0].light + near[1].light) / 2
    return np.where(marked > 0, np.clip(light, np.minimum(low, middle), np.maximum(high, middle)), light), marked


@dataclass(frozen=True)
class Looked:
    """What was found in a frame, and what it was held against.

    Attributes
    ----------
    specks : list of (Speck, tuple of int, tuple of Neighbour)
        With the places, in the stretch, of the frames that fill it, and those frames along the motion.
    marked : float
        Share of the picture that comes and goes, by a first look.
    """

    marked: float
    specks: list[tuple[Speck, tuple[int, ...], tuple[Neighbour, ...]]]


def look_over(lights: Sequence[Plane], noise: float, first: int, stop: int) -> list[Looked]:
    """Find the specks of frames that follow one another.

    Parameters
    ----------
    lights : sequence of ndarray, float32, (height, width)
        Luma of a stretch, in 8-bit codes; at least three.
    noise : float
        Standard deviation of the noise, in codes.
    first, stop : int
        Places of those that are wanted. Others lend only; two each side are enough.
    """
    count = len(lights)
    if count < 3:
        return [Looked(0.0, []) for _ in range(first, stop)]
    shape = lights[0].shape
    places = grid(shape)
    raw = _Ways([ready(light, noise) for light in lights], shape, places)
    near, far = max(0, first - 2), min(count, stop + 2)
    clean, marks = list(lights), [np.zeros(shape, np.float32)] * count
    for n in range(near, far):
        beside = raw.beside(n)
        clean[n], marks[n] = roughly_cleaned(lights[n], [raw.neighbour(n, k, lights, None) for k in beside], noise)
    # Told again along motion that specks do not disturb.
    ways = _Ways([ready(c, noise) for c in clean], shape, places)
    lasting = _Lasting(ways, lights, marks, noise)
    found: list[Looked] = []
    for n in range(first, stop):
        ones, near_n = ways.beside(n), ways.near(n, lights, marks)
        specks: _Found = [(s, ones, near_n) for s in candidates(lights[n], near_n, noise, marks[n], one_sided=ways.one_sided(n))]
        taken = [s for s, _, _ in specks if s.sure >= 0.5]
        specks += [one for one in lasting.of(n) if not any(_overlap(one[0], s) for s in taken)]
        found.append(Looked(float(marks[n].mean()), specks))
    return found


_Found = list[tuple[Speck, tuple[int, ...], tuple[Neighbour, ...]]]


class _Ways:
    """How the scene moves through a stretch."""

    def __init__(self, looks: Sequence[Gray], shape: tuple[int, ...], places: Field) -> None:
        self._looks, self._shape, self._places = looks, shape, places
        self._pairs: dict[int, Pair] = {}
        self._near: dict[tuple[int, int], Neighbour] = {}

    def _pair(self, n: int) -> Pair:
        if n not in self._pairs:
            self._pairs[n] = pair(self._looks[n], self._looks[n + 1], self._shape)
            self._pairs.pop(n - 4, None)
        return self._pairs[n]

    def _way(self, one: int, other: int) -> Field:
        """The way from a frame to another, two frames on at most."""
        step = 1 if other > one else -1
        way = self._pair(one).there if step > 0 else self._pair(one - 1).back
        return way if one + step == other else onward(way, self._way(one + step, other), self._places)

    def beside(self, n: int) -> tuple[int, int]:
        """The frames a frame is held against: one each side, or two on the one side there is."""
        if n == 0:
            return 1, 2
        return (n - 1, n + 1) if n < len(self._looks) - 1 else (n - 1, n - 2)

    def neighbour(self, n: int, k: int, lights: Sequence[Plane], marks: Sequence[Plane] | None) -> Neighbour:
        """Frame `k` along the way from frame `n`."""
        if (n, k) not in self._near:
            self._near = {key: held for key, held in self._near.items() if n - 1 <= key[0] <= n + 1}
            self._near[n, k] = along(lights[k], None if marks is None else marks[k], self._way(n, k), self._places)
        return self._near[n, k]

    def one_sided(self, n: int) -> bool:
        """Whether a frame is held against frames on one side alone."""
        return n in (0, len(self._looks) - 1)

    def near(self, n: int, lights: Sequence[Plane], marks: Sequence[Plane]) -> tuple[Neighbour, ...]:
        """The frames a frame is held against, along the motion."""
        return tuple(self.neighbour(n, k, lights, marks) for k in self.beside(n))

    def __len__(self) -> int:
        return len(self._looks)


class _Lasting:
    """Specks that stay for two frames: each is one in both, against the frames around the two."""

    def __init__(self, ways: _Ways, lights: Sequence[Plane], marks: Sequence[Plane], noise: float) -> None:
        self._ways, self._lights, self._marks, self._noise = ways, lights, marks, noise
        self._told: dict[tuple[int, int], _Found] = {}

    def of(self, n: int) -> _Found:
        """Those of a frame that begin in it, or ended the frame before."""
        found = []
        for one, other, step in ((n, n + 1, 1), (n, n - 1, -1)):
            for speck in self._against(one, step):
                partners = [p for p in self._against(other, -step) if _same(speck[0], p[0])]
                if partners:
                    sure = min(speck[0].sure, max(p[0].sure for p in partners))
                    found.append((replace(speck[0], sure=sure), *speck[1:]))
        return found

    def _against(self, n: int, step: int) -> _Found:
        """What departs in a frame from the one behind it and the second one ahead, but not from the next ahead."""
        behind, far = n - step, n + 2 * step
        if min(n, behind, far) < 0 or max(n, behind, far) >= len(self._ways):
            return []
        if (n, step) not in self._told:
            self._told = {key: told for key, told in self._told.items() if abs(key[0] - n) <= 2}
            self._told[n, step] = self._found(n, step, behind, far)
        return self._told[n, step]

    def _found(self, n: int, step: int, behind: int, far: int) -> _Found:
        light = self._lights[n]
        back, ahead = (self._ways.neighbour(n, k, self._lights, self._marks) for k in (behind, n + step))
        departs = np.abs(light - back.light)
        stays = (departs > max(_SEED * self._noise, _LEAST)) & (np.abs(light - ahead.light) < _STAYS * departs)
        if not stays.any() or stays.mean() > _CROWDED:
            return []
        near = (back, self._ways.neighbour(n, far, self._lights, self._marks))
        allowed = cv2.dilate(stays.astype(np.uint8), _disc(1)) > 0
        found = candidates(light, near, self._noise, self._marks[n], allowed, least=_LASTS)
        return [(s, (behind, far), near) for s in found]


def _same(one: Speck, other: Speck) -> bool:
    """Whether two specks of neighbouring frames may be one."""
    (a, b), (c, d) = ((s.box[0].start + s.box[0].stop, s.box[1].start + s.box[1].stop) for s in (one, other))
    size = max(one.box[0].stop - one.box[0].start, one.box[1].stop - one.box[1].start)
    ratio = float(one.mask.sum()) / max(1.0, float(other.mask.sum()))
    return one.bright == other.bright and max(abs(a - c), abs(b - d)) <= size and 0.4 < ratio < 2.5


def with_prior(sure: NDArray[np.float64], frames: int) -> NDArray[np.float64]:
    """How sure candidates are, given how many the shot has: among many a doubtful one is likelier a speck than among none.

    Parameters
    ----------
    sure : ndarray, float64, (candidates,)
        Each by itself, 0 to 1.
    frames : int
        That were looked at.
    """
    if not len(sure):
        return sure
    rate = float((sure > _CERTAIN).sum()) / max(1, frames)
    odds = np.log(np.clip(sure, 1e-9, 1 - 1e-9) / (1 - np.clip(sure, 1e-9, 1 - 1e-9)))
    return np.asarray(1 / (1 + np.exp(-(odds + min(0.0, np.log((rate + _FEW) / (_USUAL + _FEW)))))), np.float64)
