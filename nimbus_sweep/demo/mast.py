"""Draws the store under the mast of Skerrow Point at dusk: two coloured beacons flash over its wall, and a tripod stands in shot."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from functools import lru_cache
from typing import Any

import cv2
import numpy as np
from numpy.typing import NDArray

from .grain import HALVED, Picture, Planes, developed
from .station import HEIGHT, WIDTH, noise

MAST_FRAMES = 72
# The wall in the world, painted twice as fine; where the beacons sit on it, and what colours they throw, red, green, blue.
_WORLD, _FINE = (1900, 960), 2
BEACONS = (((470, 150), (1.0, 0.16, 0.1)), ((1330, 130), (0.12, 0.85, 0.3)))
# Frames in which each beacon goes round, and where it begins.
_ROUNDS = ((16.0, 0.0), (11.0, 1.0))
# Where the tripod's head stands, as far before the wall that it goes by so many times as fast.
TRIPOD, _NEARER = (1010, 300), 2.0


@lru_cache(maxsize=1)
def _wall() -> Picture:
    """The wall at twice the world's size, colours of 0 to 255."""
    width, height = _WORLD
    grain = noise((height, width), 91, 6, 80, 1.0)
    stain = noise((height, width), 92, 4, 220, 0.5)
    rows = np.abs(np.sin(np.arange(height) * np.pi / 46))[:, None] ** 0.16
    tone = (0.72 + 0.28 * rows) * (0.8 + 0.3 * grain) * (0.86 + 0.22 * stain)
    small = (np.array([176, 172, 160], np.float32) * tone[..., None]).astype(np.float32)
    picture = cv2.resize(small, None, fx=_FINE, fy=_FINE, interpolation=cv2.INTER_CUBIC)
    rng = np.random.default_rng(93)

    def box(left: float, top: float, right: float, bottom: float, colour: tuple[float, float, float]) -> None:
        cv2.rectangle(picture, _at(left, top), _at(right, bottom), colour, -1)

    def line(a: tuple[float, float], b: tuple[float, float], colour: tuple[float, float, float], thick: float) -> None:
        cv2.line(picture, _at(*a), _at(*b), colour, max(1, round(thick * _FINE)), cv2.LINE_AA)

    for x in range(60, width, 118):
        for y in range(40, height, 46):
            cv2.circle(picture, _at(x + rng.uniform(-2, 2), y), 4, (86, 84, 80), -1, cv2.LINE_AA)
    # Lattices of the mast on both sides, a notice, a louvred screen, a rain gauge's pipe, coils of cable.
    for x in (440, 1300):
        for side in (0, 60):
            line((x + side, 40), (x + side, height), (74, 78, 84), 6)
        for y in range(60, height, 70):
            line((x, y), (x + 60, y + 70), (92, 96, 100), 3)
            line((x + 60, y), (x, y + 70), (92, 96, 100), 3)
    box(640, 120, 860, 260, (206, 198, 172))
    for n in range(6):
        line((660, 146 + 18 * n), (660 + 60 + 110 * rng.random(), 146 + 18 * n), (70, 66, 62), 2.5)
    box(960, 330, 1180, 620, (150, 158, 160))
    for n in range(15):
        line((970, 346 + 18 * n), (1170, 350 + 18 * n), (96, 104, 108), 5)
    line((760, 300), (760, 900), (110, 108, 96), 9)
    for n, (x, y) in enumerate(((600, 560), (880, 700), (1560, 420), (250, 480))):
        for r in range(18, 62, 9):
            cv2.ellipse(picture, _at(x, y), (r * _FINE, round(0.8 * r) * _FINE), 11 * n, 0, 350, (60 + 8 * n, 54, 50), 5, cv2.LINE_AA)
    return cv2.GaussianBlur(np.clip(picture, 0, 255), (0, 0), 0.7)


def _at(x: float, y: float) -> tuple[int, int]:
    return round(x * _FINE), round(y * _FINE)


