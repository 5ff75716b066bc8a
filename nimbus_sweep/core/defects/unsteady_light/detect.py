"""What is wrong with the light of a shot."""

from __future__ import annotations

from collections.abc import Callable
from itertools import pairwise
from pathlib import Path

import cv2
import numpy as np

from ...evidence.light_record import LightRecord
from ...evidence.time_volume import TimeVolume, VolumeWriter
from ...imaging.motion import look
from ...model.findings import CONVINCES, Finding, Note, Surveyed
from ...model.regions import Masked
from .course import Change
from .evidence import LightEvidence
from .light_plan import usable_of
from .reading import Kind, LightReading, too_little
from .repair import plans_of
from .stretches import read

KIND = "unsteady-light"
STEPS_FOR: dict[Kind, str] = {
    "bands": "steady-bands",
    "on-off": "steady-frame",
    "jumps": "steady-frame",
    "whole": "steady-frame",
    "patches": "steady-patches",
}
# Correlation of two pictures' structure below which they show other scenes, and above which a scene goes on; their size then.
_OTHER, _GOES_ON, _STRUCTURE = 0.3, 0.7, 32
# From codes to linear light, roughly (ITU-R BT.709 and BT.1886, as a power).
_GAMMA = 2.2
# Frames that are too few to tell.
_FEW = 5


def surveyed(
    record: LightRecord,
    first: int,
    stop: int,
    on_progress: Callable[[float], None] | None = None,
    hold_out: Masked | None = None,
) -> tuple[Surveyed, LightReading | None]:
    """Read the light of a shot and say what is wrong with it."""
    if len(record) < _FEW:
        return Surveyed([], (Note(kind=KIND, code="too-short", values={"frames": len(record)}),)), None
    if too_little(record):
        return Surveyed([], ()), None
    reading = read(record, usable=usable_of(record, hold_out), on_progress=on_progress)
    findings = [as_finding(kind, size, reading, record, first, stop) for kind, size in reading.kinds.items()]
    return Surveyed(findings, _notes(reading, record)), reading


def steadied(volume: TimeVolume, record: LightRecord, reading: LightReading, path: Path) -> TimeVolume:
    """The frames of a volume in steady light, kept at `path`: what keeps its place stands out as it would have."""
    plans = plans_of(record, reading)
    writer = VolumeWriter(path, volume, volume.numbers)
    try:
        for number in volume.numbers:
            frame = volume.frame(int(number))
            for plan in plans:
                frame = plan.mend(frame)
            writer.add(frame)
    except BaseException as error:
        writer.drop(error)
        raise
    return writer.finish()


def as_finding(kind: Kind, size: float, reading: LightReading, record: LightRecord, first: int, stop: int) -> Finding:
    """One kind of trouble as a finding of the whole picture."""
    bands = reading.bands if kind == "bands" else None
    tinted = reading.tinted and reading.channels is not None and kind in ("whole", "on-off", "jumps")
    period, pulse = reading.fit.period, 0.0
    if bands is not None:
        pulse = bands.model.step
        period = 1 / abs(pulse) if abs(pulse) > 1e-3 else 0.0
    elif kind == "on-off" or (kind == "whole" and reading.fit.rhythm == "beat"):
        pulse = 1 / reading.fit.period
    left, top, right, bottom = _box(reading, record) if kind == "bands" else (0, 0, record.format.width, record.format.height)
    evidence = LightEvidence(
        light=kind,
        strength=round(float(np.expm1(size)), 4),
        rhythm=reading.fit.rhythm,
        period=round(period, 2),
        pulse=round(pulse, 5),
        rate=str(record.rate),
        part=bands is not None and reading.part is not None,
        tints=tuple(round(float(np.expm1(c.std())), 4) for c in reading.channels.T) if tinted and reading.channels is not None else (),
        uneven=round(float(reading.uneven), 3),
        spacing=round(bands.model.spacing, 3) if bands else 0.0,
        step=round(bands.model.step, 4) if bands else 0.0,
        lean=round(bands.lean, 3) if bands else 0.0,
        explained=round(bands.model.explained, 3) if bands else 0.0,
        contrast=round(float(np.tanh(_GAMMA * bands.model.swing)), 3) if bands else 0.0,
    )
    return Finding(
        kind=KIND,
        step=STEPS_FOR[kind],
        x=left,
        y=top,
        width=right - left,
        height=bottom - top,
        first=first,
        stop=stop,
        confidence=_sure(size),
        evidence=evidence,
    )


def _box(reading: LightReading, record: LightRecord) -> tuple[int, int, int, int]:
    """The part of the picture that bands lie in, in pixels: left, top, right, bottom."""
    width, height = record.format.width, record.format.height
    left, top, right, bottom = reading.part or (0.0, 0.0, 1.0, 1.0)
    return round(left * width), round(top * height), round(right * width), round(bottom * height)


def _sure(size: float) -> float:
    """How sure a strength is of being seen: about 1 % is the limit of detection (measured)."""
    return round(float(np.clip((size - 0.004) / 0.02, CONVINCES, 1.0)), 2)


def _notes(reading: LightReading, record: LightRecord) -> tuple[Note, ...]:
    kept_changes = [_kept(change, record) for change in reading.changes if abs(change.size) > 0.1]
    unclear = [Note(kind=KIND, code="contradicted")] if reading.contradicted else []
    return (*unclear, *kept_changes, *(Note(kind=KIND, code="missed-cut", values={"frame": at}) for at in missed_cuts(record)))


def _kept(change: Change, record: LightRecord) -> Note:
    """A change of the light that is taken to be meant."""
    values: dict[str, str | int | float] = {
        "first": record.first + change.first,
        "last": record.first + change.last,
        "change": round(float(np.expm1(change.size)), 3),
    }
    return Note(kind=KIND, code="switch-kept" if change.is_switch else "fade-kept", values=values)


def missed_cuts(record: LightRecord) -> list[int]:
    """Frames that show another scene than the one before, amid frames that go on from one another."""
    looks = []
    for n in range(len(record)):
        gray = look(record.light(n), 1.0).gray
        flat = cv2.resize(gray, (_STRUCTURE, _STRUCTURE), interpolation=cv2.INTER_AREA).astype(np.float32).ravel()
        looks.append((flat - flat.mean()) / max(float(flat.std()), 1e-3))
    alike = np.array([float(np.mean(a * b)) for a, b in pairwise(looks)])
    found = []
    for n in range(1, len(looks)):
        around = np.concatenate([alike[max(0, n - 5) : n - 1], alike[n : n + 4]])
        # What comes back after a flash is no cut.
        across = max(float(np.mean(a * b)) for a in looks[max(0, n - 3) : n] for b in looks[n : n + 3])
        if len(around) >= 3 and across < _OTHER < _GOES_ON < float(np.median(around)):
            found.append(record.first + n)
    return found
