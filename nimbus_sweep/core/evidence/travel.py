"""How far the scene moves through a shot, and which frames to hold against each other to see behind a static mark."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass

import cv2
import numpy as np
from numpy.typing import NDArray

from ..base.parallel import parallel_map
from ..imaging.motion import Look, Plane, agreement, flow, grid, look

Matrix = NDArray[np.float64]
# Pixels the scene should have moved between the frames of a pair.
DISTANCES = (8.0, 18.0, 40.0, 90.0)
_POINTS = ((0.5, 0.5), (0.2, 0.2), (0.8, 0.2), (0.2, 0.8), (0.8, 0.8))
_LEAST = 2.5
_GAPS = (2, 6, 16)


@dataclass(frozen=True)
class Travel:
    """The camera's way through the held frames of a shot.

    Attributes
    ----------
    moves : ndarray, float64, (frames, 3, 3)
        Where the scene of the first held frame lies in each: similarities, in pixels of the picture.
    size : tuple of int
        Width and height of the picture.
    """

    moves: NDArray[np.float64]
    size: tuple[int, int]

    def __len__(self) -> int:
        return len(self.moves)

    def shift(self, i: int, j: int, x: float, y: float) -> tuple[float, float]:
        """How far, across and down, what lies at (x, y) in frame `i` is moved in frame `j`."""
        at = self.moves[j] @ np.linalg.solve(self.moves[i], np.array([x, y, 1.0]))
        return float(at[0] - x), float(at[1] - y)

    def field(self, i: int, j: int, places: Plane, factor: float) -> Plane:
        """How far each of `places` (..., 2) of frame `i`, `factor` times smaller, is moved in frame `j`, in its pixels."""
        step = self.moves[j] @ np.linalg.inv(self.moves[i])
        at = (places + 0.5) * factor - 0.5
        moved = at @ step[:2, :2].T.astype(np.float32) + step[:2, 2].astype(np.float32) - at
        return np.asarray((moved / factor).astype(np.float32))

    def from_frame(self, i: int, at: tuple[float, float] | None = None) -> Matrix:
        """How far the scene of frame `i` is moved in each frame, in pixels: at a place, or the median over the picture."""
        points = [at] if at else [(self.size[0] * fx, self.size[1] * fy) for fx, fy in _POINTS]
        there = np.array([[x, y, 1.0] for x, y in points]).T
        moved = (self.moves @ np.linalg.solve(self.moves[i], there))[:, :2] - there[:2]
        return np.asarray(np.median(np.hypot(moved[:, 0], moved[:, 1]), axis=1))

    @property
    def farthest(self) -> float:
        """How far the scene ever moves from the first frame looked at, in pixels."""
        return float(self.from_frame(0).max()) if len(self) else 0.0


def travel(
    pictures: list[Plane],
    noise: float,
    size: tuple[int, int],
    usable: Sequence[Plane | None] = (),
    on_progress: Callable[[float], None] | None = None,
) -> Travel:
    """Follow the scene through small pictures by similarities between neighbours (RANSAC: Fischler and Bolles 1981).

    Parameters
    ----------
    pictures : list of ndarray, float32, (height, width)
        Light above black in 8-bit codes, of the held frames in order.
    noise : float
        Its standard deviation.
    size : tuple of int
        Width and height of the picture itself.
    usable : sequence of ndarray or None
        For each picture, 1 where it may be looked at; everywhere where there is none.
    on_progress : callable
        Told the share done, 0 to 1; may raise to stop.
    """
    height, width = pictures[0].shape
    places = grid((height, width))
    looks: list[Look] = []
    for seen in parallel_map(lambda p: look(p, noise, 3.0), pictures):
        looks.append(seen)
        if on_progress:
            on_progress(0.3 * len(looks) / len(pictures))

    def step(n: int) -> Matrix:
        before, behind = looks[n], looks[n + 1]
        forward, backward = flow(before.gray, behind.gray), flow(behind.gray, before.gray)
        sure = (agreement(forward, backward) > 0.5) & (before.texture > 0.3)
        if n < len(usable) and (mask := usable[n]) is not None:
            sure &= mask > 0.99
        return _similarity(places[sure][::7], forward[sure][::7])

    moves = [np.eye(3)]
    for one in parallel_map(step, range(len(looks) - 1)):
        moves.append(one @ moves[-1])
        if on_progress:
            on_progress(0.3 + 0.7 * (len(moves) - 1) / (len(looks) - 1))
    # Pixel centres lie at whole numbers, so a picture made smaller is shifted by half a pixel of the larger.
    scale = np.diag([size[0] / width, size[1] / height, 1.0])
    scale[:2, 2] = (scale[[0, 1], [0, 1]] - 1) / 2
    return Travel(scale @ np.stack(moves) @ np.linalg.inv(scale), size)


def _similarity(points: Plane, moves: Plane) -> Matrix:
    whole = np.eye(3)
    if len(points) >= 12:
        points, moves = np.ascontiguousarray(points), np.ascontiguousarray(moves)
        found, _ = cv2.estimateAffinePartial2D(points, points + moves, ransacReprojThreshold=0.7, maxIters=500)
        if found is not None:
            whole[:2] = found
    return whole


def pairs(way: Travel, most: int, distances: tuple[float, ...] = DISTANCES, at: tuple[float, float] | None = None) -> list[tuple[int, int]]:
    """Frames to hold against each other: moved by about `distances`, spread over the shot; by time where it stands still.

    Parameters
    ----------
    way : Travel
    most : int
        How many pairs at most.
    distances : tuple of float
        In pixels.
    at : tuple of float
        The place that is to have moved; the picture as a whole when None.

    Returns
    -------
    list of (int, int)
        Indices of frames, the earlier first, each pair once.
    """
    count = len(way)
    if count < 2:
        return []
    anchors = np.unique(np.linspace(0, count - 1, max(2, most)).round().astype(int))
    chosen: dict[tuple[int, int], None] = {}
    for n, i in enumerate(anchors):
        far = way.from_frame(int(i), at)
        for m in range(len(distances)):
            distance, gap = distances[(n + m) % len(distances)], _GAPS[(n + m) % len(_GAPS)]
            j = _partner(far, int(i), distance, 1 if n % 2 else -1)
            if j is None:
                j = _partner(far, int(i), distance, -1 if n % 2 else 1)
            if j is None and far.max() >= 0.3 * distance and far.max() > _LEAST:
                j = int(far.argmax())
            if j is None and 0 <= (other := int(i) + (gap if i + gap < count else -gap)) < count:
                j = other
            if j is not None and j != i and (min(i, j), max(i, j)) not in chosen:
                chosen[min(int(i), j), max(int(i), j)] = None
                break
    return list(chosen)


def _partner(far: Matrix, i: int, distance: float, step: int) -> int | None:
    """The first frame from `i` on in that direction in which the scene has moved by about `distance`."""
    ahead = far[i::step][1:]
    reached = np.flatnonzero(ahead >= 0.85 * distance)
    return i + step * (int(reached[0]) + 1) if len(reached) else None
