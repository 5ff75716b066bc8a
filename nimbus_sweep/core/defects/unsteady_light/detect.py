"""What is wrong with the light of a shot, in words with numbers, and what it is probably due to."""

from __future__ import annotations

from collections.abc import Callable
from fractions import Fraction
from itertools import pairwise
from pathlib import Path
from typing import Any

import cv2
import numpy as np

from ...evidence.light_record import LightRecord
from ...evidence.time_volume import TimeVolume, VolumeWriter
from ...imaging.motion import look
from ...regions import Masked
from ...survey.findings import Finding, Surveyed
from .course import Change
from .light_plan import usable_of
from .mains import alias, fitting, safe_shutters
from .reading import Kind, Reading, too_little
from .repair import plans_of
from .stretches import read

TITLES: dict[Kind, str] = {
    "bands": "Rolling bands",
    "on-off": "On and off by turns",
    "jumps": "Jumps at key frames",
    "whole": "The whole frame breathes",
    "patches": "Flicker in parts of the picture",
}
STEPS_FOR: dict[Kind, str] = {
    "bands": "steady-bands",
    "on-off": "steady-frame",
    "jumps": "steady-frame",
    "whole": "steady-frame",
    "patches": "steady-patches",
}
# Correlation of two pictures' structure below which they show other scenes, and above which a scene goes on; their size then.
_OTHER, _GOES_ON, _STRUCTURE = 0.3, 0.7, 32
# Frames that are too few to tell.
_FEW = 5


def surveyed(
    record: LightRecord,
    first: int,
    stop: int,
    on_progress: Callable[[float], None] | None = None,
    hold_out: Masked | None = None,
) -> tuple[Surveyed, Reading | None]:
    """Read the light of a shot and say what is wrong with it."""
    if len(record) < _FEW:
        return Surveyed([], (f"The shot has {len(record)} frames: too few to tell whether its light is steady.",)), None
    if too_little(record):
        return Surveyed([], ()), None
    reading = read(record, usable=usable_of(record, hold_out), on_progress=on_progress)
    findings = [as_finding(kind, size, reading, record, first, stop) for kind, size in reading.kinds.items()]
    return Surveyed(findings, _notes(reading, record)), reading


def steadied(volume: TimeVolume, record: LightRecord, reading: Reading, path: Path) -> TimeVolume:
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


def as_finding(kind: Kind, size: float, reading: Reading, record: LightRecord, first: int, stop: int) -> Finding:
    """One kind of trouble as a finding of the whole picture."""
    numbers: dict[str, Any] = {"light": kind, "strength": round(float(np.expm1(size)), 4), "period": round(reading.told.period, 2)}
    if kind == "bands" and reading.bands is not None:
        model = reading.bands.model
        numbers |= {"spacing": round(model.spacing, 3), "step": round(model.step, 4), "lean": round(reading.bands.lean, 3)}
        numbers["period"] = round(1 / abs(model.step), 2) if abs(model.step) > 1e-3 else 0.0
    sentence = _sentence(kind, size, reading, record.rate)
    left, top, right, bottom = _box(reading, record) if kind == "bands" else (0, 0, record.format.width, record.format.height)
    numbers["part"] = kind == "bands" and reading.part is not None
    return Finding(
        "light", STEPS_FOR[kind], left, top, right - left, bottom - top, first, stop, _sure(size), TITLES[kind], sentence, numbers
    )


def _box(reading: Reading, record: LightRecord) -> tuple[int, int, int, int]:
    """The part of the picture that bands lie in, in pixels: left, top, right, bottom."""
    width, height = record.format.width, record.format.height
    left, top, right, bottom = reading.part or (0.0, 0.0, 1.0, 1.0)
    return round(left * width), round(top * height), round(right * width), round(bottom * height)


def _sure(size: float) -> float:
    """How sure a strength is of being seen: about 1 % is the limit of detection (measured)."""
    return round(float(np.clip((size - 0.004) / 0.02, 0.5, 1.0)), 2)


