"""A place on the picture that is looked at on its own."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Any

import cv2
import numpy as np
from numpy.typing import NDArray

from .motion import Plane


@dataclass(frozen=True)
class Box:
    """A rectangle that may stick out of the picture, looked at `step` times smaller."""

    left: int
    top: int
    width: int
    height: int
    step: int = 1

    @property
    def shape(self) -> tuple[int, int]:
        """Rows and columns as it is looked at."""
        return self.height // self.step, self.width // self.step

    def moved(self, across: int, down: int) -> Box:
        """The same rectangle elsewhere."""
        return replace(self, left=self.left + across, top=self.top + down)

    def samples(self, plane: NDArray[Any]) -> NDArray[Any]:
        """Its part of a picture, sample by sample; beyond the edge the last samples go on."""
        height, width = plane.shape
        bottom, right = self.top + self.shape[0] * self.step, self.left + self.shape[1] * self.step
        if self.top >= 0 and self.left >= 0 and bottom <= height and right <= width:
            return plane[self.top : bottom, self.left : right]
        rows = np.clip(np.arange(self.top, bottom), 0, height - 1)
        cols = np.clip(np.arange(self.left, right), 0, width - 1)
        return plane[rows[:, None], cols[None]]

    def reduced(self, part: Plane) -> Plane:
        """Samples of it at the size it is looked at."""
        return part if self.step == 1 else cv2.resize(part, self.shape[::-1], interpolation=cv2.INTER_AREA)

    def cut(self, plane: Plane) -> Plane:
        """Its part of a picture, at the size it is looked at."""
        return self.reduced(self.samples(plane))

    def on(self, shape: tuple[int, int]) -> Plane:
        """1 where it lies on a picture of that shape, else 0."""
        rows = self.top + self.step * np.arange(self.shape[0])
        cols = self.left + self.step * np.arange(self.shape[1])
        inside = ((rows >= 0) & (rows + self.step <= shape[0]))[:, None] & ((cols >= 0) & (cols + self.step <= shape[1]))[None]
        return inside.astype(np.float32)

    def put(self, part: Plane, plane: Plane) -> None:
        """Write its part back into a picture, where it lies on it; only at full size."""
        height, width = plane.shape
        y0, x0 = max(0, self.top), max(0, self.left)
        y1, x1 = min(height, self.top + self.height), min(width, self.left + self.width)
        plane[y0:y1, x0:x1] = part[y0 - self.top : y1 - self.top, x0 - self.left : x1 - self.left]
