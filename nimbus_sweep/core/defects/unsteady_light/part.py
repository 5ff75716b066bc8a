"""The one part of the picture whose light changes while all else is steady: a screen, or a lamp's field."""

from __future__ import annotations

from dataclasses import dataclass, replace

import cv2
import numpy as np

from .pairs import Cells, Pairs, close

_GRID = (27, 24)
# Log light by which the part changes at least, and the share of that by which it may change around it.
_CHANGES, _STEADY = 0.03, 0.25
# Shares of the picture it takes up, and of the box around it.
_SMALL, _LARGE, _SOLID = 0.02, 0.7, 0.7


@dataclass(frozen=True)
class LitPart:
    """A part of the picture.

    Attributes
    ----------
    mask : ndarray, float32, (rows, cols)
        1 inside, 0 outside, over the whole picture.
    box : tuple of float
        Left, top, right, bottom, as shares of the picture.
    """

    mask: Cells
    box: tuple[float, float, float, float]

    def of(self, pairs: Pairs) -> Pairs:
        """Only what pairs tell of it."""
        size = (pairs.weight.shape[2], pairs.weight.shape[1])
        return replace(pairs, weight=pairs.weight * cv2.resize(self.mask, size, interpolation=cv2.INTER_NEAREST))


def changing_part(pairs: Pairs) -> LitPart | None:
    """The one solid part whose light changes from frame to frame, along the motion, while that of all else does not."""
    near = close(pairs, 1)
    if len(near.one) < 4:
        return None
    near = near.grouped(*_GRID)
    mass = np.maximum(near.weight.sum(0), 1e-6)
    lively = near.ratio - (near.weight * near.ratio).sum(0) / mass
    size = np.median(np.abs(lively), axis=0) / 0.6745
    seen = near.weight.mean(0) > 0.02 * float(near.weight.mean())
    strong = float(np.percentile(size[seen], 98)) if seen.any() else 0.0
    if strong < _CHANGES:
        return None
    _, named, stats, _ = cv2.connectedComponentsWithStats(((size > 0.5 * strong) & seen).astype(np.uint8), connectivity=4)
    if len(stats) < 2:
        return None
    at = 1 + int(stats[1:, cv2.CC_STAT_AREA].argmax())
    left, top, wide, tall, area = (int(v) for v in stats[at])
    inside = named == at
    around = seen & ~cv2.dilate(inside.astype(np.uint8), np.ones((3, 3), np.uint8)).astype(bool)
    share = area / inside.size
    if not (_SMALL < share < _LARGE and area > _SOLID * wide * tall and around.any()):
        return None
    if float(np.percentile(size[around], 90)) > _STEADY * float(np.median(size[inside])):
        return None
    rows, cols = size.shape
    return LitPart(inside.astype(np.float32), (left / cols, top / rows, (left + wide) / cols, (top + tall) / rows))
