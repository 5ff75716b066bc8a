"""Frames of a shot held against frames in which the camera has moved on: what keeps its place on the picture stands out.

Measured once for each shot, over the whole picture, and read by all who look for what lies on the sensor or the lens.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import cv2
import numpy as np
from numba import njit
from numpy.typing import NDArray

from ..base.parallel import parallel_map
from ..imaging.motion import Field, Look, Plane, agreement, carried, flow, grid, look, spread, support
from .shot_light import ShotLight
from .travel import Travel, pairs

# Width that larger pictures are looked at, about; pairs of frames, and pairs of a large picture.
_WORK_WIDTH = 960
_PAIRS, _PAIRS_LARGE = 48, 28
# Pixels from which a place counts as having moved on; where the camera never goes far, this share of how far it goes, and no less than that.
_MOVED, _SHARE_OF_FAR, _LEAST_MOVED = 5.0, 0.35, 2.0


@dataclass(frozen=True)
class MovedPairs:
    """Pairs of frames held against each other over the whole picture, at the size they are looked at; each both ways.

    Attributes
    ----------
    factor : int
        How many times smaller than the frame that is.
    light : dict
        Light of the frames, (rows, columns), float32, in codes above black, by their places in the volume.
    frame : ndarray, int64, (views,)
        Place of the frame that is held against another one.
    scene : ndarray, float16, (views, rows, columns)
        Light of the same points of the scene in the other frame.
    weight : ndarray, float16, (views, rows, columns)
        How far to trust that: where the surroundings agree and have moved on; 0 for not at all.
    far : ndarray, float64, (views,)
        How far the camera has moved, in pixels of the frame.
    moving : float
        How much of the picture moves, 0 to 1.
    """

    factor: int
    light: dict[int, Plane]
    frame: NDArray[np.int64]
    scene: NDArray[np.float16]
    weight: NDArray[np.float16]
    far: NDArray[np.float64]
    moving: float

    @property
    def half(self) -> NDArray[np.int64]:
        """Which half of the evidence each belongs to: both hold pairs of every distance."""
        half = np.zeros(len(self.frame) // 2, np.int64)
        half[np.argsort(self.far[::2], kind="stable")] = np.arange(len(half)) % 2
        return half.repeat(2)


def moved_pairs(light: ShotLight, way: Travel, noise: float, progress: Callable[[float], None]) -> MovedPairs | None:
    """Hold pairs of frames of a shot against each other.

    Parameters
    ----------
    light : ShotLight
    way : Travel
        The camera's way through the shot.
    noise : float
        Standard deviation of its light, in codes.
    progress : callable
        Told the share done, 0 to 1; may raise to stop.

    Returns
    -------
    MovedPairs or None
        None where the camera does not move on often enough.
    """
    factor = max(1, -(-light.shape[1] // _WORK_WIDTH))
    # Of a large picture each sample is the mean of several, so fewer pairs do, and motion is smooth enough for half the size.
    couples = pairs(way, _PAIRS if factor == 1 else _PAIRS_LARGE)
    half = 1 if factor == 1 else 2
    # One couple leaves a half of the evidence empty.
    if len(couples) < 2:
        return None
    used = sorted({n for couple in couples for n in couple})

    def made(n: int) -> tuple[Plane, Look]:
        plane = light.small(n, factor)
        size = (plane.shape[1] // half, plane.shape[0] // half)
        return plane, look(cv2.resize(plane, size, interpolation=cv2.INTER_AREA) if half > 1 else plane, noise / factor / half)

    ready = dict(zip(used, parallel_map(made, used), strict=True))
    shape = ready[used[0]][0].shape
    places, coarse = grid(shape), grid(ready[used[0]][1].gray.shape)
    goes_on = float(np.clip(_SHARE_OF_FAR * way.farthest, _LEAST_MOVED, _MOVED))
    scene = np.zeros((2 * len(couples), *shape), np.float16)
    weight = np.zeros_like(scene)
    moving = np.zeros(len(couples))

    def hold(k: int) -> None:
        (one, mine), (other, theirs) = (ready[n] for n in couples[k])
        i, j = couples[k]
        moved = goes_on / factor / half
        there = flow(mine.gray, theirs.gray, way.field(i, j, coarse, factor * half))
        back = flow(theirs.gray, mine.gray, way.field(j, i, coarse, factor * half))
        for n, (near, away, seen, motion, returns) in enumerate(((one, other, mine, there, back), (other, one, theirs, back, there))):
            found = _motion(seen, motion, returns, moved)
            moving[k] += found.moving / 2
            used, share = (_enlarged(part, shape) for part in (found.used * np.float32(half), found.share))
            scene[2 * k + n], weight[2 * k + n] = _compensated(near, away, used, share, places, goes_on / factor)
            if not light.is_whole:
                weight[2 * k + n] *= light.usable_both(couples[k][n], couples[k][1 - n], used, places, factor)

    for done, _ in enumerate(parallel_map(hold, range(len(couples)))):
        progress((done + 1) / len(couples))
    frame = np.array([n for couple in couples for n in couple])
    far = np.array([way.from_frame(i)[j] for i, j in couples]).repeat(2)
    return MovedPairs(factor, {n: plane for n, (plane, _) in ready.items()}, frame, scene, weight, far, float(np.median(moving)))


def _enlarged(plane: Plane, shape: tuple[int, ...]) -> Plane:
    return plane if plane.shape[:2] == shape else cv2.resize(plane, shape[::-1], interpolation=cv2.INTER_LINEAR)


@dataclass(frozen=True)
class _Motion:
    """Motion that no mark has told.

    Attributes
    ----------
    used : ndarray, float32, (height, width, 2)
    share : ndarray, float32, (height, width)
        Whether the surroundings move rather than stand still: among what mostly stands still nothing can be said.
    moving : float
        How much of the picture moves, 0 to 1.
    """

    used: Field
    share: Plane
    moving: float


def _motion(seen: Look, there: Field, back: Field, moved: float) -> _Motion:
    trust = agreement(there, back) * seen.texture
    goes = cv2.magnitude(there[..., 0], there[..., 1]) > moved
    # What keeps its place may be the mark itself: motion is carried in from what moves around it.
    moving = trust * goes
    filled, borne = spread(there, moving)
    still = support(trust * ~goes)
    dense = np.clip(2 * moving - 0.5, 0, 1)[..., None]
    share = np.clip((borne / (borne + still + 1e-3) - 0.15) / 0.2, 0, 1)
    return _Motion(dense * there + (1 - dense) * filled, share, float(moving.sum()) / max(float(trust.sum()), 1e-6))


def _compensated(one: Plane, other: Plane, used: Field, share: Plane, places: Field, moved: float) -> tuple[Plane, Plane]:
    """Light of the scene points of `one` as `other` shows them, and how far to trust it."""
    scene = carried(other, used, places)
    missed = cv2.blur(_log_difference(one, scene), (31, 31))
    return scene, _weight(missed, np.ascontiguousarray(used), np.ascontiguousarray(share), one, np.float32(moved))


@njit("(float32[:, ::1], float32[:, ::1])", cache=True, nogil=True, error_model="numpy")
def _log_difference(one: Plane, scene: Plane) -> Plane:
    """Squared difference of two lights as logarithms, bounded."""
    missed = np.empty(one.shape, np.float32)
    none, floor, most = np.float32(0), np.float32(4), np.float32(0.25)
    for y in range(one.shape[0]):
        for x in range(one.shape[1]):
            away = np.log((max(one[y, x], none) + floor) / (max(scene[y, x], none) + floor))
            missed[y, x] = min(away * away, most)
    return missed


@njit(
    "(float32[:, ::1], float32[:, :, ::1], float32[:, ::1], float32[:, ::1], float32)",
    cache=True,
    nogil=True,
    error_model="numpy",
)
def _weight(missed: Plane, used: Field, share: Plane, one: Plane, moved: np.float32) -> Plane:
    """How far to trust each sample: where the surroundings agree, the scene has moved, and it is not near black."""
    height, width = one.shape
    weight = np.empty((height, width), np.float32)
    none, all_of_it, usual = np.float32(0), np.float32(1), np.float32(0.0004)
    for y in range(height):
        for x in range(width):
            at_x, at_y = np.float32(x) + used[y, x, 0], np.float32(y) + used[y, x, 1]
            on = (at_x >= 1) & (at_y >= 1) & (at_x <= width - 2) & (at_y <= height - 2)
            far = np.sqrt(used[y, x, 0] * used[y, x, 0] + used[y, x, 1] * used[y, x, 1])
            goes = min(max((far / moved - np.float32(0.8)) / np.float32(0.4), none), all_of_it)
            lit = min(max((one[y, x] - np.float32(4)) / np.float32(8), none), all_of_it)
            weight[y, x] = usual / (missed[y, x] + usual) * goes * share[y, x] * lit if on else none
    return weight
