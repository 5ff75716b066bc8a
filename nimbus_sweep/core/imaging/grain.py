"""Grain: how strong it is at each brightness and how far it hangs together, and giving it to what has none.

Both are read off the flattest windows of each brightness once the broad part of the picture is taken away: strength
from what is left, and how far it hangs together from the correlation of neighbours there, against white noise blurred
by a known width.
"""

from __future__ import annotations

from dataclasses import dataclass
from functools import lru_cache, partial
from itertools import repeat
from typing import Any

import cv2
import numpy as np
from numpy.typing import NDArray

from ..base.parallel import parallel_map

# Float32 throughout; arithmetic with plain numbers hides that from the type checker.
Plane = NDArray[Any]

_BROAD = 2.5
_LEVELS = 8
_TOP = 255.0
# Windows of a brightness that it takes to be told.
_ENOUGH = 40


def flattest(plane: Plane, window: int) -> float:
    """Standard deviation of the noise on the flattest windows of a picture.

    Parameters
    ----------
    plane : ndarray, float32, (height, width)
    window : int
        Side of a window, in pixels.

    Returns
    -------
    float
        In the values of the picture.

    References
    ----------
    Immerkaer, "Fast Noise Variance Estimation", Computer Vision and Image Understanding 64 (2), 1996.
    """
    kernel = np.array([[1, -2, 1], [-2, 4, -2], [1, -2, 1]], np.float32)
    rough = cv2.blur(np.abs(cv2.filter2D(plane, -1, kernel))[1:-1, 1:-1], (window, window))[:: window // 2, :: window // 2]
    return float(np.percentile(rough, 10) * np.sqrt(np.pi / 2) / 6)


@dataclass(frozen=True)
class Grain:
    """The grain of one component of a shot.

    Attributes
    ----------
    levels : ndarray, float64, (n,)
        Brightness, in 8-bit codes above zero.
    sigma : ndarray, float64, (n,)
        Standard deviation there, in codes.
    width : float
        Standard deviation, in samples, of the blur that makes white noise hang together as this grain does.
    """

    levels: NDArray[np.float64]
    sigma: NDArray[np.float64]
    width: float

    def at_most(self, sigma: float) -> Grain:
        """The same, no stronger than `sigma` on the whole: texture is easily taken for grain."""
        own = float(np.median(self.sigma))
        return self if own <= sigma or own <= 0 else Grain(self.levels, self.sigma * (sigma / own), self.width)

    def capped(self, sigma: float) -> Grain:
        """The same, at no brightness stronger than `sigma`: edges of a few bright or dark things are easily taken for grain."""
        return Grain(self.levels, np.minimum(self.sigma, sigma), self.width)

    def at(self, light: Plane) -> Plane:
        """Its standard deviation at each sample of a picture, in codes."""
        return np.interp(light, self.levels, self.sigma).astype(np.float32)

    def fresh(self, light: Plane, seed: tuple[int, ...]) -> Plane:
        """New grain for a picture: the same for the same seed."""
        return self.even(light.shape, seed) * self.at(light)

    def even(self, shape: tuple[int, ...], seed: tuple[int, ...]) -> Plane:
        """New grain of a deviation of 1 that hangs together as this does; a seed may hold places that lie outside the picture."""
        noise = np.random.default_rng([int(n) % (1 << 32) for n in seed]).standard_normal(shape, np.float32)
        if self.width > 0.2:
            noise = cv2.GaussianBlur(noise, (0, 0), self.width, borderType=cv2.BORDER_REFLECT_101)
            noise /= max(float(noise.std()), 1e-6)
        return noise


def measure(pictures: list[Plane], where: list[Plane] | None = None) -> Grain:
    """Measure the grain of some frames of a component.

    Parameters
    ----------
    pictures : list of ndarray, float32, (height, width)
        In 8-bit codes above zero.
    where : list of ndarray, float32, (height, width)
        For each of them the part that is measured, 0 to 1; all of it when None.

    Returns
    -------
    Grain
    """
    edges = np.linspace(0, _TOP, _LEVELS + 1)
    found: list[list[float]] = [[] for _ in range(_LEVELS)]
    together: list[float] = []
    parts = zip(pictures, where if where is not None else repeat(None))
    for powers, correlated in parallel_map(partial(_measured, edges), parts):
        for n, power in powers.items():
            found[n].append(power)
        together += correlated
    middles = (edges[:-1] + edges[1:]) / 2
    known = [n for n in range(_LEVELS) if found[n]]
    if not known:
        return Grain(middles, np.zeros(_LEVELS), 0.0)
    widths, ratios, seen = _table()
    at = float(np.interp(float(np.median(together)), ratios, np.arange(len(widths))))
    sigma = np.sqrt(np.interp(middles, middles[known], [float(np.median(found[n])) for n in known]))
    # The flattest fifth of the windows is a little calmer than the grain is.
    return Grain(middles, 1.08 * sigma / np.interp(at, np.arange(len(widths)), seen), float(np.interp(at, np.arange(len(widths)), widths)))


def _measured(edges: NDArray[np.float64], of: tuple[Plane, Plane | None]) -> tuple[dict[int, float], list[float]]:
    """Power of the grain of a part of one picture by level, and how far neighbours go together, if that can be told."""
    picture, where = of
    if min(picture.shape) < 24:
        return {}, []
    part = np.s_[6:-6:4, 6:-6:4]
    seen = None if where is None else cv2.erode(where, np.ones((11, 11), np.uint8))[part] > 0.9
    if seen is not None and seen.sum() < _ENOUGH:
        return {}, []
    fine = picture - cv2.GaussianBlur(picture, (0, 0), _BROAD, borderType=cv2.BORDER_REFLECT_101)
    power = cv2.blur(fine * fine, (11, 11))[part]
    along = (cv2.blur(fine[:, 1:] * fine[:, :-1], (11, 11))[part], cv2.blur(fine[1:] * fine[:-1], (11, 11))[part])
    level = cv2.blur(np.abs(picture), (11, 11))[part]
    powers = {}
    for n in range(_LEVELS):
        own = (level >= edges[n]) & (level < edges[n + 1])
        here = power[own if seen is None else own & seen]
        if here.size >= _ENOUGH:
            powers[n] = float(np.percentile(here, 20))
    flat = power <= np.percentile(power if seen is None else power[seen], 20)
    flat = flat if seen is None else flat & seen
    rows, cols = min(along[0].shape[0], along[1].shape[0]), min(along[0].shape[1], along[1].shape[1])
    flat = flat[:rows, :cols]
    both = (along[0][:rows, :cols] + along[1][:rows, :cols]) / 2
    return powers, [float(both[flat].sum() / max(float(power[:rows, :cols][flat].sum()), 1e-9))]


@lru_cache(maxsize=1)
def _table() -> tuple[NDArray[np.float64], NDArray[np.float64], NDArray[np.float64]]:
    """For blurred white noise: the blur's width, how far neighbours go together once its broad part is gone, what is left."""
    reach = np.arange(-16, 17)
    broad = np.exp(-(reach**2) / (2 * _BROAD**2))
    broad /= broad.sum()
    rows = []
    for width in np.arange(0, 2.01, 0.1):
        one = np.exp(-(reach**2) / (2 * width * width)) if width else (reach == 0).astype(float)
        one /= one.sum()
        spot = np.outer(one, one)
        left = spot - cv2.sepFilter2D(spot, -1, broad, broad, borderType=cv2.BORDER_CONSTANT)
        power = (left * left).sum()
        rows.append((width, (left[:, 1:] * left[:, :-1]).sum() / power, np.sqrt(power / (spot * spot).sum())))
    widths, ratios, seen = np.array(rows).T
    return widths, ratios, seen


def calmed(light: Plane, raised: Plane, strength: Plane) -> Plane:
    """Take back grain that was raised, without touching the picture where it stands out of the grain.

    Parameters
    ----------
    light : ndarray, float32, (height, width)
        A picture whose grain was made stronger.
    raised : ndarray, float32, (height, width)
        How many times stronger, 1 and above.
    strength : ndarray, float32, (height, width)
        The grain's standard deviation as it should be, in the unit of `light`.

    Returns
    -------
    ndarray, float32, (height, width)
        Fine detail shrunk as a Wiener filter would, but never below what leaves the grain at its strength.
    """
    broad = cv2.GaussianBlur(light, (0, 0), 1.2, borderType=cv2.BORDER_REFLECT_101)
    fine = light - broad
    # Of white noise this band holds most; the rest is too broad to be seen as grain.
    noise = 0.83 * (strength * raised) ** 2
    power = cv2.blur(fine * fine, (5, 5), borderType=cv2.BORDER_REFLECT_101)
    kept = np.clip((power - noise) / np.maximum(power, 1e-6), 0, 1)
    return broad + fine * np.maximum(kept, 1 / np.maximum(raised, 1))
