"""A burn in film: a hole with a dark rim that opens over some frames, and closes again."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import cv2
import numpy as np
from numpy.typing import NDArray

Planes = tuple[NDArray[np.uint8], ...]
# Luma, blue and red difference of the hole, and of its rim.
_HOLE, _RIM = (228.0, 104.0, 150.0), (34.0, 122.0, 144.0)


@dataclass(frozen=True)
class Burn:
    """Where and when film is burnt.

    Attributes
    ----------
    first, stop : int
    x, y : float
        Middle in the first frame, in pixels.
    across, down : float
        Pixels a frame that it moves.
    radius : float
        At its largest.
    """

    first: int
    stop: int
    x: float
    y: float
    across: float
    down: float
    radius: float

    def at(self, frame: int) -> tuple[float, float, float]:
        """Middle and radius in a frame."""
        n = frame - self.first
        share = (n + 1) / (self.stop - self.first + 1)
        return self.x + self.across * n, self.y + self.down * n, self.radius * float(np.sin(np.pi * min(1.0, 0.06 + 0.9 * share)))

    def cover(self, shape: tuple[int, int], frame: int) -> tuple[NDArray[np.float32], NDArray[np.float32]]:
        """How far the hole and its rim cover each pixel, 0 to 1, (height, width)."""
        x, y, radius = self.at(frame)
        rows, cols = np.ogrid[: shape[0], : shape[1]]
        angle = np.arctan2(rows - y, cols - x)
        ragged = 1 + 0.08 * np.sin(5 * angle + 0.4 * frame) + 0.05 * np.sin(11 * angle + frame)
        far = np.hypot((cols - x) / 1.15, rows - y) / ragged
        hole = np.clip(radius * 0.78 - far + 0.5, 0, 1).astype(np.float32)
        rim = np.clip(radius - far + 0.5, 0, 1).astype(np.float32) - hole
        return hole, rim


def burnt(pictures: Sequence[Planes], burn: Burn) -> list[Planes]:
    """Burn pictures of luma and two colour differences, 8 bit."""
    out = [tuple(p.copy() for p in planes) for planes in pictures]
    for n in range(burn.first, min(burn.stop, len(out))):
        hole, rim = burn.cover(out[n][0].shape, n)
        for plane, inner, edge in zip(out[n], _HOLE, _RIM, strict=True):
            one, two = (
                m if m.shape == plane.shape else cv2.resize(m, plane.shape[::-1], interpolation=cv2.INTER_AREA) for m in (hole, rim)
            )
            made = plane * (1 - one - two) + inner * one + edge * two
            plane[:] = np.where(one + two > 0.004, np.clip(np.rint(made), 0, 255), plane).astype(np.uint8)
    return out
