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

from ...imaging.motion import Plane
from ...imaging.stack_statistics import median, robust
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
    """

    depth: float
    agree: float
    stands_out: float
    follows: float
    together: float
    lives: float
    clear: float


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
    at_mark = seen.at_mark
    covered = np.clip(seen.carried(inner), 0, 1)
    sigma = max(1.5, 0.04 * max(inner.shape))
    share = np.zeros(inner.shape, np.float32)
    found, smooth = level or 0.0, 0.0
    halves = (share, share)
    left = 1.0
    for n in range(rounds):
        there = np.minimum(seen.carried(share), 0.9)
        scene = (seen.scene - there * found) / (1 - there)
        weight = seen.weight * (1 - there) ** 2 * (1 - (0.5 if n else 0.98) * covered)
        if n:
            miss = at_mark - scene + share * (scene - found)
            scale = 1.4826 * median(np.abs(miss)) + 1
            weight = weight / (1 + (miss / (2 * scale)) ** 2) ** 2
        if level is None:
            measured = _level(at_mark, scene, weight, inner, sigma)
            if measured is None:
                return None
            found = measured
        first, second = (_drawn(at_mark[h], scene[h], weight[h], found) for h in (seen.half == 0, seen.half == 1))
        halves = (first, second)
        smooth = _smoothest(first, second, inner) if n == rounds - 1 else 1.5
        share = np.clip(blurred(_drawn(at_mark, scene, weight, found), smooth) * inner, 0, 0.95)
        before = weight * (at_mark - scene) ** 2
        after = weight * (at_mark - scene + share * (scene - found)) ** 2
        core = share > 0.3 * share.max()
        left = float(after[:, core].sum() / max(before[:, core].sum(), 1e-9))
    return VeilFit(share, found, halves, smooth, left)


def _drawn(at_mark: Stack, scene: Stack, weight: Stack, level: float) -> Plane:
    middle = (at_mark + scene) / 2 - level
    ratio = (weight * (scene - at_mark) * middle).sum(0) / np.maximum((weight * middle * middle).sum(0), 1e-6)
    return np.asarray((ratio / (1 + ratio / 2)).astype(np.float32))


def _level(at_mark: Stack, scene: Stack, weight: Stack, inner: Plane, sigma: float) -> float | None:
    """The level towards which the light is drawn, from slopes and intercepts over the mark."""
    if not (inner > 0.5).any():
        return None
    mass = blurred(weight.sum(0), sigma) + 1e-9

    def pooled(values: Stack) -> Plane:
        return blurred((weight * values).sum(0), sigma) / mass

    mean_own, mean_scene = pooled(at_mark), pooled(scene)
    spread_own = np.maximum(pooled(at_mark * at_mark) - mean_own**2, 0)
    spread_scene = np.maximum(pooled(scene * scene) - mean_scene**2, 0)
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
