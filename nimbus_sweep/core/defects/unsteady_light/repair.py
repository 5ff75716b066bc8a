"""The three steps that steady the light: whole frames, bands, patches. Each measures, and divides out what it measured."""

from __future__ import annotations

from typing import Literal

import numpy as np
from pydantic import BaseModel, ConfigDict, Field
from scipy.ndimage import gaussian_filter1d

from ...evidence.light_record import LightRecord
from ...model.kinds import Progress
from ...model.regions import Masked
from .course import by_turns, drift, meant
from .light_plan import LightPlan, usable_of
from .pairs import Pairs, measure
from .reading import LEAST, Course, LightReading, find_bands, lie_of, look_along, solve_patches, too_little
from .solve import Whole, disagreement
from .stretches import STRETCH, read

# By how much unsteadiness stands out of what pairs of frames contradict each other by; log light that they do in any case.
_TOLD, _STEADY = 3.0, 0.0002
# From where on such frames are not gone by, in log light, and by how much the log likelihood of a drift beside it has to gain.
_CONTRADICTED, _SURELY = 0.001, 8.0


class _Steady(BaseModel):
    model_config = ConfigDict(frozen=True, extra="forbid")

    amount: float = Field(default=1.0, ge=0, le=1, description="share of the trouble that is taken out")
    reach: int = Field(default=16, ge=1, le=60, description="frames apart that are held against one another at most")
    keep: float = Field(default=0.0, ge=0, le=600, description="seconds; slower changes of the light stay; 0 for what stands out alone")
    grain: float = Field(default=0.0, ge=0, le=0.1, description="smaller changes of the light are grain, and stay; 0 as measured")


class SteadyFrameSettings(_Steady):
    """What of the light of whole frames is divided out, and where they are to lie."""

    takes: Literal["auto", "all", "rhythm"] = Field(
        default="auto", description="everything, or only the rhythm of frames dimmed by turns; by what is found"
    )
    contrast: bool = Field(default=True, description="an exponent as well as a gain, where contrast changes with the light")
    channels: Literal["auto", "together", "apart"] = Field(
        default="auto", description="red, green and blue in one light or each in its own; by what is found"
    )
    anchor: Literal["middle", "brightest", "frame"] = Field(default="middle", description="where the frames are to lie")
    frame: int = Field(default=0, ge=0, description="the frame to lie at, for that anchor")


class SteadyBandsSettings(_Steady):
    """How the bands lie."""

    lie: Literal["auto", "rows", "columns", "slanted"] = Field(default="auto", description="along which the light of a band is the same")


class SteadyPatchesSettings(_Steady):
    """How fine the field of gains is."""

    fine: int = Field(default=6, ge=3, le=16, description="places down the picture at which the light is measured")


def _read(
    record: LightRecord, settings: _Steady, on_progress: Progress | None, hold_out: Masked | None, apart: bool = False
) -> LightReading:
    return read(record, settings.reach, _keep(record, settings), usable_of(record, hold_out), on_progress, apart, settings.grain)


def _keep(record: LightRecord, settings: _Steady) -> int | None:
    return max(4, round(settings.keep * float(record.rate))) if settings.keep else None


def stays(course: Course, record: LightRecord, keep: float, least: float = 0.0) -> Course:
    """What of the light of whole frames is to stay: what is slower than `keep` seconds, or else the changes that are meant, from `least` on."""
    if keep:
        return np.asarray(gaussian_filter1d(course, max(1.0, keep * float(record.rate) / 4), mode="nearest"))
    changes = [c for c in meant(course, max(8, round(2 * float(record.rate)))) if abs(c.size) > least]
    kept = np.sum([c.course(len(course)) for c in changes], axis=0) if changes else np.zeros(len(course))
    return np.asarray(kept - kept.mean())


def analyse_frame(
    record: LightRecord, settings: SteadyFrameSettings, on_progress: Progress | None = None, hold_out: Masked | None = None
) -> LightPlan:
    """Measure the light of whole frames, and where it is to lie."""
    return whole_plan(record, _read(record, settings, on_progress, hold_out, settings.channels == "apart"), settings)


def whole_plan(record: LightRecord, found: LightReading, settings: SteadyFrameSettings) -> LightPlan:
    """What is to be divided out of whole frames, from what was read."""
    plan = LightPlan.nothing(record, settings.amount, settings.grain)
    if found.fit.rhythm == "none":
        return plan
    if found.channels is not None and (settings.channels == "apart" or (settings.channels == "auto" and found.tinted)):
        return plan.with_(channels=_apart(record, found, found.channels, settings))
    turns = settings.takes == "rhythm" or (settings.takes == "auto" and found.fit.rhythm == "on-off")
    if turns:
        course = found.fit.pattern
        # The brightest of the turns is right as it is, and stays bit for bit, unless it is unsteady itself.
        level = np.full(len(course), course[_held(course, settings, record, "brightest")])
        return plan.with_(offset=course + (_beside(found, record, settings) if settings.takes == "auto" else 0), level=level)
    whole, course = found.whole, found.course
    if settings.takes == "auto" and found.fit.rhythm == "jumps" and _out_by(found) >= _CONTRADICTED:
        # Between jumps there is more that pairs are out by than that creeps.
        pattern = found.fit.pattern
        return plan.with_(offset=pattern, level=np.full(len(pattern), pattern[_held(pattern, settings, record, "middle")]))
    # Jumps that come at regular frames, and what creeps between them, are none that are meant.
    jumps = found.fit.pattern if found.fit.rhythm == "jumps" else np.zeros(len(course))
    kept = stays(course - jumps, record, settings.keep, 2 * float(jumps.std()))
    if not (settings.contrast and found.has_contrast):
        whole = Whole(course, np.ones(len(course)))
    at = _held(course, settings, record, "middle")
    shift = float(course[at] - kept[at])
    if settings.anchor == "middle":
        shift = float(np.median(course - kept))
    return plan.with_(offset=whole.offset, power=whole.power, level=kept + shift)


