"""How soft a frame is beside a plate."""

from __future__ import annotations

from dataclasses import dataclass

import cv2
import numpy as np

from ...imaging.motion import Plane
from .canvas import Picture
from .light import ENOUGH, WEIGHTS

# Blurs that are tried, as standard deviations in pixels, and shares of a frame's move for which the shutter is open.
_BLURS = (0.0, 0.5, 0.8, 1.2, 1.8, 2.6, 3.6)
_SHUTTERS = (0.0, 0.25, 0.5, 0.75, 1.0)
# A frame's move, in pixels, below which it blurs nothing.
_STILL = 0.8


@dataclass(frozen=True)
class Blur:
    """How much less sharp a frame is than a plate laid on it: `sigma` in pixels each way, and a smear along a move, x and y in pixels."""

    sigma: float = 0.0
    across: float = 0.0
    down: float = 0.0

    def on(self, picture: Picture) -> Picture:
        """A picture blurred like that."""
        if self.sigma > 0.2:
            picture = cv2.GaussianBlur(picture, (0, 0), self.sigma, borderType=cv2.BORDER_REPLICATE)
        length = float(np.hypot(self.across, self.down))
        if length > _STILL:
            picture = cv2.filter2D(picture, -1, _smear(self.across, self.down), borderType=cv2.BORDER_REPLICATE)
        return picture


def _smear(across: float, down: float) -> Plane:
    """A kernel that is even along a line of that length."""
    half = int(np.ceil(max(abs(across), abs(down)) / 2)) + 1
    kernel = np.zeros((2 * half + 1, 2 * half + 1), np.float32)
    for share in np.linspace(-0.5, 0.5, 8 * half + 1):
        x, y = half + share * across, half + share * down
        left, top = int(np.floor(x)), int(np.floor(y))
        for dx, dy in ((0, 0), (1, 0), (0, 1), (1, 1)):
            weight = (1 - abs(x - left - dx)) * (1 - abs(y - top - dy))
            if weight > 0:
                kernel[top + dy, left + dx] += weight
    return kernel / kernel.sum()


def softness(frame: Picture, plate: Picture, use: Plane, move: tuple[float, float]) -> Blur:
    """How much less sharp a frame is than a plate, by what lies beside the patch.

    Parameters
    ----------
    frame, plate : ndarray, float32, (height, width, 3)
        On the same place of the frame, the plate in the frame's light.
    use : ndarray, float32, (height, width)
        Above 0 where both are to be compared.
    move : tuple of float
        How far the plane goes from this frame to the next, x and y in pixels.
    """
    one, other = frame @ WEIGHTS, plate @ WEIGHTS
    seen = (use > 0).astype(np.float32)
    part = cv2.erode(seen, np.ones((3, 3), np.uint8)) > 0
    if int(part.sum()) < 4 * ENOUGH:
        return Blur()
    # What lies beyond must not come in with the blur, and broad light is no sharpness.
    gap = (one - other) * seen
    broad = cv2.GaussianBlur(gap, (0, 0), 6) / np.maximum(cv2.GaussianBlur(seen, (0, 0), 6), 1e-3)
    other = np.where(seen > 0, other, one - broad)

    def misses(blur: Blur) -> float:
        gap = (one - blur.on(other) - broad)[part]
        return float(np.mean(np.minimum(np.abs(gap), 40.0) ** 2))

    far = float(np.hypot(*move))
    shutters = _SHUTTERS if far > _STILL else (0.0,)
    best, least = Blur(), misses(Blur()) * 0.98
    for shutter in shutters:
        for sigma in _BLURS:
            tried = Blur(sigma, shutter * move[0], shutter * move[1])
            if tried == Blur():
                continue
            miss = misses(tried)
            # A wider blur has to show for it.
            if miss < least:
                best, least = tried, miss
            elif sigma > best.sigma and miss > 1.1 * least:
                break
    return best
