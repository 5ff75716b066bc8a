"""The light of a shot of any length, read in stretches that share some frames: memory does not grow with the shot."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from itertools import pairwise

import numpy as np

from ...evidence.light_record import LightRecord
from ...imaging.motion import Plane
from .bands import BandModel
from .course import meant, rhythm
from .pairs import LAGS
from .reading import LEAST, Bands, Course, Kind, LightReading, read_at_once
from .solve import Whole

# Frames read at once, and those that two stretches share.
STRETCH, _SHARED = 600, 60
# Leans, in radians, that are the same.
_SAME = 0.05


def read(
    record: LightRecord,
    reach: int = LAGS[-1],
    keep: int | None = None,
    usable: Callable[[int], Plane | None] | None = None,
    on_progress: Callable[[float], None] | None = None,
    apart: bool = False,
    least: float = 0.0,
    stretch: int = STRETCH,
) -> LightReading:
    """Read the light of a shot.

    Parameters
    ----------
    record, reach, keep, usable, on_progress, apart, least
        As `read_at_once` takes them.
    stretch : int
        Frames that are read at once. A longer shot is put together from stretches, each made level with the one before
        in the frames they share; it has no `pairs`.
    """
    count, shared = len(record), min(_SHARED, stretch // 3)
    if count <= stretch:
        return read_at_once(record, reach, keep, usable, on_progress, apart, least)
    starts = list(range(0, count - shared, stretch - shared))
    found = []
    for n, start in enumerate(starts):
        part = record.between(record.first + start, record.first + min(count, start + stretch))

        def share(done: float, n: int = n) -> None:
            if on_progress:
                on_progress((n + done) / len(starts))

        def part_usable(at: int, start: int = start) -> Plane | None:
            return usable(at + start) if usable else None

        part_reading = read_at_once(part, reach, keep, part_usable if usable else None, share, apart, least)
        # Pairs are what takes the room.
        found.append(replace(part_reading, pairs=None))
    return _joined(found, shared, keep or max(8, round(2 * float(record.rate))), max(least, LEAST), record.first)


def _joined(found: list[LightReading], shared: int, keep: int, least: float, first: int) -> LightReading:
    strongest: dict[Kind, float] = {}
    for reading in found:
        for kind, size in reading.kinds.items():
            strongest[kind] = max(size, strongest.get(kind, 0.0))
    course = _level([r.course for r in found], shared)
    whole = Whole(_level([r.whole.offset for r in found], shared), _after([r.whole.power for r in found], shared))
    named = rhythm(course, least, first)
    changes = meant(course - (named.pattern if named.rhythm in ("on-off", "jumps") else 0), keep)
    fields = [r.patches for r in found if r.patches is not None]
    patches = None
    if fields:
        patches = _level([r.patches if r.patches is not None else np.zeros((r.count, *fields[0].shape[1:])) for r in found], shared)
    channels = [r.channels for r in found if r.channels is not None]
    return LightReading(
        count=len(course),
        bands=_bands(found, shared),
        whole=whole,
        course=course,
        fit=named,
        changes=changes,
        patches=patches,
        kinds=dict(sorted(strongest.items(), key=lambda k: -k[1])),
        uneven=max(r.uneven for r in found),
        channels=_level(channels, shared) if len(channels) == len(found) else None,
        tinted=any(r.tinted for r in found),
        part=next((r.part for r in found if r.part is not None), None),
        contradicted=any(r.contradicted for r in found),
    )


def _after(parts: list[Course], shared: int) -> Course:
    """Parts one behind the other, what they share taken from the first of them."""
    return np.concatenate([parts[0], *(p[shared:] for p in parts[1:])])


def _level(parts: list[Course], shared: int) -> Course:
    """The same, each moved to where the one before is in the frames they share; mean over time 0."""
    moved = [parts[0]]
    for before, part in pairwise(parts):
        moved.append(part + np.median(moved[-1][len(before) - shared :] - part[:shared], axis=0))
    whole = _after(moved, shared)
    return np.asarray(whole - whole.mean(0))


def _bands(found: list[LightReading], shared: int) -> Bands | None:
    """The bands of all stretches by the model of the one that explains most, none where a stretch has none."""
    banded = [r.bands for r in found if r.bands is not None]
    if not banded:
        return None
    best = max(banded, key=lambda b: b.model.explained)
    phases = []
    for reading in found:
        own = reading.bands
        alike = own is not None and abs(own.lean - best.lean) < _SAME
        phases.append(_phase(own.model, best.model) if own is not None and alike else np.full(reading.count, np.nan))
    model = replace(best.model, phase=_after(phases, shared), rest=np.zeros((0, 0)))
    places = max(b.model.rest.shape[1] for b in banded)
    if places:
        # What was measured beside its own model stays as it was measured.
        at = (np.arange(places) + 0.5) / places
        own_light = [r.bands.model.at(at) if r.bands is not None else np.zeros((r.count, places)) for r in found]
        model = replace(model, rest=_after(own_light, shared) - model.at(at))
    return replace(best, model=model)


def _phase(own: BandModel, best: BandModel) -> Course:
    """Phases that lay another model's bands where a model's own lie in the middle of the picture."""
    (a, b), (other_a, other_b) = own.profile[0], best.profile[0]
    turned = (np.arctan2(other_b, other_a) - np.arctan2(b, a)) / (2 * np.pi)
    return np.asarray(own.phase + (own.spacing - best.spacing) / 2 + turned)
