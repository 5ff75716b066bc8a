"""Puts film dirt into sound frames and keeps the truth: specks and hairs that live for one frame."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import cv2
import numpy as np
from numpy.typing import NDArray

Planes = tuple[NDArray[np.uint8], ...]
_FINE = 4


@dataclass(frozen=True)
class Dirt:
    """One speck or hair, in one frame.

    Attributes
    ----------
    frame : int
    x, y, size : float
        Its middle, and its radius; of a hair half its length. In pixels.
    hair : bool
    level : float
        Luma code it draws the picture to.
    cover : float
        How far, 0 to 1.
    soft : float
        Standard deviation of its edge, in pixels.
    seed : int
        Of its shape.
    """

    frame: int
    x: float
    y: float
    size: float
    hair: bool
    level: float
    cover: float
    soft: float
    seed: int

    def share(self, shape: tuple[int, int]) -> tuple[NDArray[np.float32], int, int]:
        """How far it covers each pixel, 0 to 1, on a window of the picture, and the window's left upper corner."""
        reach = int(np.ceil(1.5 * self.size + 3 * self.soft + 3))
        left, top = int(self.x) - reach, int(self.y) - reach
        side = 2 * reach + 1
        rng = np.random.default_rng(self.seed)
        fine = np.zeros((side * _FINE, side * _FINE), np.uint8)
        middle = np.array([self.x - left + 0.5, self.y - top + 0.5]) * _FINE
        if self.hair:
            bends = np.cumsum(rng.normal(0, 0.16, 24)) + rng.uniform(0, 2 * np.pi)
            steps = np.stack([np.cos(bends), np.sin(bends)], 1) * (2 * self.size / 24 * _FINE)
            line = np.cumsum(steps, 0)
            line += middle - line.mean(0)
            cv2.polylines(fine, [line.round().astype(np.int32)], False, 255, int(rng.integers(5, 11)), cv2.LINE_AA)
        else:
            angles = np.linspace(0, 2 * np.pi, 48, endpoint=False)
            waves = sum(rng.normal(0, 0.25 / k) * np.cos(k * angles + rng.uniform(0, 2 * np.pi)) for k in range(1, 6))
            radius = self.size * _FINE * np.clip(1 + waves, 0.35, 1.5)
            stretch = rng.uniform(0.7, 1.3)
            outline = np.stack([radius * np.cos(angles) * stretch, radius * np.sin(angles) / stretch], 1) + middle
            cv2.fillPoly(fine, [outline.round().astype(np.int32)], 255, cv2.LINE_AA)
        small = cv2.resize(fine, (side, side), interpolation=cv2.INTER_AREA).astype(np.float32) / 255
        soft = cv2.GaussianBlur(small, (0, 0), self.soft) * np.float32(self.cover)
        y0, x0 = max(0, -top), max(0, -left)
        return soft[y0 : shape[0] - top, x0 : shape[1] - left], max(0, left), max(0, top)


def scattered(frames: int, size: tuple[int, int], seed: int, each: float = 6.0, hairs: float = 0.1) -> list[Dirt]:
    """Specks and hairs all over: about `each` a frame, that share of them hairs; `size` is height and width."""
    rng = np.random.default_rng(seed)
    height, width = size
    scale = max(height, width) / 640
    found = []
    for frame in range(frames):
        for _ in range(rng.poisson(each)):
            hair = bool(rng.random() < hairs)
            radius = rng.uniform(15, 45) if hair else np.exp(rng.normal(1.1, 0.5))
            level = rng.uniform(16, 55) if rng.random() < 0.5 else rng.uniform(190, 235)
            found.append(
                Dirt(
                    frame,
                    float(rng.uniform(0, width)),
                    float(rng.uniform(0, height)),
                    float(np.clip(radius * scale, 1.2, 60)),
                    hair,
                    float(level),
                    float(rng.uniform(0.6, 1.0)),
                    float(rng.uniform(0.5, 1.1)),
                    int(rng.integers(1 << 31)),
                )
            )
    return found


def soiled(frames: Sequence[Planes], dirt: Sequence[Dirt]) -> list[Planes]:
    """Frames with dirt on them, 8-bit Y'CbCr; colours are drawn to grey."""
    made = [tuple(p.copy() for p in planes) for planes in frames]
    for one in dirt:
        planes = made[one.frame]
        height, width = planes[0].shape
        share, left, top = one.share((height, width))
        if not share.size:
            continue
        # The part it takes up, grown to whole cells of the colour planes.
        down, across = (-(-a // b) for a, b in zip((height, width), planes[-1].shape, strict=True))
        rows, cols = top % down, left % across
        full = np.pad(share, ((rows, -(rows + share.shape[0]) % down), (cols, -(cols + share.shape[1]) % across)))
        top, left = top - rows, left - cols
        for n, plane in enumerate(planes):
            across_, down_ = (1, 1) if plane.shape == (height, width) else (across, down)
            own = (
                full
                if (across_, down_) == (1, 1)
                else cv2.resize(full, (full.shape[1] // across, full.shape[0] // down), interpolation=cv2.INTER_AREA)
            )
            part = plane[top // down_ :, left // across_ :][: own.shape[0], : own.shape[1]]
            own = own[: part.shape[0], : part.shape[1]]
            level = np.float32(one.level if not n else 128)
            part[:] = np.clip(np.rint(part + own * (level - part)), 0, 255).astype(np.uint8)
    return made
