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

from .motion import HALVED, Look, Plane, agreement, blur, carried, flow, grid, inside, look, spread

_LENT = 4
# Codes by which a lent picture may miss the surroundings before its own kind of fill is trusted as much.
_DOUBT = 6.0


@dataclass(frozen=True)
class Lent:
    """A picture of the place about a mark from another frame.

    Attributes
    ----------
    number : int
        The frame it is of.
    light : ndarray, float32, (height, width)
    planes : tuple of ndarray, float32
        Its components as light, each at its own size.
    shift : tuple of float
        How far the camera has carried the scene from the frame to be filled, in pixels.
    """

    number: int
    light: Plane
    planes: tuple[Plane, ...]
    shift: tuple[float, float]


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


def nearest(lent: Sequence[Lent], number: int, clear: float, reach: int) -> list[Lent]:
    """Those that have come clear of the mark, the nearest in time before and behind; a `reach` of 0 is no bound."""
    usable = [p for p in lent if p.number != number and np.hypot(*p.shift) >= clear and (not reach or abs(p.number - number) <= reach)]
    before = sorted((p for p in usable if p.number < number), key=lambda p: -p.number)[: _LENT // 2]
    behind = sorted((p for p in usable if p.number > number), key=lambda p: p.number)[: _LENT // 2]
    rest = [p for p in sorted(usable, key=lambda p: abs(p.number - number)) if p not in before and p not in behind]
    return (before + behind + rest)[:_LENT]


def filled(light: Plane, planes: tuple[Plane, ...], hidden: Plane, lent: Sequence[Lent], noise: float) -> Fill:
    """Fill the hidden part of a picture.

    Parameters
    ----------
    light : ndarray, float32, (height, width)
        The place about the mark in this frame.
    planes : tuple of ndarray, float32
        Its components as light, each at its own size.
    hidden : ndarray, float32, (height, width)
        1 where the mark hides the scene.
    lent : sequence of Lent
    noise : float
        Standard deviation, in codes.
    """
    base = surround(light, hidden)
    total = np.full(light.shape, 1 / (_DOUBT + noise) ** 2, np.float32)
    squares = np.zeros_like(total)
    sums = [surround(p, _at(hidden, p.shape)) * _at(total, p.shape) for p in planes]
    borrowed = np.zeros_like(total)
    places = grid(light.shape)
    near = cv2.dilate(hidden, np.ones((7, 7), np.uint8))
    step = 2 if min(light.shape) >= HALVED else 1
    small = _Around(hidden, near, places, step)
    mine = look(small.of(light, base), noise / step)
    for other in lent:
        motion = small.motion(mine, look(small.of(other.light), noise / step), other.shift)
        valid = inside(motion, places) * (carried(hidden, motion, places, smooth=False) < 0.02)
        scene = carried(other.light, motion, places)
        sound = (1 - near) * valid * (1 - np.clip(carried(near, motion, places, smooth=False), 0, 1))
        if sound.sum() < 20:
            continue
        level = float(np.median((light + 8)[sound > 0.5] / (scene + 8)[sound > 0.5]))
        # How it misses just around each side of the hole is how it will miss inside it.
        miss = (light - level * (scene + 8) + 8) ** 2 * sound
        doubt = blur(miss.astype(np.float32), 6) / np.maximum(blur(sound.astype(np.float32), 6), 1e-3) + 0.25
        weight = (valid / (doubt + noise * noise) ** 2 * (_DOUBT + noise) ** 2).astype(np.float32)
        for n, plane in enumerate(other.planes):
            cells = light.shape[1] / plane.shape[1]
            at = cv2.resize(motion, plane.shape[::-1], interpolation=cv2.INTER_AREA) / np.float32(cells)
            sums[n] += carried(plane, at) * np.float32(level if n == 0 else 1) * _at(weight, plane.shape)
        total += weight
        squares += weight * weight
        borrowed += weight
    made = tuple(s / _at(total, s.shape) for s in sums)
    return Fill(made, borrowed / total, np.sqrt(squares) / total)


class _Around:
    """The surroundings of a hole, `step` times smaller, from which motion is carried into it."""

    def __init__(self, hidden: Plane, near: Plane, places: Plane, step: int) -> None:
        self.step, self.shape = step, hidden.shape
        self.size = (hidden.shape[1] // step, hidden.shape[0] // step)
        self.hidden = self._reduced(hidden)
        self.near = near if step == 1 else cv2.dilate(self.hidden, np.ones((5, 5), np.uint8))
        self.places = places if step == 1 else grid(self.hidden.shape)

    def _reduced(self, plane: Plane) -> Plane:
        return plane if self.step == 1 else cv2.resize(plane, self.size, interpolation=cv2.INTER_AREA)

    def of(self, light: Plane, base: Plane | None = None) -> Plane:
        """A picture with the hole filled from around it, so that what hides the scene does not tell its motion."""
        reduced = self._reduced(light)
        made = surround(reduced, self.hidden) if base is None else self._reduced(base)
        return reduced * (1 - self.near) + made * self.near

    def motion(self, mine: Look, theirs: Look, shift: tuple[float, float]) -> Plane:
        """Where each pixel of the place lies in another frame, by what moves around the hole: (height, width, 2)."""
        start = np.full((*self.near.shape, 2), shift, np.float32) / np.float32(self.step)
        there, back = flow(mine.gray, theirs.gray, start), flow(theirs.gray, mine.gray, -start)
        trust = agreement(there, back, self.places) * mine.texture * (1 - self.near) * inside(there, self.places)
        trust *= 1 - np.clip(carried(self.near, there, self.places, smooth=False), 0, 1)
        scales = tuple(s / self.step for s in (6.0, 16.0, 40.0, 100.0))
        found, support = spread(there, trust, scales=scales, step=2)
        if float(support.max()) < 1e-3:
            found = start
        if self.step == 1:
            return found
        return cv2.resize(found, self.shape[::-1], interpolation=cv2.INTER_LINEAR) * np.float32(self.step)


def _at(plane: Plane, shape: tuple[int, ...]) -> Plane:
    return plane if plane.shape == shape else cv2.resize(plane, shape[::-1], interpolation=cv2.INTER_AREA)


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
