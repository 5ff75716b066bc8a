"""Condition: the findings, keeping and dismissing them, and placing one by hand."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any, Literal

import numpy as np
from flask import Blueprint, Response, abort, current_app, jsonify, render_template, request, url_for
from pydantic import ValidationError

from ...core.evidence.mark_course import mark_course
from ...core.model.findings import Finding, JudgedFinding
from ...core.model.recipes import first_fault
from ...core.model.registry import DEFECTS, STEPS
from ...core.model.shots import Shot
from ...core.pipeline.likes import like
from ...jobs.tasks import SurveySettings
from ...store import edits, rows
from ...store.models import FindingRow, Reel
from ...wording import title
from .charts import CHART_HIGH, CHART_WIDE, chart_points
from .common import Body, DrawnShape, SweepError, changes, follow_up, latest, place_named, read_body, reel_or_404, services
from .light import drawn as drawn_light

pages = Blueprint("condition", __name__)


def words_of(kind: str) -> Any:
    """The macros of a kind's template."""
    return current_app.jinja_env.get_template(f"defects/{kind}.html").module


@pages.get("/reels/<int:reel_id>/sheet/condition")
def sheet(reel_id: int) -> str:
    """The sheet."""
    reel = reel_or_404(reel_id)
    shots, place = services().viewing.shots(reel), place_named(reel)
    shot = shots[place]
    by_state: dict[str, list[tuple[int, JudgedFinding]]] = {"kept": [], "doubtful": [], "dismissed": []}
    for f in shot.findings:
        by_state[f.state].append((f.id, f))
    return render_template(
        "sheets/condition.html",
        reel=reel,
        shots=shots,
        place=place,
        shot=shot,
        surveyed=shot.surveyed is not None,
        waiting=[s.id for s in shots if s.use != "exclude" and s.surveyed is None],
        busy=latest(reel, "survey", "waiting", "running"),
        findings=by_state,
        on={s.kind for s in shot.recipe.steps},
        defects=DEFECTS,
        words={kind: words_of(kind) for kind in DEFECTS},
        step_titles={kind.kind: kind.title for kind in STEPS.values()},
        light=drawn_light(reel, shot),
        ready=shot.treated and services().viewing.ready(reel),
        revision=edits.revision(reel),
    )


@pages.post("/reels/<int:reel_id>/survey")
def survey(reel_id: int) -> Response:
    """Queue a survey of the shot named, or of all that are not excluded."""
    reel = reel_or_404(reel_id)
    shots = services().viewing.shots(reel)
    every = [s.id for s in shots if s.use != "exclude"]
    chosen = every if request.args.get("shots") == "all" else [shots[place_named(reel)].id]
    if not chosen:
        raise SweepError("Every shot is excluded. Take one in again, in Intake.")
    return jsonify(task=services().queue.put("survey", reel, SurveySettings(numbers=tuple(chosen))).id)


def _changed(reel: Reel, place: int, what: str, findings: Sequence[JudgedFinding]) -> None:
    edits.change_shot(reel, what, place, lambda s: s.with_(findings=tuple(findings)))
    follow_up(reel)


def _findings(reel: Reel, place: int) -> list[JudgedFinding]:
    return list(services().viewing.shots(reel)[place].findings)


def _finding(reel: Reel, place: int, index: int) -> tuple[list[JudgedFinding], JudgedFinding]:
    found = _findings(reel, place)
    if index >= len(found):
        abort(404)
    return found, found[index]


def _where(finding: Finding) -> str:
    return f"x {finding.x} y {finding.y}"


@pages.post("/reels/<int:reel_id>/findings/<int:index>/<any(kept,dismissed,doubtful):state>")
def judge(reel_id: int, index: int, state: Literal["kept", "dismissed", "doubtful"]) -> Response:
    """Keep or dismiss a finding."""
    reel = reel_or_404(reel_id)
    place = place_named(reel)
    found, one = _finding(reel, place, index)
    if one.state != state:
        found[index] = one.with_(state=state, chosen=state == "kept")
        verb = {"kept": "Kept", "dismissed": "Dismissed", "doubtful": "Left as doubtful"}[state]
        _changed(reel, place, f"{verb} {_where(one)}", found)
    return jsonify(said=state, offer=_offer(reel, found[index], state))


# Doubtful findings of a reel that are looked through for those like one.
_MOST_LIKE = 400


