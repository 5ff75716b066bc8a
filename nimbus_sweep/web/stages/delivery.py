"""Delivery: rendering, and fetching what came out."""

from __future__ import annotations

import shutil
import tarfile
from collections.abc import Iterator
from pathlib import Path

from flask import Blueprint, Response, abort, jsonify, render_template, request, send_file
from pydantic import ValidationError

from ...core.media.formats import FORMATS, Delivery, usual_kind
from ...core.media.reader import usual_rate
from ...core.media.reel import ReelReader
from ...core.model.recipes import first_fault
from ...core.model.registry import STEPS
from ...jobs.checks import checks_of
from ...jobs.tasks import InspectionSettings, RenderDone, RenderSettings, result_of, settings_of
from ...store.models import Reel, Setting, Task
from ...wording.reels import cadence, remark
from ..people import who
from .common import SweepError, attached, changes, latest, reel_or_404, services

pages = Blueprint("delivery", __name__)


@pages.get("/reels/<int:reel_id>/sheet/delivery")
def sheet(reel_id: int) -> str:
    """The sheet."""
    reel = reel_or_404(reel_id)
    shared = services()
    shots = shared.viewing.shots(reel)
    reader = shared.viewing.reader(reel)
    chosen = _chosen(reel, reader)
    done = Task.select().where(Task.reel == reel, Task.kind == "render", Task.state == "done").order_by(Task.id.desc())
    form = FORMATS[chosen.kind]
    warnings, held = [], ""
    try:
        warnings, held = [remark(one) for one in form.losses(reader.facts, reader.format)], form.held(reader.format).name
    except SweepError as error:
        warnings = [str(error)]
    repeats = shared.viewing.repeats(reel)
    true_rate = repeats.true_rate(reader.rate)
    return render_template(
        "sheets/delivery.html",
        reel=reel,
        facts=reel.facts,
        shots=shots,
        chosen=chosen,
        form=form,
        formats=[f for f in FORMATS.values() if f is form or f.holds(reader.format)],
        held=held,
        exact=form.exact(reader.format),
        warnings=warnings,
        cadence=cadence(repeats),
        true_rate=str(usual_rate(true_rate)) if true_rate else "",
        steps=list(dict.fromkeys(STEPS[s.kind].title for shot in shots if shot.treated for s in shot.recipe.active)),
        busy=latest(reel, "render", "waiting", "running"),
        last=latest(reel, "render"),
        papers=latest(reel, "papers", "done"),
        writing=latest(reel, "papers", "waiting", "running"),
        unwritten=latest(reel, "papers"),
        unchecked=[
            n for n, (s, c) in enumerate(zip(shots, checks_of(reel, shots), strict=True), start=1) if s.treated and (c is None or c.stale)
        ],
        unproven=bool(done) and not any(settings_of(t, InspectionSettings).render == done[0].id for t in _compared(reel)),
        deliveries=[(t, [(f, _folder(t) / f.name) for f in result_of(t, RenderDone).files]) for t in done],
    )


def _compared(reel: Reel) -> list[Task]:
    return list(Task.select().where(Task.reel == reel, Task.kind == "inspection", Task.state == "done"))


def _chosen(reel: Reel, reader: ReelReader) -> Delivery:
    """What the user chose to deliver of this reel; the usual kind at first."""
    kept = Setting.get_or_none(Setting.name == f"delivery-{reel.id}")
    return Delivery.model_validate(kept.value) if kept else Delivery.model_validate({"kind": usual_kind(reader.facts, reader.format)})


def _folder(task: Task) -> Path:
    return services().data.delivery(task.id, "x").parent


@pages.post("/reels/<int:reel_id>/delivery")
def choose(reel_id: int) -> Response:
    """Choose what is delivered; remembered with the reel."""
    reel = reel_or_404(reel_id)
    now = _chosen(reel, services().viewing.reader(reel))
    try:
        chosen = Delivery.model_validate({**now.model_dump(), **changes()})
    except ValidationError as error:
        abort(400, f"That cannot be delivered: {first_fault(error)}.")
    value = chosen.model_dump(mode="json")
    Setting.insert(name=f"delivery-{reel.id}", value=value).on_conflict(
        conflict_target=[Setting.name], update={Setting.value: value}
    ).execute()
    return jsonify(said=FORMATS[chosen.kind].title)


