"""Puts static shade into sound frames and keeps the truth: sensor dust, hairs, and the veils of a dirty lens.

One model: ``D = S (1 - a) + a (g blur(S) + c)`` on gamma-coded samples above black, the same `a` in every frame.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from functools import lru_cache
from itertools import pairwise

import cv2
import numpy as np
from numpy.typing import NDArray

Planes = tuple[NDArray[np.uint8], ...]
Plane = NDArray[np.float32]


@dataclass(frozen=True)
class DrawnMark:
    """One mark.

    Attributes
    ----------
    x, y : float
        Centre, in pixels.
    radius : float
        Of a disc, to the middle of its rim; of a hair, half its width. In pixels.
    depth : float
        Largest `a`: how much of the light is taken, 0 to 1.
    rim : float
        Width of the soft rim in pixels.
    stretch, angle : float
        Length over width of an oval, and its turn in radians.
    path : tuple of (x, y)
        Points of a hair about its centre; empty for a disc.
    gain, level, blur : float
        `g`, `c` in 8-bit codes and the blur's standard deviation in pixels, of a veil; zero for dust.
    tint : tuple of float
        `c` of the two colour differences.
    """

    x: float
    y: float
    radius: float
    depth: float
    rim: float
    stretch: float = 1.0
    angle: float = 0.0
    path: tuple[tuple[float, float], ...] = ()
    gain: float = 0.0
    level: float = 0.0
    blur: float = 0.0
    tint: tuple[float, float] = (0.0, 0.0)

    @property
    def veils(self) -> bool:
        """Whether it lays light over the picture."""
        return self.gain > 0 or self.level > 0

    def share(self, shape: tuple[int, int]) -> Plane:
        """`a` at each pixel of a picture of that shape (height, width); not to be written to."""
        return _share(self, shape)


@lru_cache(maxsize=16)
def _share(mark: DrawnMark, shape: tuple[int, int]) -> Plane:
    ys, xs = np.mgrid[0 : shape[0], 0 : shape[1]].astype(np.float32)
    if mark.path:
        far = _far_from(mark.path, xs - mark.x, ys - mark.y)
    else:
        c, s = np.cos(mark.angle), np.sin(mark.angle)
        along, across = c * (xs - mark.x) + s * (ys - mark.y), -s * (xs - mark.x) + c * (ys - mark.y)
        far = np.hypot(along / mark.stretch, across)
    cover = np.clip((mark.radius + mark.rim / 2 - far) / max(mark.rim, 1e-3), 0, 1)
    return (mark.depth * cover * cover * (3 - 2 * cover)).astype(np.float32)


def _far_from(path: Sequence[tuple[float, float]], xs: Plane, ys: Plane) -> Plane:
    """Distance of each pixel from a line of straight parts."""
    nearest = np.full(xs.shape, np.inf, np.float32)
    for (ax, ay), (bx, by) in pairwise(path):
        along = np.clip(((xs - ax) * (bx - ax) + (ys - ay) * (by - ay)) / max((bx - ax) ** 2 + (by - ay) ** 2, 1e-6), 0, 1)
        nearest = np.minimum(nearest, np.hypot(xs - ax - along * (bx - ax), ys - ay - along * (by - ay)))
    return nearest


def shade(frames: Sequence[Planes], marks: Sequence[DrawnMark]) -> tuple[list[Planes], tuple[NDArray[np.bool_], ...]]:
    """Lay marks over 8-bit 4:2:0 limited-range frames.

    Returns
    -------
    frames : list of tuples of ndarray
        New planes; samples outside the masks are the very same.
    masks : tuple of ndarray, bool
        For each plane, the samples that differ in any frame.
    """
    spoiled = [tuple(p.copy() for p in f) for f in frames]
    masks = tuple(np.zeros(p.shape, bool) for p in frames[0])
    for mark in marks:
        whole = mark.share(frames[0][0].shape)
        for p, zero in enumerate((16, 128, 128)):
            size = frames[0][p].shape
            a = whole if p == 0 else cv2.resize(whole, size[::-1], interpolation=cv2.INTER_AREA)
            rows, cols = np.nonzero(a > 1e-4)
            if not len(rows):
                continue
            blur = mark.blur * size[0] / whole.shape[0]
            room = int(3 * blur) + 2
            top, left = max(0, rows.min() - room), max(0, cols.min() - room)
            box = np.s_[top : rows.max() + room + 1, left : cols.max() + room + 1]
            for frame in spoiled:
                s = frame[p][box].astype(np.float32) - zero
                veil = mark.gain * (cv2.GaussianBlur(s, (0, 0), blur) if blur else s) + (mark.level, *mark.tint)[p]
                new = np.clip(np.rint(s * (1 - a[box]) + a[box] * veil + zero), 0, 255).astype(np.uint8)
                masks[p][box] |= new != frame[p][box]
                frame[p][box] = new
    return spoiled, masks


def hair(rng: np.random.Generator, length: float) -> tuple[tuple[float, float], ...]:
    """The path of a bent fibre, about its middle."""
    turn, bend = rng.uniform(0, 2 * np.pi), rng.uniform(-1.6, 1.6)
    steps = np.linspace(0, 1, 13)
    angles = turn + bend * steps + 0.5 * np.sin(steps * rng.uniform(2, 6))
    xs, ys = np.cumsum(np.cos(angles)) * length / 13, np.cumsum(np.sin(angles)) * length / 13
    return tuple((float(x), float(y)) for x, y in zip(xs - xs.mean(), ys - ys.mean(), strict=True))


def sprinkle(
    shape: tuple[int, int],
    count: int,
    seed: int,
    hairs: int = 0,
    veils: int = 0,
    largest: float = 28.0,
    depth: tuple[float, float] = (0.2, 0.75),
) -> list[DrawnMark]:
    """Choose marks at random, apart from each other: `count` dust spots, `hairs` and `veils`."""
    rng = np.random.default_rng(seed)
    height, width = shape
    marks: list[DrawnMark] = []
    reach: list[float] = []
    for n in range(count + hairs + veils):
        for _ in range(400):
            if n < count:
                radius = float(np.exp(rng.uniform(np.log(3), np.log(largest))))
                mark = DrawnMark(
                    float(rng.uniform(0, width)),
                    float(rng.uniform(0, height)),
                    radius,
                    float(rng.uniform(*depth)),
                    float(radius * rng.uniform(0.4, 1.2) + 1),
                    float(rng.uniform(1, 1.4)),
                    float(rng.uniform(0, np.pi)),
                )
                own = radius * mark.stretch + mark.rim / 2
            elif n < count + hairs:
                length = float(rng.uniform(0.12, 0.28) * height)
                mark = DrawnMark(
                    float(rng.uniform(0, width)),
                    float(rng.uniform(0, height)),
                    float(rng.uniform(1.0, 2.2)),
                    float(rng.uniform(0.9, 1)),
                    float(rng.uniform(1.5, 3)),
                    path=hair(rng, length),
                )
                own = length / 2 + 4
            else:
                radius = float(rng.uniform(0.08, 0.16) * height)
                mark = DrawnMark(
                    float(rng.uniform(0, width)),
                    float(rng.uniform(0, height)),
                    radius,
                    float(rng.uniform(0.35, 0.65)),
                    radius * float(rng.uniform(0.7, 1.2)),
                    float(rng.uniform(1, 1.4)),
                    float(rng.uniform(0, np.pi)),
                    gain=float(rng.uniform(0.2, 0.6)),
                    level=float(rng.uniform(20, 70)),
                    blur=float(rng.uniform(3, 10)),
                )
                own = radius * mark.stretch + mark.rim / 2
            inside = own + 6 < mark.x < width - own - 6 and own + 6 < mark.y < height - own - 6
            if inside and all(np.hypot(mark.x - m.x, mark.y - m.y) > own + o + 14 for m, o in zip(marks, reach, strict=True)):
                marks.append(mark)
                reach.append(own)
                break
    return marks
