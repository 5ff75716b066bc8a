"""Samples as light above black, and back."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from ..media.frames import Colour, Component, Samples, as_numbers

# Float32 throughout; arithmetic with plain numbers hides that from the type checker.
Plane = NDArray[Any]


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
    """Samples as light, or colour: what a loss of light multiplies.

    Parameters
    ----------
    samples : ndarray, uint8, uint16 or float32, (height, width)
    component : Component
    colour : Colour

    Returns
    -------
    ndarray, float32, (height, width)
        In 8-bit codes above the component's zero; colour differences lie about 0.
    """
    value = (as_numbers(samples) - np.float32(zero_of(component, colour))) / np.float32(component.code)
    if is_logarithmic(colour) and not component.is_chroma:
        value = 255 * 10 ** ((value - 255) * np.float32(_DENSITY / 255))
    return value


def samples_of(light: Plane, component: Component, colour: Colour, dtype: np.dtype[Any]) -> Samples:
    """The inverse of `light_of`: the nearest samples that can be held.

    Parameters
    ----------
    light : ndarray, float32, (height, width)
        In 8-bit codes above the component's zero.
    component : Component
    colour : Colour
    dtype : dtype
        Of the samples.

    Returns
    -------
    ndarray, of that dtype, (height, width)
    """
    value = light
    if is_logarithmic(colour) and not component.is_chroma:
        value = 255 + np.log10(np.maximum(light, 1e-3) / 255) * np.float32(255 / _DENSITY)
    return component.samples(value.astype(np.float64) * component.code + zero_of(component, colour), dtype)
