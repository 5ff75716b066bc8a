"""How a scene moves between two pictures of a shot.

Dense flow by DIS (Kroeger, Timofte, Dai and Van Gool 2016, in OpenCV) on pictures whose light is taken out, forward
and backward; where it does not hold, motion is carried in from around by normalised convolution (Knutsson and
Westin 1993).
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any, Literal

import cv2
import numpy as np
from numpy.typing import NDArray

from ..base.compiled import compiled

# Float32 throughout; arithmetic with plain numbers hides that from the type checker.
Plane = NDArray[Any]
Field = NDArray[Any]
Gray = NDArray[np.uint8]
Along = Literal["both", "x", "y"]

_AGREES = 0.5
# Below this many pixels each way the method has too few levels; it has been seen to crash.
_SMALLEST = 64
# Pixels of the shorter side from which motion about a mark is smooth enough to be measured at half the size.
HALVED = 100
SCALES = (8.0, 20.0, 48.0, 120.0)


def blur(plane: Plane, sigma: float) -> Plane:
    """Gaussian smoothing, mirrored at the edges; wide ones on a smaller picture.

    Parameters
    ----------
    plane : ndarray, float32, (height, width) or (height, width, channels)
    sigma : float
        Standard deviation, in pixels.

    Returns
    -------
    ndarray, float32, of the same shape
    """
    factor = int(min(max(sigma / 4, min(sigma / 3, 2)), min(plane.shape[:2]) / 4))
    if factor < 2:
        return cv2.GaussianBlur(plane, (0, 0), sigma, borderType=cv2.BORDER_REFLECT_101)
    height, width = plane.shape[:2]
    small = cv2.resize(plane, (width // factor, height // factor), interpolation=cv2.INTER_AREA)
    # Making it smaller has smoothed it already, as a box does.
    rest = np.sqrt(sigma * sigma / factor**2 - 1 / 12)
    small = cv2.GaussianBlur(small, (0, 0), rest, borderType=cv2.BORDER_REFLECT_101)
    return cv2.resize(small, (width, height), interpolation=cv2.INTER_LINEAR)


def _blurred_along(plane: Plane, sigma: float, along: Along) -> Plane:
    size = 2 * int(3 * sigma) + 1
    kernel, none = cv2.getGaussianKernel(size, sigma, cv2.CV_32F), np.ones((1, 1), np.float32)
    across, down = (kernel, none) if along == "x" else (none, kernel)
    return cv2.sepFilter2D(plane, -1, across, down, borderType=cv2.BORDER_REFLECT)


@dataclass(frozen=True)
class Look:
    """A picture made ready for motion.

    Attributes
    ----------
    gray : ndarray, uint8, (height, width)
        The logarithm of its light, less its local mean and over its local deviation.
    texture : ndarray, float32, (height, width)
        How much of that is the scene's rather than noise: 0 to 1.
    """

    gray: Gray
    texture: Plane


def look(light: Plane, noise: float, spread: float = 6.0, along: Along = "both") -> Look:
    """Take light and contrast out of a picture.

    Parameters
    ----------
    light : ndarray, float32, (height, width)
        Light above black, in 8-bit codes.
    noise : float
        Its standard deviation, in codes.
    spread : float
        Of the neighbourhood that gives mean and deviation, in pixels.
    along : str
        ``x`` or ``y`` takes the mean along rows or columns alone, which cancels whatever is a factor on whole rows or columns.
    """
    log = np.log(np.maximum(light, 0) + 4)
    high = log - (blur(log, spread) if along == "both" else _blurred_along(log, 2 * spread, along))
    power = blur(high * high, spread)
    grain = (noise + 0.5) / (np.maximum(blur(light, spread), 0) + 4)
    scaled = high / np.sqrt(power + 4 * grain * grain)
    return Look(np.clip(128 + 48 * scaled, 0, 255).astype(np.uint8), power / (power + 9 * grain * grain))


def flow(one: Gray, other: Gray, start: Field | None = None, fine: bool = False, rough: bool = False) -> Field:
    """Where each pixel of one picture is found in another, by dense inverse search.

    Parameters
    ----------
    one, other : ndarray, uint8, (height, width)
        As `look` makes them.
    start : ndarray, float32, (height, width, 2)
        Where to begin; no motion when None.
    fine, rough : bool
        Take the slower, finer preset; or the fastest one.

    Returns
    -------
    ndarray, float32, (height, width, 2)
        In pixels, x first.

    References
    ----------
    Kroeger, Timofte, Dai and Van Gool, "Fast Optical Flow using Dense Inverse Search", ECCV 2016.
    """
    height, width = one.shape
    below, beside = max(0, _SMALLEST - height), max(0, _SMALLEST - width)
    if below or beside:
        one, other = (cv2.copyMakeBorder(p, 0, below, 0, beside, cv2.BORDER_REPLICATE) for p in (one, other))
        start = None if start is None else cv2.copyMakeBorder(start, 0, below, 0, beside, cv2.BORDER_REPLICATE)
    # One for each call: kept and used again on pictures of another size it has been seen to crash.
    presets = cv2.DISOPTICAL_FLOW_PRESET_FAST, cv2.DISOPTICAL_FLOW_PRESET_MEDIUM, cv2.DISOPTICAL_FLOW_PRESET_ULTRAFAST
    way = cv2.DISOpticalFlow.create(presets[1 if fine else 2 if rough else 0])
    found = way.calc(one, other, np.zeros((*one.shape, 2), np.float32) if start is None else start.copy())
    return found[:height, :width]


def grid(shape: tuple[int, ...]) -> Field:
    """The place of each pixel: (height, width, 2), x first."""
    return np.dstack(np.meshgrid(np.arange(shape[1], dtype=np.float32), np.arange(shape[0], dtype=np.float32)))


def carried(plane: Plane, motion: Field, places: Field | None = None, smooth: bool = True) -> Plane:
    """A picture fetched along motion; edge samples go on outside.

    Parameters
    ----------
    plane : ndarray, float32, (height, width)
    motion : ndarray, float32, (rows, columns, 2)
        From each place to where it is fetched, in pixels, x first.
    places : ndarray, float32, (rows, columns, 2)
        Where motion begins; each pixel's own place when None.
    smooth : bool
        Bicubic, for values that are to be used; else bilinear.

    Returns
    -------
    ndarray, float32, (rows, columns)
    """
    at = (grid(motion.shape) if places is None else places) + motion
    way = cv2.INTER_CUBIC if smooth else cv2.INTER_LINEAR
    return cv2.remap(plane, at, None, way, borderMode=cv2.BORDER_REPLICATE)


def inside(motion: Field, places: Field, margin: float = 1.0) -> NDArray[np.bool_]:
    """Which pixels are still on the picture after motion.

    Parameters
    ----------
    motion, places : ndarray, float32, (height, width, 2)
        In pixels, x first.
    margin : float
        Pixels that they have to stay away from its edge.

    Returns
    -------
    ndarray, bool, (height, width)
    """
    at = places + motion
    height, width = motion.shape[:2]
    x, y = at[..., 0], at[..., 1]
    return (x >= margin) & (y >= margin) & (x <= width - 1 - margin) & (y <= height - 1 - margin)


def agreement(forward: Field, backward: Field) -> Plane:
    """How well motion to another picture and back agree: the forward-backward check.

    Parameters
    ----------
    forward, backward : ndarray, float32, (height, width, 2)
        In pixels, x first; see `flow`.

    Returns
    -------
    ndarray, float32, (height, width)
        1 where they cancel each other, a half where they miss by 0.5 pixel.
    """
    return _agreement(np.ascontiguousarray(forward, np.float32), np.ascontiguousarray(backward, np.float32))


@compiled()
def _agreement(there: Field, back: Field) -> Plane:
    height, width = there.shape[:2]
    agree = np.empty((height, width), np.float32)
    one, loose = np.float32(1), np.float32(1 / (_AGREES * _AGREES))
    for y in range(height):
        for x in range(width):
            # The way back where the way there leads, between four samples; edge samples go on outside.
            at_x = min(max(np.float32(x) + there[y, x, 0], np.float32(0)), np.float32(width - 1))
            at_y = min(max(np.float32(y) + there[y, x, 1], np.float32(0)), np.float32(height - 1))
            left, top = int(at_x), int(at_y)
            right, bottom = min(left + 1, width - 1), min(top + 1, height - 1)
            across, down = at_x - np.float32(left), at_y - np.float32(top)
            far = np.float32(0)
            for k in range(2):
                above = back[top, left, k] * (one - across) + back[top, right, k] * across
                below = back[bottom, left, k] * (one - across) + back[bottom, right, k] * across
                gap = there[y, x, k] + above * (one - down) + below * down
                far += gap * gap
            far *= loose
            agree[y, x] = one / (one + far * far)
    return agree


def smooth_way(there: Field, back: Field, mine: Look, scales: tuple[float, ...], step: int = 2) -> Field | None:
    """The way to another picture as its trusted parts say: where the way back agrees, on texture, on the picture.

    Parameters
    ----------
    there, back : ndarray, float32, (height, width, 2)
        The way to the other picture, and from it; see `flow`.
    mine : Look
        The picture the way begins on.
    scales : tuple of float
    step : int
        See `spread`.

    Returns
    -------
    ndarray, float32, (height, width, 2)
        None when nothing is to be trusted.
    """
    places = grid(mine.gray.shape)
    trust = agreement(there, back) * mine.texture * inside(there, places)
    if float(trust.max()) < 1e-3:
        return None
    return spread(there, trust.astype(np.float32), scales, step)[0]


def spread(values: Field, weight: Plane, scales: tuple[float, ...] = SCALES, step: int = 4) -> tuple[Field, Plane]:
    """Fill in what has no weight from around, from the nearest scale that has support.

    Parameters
    ----------
    values : ndarray, float32, (height, width, channels)
    weight : ndarray, float32, (height, width)
        0 where there is nothing to go by.
    scales : tuple of float
        Standard deviations, in pixels, finest first.
    step : int
        It is worked out on a picture so many times smaller.

    Returns
    -------
    filled : ndarray, float32, (height, width, channels)
    support : ndarray, float32, (height, width)
        The weight found within the widest scale.
    """
    shape = weight.shape
    small = (max(1, shape[1] // step), max(1, shape[0] // step))
    mass = cv2.resize(weight, small, interpolation=cv2.INTER_AREA)
    load = cv2.resize(values * weight[..., None], small, interpolation=cv2.INTER_AREA).reshape(*mass.shape, -1)
    filled = np.zeros_like(load)
    left = np.ones_like(mass)
    for n, scale in enumerate(scales):
        sigma = scale / step
        there = blur(mass, sigma)
        value = blur(load, sigma).reshape(load.shape) / np.maximum(there, 1e-6)[..., None]
        # Full trust once a tenth of the neighbourhood speaks.
        share = np.clip(there / 0.1, 0, 1) if n < len(scales) - 1 else np.ones_like(there)
        filled += (left * share)[..., None] * value
        left = left * (1 - share)
    borne = cv2.resize(there, shape[::-1], interpolation=cv2.INTER_LINEAR)
    return cv2.resize(filled, shape[::-1], interpolation=cv2.INTER_LINEAR).reshape(*shape, -1), borne


def support(weight: Plane, scale: float = SCALES[-1], step: int = 4) -> Plane:
    """The weight found within a scale about each place, as `spread` gives it.

    Parameters
    ----------
    weight : ndarray, float32, (height, width)
    scale : float
        Standard deviation, in pixels.
    step : int
        It is worked out on a picture so many times smaller.

    Returns
    -------
    ndarray, float32, (height, width)
    """
    shape = weight.shape
    small = cv2.resize(weight, (max(1, shape[1] // step), max(1, shape[0] // step)), interpolation=cv2.INTER_AREA)
    return cv2.resize(blur(small, scale / step), shape[::-1], interpolation=cv2.INTER_LINEAR)
