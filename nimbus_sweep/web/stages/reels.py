"""The work page of a reel: its frame, its state, undo and redo, and the tasks under way."""

from __future__ import annotations

import hashlib
import json
from datetime import UTC, datetime
from fractions import Fraction
from typing import Any

from flask import Blueprint, Response, abort, jsonify, redirect, render_template, request, url_for
from werkzeug.wrappers import Response as Redirect

from ...core.model.findings import JudgedFinding
from ...core.model.registry import DEFECTS
from ...jobs.reels import at_hand
from ...jobs.tasks import ComparisonDone, result_of
from ...store import edits
from ...store.facts import StoredFacts
from ...store.models import Edit, Reel, Setting, Task
from ...wording import title
from ..news import stream
from ..people import who
from .common import LOOKED_AT, STAGES, changes, ensure_volume, follow_up, latest, place_named, reel_or_404, services
from .trials import trials_of

pages = Blueprint("reels", __name__)

_SITE = ("x", "y", "width", "height", "first", "stop", "state", "by_hand")
_SHOT = ("id", "first", "stop", "enter", "leave", "use", "cut", "confirmed", "name")
_KEPT_SETTINGS = {"room", "mat", "log_width", "playback", "gain", "rings", "divider-column", "divider-row"}


@pages.get("/reels/<int:reel_id>")
def enter(reel_id: int) -> Redirect:
    """Go to the stage the reel is at."""
    reel = reel_or_404(reel_id, needs=())
    if reel.state == "drawing":
        return redirect(url_for("rack.show"))
    begun = reel.state == "ready" and any(s.surveyed is not None for s in services().viewing.shots(reel))
    return redirect(url_for("reels.work", reel_id=reel_id, stage="condition" if begun else "intake"))


@pages.get("/reels/<int:reel_id>/<any(intake,condition,treatment,trials,inspection,delivery):stage>")
def work(reel_id: int, stage: str) -> str | Redirect:
    """The work page; the rack while there is no reel yet."""
    reel = reel_or_404(reel_id, needs=())
    if reel.state == "drawing":
        return redirect(url_for("rack.show"))
    if reel.state != "ready":
        stage = "intake"
    else:
        ensure_volume(reel, 0)
    settings = {s.name: s.value for s in Setting.select() if s.name in _KEPT_SETTINGS}
    return render_template("work.html", reel=reel, stage=stage, stages=STAGES, done=done_of(reel), settings=settings, start=_start(reel))


def _start(reel: Reel) -> dict[str, object]:
    facts = reel.facts or StoredFacts(frames=reel.frames)
    return {
        "id": reel.id,
        "state": reel.state,
        "ready": reel.state in LOOKED_AT,
        "frames": reel.frames,
        "rate": facts.rate,
        "width": facts.width,
        "height": facts.height,
        "aspect": float(Fraction(facts.aspect)),
        "timeCode": facts.time_code,
        "absent": facts.absent,
        "mark": mark_of(reel),
        "shots": _shots(reel),
    }


def mark_of(reel: Reel) -> str:
    """What the addresses of a reel's pictures carry, so that what they name never changes."""
    text = f"{reel.fingerprint}{reel.modified}{json.dumps(reel.reading)}{reel.look}{reel.state == 'ready'}"
    return hashlib.sha256(text.encode()).hexdigest()[:12]


def _shots(reel: Reel) -> list[dict[str, object]]:
    if reel.state != "ready":
        return [
            {
                "id": 0,
                "mends": False,
                "first": 0,
                "stop": max(1, reel.frames),
                "enter": 0,
                "leave": max(1, reel.frames),
                "use": "treat",
                "cut": "start",
                "confirmed": True,
                "name": "",
            }
        ]
    mends = edits.with_kept(reel)
    return [{name: getattr(s, name) for name in _SHOT} | {"mends": s.id in mends} for s in services().viewing.shots(reel)]


def done_of(reel: Reel) -> set[str]:
    """The stages that are finished."""
    done: set[str] = set()
    if reel.state != "ready":
        return done
    done.add("intake")
    shots = [s for s in services().viewing.shots(reel) if s.use == "treat"]
    if shots and all(s.surveyed is not None for s in shots):
        done.add("condition")
    if any(s.treated for s in shots):
        done.add("treatment")
    if Task.select().where(Task.reel == reel, Task.kind == "trial", Task.state == "done").exists():
        done.add("trials")
    compared = latest(reel, "inspection", "done")
    if compared and result_of(compared, ComparisonDone).proven:
        done.add("inspection")
    if latest(reel, "render", "done"):
        done.add("delivery")
    return done


