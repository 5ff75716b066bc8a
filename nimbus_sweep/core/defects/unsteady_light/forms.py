"""What of a frame is held to be steady, to move, or to flicker: for a picture of how the light of a shot is read."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass

import cv2
import numpy as np
from numpy.typing import NDArray

from ...evidence.light_record import LightRecord
from ...imaging.motion import Along, Plane
from .pairs import LAGS, measure

Where = NDArray[np.bool_]
_GRID = (27, 24)
# Small pixels a frame from which a place moves; log light from which it flickers in any case; trust, over that of the frame's
# middle place, below which nothing can be told.
_MOVES, _FLICKERS, _TRUSTED = 0.6, 0.02, 0.02


@dataclass(frozen=True)
class Forms:
    """The forms in a frame, each (rows, cols) of places over the picture; where none is, it is steady.

    Attributes
    ----------
    moving, flickering, untold : ndarray, bool
        What moves; whose light changes, along the motion; where neither can be told.
    """

    moving: Where
    flickering: Where
    untold: Where


class Steadied(LightRecord):
    """A light record with light divided out of it.

    Parameters
    ----------
    record : LightRecord
    steps : sequence of callable
        Each is given a frame's light and its place, and gives the light as it would be.
    """

    def __init__(self, record: LightRecord, steps: Sequence[Callable[[Plane, int], Plane]]) -> None:
        self.__dict__.update(record.__dict__)
        self._steps = steps

    def light(self, at: int) -> Plane:
        """Light of frame `first` + `at`: (height, width), float32, in 8-bit codes above black."""
        light = super().light(at)
        for step in self._steps:
            light = step(light, at)
        return light

    def between(self, first: int, stop: int) -> Steadied:
        """The same of frames `first` to `stop` - 1 alone; they lie in it."""
        shift = first - self.first

        def later(step: Callable[[Plane, int], Plane]) -> Callable[[Plane, int], Plane]:
            return lambda light, at: step(light, at + shift)

        return Steadied(super().between(first, stop), [later(s) for s in self._steps])


def forms(record: LightRecord, at: int, reach: int = LAGS[-1], grain: float = 0.0, along: Along = "both") -> Forms:
    """Tell the forms of a frame from those up to `reach` before and behind it.

    Parameters
    ----------
    record : LightRecord
    at : int
        Place of the frame.
    reach : int
        Frames on each side.
    grain : float
        Log light: smaller changes are grain; 0 for what is held to be grain in any case.
    along : str
        How the pictures of the shot are looked at for motion, as `look_for` gives it.
    """
    couples = [(at, at + step * lag) for lag in LAGS for step in (-1, 1) if lag <= reach and 0 <= at + step * lag < len(record)]
    if not couples:
        nowhere = np.zeros(_GRID, bool)
        return Forms(nowhere, nowhere, ~nowhere)
    low, high = min(at, *(j for _, j in couples)), max(at, *(j for _, j in couples)) + 1
    part = record.between(record.first + low, record.first + high)
    pairs = measure(part, reach, along, couples=[(i - low, j - low) for i, j in couples]).grouped(*_GRID)
    height, width = record.shape
    apart = np.abs(pairs.other - pairs.one).astype(np.float32)[:, None, None]
    away = np.linalg.norm(pairs.away * np.array([width / _GRID[1], height / _GRID[0]]), axis=-1) / apart
    mass = pairs.weight.sum(0)
    seen = mass > _TRUSTED * float(np.median(mass))
    least = np.maximum(mass, 1e-6)
    changes = cv2.medianBlur(((pairs.weight * np.abs(pairs.ratio)).sum(0) / least).astype(np.float32), 3)
    # Where motion is not followed ratios scatter within a place; light changes all of it alike.
    scatter = (pairs.weight * pairs.spread).sum(0) / least
    near = away[apart.ravel() == apart.min()]
    return Forms(seen & (near.max(0) > _MOVES), seen & (changes > max(grain, _FLICKERS) + scatter), ~seen)
