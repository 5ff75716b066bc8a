"""Cue marks, as laid over the upper corner near the end of a reel: a few frames, a long pause, and a few frames again."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import cv2
import numpy as np
from numpy.typing import NDArray

Planes = tuple[NDArray[np.uint8], ...]
# Frames a mark stays, and clear frames between the two (common practice, no source).
STAYS, APART = 4, 168


@dataclass(frozen=True)
class CueMark:
    """A mark in some frames.

    Attributes
    ----------
    first, stop : int
    x, y : float
        Middle, in pixels.
    across, down : float
        Half axes.
    colour : tuple of float
        Luma, blue and red difference that it has, in 8-bit codes, colour differences about zero; None leaves one as it is.
    cover : float
        How much of the picture it hides.
    scratched : bool
        Made by hand: a cross of lines rather than a disc.
    """

    first: int
    stop: int
    x: float
    y: float
    across: float
    down: float
    colour: tuple[float | None, float, float]
    cover: float = 1.0
    scratched: bool = False

    def mask(self, shape: tuple[int, int], jitter: tuple[float, float] = (0.0, 0.0)) -> NDArray[np.float32]:
        """0 to 1, (height, width)."""
        x, y = self.x + jitter[0], self.y + jitter[1]
        if not self.scratched:
            rows, cols = np.ogrid[: shape[0], : shape[1]]
            far = np.sqrt(((cols - x) / self.across) ** 2 + ((rows - y) / self.down) ** 2)
            return np.clip((1 - far) * min(self.across, self.down) / 1.5 + 0.5, 0, 1).astype(np.float32)
        fine = np.zeros((shape[0] * 4, shape[1] * 4), np.uint8)
        for sign in (-1, 1):
            ends = [(round(4 * (x + k * self.across)), round(4 * (y + sign * k * self.down))) for k in (-1, 1)]
            cv2.line(fine, ends[0], ends[1], 255, max(4, round(self.across * 1.6)), cv2.LINE_AA)
        return cv2.resize(fine, shape[::-1], interpolation=cv2.INTER_AREA).astype(np.float32) / 255


def marked(pictures: Sequence[Planes], marks: Sequence[CueMark], seed: int = 1) -> list[Planes]:
    """Lay marks over pictures of luma and two colour differences, 8 bit; each sits a little differently in each frame."""
    rng = np.random.default_rng(seed)
    out = [tuple(p.copy() for p in planes) for planes in pictures]
    for mark in marks:
        for n in range(mark.first, min(mark.stop, len(out))):
            jitter = tuple(rng.normal(0, 0.4, 2))
            full = mark.mask(out[n][0].shape, (float(jitter[0]), float(jitter[1]))) * mark.cover
            for plane, value, zero in zip(out[n], mark.colour, (0, 128, 128), strict=True):
                if value is None:
                    continue
                share = full if plane.shape == full.shape else cv2.resize(full, plane.shape[::-1], interpolation=cv2.INTER_AREA)
                made = plane * (1 - share) + (value + zero) * share
                plane[:] = np.where(share > 0.002, np.clip(np.rint(made), 0, 255), plane).astype(np.uint8)
    return out


def pair(first: int, shape: tuple[int, int], kind: str, right: bool = True) -> list[CueMark]:
    """The two marks of a reel: ``dark``, ``light``, ``green`` or ``scratched``, the first from frame `first`."""
    height, width = shape
    size = height * 0.036
    x, y = (width * 0.93 if right else width * 0.07), height * 0.1
    colour = {"dark": (18.0, 0.0, 0.0), "light": (232.0, 0.0, 0.0), "green": (None, -34.0, -38.0), "scratched": (225.0, 0.0, 0.0)}[kind]
    return [CueMark(n, n + STAYS, x, y, size * 1.25, size, colour, scratched=kind == "scratched") for n in (first, first + STAYS + APART)]
