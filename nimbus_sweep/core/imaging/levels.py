"""Luma, noise and grain of frames, in 8-bit codes."""

from __future__ import annotations

import numpy as np

from ..media.frames import Frame, as_numbers
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
