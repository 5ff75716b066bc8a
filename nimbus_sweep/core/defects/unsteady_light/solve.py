"""The light of every frame at once, from what pairs of frames say: sparse least squares made robust by reweighting.

Reweighting by Cauchy's function (Holland and Welsch 1977), its scale the median absolute deviation of each pair.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
import scipy.sparse as sp
from numpy.typing import NDArray
from scipy.sparse.linalg import cg, splu

from .pairs import Cells, Pairs

Course = NDArray[np.float64]
_ROUNDS = 6
# What counts as agreement in any case, in log light.
_FLOOR = 0.006
# How far out the middle of the best of pairs may be, in log light.
_SURE = 0.0005
# Standard deviation over time that exponents are thought to have.
_POWER = 0.08
_POWERS = (0.25, 4.0)
# Cells of pairs that are put into equations at a time.
_AT_ONCE = 50_000


@dataclass(frozen=True)
class Whole:
    """The light of whole frames: ``log(light / white) = offset + power * log(light as it should be / white)``.

    Attributes
    ----------
    offset : ndarray, float64, (frames,)
        Mean over time 0.
    power : ndarray, float64, (frames,)
        Mean over time 1.
    """

    offset: Course
    power: Course


def informed(miss: Cells, weight: Cells) -> Cells:
    """What each cell of each pair tells: one over its variance, with what does not agree taken back.

    Parameters
    ----------
    miss, weight : ndarray, float32, (pairs, ...)
        What each cell leaves unexplained, and its weight so far.

    Notes
    -----
    What misses in one cell misses alike in those beside it, so a pair of frames is worth far less than the number of
    its cells: how far the middle of a pair is out grows with the spread of its cells, and faster (measured against
    known light on open clips: within a factor of two of ``0.25 s + 12 s^2``).
    """
    flat, base = miss.reshape(len(miss), -1), weight.reshape(len(miss), -1)
    calm = base
    for _ in range(2):
        # Cells are held against the middle of their pair: it is for the solution to say where that lies.
        away = np.abs(flat - middles(flat, calm)[:, None])
        # Where the scene lives, cells are out in most pairs; where it is at rest, in hardly any.
        lively = np.median(np.where(base > 0, away, 1.0), axis=0)
        calm = base / (lively + _FLOOR) ** 2
    scale = middles(away, calm)
    kept = (calm / (1 + (away / (3 * scale[:, None] + _FLOOR)) ** 2) ** 2).reshape(miss.shape)
    scale = scale.reshape(-1, *[1] * (miss.ndim - 1))
    out = _out(scale)
    share = kept / np.maximum(kept.sum(tuple(range(1, kept.ndim)), keepdims=True), 1e-9)
    return np.asarray(share / (out * out))


def solve_whole(pairs: Pairs, contrast: bool = True) -> Whole:
    """Gain, and with `contrast` an exponent, for each frame."""
    count = pairs.count
    offset, power = np.zeros(count), np.ones(count)
    if not len(pairs.one):
        return Whole(offset, power)
    y = pairs.level.reshape(len(pairs.one), -1).astype(np.float64)
    ratio = pairs.ratio.reshape(len(pairs.one), -1).astype(np.float64)
    base = pairs.weight.reshape(len(pairs.one), -1)
    x = y - ratio
    middle = float((base * y).sum() / max(float(base.sum()), 1e-9))
    # About the mean brightness, offset and power hardly depend on one another.
    y, x = y - middle, x - middle
    i, j = pairs.one, pairs.other
    likely = _likely(pairs, ratio, base)
    for turn in range(_ROUNDS):
        # Brightness as it should be, by what is known so far, of both frames alike: so its noise does not lean the slope.
        should = ((y - offset[i, None]) / power[i, None] + (x - offset[j, None]) / power[j, None]) / 2
        miss = ratio - (offset[i] - offset[j])[:, None] - (power[i] - power[j])[:, None] * should
        w = informed(miss.astype(np.float32), base).astype(np.float64)
        offset, power = _both(count, i, j, should, ratio, w, likely, contrast and turn > 1)
    return Whole(offset + middle * (1 - power), power)


def _out(spread: Any) -> Any:
    return 0.25 * spread + 12 * spread * spread + _SURE


def middles(values: Cells, weight: Cells) -> Cells:
    """The weighted median of each row: (rows,)."""
    order = np.argsort(values, axis=1)
    mass = np.cumsum(np.take_along_axis(weight, order, 1), axis=1)
    at = np.minimum((mass < mass[:, -1:] / 2).sum(1), values.shape[1] - 1)
    return np.take_along_axis(values, np.take_along_axis(order, at[:, None], 1), 1)[:, 0]


def disagreement(pairs: Pairs) -> float:
    """How far two steps of one frame are from the step of two over the same frames, as a log of light, for one step.

    Light that changes adds up, whatever it does. What motion was missed by does not: of a dark picture with few bright points, say.
    The middle over the shot, as a standard deviation; 0 where too few frames tell.
    """
    base = pairs.weight.reshape(len(pairs.one), -1)
    told = middles(pairs.ratio.reshape(len(pairs.one), -1), base) if len(pairs.one) else np.zeros(0)
    step = {(int(i), int(j)): float(v) for i, j, v, bears in zip(pairs.one, pairs.other, told, base.sum(1), strict=True) if bears > 0}
    left = [
        step[n, n + 2] - step[n, n + 1] - step[n + 1, n + 2]
        for n in range(pairs.count - 2)
        if step.keys() >= {(n, n + 1), (n + 1, n + 2), (n, n + 2)}
    ]
    return 1.4826 * float(np.median(np.abs(left))) / np.sqrt(3) if len(left) > 2 else 0.0


def _likely(pairs: Pairs, ratio: Cells, weight: Cells) -> float:
    """Standard deviation over time of the light, as far as frames that follow one another tell."""
    near = (pairs.other - pairs.one == 1) & (weight.sum(1) > 0)
    return 1e-3 + (float(np.sqrt(np.mean(middles(ratio[near], weight[near]) ** 2) / 2)) if near.any() else 0.0)


def _both(
    count: int, i: NDArray[np.int64], j: NDArray[np.int64], should: Course, ratio: Course, w: Course, likely: float, powered: bool
) -> tuple[Course, Course]:
    """Minimise the sum of ``w (ratio - (o_i - o_j) - (k_i - k_j) should)^2``."""
    plain, first, second = w.sum(1), (w * should).sum(1), (w * should * should).sum(1)
    size = 2 * count if powered else count
    rows: list[NDArray[np.int64]] = []
    cols: list[NDArray[np.int64]] = []
    values: list[Course] = []
    right = np.zeros(size)
    blocks = [(0, 0, plain), (count, count, second), (0, count, first), (count, 0, first)] if powered else [(0, 0, plain)]
    for down, across, value in blocks:
        for one, other, sign in ((i, i, 1), (j, j, 1), (i, j, -1), (j, i, -1)):
            rows.append(down + one)
            cols.append(across + other)
            values.append(sign * value)
    for down, moment in ((0, (w * ratio).sum(1)), (count, (w * ratio * should).sum(1)))[: 2 if powered else 1]:
        np.add.at(right, down + i, moment)
        np.add.at(right, down + j, -moment)
    matrix = sp.csc_matrix((np.concatenate(values), (np.concatenate(rows), np.concatenate(cols))), (size, size))
    # Slow changes add up from what all pairs are out by: they are believed no further than the fast ones make likely.
    hold = np.full(size, 1 / likely**2)
    hold[count:] = 1 / _POWER**2
    found = splu((matrix + sp.diags(hold)).tocsc()).solve(right)
    offset = found[:count] - found[:count].mean()
    # Frames that show next to nothing could ask for any exponent; one below zero would turn the picture inside out.
    return offset, np.clip(1 + (found[count:] - found[count:].mean() if powered else np.zeros(count)), *_POWERS)


def along(y: Any, x: Any, lean: float, shape: float) -> Any:
    """How far places (shares of the picture's height and width) lie along a direction: 0 at one corner, 1 at the other."""
    if not lean:
        return y
    across = np.sin(lean) * shape
    start = min(0.0, across) + min(0.0, float(np.cos(lean)))
    return (np.cos(lean) * y + across * x - start) / (abs(np.cos(lean)) + abs(across))


@dataclass(frozen=True)
class Knots:
    """A grid of places over the picture between which light is interpolated.

    Attributes
    ----------
    rows, cols : int
        Knots down and across; a single one is the whole of that direction.
    lean : float
        By how much the first direction leans from downwards to the right, in radians; for a single column of knots.
    shape : float
        Width of the picture over its height.
    """

    rows: int
    cols: int
    lean: float = 0.0
    shape: float = 1.0

    @property
    def count(self) -> int:
        """Knots in all."""
        return self.rows * self.cols

    def weights(self, y: Any, x: Any) -> tuple[NDArray[np.int64], Course]:
        """Which knots a place is made of, and how much of each: both (..., 4); places are shares of the picture, 0 to 1."""
        if self.lean:
            y, x = along(y, x, self.lean, self.shape), np.full_like(y, 0.5)
        down, across = (np.clip(v * n - 0.5, 0, n - 1) for v, n in ((y, self.rows), (x, self.cols)))
        top, left = np.floor(down).astype(np.int64), np.floor(across).astype(np.int64)
        low, right = np.minimum(top + 1, self.rows - 1), np.minimum(left + 1, self.cols - 1)
        fy, fx = down - top, across - left
        which = np.stack([top * self.cols + left, top * self.cols + right, low * self.cols + left, low * self.cols + right], -1)
        return which, np.stack([(1 - fy) * (1 - fx), (1 - fy) * fx, fy * (1 - fx), fy * fx], -1)

    def bends(self) -> sp.csr_matrix:
        """Second differences between neighbours down and across."""
        parts = []
        for n, other, across in ((self.rows, self.cols, False), (self.cols, self.rows, True)):
            if n < 3:
                continue
            second = sp.diags([1.0, -2.0, 1.0], [0, 1, 2], shape=(n - 2, n))
            parts.append(sp.kron(sp.eye(other), second) if across else sp.kron(second, sp.eye(other)))
        return sp.vstack(parts).tocsr() if parts else sp.csr_matrix((0, self.count))


def solve_field(pairs: Pairs, rest: Cells, knots: Knots, size: float, stiff: float) -> Course:
    """The light of every frame over the picture, as logs of gains at knots: (frames, rows, cols).

    Parameters
    ----------
    pairs : Pairs
        Its cells joined as far as the knots allow.
    rest : ndarray, float32, (pairs, rows, cols)
        Its ratios less what is explained already.
    knots : Knots
    size : float
        Standard deviation over time that is thought likely, in log light.
    stiff : float
        The same of a bend between neighbouring knots, as a share of `size`.
    """
    count, n = pairs.count, knots.count
    if not len(pairs.one):
        return np.zeros((count, knots.rows, knots.cols))
    usable = pairs.weight > 0
    if not usable.any():
        return np.zeros((count, knots.rows, knots.cols))
    parts = _equations(pairs, knots, usable)
    ends = np.cumsum([0, *(part.shape[0] for part in parts)])
    p = np.nonzero(usable)[0]
    told, base = rest[usable].astype(np.float64), pairs.weight[usable].astype(np.float64)
    typical, apart = float(np.median(base)), pairs.spread[usable].astype(np.float64)
    bends = sp.kron(sp.eye(count), knots.bends()).tocsr()
    prior = (sp.eye(count * n) / size**2 + (bends.T @ bends) / (stiff * size) ** 2).tocsr()
    found = np.zeros(count * n)
    # Light that does not agree with the rest is let go of little by little.
    for turn, (least, exact) in enumerate(((0.25, 1e-2), (0.1, 1e-2), (0.05, 1e-2), (0.03, 1e-3), (0.03, 1e-4))):
        miss = told - np.concatenate([part @ found for part in parts])
        spread = 1.4826 * np.sqrt(np.bincount(p, miss * miss * base, len(rest)) / np.maximum(np.bincount(p, base, len(rest)), 1e-9))
        bound = np.maximum(np.minimum(spread[p], least * 2), 0.01)
        kept = base / (1 + (miss / (2 * bound)) ** 2) ** 2 if turn else base
        # Light that shows something else is out by more, and so is what lies beside it.
        info = kept / np.maximum(base, 1e-9) * np.minimum(1, base / typical) / _out(apart + 0.3 * bound) ** 2
        matrix, right = prior.copy(), np.zeros(count * n)
        for part, first, stop in zip(parts, ends, ends[1:], strict=False):
            matrix += part.T @ (sp.diags(info[first:stop]) @ part)
            right += part.T @ (info[first:stop] * told[first:stop])
        found, _ = cg(matrix, right, found, rtol=exact, maxiter=300, M=sp.diags(1 / matrix.diagonal()))
    field = found.reshape(count, knots.rows, knots.cols)
    return np.asarray(field - field.mean(0))


def explained(pairs: Pairs, field: Course, whole: Whole, most: int = 2) -> float:
    """Share of what frames near one another tell beyond the light of whole frames that a field over the picture explains: at most 1.

    Parameters
    ----------
    pairs : Pairs
    field : ndarray, float64, (frames, rows, cols)
        Log light, that of whole frames in it.
    whole : Whole
    most : int
        Frames apart, at most.
    """
    usable = (pairs.weight > 0) & (pairs.other - pairs.one <= most)[:, None, None]
    if not usable.any():
        return 0.0
    told = np.concatenate([part @ field.ravel() for part in _equations(pairs, Knots(field.shape[1], field.shape[2]), usable)])
    i, j = pairs.one[:, None, None], pairs.other[:, None, None]
    before, behind = pairs.level, pairs.level - pairs.ratio
    left = ((before - whole.offset[i]) / whole.power[i] - (behind - whole.offset[j]) / whole.power[j])[usable]
    ratio, weight = pairs.ratio[usable], pairs.weight[usable]
    return 1 - float((weight * np.abs(ratio - told)).sum()) / max(float((weight * np.abs(left)).sum()), 1e-12)


def _equations(pairs: Pairs, knots: Knots, usable: NDArray[np.bool_]) -> list[sp.csr_matrix]:
    """For each usable cell of all pairs, how much of each frame's knots makes up its ratio, some pairs at a time: a long shot has many."""
    count, (height, width) = knots.count, usable.shape[1:]
    ys, xs = np.mgrid[0:height, 0:width].astype(np.float32)
    here, own = knots.weights((ys + 0.5) / height, (xs + 0.5) / width)
    parts, step = [], max(1, _AT_ONCE // (height * width))
    for first in range(0, len(pairs.one), step):
        some = np.s_[first : first + step]
        away = pairs.away[some]
        there, other = knots.weights((ys + 0.5 + away[..., 1]) / height, (xs + 0.5 + away[..., 0]) / width)
        p, r, c = np.nonzero(usable[some])
        cols = np.concatenate([pairs.one[some][p, None] * count + here[r, c], pairs.other[some][p, None] * count + there[p, r, c]], 1)
        values = np.concatenate([own[r, c], -other[p, r, c]], 1).astype(np.float32)
        ends = np.arange(0, values.size + 1, values.shape[1], dtype=np.int32)
        parts.append(sp.csr_matrix((values.ravel(), cols.astype(np.int32).ravel(), ends), (len(p), pairs.count * count)))
    return parts
