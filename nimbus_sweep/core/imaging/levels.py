"""Luma, noise and grain of frames, in 8-bit codes."""

from __future__ import annotations

import cv2
import numpy as np

from ..media.frames import Frame, Samples, as_numbers
from .grain import Grain, flattest, measure
from .motion import Plane

# Grain is no stronger than so many times what the flattest tenth of the windows shows: white noise is 1.2 times (measured).
_FLATTEST = 1.5
# Luma of a red, green and blue picture (ITU-R BT.709).
MIXED = {"R": 0.2126, "G": 0.7152, "B": 0.0722}


def luma(frame: Frame) -> Plane:
    """Luma of a frame: (height, width), float32, in 8-bit codes."""
    components = frame.format.components
    names = [c.name for c in components]
    if "G" not in names:
        light = as_numbers(frame.component(0))
        if components[0].code != 1:
            light /= np.float32(components[0].code)
        return light
    parts = [as_numbers(frame.component(names.index(n))) * np.float32(w / components[names.index(n)].code) for n, w in MIXED.items()]
    return np.asarray(parts[0] + parts[1] + parts[2])


def samples_at(samples: Samples, x: Plane, y: Plane, code: float, smooth: bool = True) -> Plane:
    """Samples of a component at places between its own; edge samples go on outside.

    Parameters
    ----------
    samples : ndarray, (height, width)
        As the frame holds them.
    x, y : ndarray, float32, (rows, columns)
        Across and down, in samples.
    code : float
        Steps of the samples to an 8-bit code.
    smooth : bool
        Bicubic; else bilinear.

    Returns
    -------
    ndarray, float32, (rows, columns)
        In 8-bit codes.
    """
    height, width = samples.shape
    # Only what may be asked for is converted.
    top, left = min(max(0, int(y.min()) - 3), height - 1), min(max(0, int(x.min()) - 3), width - 1)
    stop, end = max(top + 1, min(height, int(y.max()) + 5)), max(left + 1, min(width, int(x.max()) + 5))
    piece = as_numbers(samples[top:stop, left:end]) / np.float32(code)
    way = cv2.INTER_CUBIC if smooth else cv2.INTER_LINEAR
    return np.asarray(cv2.remap(piece, x - np.float32(left), y - np.float32(top), way, borderMode=cv2.BORDER_REPLICATE))


def noise_of(lights: list[Plane]) -> float:
    """Standard deviation of the noise of some pictures, on their flattest parts, in codes."""
    return float(np.median([flattest(light, 9) for light in lights])) if lights else 0.0


def grain_of(frames: list[Frame]) -> tuple[Grain, ...]:
    """The grain of each component of some frames, at least one."""
    grain = []
    for i, c in enumerate(frames[0].format.components):
        if c.name == "A":
            grain.append(Grain(np.zeros(1), np.zeros(1), 0.0))
            continue
        pictures = [as_numbers(f.component(i)) / np.float32(c.code) - (128 if c.is_chroma else 0) for f in frames]
        grain.append(measure(pictures).capped(_FLATTEST * noise_of(pictures)))
    return tuple(grain)
