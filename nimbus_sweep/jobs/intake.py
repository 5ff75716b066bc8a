"""Taking a reel in: its index, every frame once, its fingerprint."""

from __future__ import annotations

import logging
import time
from functools import partial
from pathlib import Path
from typing import Any

from ..core.base.errors import DamagedReel
from ..core.base.files import kept
from ..core.evidence.scan import Scan, scan
from ..core.evidence.summary import Summary
from ..core.media.formats import FORMATS, usual_kind
from ..core.media.frames import Frame
from ..core.media.opening import damage_of, fingerprint, open_reel, sample_of, stamp_of
from ..core.media.reel import ReelReader
from ..core.media.remarks import Remark, some_of
from ..core.media.repeats import Repeats
from ..core.media.sequence import is_sequence
from ..core.media.view import ProxyMaker
from ..core.model.shots import divided
from ..core.pipeline.at_hand import light_path
from ..store import edits
from ..store.data import DataFolder
from ..store.facts import StoredFacts
from ..store.models import Reel, Task, writing
from .progress import Progress
from .reels import facts_of, open_as_taken_in, reading_of, volume_path
from .tasks import TakenIn

log = logging.getLogger(__name__)


def do_intake(data: DataFolder, reel: Reel, task: Task, progress: Progress) -> TakenIn:
    """Read a reel's index and every frame once, and take its fingerprint; one that was corrected meanwhile is read again."""
    progress(0, what="Reading the index")
    # A reel that was read before stays as it is while it is read again.
    again = reel.state == "ready"
    if not again:
        Reel.update(state="reading").where(Reel.id == reel.id).execute()
    path, reading = Path(reel.path), reading_of(reel)
    source = open_reel(path, reading, reel.accept_missing)
    size, modified = stamp_of(path)
    # Pictures that a sequence lacks are shown as missing; that they are is accepted before anything is delivered.
    if not reel.accept_missing and not is_sequence(path):
        try:
            source.require_whole()
        except DamagedReel as error:
            raise _counted(reel, error, progress) from None
    FORMATS[usual_kind(source.facts, source.format)].held(source.format)
    folder = data.of_reel(reel.id)
    folder.mkdir(parents=True, exist_ok=True)
    if not again:
        Reel.update(
            state="open", refusal="", size=size, modified=modified, frames=len(source), facts=facts_of(source), look=reading.key
        ).where(Reel.id == reel.id).execute()
    seen = _read_every_frame(data, reel, source, progress)
    progress(0.92, what="Taking the fingerprint")
    print_ = fingerprint(path, progress.part(0.92, 1))
    sample = sample_of(path)
    source.check_unchanged()
    fresh = Reel.get_by_id(reel.id)
    facts = facts_of(source)
    unreadable = sorted(set(seen.missing) - set(facts.absent))
    facts = _with_what_was_seen(facts if fresh.reading == reel.reading else fresh.facts, seen, unreadable)
    _first_state(fresh, seen, len(source))
    Reel.update(
        state="ready",
        size=size,
        modified=modified,
        sample=sample,
        look=reading.key,
        fingerprint=print_ + (":missing accepted" if reel.accept_missing else ""),
        missing=max(0, source.facts.promised - len(source)) + len({*source.facts.absent, *unreadable}),
        facts=facts,
    ).where(Reel.id == reel.id).execute()
    if reading_of(fresh).key != reading.key:
        # The small pictures are made once more.
        return do_intake(data, Reel.get_by_id(reel.id), task, progress)
    return TakenIn(frames=len(source), cuts=len(seen.cuts))


def read_again(data: DataFolder, reel: Reel, progress: Progress) -> None:
    """Read a reel's frames once more where what they told when it was taken in was lost or damaged."""
    folder = data.of_reel(reel.id)
    if reel.state != "ready" or all(
        kept((folder / name,), partial(load, folder / name))
        for name, load in (("repeats.npz", Repeats.load), ("summary.npz", Summary.load))
    ):
        return
    log.warning("reel %d is read once more", reel.id)
    _read_every_frame(data, reel, open_as_taken_in(reel), progress)


def _counted(reel: Reel, error: DamagedReel, progress: Progress) -> DamagedReel:
    """All that cannot be read of a reel, where one fault was met; how much that is stands with the reel."""
    progress(0.02, what="Counting what cannot be read")
    damage = damage_of(reel.path, reading_of(reel)) or error
    Reel.update(missing=damage.missing).where(Reel.id == reel.id).execute()
    return damage


def _read_every_frame(data: DataFolder, reel: Reel, source: ReelReader, progress: Progress) -> Scan:
    """Go through the frames once; small pictures, the time volume and what was seen are kept."""
    progress(0.02, what="Reading every frame")
    folder = data.of_reel(reel.id)
    start = time.monotonic()

    def on_frame(frame: Frame) -> None:
        done = frame.number + 1
        progress(0.02 + 0.9 * done / len(source), done / (time.monotonic() - start))

    volume = volume_path(data, reel, 0, len(source))
    volume.parent.mkdir(exist_ok=True)
    light = light_path(volume)
    try:
        proxy = ProxyMaker(folder / "proxy.jpegs")
        seen = scan(source, on_frame, proxy, None if volume.exists() else volume, None if light.exists() else light)
    except DamagedReel as error:
        raise _counted(reel, error, progress) from None
    seen.summary.save(folder / "summary.npz")
    seen.repeats.save(folder / "repeats.npz")
    return seen


def _with_what_was_seen(facts: StoredFacts, seen: Scan, unreadable: list[int]) -> StoredFacts:
    """The facts with what only the pictures tell: repeats, still runs, and frames that cannot be read."""
    changed: dict[str, Any] = {
        "cadence": "",
        "pulled_down": seen.repeats.pulled_down,
        "repeated": int(seen.repeats.repeated.sum()),
        "period": seen.repeats.period,
        "still_runs": tuple(seen.repeats.still_runs[:20]),
    }
    if unreadable:
        changed["absent"] = tuple(sorted(seen.missing))
        changed["notes"] = (*facts.notes, Remark.of("frames-unreadable", count=len(unreadable), shown=some_of(unreadable)))
    return facts.model_copy(update=changed)


def _first_state(reel: Reel, seen: Scan, frames: int) -> None:
    """Divide the reel into shots, unless that was done before and still fits."""
    with writing():
        if not edits.begun(reel) or edits.shots_of(reel)[-1].stop != frames:
            edits.begin_with(reel, "Intake", divided(frames, seen.cuts))
