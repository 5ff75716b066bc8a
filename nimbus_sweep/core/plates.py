"""Plates: pictures of a flat part of the scene without what disturbs it, in the light, the sharpness and the place of each frame.

A plate is a frame of the shot, or what many frames laid on the plane have in common, so that whatever passes drops out.
It is laid on each frame along the plane's track; the light of small areas beside the patch, measured in the frame and in
the plate, is given to it, and it is blurred as far as the frame is (the plate's picture is compared with the frame's
beside the patch).
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from functools import cached_property
from typing import Any, Literal

import cv2
import numpy as np
from numpy.typing import NDArray

from .imaging.box import Box
from .imaging.colour import luma_weights
from .imaging.motion import Plane
from .media.convert import Values, to_rgb_values, values_of, with_values
from .media.frames import Frame, PictureFormat
from .planar import Matrix, moved

# Red, green, blue in 8-bit codes, not clipped: (height, width, 3), float32.
Picture = NDArray[Any]
How = Literal["gain", "offset", "both"]
Take = Literal["middle", "darker", "lighter"]

# Parts of the ring that the light is measured in, when none are named.
SECTORS = 12
# Blurs that are tried, as standard deviations in pixels, and shares of a frame's move for which the shutter is open.
_BLURS = (0.0, 0.5, 0.8, 1.2, 1.8, 2.6, 3.6)
_SHUTTERS = (0.0, 0.25, 0.5, 0.75, 1.0)
# A frame's move, in pixels, below which it blurs nothing.
_STILL = 0.8
# Samples an area needs to be measured.
_ENOUGH = 24
# The share of the frames whose values lie closest together that make the plate.
_CLOSE = 0.45
# Weights of the areas are worked out on a picture so many times smaller.
_STEP = 8
# Areas that tell whether one of them departs from the rest, and by how much, at least, as a share.
_MANY, _APART = 8, 0.03
# Departures, in deviations, that do not count where means are to be robust.
_STRAYS = 2.5
_WEIGHTS = np.array([0.2126, 0.7152, 0.0722], np.float32)


def rgb_of(frame: Frame, box: Box) -> Picture:
    """A part of a frame that lies on it, on whole chroma cells, as red, green and blue in 8-bit codes."""
    part = frame.part(box.left, box.top, box.left + box.width, box.top + box.height)
    values = values_of(part)
    if "R" not in values:
        values = to_rgb_values(values, part.colour, part.format.height)
    return np.stack([values[n] for n in "RGB"], -1) * np.float32(255)


def put_rgb(frame: Frame, box: Box, picture: Picture, where: Plane) -> None:
    """Write a picture into a part of a frame, as far as `where` says, 0 to 1; samples with none of it stay as they are."""
    part = frame.part(box.left, box.top, box.left + box.width, box.top + box.height)
    r, g, b = (np.asarray(picture[..., k] / np.float32(255), np.float32) for k in range(3))
    values: Values = {"R": r, "G": g, "B": b}
    if "R" not in {c.name for c in part.format.components}:
        kr, kg, kb = luma_weights(part.colour, part.format.height)
        luma = np.asarray(kr * r + kg * g + kb * b, np.float32)
        values = {"Y": luma, "Cb": (b - luma) / np.float32(2 * (1 - kb)), "Cr": (r - luma) / np.float32(2 * (1 - kr))}

    made = with_values(part, values, part.format)
    for i, component in enumerate(part.format.components):
        if component.name == "A":
            continue
        target, new = part.component(i), made.component(i)
        share = where if where.shape == target.shape else cv2.resize(where, target.shape[::-1], interpolation=cv2.INTER_AREA)
        rows, cols = np.nonzero(share > 0)
        weight = share[rows, cols].astype(np.float64)
        target[rows, cols] = component.samples(target[rows, cols] * (1 - weight) + new[rows, cols] * weight, target.dtype)


@dataclass(frozen=True)
class Canvas:
    """A rectangle of the plane, in the pixels of the reference frame; it may reach beyond that frame.

    Attributes
    ----------
    left, top, width, height : int
    """

    left: int
    top: int
    width: int
    height: int

    @property
    def from_it(self) -> Matrix:
        """From its samples to the plane."""
        return np.array([[1, 0, self.left], [0, 1, self.top], [0, 0, 1]], np.float64)

    @property
    def shape(self) -> tuple[int, int]:
        """Rows and columns."""
        return self.height, self.width

    @classmethod
    def about(cls, mask: Plane, room: int, left: int = 0, top: int = 0) -> Canvas:
        """The least one about a mask, with some room; the mask's first sample lies at `left`, `top`."""
        rows, cols = np.flatnonzero((mask > 0).any(1)), np.flatnonzero((mask > 0).any(0))
        return cls(
            int(cols[0]) - room + left, int(rows[0]) - room + top, int(np.ptp(cols)) + 1 + 2 * room, int(np.ptp(rows)) + 1 + 2 * room
        )

    def place(self, way: Matrix, layout: PictureFormat) -> Box | None:
        """Where it lies on a frame, cut to the picture, on whole chroma cells; None when it is off it."""
        corners = np.array([[0, 0], [self.width, 0], [self.width, self.height], [0, self.height]], np.float64) - 0.5
        there = moved(corners, way @ self.from_it)
        cell = max(max(layout.subsampling(i)) for i in range(len(layout.components)))
        left, top = (int(np.floor(max(0, v) / cell)) * cell for v in np.floor(there.min(0)))
        right, bottom = (
            min(size, int(np.ceil(v / cell)) * cell)
            for v, size in zip(np.ceil(there.max(0)) + 1, (layout.width, layout.height), strict=True)
        )
        return Box(left, top, right - left, bottom - top) if right - left >= 4 and bottom - top >= 4 else None

    def on_frame(self, plane: Plane, way: Matrix, box: Box, smooth: bool = True) -> Plane:
        """What lies on it, laid on a place of a frame; nothing beyond its edge."""
        there = np.array([[1, 0, -box.left], [0, 1, -box.top], [0, 0, 1]], np.float64) @ way @ self.from_it
        how = cv2.INTER_CUBIC if smooth else cv2.INTER_LINEAR
        return cv2.warpPerspective(plane, there, (box.width, box.height), flags=how, borderMode=cv2.BORDER_CONSTANT, borderValue=0)

    def from_frame(self, part: Plane, box: Box, way: Matrix, smooth: bool = True) -> Plane:
        """A place of a frame, laid on it; nothing beyond the edge."""
        there = np.array([[1, 0, -box.left], [0, 1, -box.top], [0, 0, 1]], np.float64) @ way @ self.from_it
        how = (cv2.INTER_CUBIC if smooth else cv2.INTER_LINEAR) | cv2.WARP_INVERSE_MAP
        return cv2.warpPerspective(part, there, (self.width, self.height), flags=how, borderMode=cv2.BORDER_CONSTANT, borderValue=0)

    def taken(self, frame: Frame, way: Matrix, held: Plane | None = None) -> tuple[Picture, Plane]:
        """A frame's picture of the plane, and what of it is seen, 0 to 1."""
        box = self.place(way, frame.format)
        if box is None:
            return np.zeros((*self.shape, 3), np.float32), np.zeros(self.shape, np.float32)
        seen = np.ones((box.height, box.width), np.float32)
        if held is not None:
            seen = (cv2.dilate(box.samples(held), np.ones((5, 5), np.uint8)) < 0.02).astype(np.float32)
        known = self.from_frame(seen, box, way, smooth=False)
        return self.from_frame(rgb_of(frame, box), box, way), (known > 0.99).astype(np.float32)


