"""The rack: jobs and their reels, and taking in a new one."""

from __future__ import annotations

import contextlib
import re
import shutil
import tempfile
import time
import uuid
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

from flask import Blueprint, Response, abort, jsonify, render_template, request, send_file, url_for

from ...core.base.errors import SweepError
from ...core.base.files import atomic_write
from ...core.media.formats import FORMATS
from ...core.media.sequence import SUFFIXES, is_sequence, list_sequence
from ...jobs import archives, drawing, eyes, runs
from ...jobs.queue import RUN
from ...jobs.reels import size_of
from ...jobs.tasks import RenderDone, result_of
from ...store.data import DataFolder
from ...store.models import Job, Reel, Task
from ...wording import numbers
from ..news import stream
from .common import LOOKED_AT, Body, follow_up, read_body, reel_or_404, services
from .inspection import VERDICTS
from .recipes import library
from .reels import done_of

pages = Blueprint("rack", __name__)
_BLOCK = 1 << 20


@pages.get("/")
def show() -> str:
    """The front page."""
    shared = services()
    return render_template(
        "rack.html",
        jobs=_jobs(),
        shelved=_jobs(archived=True),
        allowed=shared.allowed,
        upload_limit=shared.upload_limit,
        recipes=library(),
        formats=list(FORMATS.values()),
    )


@pages.get("/rack/list")
def listing() -> str:
    """The list alone, for bringing it up to date."""
    return render_template("rack_list.html", jobs=_jobs(), shelved=_jobs(archived=True))


@pages.get("/rack/events")
def events() -> Response:
    """A word whenever something is stored that the list may show."""
    return stream(lambda: {"at": time.monotonic()})


@dataclass
class _Row:
    """A reel as the rack shows it."""

    reel: Reel
    busy: Task | None
    done: set[str]
    disk: int
    judged: list[tuple[str, int]]
    drawing: drawing.InLine | None
    waits: bool


def _jobs(archived: bool = False) -> list[tuple[Job, list[_Row], runs.Standing | None, int]]:
    rows = []
    data, in_line = services().data, drawing.line()
    for job in Job.select().where(Job.archived == archived).order_by(Job.id):
        reels = []
        for reel in job.reels.order_by(Reel.id):
            busy = Task.select().where(Task.reel == reel, Task.state.in_(["waiting", "running"])).order_by(Task.id).first()
            reels.append(
                _Row(
                    reel,
                    busy,
                    done_of(reel),
                    _disk(data, reel),
                    _judged(reel),
                    in_line.get(reel.id),
                    busy is not None and busy.kind == RUN and busy.state == "waiting",
                )
            )
        rows.append((job, reels, runs.standing(job), eyes.open_of(job).count()))
    return rows


def _judged(reel: Reel) -> list[tuple[str, int]]:
    """What inspection said of its treated shots: the word, and of how many."""
    if reel.state != "ready":
        return []
    words_ = [s.verdict for s in services().viewing.shots(reel) if s.treated and s.verdict]
    return [(VERDICTS[v], words_.count(v)) for v in dict.fromkeys(words_)]


def _disk(data: DataFolder, reel: Reel) -> int:
    """Bytes that the application's own files of a reel take."""
    delivered = sum(result_of(t, RenderDone).bytes for t in reel.tasks.where(Task.kind == "render", Task.state == "done"))
    return size_of(data.of_reel(reel.id)) + delivered


class _JobChange(Body):
    title: str | None = None
    reference: str | None = None
    notes: str | None = None
    archived: bool | None = None


@pages.post("/jobs/<int:job_id>")
def describe_job(job_id: int) -> Response:
    """Rename a job, note the customer's reference, write notes, put it away or take it out again."""
    job = Job.get_or_none(Job.id == job_id)
    if job is None:
        abort(404)
    sent = read_body(_JobChange)
    for name, most in (("title", 200), ("reference", 120), ("notes", 20_000)):
        if (value := getattr(sent, name)) is not None:
            text = value.strip()[:most]
            if name == "title" and not text:
                abort(400, "A job has a title.")
            setattr(job, name, text)
    if sent.archived is not None:
        job.archived = sent.archived
    job.save()
    return jsonify(said="Put away." if sent.archived else "Noted.")


@pages.post("/jobs/<int:job_id>/remove")
def remove_job(job_id: int) -> Response:
    """Remove a job with its reels; source files stay."""
    job = Job.get_or_none(Job.id == job_id)
    if job is None:
        abort(404)
    for reel in list(job.reels):
        _remove(reel)
    job.delete_instance(recursive=True)
    return jsonify(removed=job_id)


@pages.get("/jobs/<int:job_id>/archive")
def save_archive(job_id: int) -> Response:
    """The job as one file: shots, recipes, regions, strokes and masks of its reels, without the reels."""
    job = Job.get_or_none(Job.id == job_id)
    if job is None:
        abort(404)
    data = services().data
    with tempfile.TemporaryDirectory(prefix="archive-", dir=data.root) as folder:
        path = Path(folder) / "job.zip"
        archives.save(data, job, path)
        # Open still when its name is gone, and gone for good once it is sent.
        stream = open(path, "rb")
    name = f"{_clean(job.title) or 'job'}.sweep-job.zip"
    return send_file(stream, mimetype="application/zip", as_attachment=True, download_name=name)


