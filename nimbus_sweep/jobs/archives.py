"""Jobs saved as one archive, and taken in again."""

from __future__ import annotations

from collections.abc import Iterable
from pathlib import Path

from ..core.base.apart import Apart
from ..core.base.errors import SweepError
from ..core.interchange.archive import ArchivedReel, Manifest, read_archive, unpack_learned, write_archive
from ..core.media.formats import Delivery
from ..store import edits, strokes
from ..store.data import DataFolder
from ..store.models import Job, Reel, Setting, writing
from .queue import Queue
from .reels import analyses_of, reading_of


def save(data: DataFolder, job: Job, path: Path) -> None:
    """Write a job to an archive.

    Raises
    ------
    SweepError
        If none of its reels has been read yet.
    """
    reels = [r for r in job.reels.order_by(Reel.id) if r.state == "ready"]
    if not reels:
        raise SweepError("No reel of this job has been read yet, so there is nothing to save. Wait for intake to finish.")
    shots, analyses, told = {}, {}, []
    for n, reel in enumerate(reels, start=1):
        folder = f"reel-{n}"
        reel_shots = edits.shots_of(reel)
        shots[folder] = tuple(s.with_(recipe=strokes.unfolded(s.recipe)) for s in reel_shots)
        analyses[folder] = list(dict.fromkeys(_analysis_files(data, reel)))
        chosen = Setting.get_or_none(Setting.name == f"delivery-{reel.id}")
        told.append(
            ArchivedReel(
                folder=folder,
                title=reel.title,
                file=Path(reel.path).name,
                sha256=_sum_of(reel),
                bytes=reel.size,
                frames=reel.frames,
                reading=reading_of(reel),
                accept_missing=reel.accept_missing,
                delivery=Delivery.model_validate(chosen.value) if chosen else None,
            )
        )
    manifest = Manifest(title=job.title, reference=job.reference, notes=job.notes, reels=tuple(told))
    write_archive(path, manifest, shots, analyses)


def _sum_of(reel: Reel) -> str:
    return str(reel.fingerprint).split(":")[0]


def _analysis_files(data: DataFolder, reel: Reel) -> Iterable[Path]:
    """What the steps of a reel's shots have learned, as far as it is there."""
    for shot in edits.shots_of(reel):
        recipe, kept = edits.named(shot), analyses_of(data, reel, shot)
        for n in range(len(recipe.active)):
            path = kept.path(recipe.active[: n + 1])
            if path.exists():
                yield path


# Seconds that any archive may take to be read, and bytes a second that it may take beyond these.
_SECONDS, _PACE = 20.0, 4e6


def take_in(data: DataFolder, path: Path, queue: Queue, apart: Apart) -> Job:
    """Make a job of an archive, of reels that this installation knows; all of it or nothing.

    Raises
    ------
    SweepError
        If the archive cannot be used, or a reel it names has not been taken in here.
    """
    seconds = _SECONDS + path.stat().st_size / _PACE
    manifest, shots = apart.within(seconds, path.name, read_archive, path)
    sources = {reel.folder: _source_of(reel) for reel in manifest.reels}
    lacking = [reel for reel in manifest.reels if sources[reel.folder] is None]
    if lacking:
        named = "; ".join(f"{r.file}, SHA-256 {r.sha256[:16]}…" for r in lacking[:6])
        raise SweepError(
            f"The archive goes with {'a reel' if len(lacking) == 1 else f'{len(lacking)} reels'} that {'has' if len(lacking) == 1 else 'have'} "
            f"not been taken in here: {named}. Take {'it' if len(lacking) == 1 else 'them'} in first, then the archive again."
        )
    apart.within(seconds, path.name, unpack_learned, path, data.analyses)
    made = []
    with writing():
        job = Job.create(title=manifest.title, reference=manifest.reference, notes=manifest.notes)
        for archived in manifest.reels:
            source = sources[archived.folder]
            assert source is not None
            fresh = Reel.create(
                job=job,
                title=archived.title,
                path=source.path,
                accept_missing=archived.accept_missing,
                reading=archived.reading.model_dump(mode="json"),
            )
            own = (s.with_(recipe=strokes.folded(fresh, s.recipe)) for s in shots[archived.folder])
            edits.begin_with(fresh, "Archive", tuple(own))
            if archived.delivery is not None:
                Setting.create(name=f"delivery-{fresh.id}", value=archived.delivery.model_dump(mode="json"))
            made.append(fresh)
    for fresh in made:
        queue.put("intake", fresh)
        if any(s.treated for s in edits.shots_of(fresh)):
            queue.put("analysis", fresh)
    return job


def _source_of(archived: ArchivedReel) -> Reel | None:
    """A reel of this installation with the same bytes, which is still there."""
    for reel in Reel.select().where(Reel.state == "ready", Reel.fingerprint.startswith(archived.sha256)).order_by(Reel.id.desc()):
        if Path(reel.path).exists() or "%" in reel.path:
            return reel
    return None