def _alike(reel: Reel, one: JudgedFinding, state: str) -> list[JudgedFinding]:
    """The findings of the reel that are like one, in doubt, and not decided on by anybody; of its own shot those that are kept, too."""
    if state == "doubtful":
        return []
    number = FindingRow.select(FindingRow.shot).where(FindingRow.id == one.id).scalar()
    mine = next((s for s in services().viewing.shots(reel) if s.id == number), None)
    asked = ("doubtful", "kept") if state == "dismissed" else ("doubtful",)
    others = [f for f in (mine.findings if mine else ()) if f.state in asked and not f.chosen and not f.by_hand and f.id != one.id]
    inside = {f.id for f in mine.findings} if mine else set()
    others += [f for f in rows.doubtful_of(reel.id, one.kind, _MOST_LIKE) if f.id not in inside]
    return [f for f in like(one, others) if isinstance(f, JudgedFinding)]


def _offer(reel: Reel, one: JudgedFinding, state: str) -> dict[str, Any] | None:
    """What may be decided for those like a finding that was just decided on."""
    count = len(_alike(reel, one, state))
    if not count:
        return None
    verb = "Keep" if state == "kept" else "Dismiss"
    return {
        "said": f"{count} more like it in this reel",
        "do": f"{verb} {'that' if count == 1 else 'those'} too",
        "url": url_for("condition.judge_like", reel_id=reel.id, number=one.id, state=state),
    }


@pages.post("/reels/<int:reel_id>/like/<int:number>/<any(kept,dismissed):state>")
def judge_like(reel_id: int, number: int, state: Literal["kept", "dismissed"]) -> Response:
    """Keep or dismiss what is like a finding, in all shots of the reel."""
    reel = reel_or_404(reel_id)
    within = FindingRow.select(FindingRow.shot).where(FindingRow.id == number).scalar()
    one = next((f for s in services().viewing.shots(reel) if s.id == within for f in s.findings if f.id == number), None)
    if one is None:
        abort(409, "That finding is gone. The sheet shows what is there now.")
    some = {f.id for f in _alike(reel, one, state)}
    verb = "Kept" if state == "kept" else "Dismissed"
    said = f"{verb} {len(some)} like {_where(one)}"

    holding = {row.shot_id for row in FindingRow.select(FindingRow.shot).where(FindingRow.id.in_(some))}

    def judged(shot: Shot) -> Shot:
        if shot.id not in holding:
            return shot
        return shot.with_(findings=tuple(f.with_(state=state, chosen=state == "kept") if f.id in some else f for f in shot.findings))

    edits.change(reel, said, lambda shots: tuple(judged(s) for s in shots))
    follow_up(reel)
    return jsonify(said=f"{said}.")


@pages.get("/reels/<int:reel_id>/findings/<int:index>/course")
def course(reel_id: int, index: int) -> str:
    """The light of a finding that stays put over time against that just around it, as a small chart."""
    reel = reel_or_404(reel_id)
    place = place_named(reel)
    _, one = _finding(reel, place, index)
    shot = services().viewing.shots(reel)[place]
    volume = services().viewing.volume(reel, shot).between(*shot.span)
    made = mark_course(volume, (one.x, one.y, one.width, one.height), getattr(one.evidence, "outline", ()))
    if made is None:
        return render_template("sheets/course.html", course=None)
    low, high = (float(f([made.here, made.around])) for f in (np.min, np.max))
    at = np.linspace(0, 1, len(made.frames))
    here, around = (chart_points(at, 0.05 + 0.9 * (v - low) / max(high - low, 1.0)) for v in (made.here, made.around))
    ends = {"low": round(low), "high": round(high)}
    told, doubt = (getattr(one.evidence, name, 0.0) for name in ("mean", "doubt"))
    band = ""
    if doubt and not getattr(one.evidence, "level", 0.0):
        # Where the light of the mark would lie as far as the evidence is in doubt: there and back along its two edges.
        edges = [0.05 + 0.9 * (made.around * (made.share[0] + part * doubt) - low) / max(high - low, 1.0) for part in (-1, 1)]
        band = " ".join(chart_points(at[::turn], np.clip(edge, 0, 1)[::turn]) for edge, turn in zip(edges, (1, -1), strict=True))
    return render_template(
        "sheets/course.html",
        course=made,
        width=CHART_WIDE,
        height=CHART_HIGH,
        here=here,
        around=around,
        band=band,
        told=told,
        doubt=doubt,
        **ends,
    )


