"""What a candidate looks like: how its rim falls off, what it does to the scene's detail and colours, and whether it is but a piece of the scene
that was shifted."""

from __future__ import annotations

from collections.abc import Sequence
from math import log
from typing import Any

import cv2
import numpy as np
from numpy.typing import NDArray

from ...base.compiled import compiled
from ...evidence.moments import Moment
from ...imaging.levels import MIXED, samples_at
from ...imaging.neighbours import Neighbour
from ...media.frames import Frame
from .specks import Speck, ring_about

Array = NDArray[Any]
# The rim's steepness; how far a shift of the fill explains it; the detail in it against that of the fill; how far what is taken off varies
# within; how far towards black or white it goes; how long it is for its size. Then of its colour, against the fill's: how far they are
# apart, how far beyond what something grey laid over would do, and that as a share; how grey it got; how much colour the fill has; what the
# fill misses about it; and how far the frames that lend are apart.
APPEARANCE = (
    "rim",
    "shifted",
    "detail",
    "uneven",
    "opaque",
    "long",
    "tint",
    "tint_left",
    "tint_share",
    "greyed",
    "colour",
    "tint_near",
    "tint_apart",
)
# Luma of what is black, and white, on film, in codes.
_BLACK, _WHITE = 12.0, 235.0
# Colour differences of a red, green and blue picture: of blue and of red (ITU-R BT.709); colour that is too faint to be drawn to grey, in codes.
_BLUE, _RED = (0.5 / (1 - MIXED[name]) for name in "BR")
_FAINT = 5.0
# Spread of the fill's slopes, in pixels; steepness, codes, and share of the contrast, that are told from nothing.
_SLOPES, _LEAST, _EVEN, _RIDGE = 0.7, 0.5, 0.2, 1e-6
_SQUARE_3, _SQUARE_5 = (np.ones((n, n), np.uint8) for n in (3, 5))


def appearance(at: Moment, speck: Speck, offsets: Sequence[int], near: Sequence[Neighbour]) -> tuple[float, ...]:
    """What a candidate looks like, in the order of `APPEARANCE`; nothing is told of colours where there are none.

    Parameters
    ----------
    at : Moment
    speck : Speck
    offsets : sequence of int
        Where the frames that fill it lie about its frame.
    near : sequence of Neighbour
        Those frames, over the speck's window or more.
    """
    evidence, hole = speck.evidence, speck.mask
    core = np.ascontiguousarray(hole, np.uint8)
    zone, within = cv2.dilate(core, _SQUARE_5) > 0, cv2.erode(core, _SQUARE_3) > 0
    here, fill = at.light[speck.box], speck.fill
    off = here - fill
    rim, shifted = _rim_and_shift(off, fill, cv2.GaussianBlur(fill, (0, 0), _SLOPES), zone, zone & ~within)
    uneven = float(off[within].std()) + _LEAST if within.sum() > 3 else _EVEN * evidence.contrast
    level = float(fill[hole].mean())
    opaque = evidence.contrast / max(_WHITE - level if speck.bright else level - _BLACK, 4.0)
    rows, cols = np.flatnonzero(hole.any(1)), np.flatnonzero(hole.any(0))
    long = max(rows[-1] - rows[0], cols[-1] - cols[0]) + 1
    return (
        log(max(rim, _LEAST) / evidence.contrast),
        max(0.0, shifted),
        log((float(here[hole].std()) + 1) / (float(fill[hole].std()) + 1)),
        log(uneven / evidence.contrast),
        min(max(opaque, 0.0), 1.5),
        log(long / max(1.0, evidence.area) ** 0.5),
        *_colours(at, speck, offsets, near, min(max(opaque, 0.0), 1.0)),
    )


