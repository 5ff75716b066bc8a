"""Static shade as a model of light: what a mark on the sensor or the lens does to the picture, and its undoing.

``D = S (1 - a) + a (g blur(S) + c)``: of the light `S` the share `a` is lost; a dirty lens lays over it a blurred
copy of the picture, `g` times as bright, and light of its own, `c`. Dust has neither.
"""

from __future__ import annotations

from dataclasses import dataclass, replace

import cv2
import numpy as np

from ...imaging.light import Plane
from ...media.frames import Component

# A sample that keeps less than this of its light is not brought back.
LEAST_KEPT = 0.1
_ROUNDS = 12


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
        return np.asarray(light / kept)
    bare = light - share * veil.level
    if not veil.blur or not veil.gain:
        return bare / np.maximum(1 - share * (1 - veil.gain), LEAST_KEPT)
    picture = bare / np.maximum(1 - share * (1 - veil.gain), LEAST_KEPT)
    for _ in range(_ROUNDS):
        veiled = cv2.GaussianBlur(picture, (0, 0), veil.blur / pixels, borderType=cv2.BORDER_REPLICATE)
        picture = np.clip((bare - share * veil.gain * veiled) / kept, -top, top)
    return picture
