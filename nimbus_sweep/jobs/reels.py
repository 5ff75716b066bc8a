"""What work on a reel rests on: how it is read, its shots laid open in time, and what their treatments have learned."""

from __future__ import annotations

import os
import threading
import time
from collections.abc import Callable, Sequence
from functools import partial
from pathlib import Path
from typing import Any

import numpy as np
from cachetools import LRUCache
from numpy.typing import NDArray

from ..core.base.files import kept
from ..core.evidence.light_record import LightRecord, described, kept_record, record, recorded
from ..core.evidence.time_volume import TimeVolume, build_volume, kept_volume
from ..core.media.formats import Delivery
from ..core.media.frames import Frame
from ..core.media.reel import Reading, ReelReader
from ..core.media.repeats import Repeats
from ..core.model.registry import STEPS
from ..core.model.shots import Shot, Shots
from ..core.pipeline.analyses import Analyses
from ..core.pipeline.render import RenderedShot, RenderSpec, open_unchanged
from ..core.pipeline.report import TreatedShot
from ..store import edits
from ..store.data import DataFolder
from ..store.facts import SoundFacts, StoredFacts
from ..store.models import Reel, ShotRow


def reading_of(reel: Reel) -> Reading:
    """How the user wants the reel read."""
    return Reading.model_validate(reel.reading or {})


def computed_under(reel: Reel) -> str:
    """What analyses of the reel are kept under: its fingerprint, and how it is read."""
    key = reading_of(reel).key
    return f"{reel.fingerprint};{key}" if key else reel.fingerprint


def open_as_taken_in(reel: Reel) -> ReelReader:
    """Open a reel; raises ChangedReel if it is not the one that was taken in."""
    return open_unchanged(spec_of(DataFolder(Path()), reel, 0, ()))


