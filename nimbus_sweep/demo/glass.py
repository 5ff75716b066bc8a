"""Draws the recorder of Skerrow Point behind its glass: a lamp's reflection glides over it while the camera moves by hand."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import cv2
import numpy as np
from numpy.typing import NDArray

from .grain import HALVED, Picture, Planes, developed
from .room import SCREEN, draw_wall, walker
from .station import HEIGHT, WIDTH, Camera

# Frames, and those in which someone passes in front.
GLASS_FRAMES, PASSING = 72, (38, 58)
# The glass in the world: left, top, right, bottom; it stands over the recorder's chart.
GLASS = (SCREEN[0] - 14, SCREEN[1] - 14, SCREEN[2] + 14, SCREEN[3] + 14)


@dataclass(frozen=True)
class Glass:
    """A frame of the glass case: where the room lies on the picture, where the lamp shines, and in what light."""

    number: int

    @property
    def way(self) -> NDArray[np.float64]:
        """From the world to the picture: 3 x 3; held by hand, a little askew."""
        t = self.number / (GLASS_FRAMES - 1)
        scale = 3.1 * (1 + 0.08 * np.sin(2.2 * t))
        x = 705 + 26 * np.sin(2.6 * t) + 0.7 * np.sin(self.number * 0.9)
        y = 396 + 14 * np.sin(3.4 * t + 0.5) + 0.6 * np.sin(self.number * 1.3 + 1)
        turn = 0.02 * np.sin(4 * t)
        base = np.array([[scale, -turn, -x * scale], [turn, scale, -y * scale], [0, 0, 1]])
        askew = np.array([[1, 0, 0], [0, 1, 0], [6e-5 * np.sin(3 * t), 4e-5 * np.sin(2 * t + 1), 1]])
        return askew @ base

    @property
    def lamp(self) -> tuple[float, float]:
        """Where the lamp shines on the glass, in the world."""
        t = self.number / (GLASS_FRAMES - 1)
        return SCREEN[0] + 40 + 118 * t, SCREEN[1] + 40 + 8 * np.sin(5 * t)

    @property
    def light(self) -> float:
        """What all light is multiplied by."""
        return float(1 + 0.12 * np.sin(self.number / 4.5))

    def drawn(self, shining: bool = True) -> Planes:
        """The frame at half its size, with the reflection or without."""
        size, way = (WIDTH // 2, HEIGHT // 2), HALVED @ self.way
        # The wall is painted twice as fine as the world.
        fine = np.array([[0.5, 0, -0.25], [0, 0.5, -0.25], [0, 0, 1]])
        picture: Picture = cv2.warpPerspective(draw_wall(), way @ fine, size, flags=cv2.INTER_LINEAR, borderMode=cv2.BORDER_REFLECT_101)
        if shining:
            y, x = np.mgrid[GLASS[1] : GLASS[3], GLASS[0] : GLASS[2]].astype(np.float32)
            cx, cy = self.lamp
            lamp = np.exp(-((((x - cx) / 17) ** 2 + ((y - cy) / 13) ** 2) ** 1.4))
            place = np.array([[1, 0, GLASS[0]], [0, 1, GLASS[1]], [0, 0, 1.0]])
            shine = cv2.warpPerspective(lamp, way @ place, size, flags=cv2.INTER_LINEAR)
            picture += shine[..., None] * np.array([120, 112, 92], np.float32)
        share = (self.number - PASSING[0]) / (PASSING[1] - PASSING[0])
        if -0.2 < share < 1.2:
            # From the right to the left, before everything.
            walker(picture, Camera(0.0, 0.0), (1900 - (1380 - 1480 * share)) / 300, halved=True)
        return developed(picture * np.float32(self.light * 0.9), 81_000 + self.number, 1.8, halved=True)

    @staticmethod
    def truth(numbers: Sequence[int]) -> dict[str, Any]:
        """What is true of some frames, by their numbers."""
        frames = [Glass(n) for n in numbers]
        passing = [sum(n < edge for n in numbers) for edge in PASSING]
        return {"lamp": [list(f.lamp) for f in frames], "light": [f.light for f in frames], "passing": passing}
