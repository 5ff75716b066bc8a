"""The light a shot loses at each place of the picture, as one system of equations.

A point of the scene is seen at two places in two frames. What lies on the lens takes the share ``a`` of its light at each and lays light of
its own over it, ``D = (1 - a) S + a k`` in linear light, so two frames that show the same point say how the two places differ:
``log S(D_1, a_1, k) = log S(D_2, a_2, k)``. All pairs together say what each place does, also in the middle of a veil that is wider than the
scene ever moves: what one end of a pair sees is corrected by what the map says of the other.

Solved by Gauss and Newton's method with conjugate gradients (Hestenes and Stiefel 1952); what a pair gets wrong counts little (Geman and
McClure 1985), with a bound that narrows from round to round (graduated non-convexity: Blake and Zisserman 1987). A place takes light or
does not: of two maps that explain the pairs alike the one with fewer marked places holds.
"""

from __future__ import annotations

from dataclasses import dataclass

import cv2
import numpy as np
from numpy.typing import NDArray

from ...base.compiled import compiled
from ...evidence.moved_pairs import PairBlocks
from ...imaging.motion import Plane

Grid = NDArray[np.float64]
# Largest code of light, and the power by which codes become linear light, about.
WHITE, POWER = 219.0, 2.2
# What pairs may differ by, as a logarithm of the codes, from round to round.
_BOUNDS = (0.3, 0.2, 0.12, 0.08, 0.06, 0.04, 0.04, 0.04)
# How firmly a map is held to be smooth, to be nothing where it is nearly so, and not to add light; and what counts as nearly nothing.
_SMOOTH, _NOTHING, _ADDS, _NEARLY = 0.1, 0.01, 3.0, 0.05
_MOST_LOST, _MOST_GAINED, _MOST_LAID = -2.3, 0.05, 0.8
# Mean weight, and what two sights of a point differ by, as a logarithm, to which the firmness above goes; the least of that.
_MEAN, _USUAL, _LEAST_MISS = 0.5, 0.01, 0.005
# Weight below which a pair tells nothing of a block; rounds of conjugate gradients, and the share of the energy at which they end; rounds
# in which `k` stays as it began.
_LEAST, _GRADIENTS, _ENOUGH, _FIXED = 0.02, 40, 1e-2, 2


@dataclass(frozen=True)
class Equations:
    """What pairs of frames say about places of a grid.

    Attributes
    ----------
    shape : tuple of int
        Rows and columns of the grid.
    place : ndarray, int32, (equations,)
        Where a point is seen in one frame, numbered in row order.
    corner, part : ndarray, int32, (equations,) and float32, (equations, 2)
        Where it is seen in the other: the place above and to the left, and how far beyond that, 0 to 1, to the right and down.
    own, scene : ndarray, float32, (equations,)
        Its light in both, linear, 0 to 1.
    weight : ndarray, float32, (equations,)
    pair : ndarray, int32, (equations,)
        To which pair each belongs.
    """

    shape: tuple[int, int]
    place: NDArray[np.int32]
    corner: NDArray[np.int32]
    part: NDArray[np.float32]
    own: NDArray[np.float32]
    scene: NDArray[np.float32]
    weight: NDArray[np.float32]
    pair: NDArray[np.int32]

    def __len__(self) -> int:
        return len(self.place)

    @property
    def mean_light(self) -> float:
        """Linear, 0 to 1."""
        return float(np.average(self.own, weights=self.weight)) if len(self) else 0.0


