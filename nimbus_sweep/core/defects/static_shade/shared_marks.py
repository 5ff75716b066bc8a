"""One map for one camera set-up: what one shot proved of a mark is looked for in the others.

A shot that never moves proves nothing by itself, but dirt proven elsewhere in the reel leaves its own shape in the
mean of its frames. How much of that shape is there is a regression of gradients, held against what the same shape
finds by chance at other places of the picture.
"""

from __future__ import annotations

from collections.abc import Sequence

import cv2
import numpy as np
from numpy.typing import NDArray

from ...evidence.time_volume import TimeVolume
from ...imaging.light import light_of
from ...imaging.motion import Plane
from ...model.findings import Finding
from .evidence import ShadeEvidence
from .shade_map import ShadeMap
from .veils import laid_over, undone

_FRAMES = 24
_CHANCES = 48
# Share of a mark's depth that has to be there, and standing out from chance, in its standard deviations.
_LEAST, _MOST = 0.6, 1.5
_RISE = (3.5, 7.0)


def mean_light(volume: TimeVolume) -> Plane:
    """The mean light of a shot's held frames: (height, width), float32, in 8-bit codes above black."""
    names = [c.name for c in volume.format.components]
    index = names.index("G") if "G" in names else 0
    stack = volume.component_stack(index)
    numbers = np.unique(np.linspace(0, len(stack) - 1, min(len(stack), _FRAMES)).round().astype(int))
    lights = [light_of(stack[n], volume.format.components[index], volume.colour) for n in numbers]
    return np.asarray(np.mean(lights, axis=0), np.float32)


def presence(mean: Plane, mark: ShadeMap) -> tuple[float, float]:
    """How much of a mark is in a mean picture.

    Parameters
    ----------
    mean : ndarray, float32, (height, width)
        See `mean_light`.
    mark : ShadeMap

    Returns
    -------
    depth : float
        1 where it is there as deep as it was measured, about 0 where it is not.
    stands_out : float
        That, over the standard deviation of what its shape finds by chance around.
    """
    share = np.pad(mark.share, 4)
    # Of a picture that is plain and as bright as this one: what the mark would make of it.
    place = _cut(mean, mark.left - 4, mark.top - 4, share.shape)
    if place is None:
        return 0.0, 0.0
    sigma = max(0.8, 0.02 * max(share.shape))

    def depth(at: Plane) -> float:
        level = float(np.median(undone(at, share, mark.veil)))
        spoiled = laid_over(level, share, mark.veil)
        shape, found = (_gradients(np.log(np.maximum(p, 1) + 4), sigma) for p in (spoiled, at))
        found_depth = float(np.median(np.abs(shape)[shape != 0])) if shape.any() else 0.0
        share_there = 0.5
        # The scene's own edges are few and large: M-estimator with a redescending weight (Geman and McClure 1987).
        for _ in range(8):
            miss = found - share_there * shape
            scale = 1.4826 * float(np.median(np.abs(miss))) + 0.1 * found_depth + 1e-6
            weight = 1 / (1 + (miss / (2 * scale)) ** 2) ** 2
            share_there = float((weight * shape * found).sum() / max(float((weight * shape * shape).sum()), 1e-12))
        return share_there

    chances = []
    height, width = share.shape
    for n in range(_CHANCES):
        ring, turn = 1 + n // 16, 2 * np.pi * (n % 16) / 16
        across, down = (round(ring * size * f) for size, f in ((width, np.cos(turn)), (height, np.sin(turn))))
        other = _cut(mean, mark.left - 4 + across, mark.top - 4 + down, share.shape)
        if other is not None:
            chances.append(depth(other))
    if len(chances) < 6:
        return depth(place), 0.0
    usual = float(np.sqrt(np.mean(np.square(chances))))
    found_depth = depth(place)
    return found_depth, found_depth / max(usual, 0.02)


def _cut(plane: Plane, left: int, top: int, shape: tuple[int, ...]) -> Plane | None:
    """A part of a picture; None where it does not lie on it."""
    height, width = shape
    if left < 0 or top < 0 or left + width > plane.shape[1] or top + height > plane.shape[0]:
        return None
    return plane[top : top + height, left : left + width]


def _gradients(plane: Plane, sigma: float) -> NDArray[np.float32]:
    smooth = cv2.GaussianBlur(plane, (0, 0), sigma)
    return np.stack([np.diff(smooth, axis=1)[:-1], np.diff(smooth, axis=0)[:, :-1]])


def proves_map(finding: Finding) -> bool:
    """Whether it says, by its own shot, what the mark does to the light."""
    return isinstance(finding.evidence, ShadeEvidence) and finding.evidence.map is not None and not finding.evidence.shared


def shared(mean: Plane, marks: Sequence[tuple[str, Finding]], known: Sequence[Finding], first: int, stop: int) -> list[Finding]:
    """Marks of other shots that are in this one, too.

    Parameters
    ----------
    mean : ndarray, float32, (height, width)
        See `mean_light`.
    marks : sequence of (str, Finding)
        What other shots proved, each with the shot's name; those without a map are left out.
    known : sequence of Finding
        Of this shot; what lies there is not named again.
    first, stop : int
        This shot.
    """
    found: list[Finding] = []
    for name, mark in marks:
        proven = mark.evidence
        if not isinstance(proven, ShadeEvidence) or proven.map is None or any(_meets(mark, other) for other in (*known, *found)):
            continue
        depth, stands_out = presence(mean, proven.map)
        if not _LEAST <= depth <= _MOST:
            continue
        sure = float(np.clip((stands_out - _RISE[0]) / (_RISE[1] - _RISE[0]), 0, 1))
        if sure < 0.3:
            continue
        found.append(
            Finding(
                kind=mark.kind,
                step=mark.step,
                x=mark.x,
                y=mark.y,
                width=mark.width,
                height=mark.height,
                first=first,
                stop=stop,
                confidence=round(sure, 3),
                evidence=proven.model_copy(update={"shared": name, "depth": round(depth, 3), "stands_out": round(stands_out, 1)}),
            )
        )
    return found


def _meets(one: Finding, other: Finding) -> bool:
    if other.kind != one.kind:
        return False
    across = min(one.x + one.width, other.x + other.width) - max(one.x, other.x)
    down = min(one.y + one.height, other.y + other.height) - max(one.y, other.y)
    return across > 0 and down > 0 and across * down > 0.3 * min(one.width * one.height, other.width * other.height)
