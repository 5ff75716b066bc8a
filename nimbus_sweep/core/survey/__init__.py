"""One module for each kind of finding; the registry below lists them by the kind of step that mends it."""

from __future__ import annotations

from collections.abc import Callable, Iterable

import cv2
import numpy as np

from ..volume import TimeVolume
from . import static_shade, stuck_pixels
from .findings import CONVINCES, Finding

__all__ = ["CONVINCES", "SURVEYS", "Finding", "survey"]

Survey = Callable[[TimeVolume, int, int, Callable[[float], None] | None], list[Finding]]

SURVEYS: dict[str, Survey] = {"pixel-mend": stuck_pixels.findings, "unshade": static_shade.findings}


def survey(
    volume: TimeVolume,
    first: int,
    stop: int,
    on_progress: Callable[[float], None] | None = None,
    steps: Iterable[str] | None = None,
) -> list[Finding]:
    """Everything that can be found in a shot.

    Parameters
    ----------
    volume : TimeVolume
        Of the shot.
    first, stop : int
        The shot's frames.
    on_progress : callable
        Told the share done, 0 to 1; may raise to stop.
    steps : iterable of str
        Kinds of step to look for work for; all when None.
    """
    found: list[Finding] = []
    wanted = None if steps is None else set(steps)
    looks = [look for step, look in SURVEYS.items() if wanted is None or step in wanted]
    for done, look in enumerate(looks):
        share = (lambda part, done=done: on_progress((done + part) / len(looks))) if on_progress else None
        found += look(volume, first, stop, share)
    return told_apart(found)


def told_apart(found: list[Finding]) -> list[Finding]:
    """Without the stuck pixels that are only part of a static mark."""
    outlines = [np.array(f.numbers["outline"], np.float32) for f in found if f.kind == "static-shade" and f.convinces]

    def alone(f: Finding) -> bool:
        middle = (f.x + f.width / 2, f.y + f.height / 2)
        return f.kind != "stuck-pixel" or all(cv2.pointPolygonTest(line, middle, True) < -3 for line in outlines)

    return [f for f in found if alone(f)]
