"""Stuck pixels where the scene moves on: what departs from every part of the scene that passes.

Frames are held against frames in which the camera has moved on (`evidence.moved_pairs`). What a place tells is compared with what the same
point of the scene is elsewhere; of sound places nothing is left over time, of a bad site what it adds or holds. How sure it is that
something that is left is a site is told by a logistic model of a few features; its numbers are fitted by `tools/fit_models.py`
on drawn clips, each scene judged by a model fitted without it.
"""

from __future__ import annotations

from dataclasses import dataclass
from functools import cache
from pathlib import Path

import cv2
import numpy as np
from numpy.typing import NDArray

from ...base.logistic import Logistic
from ...evidence.moved_pairs import MovedPairs

Plane = NDArray[np.float32]
# Differences, in codes, beyond which one frame counts no more: the motion was missed there.
_MOST = 40.0
# What a score is held against: codes, times what is left around, and times the spread over frames; the width of around, in pixels.
_FLOOR, _AROUND, _SPREAD, _WIDTH = 0.7, 2.0, 0.3, 31
# Weight that has to bear a place, and the score from which one is looked at.
_BORNE, _LOOKED_AT = 0.3, 1.2
# Pixels about a candidate whose life is measured, and that tell how sharp it is.
_NEAR, _SHARP = 3, 4
# Pixels about it by which is told whether the scene passes there.
_PASSES = 10
# Weight from which a pair says whether the scene passes.
_TRUSTED = 0.02
# What the features keep from zero, in codes.
_LEAST = 0.2
FEATURES = ("score", "halves", "departure", "rim", "point", "life", "borne", "spread", "passing", "moving")


@dataclass(frozen=True)
class StandingSite:
    """Something small that keeps its place while the scene moves on.

    Attributes
    ----------
    x, y : int
        Pixel of the frame.
    features : tuple of float
        In the order of `FEATURES`: logarithm of the score; how far both halves of the evidence agree, -1 to 1; logarithms of the
        departure, of its middle over its rim, of its peak over its middle, of the change of light there over that around, of the
        weight that bears it, and of its spread over frames against it; logarithms of how much better the moved frames tell what is about
        it than those that were not moved, and of how much of the picture moves.
    sure : float
        How sure it is a site, 0 to 1.
    """

    x: int
    y: int
    features: tuple[float, ...]
    sure: float


@dataclass(frozen=True)
class Standing:
    """What stands at each place while the scene moves on, each (rows, columns) float32, at the size pairs are looked at.

    Attributes
    ----------
    depart : in 8-bit codes
    halves : the same of each half of the evidence
    spread : over frames, as a standard deviation
    weight : that bears it; 0 where nothing can be told
    score : how far it stands out of what is left around
    """

    depart: Plane
    halves: tuple[Plane, Plane]
    spread: Plane
    weight: Plane
    score: Plane

    @classmethod
    def of(cls, seen: MovedPairs) -> Standing:
        """Of a shot."""
        shape = seen.scene.shape[1:]
        sums, squares, weights = np.zeros((2, *shape), np.float32), np.zeros(shape, np.float32), np.zeros((2, *shape), np.float32)
        for k, half in enumerate(seen.half):
            left = np.clip(seen.light[int(seen.frame[k])] - seen.scene[k].astype(np.float32), -_MOST, _MOST)
            weight = seen.weight[k].astype(np.float32)
            borne = weight * left
            sums[half] += borne
            squares += borne * left
            weights[half] += weight
        weight = weights.sum(0)
        least = np.float32(1e-6)
        depart = sums.sum(0) / np.maximum(weight, least)
        spread = np.sqrt(np.maximum(squares / np.maximum(weight, least) - depart * depart, 0))
        around = cv2.blur(np.abs(depart), (_WIDTH, _WIDTH))
        score = np.abs(depart) / (_FLOOR + _AROUND * around + _SPREAD * spread)
        score[weight < _BORNE] = 0
        halves = sums / np.maximum(weights, least)
        return cls(depart, (halves[0], halves[1]), spread, weight, score.astype(np.float32))


