"""Intake: what was read of a reel beside what was assumed."""

from __future__ import annotations

from pathlib import Path

from flask import Blueprint, Response, jsonify, render_template

from ...store.models import Reel
from .common import latest, reel_or_404, services

pages = Blueprint("intake", __name__)


@pages.get("/reels/<int:reel_id>/sheet/intake")
def sheet(reel_id: int) -> str:
    """The sheet."""
    reel = reel_or_404(reel_id, ready=False)
    return render_template("sheets/intake.html", reel=reel, facts=reel.facts, task=latest(reel, "intake"), place=_place(reel))


def _place(reel: Reel) -> str:
    """Where the file lies, told from the data folder if it is in there."""
    path, root = Path(reel.path), services().data.root
    return f"data folder, {path.relative_to(root)}" if path.is_relative_to(root) else str(path)


@pages.post("/reels/<int:reel_id>/accept-missing")
def accept_missing(reel_id: int) -> Response:
    """Read a damaged reel again, leaving out what cannot be read."""
    reel = reel_or_404(reel_id, ready=False)
    Reel.update(accept_missing=True, state="new", refusal="").where(Reel.id == reel.id).execute()
    services().queue.put("intake", Reel.get_by_id(reel.id))
    return jsonify(queued=True)


@pages.post("/reels/<int:reel_id>/intake")
def again(reel_id: int) -> Response:
    """Read the reel again, as after its file has changed."""
    reel = reel_or_404(reel_id, ready=False)
    Reel.update(state="new", refusal="").where(Reel.id == reel.id).execute()
    services().queue.put("intake", Reel.get_by_id(reel.id))
    return jsonify(queued=True)
