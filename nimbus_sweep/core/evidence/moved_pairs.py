"""Frames of a shot held against frames in which the camera has moved on: what keeps its place on the picture stands out.

Measured once for each shot, over the whole picture, and read by all who look for what lies on the sensor or the lens.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import cv2
import numpy as np
from numpy.typing import NDArray

from ..base.compiled import compiled
from ..base.parallel import parallel_map
from ..imaging.motion import Field, Look, Plane, agreement, carried, flow, grid, look, spread, support
from .shot_light import ShotLight
from .travel import Travel, pairs

# Width that larger pictures are looked at, about; pairs of frames, and pairs of a large picture.
_WORK_WIDTH = 960
_PAIRS, _PAIRS_LARGE = 48, 28
# Pixels from which a place counts as having moved on; where the camera never goes far, this share of how far it goes, and no less than that.
_MOVED, _SHARE_OF_FAR, _LEAST_MOVED = 5.0, 0.35, 2.0
# Squared difference of lights, as logarithms, that noise and motion usually leave.
_USUAL = 0.0004

# Blocks across the picture, about, over which the light of pairs is told as a whole.
_BLOCKS = 160


@dataclass(frozen=True)
class PairBlocks:
    """What the pairs tell of blocks of the picture: their light, and where each moves.

    Here what the light of a block differs by takes nothing from its weight, only what its detail differs by does.

    Attributes
    ----------
    size : int
        Samples of the pictures as they are looked at to a block's side.
    own, scene : ndarray, float32, (views, rows, columns)
        Mean light of a block, and of the same points of the scene in the other frame; codes above black.
    weight : ndarray, float16, (views, rows, columns)
        How far to trust that, 0 to 1.
    motion : ndarray, float16, (views, rows, columns, 2)
        Where the points lie in the other frame, in blocks to the right and down.
    """

    size: int
    own: NDArray[np.float32]
    scene: NDArray[np.float32]
    weight: NDArray[np.float16]
    motion: NDArray[np.float16]


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
    blocks : PairBlocks
    """

    factor: int
    light: dict[int, Plane]
    frame: NDArray[np.int64]
    scene: NDArray[np.float16]
    weight: NDArray[np.float16]
    far: NDArray[np.float64]
    moving: float
    blocks: PairBlocks

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
    size = max(2, round(shape[1] / _BLOCKS))
    cells = (2 * len(couples), shape[0] // size, shape[1] // size)
    own, others = np.zeros(cells, np.float32), np.zeros(cells, np.float32)
    trusted, motion_of = np.zeros(cells, np.float16), np.zeros((*cells, 2), np.float16)

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
            view = 2 * k + n
            passes = carried(away, used, places)
            weight[view] = _weight(cv2.blur(_log_difference(near, passes), (31, 31)), used, share, near, np.float32(goes_on / factor))
            own[view], others[view], trust, motion_of[view] = _blocks(near, passes, used, share, size)
            if not light.is_whole:
                seen_twice = light.usable_both(couples[k][n], couples[k][1 - n], used, places, factor)
                weight[view] *= seen_twice
                trust *= _in_blocks(seen_twice, trust.shape, size)
            scene[view], trusted[view] = passes, trust

    for done, _ in enumerate(parallel_map(hold, range(len(couples)))):
        progress((done + 1) / len(couples))
    frame = np.array([n for couple in couples for n in couple])
    far = np.array([way.from_frame(i)[j] for i, j in couples]).repeat(2)
    blocks = PairBlocks(size, own, others, trusted, motion_of)
    return MovedPairs(factor, {n: plane for n, (plane, _) in ready.items()}, frame, scene, weight, far, float(np.median(moving)), blocks)


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


def _in_blocks(plane: Plane, shape: tuple[int, ...], size: int) -> Plane:
    """Means over whole blocks."""
    whole = np.ascontiguousarray(plane[: shape[0] * size, : shape[1] * size])
    return np.asarray(cv2.resize(whole, shape[::-1], interpolation=cv2.INTER_AREA))


def _blocks(one: Plane, scene: Plane, used: Field, share: Plane, size: int) -> tuple[Plane, Plane, Plane, Field]:
    """The light of blocks in a frame and of the same points of the scene in the other, how far to trust it, and how far they move."""
    shown, passes, away, square, motion = _block_means(one, scene, used, size)
    # Detail that differs is missed by its motion, which misses what is about it, too.
    uneven = cv2.blur(np.maximum(cv2.blur(square, (3, 3)) - cv2.blur(away, (3, 3)) ** 2, 0), (7, 7))
    height, width = shown.shape
    at = motion + np.stack(np.meshgrid(np.arange(width, dtype=np.float32), np.arange(height, dtype=np.float32)), -1)
    on = ((at >= 0) & (at <= (width - 1, height - 1))).all(-1)
    lit = np.clip((np.minimum(shown, passes) - 4) / 12, 0, 1)
    weight = _USUAL / (uneven + _USUAL) * lit * on * _in_blocks(share, shown.shape, size)
    return shown, passes, weight.astype(np.float32), motion


@compiled("(float32[:, ::1], float32[:, ::1], float32[:, :, ::1], int64)")
def _block_means(one: Plane, scene: Plane, used: Field, size: int) -> tuple[Plane, Plane, Plane, Plane, Field]:
    """Of each block the two lights, the logarithm of their ratio and its square, and the motion in blocks."""
    rows, columns = one.shape[0] // size, one.shape[1] // size
    shown, passes = np.empty((rows, columns), np.float32), np.empty((rows, columns), np.float32)
    differs, squared = np.empty((rows, columns), np.float32), np.empty((rows, columns), np.float32)
    motion = np.empty((rows, columns, 2), np.float32)
    none, floor, most, count = np.float32(0), np.float32(4), np.float32(0.5), np.float32(size * size)
    for r in range(rows):
        for c in range(columns):
            mine = theirs = away = square = across = down = none
            for y in range(r * size, (r + 1) * size):
                for x in range(c * size, (c + 1) * size):
                    a, b = max(one[y, x], none), max(scene[y, x], none)
                    miss = min(max(np.log((a + floor) / (b + floor)), -most), most)
                    mine += a
                    theirs += b
                    away += miss
                    square += miss * miss
                    across += used[y, x, 0]
                    down += used[y, x, 1]
            shown[r, c], passes[r, c] = mine / count, theirs / count
            differs[r, c], squared[r, c] = away / count, square / count
            motion[r, c, 0], motion[r, c, 1] = across / count / size, down / count / size
    return shown, passes, differs, squared, motion


@compiled("(float32[:, ::1], float32[:, ::1])")
def _log_difference(one: Plane, scene: Plane) -> Plane:
    """Squared difference of two lights as logarithms, bounded."""
    missed = np.empty(one.shape, np.float32)
    none, floor, most = np.float32(0), np.float32(4), np.float32(0.25)
    for y in range(one.shape[0]):
        for x in range(one.shape[1]):
            away = np.log((max(one[y, x], none) + floor) / (max(scene[y, x], none) + floor))
            missed[y, x] = min(away * away, most)
    return missed


@compiled("(float32[:, ::1], float32[:, :, ::1], float32[:, ::1], float32[:, ::1], float32)")
def _weight(missed: Plane, used: Field, share: Plane, one: Plane, moved: np.float32) -> Plane:
    """How far to trust each sample: where the surroundings agree, the scene has moved, and it is not near black."""
    height, width = one.shape
    weight = np.empty((height, width), np.float32)
    none, all_of_it, usual = np.float32(0), np.float32(1), np.float32(_USUAL)
    for y in range(height):
        for x in range(width):
            at_x, at_y = np.float32(x) + used[y, x, 0], np.float32(y) + used[y, x, 1]
            on = (at_x >= 1) & (at_y >= 1) & (at_x <= width - 2) & (at_y <= height - 2)
            far = np.sqrt(used[y, x, 0] * used[y, x, 0] + used[y, x, 1] * used[y, x, 1])
            goes = min(max((far / moved - np.float32(0.8)) / np.float32(0.4), none), all_of_it)
            lit = min(max((one[y, x] - np.float32(4)) / np.float32(8), none), all_of_it)
            weight[y, x] = usual / (missed[y, x] + usual) * goes * share[y, x] * lit if on else none
    return weight