@dataclass(frozen=True)
class Areas:
    """Where the light is measured beside a patch.

    Attributes
    ----------
    labels : ndarray, int16, canvas's shape
        Which area a sample lies in, from 1; 0 for none.
    centres : ndarray, float64, (areas, 2)
        In samples of the canvas, x first.
    """

    labels: NDArray[np.int16]
    centres: NDArray[np.float64]

    def cut(self, left: int, top: int, width: int, height: int) -> Areas:
        """The same seen from a part of the canvas; centres may lie outside it."""
        labels = self.labels[top : top + height, left : left + width]
        return Areas(np.ascontiguousarray(labels), self.centres - [left, top])

    def __len__(self) -> int:
        return len(self.centres)

    @classmethod
    def ring(cls, region: Plane, width: int) -> Areas:
        """A ring about a region, in sectors."""
        inside = (region > 0.01).astype(np.uint8)
        size = 2 * width + 1
        wide = cv2.dilate(inside, cv2.getStructuringElement(cv2.MORPH_ELLIPSE, (size, size)))
        near = cv2.dilate(inside, np.ones((3, 3), np.uint8))
        rows, cols = np.nonzero((wide > 0) & (near == 0))
        labels = np.zeros(region.shape, np.int16)
        if not len(rows):
            return cls(labels, np.zeros((0, 2)))
        middle_y, middle_x = (float(v.mean()) for v in np.nonzero(inside))
        turn = np.arctan2(rows - middle_y, cols - middle_x)
        labels[rows, cols] = np.floor((turn + np.pi) / (2 * np.pi) * SECTORS).clip(0, SECTORS - 1).astype(np.int16) + 1
        return cls.of(labels)

    @classmethod
    def of(cls, labels: NDArray[np.int16]) -> Areas:
        """Areas by their labels; empty ones are left out."""
        names = [n for n in np.unique(labels) if n]
        fresh = np.zeros_like(labels)
        centres = []
        for at, name in enumerate(names, start=1):
            rows, cols = np.nonzero(labels == name)
            fresh[rows, cols] = at
            centres.append((cols.mean(), rows.mean()))
        return cls(fresh, np.array(centres, np.float64).reshape(-1, 2))

    @cached_property
    def weights(self) -> Plane:
        """How far each area serves each part of the canvas: (areas, rows, columns), on a picture `_STEP` times smaller; they add up to 1.

        By the square of the distance, inversely (Shepard 1968).
        """
        rows, cols = (max(1, -(-n // _STEP)) for n in self.labels.shape)
        y, x = np.mgrid[:rows, :cols] * _STEP + _STEP / 2
        far = np.stack([(x - cx) ** 2 + (y - cy) ** 2 for cx, cy in self.centres]) + 4.0
        near = 1 / far
        return (near / near.sum(0)).astype(np.float32)


@dataclass(frozen=True)
class Light:
    """The light of a frame beside that of a plate.

    Attributes
    ----------
    gains, offsets : ndarray, float64, (areas, 3)
        For red, green, blue; offsets in codes.
    """

    gains: NDArray[np.float64]
    offsets: NDArray[np.float64]

    def undone(self) -> Light:
        """What takes a picture in that light back to the plate's."""
        gains = 1 / np.maximum(self.gains, 1e-3)
        return Light(gains, -self.offsets * gains)

    def on(self, areas: Areas, picture: Picture) -> Picture:
        """A picture on the canvas in that light: each area serves what lies near it."""
        if not len(areas):
            return picture
        if len(areas) == 1:
            return picture * self.gains[0].astype(np.float32) + self.offsets[0].astype(np.float32)
        weights = areas.weights
        size = picture.shape[1::-1]
        # Gains blend by their logarithm: of twice and half the light lies the same between.
        logs = np.tensordot(weights, np.log(np.maximum(self.gains, 1e-3)).astype(np.float32), (0, 0))
        gain = np.exp(cv2.resize(logs, size, interpolation=cv2.INTER_LINEAR).reshape(picture.shape))
        offset = np.tensordot(weights, self.offsets.astype(np.float32), (0, 0))
        return picture * gain + cv2.resize(offset, size, interpolation=cv2.INTER_LINEAR).reshape(picture.shape)


def measured(frame: Picture, plate: Picture, use: Plane, areas: Areas, how: How, robust: bool = True) -> Light:
    """What the light of each area does to a plate.

    Parameters
    ----------
    frame, plate : ndarray, float32, (height, width, 3)
        On the canvas.
    use : ndarray, float32, (height, width)
        Above 0 where both are known.
    areas : Areas
    how : str
        ``gain`` and ``offset`` each give an area the frame's mean; ``both`` give it mean and deviation.
    robust : bool
        Samples that depart from what the rest says do not count.

    Returns
    -------
    Light
        An area that is not seen has what the others have.
    """
    count = len(areas)
    gains, offsets, known = np.ones((count, 3)), np.zeros((count, 3)), np.zeros(count, bool)
    for a in range(count):
        part = (areas.labels == a + 1) & (use > 0)
        if int(part.sum()) < _ENOUGH:
            continue
        one, other = frame[part].astype(np.float64), plate[part].astype(np.float64)
        kept = np.ones(len(one), bool)
        for _ in range(3 if robust else 1):
            gain, offset = _fitted(one[kept], other[kept], how)
            if not robust:
                break
            miss = (one - other * gain - offset) @ _WEIGHTS.astype(np.float64)
            spread = 1.4826 * float(np.median(np.abs(miss[kept] - np.median(miss[kept])))) + 0.25
            fresh = np.abs(miss - np.median(miss[kept])) < _STRAYS * spread
            if fresh.sum() < _ENOUGH // 2:
                break
            kept = fresh
        gains[a], offsets[a], known[a] = gain, offset, True
    if known.any() and not known.all():
        gains[~known], offsets[~known] = np.exp(np.log(np.maximum(gains[known], 1e-3)).mean(0)), offsets[known].mean(0)
    if robust and how == "gain" and known.sum() >= _MANY:
        gains = _evened(gains, areas.centres)
    return Light(gains, offsets)


def _evened(gains: NDArray[np.float64], centres: NDArray[np.float64]) -> NDArray[np.float64]:
    """Gains of areas that depart from the slope over all of them give way to it: something lies in front of these, or shines on them."""
    logs = np.log(np.maximum(gains, 1e-3))
    spread = centres.std(0).mean() + 1e-6
    base = np.column_stack([np.ones(len(centres)), (centres - centres.mean(0)) / spread])
    weight = np.ones(len(gains))
    for _ in range(6):
        found = np.linalg.lstsq(base * weight[:, None], logs * weight[:, None], rcond=None)[0]
        miss = np.abs(logs - base @ found).max(1)
        bound = max(_APART, 3 * 1.4826 * float(np.median(miss)))
        weight = np.where(miss < bound, 1 - (miss / bound) ** 2, 0.0) + 1e-3
    return np.where((miss > bound)[:, None], np.exp(base @ found), gains)


def _fitted(one: NDArray[np.float64], other: NDArray[np.float64], how: How) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    mean, base = one.mean(0), other.mean(0)
    if how == "offset":
        return np.ones(3), mean - base
    if how == "gain":
        # Where the plate is all but black its light says nothing; what lacks is added then.
        gain = np.where(base > 2, np.clip(mean / np.maximum(base, 2), 0.02, 50), 1.0)
        return gain, mean - base * gain
    gain = np.clip(one.std(0) / np.maximum(other.std(0), 0.5), 0.2, 5)
    return gain, mean - base * gain


def smooth_lights(lights: Sequence[Light], sigma: float) -> list[Light]:
    """Lights of frames one after the other, made even in time: a Gaussian of `sigma` frames on log gains and offsets."""
    if sigma <= 0 or len(lights) < 2:
        return list(lights)
    gains, offsets = (np.stack([getattr(light, name) for light in lights]) for name in ("gains", "offsets"))
    flat = np.concatenate([np.log(np.maximum(gains, 1e-3)), offsets], 1).reshape(len(lights), -1)
    even = cv2.GaussianBlur(flat.astype(np.float32), (1, 2 * int(3 * sigma) + 1), 0.01, sigmaY=sigma, borderType=cv2.BORDER_REFLECT)
    even = even.reshape(len(lights), -1, 3).astype(np.float64)
    half = gains.shape[1]
    return [Light(np.exp(e[:half]), e[half:]) for e in even]


@dataclass(frozen=True)
class Blur:
    """How much less sharp a frame is than a plate laid on it: `sigma` in pixels each way, and a smear along a move, x and y in pixels."""

    sigma: float = 0.0
    across: float = 0.0
    down: float = 0.0

    def on(self, picture: Picture) -> Picture:
        """A picture blurred like that."""
        if self.sigma > 0.2:
            picture = cv2.GaussianBlur(picture, (0, 0), self.sigma, borderType=cv2.BORDER_REPLICATE)
        length = float(np.hypot(self.across, self.down))
        if length > _STILL:
            picture = cv2.filter2D(picture, -1, _smear(self.across, self.down), borderType=cv2.BORDER_REPLICATE)
        return picture


def _smear(across: float, down: float) -> Plane:
    """A kernel that is even along a line of that length."""
    half = int(np.ceil(max(abs(across), abs(down)) / 2)) + 1
    kernel = np.zeros((2 * half + 1, 2 * half + 1), np.float32)
    for share in np.linspace(-0.5, 0.5, 8 * half + 1):
        x, y = half + share * across, half + share * down
        left, top = int(np.floor(x)), int(np.floor(y))
        for dx, dy in ((0, 0), (1, 0), (0, 1), (1, 1)):
            weight = (1 - abs(x - left - dx)) * (1 - abs(y - top - dy))
            if weight > 0:
                kernel[top + dy, left + dx] += weight
    return kernel / kernel.sum()


def softness(frame: Picture, plate: Picture, use: Plane, move: tuple[float, float]) -> Blur:
    """How much less sharp a frame is than a plate, by what lies beside the patch.

    Parameters
    ----------
    frame, plate : ndarray, float32, (height, width, 3)
        On the same place of the frame, the plate in the frame's light.
    use : ndarray, float32, (height, width)
        Above 0 where both are to be compared.
    move : tuple of float
        How far the plane goes from this frame to the next, x and y in pixels.
    """
    one, other = frame @ _WEIGHTS, plate @ _WEIGHTS
    seen = (use > 0).astype(np.float32)
    part = cv2.erode(seen, np.ones((3, 3), np.uint8)) > 0
    if int(part.sum()) < 4 * _ENOUGH:
        return Blur()
    # What lies beyond must not come in with the blur, and broad light is no sharpness.
    gap = (one - other) * seen
    broad = cv2.GaussianBlur(gap, (0, 0), 6) / np.maximum(cv2.GaussianBlur(seen, (0, 0), 6), 1e-3)
    other = np.where(seen > 0, other, one - broad)

    def misses(blur: Blur) -> float:
        gap = (one - blur.on(other) - broad)[part]
        return float(np.mean(np.minimum(np.abs(gap), 40.0) ** 2))

    far = float(np.hypot(*move))
    shutters = _SHUTTERS if far > _STILL else (0.0,)
    best, least = Blur(), misses(Blur()) * 0.98
    for shutter in shutters:
        for sigma in _BLURS:
            tried = Blur(sigma, shutter * move[0], shutter * move[1])
            if tried == Blur():
                continue
            miss = misses(tried)
            # A wider blur has to show for it.
            if miss < least:
                best, least = tried, miss
            elif sigma > best.sigma and miss > 1.1 * least:
                break
    return best


def common(pictures: Sequence[tuple[Picture, Plane]], areas: Areas, take: Take) -> tuple[Picture, Plane]:
    """What pictures of the plane have in common, each brought into the light of the one that shows most.

    Parameters
    ----------
    pictures : sequence of (ndarray, ndarray)
        See `Canvas.taken`.
    areas : Areas
        Where their light is measured.
    take : str
        ``middle``: where values lie closest together, which holds while no more than half of the frames are disturbed
        (the shortest part: Rousseeuw 1984); ``darker`` and ``lighter``: what is darker or lighter than four of five, for
        what adds light, or takes it.

    Returns
    -------
    picture : ndarray, float32, (height, width, 3)
    known : ndarray, float32, (height, width)
        1 where any of them shows the plane.
    """
    base, there = max(pictures, key=lambda one: float(one[1].sum()))
    laid = []
    for picture, seen in pictures:
        light = measured(base, picture, seen * there, areas, "gain")
        whole = Light(np.exp(np.log(np.maximum(light.gains, 1e-3)).mean(0))[None], np.zeros((1, 3))) if len(areas) else None
        even = picture * whole.gains[0].astype(np.float32) if whole is not None else picture
        laid.append(np.where(seen[..., None] > 0, even, np.nan))
    stack = np.stack(laid)
    known = np.isfinite(stack[..., 0]).any(0)
    found = np.zeros(base.shape, np.float32)
    rows = max(1, 2_000_000 // max(1, stack.shape[0] * stack.shape[2]))
    for top in range(0, stack.shape[1], rows):
        found[top : top + rows] = _taken(stack[:, top : top + rows], take)
    return found, known.astype(np.float32)


def _taken(stack: Picture, take: Take) -> Picture:
    """What pictures laid over one another have in common: (frames, rows, columns, 3), NaN where one does not show the plane."""
    light = cv2.transform(stack.reshape(-1, stack.shape[2], 3), _WEIGHTS[None]).reshape(stack.shape[:3])
    count = np.isfinite(light).sum(0)
    # What is not seen goes behind all that is.
    order = np.argsort(np.where(np.isfinite(light), light, np.inf), axis=0, kind="stable")
    ranked = np.take_along_axis(stack, order[..., None], 0)
    span = np.maximum(1, np.ceil(_CLOSE * count)).astype(np.int64)
    if take == "middle":
        levels = np.take_along_axis(light, order, 0)
        least, start = np.full(count.shape, np.inf), np.zeros(count.shape, np.int64)
        for first in range(len(stack)):
            last = np.minimum(first + span - 1, len(stack) - 1)
            wide = np.take_along_axis(levels, last[None], 0)[0] - levels[first]
            better = (first + span <= count) & (wide < least)
            least, start = np.where(better, wide, least), np.where(better, first, start)
    else:
        share = 0.2 if take == "darker" else 0.8
        start = np.clip(np.rint(share * (count - 1) - (span - 1) / 2), 0, np.maximum(0, count - span)).astype(np.int64)
    place = np.arange(len(stack))[:, None, None]
    use = (place >= start) & (place < start + span)
    total = np.where(use[..., None], np.nan_to_num(ranked), 0).sum(0)
    return (total / np.maximum(use.sum(0), 1)[..., None]).astype(np.float32)


def disturbance(picture: Picture, seen: Plane, like: Picture, known: Plane, region: Plane, areas: Areas) -> float:
    """How far a frame's picture of the plane departs from what all have in common, inside a region: mean codes; unseen parts count full."""
    light = measured(picture, like, seen * known, areas, "gain")
    gap = np.abs(picture - light.on(areas, like)) @ _WEIGHTS
    inside = region > 0.5
    both = inside & (seen > 0) & (known > 0)
    if not both.any():
        return 255.0
    hidden = 1 - float(both.sum()) / max(1, int(inside.sum()))
    return float(np.minimum(gap[both], 80).mean()) * (1 - hidden) + 80 * hidden


# What is in front of a patch departs from it by so many deviations of the grain and codes: surely, and where it joins such a place.
_SURELY, _JOINING = (7.0, 16.0), (3.0, 6.0)
# Pixels that are thinner than an edge misplaced; that gaps in it are closed over; that its soft edge takes.
_THIN, _GAPS, _EDGE = 5, 9, 3


def in_front(frame: Picture, patch: Picture, known: Plane, which: Literal["darker", "lighter"], noise: float) -> Plane:
    """What passes before a patch, by its being darker, or lighter, than the patch as it is fitted in.

    Parameters
    ----------
    frame, patch : ndarray, float32, (height, width, 3)
        In 8-bit codes, on the same place.
    known : ndarray, float32, (height, width)
        Above 0 where there is a patch.
    which : str
    noise : float
        Standard deviation of the grain, in codes.

    Returns
    -------
    ndarray, float32, (height, width)
        1 in front, 0 behind, between at its edges. Places are told by two thresholds (hysteresis, Canny 1986).
    """
    gap = cv2.GaussianBlur((patch - frame) @ _WEIGHTS, (0, 0), 1.2) * np.float32(1 if which == "darker" else -1)
    surely, joining = (np.uint8((gap > max(d * noise, c)) & (known > 0)) for d, c in (_SURELY, _JOINING))
    surely = cv2.morphologyEx(surely, cv2.MORPH_OPEN, np.ones((_THIN, _THIN), np.uint8))
    if not surely.any():
        return np.zeros(known.shape, np.float32)
    joining = cv2.morphologyEx(joining, cv2.MORPH_OPEN, np.ones((3, 3), np.uint8))
    _, labels = cv2.connectedComponents(joining | surely, connectivity=8)
    there = np.uint8(np.isin(labels, np.unique(labels[surely > 0])) & (labels > 0))
    round_ = cv2.getStructuringElement(cv2.MORPH_ELLIPSE, (_GAPS, _GAPS))
    there = cv2.morphologyEx(there, cv2.MORPH_CLOSE, round_)
    grown = cv2.dilate(there, cv2.getStructuringElement(cv2.MORPH_ELLIPSE, (2 * _EDGE + 1, 2 * _EDGE + 1)))
    return np.asarray(cv2.GaussianBlur(grown.astype(np.float32), (0, 0), _EDGE / 2))
