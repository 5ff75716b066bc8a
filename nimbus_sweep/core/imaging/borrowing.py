"""Fills what a static mark hides from other frames of the shot, in which the scene has moved clear of it.

Where the scene has gone is told by the surroundings of the mark, never by the mark. Each frame that is lent is
brought to the light of the frame it fills, and counts by how well it fits around the hole, on the side where it is
to be used; what no frame fits is made up from the surroundings.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import cv2
import numpy as np
from numpy.typing import NDArray

from .motion import HALVED, Look, Plane, agreement, blur, carried, flow, grid, inside, look, spread

_LENT = 4
# Codes by which a lent picture may miss the surroundings of a static mark before what they make of it is trusted as much.
_DOUBT = 6.0
# Rounds in which a lent picture is placed.
_ROUNDS = 4


@dataclass(frozen=True)
class Lent:
    """A picture of the place about a mark from another frame.

    Attributes
    ----------
    light : ndarray, float32, (height, width)
        As the hole sees it, perhaps smaller than the place.
    look : Look
        The same for telling motion, with the hole bridged.
    planes : tuple of ndarray, float32
        Its components as light, each at its own size.
    hidden, near : ndarray, float32, (height, width)
        1 where it is hidden itself, and about that; at the size of `light`.
    nudge : tuple of float
        Added by hand to where the scene is found in it, in pixels of the place.
    """

    light: Plane
    look: Look
    planes: tuple[Plane, ...]
    hidden: Plane
    near: Plane
    nudge: tuple[float, float] = (0.0, 0.0)


@dataclass(frozen=True)
class Fill:
    """What a hole is filled with.

    Attributes
    ----------
    planes : tuple of ndarray, float32
        For each component, as light.
    borrowed : ndarray, float32, (height, width)
        How far it comes from other frames rather than from the surroundings, 0 to 1.
    same : ndarray, float32, (height, width)
        How much of its own grain the fill has kept, as a share of the deviation.
    """

    planes: tuple[Plane, ...]
    borrowed: Plane
    same: Plane


def nearest(numbers: NDArray[np.int64], far: NDArray[np.float64], number: int, clear: float, reach: int) -> list[int]:
    """Which frames lend to another: those in which the scene has come clear of the mark, the nearest in time before and behind.

    Parameters
    ----------
    numbers : ndarray, int64, (frames,)
    far : ndarray, float64, (frames,)
        How far the scene has moved between each and the frame to be filled, in pixels.
    number : int
        The frame to be filled.
    clear : float
        How far it has to have moved.
    reach : int
        Frames each side that may be asked; 0 is no bound.

    Returns
    -------
    list of int
        Their places in `numbers`.
    """
    away = np.abs(numbers - number)
    usable = np.flatnonzero((away > 0) & (far >= clear) & ((away <= reach) if reach else True))
    ordered = usable[np.argsort(away[usable], kind="stable")]
    before = ordered[numbers[ordered] < number][: _LENT // 2].tolist()
    behind = ordered[numbers[ordered] > number][: _LENT // 2].tolist()
    return [*before, *behind, *(k for k in ordered.tolist() if k not in before + behind)][:_LENT]


@dataclass(frozen=True)
class _Fit:
    """How a lent picture fits about a hole: where its points lie, its light, and how far it counts at each pixel."""

    motion: Plane
    level: float
    weight: Plane


class Hole:
    """What a mark hides of the place about it, to be filled in any frame.

    Parameters
    ----------
    hidden : ndarray, float32, (height, width)
        1 where the mark hides the scene.
    noise : float
        Standard deviation of the grain, in codes.
    chroma : tuple of bool
        Which of the components are colour differences, which a change of level leaves alone; all but the first when empty.
    doubt : float
        Codes by which a lent picture may miss the surroundings before what they make of the hole is trusted as much.
    """

    def __init__(self, hidden: Plane, noise: float, chroma: tuple[bool, ...] = (), doubt: float = _DOUBT) -> None:
        # About a large hole motion is smooth enough to be told at half the size.
        self._step = 2 if min(hidden.shape) >= HALVED else 1
        self._full, self._noise, self._chroma, self._doubt = hidden, noise, chroma, doubt
        self._hidden, self._near = self._covered(hidden)
        self._places = grid(self._hidden.shape)

    def _covered(self, hidden: Plane) -> tuple[Plane, Plane]:
        """What is hidden and what lies near that, perhaps smaller than the place."""
        small = self._reduced(hidden)
        if self._step > 1:
            small = cv2.dilate(small, np.ones((3, 3), np.uint8))
        return small, cv2.dilate(small, np.ones((7, 7) if self._step == 1 else (3, 3), np.uint8))

    def _reduced(self, plane: Plane) -> Plane:
        size = (plane.shape[1] // self._step, plane.shape[0] // self._step)
        return plane if self._step == 1 else cv2.resize(plane, size, interpolation=cv2.INTER_AREA)

    def lent(self, light: Plane, planes: tuple[Plane, ...], hidden: Plane | None = None) -> Lent:
        """Make a picture of the place from another frame ready to be borrowed from; `hidden` in it is the same unless named."""
        small = self._reduced(light)
        own = (self._hidden, self._near) if hidden is None else self._covered(hidden)
        return Lent(small, self._look(small, surround(small, own[0]), own[1]), planes, *own)

    def _look(self, light: Plane, made: Plane, near: Plane) -> Look:
        """A picture for telling motion, bridged over the hole, so that what hides the scene does not tell it."""
        return look(light * (1 - near) + made * near, self._noise / self._step)

    def filled(self, light: Plane, planes: tuple[Plane, ...], lenders: Sequence[tuple[Lent, tuple[float, float]]]) -> Fill:
        """Fill the hidden part of a picture.

        Parameters
        ----------
        light : ndarray, float32, (height, width)
            The place about the mark in this frame.
        planes : tuple of ndarray, float32
            Its components as light, each at its own size.
        lenders : sequence of (Lent, shift)
            With how far the camera has carried the scene from this frame to theirs, in pixels across and down.
        """
        base, small = surround(light, self._full), self._reduced(light)
        mine = self._look(small, self._reduced(base), self._near) if lenders else None
        total = np.full(small.shape, 1 / (self._doubt + self._noise) ** 2, np.float32)
        squares, borrowed = np.zeros_like(total), np.zeros_like(total)
        sums = [(base if p is light else surround(p, _at(self._full, p.shape))) * _at(total, p.shape) for p in planes]
        for other, shift in lenders:
            fit = self._fit(small, mine, other, shift) if mine is not None else None
            if fit is None:
                continue
            for n, plane in enumerate(other.planes):
                at = _at(fit.motion, plane.shape) * np.float32(plane.shape[1] / small.shape[1])
                lit = not self._chroma[n] if self._chroma else n == 0
                sums[n] += carried(plane, at) * np.float32(fit.level if lit else 1) * _at(fit.weight, plane.shape)
            total += fit.weight
            squares += fit.weight * fit.weight
            borrowed += fit.weight
        made = tuple(s / _at(total, s.shape) for s in sums)
        return Fill(made, _at(borrowed / total, light.shape), _at(np.sqrt(squares) / total, light.shape))

    def _fit(self, light: Plane, mine: Look, other: Lent, shift: tuple[float, float]) -> _Fit | None:
        """How another picture fits; nothing if it shows none of the surroundings."""
        near, places = self._near, self._places
        motion = self._way(light, mine, other, shift)
        valid = inside(motion, places) * (carried(other.hidden, motion, places, smooth=False) < 0.02)
        scene = carried(other.light, motion, places)
        sound = (1 - near) * valid * (1 - np.clip(carried(other.near, motion, places, smooth=False), 0, 1))
        if sound.sum() < 20:
            return None
        level = float(np.median((light + 8)[sound > 0.5] / (scene + 8)[sound > 0.5]))
        # How it misses just around each side of the hole is how it will miss inside it.
        miss = (light - level * (scene + 8) + 8) ** 2 * sound
        width = 6 / self._step
        doubt = blur(miss.astype(np.float32), width) / np.maximum(blur(sound.astype(np.float32), width), 1e-3) + 0.25
        weight = valid / (doubt + self._noise**2) ** 2 * (self._doubt + self._noise) ** 2
        return _Fit(motion, level, weight.astype(np.float32))

    def way_to(self, light: Plane, other: Lent, shift: tuple[float, float]) -> Plane:
        """Where each pixel of a picture of the place lies in another: (height, width, 2), in pixels of the place.

        Parameters
        ----------
        light : ndarray, float32, (height, width)
            The place in this frame.
        other : Lent
        shift : tuple of float
            About how far the scene has gone, in pixels across and down.
        """
        small = self._reduced(light)
        motion = self._way(small, self._look(small, self._reduced(surround(light, self._full)), self._near), other, shift)
        return _at(motion, light.shape) * np.float32(self._step)

    def _motion(self, mine: Look, other: Lent, shift: tuple[float, float]) -> Plane:
        """Where each pixel of the place lies in another frame, by what moves around the hole: (height, width, 2)."""
        start = np.full((*self._near.shape, 2), shift, np.float32) / np.float32(self._step)
        forward, backward = flow(mine.gray, other.look.gray, start), flow(other.look.gray, mine.gray, -start)
        trust = agreement(forward, backward) * mine.texture * (1 - self._near) * inside(forward, self._places)
        trust *= 1 - np.clip(carried(other.near, forward, self._places, smooth=False), 0, 1)
        found, support = spread(forward, trust, scales=tuple(s / self._step for s in (6.0, 16.0, 40.0, 100.0)), step=2)
        return start if float(support.max()) < 1e-3 else found

    def _way(self, light: Plane, mine: Look, other: Lent, shift: tuple[float, float]) -> Plane:
        """The motion from around the hole, where what lends is trusted placed once more, and what is added to it by hand."""
        motion = self._motion(mine, other, shift)
        if self._doubt > _DOUBT:
            motion = self._placed(light, other, motion)
        return motion + np.array(other.nudge, np.float32) / np.float32(self._step)

    def _placed(self, light: Plane, other: Lent, motion: Plane) -> Plane:
        """The motion, moved as a whole to where the two pictures fit best about the hole (Lucas and Kanade 1981, robustly)."""
        for _ in range(_ROUNDS):
            scene = carried(other.light, motion, self._places)
            known = (
                inside(motion, self._places)
                * (1 - self._near)
                * (1 - np.clip(carried(other.near, motion, self._places, smooth=False), 0, 1))
            )
            near = blur(self._near.astype(np.float32), 8.0 / self._step) * known
            if float(near.sum()) < 30:
                return motion
            level = float(np.median(((light + 8) / (scene + 8))[near > 0.02])) if (near > 0.02).any() else 1.0
            gap = light - level * (scene + 8) + 8
            across, down = (cv2.Sobel(scene, -1, *way, ksize=3, scale=1 / 8) for way in ((1, 0), (0, 1)))
            size = 1.4826 * float(np.median(np.abs(gap[near > 0.02]))) + self._noise + 0.5
            weight = near / (1 + (gap / (2 * size)) ** 2)
            xx, xy, yy = (float((weight * a * b).sum()) for a, b in ((across, across), (across, down), (down, down)))
            bx, by = (float((weight * a * gap).sum()) for a in (across, down))
            # Along an edge nothing is told.
            ridge = 0.02 * (xx + yy) + 1e-3
            found = np.linalg.solve(np.array([[xx + ridge, xy], [xy, yy + ridge]]), np.array([bx, by]))
            step = np.clip(found, -0.5, 0.5).astype(np.float32)
            motion = motion + step
            if float(np.abs(step).max()) < 0.01:
                break
        return motion


def _at(plane: Plane, shape: tuple[int, ...]) -> Plane:
    if plane.shape[:2] == shape:
        return plane
    return cv2.resize(plane, shape[::-1], interpolation=cv2.INTER_AREA if shape[0] < plane.shape[0] else cv2.INTER_LINEAR)


def surround(light: Plane, hidden: Plane) -> Plane:
    """What the surroundings make of a hole, along their edges (Navier-Stokes in-painting: Bertalmio et al. 2001).

    Parameters
    ----------
    light : ndarray, float32, (height, width)
    hidden : ndarray, float32, (height, width)
        1 where it is to be made up.
    """
    hole = (hidden > 0.02).astype(np.uint8)
    if not hole.any() or hole.all():
        return light
    low, high = float(light[hole == 0].min()), float(light[hole == 0].max())
    scale = 255 / max(high - low, 1e-3)
    coded = np.clip(np.rint((light - low) * scale), 0, 255).astype(np.uint8)
    made = cv2.inpaint(coded, hole, 4, cv2.INPAINT_NS).astype(np.float32) / scale + low
    return np.where(hole > 0, made, light).astype(np.float32)
