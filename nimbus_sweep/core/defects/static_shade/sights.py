"""What is seen of one mark's place: frames that show it, each with another laid on it that does not."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

import cv2
import numpy as np
from numpy.typing import NDArray

from ...evidence.shot_light import ShotLight
from ...evidence.travel import Travel, pairs
from ...imaging.box import Box
from ...imaging.motion import HALVED, SCALES, Field, Look, Plane, agreement, blur, carried, flow, grid, look, spread

Stack = NDArray[Any]


@dataclass(frozen=True)
class PairViews:
    """What pairs of frames show about a mark; all of shape (pairs, rows, columns) unless said otherwise.

    Attributes
    ----------
    at_mark : ndarray, float32
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

    at_mark: Stack
    scene: Stack
    weight: Stack
    at: NDArray[np.float32]
    frames: NDArray[np.int64]
    half: NDArray[np.int64]
    far: float
    passing: float
    rest: float

    def __len__(self) -> int:
        return len(self.at_mark)

    def carried(self, plane: Plane) -> Stack:
        """A map of the box, fetched at the places the scene points came from; 0 outside it."""
        return np.stack([cv2.remap(plane, at, None, cv2.INTER_LINEAR, borderMode=cv2.BORDER_CONSTANT) for at in self.at])


def view_pairs(
    light: ShotLight,
    way: Travel,
    box: Box,
    marked: Plane,
    noise: float,
    most: int,
    clear: float,
    fine: bool = True,
    on_progress: Callable[[float], None] | None = None,
    across: float | None = None,
) -> PairViews | None:
    """Hold frames of a shot against each other about a mark.

    Parameters
    ----------
    light : ShotLight
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
    on_progress : callable
        Told the share done, 0 to 1; may raise to stop.
    across : float
        How wide the mark is, in pixels: what is thin is passed sooner; as `clear` when None.

    Returns
    -------
    PairViews or None
        None when too few pairs can be used, or none of one half.
    """
    middle = (box.left + box.width / 2, box.top + box.height / 2)
    about = _AboutMark(light, box, marked, noise, fine, clear if across is None else across)
    found: list[_View] = []
    couples = pairs(way, most, (1.1 * clear, 2 * clear, 0.6 * clear), middle)
    for n, (i, j) in enumerate(couples):
        if on_progress:
            on_progress(n / len(couples))
        for p, q in ((i, j), (j, i)):
            view = about.view(p, q, way.shift(p, q, *middle), n % 2)
            if view is not None:
                found.append(view)
    # What only one half of the evidence shows is not proven: nothing is left to test it on.
    if len(found) < 4 or len({view.half for view in found}) < 2:
        return None
    passing = [view.passing for view in found if view.passing is not None]
    rest = [view.rest for view in found if view.rest is not None]
    return PairViews(
        at_mark=np.stack([view.at_mark for view in found]),
        scene=np.stack([view.scene for view in found]),
        weight=np.stack([view.weight for view in found]),
        at=np.stack([view.at for view in found]),
        frames=np.array([view.frames for view in found]),
        half=np.array([view.half for view in found]),
        far=max(view.far for view in found),
        passing=float(np.median(passing)) if passing else 0.0,
        rest=float(np.median(rest)) if rest else np.inf,
    )


@dataclass(frozen=True)
class _View:
    """What one pair of frames shows; as `PairViews` has it for many. `passing` and `rest` are None where too little is seen."""

    at_mark: Plane
    scene: Plane
    weight: Plane
    at: Field
    frames: tuple[int, int]
    half: int
    far: float
    passing: float | None
    rest: float | None


