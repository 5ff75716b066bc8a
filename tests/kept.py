"""What several tests work out of the same frames, made once a run: kept by content, and shared by those that run side by side."""

from __future__ import annotations

import os
import pickle
from collections.abc import Callable
from hashlib import sha256
from pathlib import Path
from typing import Any, TypeVar

from nimbus_sweep.core.evidence.light_record import LightRecord
from nimbus_sweep.core.evidence.shot_evidence import ShotEvidence
from nimbus_sweep.core.evidence.time_volume import TimeVolume
from nimbus_sweep.core.pipeline.survey import Surveyed, survey

Result = TypeVar("Result")


def content(*parts: Any) -> str:
    """A name for what arrays, volumes, light records and plain values hold."""
    told = sha256()
    for part in parts:
        if isinstance(part, TimeVolume):
            told.update(repr((part.format, part.colour, part.rate, part.numbers.tolist())).encode())
            for plane in range(len(part.format.plane_shapes)):
                told.update(part.plane_stack(plane).tobytes())
        elif isinstance(part, LightRecord):
            told.update(repr((part.rate, part.first, part.count, part.absent, part.format, part.colour)).encode())
            for at in range(len(part)):
                told.update(part.light(at).tobytes() + part.colours(at).tobytes())
        elif hasattr(part, "tobytes"):
            told.update(repr((part.shape, part.dtype)).encode() + part.tobytes())
        else:
            told.update(repr(part).encode())
    return told.hexdigest()


def once(folder: Path, name: str, make: Callable[[], Result]) -> Result:
    """The result kept under a name, or made and kept."""
    path = folder / name
    if path.exists():
        return pickle.loads(path.read_bytes())
    result = make()
    folder.mkdir(parents=True, exist_ok=True)
    # Whole or not there: another may look meanwhile.
    aside = path.with_suffix(f".{os.getpid()}")
    aside.write_bytes(pickle.dumps(result))
    aside.replace(path)
    return result


def survey_once(folder: Path) -> Callable[..., Surveyed]:
    """Surveys as `survey` does; what was surveyed before is known, all of its progress told at once.

    Where regions are held out, or frames are read that the volume does not have, it is surveyed as ever.
    """

    def surveyed(evidence: ShotEvidence, on_progress: Any = None, steps: Any = None, hold_outs: Any = None) -> Surveyed:
        frames = evidence.frames
        if hold_outs or (frames is not None and not isinstance(frames.source, TimeVolume)):
            return survey(evidence, on_progress, steps, hold_outs)
        shown = (evidence.volume, evidence.first, evidence.stop, evidence.light or 0, evidence.scratch is None, frames and frames.numbers)
        name = content(*shown, steps and sorted(steps))
        known = (folder / name).exists()
        told = once(folder, name, lambda: survey(evidence, on_progress, steps))
        if known and on_progress:
            on_progress(1.0)
        return told

    return surveyed
