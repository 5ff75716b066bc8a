"""Numbers in words and units, for the templates."""

from __future__ import annotations

from collections.abc import Callable
from fractions import Fraction
from typing import Any

from ..core.media.remarks import some_runs


def rate(value: str) -> str:
    """A frame rate: whole, or as its exact fraction with three places beside it."""
    exact = Fraction(value)
    return str(exact.numerator) if exact.denominator == 1 else f"{float(exact):.3f} ({exact.numerator}/{exact.denominator})"


def mean_rate(value: str) -> str:
    """A frame rate that is only a mean."""
    return f"{float(Fraction(value)):.2f}"


def size(count: int) -> str:
    """Bytes in the unit that suits."""
    for unit, step in (("GB", 1e9), ("MB", 1e6), ("kB", 1e3)):
        if count >= step:
            return f"{count / step:.1f} {unit}"
    return f"{count} bytes"


def seconds(value: float) -> str:
    """A length of time."""
    if value < 60:
        return f"{value:.2f} s" if value < 10 else f"{value:.1f} s"
    return f"{int(value // 60)} min {int(value % 60):02d} s"


def percent(share: float) -> str:
    """A share of 0 to 1."""
    return f"{100 * share:.0f} %"


def grouped(value: int) -> str:
    """A whole number, its thousands apart."""
    return f"{value:,}".replace(",", "\u00a0")


def about(value: float) -> str:
    """A length of time that is only guessed."""
    if value < 50:
        return f"{max(1, round(value / 5) * 5)} s" if value >= 8 else f"{max(1, round(value))} s"
    minutes, rest = divmod(round(value / 10) * 10, 60)
    return f"{minutes} min {rest:02d} s" if minutes else f"{rest} s"


FILTERS: dict[str, Callable[..., Any]] = {
    "rate": rate,
    "mean_rate": mean_rate,
    "size": size,
    "seconds": seconds,
    "percent": percent,
    "about": about,
    "grouped": grouped,
    "runs": some_runs,
}