def equations(blocks: PairBlocks, views: NDArray[np.int64], coarser: int = 1) -> Equations:
    """What some views of the pairs say, on a grid so many times coarser than their blocks.

    Parameters
    ----------
    blocks : PairBlocks
    views : ndarray, int64
        Which of them.
    coarser : int
    """
    told = [_of_view(blocks, int(k), coarser) for k in views]
    rows, columns = (n // coarser for n in blocks.own.shape[1:])
    places = np.arange(rows * columns, dtype=np.int32).reshape(rows, columns)
    made: list[tuple[NDArray[np.generic], ...]] = []
    for pair, (own, scene, weight, motion) in enumerate(told):
        at = motion + np.stack(np.meshgrid(np.arange(columns, dtype=np.float32), np.arange(rows, dtype=np.float32)), -1)
        on = (weight > _LEAST) & (at >= 0).all(-1) & (at[..., 0] < columns - 1) & (at[..., 1] < rows - 1)
        whole = np.floor(at[on])
        corner = (whole[:, 1] * columns + whole[:, 0]).astype(np.int32)
        made.append((places[on], corner, at[on] - whole, own[on], scene[on], weight[on], np.full(len(corner), pair, np.int32)))
    place, corner, part, own, scene, weight, pairs = (np.concatenate([m[n] for m in made]) for n in range(7))
    # What two sights of a point usually differ by tells how far to trust any of them: most places carry no mark.
    if len(weight):
        differ = np.log(np.maximum(own, 0) + 1) - np.log(np.maximum(scene, 0) + 1)
        apart = np.split(differ, np.cumsum([len(m[0]) for m in made])[:-1])
        usual = 1.4826 * float(np.median(np.concatenate([np.abs(d - np.median(d)) if len(d) else d for d in apart])))
        weight = weight * np.float32(_MEAN / max(float(weight.mean()), 1e-3) * (_USUAL / max(usual, _LEAST_MISS)) ** 2)
    own, scene = (np.maximum(v / np.float32(WHITE), 0) ** np.float32(POWER) + np.float32(1e-5) for v in (own, scene))
    return Equations((rows, columns), place, corner, part, own, scene, weight.astype(np.float32), pairs)


def _of_view(blocks: PairBlocks, view: int, coarser: int) -> tuple[Plane, Plane, Plane, Plane]:
    weight, motion = blocks.weight[view].astype(np.float32), blocks.motion[view].astype(np.float32)
    own, scene = blocks.own[view], blocks.scene[view]
    if coarser == 1:
        return own, scene, weight, motion
    rows, columns = (n // coarser for n in weight.shape)
    cut = np.s_[: rows * coarser, : columns * coarser]

    def mean(plane: Plane) -> Plane:
        return np.asarray(cv2.resize(np.ascontiguousarray(plane[cut]), (columns, rows), interpolation=cv2.INTER_AREA))

    borne = mean(weight)
    mass = np.maximum(borne, 1e-6)
    moved = np.stack([mean(motion[..., n] * weight) / mass for n in (0, 1)], -1) / np.float32(coarser)
    return mean(own * weight) / mass, mean(scene * weight) / mass, borne, moved


@dataclass(frozen=True)
class Lost:
    """A solution.

    Attributes
    ----------
    map : ndarray, float64, (rows, columns)
        Logarithm of the share of linear light that passes, 0 for all of it.
    laid : float
        `k`, linear, 0 to 1.
    cost : float
        What it leaves unexplained, and what it claims, to an equation's weight.
    """

    map: Grid
    laid: float
    cost: float


def solve(
    told: Equations,
    laid: float,
    begin: Grid | None = None,
    free: bool = True,
) -> Lost:
    """The map that explains the pairs.

    Parameters
    ----------
    told : Equations
    laid : float
        `k` to begin with, linear, 0 to 1.
    begin : ndarray, float64, (rows, columns)
        A map to begin with: the first, coarse rounds are left out.
    free : bool
        Fit `k`, too.
    """
    lost = np.zeros(told.shape) if begin is None else np.array(begin, np.float64)
    count = int(told.pair.max(initial=0)) + 1
    offsets = np.zeros(count)
    bounds = _BOUNDS if begin is None else _BOUNDS[-4:]
    for n, bound in enumerate(bounds):
        miss, by_own, by_scene, by_laid = _misses(told, lost, laid, offsets)
        weight = told.weight / (1 + (miss / bound) ** 2) ** 2
        # Whole frames may differ in their light.
        away = np.bincount(told.pair, weight * miss, count) / np.maximum(np.bincount(told.pair, weight, count), 1e-9)
        offsets += away
        if not free or (begin is None and n < _FIXED):
            by_laid = np.zeros_like(by_laid)
        slopes = np.stack([by_own, by_scene, by_laid], 1)
        step = _descent(
            lost,
            _held(lost),
            _SMOOTH,
            told.place,
            told.corner,
            told.part,
            slopes,
            weight,
            miss - away[told.pair],
            _GRADIENTS,
            _ENOUGH,
        )
        lost = np.clip(lost + step[:-1].reshape(told.shape), _MOST_LOST, _MOST_GAINED)
        laid = float(np.clip(laid + np.clip(step[-1], -0.05, 0.05), 0, _MOST_LAID))
    miss = _misses(told, lost, laid, offsets)[0]
    bound = _BOUNDS[-1]
    left = float((told.weight * bound**2 * (1 - 1 / (1 + (miss / bound) ** 2))).sum())
    claimed = float((_held(lost) * lost * lost).sum()) + _SMOOTH * _bending(lost)
    return Lost(lost, laid, (left + claimed) / max(float(told.weight.sum()), 1e-9))


def left_over(told: Equations, lost: Grid, laid: float, which: NDArray[np.bool_]) -> float:
    """Mean of what some equations miss, squared and bounded, with a map and `k` given; each pair's own light is taken off first."""
    none = np.zeros(int(told.pair.max(initial=0)) + 1)
    miss = _misses(told, lost, laid, none)[0]
    weight = told.weight / (1 + (miss / _BOUNDS[-1]) ** 2) ** 2
    away = np.bincount(told.pair, weight * miss, len(none)) / np.maximum(np.bincount(told.pair, weight, len(none)), 1e-9)
    miss = (miss - away[told.pair])[which]
    bound = _BOUNDS[-1]
    return float(np.average(bound**2 * (1 - 1 / (1 + (miss / bound) ** 2)), weights=told.weight[which] + 1e-9)) if which.any() else 0.0


def _held(lost: Grid) -> Grid:
    """How firmly each place is held to nothing."""
    return np.where(lost > 0, _ADDS, _NOTHING / (1 + (lost / _NEARLY) ** 2) + 1e-3)


def _misses(told: Equations, lost: Grid, laid: float, offsets: Grid) -> tuple[Grid, Grid, Grid, Grid]:
    """By how much the logarithm of the scene differs in each equation, in codes; and how that goes by the map at both places, and by `k`."""
    return _differences(
        lost.ravel(), told.shape[1], laid, 1 / POWER, told.place, told.corner, told.part, told.own, told.scene, offsets, told.pair
    )


@compiled(
    "(float64[::1], int64, float64, float64, int32[::1], int32[::1], float32[:, ::1], float32[::1], float32[::1], float64[::1], int32[::1])"
)
def _differences(
    lost: Grid,
    columns: int,
    laid: float,
    scale: float,
    place: NDArray[np.int32],
    corner: NDArray[np.int32],
    part: NDArray[np.float32],
    own: NDArray[np.float32],
    scene: NDArray[np.float32],
    offsets: Grid,
    pair: NDArray[np.int32],
) -> tuple[Grid, Grid, Grid, Grid]:
    count = len(place)
    miss, by_own, by_scene, by_laid = np.empty(count), np.empty(count), np.empty(count), np.empty(count)
    passed = np.exp(lost)
    for n in range(count):
        a, b, at = part[n, 0], part[n, 1], corner[n]
        mine = passed[place[n]]
        theirs = (1 - b) * ((1 - a) * passed[at] + a * passed[at + 1]) + b * ((1 - a) * passed[at + columns] + a * passed[at + columns + 1])
        least = 0.15 * min(own[n], scene[n])
        one, other = max(laid + (own[n] - laid) / mine, least), max(laid + (scene[n] - laid) / theirs, least)
        miss[n] = scale * (np.log(one) - np.log(other)) - offsets[pair[n]]
        by_own[n] = -scale * min(max(1 - laid / one, -8.0), 8.0)
        by_scene[n] = scale * min(max(1 - laid / other, -8.0), 8.0)
        by_laid[n] = scale * ((1 - 1 / mine) / one - (1 - 1 / theirs) / other)
    return miss, by_own, by_scene, by_laid


@compiled("(float64[:, ::1],)")
def _bent(plane: Grid) -> Grid:
    """Differences from the neighbours, twice."""
    rows, columns = plane.shape
    once, twice = np.zeros((rows, columns)), np.zeros((rows, columns))
    for source, target in ((plane, once), (once, twice)):
        for y in range(rows):
            for x in range(columns):
                value, total = source[y, x], 0.0
                if y > 0:
                    total += value - source[y - 1, x]
                if y < rows - 1:
                    total += value - source[y + 1, x]
                if x > 0:
                    total += value - source[y, x - 1]
                if x < columns - 1:
                    total += value - source[y, x + 1]
                target[y, x] = total
    return twice


def _bending(plane: Grid) -> float:
    return float((plane * _bent(plane)).sum())


@compiled("(float64[::1], float64[:, ::1], int32[::1], int32[::1], float32[:, ::1], int64)")
def _carried_along(
    way: Grid, slopes: Grid, place: NDArray[np.int32], corner: NDArray[np.int32], part: NDArray[np.float32], columns: int
) -> Grid:
    """What a change of the map, and of `k`, does to each equation."""
    along = np.empty(len(place))
    laid = way[-1]
    for n in range(len(place)):
        a, b, at = part[n, 0], part[n, 1], corner[n]
        other = (1 - b) * ((1 - a) * way[at] + a * way[at + 1]) + b * ((1 - a) * way[at + columns] + a * way[at + columns + 1])
        along[n] = slopes[n, 0] * way[place[n]] + slopes[n, 1] * other + slopes[n, 2] * laid
    return along


@compiled("(float64[:, ::1], float64[::1], float64[::1], int32[::1], int32[::1], float32[:, ::1], int64, int64)")
def _pulled(
    slopes: Grid,
    weight: Grid,
    along: Grid,
    place: NDArray[np.int32],
    corner: NDArray[np.int32],
    part: NDArray[np.float32],
    size: int,
    columns: int,
) -> Grid:
    """What the equations' misses ask of each place and, last, of `k`."""
    pulled = np.zeros(size + 1)
    for n in range(len(place)):
        a, b, at = part[n, 0], part[n, 1], corner[n]
        load = weight[n] * along[n]
        pulled[place[n]] += load * slopes[n, 0]
        other = load * slopes[n, 1]
        pulled[at] += other * (1 - a) * (1 - b)
        pulled[at + 1] += other * a * (1 - b)
        pulled[at + columns] += other * (1 - a) * b
        pulled[at + columns + 1] += other * a * b
        pulled[size] += load * slopes[n, 2]
    return pulled


@compiled(
    "(float64[:, ::1], float64[:, ::1], float64, int32[::1], int32[::1], float32[:, ::1], float64[:, ::1], float64[::1], float64[::1], int64, float64)"
)
def _descent(
    lost: Grid,
    held: Grid,
    smooth: float,
    place: NDArray[np.int32],
    corner: NDArray[np.int32],
    part: NDArray[np.float32],
    slopes: Grid,
    weight: Grid,
    miss: Grid,
    rounds: int,
    enough: float,
) -> Grid:
    """The step of one round, of the map and, last, of `k`: conjugate gradients, scaled by the diagonal."""
    shape, columns, size = lost.shape, lost.shape[1], lost.size
    down = -_pulled(slopes, weight, miss, place, corner, part, size, columns)
    down[:size] -= (held * lost + smooth * _bent(lost)).ravel()
    firm = np.append(held.ravel() + 1e-3, 1e-3)
    scale = firm + 20 * smooth
    scale[size] = firm[size]
    for n in range(len(place)):
        a, b, at = part[n, 0], part[n, 1], corner[n]
        w, other = weight[n], slopes[n, 1]
        scale[place[n]] += w * slopes[n, 0] ** 2
        scale[at] += w * (other * (1 - a) * (1 - b)) ** 2
        scale[at + 1] += w * (other * a * (1 - b)) ** 2
        scale[at + columns] += w * (other * (1 - a) * b) ** 2
        scale[at + columns + 1] += w * (other * a * b) ** 2
        scale[size] += w * slopes[n, 2] ** 2
    step = np.zeros(size + 1)
    left = down.copy()
    eased = left / scale
    way = eased.copy()
    power = (left * eased).sum()
    first = power
    for _ in range(rounds):
        if power <= enough * first or power <= 0:
            break
        along = _carried_along(way, slopes, place, corner, part, columns)
        pulled = _pulled(slopes, weight, along, place, corner, part, size, columns)
        pulled += firm * way
        pulled[:size] += smooth * _bent(way[:size].copy().reshape(shape)).ravel()
        far = power / (way * pulled).sum()
        step += far * way
        left -= far * pulled
        eased = left / scale
        again = (left * eased).sum()
        way = eased + again / power * way
        power = again
    return step
