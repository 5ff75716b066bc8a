"""One module for each kind of finding; the registry below lists them."""

from __future__ import annotations

from collections.abc import Callable

from ..volume import TimeVolume
from . import stuck_pixels
from .findings import CONVINCES, Finding

__all__ = ["CONVINCES", "SURVEYS", "Finding", "survey"]

Survey = Callable[[TimeVolume, int, int, Callable[[float], None] | None], list[Finding]]

SURVEYS: dict[str, Survey] = {"stuck-pixel": stuck_pixels.findings}


def survey(volume: TimeVolume, first: int, stop: int, on_progress: Callable[[float], None] | None = None) -> list[Finding]:
    """Everything that can be found in a shot.

    Parameters
    ----------
    volume : TimeVolume
        Of the shot.
    first, stop : int
        The shot's frames.
    on_progress : callable
        Told the share done, 0 to 1; may raise to stop.
    """
    found: list[Finding] = []
    for done, look in enumerate(SURVEYS.values()):
        share = (lambda part, done=done: on_progress((done + part) / len(SURVEYS))) if on_progress else None
        found += look(volume, first, stop, share)
    return found
