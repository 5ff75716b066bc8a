"""Things that cross: gulls that beat their wings, and a slow figure."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import cv2
import numpy as np
from numpy.typing import NDArray

Planes = tuple[NDArray[np.uint8], ...]
_FINER = 4


@dataclass(frozen=True)
class Crossing:
    """Something that crosses.

    Attributes
    ----------
    first, stop : int
        Frames it is in.
    x, y : float
        Where it is in the first.
    across, down : float
        Pixels a frame.
    size : float
        Length, in pixels.
    level : float
        Its luma.
    beats : float
        Beats of its wings a frame; 0 for a figure that stands upright.
    """

    first: int
    stop: int
    x: float
    y: float
    across: float
    down: float
    size: float
    level: float = 24.0
    beats: float = 0.37

    def mask(self, shape: tuple[int, int], frame: int) -> NDArray[np.float32]:
        """0 to 1 in a frame, (height, width)."""
        whole = np.zeros(shape, np.float32)
        part, left, top = self.part(shape, frame)
        whole[top : top + part.shape[0], left : left + part.shape[1]] = part
        return whole

    def part(self, shape: tuple[int, int], frame: int) -> tuple[NDArray[np.float32], int, int]:
        """0 to 1 in the part of a frame that it takes up, and that part's left upper corner, which is even."""
        x, y = self.x + self.across * (frame - self.first), self.y + self.down * (frame - self.first)
        reach = self.size + 4
        left, top = (max(0, int(v - reach) // 2 * 2) for v in (x, y))
        right, bottom = (min(most, int(v + reach) // 2 * 2 + 2) for v, most in zip((x, y), shape[::-1], strict=True))
        if right <= left or bottom <= top:
            return np.zeros((0, 0), np.float32), 0, 0
        x, y = x - left, y - top
        fine = np.zeros(((bottom - top) * _FINER, (right - left) * _FINER), np.uint8)
        half = self.size / 2

        def at(dx: float, dy: float) -> tuple[int, int]:
            return round((x + dx) * _FINER), round((y + dy) * _FINER)

        if self.beats:
            lift = half * 0.6 * np.sin(2 * np.pi * self.beats * frame + self.x)
            thick = max(_FINER, round(self.size / 7 * _FINER))
            for side in (-1, 1):
                cv2.line(fine, at(0, 0), at(side * half * 0.5, -lift), 255, thick, cv2.LINE_AA)
                cv2.line(fine, at(side * half * 0.5, -lift), at(side * half, -lift * 0.5), 255, max(1, thick // 2), cv2.LINE_AA)
            cv2.ellipse(fine, at(0, 0), (round(half * 0.35 * _FINER), round(self.size / 8 * _FINER)), 0, 0, 360, 255, -1, cv2.LINE_AA)
        else:
            cv2.ellipse(
                fine, at(0, -half * 0.75), (round(half * 0.2 * _FINER), round(half * 0.25 * _FINER)), 0, 0, 360, 255, -1, cv2.LINE_AA
            )
            cv2.ellipse(fine, at(0, 0), (round(half * 0.3 * _FINER), round(half * 0.6 * _FINER)), 0, 0, 360, 255, -1, cv2.LINE_AA)
            for side in (-1, 1):
                stride = side * half * 0.25 * np.sin(0.6 * frame)
                cv2.line(fine, at(0, half * 0.4), at(stride, half), 255, max(_FINER, round(self.size / 9 * _FINER)), cv2.LINE_AA)
        small = cv2.resize(fine, (right - left, bottom - top), interpolation=cv2.INTER_AREA)
        return small.astype(np.float32) / 255, left, top


def crossed(pictures: Sequence[Planes], things: Sequence[Crossing], first: int = 0) -> list[Planes]:
    """Let things cross pictures of luma and two colour differences, 8 bit; the first of them is frame `first`."""
    out = [tuple(p.copy() for p in planes) for planes in pictures]
    for n, planes in enumerate(out, start=first):
        for thing in things:
            if not thing.first <= n < thing.stop:
                continue
            full, left, top = thing.part(planes[0].shape, n)
            if not full.size:
                continue
            for plane, value in zip(planes, (thing.level, 128.0, 128.0), strict=True):
                down, across = planes[0].shape[0] // plane.shape[0], planes[0].shape[1] // plane.shape[1]
                size = (full.shape[1] // across, full.shape[0] // down)
                share = full if (down, across) == (1, 1) else cv2.resize(full, size, interpolation=cv2.INTER_AREA)
                own = plane[top // down : top // down + size[1], left // across : left // across + size[0]]
                made = own * (1 - share) + value * share
                own[:] = np.where(share > 0.004, np.clip(np.rint(made), 0, 255), own).astype(np.uint8)
    return out


def flock(frames: int, shape: tuple[int, int], seed: int, many: int = 5) -> list[Crossing]:
    """Gulls that cross in a few frames each, at speeds of about their own size a frame and more."""
    rng = np.random.default_rng(seed)
    height, width = shape
    found = []
    for n in range(many):
        size = height * rng.uniform(0.035, 0.075)
        speed = size * rng.uniform(1.3, 2.2) * rng.choice([-1, 1])
        long = int(width / abs(speed)) + 2
        first = round((frames - 4) * n / many) + int(rng.integers(0, 3))
        x = -size if speed > 0 else width + size
        found.append(
            Crossing(
                first,
                min(frames, first + long),
                x,
                height * rng.uniform(0.08, 0.6),
                speed,
                rng.uniform(-0.2, 0.2) * size,
                size,
                rng.uniform(15, 45),
            )
        )
    return found
