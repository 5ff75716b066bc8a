"""Between a reel's own components and red, green and blue, on the scale of an 8-bit display."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from .frames import Colour, PictureFormat

# Luma weights of red and blue by H.273 matrix code: ITU-R BT.709, BT.601 and BT.2020.
_LUMA_WEIGHTS = {1: (0.2126, 0.0722), 5: (0.299, 0.114), 6: (0.299, 0.114), 9: (0.2627, 0.0593)}


def possible(colour: Colour) -> tuple[Colour, ...]:
    """The descriptions a reel may really have: where it names no matrix, those of BT.709 and BT.601."""
    if colour.assumed or colour.matrix not in (0, *_LUMA_WEIGHTS):
        return tuple(replace(colour, matrix=m) for m in (1, 6))
    return (colour,)


def luma_weights(colour: Colour, height: int) -> tuple[float, float, float]:
    """Weights of red, green and blue in luma; an unnamed matrix is chosen by picture height."""
    red, blue = _LUMA_WEIGHTS.get(colour.matrix, _LUMA_WEIGHTS[1 if height >= 720 else 6])
    return red, 1 - red - blue, blue


def to_rgb(values: Sequence[float], layout: PictureFormat, colour: Colour, difference: bool = False) -> NDArray[np.float64]:
    """Components' values (or differences of values), in 8-bit display steps, as R'G'B' of 0 to 255.

    Parameters
    ----------
    values : sequence of float
        One for each colour component, in the order of `layout`.
    difference : bool
        The values are differences: no black level, no chroma zero.

    Returns
    -------
    ndarray, float64, (3,)
        Not clipped.
    """
    names = [c.name for c in layout.components if c.name != "A"]
    if "R" in names:
        return np.array([values[names.index(n)] for n in "RGB"], np.float64)
    black, span, swing = (0, 255, 255) if colour.full_range else (16, 219, 224)
    luma = (values[0] - (0 if difference else black)) * 255 / span
    if len(names) < 3:
        return np.full(3, luma)
    blue, red = ((v - (0 if difference else 128)) * 255 / swing for v in values[1:3])
    kr, kg, kb = luma_weights(colour, layout.height)
    r, b = luma + 2 * (1 - kr) * red, luma + 2 * (1 - kb) * blue
    return np.array([r, (luma - kr * r - kb * b) / kg, b])


def from_rgb(rgb: NDArray[np.float64], layout: PictureFormat, colour: Colour, difference: bool = False) -> list[float]:
    """The inverse of `to_rgb`.

    Parameters
    ----------
    rgb : ndarray, float64, (3,)
        0 to 255, or differences of such.
    layout : PictureFormat
    colour : Colour
    difference : bool
        The values are differences: no black level, no chroma zero.

    Returns
    -------
    list of float
        One for each colour component, in 8-bit display steps; not clipped.
    """
    names = [c.name for c in layout.components if c.name != "A"]
    if "R" in names:
        return [float(rgb["RGB".index(n)]) for n in names]
    black, span, swing = (0, 255, 255) if colour.full_range else (16, 219, 224)
    kr, kg, kb = luma_weights(colour, layout.height)
    luma = float(rgb @ (kr, kg, kb))
    values = [luma * span / 255 + (0 if difference else black)]
    if len(names) >= 3:
        zero = 0 if difference else 128
        values += [(rgb[2] - luma) / (2 * (1 - kb)) * swing / 255 + zero, (rgb[0] - luma) / (2 * (1 - kr)) * swing / 255 + zero]
    return [float(v) for v in values]
