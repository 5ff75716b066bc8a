"""The line down the middle of something long and thin, and what lies across it."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property

import cv2
import numpy as np
from numpy.typing import NDArray
from scipy.ndimage import gaussian_filter1d, map_coordinates
from scipy.sparse import coo_matrix
from scipy.sparse.csgraph import dijkstra
from scipy.spatial import cKDTree

from .motion import Plane

Mask = NDArray[np.bool_]
# Pixels that a line and its direction are smoothed over.
_SMOOTH, _HEADING = 2.0, 1.5
# How much dearer a pixel is the nearer it lies to the edge of the mask: a line keeps to the middle.
_MIDDLE = 1.5


@dataclass(frozen=True)
class Centreline:
    """A line of even steps.

    Attributes
    ----------
    points : ndarray, float64, (points, 2)
        Row and column, a pixel apart.
    """

    points: NDArray[np.float64]

    @classmethod
    def of(cls, mask: Mask) -> Centreline:
        """The longest of the cheapest ways through a mask (Dijkstra 1959), which keep to its middle.

        Parameters
        ----------
        mask : ndarray, bool, (rows, columns)
            One connected area.
        """
        return cls(_even(_longest(mask)))

    def __len__(self) -> int:
        return len(self.points)

    @cached_property
    def heading(self) -> NDArray[np.float64]:
        """Its direction at each point: (points, 2), of length 1."""
        if len(self) < 2:
            return np.tile([0.0, 1.0], (len(self), 1))
        along = np.gradient(gaussian_filter1d(self.points, _HEADING, axis=0, mode="nearest"), axis=0)
        return np.asarray(along / (np.hypot(*along.T)[:, None] + 1e-9))

    @property
    def across(self) -> NDArray[np.float64]:
        """The direction across it at each point: (points, 2), of length 1."""
        return np.column_stack([-self.heading[:, 1], self.heading[:, 0]])

    def shifted(self, by: NDArray[np.float64]) -> Centreline:
        """Moved across by so many pixels at each point."""
        return Centreline(self.points + self.across * by[:, None])

    def profiles(self, plane: Plane, offsets: NDArray[np.float64]) -> NDArray[np.float64]:
        """A picture across the line at each of its points: (points, offsets)."""
        at = self.points[:, None] + self.across[:, None] * offsets[None, :, None]
        return np.asarray(map_coordinates(plane, [at[..., 0], at[..., 1]], order=1, mode="nearest"), np.float64)

    def share_on(self, mask: Mask) -> float:
        """The share of its points that lie on a mask of the picture."""
        rows, cols = np.rint(self.points).astype(int).T
        on = (rows >= 0) & (cols >= 0) & (rows < mask.shape[0]) & (cols < mask.shape[1])
        return float(mask[rows[on], cols[on]].sum() / max(1, len(self)))

    def places_near(
        self, shape: tuple[int, int], reach: float
    ) -> tuple[tuple[NDArray[np.intp], NDArray[np.intp]], NDArray[np.intp], NDArray[np.float64]]:
        """The pixels within a distance of the line: their rows and columns, the nearest point of it, and how far across they lie.

        Parameters
        ----------
        shape : tuple of int
            Rows and columns of the picture.
        reach : float
            In pixels.
        """
        line = np.zeros(shape, np.uint8)
        cv2.polylines(line, [np.rint(self.points[:, ::-1]).astype(np.int32)], False, 1, 2 * int(np.ceil(reach)) + 3)
        rows, cols = np.nonzero(line)
        away, nearest = (np.asarray(told) for told in cKDTree(self.points).query(np.column_stack([rows, cols])))
        near = away <= reach
        rows, cols, away, nearest = rows[near], cols[near], away[near], nearest[near]
        side = ((np.column_stack([rows, cols]) - self.points[nearest]) * self.across[nearest]).sum(1)
        return (rows, cols), nearest, np.copysign(away, side)


def _longest(mask: Mask) -> NDArray[np.float64]:
    """From one end of a mask to the other, pixel by pixel: the two of its pixels that are farthest apart along it."""
    rows, cols = np.nonzero(mask)
    count = len(rows)
    depth = cv2.distanceTransform(np.pad(mask, 1).astype(np.uint8), cv2.DIST_L2, cv2.DIST_MASK_PRECISE)[1:-1, 1:-1]
    dear = 1 / np.asarray(depth, np.float64)[rows, cols] ** _MIDDLE
    number = np.full((mask.shape[0] + 1, mask.shape[1] + 2), -1)
    number[rows, cols + 1] = np.arange(count)
    one, other, cost = [], [], []
    for down, right in ((0, 1), (1, 0), (1, 1), (1, -1)):
        beside = number[rows + down, cols + 1 + right]
        near = np.flatnonzero(beside >= 0)
        one.append(near)
        other.append(beside[near])
        cost.append(float(np.hypot(down, right)) * (dear[near] + dear[beside[near]]))
    graph = coo_matrix((np.concatenate(cost), (np.concatenate(one), np.concatenate(other))), shape=(count, count)).tocsr()

    def farthest(way: NDArray[np.float64]) -> int:
        return int(np.where(np.isfinite(way), way, -1).argmax())

    end = farthest(dijkstra(graph, directed=False, indices=np.array([dear.argmin()]))[0])
    way, before = dijkstra(graph, directed=False, indices=np.array([end]), return_predecessors=True)
    at = [farthest(way[0])]
    while before[0, at[-1]] >= 0:
        at.append(int(before[0, at[-1]]))
    return np.column_stack([rows[at], cols[at]]).astype(np.float64)


def _even(points: NDArray[np.float64]) -> NDArray[np.float64]:
    """Smoothed, and a pixel apart."""
    smooth = gaussian_filter1d(points, _SMOOTH, axis=0, mode="nearest")
    along = np.r_[0, np.cumsum(np.hypot(*np.diff(smooth, axis=0).T))]
    at = np.arange(0, max(along[-1], 0.5), 1.0)
    return np.column_stack([np.interp(at, along, smooth[:, k]) for k in (0, 1)])
