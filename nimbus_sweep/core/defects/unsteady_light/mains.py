"""Lamps, mains and shutters: where their pulse shows at a frame rate, which shutters avoid it, and what fits what was measured.

A lamp on mains of m hertz pulses at 2m. At f frames a second that shows at ``|2m - k f|``, the nearest k (sampling:
Shannon 1949). A shutter open for whole pulses, n / 2m seconds, takes in the same light every time.
"""

from __future__ import annotations

import math
from dataclasses import dataclass
from fractions import Fraction

import numpy as np
from numpy.typing import NDArray
from scipy.optimize import brentq

MAINS = (50, 60)
# How far the light of the lamp that is drawn swings about its mean.
SWING = 0.5
# Periods a frame by which a measured pulse may miss a computed one.
_FITS = 0.012
# What the nominal mains may be out by (common practice: within 1 %).
_MAINS_OFF = 0.01


@dataclass(frozen=True)
class Alias:
    """Where the pulse of a lamp shows at a frame rate.

    Attributes
    ----------
    mains : int
        Hz.
    pulse : float
        Hz of the light.
    shows : float
        Hz at which it is seen, 0 to half the frame rate.
    step : float
        Periods from one frame to the next, -0.5 to 0.5.
    """

    mains: int
    pulse: float
    shows: float
    step: float

    @property
    def beat(self) -> float:
        """Frames to one beat; infinite where the light of all frames is the same."""
        return 1 / abs(self.step) if self.step else float("inf")


def alias(mains: int, rate: Fraction | float) -> Alias:
    """Where lamps on `mains` hertz show at `rate` frames a second."""
    pulse, f = 2.0 * mains, float(rate)
    turns = pulse / f
    step = turns - round(turns)
    return Alias(mains, pulse, abs(step) * f, step)


def safe_shutters(mains: int, rate: Fraction | float) -> list[Fraction]:
    """Shutters, in seconds, longest first, that are open for whole pulses of the lamps and fit into a frame."""
    pulses = int(2 * mains / float(rate) + 1e-9)
    return [Fraction(n, 2 * mains) for n in range(pulses, 0, -1)]


def swing_left(mains: int, shutter: float) -> float:
    """Share of a lamp's pulse that a shutter, in seconds, lets through as flicker: 0 for whole pulses, towards 1 for very short ones."""
    turns = 2 * mains * shutter
    return abs(math.sin(math.pi * turns) / (math.pi * turns)) if turns > 0 else 1.0


def readout_of(bands: float, mains: int) -> float:
    """Seconds from the first line of a picture to the last, over which a lamp on a mains lays so many bands."""
    return bands / (2.0 * mains)


def longest_shutter(mains: int, contrast: float) -> float | None:
    """The longest shutter, in seconds, through which a lamp that goes out between its pulses can swing so much.

    Parameters
    ----------
    mains : int
        Hz.
    contrast : float
        Of linear light, 0 to 1: brightest less darkest over their sum.

    Returns
    -------
    float or None
        None where the swing is so weak that any shutter may have let it through.
    """
    # Beyond the first whole pulse no shutter lets more through than this.
    weak = 0.2173
    if not weak < contrast <= 1:
        return None
    return float(brentq(lambda turns: np.sinc(turns) - contrast, 1e-9, 1 - 1e-9)) / (2 * mains)


def lamp(mains: int, seconds: NDArray[np.float64]) -> NDArray[np.float64]:
    """Light of a lamp as it is drawn, over its mean: a pure pulse that swings by `SWING` about 1."""
    return np.asarray(1 + SWING * np.cos(2 * np.pi * 2 * mains * seconds))


def lit_rows(mains: int, rate: Fraction | float, shutter: float, readout: float, frames: int, rows: int) -> NDArray[np.float64]:
    """What the lamp that is drawn lays over the rows of some frames.

    Parameters
    ----------
    mains : int
        Hz.
    rate : Fraction or float
        Frames a second.
    shutter, readout : float
        Seconds that each row is open for, and from the first row to the last.
    frames, rows : int

    Returns
    -------
    ndarray, float64, (frames, rows)
        The mean of the lamp's light over each row's exposure, about 1.
    """
    opens = np.arange(frames)[:, None] / float(rate) + np.linspace(0, readout, rows)[None]
    # The mean of a cosine over an exposure is that in its middle, times a sinc.
    left = SWING * float(np.sinc(2 * mains * shutter))
    return np.asarray(1 + left * np.cos(2 * np.pi * 2 * mains * (opens + shutter / 2)))


@dataclass(frozen=True)
class Sheet:
    """What a camera's settings make of lamps.

    Attributes
    ----------
    alias : Alias
    rate : float
        Frames a second.
    shutter : float
        Seconds.
    angle : float
        Degrees of a turn of the shutter.
    left : float
        Share of the lamp's pulse that is left after the shutter, 0 to 1.
    readout : float
        Seconds from the first line of the picture to the last.
    bands : float
        Bands over the picture; 0 when all lines are taken at once.
    climb : float
        Share of the picture's height by which bands move from frame to frame; 0 without bands.
    safe : list of Fraction
        Shutters that avoid it, in seconds.
    half : Fraction
        The 180-degree shutter, in seconds.
    """

    alias: Alias
    rate: float
    shutter: float
    angle: float
    left: float
    readout: float
    bands: float
    climb: float
    safe: list[Fraction]
    half: Fraction


def sheet(mains: int, rate: Fraction, shutter: float, readout: float = 0.0) -> Sheet:
    """Work out a sheet.

    Parameters
    ----------
    mains : int
        Hz.
    rate : Fraction
        Frames a second.
    shutter : float
        Seconds, at most a frame.
    readout : float
        Seconds from the first line of the picture to the last.

    Raises
    ------
    ValueError
        With what cannot be.
    """
    if rate <= 0:
        raise ValueError("The frame rate has to be above 0.")
    if not 0 < shutter <= 1 / float(rate) + 1e-9:
        raise ValueError(f"At {float(rate):g} frames a second the shutter can be open for at most 1/{float(rate):g} s.")
    if not 0 <= readout <= 1 / float(rate) + 1e-9:
        raise ValueError("Reading out all lines cannot take longer than a frame.")
    seen = alias(mains, rate)
    across = seen.pulse * readout
    return Sheet(
        alias=seen,
        rate=float(rate),
        shutter=shutter,
        angle=360 * shutter * float(rate),
        left=swing_left(mains, shutter),
        readout=readout,
        bands=across,
        climb=abs(seen.step) / across if across else 0.0,
        safe=safe_shutters(mains, rate),
        half=1 / (2 * rate),
    )


def fitting(step: float, rate: Fraction | float) -> list[Alias]:
    """The mains whose lamps would show as a pulse of so many periods a frame, either way; the nearest first.

    Bands may climb as the pulse does or against it: which way the picture is read is not known.
    """
    fits = []
    for mains in MAINS:
        seen = alias(mains, rate)
        # A mains that is a little fast or slow moves the pulse by as much.
        bound = _FITS + 0.25 * _MAINS_OFF * seen.pulse / float(rate)
        miss = abs(abs(step) - abs(seen.step))
        if miss < bound:
            fits.append((miss, mains, seen))
    return [seen for _, _, seen in sorted(fits, key=lambda f: f[:2])]
