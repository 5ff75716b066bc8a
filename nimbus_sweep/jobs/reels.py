"""What work on a reel rests on: how it is read, its shots laid open in time, and what their treatments have learned."""

from __future__ import annotations

import threading
from collections.abc import Sequence
from pathlib import Path
from typing import Any

from ..core.media.formats import Delivery
from ..core.media.reel import Reading, ReelReader
from ..core.media.repeats import Repeats
from ..core.model.registry import STEPS
from ..core.model.shots import Shot, Shots
from ..core.pipeline.analyses import Analyses
from ..core.pipeline.at_hand import ReelAtHand, TakenIn
from ..core.pipeline.render import RenderedShot, RenderSpec
from ..store import edits
from ..store.data import DataFolder
from ..store.facts import SoundFacts, StoredFacts
from ..store.models import Reel, ShotRow
from . import machines


def reading_of(reel: Reel) -> Reading:
    """How the user wants the reel read."""
    return Reading.model_validate(reel.reading or {})


def computed_under(reel: Reel) -> str:
    """What analyses of the reel are kept under: its fingerprint, and how it is read."""
    key = reading_of(reel).key
    return f"{reel.fingerprint};{key}" if key else reel.fingerprint


def open_as_taken_in(reel: Reel) -> ReelReader:
    """Open a reel; raises ChangedReel if it is not the one that was taken in."""
    return TakenIn(**_taken_in(DataFolder(Path()), reel)).open_unchanged()


def _taken_in(data: DataFolder, reel: Reel) -> dict[str, Any]:
    repeats = data.of_reel(reel.id) / "repeats.npz"
    return {
        "reel": reel.path,
        "reading": reading_of(reel),
        "accept_missing": reel.accept_missing,
        "fingerprint": computed_under(reel),
        "size": reel.size,
        "modified": reel.modified,
        "sample": reel.sample,
        "repeats": str(repeats) if repeats.exists() else "",
        "analyses": str(data.analyses),
    }


def spec_of(
    data: DataFolder, reel: Reel, task_id: int, shots: Shots, delivery: Delivery | None = None, part: Shot | None = None
) -> RenderSpec:
    """What a process needs to render the reel, or one shot of it."""
    return RenderSpec(
        **_taken_in(data, reel),
        shots=tuple(
            RenderedShot(name=s.name or f"Shot {n}", first=s.enter, stop=s.leave, span=s.span, recipe=edits.resolved(s))
            for n, s in enumerate(shots, start=1)
            if s.treated
        ),
        first=part.enter if part else 0,
        stop=part.leave if part else reel.frames,
        delivery=delivery or Delivery(),
        chunks=str(data.chunks(task_id)),
    )


def facts_of(source: ReelReader) -> StoredFacts:
    """What was read of a reel, as it is kept and shown."""
    facts = source.facts
    return StoredFacts(
        frames=len(source),
        rate=str(facts.rate),
        constant=facts.constant_timing,
        intervals=facts.interval_range,
        often=facts.intervals,
        width=facts.width,
        height=facts.height,
        container=facts.container,
        codec=facts.codec,
        pixel_format=facts.pixel_format,
        bits=facts.bits,
        duration=float(facts.duration),
        start=float(facts.start),
        aspect=str(facts.sample_aspect),
        matrix=facts.colour.matrix_name,
        transfer=facts.colour.transfer_name,
        full_range=facts.colour.full_range,
        fields=facts.field_order,
        time_code=facts.time_code,
        turned=facts.turned,
        first_number=facts.first_number,
        absent=facts.absent,
        sounds=tuple(SoundFacts.model_validate(vars(s)) for s in facts.sounds),
        notes=facts.notes,
        assumptions=facts.assumptions,
        corrections=facts.corrections,
        promised=facts.promised,
    )


def at_hand(data: DataFolder, reel: Reel) -> ReelAtHand:
    """A reel, and where what is worked out of its shots is kept, for whoever works on it."""
    return ReelAtHand(
        **_taken_in(data, reel),
        frames=reel.frames,
        absent=reel.facts.absent if reel.facts else (),
        folder=str(data.of_reel(reel.id)),
        most_volumes=8 + 2 * machines.current().many,
    )


def volume_path(data: DataFolder, reel: Reel, first: int, stop: int) -> Path:
    """Where a shot laid open in time is kept, by the frames it holds and how they are read."""
    return at_hand(data, reel).volume_path(first, stop)


def repeats_of(data: DataFolder, reel: Reel) -> Repeats | None:
    """Which of a reel's frames repeat others; None when that is not known, or was damaged."""
    return at_hand(data, reel).repeated()


def analyses_of(data: DataFolder, reel: Reel, shot: Shot) -> Analyses:
    """Where a shot's analyses are kept."""
    return Analyses(data.analyses, computed_under(reel), *shot.span)


def learned_under(reel: Reel) -> str:
    """What the names of all analyses of a reel rest on: its fingerprint, how it is read, and the versions of the steps."""
    return ",".join([computed_under(reel), *(f"{kind.kind}{kind.version}" for kind in STEPS.values())])


def analysis_keys(data: DataFolder, reel: Reel, shot: Shot, under: str) -> list[str]:
    """The names of the analyses that a shot's treatment rests on, under what `learned_under` gives.

    They are kept with the shot until it changes: working them out reads all its findings.
    """
    known = known_keys((shot,), under).get(shot.id)
    if known is None:
        active, kept = edits.named(shot).active, analyses_of(data, reel, shot)
        known = [kept.path(active[: n + 1]).stem for n in range(len(active))]
        own = (ShotRow.id == shot.id) & (ShotRow.mark == shot.mark)
        ShotRow.update(learns={"under": under, "keys": known}).where(own).execute()
        with _lock:
            _keys[shot.id, shot.mark, under] = known
    return known


def known_keys(shots: Sequence[Shot], under: str) -> dict[int, list[str]]:
    """The names of the analyses of those shots, by their numbers, of which they were worked out before."""
    with _lock:
        looked = {s.id: keys for s in shots if (keys := _keys.get((s.id, s.mark, under), ())) != ()}
    found = {number: keys for number, keys in looked.items() if isinstance(keys, list)}
    lacking = {s.id: s.mark for s in shots if s.mark and s.id not in looked}
    numbers = list(lacking)
    for begin in range(0, len(numbers), _AT_ONCE):
        some = numbers[begin : begin + _AT_ONCE]
        rows: Any = (
            ShotRow.select(ShotRow.id, ShotRow.mark, ShotRow.learns).where(ShotRow.id.in_(some), ShotRow.learns.is_null(False)).tuples()
        )
        told = {number: learns["keys"] for number, mark, learns in rows if mark == lacking[number] and learns["under"] == under}
        found |= told
        with _lock:
            if len(_keys) > _MOST_KEYS:
                _keys.clear()
            # None for those that nobody has worked out yet.
            _keys.update({(number, lacking[number], under): told.get(number) for number in some})
    return found


# Shots that are asked for together.
_AT_ONCE = 400
# What was worked out, by shot; all of it is let go of when it is very much.
_keys: dict[tuple[int, str, str], list[str] | None] = {}
_MOST_KEYS = 40_000
_lock = threading.Lock()


def size_of(path: Path) -> int:
    """Bytes of a file, or of all files in a folder."""
    if path.is_dir():
        return sum(p.stat().st_size for p in path.rglob("*") if p.is_file())
    return path.stat().st_size if path.exists() else 0
