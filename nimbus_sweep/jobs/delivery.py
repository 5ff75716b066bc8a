"""Rendering, and the papers."""

from __future__ import annotations

import re
import shutil
from collections.abc import Callable
from pathlib import Path

from ..core.base.errors import Cancelled, ChangedReel, SweepError
from ..core.base.files import atomic_write
from ..core.media.formats import FORMATS, Delivery
from ..core.media.opening import fingerprint
from ..core.model.shots import Shot
from ..core.pipeline.render import RenderSpec, clear, render
from ..core.pipeline.report import Report, make_report
from ..store import edits
from ..store.data import DataFolder
from ..store.models import Reel, Task
from . import machines, papers
from .progress import Progress
from .reels import open_as_taken_in, repeats_of, size_of, spec_of
from .tasks import DeliveredFile, PapersDone, RenderDone, RenderSettings, settings_of
from .treatment import analysed_shots


def do_render(data: DataFolder, reel: Reel, task: Task, progress: Progress) -> RenderDone:
    """Render the reel, or each shot, as the delivery asks."""
    progress(0, what="Preparing")
    if reel.missing and not reel.accept_missing:
        raise SweepError(
            f"{reel.missing} frame{' is' if reel.missing == 1 else 's are'} missing in this reel. Accept that in Intake, or put the pictures "
            "back and read the reel again; then render."
        )
    settings = settings_of(task, RenderSettings)
    # The shots are kept with the task, so that a render that resumes after a crash goes on with the same treatment.
    if settings.shots is None:
        settings = settings.model_copy(update={"shots": edits.shots_of(reel)})
        Task.update(settings=settings.model_dump(mode="json")).where(Task.id == task.id).execute()
    shots, delivery = settings.shots or (), settings.delivery
    source = open_as_taken_in(reel)
    made = analysed_shots(data, reel, shots, source, progress.part(0, 0.05), task)
    parts: list[tuple[Shot | None, str]] = [(None, _delivered_name(reel, delivery, ""))]
    if delivery.part == "shots":
        parts = [(s, _delivered_name(reel, delivery, f"-{n:02d}")) for n, s in enumerate(shots, start=1) if s.use != "exclude"]
        if not parts:
            raise SweepError("Every shot is excluded, so there is nothing to deliver. Take one in again, in Intake.")
    frames = [(s.leave - s.enter) if s else len(source) for s, _ in parts]
    progress(0.05, what="Rendering")
    files = []
    for n, (part, name) in enumerate(parts):
        spec = spec_of(data, reel, task.id, shots, delivery, part)
        spec = spec.model_copy(update={"chunks": str(Path(spec.chunks) / str(n))})
        inside = [s for s in made if part is None or (s.first < part.leave and s.stop > part.enter)]
        cut = spec.cut(source.rate)
        report = make_report(source, reel.fingerprint, spec.reading, cut, delivery.kind, inside, repeats_of(data, reel))
        out = data.delivery(task.id, name)
        out.parent.mkdir(parents=True, exist_ok=True)
        if len(parts) > 1:
            progress(0.05 + 0.95 * sum(frames[:n]) / sum(frames), what=f"Rendering {n + 1} of {len(parts)}")

        def share(done: float, rate: float, n: int = n) -> None:
            progress(0.05 + 0.95 * (sum(frames[:n]) + done * frames[n]) / sum(frames), rate)

        try:
            if not out.exists():
                _rendered(spec, out, report, share)
        except (Cancelled, SweepError):
            shutil.rmtree(data.chunks(task.id), ignore_errors=True)
            raise
        if fingerprint(Path(reel.path)) != reel.fingerprint.split(":")[0]:
            out.unlink() if out.is_file() else shutil.rmtree(out, ignore_errors=True)
            raise ChangedReel(
                f"{Path(reel.path).name} is not the file that was taken in, by its SHA-256. Nothing was delivered. Read it again."
            )
        clear(spec)
        with atomic_write(out.parent / f"{out.stem}-report.json") as stream:
            stream.write(report.model_dump_json(indent=2).encode())
        files.append(DeliveredFile(name=name, bytes=size_of(out), frames=len(cut)))
    shutil.rmtree(data.chunks(task.id), ignore_errors=True)
    recipe = edits.resolved(next((s for s in shots if s.treated), shots[0]))
    with atomic_write(data.delivery(task.id, "recipe.json")) as stream:
        stream.write(recipe.model_dump_json(indent=2).encode())
    return RenderDone(file=files[0].name, files=tuple(files), bytes=sum(f.bytes for f in files), frames=sum(f.frames for f in files))


def _rendered(spec: RenderSpec, out: Path, report: Report, share: Callable[[float, float], None]) -> None:
    """Render on the machines that are at hand."""
    at_work = machines.current()
    pool = at_work.stretches(spec.chunks, spec.reel)
    try:
        # Several stretches for each: one that ends early takes another.
        render(spec, out, report, share, pool, _STRETCHES * at_work.many if pool else None)
    finally:
        if pool is not None:
            pool.shutdown(cancel_futures=True)


_STRETCHES = 3


def _delivered_name(reel: Reel, delivery: Delivery, suffix: str) -> str:
    form = FORMATS[delivery.kind]
    stem = re.sub(r"[^\w.() -]", "_", Path(reel.path).stem.partition("%")[0].rstrip("._-#") or reel.title)
    return f"{stem}-treated{suffix}{'' if form.is_sequence else form.suffix}"


def do_papers(data: DataFolder, reel: Reel, task: Task, progress: Progress) -> PapersDone:
    """Write the condition and the treatment report."""
    progress(0, what="Writing the papers")
    return PapersDone(files=tuple(papers.make(data, reel, open_as_taken_in(reel), task, progress)))
