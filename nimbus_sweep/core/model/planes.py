"""Planes in perspective: points, transforms, and the way a plane goes through a shot."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from enum import IntEnum
from typing import Literal

import cv2
import numpy as np
from numpy.typing import NDArray

from ..base.errors import SweepError

Matrix = NDArray[np.float64]
Points = NDArray[np.float64]
Model = Literal["translation", "similarity", "affine", "perspective"]
# Correlation of the plane's picture and the frame's: lower is weak, or lost.
WEAK, LOST = 0.75, 0.62


class State(IntEnum):
    """How well a plane is held in a frame."""

    HELD = 0
    WEAK = 1
    BRIDGED = 2
    OUT = 3


@dataclass(frozen=True)
class Followed:
    """Where a plane is in some frames.

    Attributes
    ----------
    numbers : ndarray, int64, (frames,)
        In order.
    matrices : ndarray, float64, (frames, 3, 3)
        From the plane as it lies in the reference frame to each frame, in pixels.
    misfit : ndarray, float64, (frames,)
        1 less the correlation of the plane's picture with the frame's, light taken out: 0 is perfect.
    loose : ndarray, float64, (frames,)
        Standard deviation of the least sure corner, in pixels.
    states : ndarray, uint8, (frames,)
        See `State`.
    """

    numbers: NDArray[np.int64]
    matrices: NDArray[np.float64]
    misfit: NDArray[np.float64]
    loose: NDArray[np.float64]
    states: NDArray[np.uint8]


def moved(points: Points, matrix: Matrix) -> Points:
    """Points through a transform.

    Parameters
    ----------
    points : ndarray, float64, (n, 2)
        x and y.
    matrix : ndarray, float64, (3, 3)

    Returns
    -------
    ndarray, float64, (n, 2)
    """
    x, y = points.T
    across, down, depth = (row[0] * x + row[1] * y + row[2] for row in matrix)
    return np.stack([across / depth, down / depth], -1)


def undone(matrix: Matrix) -> Matrix:
    """The transform that takes another one back: float64, (3, 3).

    Raises
    ------
    numpy.linalg.LinAlgError
        If it lays everything on a line.
    """
    return np.asarray(np.linalg.inv(matrix), np.float64)


def box_corners(mask: NDArray[np.float32]) -> Points:
    """The corners of the least rectangle about a mask's half: (4, 2), clockwise from the left upper one, on pixel edges.

    Raises
    ------
    SweepError
        If there is nothing of it.
    """
    rows, cols = np.flatnonzero((mask > 0.5).any(1)), np.flatnonzero((mask > 0.5).any(0))
    if not len(rows):
        raise SweepError("The region of the track is empty, or lies off the picture. Draw it on a flat part of the scene.")
    left, top, right, bottom = cols[0] - 0.5, rows[0] - 0.5, cols[-1] + 0.5, rows[-1] + 0.5
    return np.array([[left, top], [right, top], [right, bottom], [left, bottom]], np.float64)


def from_corners(before: Points, after: Points, model: Model = "perspective") -> Matrix:
    """The transform of a model that lays four points on four others: exactly for perspective, by least squares else.

    Parameters
    ----------
    before, after : ndarray, float64, (4, 2)
        x and y.
    model : str
        ``translation``, ``similarity``, ``affine`` or ``perspective``.

    Returns
    -------
    ndarray, float64, (3, 3)

    References
    ----------
    The direct linear transformation: Hartley and Zisserman, "Multiple View Geometry", 2nd edition 2004, section 4.1; on
    points about zero.
    """
    if model == "perspective":
        return np.asarray(cv2.getPerspectiveTransform(before.astype(np.float32), after.astype(np.float32)), np.float64)
    centre = before.mean(0)
    x, y = (before - centre).T
    one, none = np.ones_like(x), np.zeros_like(x)
    columns = {
        "translation": [[one, none], [none, one]],
        "similarity": [[one, none], [none, one], [x, y], [-y, x]],
        "affine": [[one, none], [none, one], [x, none], [none, x], [y, none], [none, y]],
    }[model]
    system = np.stack([np.concatenate(c) for c in columns], -1)
    wanted = after - centre - (before - centre if model == "translation" else 0)
    found = np.linalg.lstsq(system, np.concatenate([wanted[:, 0], wanted[:, 1]]), rcond=None)[0]
    if model == "translation":
        linear = np.eye(2)
    elif model == "similarity":
        linear = np.array([[found[2], -found[3]], [found[3], found[2]]])
    else:
        linear = np.array([[found[2], found[4]], [found[3], found[5]]])
    matrix = np.eye(3)
    matrix[:2, :2] = linear
    matrix[:2, 2] = centre + found[:2] - linear @ centre
    return matrix


def smoothed(ways: NDArray[np.float64], corners: Points, sigma: float, model: Model) -> NDArray[np.float64]:
    """The ways with the paths of the corners made smooth in time.

    Parameters
    ----------
    ways : ndarray, float64, (frames, 3, 3)
    corners : ndarray, float64, (4, 2)
    sigma : float
        Standard deviation of the smoothing, in frames; a quadratic is fitted about each frame (Savitzky and Golay
        1964, with Gaussian weights), so that an even or speeding move stays as it is.
    """
    if sigma <= 0 or len(ways) < 3:
        return ways
    paths = np.array([moved(corners, way).ravel() for way in ways])
    reach = int(np.ceil(3 * sigma))
    out = np.empty_like(paths)
    for k in range(len(paths)):
        near = np.arange(max(0, k - reach), min(len(paths), k + reach + 1))
        t = (near - k) / sigma
        weight = np.exp(-0.5 * t * t)
        base = np.stack([np.ones_like(t), t, t * t], -1)[:, : min(3, len(near))]
        scaled = base * weight[:, None]
        out[k] = np.linalg.lstsq(scaled.T @ base, scaled.T @ paths[near], rcond=None)[0][0]
    return np.stack([from_corners(corners, path.reshape(4, 2), model) for path in out])


def nudged(
    ways: NDArray[np.float64], numbers: Iterable[int], corners: Points, nudges: Mapping[int, Points], model: Model
) -> NDArray[np.float64]:
    """The ways with corners moved by hand at some frames, and in between in proportion; outside them as at the nearest.

    Parameters
    ----------
    nudges : mapping
        For frames, how far each corner is moved: (4, 2), in pixels.
    """
    if not nudges:
        return ways
    at = np.array(sorted(nudges), np.float64)
    by = np.array([np.asarray(nudges[int(n)], np.float64).ravel() for n in at])
    out = []
    for number, way in zip(numbers, ways, strict=True):
        more = np.array([np.interp(number, at, by[:, k]) for k in range(8)]).reshape(4, 2)
        out.append(from_corners(corners, moved(corners, way) + more, model) if np.abs(more).max() > 1e-9 else way)
    return np.stack(out)
