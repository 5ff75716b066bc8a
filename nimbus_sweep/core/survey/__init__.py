"""One module for each kind of finding; the registry below lists them by the kind of step that mends it."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping
from pathlib import Path

import cv2
import numpy as np
from numpy.typing import NDArray

from ..regions import Masked
from ..steady.record import LightRecord
from ..volume import TimeVolume
from ..wear.span import Span
from . import cue_marks, film_dirt, fleeting, scratches, static_shade, stuck_pixels, unsteady_light
from .findings import CONVINCES, Finding, Surveyed

__all__ = ["CONVINCES", "SURVEYS", "Finding", "Surveyed", "survey"]

LIGHT_STEPS = ("steady-bands", "steady-patches", "steady-frame")
Survey = Callable[[TimeVolume, int, int, Callable[[float], None] | None, Masked | None], Surveyed]

SURVEYS: dict[str, Survey] = {"pixel-mend": stuck_pixels.surveyed, "unshade": static_shade.surveyed}

WearSurvey = Callable[[Span, int, int, Callable[[float], None] | None, Masked | None], Surveyed]

# What is told by frames that follow one another.
WEAR_SURVEYS: dict[str, WearSurvey] = {
    "speck-sweep": film_dirt.surveyed,
    "line-lift": scratches.surveyed,
    "cue-lift": cue_marks.surveyed,
    "fleeting": fleeting.surveyed,
}


def survey(
    volume: TimeVolume,
    first: int,
    stop: int,
    on_progress: Callable[[float], None] | None = None,
    steps: Iterable[str] | None = None,
    hold_outs: Mapping[str, Masked] | None = None,
    light: LightRecord | None = None,
    scratch: Path | None = None,
    frames: Span | None = None,
) -> Surveyed:
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
    hold_outs : mapping
        For kinds of step, what is not to be looked at.
    light : LightRecord
        Of the shot; without one its light is not looked at.
    scratch : Path
        A file that may be written: where the light is not steady, all else is looked for with it steadied.
    frames : Span
        The shot's frames, each moment once; without them film is not looked at for wear.
    """
    found: list[Finding] = []
    notes: list[str] = []
    wanted = None if steps is None else set(steps)
    looks = [(step, look) for step, look in SURVEYS.items() if wanted is None or step in wanted]
    lit = light is not None and (wanted is None or bool(wanted & set(LIGHT_STEPS)))
    worn = [(step, look) for step, look in WEAR_SURVEYS.items() if frames is not None and (wanted is None or step in wanted)]
    count = len(looks) + len(worn) + lit
    if light is not None and lit:
        held = next((region for step in LIGHT_STEPS if (region := (hold_outs or {}).get(step)) is not None), None)
        told, reading = unsteady_light.surveyed(light, first, stop, (lambda part: on_progress(part / count)) if on_progress else None, held)
        found += told.findings
        notes += told.notes
        if told.findings and reading is not None and scratch is not None:
            volume = unsteady_light.steadied(volume, light, reading, scratch)
    for done, (step, look) in enumerate(looks, start=int(lit)):
        share = (lambda part, done=done: on_progress((done + part) / count)) if on_progress else None
        told = look(volume, first, stop, share, (hold_outs or {}).get(step))
        found += told.findings
        notes += told.notes
    for done, (step, wear_look) in enumerate(worn, start=int(lit) + len(looks)):
        assert frames is not None
        share = (lambda part, done=done: on_progress((done + part) / count)) if on_progress else None
        told = wear_look(frames, first, stop, share, (hold_outs or {}).get(step))
        found += told.findings
        notes += told.notes
    return Surveyed(told_apart(found), tuple(notes))


# A dead pixel and its spread are no larger than this many pixels more than the site itself.
_SPREAD = 6


def told_apart(found: list[Finding]) -> list[Finding]:
    """Each defect once: a dead pixel is no dust, and what is part of a larger mark is no dead pixel."""
    sites = [f for f in found if f.kind == "stuck-pixel" and f.convinces]
    apart = [f for f in found if not (f.kind == "static-shade" and any(_is_site(f, s) for s in sites))]
    outlines = [np.array(f.numbers["outline"], np.float32) for f in apart if f.kind == "static-shade" and f.convinces]
    return [f for f in apart if f.kind != "stuck-pixel" or all(_beyond(f, line) for line in outlines)]


def _is_site(mark: Finding, site: Finding) -> bool:
    small = max(mark.width, mark.height) <= max(site.width, site.height) + _SPREAD
    across, down = mark.x + mark.width / 2 - site.x - site.width / 2, mark.y + mark.height / 2 - site.y - site.height / 2
    return small and max(abs(across), abs(down)) <= _SPREAD


def _beyond(site: Finding, line: NDArray[np.float32]) -> bool:
    middle = (site.x + site.width / 2, site.y + site.height / 2)
    return float(cv2.pointPolygonTest(line, middle, True)) < -3