class _AboutMark:
    """A mark's place, by which pairs of frames are held against each other."""

    def __init__(self, light: ShotLight, box: Box, marked: Plane, noise: float, fine: bool, across: float) -> None:
        self._light, self._box, self._marked, self._fine = light, box, marked, fine
        self._places = grid(box.shape)
        self._passed = float(np.clip(_PASSED * across, *_PASSED_BY))
        # For a first look at a large mark, motion is measured on a picture half the size.
        self._half = 2 if not fine and min(box.shape) >= HALVED else 1
        self._size = (box.shape[1] // self._half, box.shape[0] // self._half)
        self._coarse = self._places if self._half == 1 else grid(self._size[::-1])
        self._noise = noise / self._half
        self._inner = box.cut(marked)
        self._near = cv2.dilate(self._inner, _WIDE)
        self._ring = cv2.dilate(self._inner, np.ones((31, 31), np.uint8)) * (1 - self._near)
        self._seen: dict[int, tuple[Plane, Look]] = {}

    def view(self, p: int, q: int, shift: tuple[float, float], half: int) -> _View | None:
        """Frame `p` with frame `q` laid on it, which lies about so far off; None where too little of it can be used."""
        light, box, places = self._light, self._box, self._places
        across, down = (round(v / box.step) * box.step for v in shift)
        away = box.moved(across, down)
        on, there_on = box.on(light.shape), away.on(light.shape)
        if there_on.mean() < 0.3:
            return None
        (at_mark, mine), other = self._at(p), light.part(q, away)
        mine_seen, theirs_seen = light.usable(p), light.usable(q)
        # Where both may be looked at; None for everywhere.
        seen = None if mine_seen is None or theirs_seen is None else (box.cut(mine_seen), away.cut(theirs_seen))
        hidden = away.cut(self._marked)
        used = self._motion(mine, other, hidden, on, there_on, seen)
        if used is None:
            return None
        scene = carried(other, used, places)
        usable = (on if seen is None else on * seen[0]) * (_fetched(there_on, used, places) > 0.99)
        if seen is not None:
            usable = usable * (_fetched(seen[1], used, places) > 0.99)
        sound = usable * (1 - self._inner) * (1 - _fetched(hidden, used, places))
        miss = np.log((np.maximum(at_mark, 0) + 1) / (np.maximum(scene, 0) + 1)) ** 2
        miss = _mean(np.minimum(miss, 0.25), sound, 10)
        came = used + np.array([across / box.step, down / box.step], np.float32)
        distance = np.hypot(came[..., 0], came[..., 1]) * box.step
        weight = usable / (miss + 0.0004) * np.clip((distance - self._passed) / self._passed, 0, 1)
        around = (sound * self._ring) > 0.5
        passing = rest = None
        if around.sum() > 20:
            unmoved = float(np.abs(at_mark - light.part(q, box))[around].mean())
            rest = 1.4826 / np.sqrt(2) * float(np.median(np.abs(at_mark - scene)[around]))
            passing = (unmoved + 0.1) / (float(np.abs(at_mark - scene)[around].mean()) + 0.1)
        at = (places + came).astype(np.float32)
        return _View(at_mark, scene, weight.astype(np.float32), at, (p, q), half, float(np.median(distance)), passing, rest)

    def _motion(
        self, mine: Look, other: Plane, hidden: Plane, on: Plane, there_on: Plane, seen: tuple[Plane, Plane] | None
    ) -> Field | None:
        """Motion to the other frame at every place of the box, measured where it can be and spread from there; None without any."""
        half, coarse = self._half, self._coarse
        theirs = look(self._halved(other), self._noise)
        forward, backward = flow(mine.gray, theirs.gray, fine=self._fine), flow(theirs.gray, mine.gray, fine=self._fine)
        trust = agreement(forward, backward) * mine.texture * self._halved(on * (1 - self._near))
        trust *= 1 - _fetched(self._halved(cv2.dilate(hidden, _WIDE)), forward, coarse)
        trust *= _fetched(self._halved(there_on), forward, coarse)
        if seen is not None:
            trust *= self._halved(seen[0]) * (_fetched(self._halved(seen[1]), forward, coarse) > 0.99)
        filled, support = spread(forward, trust, tuple(scale / half for scale in SCALES), step=2)
        if float(support.max()) < 1e-3:
            return None
        dense = np.clip(2 * trust - 0.5, 0, 1)[..., None]
        used: Field = dense * forward + (1 - dense) * filled
        if half > 1:
            used = cv2.resize(used, self._box.shape[::-1], interpolation=cv2.INTER_LINEAR) * np.float32(half)
        return used

    def _at(self, p: int) -> tuple[Plane, Look]:
        """The light of a frame at the mark, and how it looks for motion."""
        if p not in self._seen:
            at_mark = self._light.part(p, self._box)
            self._seen[p] = at_mark, look(self._halved(at_mark), self._noise)
        return self._seen[p]

    def _halved(self, plane: Plane) -> Plane:
        return plane if self._half == 1 else cv2.resize(plane, self._size, interpolation=cv2.INTER_AREA)


# Share of its width, and pixels, that the scene has to have passed by at least.
_PASSED, _PASSED_BY = 0.4, (1.0, 3.0)
# Around a mark, what may still be of it.
_WIDE = np.ones((9, 9), np.uint8)


def _fetched(mask: Plane, motion: Field, places: Field) -> Plane:
    """A mask carried along motion, 0 to 1; one that is the same everywhere is itself."""
    if mask.min() == mask.max():
        return mask
    return np.clip(carried(mask, motion, places, smooth=False), 0, 1)


def _mean(plane: Plane, weight: Plane, sigma: float) -> Plane:
    load = blur((plane * weight).astype(np.float32), sigma)
    return load / np.maximum(blur(weight.astype(np.float32), sigma), 1e-3)