@pages.post("/jobs/archive")
def take_archive_in() -> Response:
    """Make a job of an archive, the body of the request, of reels that were taken in here before."""
    data = services().data
    with tempfile.TemporaryDirectory(prefix="archive-", dir=data.root) as folder:
        path = Path(folder) / (_clean(request.args.get("name", "")) or "job.zip")
        _receive(path)
        job = archives.take_in(data, path, services().queue, services().apart)
    return jsonify(id=job.id, said=f"{job.title} is on the rack, with its treatments.")


@pages.post("/reels/<int:reel_id>/draw-next")
def draw_next(reel_id: int) -> Response:
    """Draw a reel of the demo before the others that wait."""
    reel = reel_or_404(reel_id, needs=())
    if drawing.put_first(reel):
        return jsonify(said=f"{reel.title} is drawn next.")
    return jsonify(said=f"{reel.title} is being drawn already." if reel.state == "drawing" else f"{reel.title} is drawn.")


class _Title(Body):
    title: str = ""


@pages.post("/reels/<int:reel_id>/rename")
def rename(reel_id: int) -> Response:
    """Give a reel another title; its file keeps its name."""
    reel = reel_or_404(reel_id, needs=())
    title = read_body(_Title).title.strip()[:200]
    if not title:
        abort(400, "A reel has a title.")
    Reel.update(title=title).where(Reel.id == reel.id).execute()
    return jsonify(said=title)


@pages.get("/storage")
def storage() -> str:
    """What lies in the data folder, and what of it can be made again."""
    data = services().data
    rows = []
    for reel in Reel.select().order_by(Reel.id):
        renders = [t for t in reel.tasks if t.kind == "render" and t.state == "done"]
        deliveries = [(t, result_of(t, RenderDone).bytes) for t in renders]
        rows.append((reel, size_of(data.volumes(reel.id)), size_of(data.of_reel(reel.id)) - size_of(data.volumes(reel.id)), deliveries))
    usage = shutil.disk_usage(data.root)
    return render_template(
        "storage.html",
        rows=rows,
        analyses=size_of(data.analyses),
        uploads=size_of(data.uploads),
        chunks=size_of(data.root / "chunks"),
        free=usage.free,
        total=usage.total,
        root=data.root,
    )


@pages.post("/storage/free")
def free() -> Response:
    """Let go of what is made again when it is needed: shots laid open, and analyses."""
    data = services().data
    if Task.select().where(Task.state.in_(["waiting", "running"])).exists():
        raise SweepError("Work is under way that needs these files. Wait for it to finish, or stop it first.")
    before = size_of(data.analyses) + sum(size_of(data.volumes(r.id)) for r in Reel.select())
    shutil.rmtree(data.analyses, ignore_errors=True)
    for reel in Reel.select():
        shutil.rmtree(data.volumes(reel.id), ignore_errors=True)
    shutil.rmtree(data.root / "chunks", ignore_errors=True)
    for reel in Reel.select().where(Reel.state == "ready"):
        follow_up(reel)
    return jsonify(said=f"{numbers.size(before)} freed.")


def take_in(path: Path, title: str, job: Job, accept_missing: bool = False) -> Reel:
    """Put a reel on the rack and queue its intake."""
    reel = Reel.create(job=job, title=title, path=str(path), accept_missing=accept_missing)
    services().queue.put("intake", reel)
    return reel


def _job_for(title: str | None) -> Job:
    """The job of that title, begun if there is none; without a title the newest."""
    title = (title or "").strip()[:200]
    job = Job.select().where(Job.title == title).first() if title else Job.select().order_by(Job.id.desc()).first()
    return job or Job.create(title=title or "New job")


@pages.post("/reels/upload")
def upload() -> Response:
    """Take in a reel whose bytes are the body of the request."""
    name = _clean(request.args.get("name", "")) or "reel"
    folder = services().data.uploads / uuid.uuid4().hex
    folder.mkdir(parents=True)
    try:
        _receive(folder / name)
    except BaseException:
        shutil.rmtree(folder, ignore_errors=True)
        raise
    reel = take_in(folder / name, Path(name).stem, _job_for(request.args.get("job")))
    return jsonify(id=reel.id, open=url_for("reels.work", reel_id=reel.id, stage="intake"))


def _clean(name: str) -> str:
    """A name without anything that means a path."""
    return re.sub(r"[^\w.() -]", "_", Path(name).name)[-120:].lstrip(".")


