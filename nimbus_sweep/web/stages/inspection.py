"""Inspection: the treated reel against the source, by eye and by measurement."""

from __future__ import annotations

from typing import Any

from flask import Blueprint, Response, jsonify, render_template

from ...core.model.shots import Shot, Verdict
from ...jobs.checks import checks_of
from ...jobs.tasks import CheckSettings, ComparisonDone, InspectionSettings, result_of, settings_of
from ...store import edits
from ...wording.checks import proof
from .common import Body, SweepError, latest, place_named, read_body, reel_or_404, services

pages = Blueprint("inspection", __name__)

# How each word of a judgement is said.
VERDICTS = {"": "not judged", "accepted": "accepted", "back": "sent back", "again": "second pass"}
OUTCOMES = {"gone": "gone", "trace": "a trace", "left": "left", "untreated": "not treated"}


@pages.get("/reels/<int:reel_id>/sheet/inspection")
def sheet(reel_id: int) -> str:
    """The sheet."""
    reel = reel_or_404(reel_id)
    viewing = services().viewing
    shots, place = viewing.shots(reel), place_named(reel)
    shot = shots[place]
    checks = checks_of(reel, shots)
    rendered, compared = latest(reel, "render", "done"), latest(reel, "inspection")
    result = None
    if compared and rendered and compared.state == "done" and settings_of(compared, InspectionSettings).render == rendered.id:
        result = result_of(compared, ComparisonDone)
    return render_template(
        "sheets/inspection.html",
        reel=reel,
        shots=shots,
        place=place,
        shot=shot,
        treated=[n for n, s in enumerate(shots) if s.treated],
        ready=viewing.ready(reel),
        check=checks[place],
        checks=checks,
        judged=[_judged(s) for s in shots],
        verdicts=VERDICTS,
        outcomes=OUTCOMES,
        busy=latest(reel, "check", "waiting", "running"),
        failed=latest(reel, "check"),
        rendered=rendered,
        compared=compared,
        proof=result and proof(result, result.truth),
        revision=edits.revision(reel),
    )


def _judged(shot: Shot) -> dict[str, Any]:
    """What was said of a shot, and whether it was changed since."""
    return {
        "verdict": shot.verdict,
        "remark": shot.remark,
        "by": shot.judged_by,
        "stale": bool(shot.verdict) and shot.judged != edits.mark_of(shot),
    }


class _Check(Body):
    all: bool = False


@pages.post("/reels/<int:reel_id>/check")
def check(reel_id: int) -> Response:
    """Queue the check of a shot, or of all that are treated."""
    reel = reel_or_404(reel_id)
    shots = services().viewing.shots(reel)
    chosen = [s for s in shots if s.treated] if read_body(_Check).all else [shots[place_named(reel)]]
    if not any(s.treated for s in chosen):
        raise SweepError("Nothing is treated there, so there is nothing to check. Add a step in Treatment.")
    return jsonify(task=services().queue.put("check", reel, CheckSettings(numbers=tuple(s.id for s in chosen))).id)


class _Judged(Body):
    verdict: Verdict = ""
    remark: str = ""


@pages.post("/reels/<int:reel_id>/verdict")
def judge(reel_id: int) -> Response:
    """Accept a treated shot, send it back with a remark, or mark it for a second pass; the same word again takes it back."""
    reel = reel_or_404(reel_id)
    sent = read_body(_Judged, "That judgement")
    verdict, remark = sent.verdict, sent.remark.strip()[:2000]
    if verdict == "back" and not remark:
        raise SweepError("Say in the box what is to be done, so that whoever gets the shot back knows.")

    def judged(shot: Shot) -> Shot:
        if not shot.treated:
            raise SweepError("This shot is not treated, so there is nothing to judge.")
        if not verdict:
            return shot.with_(verdict="", remark="", judged="", judged_by="")
        return shot.with_(verdict=verdict, remark=remark, judged=edits.mark_of(shot), judged_by=edits.author.get()[0])

    edits.change_shot(reel, f"Judged: {VERDICTS[verdict]}", place_named(reel), judged)
    return jsonify(said=VERDICTS[verdict].capitalize() + ".")


@pages.post("/reels/<int:reel_id>/compare")
def compare(reel_id: int) -> Response:
    """Queue the comparison of the newest delivery with the source."""
    reel = reel_or_404(reel_id)
    rendered = latest(reel, "render", "done")
    if rendered is None:
        raise SweepError("There is no delivery yet. Render the reel first, in Delivery.")
    return jsonify(task=services().queue.put("inspection", reel, InspectionSettings(render=rendered.id)).id)
