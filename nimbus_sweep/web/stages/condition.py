"""Condition: the findings, keeping and dismissing them, and placing one by hand."""

from __future__ import annotations

from flask import Blueprint, Response, abort, jsonify, render_template

from ...core.survey.stuck_pixels import as_finding, departure_maps, place
from ...store import edits
from .common import body, follow_up, latest, reel_or_404, services, whole

pages = Blueprint("condition", __name__)


@pages.get("/reels/<int:reel_id>/sheet/condition")
def sheet(reel_id: int) -> str:
    """The sheet."""
    reel = reel_or_404(reel_id)
    edit = edits.current(reel)
    recipe = edits.recipe_of(edit)
    by_state: dict[str, list[tuple[int, dict[str, object]]]] = {"kept": [], "doubtful": [], "dismissed": []}
    for i, f in enumerate(edit.findings):
        by_state[f["state"]].append((i, f))
    return render_template(
        "sheets/condition.html",
        reel=reel,
        surveyed=latest(reel, "survey", "done"),
        busy=latest(reel, "survey", "waiting", "running"),
        findings=by_state,
        has_step=any(s.kind == "pixel-mend" for s in recipe.steps),
    )


@pages.post("/reels/<int:reel_id>/survey")
def survey(reel_id: int) -> Response:
    """Queue a survey."""
    return jsonify(task=services().queue.put("survey", reel_or_404(reel_id)).id)


@pages.post("/reels/<int:reel_id>/findings/<int:index>/<any(kept,dismissed,doubtful):state>")
def judge(reel_id: int, index: int, state: str) -> Response:
    """Keep or dismiss a finding."""
    reel = reel_or_404(reel_id)
    found = edits.current(reel).findings
    if index >= len(found):
        abort(404)
    if found[index]["state"] != state:
        found[index] |= {"state": state, "chosen": state == "kept"}
        verb = {"kept": "Kept", "dismissed": "Dismissed", "doubtful": "Left as doubtful"}[state]
        edits.change(reel, f"{verb} x {found[index]['x']} y {found[index]['y']}", findings=found)
        follow_up(reel)
    return jsonify(said=state)


@pages.post("/reels/<int:reel_id>/findings")
def by_hand(reel_id: int) -> Response:
    """Place a stuck pixel by hand; it snaps to the worst pixel near by unless told not to."""
    reel = reel_or_404(reel_id)
    sent = body()
    x, y = whole(sent, "x"), whole(sent, "y")
    volume = services().viewing.volume(reel)
    if not (0 <= x < volume.format.width and 0 <= y < volume.format.height):
        abort(400, f"x {x} y {y} is off the picture.")
    # A small part of the volume is enough: the survey's maps of the whole picture are not needed here.
    near = volume.window(x, y, 40)
    site = place(near.volume, departure_maps(near.volume), x - near.left, y - near.top, 3 if sent.get("snap", True) else 0)
    finding = as_finding(site, 0, reel.facts["frames"])
    stored = edits.as_stored(finding)
    stored["x"] += near.left
    stored["y"] += near.top
    found = edits.current(reel).findings
    same = next((i for i, f in enumerate(found) if abs(f["x"] - stored["x"]) <= 1 and abs(f["y"] - stored["y"]) <= 1), None)
    if same is not None:
        found[same] |= {"state": "kept", "chosen": True}
    else:
        found.append(stored)
    edits.change(reel, f"Placed x {stored['x']} y {stored['y']}", findings=found)
    follow_up(reel)
    return jsonify(x=stored["x"], y=stored["y"], index=len(found) - 1 if same is None else same)


@pages.post("/reels/<int:reel_id>/findings/<int:index>/move")
def move(reel_id: int, index: int) -> Response:
    """Nudge a finding placed by hand."""
    reel = reel_or_404(reel_id)
    sent = body()
    found = edits.current(reel).findings
    if index >= len(found):
        abort(404)
    one = found[index]
    if not one["by_hand"]:
        abort(409, "Only a finding placed by hand can be moved; dismiss this one and place another.")
    one["x"] = min(max(0, one["x"] + whole(sent, "dx")), reel.facts["width"] - one["width"])
    one["y"] = min(max(0, one["y"] + whole(sent, "dy")), reel.facts["height"] - one["height"])
    edits.change(reel, f"Moved to x {one['x']} y {one['y']}", findings=found)
    follow_up(reel)
    return jsonify(x=one["x"], y=one["y"])