@pages.get("/reels/<int:reel_id>/state")
def state(reel_id: int) -> Response:
    """What the page has to know to stay up to date."""
    reel = reel_or_404(reel_id, needs=())
    tasks = Task.select().where(Task.reel == reel).order_by(Task.id.desc()).limit(8)
    ready = reel.state == "ready"
    viewing = services().viewing
    shots = viewing.shots(reel) if ready else ()
    shot = next((s for s in shots if s.id == request.args.get("shot", type=int)), shots[0]) if shots else None
    hand = at_hand(services().data, reel)
    laid = {path.name for path in services().data.volumes(reel.id).glob("*.bin")}
    treated = any(s.treated for s in shots) and viewing.ready(reel)
    return jsonify(
        reel=reel.state,
        mark=mark_of(reel),
        aspect=float(Fraction(reel.facts.aspect)) if reel.facts else 1.0,
        rate=reel.facts.rate if reel.facts else "24",
        revision=edits.revision(reel) if ready else "",
        undo=_told(edits.can_undo(reel)) if ready else None,
        redo=_told(edits.can_redo(reel)) if ready else None,
        treated=treated,
        done=sorted(done_of(reel)),
        shots=_shots(reel),
        laid=[int(hand.volume_path(s.first, s.stop).name in laid) for s in shots],
        of=shot.id if shot else None,
        sites=[_site(f) for f in shot.findings] if shot else [],
        tasks=[_task(t, reel) for t in tasks],
        trials=[t.model_dump() for t in trials_of(reel)] if ready else [],
    )


@pages.get("/reels/<int:reel_id>/pulse")
def pulse(reel_id: int) -> Response:
    """What tells a page whether it has to ask for more."""
    return jsonify(_pulse(reel_or_404(reel_id, needs=())))


@pages.get("/reels/<int:reel_id>/events")
def events(reel_id: int) -> Response:
    """The same whenever it changes, until the reel is gone or whoever looks is signed out."""
    reel_or_404(reel_id, needs=())
    return stream(lambda: _pulse(reel) if (reel := Reel.get_or_none(Reel.id == reel_id)) is not None else None)


def _pulse(reel: Reel) -> dict[str, object]:
    tasks = Task.select().where(Task.reel == reel).order_by(Task.id.desc()).limit(8)
    told = [_task(t, reel) for t in tasks]
    return {"reel": reel.state, "mark": mark_of(reel), "revision": f"{reel.revision}-{reel.mark}", "tasks": told}


def _told(edit: Edit | None) -> str | None:
    """A change as undo and redo name it: what it was, when, and whose."""
    if edit is None:
        return None
    at = datetime.fromisoformat(edit.created).astimezone().strftime("%H:%M")
    return f"{edit.what}, {at}{', by ' + edit.who if edit.who not in ('', who()) else ''}"


def _site(finding: JudgedFinding) -> dict[str, Any]:
    """A finding as it is marked on the picture."""
    site = {name: getattr(finding, name) for name in _SITE}
    return site | {"index": finding.id, "title": title(finding), "drawn": DEFECTS[finding.kind].drawn}


@pages.post("/reels/<int:reel_id>/open")
def open_shot(reel_id: int) -> Response:
    """Lay a shot open in time, if it is not."""
    reel = reel_or_404(reel_id)
    ensure_volume(reel, place_named(reel))
    return jsonify(queued=True)


def _task(task: Task, reel: Reel) -> dict[str, object]:
    left = _seconds_left(task, reel) if task.state == "running" else None
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


# Share of a task from which the time it has taken tells how long it will take.
_TELLING = 0.03


def _seconds_left(task: Task, reel: Reel) -> float | None:
    """How long a running task will take yet; None where that cannot be told so far."""
    if task.kind == "render":
        # A render that goes on behind finished chunks has a share from the start.
        return (1 - task.share) * reel.frames / task.rate if task.rate > 0 else None
    if task.started is None or task.share < _TELLING:
        return None
    taken = (datetime.now(UTC) - datetime.fromisoformat(task.started)).total_seconds()
    return max(0.0, taken * (1 - task.share) / task.share)


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
    return jsonify(said=f"Redone: {edit.what}" if edit else "There is nothing to redo.")


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
    for name, value in changes().items():
        if name not in _KEPT_SETTINGS or not isinstance(value, str | int | float | bool) or len(str(value)) > 40:
            abort(400, f"There is no setting called {name}.")
        Setting.insert(name=name, value=value).on_conflict(conflict_target=[Setting.name], update={Setting.value: value}).execute()
    return jsonify(remembered=True)
