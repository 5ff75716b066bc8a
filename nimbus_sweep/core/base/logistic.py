"""How sure a few features make something: a logistic model whose numbers are data, written by a tool that fits them."""

from __future__ import annotations

import json
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

# Deviations beyond which a feature says no more: what was not seen when the model was fitted.
_FARTHEST = 4.0
# Of the exponent, so that it can be taken.
_MOST = 40.0


@dataclass(frozen=True)
class Logistic:
    """A logistic model of features, and of their squares and products where it was fitted to those.

    Attributes
    ----------
    features : tuple of str
        What it is told, in order.
    bias : float
    weights : ndarray, float64, (terms,)
        Of each term, see `terms`, or of the features alone.
    mean, deviation : ndarray, float64, (features,)
        By which each feature is scaled.
    """

    features: tuple[str, ...]
    bias: float
    weights: NDArray[np.float64]
    mean: NDArray[np.float64]
    deviation: NDArray[np.float64]

    @classmethod
    def read(cls, path: Path, features: Sequence[str]) -> Logistic:
        """From a file.

        Raises
        ------
        ValueError
            When it was fitted to other features.
        """
        told: dict[str, Any] = json.loads(path.read_text())
        if told["features"] != list(features):
            raise ValueError(f"{path.name} was fitted to other features: fit it anew.")
        weights, mean, deviation = (np.asarray(told[k], np.float64) for k in ("weights", "mean", "deviation"))
        return cls(tuple(features), float(told["bias"]), weights, mean, deviation)

    @classmethod
    def blank(cls, features: Sequence[str]) -> Logistic:
        """One that says 0.5 of everything."""
        none = np.zeros(len(features))
        return cls(tuple(features), 0.0, np.zeros(terms(none).shape[-1]), none, none + 1)

    def write(self, path: Path, **facts: Any) -> None:
        """To a file, with what else is to be known of it."""
        numbers = {k: np.round(getattr(self, k), 4).tolist() for k in ("bias", "weights", "mean", "deviation")}
        path.write_text(json.dumps({**facts, "features": list(self.features), **numbers}, indent=1) + "\n")

    def sure(self, told: NDArray[np.float64] | Sequence[float]) -> NDArray[np.float64]:
        """How sure features make it, 0 to 1.

        Parameters
        ----------
        told : array_like, float, (..., features)

        Returns
        -------
        ndarray, float64, (...)
        """
        scaled = (np.asarray(told, np.float64) - self.mean) / self.deviation
        weighed = terms(scaled)[..., : len(self.weights)] @ self.weights
        return np.asarray(1 / (1 + np.exp(-np.clip(self.bias + weighed, -_MOST, _MOST))))


def terms(scaled: NDArray[np.float64]) -> NDArray[np.float64]:
    """What is weighed: the features, kept within what a model was fitted to, and the products of any two of them.

    Parameters
    ----------
    scaled : ndarray, float64, (..., features)

    Returns
    -------
    ndarray, float64, (..., features + features * (features + 1) / 2)
    """
    bounded = np.clip(scaled, -_FARTHEST, _FARTHEST)
    one, other = np.triu_indices(bounded.shape[-1])
    return np.concatenate([bounded, bounded[..., one] * bounded[..., other]], axis=-1)
