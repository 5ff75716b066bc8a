"""Delivery: rendering, and fetching what came out."""

from __future__ import annotations

from pathlib import Path

from flask import Blueprint, Response, abort, jsonify, render_template, send_file

from ...core.media.writer import lossless_format
from ...core.steps import STEPS
from ...store import edits
from ...store.models import Task
from .common import latest, reel_or_404, services

pages = Blueprint("delivery", __name__)


@pages.get("/reels/<int:reel_id>/sheet/delivery")
def sheet(reel_id: int) -> str:
    """The sheet."""
    reel = reel_or_404(reel_id)
    recipe = edits.recipe_of(edits.current(reel))
    done = Task.select().where(Task.reel == reel, Task.kind == "render", Task.state == "done").order_by(Task.id.desc())
    volume = services().viewing.volume(reel)
    return render_template(
        "sheets/delivery.html",
        reel=reel,
        facts=reel.facts,
        held=lossless_format(volume.format).name,
        steps=[STEPS[s.kind].title for s in recipe.active],
        busy=latest(reel, "render", "waiting", "running"),
        last=latest(reel, "render"),
        deliveries=[(t, _folder(t) / t.result["file"]) for t in done],
    )


def _folder(task: Task) -> Path:
    return services().data.delivery(task.id, "x").parent


@pages.post("/reels/<int:reel_id>/render")
def render(reel_id: int) -> Response:
    """Queue a render."""
    return jsonify(task=services().queue.put("render", reel_or_404(reel_id)).id)


@pages.get("/deliveries/<int:task_id>/<any(movie,report,recipe):which>")
def fetch(task_id: int, which: str) -> Response:
    """A finished file."""
    task = Task.get_or_none(Task.id == task_id, Task.kind == "render", Task.state == "done")
    if task is None:
        abort(404)
    name = task.result["file"] if which == "movie" else f"{which}.json"
    path = _folder(task) / name
    if not path.is_file():
        abort(404, "The delivered file is gone from the data folder. Render it again.")
    download = name if which == "movie" else f"{Path(task.result['file']).stem}-{which}.json"
    return send_file(path, as_attachment=True, download_name=download)
