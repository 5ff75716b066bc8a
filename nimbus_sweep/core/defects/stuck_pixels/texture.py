"""How far each sample is from what those around it tell of it, where the picture's own texture tells how.

A picture is taken for a Gaussian Markov random field, block by block: the mean of a sample, all others given, is a weighted sum of the 24
around it, alike on opposite sides (Besag 1974). The weights are fitted by robust least squares to a block of the picture itself, so that a
soft picture makes a single sharp sample stand out by far, and a sharp one does not. What is left over, times a profile, is how well
that profile explains what departs there: its likelihood ratio, as far as the texture is Gaussian.

References
----------
Besag, "Spatial interaction and the statistical analysis of lattice systems", Journal of the Royal Statistical Society B 36, 1974.
"""

from __future__ import annotations

from dataclasses import dataclass
from functools import lru_cache

import cv2
import numpy as np
from numpy.typing import NDArray

from ...base.compiled import compiled
from ...imaging.motion import Plane

Grid = NDArray[np.float64]
# Samples to a side of a block, what it is fitted with about it, as a share of that, and how many samples at most it is fitted to.
_BLOCK, _ROOM, _ENOUGH = 64, 0.25, 4000
# How firmly weights are held, as a share of the power; bounds of what is left over, in deviations; least deviation, in codes; rounds.
_FIRM, _BOUND, _LEAST, _ROUNDS = 1e-2, 3.0, 0.03, 2
# Samples about a place over which its usual left-over is told, that of single ones bounded; its least, in codes; as a deviation.
_USUAL, _BOUNDED, _FLOOR, _DEVIATION = 31, 4.0, 0.15, 1.25
# How firmly texture tells a pattern at least, as an inverse variance.
_FIRMNESS = 0.05
# Half of the pairs about a sample: each stands for its opposite, too.
PAIRS = np.array([(y, x) for y in range(-2, 3) for x in range(-2, 3) if (y, x) > (0, 0)], np.int64)


