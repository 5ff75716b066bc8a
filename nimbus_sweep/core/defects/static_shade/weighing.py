"""How sure it is that a loss of light is a mark's and not the scene's, once it has been measured.

Many things speak for a mark: both halves of the evidence agree, it stands out of what is about it, the scene is seen to come clear of it and
to shine through. A logistic model weighs them; its numbers are fitted by `tools/fit_models.py` on drawn clips, each scene judged by a
model fitted without it.
"""

from __future__ import annotations

from functools import cache
from pathlib import Path

import numpy as np

from ...base.logistic import Logistic
from .candidates import Candidate
from .fit import Proof
from .promise import FEATURES as TOLD_BEFORE
from .sights import PairViews

FEATURES = (
    *("depth", "agree", "stands_out", "follows", "together", "lives", "shines", "clear", "far", "passing", "moved", "pairs", "edge"),
    *("moving", "same_depth"),
    *(f"whole_{name}" for name in TOLD_BEFORE),
)
# Spread of the light of a scene, as a logarithm, from which it is seen whether it shines through.
_PLAIN = 0.06


def features(proof: Proof, seen: PairViews, c: Candidate, needed: float, edge: bool, moving: float) -> tuple[float, ...]:
    """What speaks for a mark, in the order of `FEATURES`.

    Parameters
    ----------
    proof : Proof
    seen : PairViews
    c : Candidate
        With what was told of it before.
    needed : float
        How far the scene has to move to come clear of it, in pixels.
    edge : bool
        Whether it reaches the edge of the picture.
    moving : float
        How much of the picture moves, 0 to 1.
    """
    depth, depth_before = (np.log(deep + 0.01) for deep in (max(proof.depth, 0), np.exp(c.told[TOLD_BEFORE.index("depth")])))
    told = (
        depth,
        proof.agree,
        np.log(max(proof.stands_out, 0) + 0.1),
        -abs(np.log(np.clip(proof.follows, 0.05, 8))),
        proof.together,
        np.log(proof.lives + 0.01),
        proof.together * min(1.0, proof.lives / _PLAIN),
        np.log(proof.clear + 0.3),
        np.log(min(seen.far / needed, 5) + 0.05),
        np.log(min(seen.passing, 5) + 0.1),
        np.log(min(seen.far, 60) + 1),
        np.log(len(seen)),
        float(edge),
        moving,
        abs(depth - depth_before),
        *c.told,
    )
    return tuple(float(v) for v in told)


def sureness(told: tuple[float, ...]) -> float:
    """How sure it is a mark, 0 to 1."""
    return float(_model().sure(told))


@cache
def _model() -> Logistic:
    return Logistic.read(MODEL, FEATURES)


# Written by `tools/fit_models.py`.
MODEL = Path(__file__).with_name("loss_model.json")
