"""What departs from the frames beside it, cut into blobs at several levels; compiled."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from ...base.compiled import compiled
from ...imaging.neighbours import Box, Mask

Array = NDArray[Any]
# Levels, as shares of a blob's strongest departure, at which it is cut loose from what else departs.
_LEVELS = (0.0, 0.12, 0.25, 0.5)
# The largest part of the picture, and of its longer side, that a speck takes up; in pixels it may be as large in a small picture.
_LARGEST, _LONGEST, LARGEST_PIXELS = 0.012, 0.4, 450.0


def blobs_of(departs: Array, out: Array, seeds: Mask, extent: float, whole: tuple[int, ...]) -> list[tuple[Box, Mask, float]]:
    """Windows of blobs that hold a seed, at several levels, the largest first; each with the largest rank-ordered departure in it.

    Parameters
    ----------
    departs, out : ndarray, float32, (height, width)
        Spike and rank-ordered departure, in codes.
    seeds : ndarray, bool, (height, width)
    extent : float
        Least departure, in codes, of what belongs to a blob.
    whole : tuple of int
        Height and width of the picture of which this may be a part.
    """
    if not seeds.any():
        return []
    found = _cut(departs, out, seeds, extent, max(_LARGEST * whole[0] * whole[1], LARGEST_PIXELS), _LONGEST * max(whole))
    blobs = [(np.s_[top : top + b.shape[0], left : left + b.shape[1]], b, strength) for top, left, b, strength, _ in found]
    return [blobs[k] for k in np.argsort([-area for *_, area in found], kind="stable")]


@compiled("(int64, int64[::1], boolean[:, ::1], boolean[:, ::1], int64)")
def _flooded(start: int, places: Array, held: Array, left: Array, at: int) -> int:
    """Take what hangs together with a place out of `left`, eight ways, and list it from `at` on; where the list ends."""
    height, width = left.shape
    stop = at + 1
    places[at] = start
    left[start // width, start % width] = False
    while at < stop:
        y, x = places[at] // width, places[at] % width
        at += 1
        for v in range(max(0, y - 1), min(height, y + 2)):
            for u in range(max(0, x - 1), min(width, x + 2)):
                if left[v, u] and held[v, u]:
                    left[v, u] = False
                    places[stop] = v * width + u
                    stop += 1
    return stop


@compiled("(float32[:, ::1], float32[:, ::1], boolean[:, ::1], float64, float64, float64)")
def _cut(departs: Array, out: Array, seeds: Array, extent: float, largest: float, longest: float) -> Any:
    height, width = departs.shape
    found = [(0, 0, np.zeros((1, 1), np.bool_), 0.0, 0)]
    found.clear()
    held = departs > np.float32(extent)
    left, inner = held.copy(), np.zeros((height, width), np.bool_)
    whole, part = np.empty(departs.size, np.int64), np.empty(departs.size, np.int64)
    for y in range(height):
        for x in range(width):
            if not (seeds[y, x] and left[y, x]):
                continue
            count = _flooded(y * width + x, whole, held, left, 0)
            peak = 0.0
            for k in range(count):
                peak = max(peak, float(departs[whole[k] // width, whole[k] % width]))
            before = -1
            for share in _LEVELS:
                level = np.float32(max(extent, share * peak))
                area = 0
                for k in range(count):
                    v, u = whole[k] // width, whole[k] % width
                    inner[v, u] = departs[v, u] > level
                    area += inner[v, u]
                if area == before:
                    continue
                before = area
                for k in range(count):
                    if not inner[whole[k] // width, whole[k] % width]:
                        continue
                    size = _flooded(whole[k], part, inner, inner, 0)
                    if size > largest or size < 2:
                        continue
                    top, bottom, first, last, strength, seeded = height, 0, width, 0, -np.inf, False
                    for n in range(size):
                        v, u = part[n] // width, part[n] % width
                        top, bottom, first, last = min(top, v), max(bottom, v), min(first, u), max(last, u)
                        strength = max(strength, out[v, u])
                        seeded |= seeds[v, u]
                    if not seeded or max(bottom - top, last - first) + 1 > longest:
                        continue
                    blob = np.zeros((bottom - top + 1, last - first + 1), np.bool_)
                    for n in range(size):
                        blob[part[n] // width - top, part[n] % width - first] = True
                    found.append((top, first, blob, strength, size))
            for k in range(count):
                inner[whole[k] // width, whole[k] % width] = False
    return found