def _sentence(kind: Kind, size: float, reading: Reading, rate: Fraction) -> str:
    strong = f"{100 * np.expm1(size):.{0 if size > 0.03 else 1}f} %"
    told = reading.told
    if reading.tinted and reading.channels is not None and kind in ("whole", "on-off", "jumps"):
        sizes = [100 * float(np.expm1(c.std())) for c in reading.channels.T]
        shares = ", ".join(f"{name} {size:.1f} %" for name, size in zip(("red", "green", "blue"), sizes, strict=True))
        return f"Colours flicker, each by itself ({shares} rms), while brightness hardly does: lamps, or layers of film, that age apart."
    if kind == "bands" and reading.bands is not None:
        model, lean = reading.bands.model, reading.bands.lean
        way = "climb" if model.step > 0 else "fall"
        lie = "" if not lean else " upright" if abs(abs(lean) - np.pi / 2) < 1e-6 else f" leaning by {abs(np.degrees(lean)):.0f}°"
        if abs(model.step) < 2e-3:
            moves = f"{model.spacing:.1f} bands{lie} over the picture stand still"
        else:
            moves = f"{model.spacing:.1f} bands{lie} over the picture {way} {abs(model.step):.2f} of a period a frame"
        if reading.part is not None:
            return (
                f"In one part of the picture alone {moves}, {strong} up and down, while all else is steady: a screen. Its edges are to be "
                f"drawn under Where. As a rhythm, {cause(model.step, rate)}"
            )
        return f"{moves}, {strong} up and down: {cause(model.step, rate)}"
    if kind == "on-off":
        nth = {2: "second", 3: "third", 4: "fourth", 5: "fifth", 6: "sixth"}[round(told.period)]
        return f"The light repeats every {nth} frame, by {strong} rms: {cause(1 / told.period, rate)}"
    if kind == "jumps":
        seconds = told.period / float(rate)
        return (
            f"The level jumps every {told.period:.0f} frames ({seconds:.2f} s), by {strong} rms, and hardly changes between: "
            "the key frames of a compression with too little room."
        )
    if kind == "patches":
        return (
            f"Parts of the picture flicker by up to {strong} rms, each on its own ({100 * reading.uneven:.0f} % of the change is uneven "
            "over the picture): lamps that light only part of the scene."
        )
    if told.rhythm == "beat":
        return f"The whole frame goes up and down by {strong} rms, once in {told.period:.1f} frames: {cause(1 / told.period, rate)}"
    return f"The whole frame changes by {strong} rms from frame to frame without a rhythm: exposure set anew for each frame, or old film."


def cause(step: float, rate: Fraction) -> str:
    """The likely cause of a pulse of so many periods a frame, and what would have avoided it."""
    at = f"{float(rate):.5g} frames/s"
    beat = 1 / abs(step) if abs(step) > 2e-3 else 0.0
    lasts = f"; one beat lasts {beat:.{0 if abs(beat - round(beat)) < 0.05 else 1}f} frames" if beat else ""
    fits = fitting(step, rate)
    if not fits:
        seen = ", ".join(f"{alias(m, rate).step:+.2f} for {m} Hz" for m in (50, 60))
        return (
            f"this fits no lamps on 50 or 60 Hz mains at {at} (they would show at {seen}). A screen or dimmer with a rate of its own, "
            f"or the frame rate is not read right: see Intake{lasts}."
        )
    lamps = " or ".join(f"{f.mains} Hz" for f in fits)
    # Those that cameras have: one over something.
    shutters = [s for s in safe_shutters(fits[0].mains, rate) if s.numerator == 1][:2]
    if shutters:
        avoided = f"a {' or '.join(f'1/{s.denominator}' for s in shutters)} s shutter would have avoided it"
    else:
        avoided = f"no shutter avoids it at this rate, for a frame is shorter than a pulse of 1/{2 * fits[0].mains} s"
    return f"lamps on {lamps} mains, {at}; {avoided}{lasts}."


def _notes(reading: Reading, record: LightRecord) -> tuple[str, ...]:
    told = [_told(change, record) for change in reading.changes if abs(change.size) > 0.1]
    for at in missed_cuts(record):
        told.append(f"Between frames {at - 1} and {at} the whole picture changes: a cut may have been missed there. Set it in Intake.")
    return tuple(told)


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


def _told(change: Change, record: LightRecord) -> str:
    begin, end = record.first + change.first, record.first + change.last
    size = f"{100 * abs(np.expm1(change.size)):.0f} % {'brighter' if change.size > 0 else 'darker'}"
    if change.is_switch:
        return f"At frame {end} the light becomes {size} and stays so: it is taken to be meant, and kept."
    return f"From frame {begin} to {end} the light becomes {size}: it is taken to be meant, and kept."
