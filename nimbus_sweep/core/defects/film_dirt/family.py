"""How sure what was found in a shot is dirt at all, rather than something of the scene that comes and goes.

Dirt comes at a steady rate, anywhere, and leaves little doubt; rain, leaves, stars that a moving picture samples anew and lamps that change
come unevenly over time, at the same places again, and with many that are doubtful. A logistic model weighs it; its numbers are fitted by
`tools/fit_models.py` on drawn clips with dirt and without, each scene judged by a model fitted without it.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from functools import cache
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from ...base.logistic import Logistic
from .shot_odds import Candidate, pairs_apart, place_size
from .specks import SURE

Array = NDArray[np.float64]
FEATURES = ("certain", "doubtful", "again", "uneven", "contrast", "area")
# From which a candidate counts as certain, and as doubtful.
_CERTAIN, _DOUBTFUL = 0.9, 0.1
# In a frame, from which there are more than in any clip of the fit; and how sure they are told then at most.
_MANY, _UNTOLD = 30.0, 0.45
# What keeps logarithms from nothing: candidates a frame, pairs and counts, codes, pixels.
_RATE, _HALF, _CODE, _PIXELS = 0.03, 0.5, 1.0, 2.0


@dataclass(frozen=True)
class Family:
    """What the likely ones among a shot's candidates have in common.

    Attributes
    ----------
    certain, doubtful : float
        A frame.
    again : float
        How many times as often two of different frames lie at one place as they would by chance.
    uneven : float
        Variance of their number a frame, over its mean: 1 where each comes for itself.
    contrast : float
        The middle one's, in 8-bit codes.
    area : float
        The middle one's, in pixels.
    """

    certain: float
    doubtful: float
    again: float
    uneven: float
    contrast: float
    area: float

    @property
    def features(self) -> Array:
        """In the order of `FEATURES`: (features,)."""
        return np.log(
            [
                self.certain + _RATE,
                self.doubtful + _RATE,
                self.again,
                self.uneven,
                self.contrast + _CODE,
                self.area + _PIXELS,
            ]
        )

    @property
    def sure(self) -> float:
        """That it is dirt, 0 to 1; of more in a frame than any dirt the model was fitted on it is not told for certain."""
        told = float(_model().sure(self.features))
        return min(told, _UNTOLD) if self.crowds else told

    @property
    def crowds(self) -> bool:
        """Whether there are so many that it may be snow or rain."""
        return self.certain + self.doubtful > _MANY


def family_of(candidates: Sequence[Candidate], sure: Array, frames: int, size: tuple[int, int]) -> Family | None:
    """What the likely candidates of a shot have in common; None where there is none.

    Parameters
    ----------
    candidates : sequence of Candidate
    sure : ndarray, float64, (candidates,)
        That each is a speck, 0 to 1.
    frames : int
        That were looked at.
    size : tuple of int
        Height and width of the picture as it was looked at.
    """
    likely = [c for c, p in zip(candidates, sure, strict=True) if p >= SURE]
    if not likely:
        return None
    places, at = np.array([(c.y, c.x) for c in likely], float), np.array([c.frame for c in likely])
    about = place_size(size)
    apart = len(pairs_apart(places, at, about))
    by_chance = len(likely) * (len(likely) - 1) / 2 * np.pi * about**2 / (size[0] * size[1])
    each = np.bincount(at - at.min(), minlength=frames)
    return Family(
        certain=float((sure > _CERTAIN).sum()) / frames,
        doubtful=float(((sure > _DOUBTFUL) & (sure <= _CERTAIN)).sum()) / frames,
        again=(apart + _HALF) / (by_chance + _HALF),
        uneven=float(each.var() + _HALF) / float(each.mean() + _HALF),
        contrast=float(np.median([c.evidence.contrast for c in likely])),
        area=float(np.median([c.evidence.area for c in likely])),
    )


@cache
def _model() -> Logistic:
    return Logistic.read(MODEL, FEATURES)


# Written by `tools/fit_models.py`.
MODEL = Path(__file__).with_name("family_model.json")
