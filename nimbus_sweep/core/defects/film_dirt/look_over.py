"""All specks of some frames: looked at twice, the second time beside neighbours that were roughly cleaned."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

import cv2
import numpy as np

from ...imaging.motion import Field, Gray, Plane, grid
from .neighbours import Neighbour, Pair, along, limits, onward, pair, ready
from .specks import LEAST, SEED, Speck, candidates, disc, overlapping

# What stays for two frames departs from the frame beside it by no more than this share; where more of the picture does
# so than this, it moves; and less sure ones are not believed.
_STAYS, _CROWDED, _LASTS = 0.35, 0.03, 0.5


def roughly_cleaned(light: Plane, near: Sequence[Neighbour], noise: float) -> tuple[Plane, Plane]:
    """A frame with whatever may be a speck drawn to what its neighbours hold, to tell motion by, and where that was.

    Returns
    -------
    light : ndarray, float32, (height, width)
    marked : ndarray, float32, (height, width)
        1 where it was drawn.
    """
    low, high = limits(near)
    seed = max(SEED * noise, LEAST)
    out = np.maximum(light - high, low - light) > seed
    if not out.any():
        return light, np.zeros_like(light)
    marked = cv2.dilate(out.astype(np.uint8), disc(4)).astype(np.float32)
    middle = (near[0].light + near[1].light) / 2
    return np.where(marked > 0, np.clip(light, np.minimum(low, middle), np.maximum(high, middle)), light), marked


@dataclass(frozen=True)
class Looked:
    """What was found in a frame, and what it was held against.

    Attributes
    ----------
    specks : list of (Speck, tuple of int, tuple of Neighbour)
        With the places, in the stretch, of the frames that fill it, and those frames along the motion.
    marked : float
        Share of the picture that comes and goes, by a first look.
    """

    marked: float
    specks: list[tuple[Speck, tuple[int, ...], tuple[Neighbour, ...]]]


def look_over(lights: Sequence[Plane], noise: float, first: int, stop: int) -> list[Looked]:
    """Find the specks of frames that follow one another.

    Parameters
    ----------
    lights : sequence of ndarray, float32, (height, width)
        Luma of a stretch, in 8-bit codes; at least three.
    noise : float
        Standard deviation of the noise, in codes.
    first, stop : int
        Places of those that are wanted. Others lend only; two each side are enough.
    """
    count = len(lights)
    if count < 3:
        return [Looked(0.0, []) for _ in range(first, stop)]
    shape = lights[0].shape
    places = grid(shape)
    raw = _Ways([ready(light, noise) for light in lights], shape, places)
    near, far = max(0, first - 2), min(count, stop + 2)
    clean, marks = list(lights), [np.zeros(shape, np.float32)] * count
    for n in range(near, far):
        neighbours = raw.beside(n)
        clean[n], marks[n] = roughly_cleaned(lights[n], [raw.neighbour(n, k, lights, None) for k in neighbours], noise)
    # Told again along motion that specks do not disturb.
    ways = _Ways([ready(c, noise) for c in clean], shape, places)
    lasting = _Lasting(ways, lights, marks, noise)
    found: list[Looked] = []
    for n in range(first, stop):
        ones, near_n = ways.beside(n), ways.near(n, lights, marks)
        specks: _Found = [(s, ones, near_n) for s in candidates(lights[n], near_n, noise, marks[n], one_sided=ways.one_sided(n))]
        taken = [s for s, _, _ in specks if s.sure >= 0.5]
        specks += [one for one in lasting.of(n) if not any(overlapping(one[0], s) for s in taken)]
        found.append(Looked(float(marks[n].mean()), specks))
    return found


_Found = list[tuple[Speck, tuple[int, ...], tuple[Neighbour, ...]]]


class _Ways:
    """How the scene moves through a stretch."""

    def __init__(self, looks: Sequence[Gray], shape: tuple[int, ...], places: Field) -> None:
        self._looks, self._shape, self._places = looks, shape, places
        self._pairs: dict[int, Pair] = {}
        self._near: dict[tuple[int, int], Neighbour] = {}

    def _pair(self, n: int) -> Pair:
        if n not in self._pairs:
            self._pairs[n] = pair(self._looks[n], self._looks[n + 1], self._shape)
            self._pairs.pop(n - 4, None)
        return self._pairs[n]

    def _way(self, one: int, other: int) -> Field:
        """The way from a frame to another, two frames on at most."""
        step = 1 if other > one else -1
        way = self._pair(one).there if step > 0 else self._pair(one - 1).back
        return way if one + step == other else onward(way, self._way(one + step, other), self._places)

    def beside(self, n: int) -> tuple[int, int]:
        """The frames a frame is held against: one each side, or two on the one side there is."""
        if n == 0:
            return 1, 2
        return (n - 1, n + 1) if n < len(self._looks) - 1 else (n - 1, n - 2)

    def neighbour(self, n: int, k: int, lights: Sequence[Plane], marks: Sequence[Plane] | None) -> Neighbour:
        """Frame `k` along the way from frame `n`."""
        if (n, k) not in self._near:
            self._near = {key: held for key, held in self._near.items() if n - 1 <= key[0] <= n + 1}
            self._near[n, k] = along(lights[k], None if marks is None else marks[k], self._way(n, k), self._places)
        return self._near[n, k]

    def one_sided(self, n: int) -> bool:
        """Whether a frame is held against frames on one side alone."""
        return n in (0, len(self._looks) - 1)

    def near(self, n: int, lights: Sequence[Plane], marks: Sequence[Plane]) -> tuple[Neighbour, ...]:
        """The frames a frame is held against, along the motion."""
        return tuple(self.neighbour(n, k, lights, marks) for k in self.beside(n))

    def __len__(self) -> int:
        return len(self._looks)


class _Lasting:
    """Specks that stay for two frames: each is one in both, against the frames around the two."""

    def __init__(self, ways: _Ways, lights: Sequence[Plane], marks: Sequence[Plane], noise: float) -> None:
        self._ways, self._lights, self._marks, self._noise = ways, lights, marks, noise
        self._found_by_pair: dict[tuple[int, int], _Found] = {}

    def of(self, n: int) -> _Found:
        """Those of a frame that begin in it, or ended the frame before."""
        found = []
        for one, other, step in ((n, n + 1, 1), (n, n - 1, -1)):
            for speck in self._against(one, step):
                partners = [p for p in self._against(other, -step) if _same(speck[0], p[0])]
                if partners:
                    sure = min(speck[0].sure, max(p[0].sure for p in partners))
                    found.append((replace(speck[0], sure=sure), *speck[1:]))
        return found

    def _against(self, n: int, step: int) -> _Found:
        """What departs in a frame from the one behind it and the second one ahead, but not from the next ahead."""
        behind, far = n - step, n + 2 * step
        if min(n, behind, far) < 0 or max(n, behind, far) >= len(self._ways):
            return []
        if (n, step) not in self._found_by_pair:
            self._found_by_pair = {key: motion for key, motion in self._found_by_pair.items() if abs(key[0] - n) <= 2}
            self._found_by_pair[n, step] = self._found(n, step, behind, far)
        return self._found_by_pair[n, step]

    def _found(self, n: int, step: int, behind: int, far: int) -> _Found:
        light = self._lights[n]
        back, ahead = (self._ways.neighbour(n, k, self._lights, self._marks) for k in (behind, n + step))
        departs = np.abs(light - back.light)
        stays = (departs > max(SEED * self._noise, LEAST)) & (np.abs(light - ahead.light) < _STAYS * departs)
        if not stays.any() or stays.mean() > _CROWDED:
            return []
        near = (back, self._ways.neighbour(n, far, self._lights, self._marks))
        allowed = cv2.dilate(stays.astype(np.uint8), disc(1)) > 0
        found = candidates(light, near, self._noise, self._marks[n], allowed, least=_LASTS)
        return [(s, (behind, far), near) for s in found]


def _same(one: Speck, other: Speck) -> bool:
    """Whether two specks of neighbouring frames may be one."""
    (a, b), (c, d) = ((s.box[0].start + s.box[0].stop, s.box[1].start + s.box[1].stop) for s in (one, other))
    size = max(one.box[0].stop - one.box[0].start, one.box[1].stop - one.box[1].start)
    ratio = float(one.mask.sum()) / max(1.0, float(other.mask.sum()))
    return one.bright == other.bright and max(abs(a - c), abs(b - d)) <= size and 0.4 < ratio < 2.5
