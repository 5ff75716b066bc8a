"""Measures one static mark: how much of the light each of its pixels passes, and what light it lays over.

The scene point behind a pixel of the mark is looked up in other frames, in which it has moved clear of it; motion is
carried in from around the mark, never taken from it. Robust statistics over many pairs of frames (M-estimator with
a redescending weight: Beaton and Tukey 1974) give the map; two halves of the pairs, which share no pair, say how
far to trust it and how far to smooth it (cross-validation: Stone 1974).
"""

from __future__ import annotations

from dataclasses import dataclass
from itertools import pairwise

import cv2
import numpy as np
from numpy.typing import NDArray

from ...base.compiled import compiled
from ...imaging.motion import Plane
from ...imaging.stack_statistics import robust
from .sights import PairViews, Stack

_SMOOTH = (0.0, 0.6, 0.9, 1.3, 1.8, 2.5, 3.5, 5.0)
# Below this many codes of light a ratio says little.
_DARK = 4.0
_FLOOR = 0.5


@dataclass(frozen=True)
class LossFit:
    """How much light a mark takes.

    Attributes
    ----------
    loss : ndarray, float32, (rows, columns)
        Logarithm of the transmission, 0 outside the region asked for; smoothed as far as the halves call for.
    halves : tuple of two ndarray
        The same from each half of the pairs, not smoothed.
    ratios, weight : ndarray, float32, (pairs, rows, columns)
        Logarithm of light at the mark over that of the scene, and what it weighs.
    smooth : float
        Standard deviation of the smoothing, in samples.
    """

    loss: Plane
    halves: tuple[Plane, Plane]
    ratios: Stack
    weight: Stack
    smooth: float


def fit_loss(seen: PairViews, inner: Plane, rounds: int = 4) -> LossFit:
    """Fit the transmission of a mark, dust's model: D = t S.

    Parameters
    ----------
    seen : Sights
    inner : ndarray, float32, (rows, columns)
        1 where the mark may lie.
    rounds : int
        How often the light under the mark in the other frames is undone with what was learned.
    """
    at_mark, scene = (np.log(np.maximum(v, 0) + _FLOOR) for v in (seen.at_mark, seen.scene))
    base = seen.weight * np.clip((seen.scene - _DARK) / 12, 0, 1)
    covered = np.clip(seen.carried(inner), 0, 1)
    loss = np.zeros(inner.shape, np.float32)
    halves = (loss, loss)
    ratios, weight, smooth = at_mark - scene, base, 0.0
    for n in range(rounds):
        elsewhere_loss = seen.carried(loss)
        ratios = at_mark - (scene - elsewhere_loss)
        # What lies under the mark in the other frame, too, counts little: at first hardly at all.
        weight = base * np.exp(2 * elsewhere_loss) * (1 - (0.5 if n else 0.98) * covered)
        both, _ = robust(ratios, weight)
        if n < rounds - 1:
            loss = blurred(both, 0.9) * inner
            continue
        first, second = (robust(ratios[seen.half == h], weight[seen.half == h])[0] for h in (0, 1))
        halves = (first, second)
        smooth = _smoothest(first, second, inner)
        loss = blurred(both, smooth) * inner
    return LossFit(loss, halves, ratios, weight, smooth)


def blurred(plane: Plane, sigma: float) -> Plane:
    """Gaussian smoothing; none at 0."""
    return cv2.GaussianBlur(plane, (0, 0), sigma) if sigma else plane


def _smoothest(one: Plane, other: Plane, inner: Plane) -> float:
    """The smoothing that makes one half of the evidence foretell the other best."""

    def miss(sigma: float) -> float:
        return float((((blurred(one, sigma) - other) ** 2 + (blurred(other, sigma) - one) ** 2) * inner).sum())

    return min(_SMOOTH, key=miss)


def correlation(one: Plane, other: Plane) -> float:
    """Pearson's; 0 where one of them does not vary."""
    a, b = (np.asarray(v, np.float64).ravel() - float(np.mean(v)) for v in (one, other))
    power = float(np.sqrt((a * a).sum() * (b * b).sum()))
    return float((a * b).sum()) / power if power > 1e-9 else 0.0


