"""What lamps on mains make of a frame rate, as the wording of unsteady light asks for it."""

from __future__ import annotations

from fractions import Fraction
from typing import Any

from ..core.defects.unsteady_light.mains import MAINS, alias, fitting, longest_shutter, readout_of, safe_shutters


def fits(pulse: float, rate: str) -> list[int]:
    """The mains, in Hz, whose lamps would show as a pulse of so many periods a frame."""
    return [seen.mains for seen in fitting(pulse, Fraction(rate))]


def shows(rate: str) -> list[tuple[int, float]]:
    """For each mains, in Hz, the pulse its lamps show as: periods a frame."""
    return [(mains, alias(mains, Fraction(rate)).step) for mains in MAINS]


def shutters(mains: int, rate: str) -> list[int]:
    """The longest two shutters that avoid a mains' pulse, of those that cameras have: one over so many seconds."""
    return [s.denominator for s in safe_shutters(mains, Fraction(rate)) if s.numerator == 1][:2]


def reads_out(bands: float, mains: int, rate: str) -> float | None:
    """Milliseconds in which the sensor reads a picture, by the bands over it; None where that were longer than a frame."""
    seconds = readout_of(bands, mains)
    return 1000 * seconds if seconds <= 1 / float(Fraction(rate)) else None


def open_at_most(mains: int, contrast: float) -> int | None:
    """The longest shutter that lets lamps swing so much: one over so many seconds; None where any may."""
    seconds = longest_shutter(mains, contrast)
    return None if seconds is None else round(1 / seconds)


def per_second(rate: str) -> str:
    """Frames a second."""
    return f"{float(Fraction(rate)):.5g}"


GLOBALS: dict[str, Any] = {
    "lamps_that_fit": fits,
    "lamps_show": shows,
    "safe_shutters": shutters,
    "per_second": per_second,
    "reads_out": reads_out,
    "open_at_most": open_at_most,
}
