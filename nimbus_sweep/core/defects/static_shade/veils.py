"""Static shade as a model of light: what a mark on the sensor or the lens does to the picture, and its undoing.

``D = S (1 - a) + a (g blur(S) + c)``: of the light `S` the share `a` is lost; a dirty lens lays over it a blurred
copy of the picture, `g` times as bright, and light of its own, `c`. Dust has neither. What stray light lays over, it adds in linear light,
which codes are the root of.
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
# Codes of light below which nothing is known of how differences grow; and by how much at most they do.
_DARK, _MOST_RAISED = 4.0, 6.0


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
    power : float
        By which codes become the light in which it is laid over: 1 for the codes themselves, about 2.2 for linear light.
    """

    gain: float = 0.0
    blur: float = 0.0
    level: float = 0.0
    tint: tuple[float, ...] = ()
    power: float = 1.0

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
    if veil.power != 1:
        bare = (np.maximum(light, 0) ** veil.power - share * veil.level**veil.power) / kept
        return np.asarray(np.where(share > 0, np.maximum(bare, 0) ** (1 / veil.power), light))
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


def raised_by(light: Plane, given: Plane, share: Plane, veil: Veil) -> Plane:
    """By how much differences of light grow as a mark is taken off, where brightness was `light` and has become `given`.

    Differences of colour, and grain, are small: they grow as the brightness does about what it is.
    """
    kept = np.maximum(1 - share, LEAST_KEPT)
    if veil.power == 1:
        return np.asarray(1 / kept)
    ratio = np.maximum(light, 1) / np.maximum(given, _DARK)
    return np.asarray(np.where(share > 0, np.minimum(ratio ** (veil.power - 1) / kept, _MOST_RAISED), 1))


def laid_over(light: Plane | float, share: Plane, veil: Veil) -> Plane:
    """Even light as it looks through a mark."""
    if veil.power != 1:
        return np.asarray((np.maximum(light, 0) ** veil.power * (1 - share) + share * veil.level**veil.power) ** (1 / veil.power))
    return np.asarray(light * (1 - share) + share * (veil.gain * light + veil.level))
