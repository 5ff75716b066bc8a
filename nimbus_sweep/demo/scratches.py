"""Puts scratches into sound frames and keeps the truth: upright lines that last, wander, lean and break."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import cv2
import numpy as np
from numpy.typing import NDArray
from scipy.ndimage import gaussian_filter1d

Planes = tuple[NDArray[np.uint8], ...]


@dataclass(frozen=True)
class Scratch:
    """A scratch through some frames.

    Attributes
    ----------
    x : float
        Where it crosses the top, in pixels, in its first frame.
    first, stop : int
        Its frames.
    level : float
        Luma code it draws the picture to.
    cover : float
        How far, 0 to 1.
    width : float
        Standard deviation of its profile, in pixels.
    lean : float
        Pixels across from top to bottom.
    wander : float
        Standard deviation of its drift from frame to frame, in pixels.
    broken : float
        Share of its length that is missing.
    seed : int
    """

    x: float
    first: int
    stop: int
    level: float
    cover: float
    width: float = 0.9
    lean: float = 0.0
    wander: float = 0.25
    broken: float = 0.0
    seed: int = 0

    def share(self, frame: int, shape: tuple[int, int]) -> NDArray[np.float32]:
        """How far it covers each pixel of a frame, 0 to 1."""
        height, width = shape
        if not self.first <= frame < self.stop:
            return np.zeros(shape, np.float32)
        rng = np.random.default_rng(self.seed)
        drift = np.cumsum(rng.normal(0, self.wander, self.stop - self.first))
        rows = np.arange(height)
        bow = rng.uniform(-1, 1) * np.sin(np.pi * rows / height)
        place = self.x + drift[frame - self.first] + self.lean * rows / height + bow
        cover = np.full(height, self.cover)
        if self.broken:
            # Gaps that run on down the film.
            coarse = gaussian_filter1d(np.random.default_rng(self.seed + 1).standard_normal(4096), 9, mode="wrap")
            at = (rows + 37 * (frame - self.first)) % 4096
            cover = gaussian_filter1d(cover * (coarse[at] > np.quantile(coarse, self.broken)), 2, mode="nearest")
        # Six standard deviations away nothing is left of it.
        left = int(max(0, np.floor(place.min() - 6 * self.width)))
        right = int(min(width, np.ceil(place.max() + 6 * self.width) + 1))
        away = (np.arange(left, right)[None] - place[:, None]) / self.width
        whole = np.zeros(shape, np.float32)
        if left < right:
            whole[:, left:right] = cover[:, None] * np.exp(-0.5 * away * away)
        return whole


def scratched(frames: Sequence[Planes], scratches: Sequence[Scratch]) -> list[Planes]:
    """Frames with scratches on them, 8-bit Y'CbCr; colours are drawn to grey."""
    made = []
    for n, planes in enumerate(frames):
        out = [p.astype(np.float32) for p in planes]
        height, width = planes[0].shape
        for one in scratches:
            share = one.share(n, (height, width))
            for i, plane in enumerate(out):
                own = share if plane.shape == share.shape else cv2.resize(share, plane.shape[::-1], interpolation=cv2.INTER_AREA)
                plane += own * (np.float32(one.level if i == 0 else 128) - plane)
        made.append(tuple(np.clip(np.rint(p), 0, 255).astype(np.uint8) for p in out))
    return made


def three(frames: int, size: tuple[int, int], seed: int) -> list[Scratch]:
    """Three scratches: a light and a dark one through all frames, a leaning, broken one through some; `size` is height and width."""
    rng = np.random.default_rng(seed)
    width = size[1]
    places = width * (np.array([0.2, 0.5, 0.8]) + rng.uniform(-0.1, 0.1, 3))
    scale = max(1.0, width / 900)
    return [
        Scratch(float(places[0]), 0, frames, 235, 0.55, 0.9 * scale, float(rng.uniform(-4, 4)), 0.25, 0, seed),
        Scratch(float(places[1]), 0, frames, 20, 0.5, 0.8 * scale, 0.0, 0.15, 0, seed + 1),
        Scratch(float(places[2]), frames // 5, frames, 230, 0.5, 0.8 * scale, float(rng.choice([-1, 1]) * 14), 0.2, 0.3, seed + 2),
    ]
