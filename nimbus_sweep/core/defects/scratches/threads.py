"""Upright lines of a frame, and threads: lines that go on from frame to frame."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from itertools import pairwise
from typing import Any

import cv2
import numpy as np
from numpy.typing import NDArray
from scipy.ndimage import gaussian_filter1d, median_filter, uniform_filter1d

from ...imaging.motion import Plane
from ...imaging.stack_statistics import running_median
from ...media.frames import as_numbers
from .row_fit import bright_middles, way_to, ways_down

Array = NDArray[Any]
# Bands down the picture; pixels a line may move across from one to the next, and from a frame to the next.
BANDS = 24
_SLANT, WANDER = 2, 4
# Half width of the median along a row, of the picture's width, and at least.
_ROOM, _ROOM_LEAST = 0.012, 7
# The usual departure is told from one column in so many.
_THINNED = 4
# A band's score is bounded, so that one bright spot is no line; what speaks for a line, and in how large a share of bands.
BOUND, _SPEAKS, _SHARE = 6.0, 1.5, 0.55
# Of what a line stands out by, what may lie between its sides; and in how many bands more may.
_EDGE, _EDGED = 0.7, 0.5
# Share of the bands of a scratch that may lie at an edge of the scene.
EDGES = 0.64
# Mean score from which a line is followed, and that a scratch has over its life; frames it lasts at least.
_FOLLOWED, _MEAN, LASTS = 1.6, 2.0, 6
# Frames after which a line that was lost may go on, and share of its life that it has to be seen in.
_GAP, _SEEN = 20, 0.35
# Lines of one sign looked at in a frame; frames one may be lost for.
_MOST, _LOST = 6, 3
# Pixels that the scene has to move behind it to prove it is no part of it.
_PROVES = 4.0
# Pixels a line has to go to be told to go with the scene, and how far it leaves the scene behind then at most, of its own way. Chosen on
# the demo's mast and glass case, where lines of the scene lie between 0.03 and 0.9: it keeps most of them out, not all.
_CARRIED, _WITH = 12.0, 0.65
# Columns on which motion is asked for beside a line, and of the bands one in so many.
_SMALL, _ASKED = 320, 3


@dataclass(frozen=True)
class Line:
    """A line down a frame.

    Attributes
    ----------
    xs : ndarray, float64, (bands,)
        Where it crosses the middle of each band, in pixels.
    score : float
        Mean of its bands' scores.
    share : float
        Of the bands that speak for it.
    edged : float
        Of those where what is left and right of it differs by much of what it stands out by.
    """

    xs: Array
    score: float
    share: float
    edged: float


@dataclass(frozen=True)
class Thread:
    """A scratch through time.

    Attributes
    ----------
    frames : list of int
        Places of the frames it was seen in.
    xs : ndarray, float64, (frames, bands)
    bright : bool
    score, share, edged : float
        Means over its frames.
    travel : float
        How far the scene has moved behind it, in pixels.
    """

    frames: list[int]
    xs: Array
    bright: bool
    score: float
    share: float
    edged: float
    travel: float

    @property
    def proven(self) -> bool:
        """Whether it is no part of the scene: the scene moves behind it, farther than the line does itself."""
        return self.travel >= max(_PROVES, float(np.ptp(self.xs.mean(1))))

    @property
    def carried(self) -> bool:
        """Whether it goes where the scene goes: an upright edge in it, such as a mast, while the camera moves."""
        far = float(np.ptp(self.xs.mean(1)))
        return far > _CARRIED and self.travel < _WITH * far

    @property
    def may_be_a_scratch(self) -> bool:
        """Whether it is worth measuring: not where most of it lies at edges of the scene, or goes with it."""
        return self.edged <= EDGES and not self.carried


def band_edges(height: int) -> list[tuple[int, int]]:
    """Rows of each band: first, stop."""
    edges = np.linspace(0, height, min(BANDS, height) + 1).round().astype(int).tolist()
    return list(pairwise(edges))


@dataclass(frozen=True)
class Scores:
    """What stands out in each band of a frame.

    Attributes
    ----------
    out : ndarray, float64, (bands, width)
        How far each column stands out of those beside it, in usual departures; above 0 for bright.
    sides : ndarray, float64, (bands, width)
        By how much what is right of it differs from what is left, of what it stands out by: a line has the same on both sides, an edge
        has not.
    """

    out: Array
    sides: Array


def band_means(plane: Plane) -> Array:
    """Mean of each band, column by column: (bands, width), float32."""
    if plane.dtype.kind == "f":
        plane = as_numbers(plane)
    return np.concatenate([cv2.reduce(plane[a:b], 0, cv2.REDUCE_AVG, dtype=cv2.CV_32F) for a, b in band_edges(plane.shape[0])])


def scores(means: Array) -> Scores:
    """What stands out in a frame; `means` are those of its bands, see `band_means`, of luma in 8-bit codes."""
    room = 2 * max(_ROOM_LEAST, round(_ROOM * means.shape[1])) + 1
    out = means - running_median(means, room)
    # Usual for the neighbourhood: a line in grass has to stand out of the grass.
    coarse = running_median(np.abs(out)[:, ::_THINNED], 4 * room // _THINNED + 1)
    usual = 1.4826 * np.repeat(coarse, _THINNED, 1)[:, : out.shape[1]] + 0.25
    beside = room // 2
    padded = np.pad(uniform_filter1d(means, 3, axis=1, mode="nearest"), ((0, 0), (beside, beside)), mode="edge")
    width = means.shape[1]
    return Scores(out / usual, (padded[:, 2 * beside :] - padded[:, :width]) / (np.abs(out) + 0.5))


def lines(score: Scores, bright: bool) -> list[Line]:
    """The lines of one sign in a frame, the strongest first: the best ways down through the bands."""
    out = np.ascontiguousarray(score.out if bright else -score.out, np.float64)
    signed, sides = np.clip(out, -2, BOUND), np.ascontiguousarray(score.sides, np.float64)
    count, width = signed.shape
    # A straight way down is preferred where both are as good.
    left, steps = ways_down(signed, _SLANT, 0.3)
    found: list[Line] = []
    room = max(_ROOM_LEAST, round(_ROOM * width))
    for _ in range(4 * _MOST):
        at = int(np.argmax(left))
        if left[at] < _FOLLOWED * count:
            break
        left[max(0, at - 2) : at + 3] = -np.inf
        # Textures differ now this way, now that; an edge of the scene differs one way all the way down.
        xs, mean, share, edged, uneven = way_to(signed, sides, steps, at, _SPEAKS, _EDGE)
        if share >= _SHARE and edged <= _EDGED and all(np.abs(line.xs - xs).mean() > room for line in found):
            found.append(Line(sharpened(out, xs), mean, share, uneven))
            if len(found) == _MOST:
                break
    return found


def sharpened(signed: Array, xs: Array) -> Array:
    """The way to parts of a pixel, by the middle of what stands out about it, and smooth down the picture.

    Parameters
    ----------
    signed : ndarray, float64, (bands, width)
        Scores without a bound: what is far above the bound has no top to be found otherwise.
    xs : ndarray, int64, (bands,)
    """
    places, weights = bright_middles(np.ascontiguousarray(signed, np.float64), xs.astype(np.int64))
    # One band that was led astray, by a fence post say, is drawn to those about it.
    usual = median_filter(places, 5, mode="nearest")
    weights[np.abs(places - usual) > 1.5] = 1e-3
    return smoothed(places, weights)


def smoothed(places: Array, weights: Array) -> Array:
    """Places down the picture drawn to a smooth curve, by how much each band tells."""
    sigma = 1.5
    return np.asarray(gaussian_filter1d(places * weights, sigma, mode="nearest") / gaussian_filter1d(weights, sigma, mode="nearest"))


class ThreadFollower:
    """Follows lines of one sign from frame to frame."""

    def __init__(self, bright: bool) -> None:
        self._bright = bright
        self._open: list[_Open] = []
        self._closed: list[_Open] = []

    def add(self, place: int, found: Sequence[Line]) -> None:
        """The lines of the next frame."""
        free = list(found)
        for thread in sorted(self._open, key=lambda t: -len(t.frames)):
            near = [(float(np.abs(line.xs - thread.xs[-1]).mean()), n) for n, line in enumerate(free)]
            near = [one for one in near if one[0] <= WANDER]
            if near:
                thread.take(place, free.pop(min(near)[1]))
        for thread in [t for t in self._open if place - t.frames[-1] > _LOST]:
            self._open.remove(thread)
            self._closed.append(thread)
        for line in free:
            self._open.append(_Open(place, line))

    def threads(self, moves: Sequence[Plane], width: int) -> list[Thread]:
        """What lasted; `moves` say how the scene goes across between frames, see `moved`."""
        found = []
        for thread in _joined([*self._closed, *self._open]):
            life = thread.frames[-1] - thread.frames[0] + 1
            if len(thread.frames) < max(LASTS, _SEEN * life) or np.mean(thread.scores) < _MEAN:
                continue
            xs = np.stack(thread.xs)
            travel = _travel(thread.frames, xs, moves, width)
            found.append(
                Thread(
                    thread.frames,
                    xs,
                    self._bright,
                    float(np.mean(thread.scores)),
                    float(np.mean(thread.shares)),
                    float(np.mean(thread.edged)),
                    travel,
                )
            )
        return found


def _joined(threads: list[_Open]) -> list[_Open]:
    """Threads that go on where others were lost, as one."""
    left = sorted(threads, key=lambda t: t.frames[0])
    joined: list[_Open] = []
    for thread in left:
        before = [t for t in joined if 0 < thread.frames[0] - t.frames[-1] <= _GAP and _apart(t.xs[-1], thread.xs[0]) <= 1.5 * WANDER]
        if before:
            nearest = min(before, key=lambda t: _apart(t.xs[-1], thread.xs[0]))
            for name in ("frames", "xs", "scores", "shares", "edged"):
                getattr(nearest, name).extend(getattr(thread, name))
        else:
            joined.append(thread)
    return joined


def _apart(one: Array, other: Array) -> float:
    return float(np.abs(one - other).mean())


class _Open:
    def __init__(self, place: int, line: Line) -> None:
        self.frames, self.xs, self.scores, self.shares, self.edged = [place], [line.xs], [line.score], [line.share], [line.edged]

    def take(self, place: int, line: Line) -> None:
        self.frames.append(place)
        self.xs.append(line.xs)
        self.scores.append(line.score)
        self.shares.append(line.share)
        self.edged.append(line.edged)


def moved(way: Plane, width: int) -> Plane:
    """How the scene goes across from a frame to the next beside the bands that lines are asked about, in pixels of pictures so wide.

    Parameters
    ----------
    way : ndarray, float32, (rows, columns, 2)
        In pixels of a picture of that size, x first; see `evidence.moments.Pair`.
    width : int

    Returns
    -------
    ndarray, float32, (asked bands, columns)
    """
    scale = width / way.shape[1]
    across = np.ascontiguousarray(way[..., 0]) * np.float32(scale)
    if across.shape[1] > _SMALL:
        size = (_SMALL, max(8, round(across.shape[0] * _SMALL / across.shape[1])))
        across = cv2.resize(across, size, interpolation=cv2.INTER_AREA)
    rows = [min(across.shape[0] - 1, int((band + 0.5) / BANDS * across.shape[0])) for band in range(0, BANDS, _ASKED)]
    return np.asarray(across[rows])


def _travel(frames: list[int], xs: Array, moves: Sequence[Plane], width: int) -> float:
    """How far the scene beside a line has moved from it, over its life, in pixels: the middle of its bands."""
    ranges = []
    for asked, band in enumerate(range(0, xs.shape[1], _ASKED)):
        away, positions = 0.0, [0.0]
        for k in range(1, len(frames)):
            for n in range(frames[k - 1], frames[k]):
                motion = moves[n]
                at = xs[k, band] / width * motion.shape[1]
                near = np.concatenate(
                    [motion[asked, max(0, int(at) - 14) : max(0, int(at) - 4)], motion[asked, int(at) + 5 : int(at) + 15]]
                )
                away += float(np.median(near)) if len(near) else 0.0
            away -= float(xs[k, band] - xs[k - 1, band])
            positions.append(away)
        ranges.append(np.ptp(positions))
    return float(np.median(ranges))


# Frames for which a line has to last, in a shot that lasts for twice as many.
LASTS = 12