def _colours(at: Moment, speck: Speck, offsets: Sequence[int], near: Sequence[Neighbour], opaque: float) -> tuple[float, ...]:
    """What is told of its colours: the last seven of `APPEARANCE`."""
    hole, factor = speck.mask, at.factor
    if len(at.frame.format.components) < 3:
        return (0.0,) * 7
    cols, rows = np.meshgrid(*(np.arange(part.start, part.stop, dtype=np.float32) for part in speck.box[::-1]))
    ring = ring_about(hole)
    shown = _colour_at(at.frame, cols, rows, factor)
    ways = [n.motion(speck.box) for n in near]
    lent = [_colour_at(at.at(k), cols + way[..., 0], rows + way[..., 1], factor) for k, way in zip(offsets, ways, strict=True)]
    made = np.tensordot(speck.weights, np.stack(lent), 1)
    off = shown - made
    level = np.median(off[:, ring], axis=1) if ring.sum() > 5 else np.zeros(2)
    missed = float(np.hypot(*off[:, ring].std(1))) if ring.sum() > 5 else 0.0
    fill = made[:, hole].mean(1) + level
    jump = shown[:, hole].mean(1) - fill
    apart = float(np.hypot(*(lent[0] - lent[1])[:, hole].mean(1)))
    far, colour, left = (float(np.hypot(*v)) for v in (jump, fill, jump + opaque * fill))
    contrast = speck.evidence.contrast + 1
    return (
        log((far + 1) / contrast),
        log((left + 1) / contrast),
        log((left + 1) / (far + 1)),
        min(max(float(-(jump @ fill)) / (colour * colour + _FAINT * _FAINT), -1.0), 1.5),
        log(colour + 1),
        log((missed + _LEAST) / contrast),
        log((apart + _LEAST) / contrast),
    )


def _colour_at(frame: Frame, cols: Array, rows: Array, factor: int) -> Array:
    """Both colour differences at places of a picture so many times smaller: (2, rows, columns), float32, in 8-bit codes."""
    layout = frame.format
    names = [c.name for c in layout.components]
    across, down = (np.float32(factor) * (at + np.float32(0.5)) for at in (cols, rows))

    def seen(index: int) -> Array:
        wide, tall = layout.subsampling(index)
        x, y = across / np.float32(wide) - np.float32(0.5), down / np.float32(tall) - np.float32(0.5)
        return samples_at(frame.component(index), x, y, layout.components[index].code, smooth=False)

    if "G" not in names:
        return np.stack([seen(1), seen(2)]) - np.float32(128)
    red, green, blue = (seen(names.index(n)) for n in "RGB")
    light = MIXED["R"] * red + MIXED["G"] * green + MIXED["B"] * blue
    return np.stack([np.float32(_BLUE) * (blue - light), np.float32(_RED) * (red - light)])


@compiled("(float32[:, :], float32[:, :], float32[:, :], boolean[:, :], boolean[:, :])")
def _rim_and_shift(off: Array, fill: Array, slopes: Array, zone: Array, rim: Array) -> tuple[float, float]:
    """How steep what is taken off is on its rim, per pixel; and the share of it that a shift of the fill, or more of it, explains."""
    height, width = off.shape
    steep, told = np.empty(rim.sum(), np.float32), np.empty((zone.sum(), 4))
    count = edges = 0
    for y in range(height):
        for x in range(width):
            if not zone[y, x]:
                continue
            above, below, left, right = max(0, y - 1), min(height - 1, y + 1), max(0, x - 1), min(width - 1, x + 1)
            down, across = max(1, below - above), max(1, right - left)
            told[count, 0] = off[y, x]
            told[count, 1] = (slopes[y, right] - slopes[y, left]) / across
            told[count, 2] = (slopes[below, x] - slopes[above, x]) / down
            told[count, 3] = fill[y, x]
            count += 1
            if rim[y, x]:
                steep[edges] = np.sqrt(((off[below, x] - off[above, x]) / down) ** 2 + ((off[y, right] - off[y, left]) / across) ** 2)
                edges += 1
    for k in range(4):
        told[:, k] -= told[:, k].mean()
    layer, scenes = np.ascontiguousarray(told[:, 0]), np.ascontiguousarray(told[:, 1:])
    normal = scenes.T @ scenes
    for k in range(3):
        normal[k, k] += _RIDGE * count
    left_over = layer - scenes @ np.linalg.solve(normal, scenes.T @ layer)
    steepness = float(np.percentile(steep[:edges], 80)) if edges else 0.0
    return steepness, 1 - (left_over**2).sum() / max((layer**2).sum(), _RIDGE * count)
