"""Condition: the findings, keeping and dismissing them, and placing one by hand."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from flask import Blueprint, Response, abort, jsonify, render_template, request

from ...core.defects.cue_marks.detect import drawn_by_hand as drawn_cue_mark
from ...core.defects.static_shade.marks import drawn_by_hand
from ...core.defects.stuck_pixels.detect import as_finding, departure_maps
from ...core.defects.stuck_pixels.detect import place as place_site
from ...core.steps import STEPS
from ...store import edits
from ...store.models import Reel
from ..words import WAYS
from .common import SweepError, body, follow_up, latest, place_named, reel_or_404, services, whole
from .light import drawn as drawn_light
from .regions import shape_named

pages = Blueprint("condition", __name__)


@dataclass(frozen=True)
class _Kind:
    kind: str
    step: str
    title: str
    note: str
    missed: str

    @property
    def step_title(self) -> str:
        return STEPS[self.step].title


_KINDS = (
    _Kind(
        "stuck-pixel",
        "pixel-mend",
        "Stuck and dead pixels",
        "Each departs from its surroundings in the same way in nearly every frame.",
        "Missed one? Put the cross-hair on it, look with the loupe (<kbd>L</kbd>), and place it with <kbd>P</kbd>.",
    ),
    _Kind(
        "static-shade",
        "unshade",
        "Dust, hairs and lens dirt",
        "Each stays put while the scene moves behind it.",
        "It can only be told where the scene moves behind it. Hold the average (<kbd>E</kbd>) to look for yourself.",
    ),
    _Kind(
        "film-dirt",
        "speck-sweep",
        "Film dirt",
        "Each speck is in a frame or two; some frames were looked at closely, the step looks at all of them.",
        "Some frames were looked at; the step can be put on all the same, in Treatment.",
    ),
    _Kind(
        "scratch",
        "line-lift",
        "Scratches",
        "Each is a line down the picture that lasts, at a place of its own; in the row slice it draws a thread.",
        "A line is told from a mast or a door by how it lies over the picture, and by the scene moving behind it.",
    ),
    _Kind(
        "fleeting",
        "fleeting",
        "Things that cross",
        "Named, never taken off unasked: a bird may belong to the picture.",
        "Something crosses all the same? The step can be put on in Treatment.",
    ),
    _Kind(
        "cue-mark",
        "cue-lift",
        "Cue marks",
        "Each sits in an upper corner for a few frames, and is not there before and behind.",
        "Missed one? Go to a frame that has it, and draw round it below: its other frames, and the other of its pair, are found from it.",
    ),
)


@pages.get("/reels/<int:reel_id>/sheet/condition")
def sheet(reel_id: int) -> str:
    """The sheet."""
    reel = reel_or_404(reel_id)
    shots, place = services().viewing.shots(reel), place_named(reel)
    shot = shots[place]
    by_state: dict[str, list[tuple[int, dict[str, object]]]] = {"kept": [], "doubtful": [], "dismissed": []}
    for i, f in enumerate(shot.findings):
        by_state[f["state"]].append((i, f))
    return render_template(
        "sheets/condition.html",
        reel=reel,
        shots=shots,
        place=place,
        shot=shot,
        surveyed=shot.surveyed is not None,
        waiting=[n for n, s in enumerate(shots) if s.use != "exclude" and s.surveyed is None],
        busy=latest(reel, "survey", "waiting", "running"),
        findings=by_state,
        on={s.kind for s in shot.recipe.steps},
        kinds=_KINDS,
        ways=WAYS,
        step_titles={kind.kind: kind.title for kind in STEPS.values()},
        light=drawn_light(reel, shot),
        ready=shot.treated and services().viewing.ready(reel),
        revision=edits.current(reel).mark,
    )


@pages.post("/reels/<int:reel_id>/survey")
def survey(reel_id: int) -> Response:
    """Queue a survey of the shot named, or of all that are not excluded."""
    reel = reel_or_404(reel_id)
    shots = services().viewing.shots(reel)
    every = [n for n, s in enumerate(shots) if s.use != "exclude"]
    places = every if request.args.get("shots") == "all" else [place_named(reel)]
    if not places:
        raise SweepError("Every shot is excluded. Take one in again, in Intake.")
    return jsonify(task=services().queue.put("survey", reel, {"shots": places}).id)


def _changed(reel: Reel, place: int, what: str, findings: list[dict[str, Any]]) -> None:
    edits.change_shot(reel, what, place, lambda s: s.with_(findings=tuple(findings)))
    follow_up(reel)


def _findings(reel: Reel, place: int) -> list[dict[str, Any]]:
    return [dict(f) for f in services().viewing.shots(reel)[place].findings]


@pages.post("/reels/<int:reel_id>/findings/<int:index>/<any(kept,dismissed,doubtful):state>")
def judge(reel_id: int, index: int, state: str) -> Response:
    """Keep or dismiss a finding."""
    reel = reel_or_404(reel_id)
    place = place_named(reel)
    found = _findings(reel, place)
    if index >= len(found):
        abort(404)
    if found[index]["state"] != state:
        found[index] |= {"state": state, "chosen": state == "kept"}
        verb = {"kept": "Kept", "dismissed": "Dismissed", "doubtful": "Left as doubtful"}[state]
        _changed(reel, place, f"{verb} x {found[index]['x']} y {found[index]['y']}", found)
    return jsonify(said=state)


@pages.post("/reels/<int:reel_id>/findings")
def by_hand(reel_id: int) -> Response:
    """Place a stuck pixel by hand; it snaps to the worst pixel near by unless told not to."""
    reel = reel_or_404(reel_id)
    sent = body()
    x, y = whole(sent, "x"), whole(sent, "y")
    place = place_named(reel)
    shot = services().viewing.shots(reel)[place]
    volume = services().viewing.volume(reel, shot).between(*shot.span)
    if not (0 <= x < volume.format.width and 0 <= y < volume.format.height):
        abort(400, f"x {x} y {y} is off the picture.")
    # A small part of the volume is enough: the survey's maps of the whole picture are not needed here.
    near = volume.window(x, y, 40)
    site = place_site(near.volume, departure_maps(near.volume), x - near.left, y - near.top, 3 if sent.get("snap", True) else 0)
    finding = as_finding(site, shot.first, shot.stop)
    stored = edits.as_stored(finding)
    stored["x"] += near.left
    stored["y"] += near.top
    found = _findings(reel, place)
    same = next((i for i, f in enumerate(found) if abs(f["x"] - stored["x"]) <= 1 and abs(f["y"] - stored["y"]) <= 1), None)
    if same is not None:
        found[same] |= {"state": "kept", "chosen": True}
    else:
        found.append(stored)
    _changed(reel, place, f"Placed x {stored['x']} y {stored['y']}", found)
    return jsonify(x=stored["x"], y=stored["y"], index=len(found) - 1 if same is None else same)


@pages.post("/reels/<int:reel_id>/findings/shade")
def drawn(reel_id: int) -> Response:
    """Add a mark that the user drew a line round."""
    reel = reel_or_404(reel_id)
    place, shape = place_named(reel), shape_named()
    shot = services().viewing.shots(reel)[place]
    finding = drawn_by_hand(shape, (reel.facts["height"], reel.facts["width"]), shot.first, shot.stop)
    found = [*_findings(reel, place), edits.as_stored(finding)]
    _changed(reel, place, f"Drew round x {finding.x} y {finding.y}", found)
    return jsonify(said=f"Drawn round x {finding.x} y {finding.y}", index=len(found) - 1)


@pages.post("/reels/<int:reel_id>/findings/cue")
def drawn_cue(reel_id: int) -> Response:
    """Add a cue mark that the user drew a line round in a frame."""
    reel = reel_or_404(reel_id)
    place, shape, frame = place_named(reel), shape_named(), whole(body(), "frame")
    shot = services().viewing.shots(reel)[place]
    if not shot.first <= frame < shot.stop:
        abort(400, f"Frame {frame} is not in this shot.")
    finding = drawn_cue_mark(shape, (reel.facts["height"], reel.facts["width"]), services().viewing.moment(reel, frame))
    found = [*_findings(reel, place), edits.as_stored(finding)]
    _changed(reel, place, f"Cue mark drawn in frame {frame}", found)
    return jsonify(said=f"Cue mark in frame {frame}; its other frames are found by the step", index=len(found) - 1)


@pages.post("/reels/<int:reel_id>/findings/<int:index>/way")
def way(reel_id: int, index: int) -> Response:
    """Say how one mark is to be mended."""
    reel = reel_or_404(reel_id)
    place, chosen = place_named(reel), str(body().get("way", ""))
    found = _findings(reel, place)
    if index >= len(found) or found[index]["kind"] != "static-shade":
        abort(404)
    if chosen not in WAYS:
        abort(400, f"There is no way called {chosen}.")
    found[index]["numbers"] = {**found[index]["numbers"], "mended_by": chosen}
    _changed(reel, place, f"x {found[index]['x']} y {found[index]['y']}: {WAYS[chosen]}", found)
    return jsonify(said=f"Mended by {WAYS[chosen]}")


@pages.post("/reels/<int:reel_id>/findings/<int:index>/move")
def move(reel_id: int, index: int) -> Response:
    """Nudge a finding placed by hand."""
    reel = reel_or_404(reel_id)
    sent = body()
    place = place_named(reel)
    found = _findings(reel, place)
    if index >= len(found):
        abort(404)
    one = found[index]
    if not one["by_hand"]:
        abort(409, "Only a finding placed by hand can be moved; dismiss this one and place another.")
    if "outline" in one["numbers"]:
        abort(409, "A mark drawn by hand stays where it is; dismiss it and draw it anew.")
    one["x"] = min(max(0, one["x"] + whole(sent, "dx")), reel.facts["width"] - one["width"])
    one["y"] = min(max(0, one["y"] + whole(sent, "dy")), reel.facts["height"] - one["height"])
    _changed(reel, place, f"Moved to x {one['x']} y {one['y']}", found)
    return jsonify(x=one["x"], y=one["y"])
