"""What a lens and a camera make of a drawn picture: softened, turned into Y'CbCr, with grain."""

from __future__ import annotations

from functools import lru_cache

import cv2
import numpy as np
from numpy.typing import NDArray

from ..core.base.compiled import compiled
from .defects import rgb_to_ycbcr

Picture = NDArray[np.float32]
Planes = tuple[NDArray[np.uint8], ...]
# Takes a place on a picture to the same on one of half its size, whose pixels stand for four.
HALVED = np.array([[0.5, 0, -0.25], [0, 0.5, -0.25], [0, 0, 1]])
# A field of grain is this much larger than the picture; each frame takes another part of it.
_ROOM = 512
# Standard deviation of the lens's blur, in pixels of a picture of full size.
_SOFT = 0.55
# The same of a picture of half the size, which has as much fine structure as a whole one made smaller (measured).
_SOFT_HALVED = 0.44


@lru_cache(maxsize=4)
def _field(height: int, width: int, soft: float, halved: bool) -> Picture:
    """Grain of standard deviation 1 or so, `soft` pixels wide, for pictures of that size; or what is left of it when they are halved."""
    rng = np.random.default_rng(height)
    times = 2 if halved else 1
    field = rng.standard_normal(((height + _ROOM) * times, (width + _ROOM) * times), np.float32)
    if soft:
        field = cv2.GaussianBlur(field, (0, 0), soft) * np.float32(1.9)
    return cv2.resize(field, (width + _ROOM, height + _ROOM), interpolation=cv2.INTER_AREA) if halved else field


def developed(picture: Picture, seed: int, grain: float, halved: bool = False) -> Planes:
    """A drawn picture as limited-range BT.709 4:2:0 planes of 8 bits.

    Parameters
    ----------
    picture : ndarray, float32, (height, width, 3)
        Red, green and blue of 0 to 255; even height and width.
    seed : int
        Which grain the frame takes.
    grain : float
        Standard deviation of the grain in the mid tones, in 8-bit codes.
    halved : bool
        Whether the picture stands for one of twice its size that was made smaller: lens and grain are finer then.
    """
    height, width = picture.shape[:2]
    soft = cv2.GaussianBlur(picture, (0, 0), _SOFT_HALVED if halved else _SOFT)
    luma, chroma = _field(height, width, 0.6, halved), _field(height // 2, width // 2, 0.0, halved)
    down, across, *more = (int(n) for n in np.random.default_rng(seed).integers(0, _ROOM, 6))
    blue, red = (chroma[y : y + height // 2, x : x + width // 2] for y, x in (more[:2], more[2:]))
    own = luma[down : down + height, across : across + width]
    planes = (np.empty((height, width), np.uint8), *(np.empty((height // 2, width // 2), np.uint8) for _ in range(2)))
    _expose(soft, _mixing(), own, blue, red, np.float32(grain), planes[0], planes[1], planes[2])
    return planes


@lru_cache(maxsize=1)
def _mixing() -> Picture:
    """`rgb_to_ycbcr` as a matrix with its constants: (3, 4)."""
    black, *primaries = (np.array(rgb_to_ycbcr(np.array(colour, float))) for colour in ((0, 0, 0), (1, 0, 0), (0, 1, 0), (0, 0, 1)))
    return np.stack([*(p - black for p in primaries), black], 1).astype(np.float32)


_F = np.float32


@compiled(fast=True)
def _expose(
    picture: Picture,
    mixing: Picture,
    luma_grain: Picture,
    blue_grain: Picture,
    red_grain: Picture,
    grain: np.float32,
    luma: NDArray[np.uint8],
    blue: NDArray[np.uint8],
    red: NDArray[np.uint8],
) -> None:
    """Mix the colours, add grain, most of it in the mid tones, and round."""
    height, width = luma.shape
    m00, m01, m02, m03 = mixing[0, 0], mixing[0, 1], mixing[0, 2], mixing[0, 3]
    m10, m11, m12, m13 = mixing[1, 0], mixing[1, 1], mixing[1, 2], mixing[1, 3]
    m20, m21, m22, m23 = mixing[2, 0], mixing[2, 1], mixing[2, 2], mixing[2, 3]
    # Colours one after another, and loops of one purpose: so the compiler works on several samples at a time.
    parts = np.empty((3, width), np.float32)
    c0, c1, c2 = parts[0], parts[1], parts[2]
    lights, blues, reds = np.empty(width, np.float32), np.empty((2, width), np.float32), np.empty((2, width), np.float32)
    for y in range(height):
        for x in range(width):
            for k in range(3):
                parts[k, x] = min(max(picture[y, x, k], _F(0)), _F(255))
        own_blue, own_red, own, light = blues[y % 2], reds[y % 2], luma_grain[y], luma[y]
        for x in range(width):
            lights[x] = m00 * c0[x] + m01 * c1[x] + m02 * c2[x] + m03
        for x in range(width):
            own_blue[x] = m10 * c0[x] + m11 * c1[x] + m12 * c2[x]
        for x in range(width):
            own_red[x] = m20 * c0[x] + m21 * c1[x] + m22 * c2[x]
        for x in range(width):
            middle = max(_F(1) - abs(lights[x] - _F(120)) * _F(1 / 130), _F(0))
            lights[x] += grain * own[x] * (_F(0.6) + _F(0.8) * np.sqrt(middle))
        for x in range(width):
            light[x] = np.uint8(np.int32(min(max(lights[x] + _F(0.5), _F(16)), _F(235))))
        if y % 2:
            half = y // 2
            for x in range(width // 2):
                b = (blues[0, 2 * x] + blues[0, 2 * x + 1] + blues[1, 2 * x] + blues[1, 2 * x + 1]) * _F(0.25)
                b += m13 + _F(0.35) * grain * blue_grain[half, x]
                blue[half, x] = np.uint8(np.int32(min(max(b + _F(0.5), _F(16)), _F(240))))
            for x in range(width // 2):
                r = (reds[0, 2 * x] + reds[0, 2 * x + 1] + reds[1, 2 * x] + reds[1, 2 * x + 1]) * _F(0.25)
                r += m23 + _F(0.35) * grain * red_grain[half, x]
                red[half, x] = np.uint8(np.int32(min(max(r + _F(0.5), _F(16)), _F(240))))