@dataclass(frozen=True)
class Mast:
    """A frame of the wall under the mast."""

    number: int

    @property
    def _seen(self) -> tuple[float, float, float]:
        """Where the camera looks in the world, and how near: walked along the wall, held by hand."""
        t = self.number / (MAST_FRAMES - 1)
        x = 790 + 250 * t + 0.9 * np.sin(self.number * 0.8)
        y = 420 + 16 * np.sin(3.1 * t) + 0.7 * np.sin(self.number * 1.15 + 1)
        return float(x), float(y), float(1.02 + 0.05 * np.sin(2.4 * t))

    @property
    def way(self) -> NDArray[np.float64]:
        """From the world to the picture: 3 x 3."""
        x, y, scale = self._seen
        turn = 0.012 * np.sin(3 * self.number / MAST_FRAMES)
        return np.array([[scale, -turn, WIDTH / 2 - scale * x + turn * y], [turn, scale, HEIGHT / 2 - scale * y - turn * x], [0, 0, 1.0]])

    @property
    def beacons(self) -> tuple[float, float]:
        """How bright each beacon is, 0 to 1."""
        first, other = (max(0.0, float(np.cos(2 * np.pi * self.number / turn + start))) ** 3 for turn, start in _ROUNDS)
        return first, other

    @property
    def tripod(self) -> tuple[float, float]:
        """Where the tripod's head stands on the picture."""
        x, y, scale = self._seen
        return WIDTH / 2 + _NEARER * scale * (TRIPOD[0] - 75 - x), HEIGHT / 2 + scale * (TRIPOD[1] - y)

    def _light(self) -> Picture:
        """What the picture is multiplied by: dusk, and what the beacons throw."""
        y, x = np.mgrid[0:HEIGHT:8, 0:WIDTH:8].astype(np.float32)
        light = np.full((*x.shape, 3), 0.6, np.float32)
        for (place, colour), bright in zip(BEACONS, self.beacons, strict=True):
            at = self.way @ [*place, 1.0]
            far = np.hypot(x - at[0], y - at[1]) / 620
            light += np.float32(0.62 * bright) * np.exp(-(far[..., None] ** 1.4)) * np.array(colour, np.float32)
        return cv2.resize(light, (WIDTH // 2, HEIGHT // 2), interpolation=cv2.INTER_CUBIC)

    def drawn(self, standing: bool = True) -> Planes:
        """The frame at half its size, with the tripod or without."""
        fine = np.array([[1 / _FINE, 0, -0.25], [0, 1 / _FINE, -0.25], [0, 0, 1]])
        large = cv2.warpPerspective(_wall(), self.way @ fine, (WIDTH, HEIGHT), flags=cv2.INTER_LINEAR, borderMode=cv2.BORDER_REFLECT_101)
        # Looked up at full size: rivets would flicker where a pixel falls between what the smaller picture asks for.
        picture = cv2.resize(large, (WIDTH // 2, HEIGHT // 2), interpolation=cv2.INTER_AREA)
        way = HALVED @ self.way
        if standing:
            self._stand(picture)
        picture *= self._light()
        for (place, colour), bright in zip(BEACONS, self.beacons, strict=True):
            at = way @ [*place, 1.0]
            lamp = tuple(60 + 195 * c * bright for c in colour)
            cv2.circle(picture, (round(at[0] * 16), round(at[1] * 16)), 17 * 8, lamp, -1, cv2.LINE_AA, 4)
        return developed(picture, 95_000 + self.number, 1.6, halved=True)

    @staticmethod
    def truth(numbers: Sequence[int]) -> dict[str, Any]:
        """What is true of some frames, by their numbers."""
        frames = [Mast(n) for n in numbers]
        return {"beacons": [list(f.beacons) for f in frames], "tripod": [list(f.tripod) for f in frames]}

    def _stand(self, picture: Picture) -> None:
        """Draw the tripod; its measures are those of a picture of full size."""
        x, y = self.tripod

        def fixed(px: float, py: float) -> tuple[int, int]:
            return round((x + px) * 8), round((y + py) * 8)

        for foot, tone in ((-125, 84), (16, 62), (130, 96)):
            cv2.line(picture, fixed(0, 60), fixed(foot, 700), (tone, 0.8 * tone, 0.5 * tone), 9, cv2.LINE_AA, 4)
            cv2.line(picture, fixed(0.45 * foot - 4, 330), fixed(0.45 * foot + 4, 372), (60, 60, 62), 12, cv2.LINE_AA, 4)
        cv2.rectangle(picture, fixed(-24, 22), fixed(24, 66), (58, 60, 64), -1, cv2.LINE_AA, 4)
        cv2.rectangle(picture, fixed(-42, -44), fixed(42, 24), (112, 104, 60), -1, cv2.LINE_AA, 4)
        cv2.circle(picture, fixed(0, -10), 24 * 8, (40, 42, 46), -1, cv2.LINE_AA, 4)
        cv2.circle(picture, fixed(-6, -16), 9 * 8, (150, 160, 170), -1, cv2.LINE_AA, 4)
