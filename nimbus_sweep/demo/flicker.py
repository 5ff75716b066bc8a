"""Puts trouble with the light into sound frames and keeps the truth: flicker of the whole frame, bands, on-off, jumps, patches.

Light is a factor on gamma-coded samples above black, and on colour differences about their zero.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Literal

import cv2
import numpy as np
from numpy.typing import NDArray

Planes = tuple[NDArray[np.uint8], ...]
Plane = NDArray[np.float32]
_BLACK, _SPAN = 16.0, 219.0


@dataclass(frozen=True)
class Lit:
    """The light of one frame.

    Attributes
    ----------
    gain : ndarray, float32, broadcast to (height, width)
        Factor on what is above black.
    power : float
        Exponent of the samples above black, of white.
    """

    gain: Plane
    power: float = 1.0


def frame_pumping(frames: int, seed: int, strength: float = 0.14, contrast: float = 0.05, slow: float = 0.3) -> list[Lit]:
    """A frame that breathes: gains of `strength` rms and exponents, each frame's partly those of the one before."""
    rng = np.random.default_rng(seed)

    def course(size: float) -> NDArray[np.float64]:
        steps = rng.standard_normal(frames)
        for n in range(1, frames):
            steps[n] = slow * steps[n - 1] + np.sqrt(1 - slow * slow) * steps[n]
        return size * (steps - steps.mean()) / max(float(steps.std()), 1e-9)

    gains, powers = course(strength), course(contrast)
    return [Lit(np.full((1, 1), np.exp(g), np.float32), float(np.exp(p))) for g, p in zip(gains, powers, strict=True)]


def bands(
    frames: int,
    height: int,
    seed: int,
    strength: float = 0.22,
    across: float = 2.3,
    step: float = 0.33,
    drift: float = 0.0,
    jitter: float = 0.0,
    shape: Literal["sine", "rectified"] = "sine",
    angle: float = 0.0,
    width: int = 1,
) -> list[Lit]:
    """Bands that roll through the picture.

    Parameters
    ----------
    strength : float
        Half the swing of the gain.
    across : float
        Periods over the picture's height.
    step : float
        Periods by which they climb from frame to frame.
    drift, jitter : float
        By how much of a period the phase wanders from frame to frame, lasting and not.
    angle : float
        By which they are turned, in radians.
    """
    rng = np.random.default_rng(seed)
    phases = np.arange(frames) * step + np.cumsum(drift * rng.standard_normal(frames)) + jitter * rng.standard_normal(frames)
    ys, xs = np.mgrid[0:height, 0:width]
    along = (np.cos(angle) * ys + np.sin(angle) * xs) / height * across
    lights = []
    for phase in phases:
        turn = along + phase
        wave = np.cos(2 * np.pi * turn) if shape == "sine" else np.abs(np.sin(np.pi * turn)) * 2 - 4 / np.pi
        lights.append(Lit((1 + strength * wave).astype(np.float32)))
    return lights


def on_off(frames: int, seed: int, strength: float = 0.28, period: int = 2, slow: float = 0.0) -> list[Lit]:
    """Frames dimmed by turns; `slow` of rms of a slow course of the shot's own besides."""
    rng = np.random.default_rng(seed)
    course = np.convolve(rng.standard_normal(frames + 40), np.hanning(41) / np.sqrt((np.hanning(41) ** 2).sum()), "valid")
    return [Lit(np.full((1, 1), (1 - strength * (n % period == 0)) * np.exp(slow * course[n]), np.float32)) for n in range(frames)]


def jumps(frames: int, seed: int, strength: float = 0.08, every: int = 12) -> list[Lit]:
    """The level jumps at each key frame and creeps until the next."""
    rng = np.random.default_rng(seed)
    levels = strength * rng.standard_normal(frames // every + 2)
    creep = strength * 0.3 * rng.standard_normal(frames // every + 2)
    return [Lit(np.full((1, 1), np.exp(levels[n // every] + creep[n // every] * (n % every) / every), np.float32)) for n in range(frames)]


def patches(frames: int, height: int, width: int, seed: int, strength: float = 0.15, count: int = 3) -> list[Lit]:
    """Soft patches of the picture that flicker each on its own."""
    rng = np.random.default_rng(seed)
    ys, xs = np.mgrid[0:height, 0:width].astype(np.float32)
    size = 0.28 * max(height, width)
    fields = [
        np.exp(-((xs - rng.uniform(0.15, 0.85) * width) ** 2 + (ys - rng.uniform(0.15, 0.85) * height) ** 2) / (2 * size * size))
        for _ in range(count)
    ]
    swings = strength * rng.standard_normal((frames, count))
    # What stays all the time is no flicker.
    swings -= swings.mean(0)
    return [Lit(np.exp(sum(s * f for s, f in zip(swing, fields, strict=True))).astype(np.float32)) for swing in swings]


def lit(frames: Sequence[Planes], light: Sequence[Lit]) -> list[Planes]:
    """Frames in another light, 8-bit Y'CbCr of limited range."""
    made = []
    for (luma, *colours), one in zip(frames, light, strict=True):
        levels = np.maximum((np.arange(256, dtype=np.float32) - _BLACK) / _SPAN, 0)
        base, shaped = levels[luma], (levels**one.power if one.power != 1 else levels)[luma]
        gain = np.broadcast_to(cv2.resize(one.gain, luma.shape[::-1]) if one.gain.size > 1 else one.gain, luma.shape)
        bright = np.clip(np.rint(shaped * gain * _SPAN + _BLACK), 0, 255).astype(np.uint8)
        ratio = cv2.resize(shaped * gain / np.maximum(base, 1e-3), colours[0].shape[::-1], interpolation=cv2.INTER_AREA) if colours else 1
        tinted = [np.clip(np.rint((c.astype(np.float32) - 128) * ratio + 128), 0, 255).astype(np.uint8) for c in colours]
        made.append((bright, *tinted))
    return made


def relit(frames: Sequence[Planes], light: Sequence[Lit]) -> list[Planes]:
    """The true light divided out again: the best that could be done, with what rounding and clipping have cost."""
    made = []
    for (luma, *colours), one in zip(frames, light, strict=True):
        gain = np.broadcast_to(cv2.resize(one.gain, luma.shape[::-1]) if one.gain.size > 1 else one.gain, luma.shape)
        bright = np.maximum((luma.astype(np.float32) - _BLACK) / _SPAN, 0)
        base = (bright / gain) ** (1 / one.power)
        ratio = cv2.resize(base / np.maximum(bright, 1e-3), colours[0].shape[::-1], interpolation=cv2.INTER_AREA) if colours else 1
        tinted = [np.clip(np.rint((c.astype(np.float32) - 128) * ratio + 128), 0, 255).astype(np.uint8) for c in colours]
        made.append((np.clip(np.rint(base * _SPAN + _BLACK), 0, 255).astype(np.uint8), *tinted))
    return made
