"""The light of a frame against that of a plate, in areas of the plane."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from functools import cached_property
from typing import Literal

import cv2
import numpy as np
from numpy.typing import NDArray

from ...imaging.motion import Plane
from .canvas import Picture

How = Literal["gain", "offset", "both"]
# Parts of the ring that the light is measured in, when none are named.
SECTORS = 12
# Samples an area needs to be measured.
ENOUGH = 24
# Weights of the areas are worked out on a picture so many times smaller.
_STEP = 8
# Areas that tell whether one of them departs from the rest, and by how much, at least, as a share.
_MANY, _APART = 8, 0.03
# Departures, in deviations, that do not count where means are to be robust.
_STRAYS = 2.5
WEIGHTS = np.array([0.2126, 0.7152, 0.0722], np.float32)


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
class LightMatch:
    """The light of a frame beside that of a plate.

    Attributes
    ----------
    gains, offsets : ndarray, float64, (areas, 3)
        For red, green, blue; offsets in codes.
    """

    gains: NDArray[np.float64]
    offsets: NDArray[np.float64]

    def undone(self) -> LightMatch:
        """What takes a picture in that light back to the plate's."""
        gains = 1 / np.maximum(self.gains, 1e-3)
        return LightMatch(gains, -self.offsets * gains)

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


def measured(frame: Picture, plate: Picture, use: Plane, areas: Areas, how: How, robust: bool = True) -> LightMatch:
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
        if int(part.sum()) < ENOUGH:
            continue
        one, other = frame[part].astype(np.float64), plate[part].astype(np.float64)
        kept = np.ones(len(one), bool)
        for _ in range(3 if robust else 1):
            gain, offset = _fitted(one[kept], other[kept], how)
            if not robust:
                break
            miss = (one - other * gain - offset) @ WEIGHTS.astype(np.float64)
            spread = 1.4826 * float(np.median(np.abs(miss[kept] - np.median(miss[kept])))) + 0.25
            fresh = np.abs(miss - np.median(miss[kept])) < _STRAYS * spread
            if fresh.sum() < ENOUGH // 2:
                break
            kept = fresh
        gains[a], offsets[a], known[a] = gain, offset, True
    if known.any() and not known.all():
        gains[~known], offsets[~known] = np.exp(np.log(np.maximum(gains[known], 1e-3)).mean(0)), offsets[known].mean(0)
    if robust and how == "gain" and known.sum() >= _MANY:
        gains = _evened(gains, areas.centres)
    return LightMatch(gains, offsets)


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


def smooth_lights(lights: Sequence[LightMatch], sigma: float) -> list[LightMatch]:
    """Lights of frames one after the other, made even in time: a Gaussian of `sigma` frames on log gains and offsets."""
    if sigma <= 0 or len(lights) < 2:
        return list(lights)
    gains, offsets = (np.stack([getattr(light, name) for light in lights]) for name in ("gains", "offsets"))
    flat = np.concatenate([np.log(np.maximum(gains, 1e-3)), offsets], 1).reshape(len(lights), -1)
    even = cv2.GaussianBlur(flat.astype(np.float32), (1, 2 * int(3 * sigma) + 1), 0.01, sigmaY=sigma, borderType=cv2.BORDER_REFLECT)
    even = even.reshape(len(lights), -1, 3).astype(np.float64)
    half = gains.shape[1]
    return [LightMatch(np.exp(e[:half]), e[half:]) for e in even]
