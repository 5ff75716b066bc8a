"""What the queue does: each kind of work, with progress, cancelling and plain words for failures."""

from __future__ import annotations

import logging
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

from ..core.errors import Cancelled, SweepError
from ..core.frames import Frame
from ..core.measure import compare, report_of
from ..core.media.aside import written_aside
from ..core.media.reader import MovieReader, fingerprint
from ..core.media.view import ProxyMaker
from ..core.media.writer import lossless_format
from ..core.render import RenderSpec, clear, open_unchanged, render
from ..core.report import make_report
from ..core.summary import SummaryMaker
from ..core.survey import survey
from ..core.treatment import Analyses, suggested
from ..core.volume import TimeVolume, build_volume
from ..store import edits
from ..store.data import DataFolder
from ..store.models import Reel, Task, database, now

log = logging.getLogger(__name__)


class Told:
    """Notes progress of a task now and then, and raises Cancelled when it is to stop."""

    def __init__(self, task: Task) -> None:
        self._task, self._last = task, 0.0

    def __call__(self, share: float, rate: float = 0.0, what: str | None = None) -> None:
        at = time.monotonic()
        if at - self._last < 0.25 and what is None:
            return
        self._last = at
        values: dict[str, Any] = {"share": min(1.0, share), "rate": rate}
        if what is not None:
            values["what"] = what
        Task.update(**values).where(Task.id == self._task.id).execute()
        if Task.select(Task.cancel).where(Task.id == self._task.id).scalar():
            raise Cancelled

    def part(self, start: float, stop: float) -> Callable[[float], None]:
        """Progress of a part that takes the shares `start` to `stop` of the whole."""
        return lambda share: self(start + share * (stop - start))


def perform(data: DataFolder, task_id: int) -> None:
    """Do one task of the queue; every failure is kept with it."""
    with database.connection_context():
        taken = (
            Task.update(state="running", started=now(), attempts=Task.attempts + 1)
            .where(Task.id == task_id, Task.state == "waiting")
            .execute()
        )
        if not taken:
            return
        task = Task.get_by_id(task_id)
        try:
            result = _WORK[task.kind](data, task.reel, task, Told(task))
        except Cancelled:
            _end(task, state="cancelled")
        except SweepError as error:
            _end(task, state="failed", error=str(error))
        except MemoryError:
            _end(task, state="failed", error="There was not enough memory. Close other programs and start it again.")
        except Exception as error:
            log.exception("task %s, %s", task_id, task.kind)
            _end(
                task,
                state="failed",
                error=f"Something unforeseen went wrong ({type(error).__name__}: {error}). The reel was not touched. Start it again.",
            )
        else:
            _end(task, state="done", share=1.0, result=result)


def _end(task: Task, **values: Any) -> None:
    Task.update(ended=now(), **values).where(Task.id == task.id).execute()
    if task.kind == "intake" and values["state"] != "done":
        refusal = values.get("error") or "Intake was stopped."
        Reel.update(state="refused", refusal=refusal).where(Reel.id == task.reel_id).execute()


def unchanged(reel: Reel) -> MovieReader:
    """Open a reel; raises ChangedReel if its file is not the one that was taken in."""
    return open_unchanged(spec_of(DataFolder(Path()), reel, 0, "{}"))


def spec_of(data: DataFolder, reel: Reel, task_id: int, recipe: str) -> RenderSpec:
    """What a process needs to render the reel."""
    return RenderSpec(
        reel=reel.path,
        accept_missing=reel.accept_missing,
        fingerprint=reel.fingerprint,
        size=reel.size,
        modified=reel.modified,
        recipe=recipe,
        first=0,
        stop=(reel.facts or {}).get("frames", 0),
        analyses=str(data.analyses),
        chunks=str(data.chunks(task_id)),
    )


def _intake(data: DataFolder, reel: Reel, _task: Task, told: Told) -> dict[str, Any]:
    told(0, what="Reading the index")
    Reel.update(state="reading").where(Reel.id == reel.id).execute()
    path = Path(reel.path)
    source = MovieReader(path, accept_missing=reel.accept_missing)
    stat = path.stat()
    if not reel.accept_missing:
        missing = source.missing
        if missing:
            Reel.update(missing=missing).where(Reel.id == reel.id).execute()
        source.require_whole()
    lossless_format(source.format)
    told(0.02, what="Taking the fingerprint")
    print_ = fingerprint(path, told.part(0.02, 0.1))
    told(0.1, what="Reading every frame")
    folder = data.of_reel(reel.id)
    folder.mkdir(parents=True, exist_ok=True)
    summary, proxy = SummaryMaker(), ProxyMaker(folder / "proxy.jpegs")
    start = time.monotonic()

    def on_frame(frame: Frame) -> None:
        summary.add(frame)
        proxy.add(frame)
        done = frame.number + 1
        told(0.1 + 0.9 * done / len(source), done / (time.monotonic() - start))

    try:
        build_volume(folder / "volume.bin", source, on_frame)
    except BaseException as error:
        proxy.abandon(error)
    proxy.finish()
    summary.finish().save(folder / "summary.npz")
    source.check_unchanged()
    facts = source.facts
    Reel.update(
        state="ready",
        refusal="",
        size=stat.st_size,
        modified=stat.st_mtime_ns,
        fingerprint=print_ + (":missing accepted" if reel.accept_missing else ""),
        missing=source.missing,
        facts={
            "frames": len(source),
            "rate": str(facts.rate),
            "constant": facts.constant_timing,
            "intervals": facts.interval_range,
            "width": facts.width,
            "height": facts.height,
            "container": facts.container,
            "codec": facts.codec,
            "pixel_format": facts.pixel_format,
            "bits": facts.bits,
            "duration": float(facts.duration),
            "start": float(facts.start),
            "aspect": str(facts.sample_aspect),
            "matrix": facts.colour.matrix_name,
            "full_range": facts.colour.full_range,
            "sounds": [vars(s) for s in facts.sounds],
            "notes": list(facts.notes),
            "assumptions": list(facts.assumptions),
            "promised": facts.promised,
        },
    ).where(Reel.id == reel.id).execute()
    return {"frames": len(source)}