def _receive(path: Path) -> None:
    """Write the body of the request to `path`; whole or not at all."""
    limit, announced = services().upload_limit, request.content_length
    if announced is None:
        abort(411, "The upload does not say how long it is.")
    if announced > limit:
        abort(
            413,
            f"The file is {announced / 1e6:.0f} MB; uploads are limited to {limit / 1e6:.0f} MB. Put it into an allowed folder and open it by path.",
        )
    received = 0
    with atomic_write(path) as stream:
        while block := request.stream.read(_BLOCK):
            received += len(block)
            if received > limit:
                abort(413, f"Uploads are limited to {limit / 1e6:.0f} MB.")
            stream.write(block)
        if received != announced:
            raise SweepError(f"The upload of {path.name} broke off after {received} of {announced} bytes. Send it again.")


class _Job(Body):
    job: int | str | None = None


class _Path(_Job):
    path: str = ""


class _Name(Body):
    name: str = ""


@pages.post("/reels/open")
def open_path() -> Response:
    """Take in a reel by its path, from the folders allowed at start."""
    sent = read_body(_Path)
    text = sent.path.strip()
    allowed = services().allowed
    if not text:
        abort(400, "Give the path of a movie file.")
    if not allowed:
        raise SweepError("No folder was allowed at start. Start the application with --allow FOLDER, or upload the file.")
    path = _allowed_path(text, allowed)
    if path is None:
        # The same words as for a path that is not there: what lies outside is nobody's business.
        raise SweepError(f"{text} is not a file or sequence in the folders allowed at start: {', '.join(str(f) for f in allowed)}.")
    if is_sequence(path):
        list_sequence(path)
    reel = take_in(path, path.stem, _job_for(str(sent.job or "")))
    return jsonify(id=reel.id, open=url_for("reels.work", reel_id=reel.id, stage="intake"))


def _allowed_path(text: str, allowed: Sequence[Path]) -> Path | None:
    """The path, if it is a file, a folder or a pattern of pictures inside an allowed folder; links are followed first."""
    try:
        path = Path(text)
        path = path.parent.resolve(strict=True) / path.name if is_sequence(path) and not path.exists() else path.resolve(strict=True)
    except (OSError, RuntimeError, ValueError):
        return None
    inside = any(path.is_relative_to(folder) for folder in allowed)
    return path if inside and (path.is_file() or is_sequence(path)) else None


@pages.post("/reels/sequence")
def begin_sequence() -> Response:
    """Begin the upload of a sequence's pictures; they are sent one by one and then taken in."""
    folder = services().data.uploads / uuid.uuid4().hex / (_clean(read_body(_Name).name) or "sequence")
    folder.mkdir(parents=True)
    return jsonify(token=folder.parent.name)


def _sequence_folder(token: str) -> Path:
    parent = services().data.uploads / token
    if not re.fullmatch(r"[0-9a-f]{32}", token) or not parent.is_dir():
        abort(404, "That upload is not there any more. Start again.")
    return next(p for p in parent.iterdir() if p.is_dir())


@pages.post("/reels/sequence/<token>/picture")
def add_picture(token: str) -> Response:
    """One picture of a sequence, as the body of the request."""
    folder = _sequence_folder(token)
    name = _clean(request.args.get("name", ""))
    if Path(name).suffix.lower() not in SUFFIXES:
        abort(400, f"{name} is not a picture of a sequence (DPX, TIFF, PNG, OpenEXR or JPEG).")
    _receive(folder / name)
    return jsonify(received=name)


@pages.post("/reels/sequence/<token>/finish")
def finish_sequence(token: str) -> Response:
    """Take in a sequence whose pictures have all been sent."""
    folder = _sequence_folder(token)
    list_sequence(folder)
    reel = take_in(folder, folder.name, _job_for(str(read_body(_Job).job or "")))
    return jsonify(id=reel.id, open=url_for("reels.work", reel_id=reel.id, stage="intake"))


@pages.post("/reels/<int:reel_id>/remove")
def remove(reel_id: int) -> Response:
    """Take a reel off the rack; its file is removed only if it came by upload."""
    _remove(reel_or_404(reel_id, needs=()))
    return jsonify(removed=reel_id)


def _remove(reel: Reel) -> None:
    shared = services()
    for task in reel.tasks:
        shared.queue.cancel(task)
        for folder in (shared.data.chunks(task.id), shared.data.delivery(task.id, "x").parent, shared.data.papers(task.id)):
            shutil.rmtree(folder, ignore_errors=True)
    shutil.rmtree(shared.data.of_reel(reel.id), ignore_errors=True)
    path = Path(reel.path)
    shared_with = Reel.select().where(Reel.path == reel.path, Reel.id != reel.id).exists()
    if path.is_relative_to(shared.data.uploads) and not shared_with:
        with contextlib.suppress(OSError):
            shutil.rmtree(path.parent)
    reel.delete_instance(recursive=True)


@pages.get("/thumbs/<int:reel_id>.jpg")
def thumb(reel_id: int) -> Response:
    """A small picture of the reel's middle."""
    reel = reel_or_404(reel_id, LOOKED_AT)
    try:
        proxy = services().viewing.proxy(reel)
    except FileNotFoundError:
        abort(404)
    if not len(proxy):
        abort(404)
    return Response(proxy.jpeg(len(proxy) // 2), mimetype="image/jpeg", headers={"Cache-Control": "private, max-age=600"})
