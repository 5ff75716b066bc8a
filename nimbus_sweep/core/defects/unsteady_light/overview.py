"""What the light of a shot looks like at a glance: its curve, its spectrum, its rows over time, and where in the picture it flickers."""

from __future__ import annotations

from dataclasses import dataclass
from fractions import Fraction
from typing import Any

import cv2
import numpy as np
from numpy.typing import NDArray

from ...evidence.light_record import LightRecord
from .course import power_of
from .mains import MAINS, alias

Plane = NDArray[Any]
_MOST = 1500


@dataclass(frozen=True)
class Overview:
    """The light of a shot, for drawing.

    Attributes
    ----------
    curve : ndarray, float64, (frames,)
        Mean light of each frame over that of the shot: 1 where it is the same.
    frequencies, amplitudes : ndarray, float64
        Spectrum of the log of the curve, or of the rows where they change more: periods a frame, and log light.
    strip : ndarray, uint8, (rows, frames)
        Light of the rows of each frame over their mean over time; 128 for none.
    map : ndarray, uint8, (height, width)
        How much each place changes from frame to frame and back: 255 for 20 % and more.
    """

    curve: Plane
    frequencies: Plane
    amplitudes: Plane
    strip: Plane
    map: Plane


def overview(record: LightRecord) -> Overview:
    """Look at the light of a shot; of very long ones at stretches of consecutive frames."""
    count = len(record)
    numbers = range(min(count, _MOST))
    rows, total = [], np.zeros(record.shape, np.float64)
    before: list[Plane] = []
    for n in numbers:
        log = np.log(np.maximum(record.light(n), 1.0) + 2)
        rows.append(log.mean(1))
        before = [*before[-2:], log]
        if len(before) == 3:
            total += np.abs(before[0] - 2 * before[1] + before[2])
    profile = np.stack(rows)
    means = profile.mean(1)
    uneven = profile - means[:, None]
    uneven = uneven - uneven.mean(0)
    frequencies, amplitudes = power_of(means)
    if len(frequencies):
        # Bands hardly show in the mean of a frame: each frequency is as strong as where it is strongest.
        by_row = np.stack([power_of(r)[1] for r in cv2.resize(uneven, (16, len(uneven)), interpolation=cv2.INTER_AREA).T])
        amplitudes = np.maximum(amplitudes, by_row.max(0))
    changes = total / max(1, len(numbers) - 2) / np.sqrt(6)
    strip = np.clip(128 + 127 / 0.25 * (profile - profile.mean(0)), 0, 255).astype(np.uint8).T
    return Overview(np.exp(means - means.mean()), frequencies, amplitudes, strip, np.clip(changes / 0.2 * 255, 0, 255).astype(np.uint8))


def marks(rate: Fraction) -> list[tuple[int, float]]:
    """Where lamps on each mains would show in the spectrum: Hz, and periods a frame."""
    return [(mains, abs(alias(mains, rate).step)) for mains in MAINS]