class _Place(Body):
    x: int
    y: int
    snap: bool = True


class _Move(Body):
    dx: int
    dy: int


@pages.post("/reels/<int:reel_id>/findings")
def by_hand(reel_id: int) -> Response:
    """Place a finding by hand; it snaps to the worst place near by unless told not to."""
    reel = reel_or_404(reel_id)
    sent = read_body(_Place)
    x, y = sent.x, sent.y
    place = place_named(reel)
    shot = services().viewing.shots(reel)[place]
    volume = services().viewing.volume(reel, shot).between(*shot.span)
    if not (0 <= x < volume.format.width and 0 <= y < volume.format.height):
        abort(400, f"x {x} y {y} is off the picture.")
    make = next(kind.place for kind in DEFECTS.values() if kind.place is not None)
    # A small part of the volume is enough: the survey's maps of the whole picture are not needed here.
    near = volume.window(x, y, 40)
    made = make(near.volume, x - near.left, y - near.top, 3 if sent.snap else 0, shot.first, shot.stop)
    placed = JudgedFinding.of(made).with_(x=made.x + near.left, y=made.y + near.top)
    found = _findings(reel, place)
    same = next((i for i, f in enumerate(found) if abs(f.x - placed.x) <= 1 and abs(f.y - placed.y) <= 1), None)
    if same is not None:
        found[same] = found[same].with_(state="kept", chosen=True)
    else:
        found.append(placed)
    _changed(reel, place, f"Placed {_where(placed)}", found)
    now = _findings(reel, place)[-1 if same is None else same]
    return jsonify(x=placed.x, y=placed.y, index=now.id, offer=_offer(reel, now, "kept"))


@pages.post("/reels/<int:reel_id>/findings/<kind>/outline")
def drawn(reel_id: int, kind: str) -> Response:
    """Add what the user drew a line round in a frame."""
    reel = reel_or_404(reel_id)
    if kind not in DEFECTS or (outline := DEFECTS[kind].outline) is None:
        abort(404)
    place, drawn_on = place_named(reel), read_body(DrawnShape, "That shape")
    shape, frame = drawn_on.shape, drawn_on.frame
    shot = services().viewing.shots(reel)[place]
    if not shot.first <= frame < shot.stop:
        abort(400, f"Frame {frame} is not in this shot.")
    size = (reel.facts.height, reel.facts.width)
    made = outline(shape, size, services().viewing.moment(reel, frame), shot.first, shot.stop)
    found = [*_findings(reel, place), JudgedFinding.of(made)]
    _changed(reel, place, f"Drew round {_where(made)}", found)
    now = _findings(reel, place)[-1]
    return jsonify(said=f"{title(made)} at {_where(made)}", index=now.id, offer=_offer(reel, now, "kept"))


@pages.post("/reels/<int:reel_id>/findings/<int:index>/set")
def set_choice(reel_id: int, index: int) -> Response:
    """Set what the user may choose about one finding, such as how it is mended."""
    reel = reel_or_404(reel_id)
    place, sent = place_named(reel), changes()
    found, one = _finding(reel, place, index)
    if not set(sent) <= DEFECTS[one.kind].choices:
        abort(404)
    try:
        evidence = type(one.evidence).model_validate(one.evidence.model_dump() | sent)
    except ValidationError as error:
        abort(400, f"That cannot be chosen: {first_fault(error)}.")
    found[index] = one.with_(evidence=evidence)
    _changed(reel, place, f"{title(one)} at {_where(one)} set", found)
    return jsonify(said=f"{title(one)} at {_where(one)} set")


@pages.post("/reels/<int:reel_id>/findings/<int:index>/move")
def move(reel_id: int, index: int) -> Response:
    """Nudge a finding placed by hand."""
    reel = reel_or_404(reel_id)
    sent = read_body(_Move)
    place = place_named(reel)
    found, one = _finding(reel, place, index)
    if not one.by_hand:
        abort(409, "Only a finding placed by hand can be moved; dismiss this one and place another.")
    if DEFECTS[one.kind].drawn != "point":
        abort(409, "A mark drawn by hand stays where it is; dismiss it and draw it again.")
    x = min(max(0, one.x + sent.dx), reel.facts.width - one.width)
    y = min(max(0, one.y + sent.dy), reel.facts.height - one.height)
    found[index] = one.with_(x=x, y=y)
    _changed(reel, place, f"Moved to {_where(found[index])}", found)
    return jsonify(x=x, y=y)