def _beside(found: LightReading, record: LightRecord, settings: SteadyFrameSettings) -> Course:
    """What flickers beside a rhythm, where it is told from what pairs of frames are out by; else nothing."""
    rest = found.course - found.fit.pattern
    rest = rest - stays(rest, record, settings.keep)
    rest = rest - drift(rest, _SURELY)
    out = _out_by(found)
    return rest if out < _CONTRADICTED and float(rest.std()) > _TOLD * max(out, _STEADY) else np.zeros(len(rest))


def _out_by(found: LightReading) -> float:
    """How far pairs of frames contradict each other, as a log of light."""
    return disagreement(found.pairs) if found.pairs is not None else _CONTRADICTED


def _apart(record: LightRecord, found: LightReading, channels: Course, settings: SteadyFrameSettings) -> Course:
    """Log light to be divided out of red, green and blue: (frames, 3)."""
    taken = []
    turns = settings.takes == "rhythm" or (settings.takes == "auto" and found.fit.rhythm == "on-off")
    for course in channels.T:
        if turns:
            pattern = by_turns(course, max(2, round(found.fit.period)))
            taken.append(pattern - pattern.max())
            continue
        jumps = 2 * float(found.fit.pattern.std()) if found.fit.rhythm == "jumps" else 0.0
        rest = course - stays(course, record, settings.keep, jumps)
        at = _held(rest, settings, record, "middle")
        taken.append(rest - (np.median(rest) if settings.anchor == "middle" else rest[at]))
    return np.stack(taken, 1)


def plans_of(record: LightRecord, found: LightReading) -> list[LightPlan]:
    """All that was read, to be divided out one after the other: so that other kinds of trouble can be looked for in steady light."""
    plan = LightPlan.nothing(record)
    plans = []
    if found.everywhere is not None:
        plans.append(plan.with_(bands=found.everywhere))
    if found.patches is not None:
        plans.append(plan.with_(patches=found.patches))
    elif found.fit.rhythm != "none":
        plans.append(whole_plan(record, found, SteadyFrameSettings()))
    return plans


def _held(course: Course, settings: SteadyFrameSettings, record: LightRecord, usual: str) -> int:
    """The place of the frame whose level is held."""
    anchor = settings.anchor if settings.anchor != "middle" else usual
    if anchor == "frame":
        return int(np.clip(settings.frame - record.first, 0, len(course) - 1))
    return int(course.argmax()) if anchor == "brightest" else int(np.abs(course - np.median(course)).argmin())


def analyse_bands(
    record: LightRecord, settings: SteadyBandsSettings, on_progress: Progress | None = None, hold_out: Masked | None = None
) -> LightPlan:
    """Measure bands."""
    plan = LightPlan.nothing(record, settings.amount, settings.grain)
    if settings.lie == "auto" or len(record) > STRETCH:
        found = _read(record, settings, on_progress, hold_out).everywhere
    elif too_little(record):
        found = None
    else:
        hinted, _ = lie_of(record)
        lean = {"rows": 0.0, "columns": np.pi / 2, "slanted": hinted}[settings.lie]
        pairs = measure(record, settings.reach, look_along(lean), usable_of(record, hold_out), on_progress)
        found = find_bands(pairs, lean, record, max(LEAST, settings.grain))
    return plan if found is None else plan.with_(bands=found)


def analyse_patches(
    record: LightRecord, settings: SteadyPatchesSettings, on_progress: Progress | None = None, hold_out: Masked | None = None
) -> LightPlan:
    """Measure a coarse field of light over the picture."""
    plan = LightPlan.nothing(record, settings.amount, settings.grain)
    found = _read(record, settings, on_progress, hold_out)
    if "patches" not in found.kinds or found.patches is None:
        return plan
    # A shot read in stretches is read at the usual fineness.
    field = found.patches if found.pairs is None else _field(found.pairs, settings.fine, record)
    course = field.mean((1, 2))
    kept = stays(course, record, settings.keep)
    return plan.with_(patches=field - kept[:, None, None])


def _field(pairs: Pairs, fine: int, record: LightRecord) -> Course:
    return solve_patches(pairs, fine, max(2, round(fine * record.format.width / record.format.height * 0.75)))