@dataclass(frozen=True)
class Proof:
    """What speaks for a mark.

    Attributes
    ----------
    depth : float
        The most it takes, as a logarithm, above 0.
    agree : float
        Correlation of the two halves of the evidence over the mark.
    stands_out : float
        Depth over the usual size of such a departure just around the mark.
    follows : float
        Spread of the light at the mark over time, against that of the scene behind it, as logarithms: near 1 where
        the scene shines through, near 0 for a thing of the scene that stands still.
    together : float
        Correlation of the two over time.
    lives : float
        Spread of the scene's light over time behind it, as a logarithm.
    clear : float
        Pairs of frames in which the scene came clear of the mark, the mean over it.
    doubt : float
        By how much the two halves of the evidence tell another share of light over it, halved, 0 to 1.
    """

    depth: float
    agree: float
    stands_out: float
    follows: float
    together: float
    lives: float
    clear: float
    doubt: float = 0.0


def prove(seen: PairViews, fit: LossFit, inner: Plane) -> Proof:
    """Weigh the evidence for a mark; only pairs in which the scene came clear of it count."""
    first, second = (blurred(h, max(fit.smooth, 0.9)) for h in fit.halves)
    both = (first + second) / 2
    inside = inner > 0.5
    if not inside.any():
        return Proof(0.0, 0.0, 0.0, 0.0, 0.0, 0.0, 0.0)
    deepest = float(-both[inside].min())
    core = inside & (both < -0.5 * deepest)
    clear = (1 - np.clip(seen.carried(inner), 0, 1)) * (seen.weight > 6)
    count = float(clear.sum(0)[core].mean()) if core.any() else 0.0
    ring = cv2.dilate(inner, np.ones((21, 21), np.uint8)) > 0.5
    ring &= cv2.dilate(inner, np.ones((5, 5), np.uint8)) < 0.5
    usual = float(np.sqrt(np.mean(both[ring] ** 2))) if ring.any() else 1.0
    at_mark = np.log(np.maximum(seen.at_mark, 0) + _FLOOR)[:, core]
    scene = at_mark - fit.ratios[:, core]
    weight = (fit.weight * clear)[:, core]
    total = np.maximum(weight.sum(0), 1e-9)
    at_mark, scene = at_mark - (weight * at_mark).sum(0) / total, scene - (weight * scene).sum(0) / total
    spread_own, spread_scene = float((weight * at_mark * at_mark).sum()), float((weight * scene * scene).sum())
    joint = float((weight * at_mark * scene).sum())
    agree = correlation(first[inside], second[inside])
    return Proof(
        depth=deepest,
        agree=agree,
        stands_out=deepest / max(usual, 0.002),
        follows=float(np.sqrt(spread_own / max(spread_scene, 1e-9))),
        together=joint / max(np.sqrt(spread_own * spread_scene), 1e-9),
        lives=float(np.sqrt(spread_scene / max(float(weight.sum()), 1e-9))),
        clear=count,
        doubt=float(np.abs(np.exp(first[core]) - np.exp(second[core])).mean()) / 2 if core.any() else 0.0,
    )


@dataclass(frozen=True)
class VeilFit:
    """What a veil does: D = S - e (S - k) to broad light, and less of the fine detail gets through.

    Attributes
    ----------
    share : ndarray, float32, (rows, columns)
        `e`, 0 to 1: how far the light is drawn towards `k`; 0 outside the region asked for.
    level : float
        `k`, in codes above black.
    halves : tuple of two ndarray
        `e` from each half of the pairs, not smoothed.
    smooth : float
        Standard deviation of the smoothing, in samples.
    left : float
        Share of the disagreement between mark and scene that it leaves unexplained, 0 to 1.
    """

    share: Plane
    level: float
    halves: tuple[Plane, Plane]
    smooth: float
    left: float


