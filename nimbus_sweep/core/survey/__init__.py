"""One module for each kind of finding; the registry below lists them by the kind of step that mends it."""

from __future__ import annotations

import logging
from collections.abc import Callable, Iterable, Iterator, Mapping
from contextlib import contextmanager
from pathlib import Path

import cv2
import numpy as np
from numpy.typing import NDArray

from ..base.errors import Cancelled, Overtaken, SweepError
from ..base.failures import mark_failure
from ..defects.cue_marks import detect as cue_marks
from ..defects.film_dirt import detect as film_dirt
from ..defects.scratches import detect as scratches
from ..defects.static_shade import detect as static_shade
from ..defects.stuck_pixels import detect as stuck_pixels
from ..defects.transients import detect as fleeting
from ..defects.unsteady_light import detect as unsteady_light
from ..evidence.frames_at_hand import Span
from ..evidence.light_record import LightRecord
from ..evidence.time_volume import TimeVolume
from ..regions import Masked
from .findings import CONVINCES, Finding, Surveyed

__all__ = ["CONVINCES", "SURVEYS", "Finding", "Surveyed", "survey"]
log = logging.getLogger(__name__)
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
    held = dict(hold_outs or {})

    def share(done: int) -> Callable[[float], None] | None:
        return (lambda part: on_progress((done + part) / count)) if on_progress else None

    def take(told: Surveyed) -> None:
        found.extend(told.findings)
        notes.extend(told.notes)

    if light is not None and lit:
        held_light = next((held[step] for step in LIGHT_STEPS if step in held), None)
        with _alone("light", first, stop, notes):
            told, reading = unsteady_light.surveyed(light, first, stop, share(0), held_light)
            take(told)
            if told.findings and reading is not None and scratch is not None:
                volume = unsteady_light.steadied(volume, light, reading, scratch)
    for done, (step, look) in enumerate(looks, start=int(lit)):
        with _alone(step, first, stop, notes):
            take(look(volume, first, stop, share(done), held.get(step)))
    for done, (step, wear_look) in enumerate(worn, start=int(lit) + len(looks)):
        assert frames is not None
        with _alone(step, first, stop, notes):
            take(wear_look(frames, first, stop, share(done), held.get(step)))
    return Surveyed(told_apart(found), tuple(notes))


_LOOKED_FOR = {
    "light": "Unsteady light",
    "pixel-mend": "Stuck pixels",
    "unshade": "Dust, hairs and veils",
    "speck-sweep": "Film dirt",
    "line-lift": "Scratches",
    "cue-lift": "Cue marks",
    "fleeting": "Things that cross",
}


@contextmanager
def _alone(what: str, first: int, stop: int, notes: list[str]) -> Iterator[None]:
    """Keep a detector's failure to itself: it is logged and told, and the others go on."""
    try:
        yield
    except (SweepError, Cancelled, Overtaken, MemoryError):
        raise
    except Exception as error:
        mark = mark_failure(log, f"{what} could not be looked for in frames {first} to {stop - 1}")
        notes.append(
            f"{_LOOKED_FOR[what]} could not be looked for ({type(error).__name__}). "
            f"Look for {mark} in the log, and place what you see by hand."
        )


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
