"""Upright lines of a frame: bands of rows are averaged, and a line is a straight way down through what stands out in them."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cache
from itertools import pairwise
from typing import Any

import cv2
import numpy as np
from numpy.typing import NDArray
from scipy.ndimage import median_filter

from ...imaging.motion import Plane
from ...imaging.stack_statistics import running_median
from ...media.frames import as_numbers
from .row_fit import best_stretches, bright_middles, stretches

Array = NDArray[Any]
# Bands down the picture; how far across a line may go down the picture, as a share of its height, and how many leans are tried.
BANDS = 24
_LEAN, _LEANS = 0.07, 23
# Half width of the median along a row, of the picture's width, and at least.
_ROOM, _ROOM_LEAST = 0.012, 7
# The usual departure is told from one column in so many.
_THINNED = 4
# A band's score is bounded, so that one bright spot is no line; what a band has to have to speak for one.
BOUND, _SPEAKS = 6.0, 0.9
# How far a band may stand out in one of two pictures, in usual departures.
_ALONE = 2.0
# Sum of what speaks for a line, bands it has, and lines of one sign that are looked at in a frame.
_LEAST, _SHORTEST, _MOST = 8.0, 5, 8
# Columns between two lines, of the picture's width, and at least.
_APART, _APART_LEAST = 0.008, 4.0
# Pixels that a band may lie beside the line.
_BESIDE = 1.0


@dataclass(frozen=True)
class Line:
    """A straight line down a frame, or down a part of it.

    Attributes
    ----------
    bright : bool
        It is lighter than what is beside it.
    x : float
        Where it crosses row 0, in pixels.
    lean : float
        How far it goes across a row down, in pixels.
    first, stop : int
        Its rows.
    score : float
        Sum of what speaks for it in its bands.
    rough : float
        How far its bands lie beside it, in pixels.
    """

    bright: bool
    x: float
    lean: float
    first: int
    stop: int
    score: float
    rough: float

    def at(self, rows: Array | float) -> Any:
        """Where it crosses rows."""
        return self.x + self.lean * rows

    @property
    def middle(self) -> float:
        """Where it crosses its middle row."""
        return float(self.at((self.first + self.stop - 1) / 2))

    def apart(self, other: Line, least: float = 0.3) -> float:
        """How far another line lies beside it where both are, in pixels; very far where they share less than that of the shorter."""
        first, stop = max(self.first, other.first), min(self.stop, other.stop)
        if stop - first < least * min(self.stop - self.first, other.stop - other.first):
            return np.inf
        return float(np.mean([abs(self.at(row) - other.at(row)) for row in (first, stop - 1)]))


@cache
def band_edges(height: int) -> list[tuple[int, int]]:
    """Rows of each band: first, stop."""
    edges = np.linspace(0, height, min(BANDS, height) + 1).round().astype(int).tolist()
    return list(pairwise(edges))


def band_middles(height: int) -> Array:
    """Row in the middle of each band."""
    return np.array([(a + b - 1) / 2 for a, b in band_edges(height)])


def band_places(at: Array) -> Array:
    """Where a line crosses the middle of each band, from where it crosses each row."""
    return np.interp(band_middles(len(at)), np.arange(len(at)), at)


def band_means(plane: Plane) -> Array:
    """Mean of each band, column by column: (bands, width), float32."""
    if plane.dtype.kind == "f":
        plane = as_numbers(plane)
    return np.concatenate([cv2.reduce(plane[a:b], 0, cv2.REDUCE_AVG, dtype=cv2.CV_32F) for a, b in band_edges(plane.shape[0])])


def scores(means: Array) -> Array:
    """How far each column of a band stands out of those beside it, in usual departures.

    Parameters
    ----------
    means : ndarray, float32, (bands, width)
        See `band_means`, of luma in 8-bit codes.

    Returns
    -------
    ndarray, float32, (bands, width)
        Above 0 for bright.
    """
    room = 2 * max(_ROOM_LEAST, round(_ROOM * means.shape[1])) + 1
    out = means - running_median(means, room)
    # Usual for the neighbourhood: a line in grass has to stand out of the grass.
    coarse = running_median(np.abs(out)[:, ::_THINNED], 4 * room // _THINNED + 1)
    usual = 1.4826 * np.repeat(coarse, _THINNED, 1)[:, : out.shape[1]] + 0.25
    return np.asarray(out / usual)


def lines(scored: Array, height: int, bright: bool, moved: Array | None = None) -> list[Line]:
    """The lines of one sign in a frame, the strongest first.

    Parameters
    ----------
    scored : ndarray, float32, (bands, width)
        See `scores`.
    height : int
        Rows of the frame.
    bright : bool
    moved : ndarray, float32, (bands, width)
        Scores of what the frames beside it, laid on it along the motion, do not show. Texture that moves on is gone from these, where a
        scratch stays; before a standing camera a scratch is gone, too. Each of both speaks so far alone, as neither a bright edge nor
        a place that was not followed makes a line.
    """
    sign = 1.0 if bright else -1.0
    out, speaks = np.asarray(sign * scored, np.float64), np.clip(sign * scored, -BOUND / 3, BOUND)
    if moved is not None:
        out = out + sign * moved
        speaks = np.clip(np.clip(sign * scored, -_ALONE, _ALONE) + np.clip(sign * moved, -_ALONE, _ALONE), -_ALONE, None)
    count, width = out.shape
    slopes = np.linspace(-_LEAN, _LEAN, _LEANS) * height / count
    sums, bands = best_stretches(np.asarray(speaks - _SPEAKS, np.float64), slopes)
    room = max(_APART_LEAST, _APART * width)
    return [_line(out, told, height, bright) for told in stretches(sums, bands, slopes, count, _LEAST, _SHORTEST, _MOST, room)]


def _line(out: Array, told: Array, height: int, bright: bool) -> Line:
    """A straight line that was found, nearer than it was found."""
    x, slope, first, stop, score = told[0], told[1], int(told[2]), int(told[3]), float(told[4])
    edges = band_edges(height)
    part, count = slice(first, stop), len(out)
    way = np.clip(np.rint(x + slope * (np.arange(first, stop) - (count - 1) / 2)), 0, out.shape[1] - 1).astype(np.int64)
    places, weights = bright_middles(np.ascontiguousarray(out[part]), way)
    # One band that was led astray, by a fence post say, does not count.
    weights = np.where(np.abs(places - median_filter(places, 5, mode="nearest")) > 1.5, 1e-3, weights)
    middles = band_middles(height)[part]
    away, counts = middles - middles.mean(), weights
    for _ in range(3):
        centre, mean = np.average(away, weights=counts), np.average(places, weights=counts)
        spread = float((counts * (away - centre) ** 2).sum())
        lean = float((counts * (away - centre) * (places - mean)).sum()) / (spread + 1e-6)
        rest = places - mean - lean * (away - centre)
        counts = weights / (1 + (rest / _BESIDE) ** 2) ** 2
    return Line(
        bright,
        float(mean - lean * (centre + middles.mean())),
        lean,
        edges[first][0],
        edges[stop - 1][1],
        score,
        float(np.average(np.abs(rest), weights=weights)),
    )