def fit_veil(seen: PairViews, inner: Plane, rounds: int = 8, level: float | None = None) -> VeilFit | None:
    """Fit how far a mark draws the light towards a level of its own.

    Both sides of the fit carry errors alike, so slopes are taken as ratios of spreads (reduced major axis: Samuelson
    1942) and products about the mean of both.

    Parameters
    ----------
    seen : Sights
    inner : ndarray, float32, (rows, columns)
        1 where the mark may lie.
    rounds : int
    level : float
        `k`, when it is known; 0 is dust.

    Returns
    -------
    VeilFit or None
        None when the light changes too little to tell.
    """
    at_mark, late = seen.at_mark, (seen.half == 1)
    covered = np.clip(seen.carried(inner), 0, 1)
    sigma = max(1.5, 0.04 * max(inner.shape))
    share = np.zeros(inner.shape, np.float32)
    found, smooth = level or 0.0, 0.0
    halves = (share, share)
    scene = weight = seen.weight
    for n in range(rounds):
        there = np.minimum(seen.carried(share), 0.9)
        scene, weight = _undone(at_mark, seen.scene, seen.weight, there, covered, share, found, n == 0)
        sums = _moments(at_mark, scene, weight, late)
        if level is None:
            measured = _level(sums.sum(0), inner, sigma)
            if measured is None:
                return None
            found = measured
        halves = (_drawn(sums[0], found), _drawn(sums[1], found))
        smooth = _smoothest(*halves, inner) if n == rounds - 1 else 1.5
        share = np.clip(blurred(_drawn(sums.sum(0), found), smooth) * inner, 0, 0.95)
    core = share > 0.3 * share.max()
    at_mark, scene, weight = at_mark[:, core], scene[:, core], weight[:, core]
    before = weight * (at_mark - scene) ** 2
    after = weight * (at_mark - scene + share[core] * (scene - found)) ** 2
    return VeilFit(share, found, halves, smooth, float(after.sum() / max(before.sum(), 1e-9)))


@compiled(
    "(float32[:, :, ::1], float32[:, :, ::1], float32[:, :, ::1], float32[:, :, ::1], float32[:, :, ::1], float32[:, ::1], float64, boolean)"
)
def _undone(
    at_mark: Stack, seen: Stack, trust: Stack, there: Stack, covered: Stack, share: Plane, level: float, first: bool
) -> tuple[Stack, Stack]:
    """The scene with the veil undone that lay over it in the other frames, and how far to trust each sample of it.

    What the veil as it is known leaves unexplained counts little (M-estimator: Beaton and Tukey 1974).
    """
    count, height, width = at_mark.shape
    scene, weight = np.empty(at_mark.shape, np.float32), np.empty(at_mark.shape, np.float32)
    misses, ordered = np.empty(count, np.float32), np.empty(count, np.float32)
    one, lost = np.float32(1), np.float32(0.98 if first else 0.5)
    known = np.float32(level)
    for y in range(height):
        for x in range(width):
            for k in range(count):
                kept = one - there[k, y, x]
                value = (seen[k, y, x] - there[k, y, x] * known) / kept
                scene[k, y, x] = value
                weight[k, y, x] = trust[k, y, x] * kept * kept * (one - lost * covered[k, y, x])
                misses[k] = at_mark[k, y, x] - value + share[y, x] * (value - known)
            if not first:
                for k in range(count):
                    ordered[k] = abs(misses[k])
                scale = 2 * (np.float32(1.4826) * np.median(ordered) + 1)
                for k in range(count):
                    away = misses[k] / scale
                    less = one + away * away
                    weight[k, y, x] /= less * less
    return scene, weight


@compiled("(float32[:, :, ::1], float32[:, :, ::1], float32[:, :, ::1], boolean[::1])")
def _moments(at_mark: Stack, scene: Stack, weight: Stack, late: NDArray[np.bool_]) -> Stack:
    """Weighted sums over each half of the pairs, at each sample: (2, 6, rows, columns), float64.

    Of 1, the mark, the scene, their squares, and their product.
    """
    count, height, width = at_mark.shape
    sums = np.zeros((2, 6, height, width))
    for k in range(count):
        half = 1 if late[k] else 0
        for y in range(height):
            for x in range(width):
                w, a, s = float(weight[k, y, x]), float(at_mark[k, y, x]), float(scene[k, y, x])
                sums[half, 0, y, x] += w
                sums[half, 1, y, x] += w * a
                sums[half, 2, y, x] += w * s
                sums[half, 3, y, x] += w * a * a
                sums[half, 4, y, x] += w * s * s
                sums[half, 5, y, x] += w * a * s
    return sums


