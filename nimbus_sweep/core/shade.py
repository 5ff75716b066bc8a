"""Static shade as a model of light: what a mark on the sensor or the lens does to the picture, and its undoing.

``D = S (1 - a) + a (g blur(S) + c)``: of the light `S` the share `a` is lost; a dirty lens lays over it a blurred
copy of the picture, `g` times as bright, and light of its own, `c`. Dust has neither.
"""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Any

import cv2
import numpy as np
from numpy.typing import NDArray

from .frames import Colour, Component, Samples

# Float32 throughout; arithmetic with plain numbers hides that from the type checker.
Plane = NDArray[Any]
# A sample that keeps less than this of its light is not brought back.
LEAST_KEPT = 0.1
_ROUNDS = 12


def zero_of(component: Component, colour: Colour) -> float:
    """The sample value of no light, or of no colour: 16 of 255 in limited range, the middle for colour differences."""
    if component.is_chroma:
        return float((1 << component.bits >> 1) << component.shift)
    if component.name == "Y" and not colour.full_range and not component.floating:
        return float((16 << component.bits >> 8) << component.shift)
    return 0.0


def is_logarithmic(colour: Colour) -> bool:
    """Whether samples are logarithms of light, as in a film scan's density."""
    return colour.transfer == 9


# Density from black to white of a logarithmic film scan (common practice, no source).
_DENSITY = 2.0


def light_of(samples: Samples, component: Component, colour: Colour) -> Plane:
    """Samples as light, or colour, in 8-bit codes above their zero: what a loss of light multiplies."""
    value = (samples.astype(np.float32) - np.float32(zero_of(component, colour))) / np.float32(component.code)
    if is_logarithmic(colour) and not component.is_chroma:
        value = 255 * 10 ** ((value - 255) * np.float32(_DENSITY / 255))
    return value


def samples_of(light: Plane, component: Component, colour: Colour, dtype: np.dtype[Any]) -> Samples:
    """The inverse of `light_of`: the nearest samples that can be held."""
    value = light
    if is_logarithmic(colour) and not component.is_chroma:
        value = 255 + np.log10(np.maximum(light, 1e-3) / 255) * np.float32(255 / _DENSITY)
    return component.samples(value.astype(np.float64) * component.code + zero_of(component, colour), dtype)


@dataclass(frozen=True)
class Veil:
    """The light a mark lays over the picture.

    Attributes
    ----------
    gain : float
        `g`, 0 to below 1.
    blur : float
        Standard deviation in pixels; 0 for none.
    level : float
        `c` in 8-bit codes above black.
    tint : tuple of float
        The same for each component of the picture, about its zero; empty for a grey veil.
    """

    gain: float = 0.0
    blur: float = 0.0
    level: float = 0.0
    tint: tuple[float, ...] = ()

    def of(self, index: int, component: Component) -> Veil:
        """What it lays over one component."""
        if index < len(self.tint):
            return replace(self, level=self.tint[index])
        return replace(self, level=0.0) if component.is_chroma else self


def undone(light: Plane, share: Plane, veil: Veil, pixels: float = 1.0, top: float = np.inf) -> Plane:
    """The picture as it was before a mark.

    Parameters
    ----------
    light : ndarray, float32, (height, width)
        `D`, above black; colour differences about their zero.
    share : ndarray, float32, (height, width)
        `a`, 0 to 1.
    veil : Veil
        With its level in the values of `light`.
    pixels : float
        Pixels to a sample: the blur is counted in pixels.
    top : float
        Largest value the picture can have; keeps the rounds within bounds.

    Returns
    -------
    ndarray, float32, (height, width)
    """
    kept = np.maximum(1 - share, LEAST_KEPT)
    if not veil.gain and not veil.level:
        return light / kept
    bare = light - share * veil.level
    if not veil.blur or not veil.gain:
        return bare / np.maximum(1 - share * (1 - veil.gain), LEAST_KEPT)
    picture = bare / np.maximum(1 - share * (1 - veil.gain), LEAST_KEPT)
    for _ in range(_ROUNDS):
        laid = cv2.GaussianBlur(picture, (0, 0), veil.blur / pixels, borderType=cv2.BORDER_REPLICATE)
        picture = np.clip((bare - share * veil.gain * laid) / kept, -top, top)
    return picture