def spec_of(
    data: DataFolder, reel: Reel, task_id: int, shots: Shots, delivery: Delivery | None = None, part: Shot | None = None
) -> RenderSpec:
    """What a process needs to render the reel, or one shot of it."""
    repeats = data.of_reel(reel.id) / "repeats.npz"
    return RenderSpec(
        reel=reel.path,
        reading=reading_of(reel),
        accept_missing=reel.accept_missing,
        fingerprint=computed_under(reel),
        size=reel.size,
        modified=reel.modified,
        sample=reel.sample,
        shots=tuple(
            RenderedShot(name=s.name or f"Shot {n}", first=s.enter, stop=s.leave, span=s.span, recipe=edits.resolved(s))
            for n, s in enumerate(shots, start=1)
            if s.treated
        ),
        repeats=str(repeats) if repeats.exists() else "",
        first=part.enter if part else 0,
        stop=part.leave if part else reel.frames,
        delivery=delivery or Delivery(),
        analyses=str(data.analyses),
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


def volume_path(data: DataFolder, reel: Reel, first: int, stop: int) -> Path:
    """Where a shot laid open in time is kept, by the frames it holds and how they are read."""
    reading = reading_of(reel)
    way = f"-{reading.fields or 'top'}-fields" if reading.deinterlace else ""
    return data.volumes(reel.id) / f"{first:08d}-{stop:08d}{way}.bin"


def repeats_of(data: DataFolder, reel: Reel) -> Repeats | None:
    """Which of a reel's frames repeat others; None when that is not known, or was damaged."""
    known = data.of_reel(reel.id) / "repeats.npz"
    return kept((known,), lambda: Repeats.load(known))


def usable_of(data: DataFolder, reel: Reel) -> NDArray[np.int64]:
    """The frames of a reel that are there and repeat no other."""
    repeats = repeats_of(data, reel)
    usable = np.arange(reel.frames, dtype=np.int64) if repeats is None else repeats.distinct
    return np.setdiff1d(usable, np.asarray(reel.facts.absent if reel.facts else (), np.int64))


def open_volume(
    data: DataFolder, reel: Reel, shot: Shot, source: ReelReader, on_progress: Callable[[float], None] | None = None
) -> TimeVolume:
    """A shot's time volume, made when it is not there."""
    path = volume_path(data, reel, shot.first, shot.stop)
    found = kept_volume(path)
    if found is not None:
        os.utime(path, ns=(time.time_ns(), path.stat().st_mtime_ns))
        volume = found
    else:
        path.parent.mkdir(parents=True, exist_ok=True)
        usable = usable_of(data, reel)
        count = shot.stop - shot.first
        share = (lambda frame: on_progress((frame.number - shot.first + 1) / count)) if on_progress else None
        with recorded(light_path(path), source, shot.first) as writer:

            def seen(frame: Frame) -> None:
                writer.add(frame)
                if share:
                    share(frame)

            volume = build_volume(path, source, seen, first=shot.first, stop=shot.stop, usable=usable)
        _free_volumes(path.parent, keep=path)
    volume.colour = source.colour
    return volume


def light_path(volume: Path) -> Path:
    """Where the record of a shot's light is kept, beside its volume."""
    return volume.with_suffix(".light")


def open_light(data: DataFolder, reel: Reel, shot: Shot, source: ReelReader) -> LightRecord:
    """The record of a shot's light, made when it is not there."""
    path = light_path(volume_path(data, reel, shot.first, shot.stop))
    light = kept_record(path)
    # Light above black depends on how the samples are read, which may have been corrected since.
    if light is None or light.colour != source.colour:
        path.parent.mkdir(parents=True, exist_ok=True)
        light = record(path, source, shot.first, shot.stop)
    light.rate = source.rate
    return light


_MOST_VOLUMES = 8


def _free_volumes(folder: Path, keep: Path) -> None:
    """Let go of the volumes that were used longest ago."""
    held = sorted(folder.glob("*.bin"), key=lambda p: p.stat().st_atime, reverse=True)
    for path in held[_MOST_VOLUMES:]:
        if path != keep:
            for gone in (path, path.with_suffix(".json"), light_path(path), described(light_path(path))):
                gone.unlink(missing_ok=True)


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
        looked = {s.id: _keys[at] for s in shots if (at := (s.id, s.mark, under)) in _keys}
    found = {number: keys for number, keys in looked.items() if keys is not None}
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
            # None for those that nobody has worked out yet.
            _keys.update({(number, lacking[number], under): told.get(number) for number in some})
    return found


# Shots that are asked for together.
_AT_ONCE = 400
_keys: LRUCache[tuple[int, str, str], list[str] | None] = LRUCache(20_000)
_lock = threading.Lock()


def _span_volume(data: DataFolder, reel: Reel, shot: Shot, source: ReelReader) -> TimeVolume:
    return open_volume(data, reel, shot, source).between(*shot.span)


def _kept_volume(data: DataFolder, reel: Reel, shot: Shot, source: ReelReader) -> TimeVolume | None:
    """The same where it is there."""
    there = kept_volume(volume_path(data, reel, shot.first, shot.stop)) is not None
    return _span_volume(data, reel, shot, source) if there else None


def _span_light(data: DataFolder, reel: Reel, shot: Shot, source: ReelReader) -> LightRecord:
    return open_light(data, reel, shot, source).between(*shot.span)


def _within(progress: Callable[[float], None], begin: float, end: float, share: float) -> None:
    progress(begin + share * (end - begin))


def analysed_shots(data: DataFolder, reel: Reel, shots: Shots, source: ReelReader, progress: Callable[[float], None]) -> list[TreatedShot]:
    made = []
    active = [(n, s) for n, s in enumerate(shots, start=1) if s.treated]
    for done, (n, shot) in enumerate(active):
        recipe = edits.resolved(shot)
        begin, end = done / len(active), (done + 1) / len(active)
        opened = partial(_span_volume, data, reel, shot, source)
        lit = partial(_span_light, data, reel, shot, source)
        kept = partial(_kept_volume, data, reel, shot, source)
        known = analyses_of(data, reel, shot).make(
            recipe, source, opened, partial(_within, progress, begin, end), lit, usable_of(data, reel), kept
        )
        made.append(TreatedShot(shot.name or f"Shot {n}", shot.enter, shot.leave, recipe, [f.as_json() for f in edits.kept(shot)], known))
    return made


def size_of(path: Path) -> int:
    """Bytes of a file, or of all files in a folder."""
    if path.is_dir():
        return sum(p.stat().st_size for p in path.rglob("*") if p.is_file())
    return path.stat().st_size if path.exists() else 0