@dataclass(frozen=True)
class Texture:
    """What texture tells of the samples of a plane.

    Attributes
    ----------
    left : ndarray, float32, (height, width)
        What is left of each sample once what those around it tell of it is taken off, in codes.
    weights : ndarray, float64, (rows, columns, 5, 5)
        Of each block, what a sample counts and, less than nothing, those around it: `left` is the plane filtered by it.
    """

    left: Plane
    weights: Grid

    def weights_at(self, row: int, col: int) -> Grid:
        """Of the block of a sample."""
        rows, cols = self.weights.shape[:2]
        height, width = self.left.shape
        return np.asarray(self.weights[min(rows - 1, row * rows // height), min(cols - 1, col * cols // width)])

    def usual_at(self, row: int, col: int) -> float:
        """The usual size of what is left over about a sample, as a standard deviation, in codes."""
        room = _USUAL + 10
        part = np.abs(self.left[max(0, row - room) : row + room + 1, max(0, col - room) : col + room + 1])
        return float(usual(np.ascontiguousarray(part))[min(row, room), min(col, room)])

    def departs(self, row: int, col: int, reach: int) -> float:
        """All that the samples about a place depart from what those around them tell, in codes squared.

        Over the square of `usual_at` it is a likelihood ratio, doubled: of those samples being free, against the texture telling them.
        """
        height, width = self.left.shape
        rows = np.arange(max(0, row - reach), min(height, row + reach + 1))
        cols = np.arange(max(0, col - reach), min(width, col + reach + 1))
        own = self.left[np.ix_(rows, cols)].ravel().astype(np.float64)
        weights = self.weights_at(row, col)
        down, across = (v.ravel() for v in np.meshgrid(rows, cols, indexing="ij"))
        apart = down[:, None] - down + 2, across[:, None] - across + 2
        near = (np.abs(apart[0] - 2) <= 2) & (np.abs(apart[1] - 2) <= 2)
        tied = np.where(near, weights[np.clip(apart[0], 0, 4), np.clip(apart[1], 0, 4)], 0.0)
        power, along = np.linalg.eigh(tied)
        return float(((along.T @ own) ** 2 / np.maximum(power, _FIRMNESS)).sum())

    def stands_out(self, kernels: dict[str, Grid]) -> Plane:
        """How far each place stands out by the best of some profiles, in deviations of what they usually make of the texture about it.

        Parameters
        ----------
        kernels : dict of ndarray, float, (3, 3)

        Returns
        -------
        ndarray, float32, (height, width)
        """
        height, width = self.left.shape
        best = np.zeros((height, width), np.float32)
        for kernel in kernels.values():
            power = np.array([[max(explained(w, kernel), 1e-2) for w in row] for row in self.weights], np.float32)
            each = cv2.resize(power, (width, height), interpolation=cv2.INTER_NEAREST)
            matched = np.abs(cv2.filter2D(self.left, -1, kernel.astype(np.float32), borderType=cv2.BORDER_REFLECT_101)) / np.sqrt(each)
            np.maximum(best, matched / usual(matched), out=best)
        return best


def usual(size: Plane) -> Plane:
    """The usual size of something about each place, as a standard deviation: single large ones count little."""
    bounded = np.minimum(size, np.float32(_BOUNDED) * cv2.blur(size, (_USUAL + 10, _USUAL + 10)))
    return np.asarray(np.float32(_DEVIATION) * cv2.blur(bounded, (_USUAL, _USUAL)) + np.float32(_FLOOR))


def explained(weights: Grid, profile: Grid) -> float:
    """What a profile of height 1 leaves over, times itself: how firmly a block's texture tells its height, as an inverse variance."""
    room = np.pad(np.asarray(profile, np.float64), 2)
    return float((cv2.filter2D(room, -1, weights, borderType=cv2.BORDER_CONSTANT) * room).sum())


def texture_of(plane: Plane) -> Texture:
    """Tell what texture tells of a plane.

    Parameters
    ----------
    plane : ndarray, float32, (height, width)
        In codes.
    """
    padded = cv2.copyMakeBorder(np.asarray(plane, np.float32), 2, 2, 2, 2, cv2.BORDER_REFLECT_101)
    rows, cols = (max(1, round(size / _BLOCK)) for size in plane.shape)
    left, weights = np.zeros(plane.shape, np.float32), np.zeros((rows, cols, 5, 5))
    _fitted(padded, PAIRS, rows, cols, left, weights)
    return Texture(left, weights)


@lru_cache(maxsize=256)
def tied(stencil: bytes, shape: tuple[int, int]) -> Grid:
    """Of the samples of a window, how each is tied to each by the weights of a texture: (samples, samples).

    Parameters
    ----------
    stencil : bytes
        Weights, float64, (5, 5), packed.
    shape : tuple of int
        Rows and columns of the window.
    """
    weights = np.frombuffer(stencil).reshape(5, 5)
    rows, cols = (v.ravel() for v in np.indices(shape))
    down, across = rows - rows[:, None] + 2, cols - cols[:, None] + 2
    near = (down >= 0) & (down < 5) & (across >= 0) & (across < 5)
    return np.where(near, weights[np.clip(down, 0, 4), np.clip(across, 0, 4)], 0.0)


@compiled("(float64[:, ::1], float64[::1])")
def weighed(told: Grid, asked: Grid) -> NDArray[np.floating]:
    """Weights of least squares; samples that are missed by far count little."""
    count = told.shape[1]
    counts: Grid = np.ones(len(told))
    found: NDArray[np.floating] = np.zeros(count)
    for _ in range(_ROUNDS):
        borne = told * counts.reshape(-1, 1)
        matrix = borne.T @ told
        power = np.trace(matrix) / count
        for n in range(count):
            matrix[n, n] += _FIRM * power + 1e-3
        found = np.linalg.solve(matrix, borne.T @ asked)
        missed = asked - told @ found
        spread = 1.4826 * np.median(np.abs(missed)) + _LEAST
        counts = 1 / (1 + (missed / (_BOUND * spread)) ** 2)
    return found


@compiled("(float32[:, ::1], int64[:, ::1], int64, int64, float32[:, ::1], float64[:, :, :, ::1])")
def _fitted(padded: Plane, pairs: NDArray[np.int64], rows: int, cols: int, left: Plane, weights: Grid) -> None:
    height, width = left.shape
    count = len(pairs) - 1
    for i in range(rows):
        for j in range(cols):
            top, low = i * height // rows, (i + 1) * height // rows
            first, last = j * width // cols, (j + 1) * width // cols
            more_down, more_across = int(_ROOM * (low - top)), int(_ROOM * (last - first))
            from_row, to_row = max(0, top - more_down), min(height, low + more_down)
            from_col, to_col = max(0, first - more_across), min(width, last + more_across)
            every = max(1, (to_row - from_row) * (to_col - from_col) // _ENOUGH)
            # The weights sum to one: the first pair's follows from the others'.
            told = np.empty(((to_row - from_row) * (to_col - from_col) // every + 1, count + 1))
            used = 0
            for k in range(0, (to_row - from_row) * (to_col - from_col), every):
                y, x = from_row + k // (to_col - from_col) + 2, from_col + k % (to_col - from_col) + 2
                own = padded[y, x]
                base = padded[y + pairs[0, 0], x + pairs[0, 1]] + padded[y - pairs[0, 0], x - pairs[0, 1]]
                for n in range(count):
                    told[used, n] = (
                        padded[y + pairs[n + 1, 0], x + pairs[n + 1, 1]] + padded[y - pairs[n + 1, 0], x - pairs[n + 1, 1]] - base
                    )
                told[used, count] = own - base / 2
                used += 1
            told = told[:used]
            found = weighed(told[:, :count].copy(), told[:, count].copy())
            stencil = weights[i, j]
            stencil[2, 2] = 1.0
            for n in range(count + 1):
                share = 0.5 - found.sum() if n == 0 else found[n - 1]
                stencil[2 + pairs[n, 0], 2 + pairs[n, 1]] = -share
                stencil[2 - pairs[n, 0], 2 - pairs[n, 1]] = -share
            for y in range(top, low):
                for x in range(first, last):
                    total = 0.0
                    for b in range(5):
                        for a in range(5):
                            total += stencil[b, a] * padded[y + b, x + a]
                    left[y, x] = total
