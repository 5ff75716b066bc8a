"""The rack: jobs and their reels, and taking in a new one."""

from __future__ import annotations

import contextlib
import re
import shutil
import uuid
from pathlib import Path

from flask import Blueprint, Response, abort, jsonify, render_template, request, url_for

from ...core.errors import SweepError
from ...core.media.aside import written_aside
from ...store.models import Job, Reel, Task
from .common import body, reel_or_404, services

pages = Blueprint("rack", __name__)
_BLOCK = 1 << 20


@pages.get("/")
def show() -> str:
    """The front page."""
    return render_template("rack.html", jobs=_jobs(), allowed=services().allowed, upload_limit=services().upload_limit)


@pages.get("/rack/list")
def listing() -> str:
    """The list alone, for bringing it up to date."""
    return render_template("rack_list.html", jobs=_jobs())


def _jobs() -> list[tuple[Job, list[tuple[Reel, Task | None]]]]:
    rows = []
    for job in Job.select().order_by(Job.id):
        reels = []
        for reel in job.reels.order_by(Reel.id):
            busy = Task.select().where(Task.reel == reel, Task.state.in_(["waiting", "running"])).order_by(Task.id).first()
            reels.append((reel, busy))
        rows.append((job, reels))
    return rows


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
    shared = services()
    limit = shared.upload_limit
    told = request.content_length
    if told is None:
        abort(411, "The length of the upload is not told.")
    if told > limit:
        abort(
            413,
            f"The file is {told / 1e6:.0f} MB; uploads are limited to {limit / 1e6:.0f} MB. Put it into an allowed folder and open it by path.",
        )
    name = re.sub(r"[^\w.() -]", "_", Path(request.args.get("name", "")).name)[-120:].lstrip(".") or "reel"
    folder = shared.data.uploads / uuid.uuid4().hex
    folder.mkdir(parents=True)
    try:
        received = 0
        with written_aside(folder / name) as stream:
            while block := request.stream.read(_BLOCK):
                received += len(block)
                if received > limit:
                    abort(413, f"Uploads are limited to {limit / 1e6:.0f} MB.")
                stream.write(block)
            if received != told:
                raise SweepError(f"The upload of {name} broke off after {received} of {told} bytes. Send it again.")
    except BaseException:
        shutil.rmtree(folder, ignore_errors=True)
        raise
    reel = take_in(folder / name, Path(name).stem, _job_for(request.args.get("job")))
    return jsonify(id=reel.id, open=url_for("reels.work", reel_id=reel.id, stage="intake"))


@pages.post("/reels/open")
def open_path() -> Response:
    """Take in a reel by its path, from the folders allowed at start."""
    sent = body()
    text = str(sent.get("path", "")).strip()
    allowed = services().allowed
    if not text:
        abort(400, "Give the path of a movie file.")
    if not allowed:
        raise SweepError("No folder was allowed at start. Start the application with --allow FOLDER, or upload the file.")
    try:
        path = Path(text).resolve(strict=True)
    except (OSError, RuntimeError, ValueError):
        # The same words as for a path that is not allowed: what lies outside is nobody's business.
        path = None
    if path is None or not any(path.is_relative_to(folder) for folder in allowed):
        raise SweepError(f"{text} is not a file in the folders allowed at start: {', '.join(str(f) for f in allowed)}.")
    if not path.is_file():
        raise SweepError(f"{text} is a folder. Give the path of a movie file.")
    reel = take_in(path, path.stem, _job_for(str(sent.get("job") or "")))
    return jsonify(id=reel.id, open=url_for("reels.work", reel_id=reel.id, stage="intake"))


@pages.post("/reels/<int:reel_id>/remove")
def remove(reel_id: int) -> Response:
    """Take a reel off the rack; its file is removed only if it came by upload."""
    reel = reel_or_404(reel_id, ready=False)
    shared = services()
    for task in reel.tasks:
        shared.queue.cancel(task)
        for folder in (shared.data.chunks(task.id), shared.data.delivery(task.id, "x").parent):
            shutil.rmtree(folder, ignore_errors=True)
    shutil.rmtree(shared.data.of_reel(reel.id), ignore_errors=True)
    path = Path(reel.path)
    if path.is_relative_to(shared.data.uploads):
        with contextlib.suppress(OSError):
            shutil.rmtree(path.parent)
    reel.delete_instance(recursive=True)
    return jsonify(removed=reel_id)


@pages.get("/thumbs/<int:reel_id>.jpg")
def thumb(reel_id: int) -> Response:
    """A small picture of the reel's middle."""
    reel = reel_or_404(reel_id)
    proxy = services().viewing.proxy(reel)
    return Response(proxy.jpeg(len(proxy) // 2), mimetype="image/jpeg", headers={"Cache-Control": "private, max-age=600"})