@pages.post("/reels/<int:reel_id>/render")
def render(reel_id: int) -> Response:
    """Queue a render."""
    reel = reel_or_404(reel_id)
    reader = services().viewing.reader(reel)
    chosen = _chosen(reel, reader)
    FORMATS[chosen.kind].held(reader.format)
    running = latest(reel, "render", "waiting", "running")
    task = services().queue.put("render", reel, RenderSettings(delivery=chosen))
    if running is None:
        return jsonify(task=task.id)
    by = f", begun by {running.who}" if running.who not in ("", who()) else ""
    kind = settings_of(running, RenderSettings).delivery.kind
    other = f" as {FORMATS[kind].title}; render again when it is done" if kind != chosen.kind else ""
    return jsonify(task=task.id, said=f"This reel is being rendered already{by}{other}.")


def _task(task_id: int) -> Task:
    task = Task.get_or_none(Task.id == task_id, Task.kind == "render", Task.state == "done")
    if task is None:
        abort(404)
    return task


@pages.get("/deliveries/<int:task_id>/file/<int:place>")
def fetch(task_id: int, place: int) -> Response:
    """A finished file; the pictures of a sequence in one archive."""
    task = _task(task_id)
    files = result_of(task, RenderDone).files
    if place >= len(files):
        abort(404)
    path = _folder(task) / files[place].name
    if path.is_dir():
        return attached(Response(archived(path), mimetype="application/x-tar"), f"{path.name}.tar")
    if not path.is_file():
        abort(404, "The delivered file is gone from the data folder. Render it again.")
    return send_file(path, as_attachment=True, download_name=path.name)


@pages.get("/deliveries/<int:task_id>/<any(report,recipe):which>")
def papers(task_id: int, which: str) -> Response:
    """The report, or the recipe, of a delivery."""
    task = _task(task_id)
    stem = Path(result_of(task, RenderDone).file).stem
    path = _folder(task) / (f"{stem}-report.json" if which == "report" else "recipe.json")
    if not path.is_file():
        abort(404, "It is gone from the data folder. Render again.")
    return send_file(path, as_attachment=True, download_name=f"{stem}-{which}.json")


@pages.post("/deliveries/<int:task_id>/remove")
def remove(task_id: int) -> Response:
    """Remove a delivery from the data folder."""
    task = _task(task_id)
    shutil.rmtree(_folder(task), ignore_errors=True)
    task.delete_instance()
    return jsonify(said="Removed the delivery.")


# The pages carry their pictures, letters and looks with them, and fetch nothing.
_ALONE = "default-src 'none'; img-src data:; font-src data:; style-src 'unsafe-inline'; base-uri 'none'; frame-ancestors 'none'"


@pages.post("/reels/<int:reel_id>/papers")
def write_papers(reel_id: int) -> Response:
    """Queue the writing of the condition and the treatment report."""
    return jsonify(task=services().queue.put("papers", reel_or_404(reel_id)).id)


@pages.get("/papers/<int:task_id>/<any(condition,treatment):which>.<any(html,json):form>")
def paper(task_id: int, which: str, form: str) -> Response:
    """A report: to be read and printed, or as a file."""
    task = Task.get_or_none(Task.id == task_id, Task.kind == "papers", Task.state == "done")
    if task is None:
        abort(404)
    path = services().data.papers(task.id) / f"{which}.{form}"
    if not path.is_file():
        abort(404, "The report is gone from the data folder. Write the papers again.")
    name = f"{Path(task.reel.path).stem}-{which}.{form}"
    answer = send_file(path, as_attachment=form == "json" or "save" in request.args, download_name=name)
    answer.headers["Content-Security-Policy"] = _ALONE
    return answer


def archived(folder: Path) -> Iterator[bytes]:
    """A folder as a tar archive, made as it is read."""
    for path in sorted(folder.iterdir()):
        info = tarfile.TarInfo(f"{folder.name}/{path.name}")
        found = path.stat()
        info.size, info.mtime = found.st_size, int(found.st_mtime)
        yield info.tobuf(tarfile.PAX_FORMAT)
        with open(path, "rb") as stream:
            while block := stream.read(1 << 20):
                yield block
        yield bytes(-info.size % tarfile.BLOCKSIZE)
    yield bytes(2 * tarfile.BLOCKSIZE)
