"""Unattended runs of a job, and the list of what needs eyes."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from typing import Any, Literal

from flask import Blueprint, Response, abort, jsonify, render_template, request, url_for
from peewee import fn
from pydantic import Field

from ...core.media.formats import FORMATS, Delivery, Kind
from ...core.model.recipes import Recipe
from ...jobs import eyes, runs
from ...jobs.queue import RUN
from ...jobs.tasks import FinishSettings, RunDone, RunSettings, result_of
from ...store import edits
from ...store.models import Eye, Job, Reel, SavedRecipe, Setting, Task, writing
from ...wording.eyes import DOES, heading, reason
from ..people import who
from .common import Body, follow_up, read_body, services

pages = Blueprint("eyes", __name__)
# Entries that a page lists at once.
_LISTED = 60


def _job(job_id: int) -> Job:
    job = Job.get_or_none(Job.id == job_id)
    if job is None:
        abort(404)
    return job


@contextmanager
def _changing() -> Iterator[None]:
    """A change that is made whole or not at all, by whoever asks; what it queues is found when it is stored."""
    with services().queue.held(), writing():
        edits.author.set((who(), request.headers.get("X-Page", "")[:40]))
        yield


# -- runs -------------------------------------------------------------------------------------------------


class _Begin(Body):
    reels: tuple[int, ...] = Field(default=(), strict=False)
    recipe: int = 0
    kind: Kind | Literal[""] = ""


@pages.post("/jobs/<int:job_id>/run")
def begin(job_id: int) -> Response:
    """Begin an unattended run over reels of a job; over all of them if none is named."""
    job, sent = _job(job_id), read_body(_Begin, "That run")
    reels = [r for r in job.reels.order_by(Reel.id) if r.state != "drawing" and (not sent.reels or r.id in sent.reels)]
    saved = SavedRecipe.get_or_none(SavedRecipe.id == sent.recipe) if sent.recipe else None
    if sent.recipe and saved is None:
        abort(409, "That recipe was removed meanwhile. Choose another.")
    settings = RunSettings(
        recipe=Recipe.model_validate(saved.recipe) if saved else None, delivery=Delivery(kind=sent.kind) if sent.kind else None
    )
    with _changing():
        runs.begin(services().queue, job, reels, settings, who())
    return jsonify(said=f"Running {len(reels)} reel{'' if len(reels) == 1 else 's'}.")


@pages.post("/jobs/<int:job_id>/run/<any(pause,resume,stop):what>")
def steer(job_id: int, what: str) -> Response:
    """Hold the run of a job, have it go on, or end it."""
    run = runs.newest(_job(job_id))
    if run is None:
        abort(404)
    if what == "stop":
        runs.stop(services().queue, run)
        return jsonify(said="Stopped. What was done stays.")
    runs.pause(run, what == "pause")
    return jsonify(said="Paused." if what == "pause" else "Going on.")


@pages.post("/reels/<int:reel_id>/run/<any(earlier,later):way>")
def order(reel_id: int, way: str) -> Response:
    """Have a reel that waits in a run done earlier or later."""
    task = Task.select().where(Task.reel == reel_id, Task.kind == RUN, Task.state == "waiting").first()
    if task is None or not runs.move(task, -1 if way == "earlier" else 1):
        abort(409, "It cannot be moved further.")
    return jsonify(said="Moved.")


# -- the list ---------------------------------------------------------------------------------------------


@pages.get("/jobs/<int:job_id>/eyes")
def show(job_id: int) -> str:
    """The list, one entry at a time, and what was done to each reel."""
    job = _job(job_id)
    settings = {s.name: s.value for s in Setting.select() if s.name == "room"}
    kinds = [(f.kind, f.title) for f in FORMATS.values()]
    return render_template("eyes.html", job=job, settings=settings, told=_told(job), done=_done(job), kinds=kinds)


@pages.get("/jobs/<int:job_id>/eyes/list")
def listing(job_id: int) -> Response:
    """The worst of what is open."""
    return jsonify(_told(_job(job_id)))


@pages.get("/jobs/<int:job_id>/eyes/done")
def done(job_id: int) -> str:
    """What was done to each reel, alone."""
    job = _job(job_id)
    return render_template("eyes_done.html", job=job, done=_done(job), kinds=[(f.kind, f.title) for f in FORMATS.values()])


def _told(job: Job) -> dict[str, Any]:
    entries = list(eyes.open_of(job).limit(_LISTED))
    families = {e.family for e in entries if e.family}
    alike: dict[str, int] = dict(
        Eye.select(Eye.family, fn.COUNT(Eye.id))
        .join(Reel)
        .where(Reel.job == job, Eye.state == "open", Eye.family.in_(families))  # those that are not shown are decided on with them
        .group_by(Eye.family)
        .tuples()  # type: ignore[arg-type]
    )
    titles: dict[int, str] = dict(Reel.select(Reel.id, Reel.title).where(Reel.job == job).tuples())  # type: ignore[arg-type]
    at = runs.standing(job)
    return {
        "open": eyes.open_of(job).count(),
        "running": at is not None and at.under_way,
        "ready": runs.ready_to_deliver(job),
        "entries": [_entry(e, titles[e.reel_id], alike.get(e.family, 1) - 1) for e in entries],
    }


def _entry(eye: Eye, title: str, alike: int) -> dict[str, Any]:
    accept, leave = DOES[eye.kind]
    stage = {"failed": "intake", "missing": "intake", "doubtful": "condition", "meant": "condition", "note": "condition"}.get(
        eye.kind, "inspection"
    )
    return {
        "id": eye.id,
        "reel": eye.reel_id,
        "title": title,
        "shot": eye.shot,
        "kind": eye.kind,
        "heading": heading(eye.kind, eye.values),
        "reason": reason(eye.kind, eye.values),
        "frame": eye.frame,
        "box": [eye.x, eye.y, eye.width, eye.height],
        "pictured": eye.kind not in ("failed", "missing"),
        "after": {"doubtful": "doubtful", "note": ""}.get(eye.kind, "treated"),
        "accept": accept.said,
        "leave": leave.said,
        "like": alike,
        "remark": eye.remark,
        "open": url_for("reels.work", reel_id=eye.reel_id, stage=stage),
    }


def _done(job: Job) -> dict[str, Any]:
    at = runs.standing(job)
    newest = {t.reel_id: t for _, t in at.reels} if at is not None else {}
    rows = []
    for reel in job.reels.order_by(Reel.id):
        task = newest.get(reel.id)
        done = result_of(task, RunDone) if task is not None and task.state == "done" else None
        delivered = Task.select().where(Task.reel == reel, Task.kind == "render", Task.state == "done").exists()
        finishing = Task.select().where(Task.reel == reel, Task.kind == "finish").order_by(Task.id.desc()).first()
        rows.append({"reel": reel, "task": task, "done": done, "left": eyes.count_of(reel), "delivered": delivered, "finishing": finishing})
    judged = Eye.select().join(Reel).where(Reel.job == job, Eye.state != "open")
    waved = sorted({e.who or "nobody" for e in judged if e.state == "waved"})
    return {"rows": rows, "run": at, "decided": judged.count(), "waved": waved, "ready": runs.ready_to_deliver(job)}


class _Decision(Body):
    like: bool = False


@pages.post("/eyes/<int:eye_id>/<any(accepted,left):state>")
def decide(eye_id: int, state: str) -> Response:
    """Accept an entry or leave it alone, and those like it where that is asked for."""
    sent = read_body(_Decision)
    eye = Eye.get_or_none(Eye.id == eye_id)
    if eye is None:
        abort(409, "This is not on the list any more. The list shows what is there now.")
    some = [eye, *(eyes.like(eye) if sent.like else [])]
    with _changing():
        said = eyes.decide(services().queue, some, state, who())
    _follow({e.reel_id for e in some})
    return jsonify(said=said, **_told(eye.reel.job))


def _follow(reels: set[int]) -> None:
    for number in reels:
        reel = Reel.get_by_id(number)
        if reel.state == "ready":
            follow_up(reel)


class _Remark(Body):
    remark: str = ""


@pages.post("/eyes/<int:eye_id>/remark")
def remark(eye_id: int) -> Response:
    """Note something with an entry."""
    eye = Eye.get_or_none(Eye.id == eye_id)
    if eye is None:
        abort(409, "This is not on the list any more. The list shows what is there now.")
    eyes.remark(eye, read_body(_Remark).remark)
    return jsonify(said="Noted.")


@pages.post("/jobs/<int:job_id>/eyes/undo")
def undo(job_id: int) -> Response:
    """Take the last decision back."""
    job = _job(job_id)
    with _changing():
        said, changed = eyes.undo(job)
    _follow({r.id for r in changed})
    return jsonify(said=said, **_told(job))


@pages.post("/jobs/<int:job_id>/eyes/wave")
def wave(job_id: int) -> Response:
    """Let everything that is left pass, by name."""
    job = _job(job_id)
    count = eyes.wave_through(job, who())
    return jsonify(said=f"Waved through: {count}." if count else "There is nothing left.", **_told(job))


@pages.post("/jobs/<int:job_id>/eyes/again")
def again(job_id: int) -> Response:
    """Look the reels over once more, as after work by hand."""
    job = _job(job_id)
    for reel in job.reels:
        if reel.state in ("ready", "refused"):
            eyes.look_over(reel)
    return jsonify(said="Looked over.", **_told(job))


class _Finish(Body):
    kind: Kind = "ffv1"


@pages.post("/jobs/<int:job_id>/deliver")
def deliver(job_id: int) -> Response:
    """Deliver all reels of a job whose list is empty."""
    job = _job(job_id)
    with _changing():
        count = runs.finish(services().queue, job, FinishSettings(delivery=Delivery(kind=read_body(_Finish).kind)))
    return jsonify(said=f"Delivering {count} reel{'' if count == 1 else 's'}, with papers.")