def _drawn(sums: Stack, level: float) -> Plane:
    """How far the light is drawn towards a level at each sample, from `_moments`."""
    mass, own, scene, own_own, scene_scene, both = sums
    # Products about the mean of both, less the level.
    product = (scene_scene - own_own) / 2 - level * (scene - own)
    power = (own_own + 2 * both + scene_scene) / 4 - level * (own + scene) + level * level * mass
    ratio = product / np.maximum(power, 1e-6)
    return np.asarray((ratio / (1 + ratio / 2)).astype(np.float32))


def _level(sums: Stack, inner: Plane, sigma: float) -> float | None:
    """The level towards which the light is drawn, from slopes and intercepts over the mark; see `_moments`."""
    if not (inner > 0.5).any():
        return None
    mass = blurred(sums[0], sigma) + 1e-9
    mean_own, mean_scene, own_own, scene_scene = (blurred(s, sigma) / mass for s in sums[1:5])
    spread_own = np.maximum(own_own - mean_own**2, 0)
    spread_scene = np.maximum(scene_scene - mean_scene**2, 0)
    slope = np.sqrt((spread_own + 0.5) / (spread_scene + 0.5))
    offset = mean_own - slope * mean_scene
    lost = 1 - slope
    counts = (inner > 0.5) & (lost > max(0.05, 0.4 * float(np.percentile(lost[inner > 0.5], 90)))) & (spread_scene > 4)
    if counts.sum() < 9:
        return None
    weigh = (mass * spread_scene)[counts]
    return float((weigh * lost[counts] * offset[counts]).sum() / (weigh * lost[counts] ** 2).sum())


_BANDS = (0.8, 1.6, 3.2, 6.4, 12.8)


def detail_through(seen: PairViews, fit: VeilFit, ring: Plane) -> tuple[float, float]:
    """How the veil's own light follows the picture: its gain `g` and the blur it takes it through.

    The fine bands of the picture lose more than the broad ones; how much more tells `g` and the blur. The same
    ratios just around the mark show what the comparison of two frames loses by itself.

    Returns
    -------
    gain : float
        0 to 0.95.
    blur : float
        Standard deviation, in samples.
    """
    if not fit.share.any():
        return 0.0, 0.0
    there = np.minimum(seen.carried(fit.share), 0.9)
    scene = (seen.scene - there * fit.level) / (1 - there)
    covered = there < 0.02
    core = fit.share > 0.5 * fit.share.max()
    passed = []
    for fine, broad in pairwise(_BANDS):
        ratios = []
        for area in (core, ring > 0.5):
            at_mark = np.stack([blurred(p, fine) - blurred(p, broad) for p in seen.at_mark])
            other = np.stack([blurred(p, fine) - blurred(p, broad) for p in scene])
            weight = seen.weight * covered * area
            ratios.append(np.sqrt((weight * at_mark * at_mark).sum() / max(float((weight * other * other).sum()), 1e-9)))
        passed.append(ratios[0] / max(ratios[1], 1e-3))
    mean_share = float(fit.share[core].mean())
    best = (np.inf, 0.0, 0.0)
    for width in (0.0, 1.5, 2.5, 4.0, 6.0, 8.5, 12.0, 17.0):
        through = [_through(fine, broad, width) for fine, broad in pairwise(_BANDS)]
        for gain in np.arange(0, 0.96, 0.05):
            a = mean_share / (1 - gain)
            if a > 0.97:
                break
            miss = sum((p - (1 - a + a * gain * t)) ** 2 for p, t in zip(passed, through, strict=True)) + 1e-5 * gain
            if miss < best[0]:
                best = (miss, float(gain), width)
    return best[1], best[2]


def _through(fine: float, broad: float, blur: float) -> float:
    """How much of a band of white light a Gaussian blur passes."""
    f = np.linspace(0.002, 0.5, 400)
    band = np.exp(-2 * (np.pi * f * fine) ** 2) - np.exp(-2 * (np.pi * f * broad) ** 2)
    # Pictures hold about equal power in each octave (Field 1987): 1/f in amplitude, over rings of frequency.
    power = band**2 / f
    return float(np.sqrt((power * np.exp(-4 * (np.pi * f * blur) ** 2)).sum() / power.sum()))
