"""Specks judged by their like: what the user says of a few raises or lowers others of the shot that look the same.

How sure the shot's model is of each is taken as the mean of a Gaussian process over their looks, and what was said of a few as seen: the
posterior mean by the Laplace approximation (Rasmussen and Williams 2006, *Gaussian Processes for Machine Learning*, algorithms 3.1 and 3.2).
"""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray
from scipy.spatial.distance import cdist

Array = NDArray[np.float64]
# Features of `shot_odds` that tell how a candidate looks.
LOOKS = ("contrast", "area", "bright", "misfit", "differ", "flat", "wide")
# Variance of the process, in squared log odds, and how far it reaches, in deviations of the looks; chosen on drawn clips, see docs/figures.md.
_VARIANCE, _REACH = 4.0, 1.0
# Log odds are told no further than this.
_MOST = 14.0
_ROUNDS, _SETTLED = 50, 1e-6


def judged_alike(sure: Array, looks: Array, rows: NDArray[np.int64], right: NDArray[np.bool_]) -> Array:
    """How sure each is, given what was said of some.

    Parameters
    ----------
    sure : ndarray, float64, (candidates,)
        Before, 0 to 1.
    looks : ndarray, (candidates, features)
        Scaled to about one deviation.
    rows : ndarray, int64, (said,)
        The candidates of which something was said.
    right : ndarray, bool, (said,)
        Whether each of them is a speck.

    Returns
    -------
    ndarray, float64, (candidates,)
        0 to 1.
    """
    if not len(rows):
        return sure
    told = np.clip(sure, 1e-6, 1 - 1e-6)
    odds = np.log(told / (1 - told))
    near = _kernel(looks, looks[rows])
    raised = odds + near @ _pull(odds[rows], near[rows], right.astype(np.float64))
    return np.asarray(1 / (1 + np.exp(-np.clip(raised, -_MOST, _MOST))))


def _kernel(one: Array, other: Array) -> Array:
    return np.asarray(_VARIANCE * np.exp(-cdist(one, other, "sqeuclidean") / (2 * _REACH**2)))


def _pull(prior: Array, near: Array, right: Array) -> Array:
    """The weights of what was said: Newton's method for the mode of the posterior."""
    odds, pull = prior.copy(), np.zeros(len(prior))
    identity: NDArray[Any] = np.eye(len(prior))
    for _ in range(_ROUNDS):
        sure = 1 / (1 + np.exp(-np.clip(odds, -_MOST, _MOST)))
        root = np.sqrt(sure * (1 - sure))
        aim = root**2 * (odds - prior) + right - sure
        pull = aim - root * np.linalg.solve(identity + root[:, None] * near * root, root * (near @ aim))
        odds, before = prior + near @ pull, odds
        if np.abs(odds - before).max() < _SETTLED:
            break
    return pull
