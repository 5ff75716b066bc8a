"""The work page of a reel: its frame, its state, undo and redo, and the tasks under way."""

from __future__ import annotations

from flask import Blueprint, Response, abort, jsonify, redirect, render_template, url_for
from werkzeug.wrappers import Response as Redirect

from ...store import edits
from ...store.models import Reel, Setting, Task
from .common import STAGES, body, follow_up, latest, reel_or_404, services

pages = Blueprint("reels", __name__)

_SITE = ("x", "y", "width", "height", "state", "title", "by_hand")
_KEPT_SETTINGS = {"room", "mat", "log_width", "playback", "gain", "rings"}


@pages.get("/reels/<int:reel_id>")
def enter(reel_id: int) -> Redirect:
    """Go to the stage the reel is at."""
    reel = reel_or_404(reel_id, ready=False)
    return redirect(url_for("reels.work", reel_id=reel_id, stage="condition" if reel.state == "ready" else "intake"))


@pages.get("/reels/<int:reel_id>/<any(intake,condition,treatment,inspection,delivery):stage>")
def work(reel_id: int, stage: str) -> str:
    """The work page."""
    reel = reel_or_404(reel_id, ready=False)
    if reel.state != "ready":
        stage = "intake"
    settings = {s.name: s.value for s in Setting.select()}
    return render_template("work.html", reel=reel, stage=stage, stages=STAGES, done=_done(reel), settings=settings, start=_start(reel))


def _start(reel: Reel) -> dict[str, object]:
    facts = reel.facts or {}
    numbers = [int(n) for n in services().viewing.volume(reel).numbers] if reel.state == "ready" else []
    return {
        "id": reel.id,
        "ready": reel.state == "ready",
        "frames": facts.get("frames", 0),
        "rate": facts.get("rate", "24"),
        "width": facts.get("width", 0),
        "height": facts.get("height", 0),
        "held": numbers,
        "fingerprint": reel.fingerprint[:12],
    }


def _done(reel: Reel) -> set[str]:
    done = set()
    if reel.state == "ready":
        done.add("intake")
    if latest(reel, "survey", "done"):
        done.add("condition")
    if edits.recipe_of(edits.current(reel)).active:
        done.add("treatment")
    compared = latest(reel, "inspection", "done")
    if compared and compared.result["proven"]:
        done.add("inspection")
    if latest(reel, "render", "done"):
        done.add("delivery")
    return done


@pages.get("/reels/<int:reel_id>/state")
def state(reel_id: int) -> Response:
    """What the page has to know to stay up to date."""
    reel = reel_or_404(reel_id, ready=False)
    tasks = Task.select().where(Task.reel == reel).order_by(Task.id.desc()).limit(8)
    edit = edits.current(reel)
    ready = reel.state == "ready"
    return jsonify(
        reel=reel.state,
        revision=edit.id,
        undo=edits.can_undo(reel),
        redo=edits.can_redo(reel),
        treated=bool(ready and services().viewing.settled(reel).active and services().viewing.ready(reel)),
        done=sorted(_done(reel)),
        sites=[
            {k: f[k] for k in ("x", "y", "width", "height", "state", "title", "by_hand")} | {"index": i}
            for i, f in enumerate(edit.findings)
        ],
        tasks=[_task(t, reel) for t in tasks],
    )


def _task(task: Task, reel: Reel) -> dict[str, object]:
    frames = (reel.facts or {}).get("frames", 0)
    left = (1 - task.share) * frames / task.rate if task.rate > 0 and task.state == "running" else None
    return {
        "id": task.id,
        "kind": task.kind,
        "state": task.state,
        "share": task.share,
        "rate": round(task.rate, 1),
        "left": None if left is None else round(left),
        "what": task.what,
        "error": task.error,
        "again": task.attempts > 1,
    }


@pages.post("/reels/<int:reel_id>/undo")
def undo(reel_id: int) -> Response:
    """Take the last change back."""
    reel = reel_or_404(reel_id)
    edit = edits.undo(reel)
    follow_up(reel)
    return jsonify(said=f"Taken back: {edit.what}" if edit else "There is nothing to take back.")


@pages.post("/reels/<int:reel_id>/redo")
def redo(reel_id: int) -> Response:
    """Put the last change taken back on again."""
    reel = reel_or_404(reel_id)
    edit = edits.redo(reel)
    follow_up(reel)
    return jsonify(said=f"Put on again: {edit.what}" if edit else "There is nothing to put on again.")


@pages.post("/tasks/<int:task_id>/cancel")
def cancel(task_id: int) -> Response:
    """Stop work."""
    task = Task.get_or_none(Task.id == task_id)
    if task is None:
        abort(404)
    services().queue.cancel(task)
    return jsonify(cancelled=task_id)


@pages.post("/settings")
def remember() -> Response:
    """Remember how the user likes something."""
    for name, value in body().items():
        if name not in _KEPT_SETTINGS or not isinstance(value, str | int | float | bool) or len(str(value)) > 40:
            abort(400, f"There is no setting called {name}.")
        Setting.insert(name=name, value=value).on_conflict(conflict_target=[Setting.name], update={Setting.value: value}).execute()
    return jsonify(remembered=True)
