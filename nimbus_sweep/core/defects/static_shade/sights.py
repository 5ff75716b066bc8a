"""What is seen of one mark's place: frames that show it, each with another laid on it that does not."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cache
from typing import Any

import cv2
import numpy as np
from numpy.typing import NDArray

from ...evidence.travel import Travel, pairs
from ...imaging.box import Box
from ...imaging.motion import HALVED, SCALES, Field, Look, Plane, agreement, blur, carried, flow, grid, look, spread
from .light import ShotLight

Stack = NDArray[Any]


@dataclass(frozen=True)
class PairViews:
    """What pairs of frames show about a mark; all of shape (pairs, rows, columns) unless said otherwise.

    Attributes
    ----------
    own : ndarray, float32
        Light at the mark, in codes above black.
    scene : ndarray, float32
        Light of the same scene point in the other frame.
    weight : ndarray, float32
        How far the pair is to be trusted there.
    at : ndarray, float32, (pairs, rows, columns, 2)
        Where in the box the scene point lay in the other frame.
    frames : ndarray, int, (pairs, 2)
        The held frames of each: the one looked at, and the other.
    half : ndarray, int
        Which half of the evidence a pair belongs to.
    far : float
        How far the scene moved between the frames, the largest of the pairs, in pixels.
    passing : float
        How much better the moved frame explains the surroundings of the mark than the unmoved one: above 1 where the
        scene passes, 1 where it is plain, below 1 where it stands still.
    rest : float
        What is left between two frames about the mark once motion is taken out, as one frame's standard deviation in
        codes: no more than this can be noise.
    """

    own: Stack
    scene: Stack
    weight: Stack
    at: NDArray[np.float32]
    frames: NDArray[np.int64]
    half: NDArray[np.int64]
    far: float
    passing: float
    rest: float

    def __len__(self) -> int:
        return len(self.own)

    def there(self, plane: Plane) -> Stack:
        """A map of the box, fetched at the places the scene points came from; 0 outside it."""
        return np.stack([cv2.remap(plane, at, None, cv2.INTER_LINEAR, borderMode=cv2.BORDER_CONSTANT) for at in self.at])


def view_pairs(
    light: ShotLight, way: Travel, box: Box, marked: Plane, noise: float, most: int, clear: float, fine: bool = True
) -> PairViews | None:
    """Hold frames of a shot against each other about a mark.

    Parameters
    ----------
    light : Light
    way : Travel
    box : Box
    marked : ndarray, float32, (height, width)
        1 where this or another mark is thought to lie.
    noise : float
        Standard deviation, in codes.
    most : int
        Pairs at most.
    clear : float
        How far, in pixels, the scene should move to come clear of the mark.
    fine : bool
        Take the slower, finer flow.

    Returns
    -------
    Sights or None
        None when too few pairs can be used, or none of one half.
    """
    middle = (box.left + box.width / 2, box.top + box.height / 2)
    places = grid(box.shape)
    # For a first look at a large mark, motion is measured on a picture half the size.
    half = 2 if not fine and min(box.shape) >= HALVED else 1
    size = (box.shape[1] // half, box.shape[0] // half)
    coarse = places if half == 1 else grid(size[::-1])

    def halved(plane: Plane) -> Plane:
        return plane if half == 1 else cv2.resize(plane, size, interpolation=cv2.INTER_AREA)

    inner = box.cut(marked)
    wide = np.ones((9, 9), np.uint8)
    near = cv2.dilate(inner, wide)
    ring = cv2.dilate(inner, np.ones((31, 31), np.uint8)) * (1 - near)
    passing: list[float] = []
    rest: list[float] = []
    found: list[tuple[Plane, Plane, Plane, Field]] = []
    frames: list[tuple[int, int]] = []
    halves: list[int] = []
    furthest = 0.0

    @cache
    def seen_at(p: int) -> tuple[Plane, Look]:
        own = light.part(p, box)
        return own, look(halved(own), noise / half)

    for n, (i, j) in enumerate(pairs(way, most, (1.1 * clear, 2 * clear, 0.6 * clear), middle)):
        for p, q in ((i, j), (j, i)):
            across, down = (round(v / box.step) * box.step for v in way.shift(p, q, *middle))
            away = box.moved(across, down)
            on, there_on = box.on(light.shape), away.on(light.shape)
            if there_on.mean() < 0.3:
                continue
            (own, mine), other = seen_at(p), light.part(q, away)
            theirs = look(halved(other), noise / half)
            there, back = flow(mine.gray, theirs.gray, fine=fine), flow(theirs.gray, mine.gray, fine=fine)
            hidden = away.cut(marked)
            trust = agreement(there, back) * mine.texture * halved(on * (1 - near))
            trust *= 1 - _fetched(halved(cv2.dilate(hidden, wide)), there, coarse)
            trust *= _fetched(halved(there_on), there, coarse)
            mine_seen, theirs_seen = light.usable(p), light.usable(q)
            seen_there = None if theirs_seen is None else away.cut(theirs_seen)
            if mine_seen is not None and seen_there is not None:
                on = on * box.cut(mine_seen)
                trust *= halved(box.cut(mine_seen)) * (_fetched(halved(seen_there), there, coarse) > 0.99)
            filled, support = spread(there, trust, tuple(scale / half for scale in SCALES), step=2)
            if float(support.max()) < 1e-3:
                continue
            dense = np.clip(2 * trust - 0.5, 0, 1)[..., None]
            used = dense * there + (1 - dense) * filled
            if half > 1:
                used = cv2.resize(used, box.shape[::-1], interpolation=cv2.INTER_LINEAR) * np.float32(half)
            scene = carried(other, used, places)
            usable = on * (_fetched(there_on, used, places) > 0.99)
            if seen_there is not None:
                usable = usable * (_fetched(seen_there, used, places) > 0.99)
            sound = usable * (1 - inner) * (1 - _fetched(hidden, used, places))
            miss = np.log((np.maximum(own, 0) + 1) / (np.maximum(scene, 0) + 1)) ** 2
            miss = _mean(np.minimum(miss, 0.25), sound, 10)
            came = used + np.array([across / box.step, down / box.step], np.float32)
            distance = np.hypot(came[..., 0], came[..., 1]) * box.step
            weight = usable / (miss + 0.0004) * np.clip((distance - 3) / 3, 0, 1)
            furthest = max(furthest, float(np.median(distance)))
            around = (sound * ring) > 0.5
            if around.sum() > 20:
                unmoved = float(np.abs(own - light.part(q, box))[around].mean())
                rest.append(1.4826 / np.sqrt(2) * float(np.median(np.abs(own - scene)[around])))
                passing.append((unmoved + 0.1) / (float(np.abs(own - scene)[around].mean()) + 0.1))
            found.append((own, scene, weight.astype(np.float32), (places + came).astype(np.float32)))
            frames.append((p, q))
            halves.append(n % 2)
    # What only one half of the evidence shows is not proven: nothing is left to test it on.
    if len(found) < 4 or len(set(halves)) < 2:
        return None
    stacks = [np.stack([one[k] for one in found]) for k in range(4)]
    return PairViews(
        stacks[0],
        stacks[1],
        stacks[2],
        stacks[3],
        np.array(frames),
        np.array(halves),
        furthest,
        float(np.median(passing)) if passing else 0.0,
        float(np.median(rest)) if rest else np.inf,
    )


def _fetched(mask: Plane, motion: Field, places: Field) -> Plane:
    """A mask carried along motion, 0 to 1; one that is the same everywhere is itself."""
    if mask.min() == mask.max():
        return mask
    return np.clip(carried(mask, motion, places, smooth=False), 0, 1)


def _mean(plane: Plane, weight: Plane, sigma: float) -> Plane:
    load = blur((plane * weight).astype(np.float32), sigma)
    return load / np.maximum(blur(weight.astype(np.float32), sigma), 1e-3)