def _survey(data: DataFolder, reel: Reel, _task: Task, told: Told) -> dict[str, Any]:
    told(0, what="Looking along time")
    unchanged(reel).close()
    start = time.monotonic()
    volume = TimeVolume(data.of_reel(reel.id) / "volume.bin")
    found = survey(volume, 0, reel.facts["frames"], told)
    now_ = edits.current(reel)
    by_hand = [f for f in now_.findings if f["by_hand"]]
    dismissed = {(f["kind"], f["x"], f["y"]) for f in now_.findings if f["state"] == "dismissed"}
    stored = [edits.as_stored(f) for f in found]
    for f in stored:
        if (f["kind"], f["x"], f["y"]) in dismissed:
            f["state"] = "dismissed"
    edits.change(reel, "Survey", findings=stored + by_hand)
    took = time.monotonic() - start
    Reel.update(surveyed=took).where(Reel.id == reel.id).execute()
    return {"found": len(found), "seconds": round(took, 2)}


def _analysis(data: DataFolder, reel: Reel, _task: Task, told: Told) -> dict[str, Any]:
    told(0, what="Learning the repair")
    recipe = edits.settled(edits.current(reel))
    source = unchanged(reel)
    volume = TimeVolume(data.of_reel(reel.id) / "volume.bin")
    Analyses(data.analyses, reel.fingerprint, 0, len(source)).make(recipe, source, volume, told)
    return {}


def _render(data: DataFolder, reel: Reel, task: Task, told: Told) -> dict[str, Any]:
    told(0, what="Preparing")
    # Settled once and kept with the task, so that a render that resumes after a crash goes on with the same treatment.
    if task.settings is None:
        now_ = edits.current(reel)
        settings = {"recipe": edits.settled(now_).model_dump(mode="json"), "findings": [f.as_json() for f in edits.kept(now_)]}
        Task.update(settings=settings).where(Task.id == task.id).execute()
        task.settings = settings
    recipe = suggested([]).model_validate(task.settings["recipe"])
    source = unchanged(reel)
    analyses = Analyses(data.analyses, reel.fingerprint, 0, len(source))
    known = analyses.make(recipe, source, TimeVolume(data.of_reel(reel.id) / "volume.bin"), told.part(0, 0.05)) if recipe.active else []
    report = make_report(
        Path(reel.path).name,
        reel.fingerprint,
        len(source),
        source.missing,
        (0, len(source)),
        recipe,
        task.settings["findings"],
        source.format,
        known,
    )
    spec = spec_of(data, reel, task.id, recipe.model_dump_json())
    out = data.delivery(task.id, f"{Path(reel.path).stem}-treated.mkv")
    out.parent.mkdir(parents=True, exist_ok=True)
    told(0.05, what="Rendering")
    try:
        render(spec, out, report, lambda share, rate: told(0.05 + 0.95 * share, rate))
    except Cancelled:
        clear(spec)
        raise
    except SweepError:
        clear(spec)
        raise
    clear(spec)
    for name, text in (("report.json", report.model_dump_json(indent=2)), ("recipe.json", recipe.model_dump_json(indent=2))):
        with written_aside(out.with_name(name)) as stream:
            stream.write(text.encode())
    return {"file": out.name, "bytes": out.stat().st_size, "frames": len(source)}


def _inspection(data: DataFolder, reel: Reel, task: Task, told: Told) -> dict[str, Any]:
    told(0, what="Comparing every sample")
    rendered = Task.get_by_id(task.settings["render"])
    out = data.delivery(rendered.id, rendered.result["file"])
    start = time.monotonic()
    source = unchanged(reel)
    total = len(source)
    result = compare(source, MovieReader(out), report_of(out), lambda share: told(share, share * total / (time.monotonic() - start)))
    return result.as_json()


_WORK: dict[str, Callable[[DataFolder, Reel, Task, Told], dict[str, Any]]] = {
    "intake": _intake,
    "survey": _survey,
    "analysis": _analysis,
    "render": _render,
    "inspection": _inspection,
}