def standing_sites(seen: MovedPairs, model: Logistic | None = None) -> list[StandingSite]:
    """What may be a site, surest first.

    Parameters
    ----------
    seen : MovedPairs
        Of the shot.
    model : Logistic
        Of how sure it is; the one that was fitted when None.
    """
    stands = Standing.of(seen)
    peaks = (stands.score > _LOOKED_AT) & (stands.score >= cv2.dilate(stands.score, np.ones((5, 5), np.uint8)) - 1e-6)
    # At the picture's edge the lens, the codec and the way of the scene tell of nothing that lies beyond.
    peaks[[0, -1]], peaks[:, [0, -1]] = False, False
    middle = seen.factor // 2
    sites, model = [], model or _model()
    for row, col in np.argwhere(peaks).tolist():
        told = _features(seen, stands, row, col)
        sites.append(StandingSite(seen.factor * col + middle, seen.factor * row + middle, told, float(model.sure(told))))
    return sorted(sites, key=lambda s: -s.sure)


def _features(seen: MovedPairs, stands: Standing, row: int, col: int) -> tuple[float, ...]:
    peak = abs(float(stands.depart[row, col]))
    one, other = (float(h[row, col]) for h in stands.halves)
    agree = min(abs(one), abs(other)) * np.sign(one * other) / (max(abs(one), abs(other)) + 0.3)
    top, left = max(0, row - _SHARP), max(0, col - _SHARP)
    about = np.abs(stands.depart[top : row + _SHARP + 1, left : col + _SHARP + 1])
    rim = np.ones(about.shape, bool)
    rim[max(0, row - 2 - top) : row + 3 - top, max(0, col - 2 - left) : col + 3 - left] = False
    core = float(about[max(0, row - 1 - top) : row + 2 - top, max(0, col - 1 - left) : col + 2 - left].mean())
    near = np.s_[max(0, row - _NEAR) : row + _NEAR + 1, max(0, col - _NEAR) : col + _NEAR + 1]
    shown = np.stack([seen.light[int(n)][near] for n in seen.frame])
    life = float(shown.std(0).mean())
    here = float(shown[:, row - near[0].start, col - near[1].start].std())
    weight, spread = float(stands.weight[row, col]), float(stands.spread[row, col])
    unmoved, moved = _passing(seen, row, col)
    told = (
        np.log(stands.score[row, col]),
        agree,
        np.log(peak + 0.1),
        np.log((core + _LEAST) / (float(np.percentile(about[rim], 80)) + _LEAST)),
        np.log((peak + _LEAST) / (core + _LEAST)),
        np.log((here + 0.3) / (life + 0.3)),
        np.log(weight + 0.1),
        np.log((spread + 0.3) / (peak + 0.3)),
        np.log((unmoved + 0.5) / (moved + 0.5)),
        np.log(seen.moving + 0.03),
    )
    return tuple(float(v) for v in told)


def _passing(seen: MovedPairs, row: int, col: int) -> tuple[float, float]:
    """By how much a frame differs about a place from the other one of a pair, in codes: as that is, and moved onto it."""
    part = np.s_[max(0, row - _PASSES) : row + _PASSES + 1, max(0, col - _PASSES) : col + _PASSES + 1]
    ring = np.ones(seen.scene[0][part].shape, bool)
    ring[max(0, row - 2 - part[0].start) : row + 3 - part[0].start, max(0, col - 2 - part[1].start) : col + 3 - part[1].start] = False
    load = unmoved = moved = 0.0
    for k in np.flatnonzero(seen.weight[:, row, col] > _TRUSTED):
        here = seen.light[int(seen.frame[k])][part][ring]
        trust = float(seen.weight[k, row, col])
        load += trust
        unmoved += trust * float(np.abs(here - seen.light[int(seen.frame[k ^ 1])][part][ring]).mean())
        moved += trust * float(np.abs(here - seen.scene[k][part][ring]).mean())
    return unmoved / max(load, 1e-6), moved / max(load, 1e-6)


@cache
def _model() -> Logistic:
    return Logistic.read(MODEL, FEATURES)


# Written by `tools/fit_models.py`.
MODEL = Path(__file__).with_name("standing_model.json")
