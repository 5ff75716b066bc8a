"""How sure candidates are specks, once all of a shot have been seen.

Each candidate was weighed by itself (`likelihood`). What the shot as a whole shows weighs, too: dirt comes at a steady rate, at no preferred
place, and leaves the places about it alone; leaves, water and the noise of a codec come again where they were, many at a time, and doubtful
ones among them. A logistic model weighs both; its numbers are fitted by `tools/fit_models.py` on drawn clips, half as many sound
ones among them, each scene judged by a model fitted without it.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from functools import cache
from pathlib import Path

import numpy as np
from numpy.typing import NDArray
from scipy.spatial import cKDTree
from scipy.special import pdtrc

from ...base.logistic import Logistic
from .appearance import APPEARANCE
from .blobs import LARGEST_PIXELS
from .likelihood import FOUND, SpeckEvidence
from .likeness import LOOKS
from .specks import SURE

Array = NDArray[np.float64]
FEATURES = (
    *("odds", "contrast", "misfit", "differ", "moves", "life", "area", "usable", "strength", "least", "wide", "beside", "flat", "found"),
    *("noise", "bright", "over_noise", "certain", "doubtful", "own", "again", "soon", "near", "marked", "frames"),
    *APPEARANCE,
)
# From which a candidate counts as certain, and as likely.
_CERTAIN, _LIKELY = 0.9, 0.5
# What is about a place, as a share of the picture's longer side, and in pixels at least; how many times that is near it; frames that are soon.
_ABOUT, _LEAST, _NEAR, _SOON = 0.02, 8.0, 5.0, 3.0
# Share of the picture from which a thing is larger than any speck the model was fitted on, and how sure it is told then at most.
_LARGE, _UNTOLD = 0.004, 0.45
# The same place: a share of the picture's longer side, and pixels at least; and what cannot well be chance.
_PLACE, _PLACE_LEAST, _CHANCE = 0.01, 4.0, 0.02
# Frames between the first and the last of one speck, at most.
_LASTS = 2
# Deviations that looks are told to.
_FARTHEST = 4.0
# What keeps logarithms from zero: candidates a frame, share of frames, share of the picture, codes.
_RATE, _SHARE, _PART, _CODES = 0.03, 0.02, 0.002, 0.3


@dataclass(frozen=True)
class Candidate:
    """What is kept of a candidate until the shot has been seen.

    Attributes
    ----------
    frame, y, x : int
        Where it lies, in samples of the picture that was looked at.
    bright : bool
    noise : float
        Standard deviation of the noise, in codes.
    marked : float
        Share of its frame that comes and goes, 0 to 1.
    evidence : SpeckEvidence
    sure : float
        By itself, 0 to 1.
    appearance : tuple of float
        See `appearance.APPEARANCE`.
    """

    frame: int
    y: int
    x: int
    bright: bool
    noise: float
    marked: float
    evidence: SpeckEvidence
    sure: float
    appearance: tuple[float, ...]


def in_shot(candidates: Sequence[Candidate], frames: int, size: tuple[int, int]) -> tuple[Array, Array]:
    """How sure each is, given all of a shot, and how it looks.

    Parameters
    ----------
    candidates : sequence of Candidate
    frames : int
        That were looked at.
    size : tuple of int
        Height and width of the picture as it was looked at.

    Returns
    -------
    sure : ndarray, float64, (candidates,)
        0 to 1.
    looks : ndarray, float64, (candidates, len(LOOKS))
        By which like is told from unlike, scaled as the model scales them.
    """
    if not candidates:
        return np.zeros(0), np.zeros((0, len(LOOKS)))
    told, model, columns = features(candidates, frames, size), _model(), [FEATURES.index(name) for name in LOOKS]
    looks = (told[:, columns] - model.mean[columns]) / model.deviation[columns]
    sure = model.sure(told)
    large = np.array([c.evidence.area for c in candidates]) > max(_LARGE * size[0] * size[1], LARGEST_PIXELS)
    doubted = large | come_again(candidates, sure, size)
    sure = np.where(doubted, np.minimum(sure, _UNTOLD), sure)
    return sure, np.asarray(np.clip(looks, -_FARTHEST, _FARTHEST))


def come_again(candidates: Sequence[Candidate], sure: Array, size: tuple[int, int]) -> NDArray[np.bool_]:
    """Which of the likely ones lie where others lie in other frames more often than by chance: the scene flashes there, dirt falls anywhere.

    Parameters
    ----------
    candidates : sequence of Candidate
    sure : ndarray, float64, (candidates,)
    size : tuple of int
        Height and width of the picture as it was looked at.

    Returns
    -------
    again : ndarray, bool, (candidates,)
    """
    again = np.zeros(len(candidates), bool)
    likely = np.flatnonzero(sure >= SURE)
    if len(likely) < 2:
        return again
    places, at = np.array([(c.y, c.x) for c in candidates], float)[likely], np.array([c.frame for c in candidates])[likely]
    about = place_size(size)
    others = np.bincount(pairs_apart(places, at, about).ravel(), minlength=len(likely))
    by_chance = (len(likely) - 1) * np.pi * about**2 / (size[0] * size[1])
    again[likely] = (others > 0) & (pdtrc(np.maximum(others, 1) - 1, by_chance) < _CHANCE)
    return again


def pairs_apart(places: Array, at: NDArray[np.int64], about: float) -> NDArray[np.int64]:
    """Which two lie within `about` pixels of each other in frames that no speck lasts over: (pairs, 2)."""
    pairs = cKDTree(places).query_pairs(about, output_type="ndarray")
    return np.asarray(pairs[np.abs(at[pairs[:, 0]] - at[pairs[:, 1]]) > _LASTS], np.int64)


def place_size(size: tuple[int, int]) -> float:
    """How near two things are, in pixels, that lie at the same place of a picture of some height and width."""
    return max(_PLACE_LEAST, _PLACE * max(size))


def features(candidates: Sequence[Candidate], frames: int, size: tuple[int, int]) -> Array:
    """What is told of each, in the order of `FEATURES`: (candidates, features)."""
    sure = np.clip([c.sure for c in candidates], 1e-6, 1 - 1e-6)
    at = np.array([c.frame for c in candidates])
    noise = np.array([c.noise for c in candidates])
    own = {name: np.array([getattr(c.evidence, name) for c in candidates], float) for name in FEATURES[1:14]}
    each = np.bincount(at - at.min())[at - at.min()]
    again, soon, near = _about(np.array([(c.y, c.x) for c in candidates], float), at, size)
    certain = float((sure > _CERTAIN).sum())
    lasting = len(set(at[sure > _LIKELY].tolist()))

    def root(name: str, most: float = 2.0) -> Array:
        return np.asarray(np.sqrt(np.clip(own[name], 0, most)))

    def alike(value: float) -> Array:
        return np.full(len(candidates), value)

    return np.column_stack(
        [
            np.log(sure / (1 - sure)),
            np.log(np.clip(own["contrast"], 3, 200)),
            root("misfit"),
            root("differ"),
            np.log(np.clip(own["moves"], 0.05, 30)),
            root("life", 4),
            np.log(np.clip(own["area"], 2, 5000)),
            own["usable"],
            np.clip(own["strength"], 0, 1),
            root("least"),
            root("wide"),
            root("beside", 1),
            root("flat"),
            np.clip(own["found"], 0, FOUND),
            np.log(noise + _CODES),
            np.array([float(c.bright) for c in candidates]),
            np.log(own["contrast"] / (noise + 0.5)),
            alike(np.log(certain / frames + _RATE)),
            alike(np.log((len(candidates) - certain) / frames + _RATE)),
            np.log1p(each) - np.log1p(len(candidates) / frames),
            np.log(again / frames + _SHARE),
            np.log1p(soon),
            np.log1p(near),
            np.log(np.array([c.marked for c in candidates]) + _PART),
            alike(lasting / frames),
            np.array([c.appearance for c in candidates]),
        ]
    )


def _about(places: Array, at: NDArray[np.int64], size: tuple[int, int]) -> tuple[Array, Array, Array]:
    """How many others lie about each place in other frames, in frames soon before or after, and near it in its own."""
    about, time = places / max(_LEAST, _ABOUT * max(size)), at.astype(np.float64)

    def within(scale: float, when: Array) -> Array:
        points = np.column_stack([about / scale, when])
        return np.asarray(cKDTree(points).query_ball_point(points, 1.0, p=np.inf, return_length=True), float)

    here = within(1.0, 10 * time)
    return within(1.0, 0 * time) - here, within(1.0, time / _SOON) - here, within(_NEAR, 10 * time)


@cache
def _model() -> Logistic:
    return Logistic.read(MODEL, FEATURES)


# Written by `tools/fit_models.py`.
MODEL = Path(__file__).with_name("speck_model.json")
