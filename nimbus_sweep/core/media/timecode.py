"""Time code (SMPTE ST 12-1), counted by the OpenTimelineIO library's clock."""

from __future__ import annotations

from fractions import Fraction

from opentimelineio.opentime import RationalTime

# Rates at which time code is counted; others count at the nearest whole rate.
_COUNTED = (
    Fraction(24000, 1001),
    Fraction(24),
    Fraction(25),
    Fraction(30000, 1001),
    Fraction(30),
    Fraction(48),
    Fraction(50),
    Fraction(60000, 1001),
    Fraction(60),
)


def counting_rate(rate: Fraction) -> float:
    """The rate at which time code of a reel at `rate` is counted."""
    return float(rate) if rate in _COUNTED else float(max(1, round(rate)))


def frame_of(text: str, rate: Fraction) -> int:
    """The number of frames from 00:00:00:00 to a time code; a semicolon before the frames drops numbers.

    Raises
    ------
    ValueError
        If it is no time code at this rate.
    """
    return round(RationalTime.from_timecode(text, counting_rate(rate)).value)


def time_code(number: int, rate: Fraction, start: str = "") -> str:
    """Time code of frame `number` of a reel whose first frame has the code `start`."""
    counted = counting_rate(rate)
    try:
        first = frame_of(start, rate) if start else 0
    except ValueError:
        first = 0
    drop = ";" in start
    try:
        return str(RationalTime(first + number, counted).to_timecode(counted, drop))
    except ValueError:
        nominal = max(1, round(rate))
        seconds, frames = divmod(first + number, nominal)
        return f"{seconds // 3600 % 24:02d}:{seconds // 60 % 60:02d}:{seconds % 60:02d}:{frames:02d}"


def seconds_after_midnight(text: str, rate: Fraction) -> Fraction:
    """The time a code stands for, by the reel's true rate."""
    try:
        return frame_of(text, rate) / rate if text else Fraction(0)
    except ValueError:
        return Fraction(0)
