"""Film wear: what was found in a frame and what becomes of it, and what is left alone."""

from __future__ import annotations

import base64
from typing import Any, Literal

import cv2
import numpy as np
from flask import Blueprint, Response, abort, jsonify, render_template, request
from pydantic import ValidationError, model_validator

from ...core.defects.cue_marks.repair import CueLiftSettings, FrameNudge
from ...core.defects.film_dirt.choosing import LeftAlone, OneSpeck, SpeckSweepSettings
from ...core.evidence.frames_at_hand import Span, frames_of
from ...core.imaging.aligned_fill import Lender, fill
from ...core.imaging.grain import Grain
from ...core.imaging.patches import PatchTable
from ...core.media.view import png
from ...core.model.recipes import first_fault
from ...core.tools.lend_grain import GrainOf, measured
from ...store import edits
from ...store.models import Reel
from .common import (
    AtFrame,
    Body,
    SweepError,
    follow_up,
    named_by_number,
    patches_learned,
    place_named,
    place_of_number,
    read_body,
    reel_or_404,
    services,
    settings_or_404,
    shot_named,
    step_or_404,
)

pages = Blueprint("wear", __name__)

_NUMBERS = {"sure": float, "smallest": int, "largest": int}


@pages.get("/reels/<int:reel_id>/specks/<int:frame>")
def specks(reel_id: int, frame: int) -> Response:
    """The specks of a frame, and what becomes of each by the settings sent along."""
    reel = reel_or_404(reel_id)
    index = named_by_number(reel, "steps", request.args.get("step", 0, type=int))
    settings = settings_or_404(reel, index, "speck-sweep", SpeckSweepSettings)
    plan = patches_learned(reel, index, "speck-sweep")
    if plan is None:
        return jsonify(ready=False, specks=[])
    sent: dict[str, Any] = {name: kind(float(request.args[name])) for name, kind in _NUMBERS.items() if _is_number(request.args.get(name))}
    if request.args.get("takes"):
        sent["takes"] = request.args["takes"]
    try:
        settings = SpeckSweepSettings.model_validate({**settings.model_dump(), **sent})
    except ValidationError as error:
        abort(400, f"That setting cannot be: {first_fault(error)}.")
    here, table = plan.found_in(services().viewing.moment(reel, frame)), plan.table
    rows, states, sure = table.taken(here), settings.judged(table, here), settings.judged_sure(table)[here]
    return jsonify(
        ready=True,
        shot=_told_of_shot(settings, table),
        specks=[
            {
                "x": int(x),
                "y": int(y),
                "w": int(w),
                "h": int(h),
                "sure": round(float(how_sure), 3),
                "bright": bool(contrast > 0),
                "state": state,
            }
            for (x, y, w, h), how_sure, contrast, state in zip(rows.boxes, sure, rows.contrast, states, strict=True)
        ],
    )


def _told_of_shot(settings: SpeckSweepSettings, table: PatchTable) -> dict[str, Any]:
    """How many are swept off in the shot, how many of those may be none, and what was said of single ones does to the others."""
    chosen, by_itself = settings.chosen(table), settings.model_copy(update={"alike": False}).chosen(table)
    return {
        "removed": int(chosen.sum()),
        "false": round(settings.expected_false(table), 1),
        "said": len(settings.swept) + sum(rule.is_one for rule in settings.left),
        "more": int((chosen & ~by_itself).sum()),
        "fewer": int((by_itself & ~chosen).sum()),
    }


def _is_number(text: str | None) -> bool:
    try:
        return text is not None and abs(float(text)) < 1e9
    except ValueError:
        return False


class _Leave(Body):
    what: Literal["one", "back", "sweep", "range", "drop"]
    of: Literal["left", "swept"] = "left"
    rule: int = 0
    first: int = 0
    stop: int = 0
    frame: int = 0
    box: tuple[int, int, int, int] | None = None


class _Nudge(AtFrame):
    across: float | None = None
    down: float = 0.0


class _Grain(Body):
    of: int | str | None = None
    x: int | None = None
    y: int | None = None
    frame: int | None = None

    @model_validator(mode="after")
    def _somewhere(self) -> _Grain:
        if self.of is None and None in (self.x, self.y, self.frame):
            raise ValueError("name a shot, or a place by x, y and frame")
        return self


@pages.post("/reels/<int:reel_id>/steps/<int:index>/leave")
def leave(reel_id: int, index: int) -> Response:
    """Leave a speck alone, or all of a range, or sweep off one that is doubted; or take that back."""
    reel, sent = reel_or_404(reel_id), read_body(_Leave)
    place = place_named(reel)
    settings = settings_or_404(reel, index, "speck-sweep", SpeckSweepSettings)
    said, changed = _said_of(reel, settings, sent)
    _set(reel, place, index, said, **changed)
    return jsonify(said=said)


def _set(reel: Reel, place: int, index: int, said: str, **settings: Any) -> None:
    """Give a step of a shot some other settings, as one change that can be taken back."""
    recipe = services().viewing.shots(reel)[place].recipe
    try:
        recipe = recipe.with_step(index, recipe.steps[index].with_settings(**settings))
    except ValidationError as error:
        abort(400, f"That cannot be: {first_fault(error)}.")
    edits.change_shot(reel, said, place, lambda s: s.with_(recipe=recipe))
    follow_up(reel)


def _said_of(reel: Reel, settings: SpeckSweepSettings, sent: _Leave) -> tuple[str, dict[str, Any]]:
    """What is said, and the settings that hold from then on."""
    left, what = list(settings.left), sent.what
    if what == "drop":
        rules = list(getattr(settings, sent.of))
        if not 0 <= sent.rule < len(rules):
            abort(404, "There is no such rule any more.")
        rules.pop(sent.rule)
        return "Taken back", {sent.of: rules}
    if what == "range":
        first, stop = sent.first, sent.stop
        return f"Specks of frames {first} to {stop - 1} left alone", {"left": [*left, _rule(first, stop, None)]}
    frame = services().viewing.moment(reel, sent.frame)
    rule = _rule(frame, frame + 1, sent.box or ())
    assert rule.box is not None
    at = frame, rule.box[0] + rule.box[2] / 2, rule.box[1] + rule.box[3] / 2
    swept = [one for one in settings.swept if not _holds(LeftAlone(first=one.frame, stop=one.frame + 1, box=one.box), *at)]
    if what == "one":
        return f"Speck in frame {frame} left alone", {"left": [*left, rule], "swept": swept}
    kept = [r for r in left if r.box is None or r.stop > r.first + 1 or not _holds(r, *at)]
    if what == "sweep":
        return f"Speck in frame {frame} swept off", {"left": kept, "swept": [*swept, OneSpeck(frame=frame, box=rule.box)]}
    if len(kept) == len(left):
        abort(409, "This one is left alone with a whole range. Take the range back in the list, under Left alone.")
    return f"Speck in frame {frame} swept after all", {"left": kept}


def _rule(first: int, stop: int, box: Any) -> LeftAlone:
    try:
        return LeftAlone.model_validate({"first": first, "stop": stop, "box": box})
    except ValidationError as error:
        abort(400, f"That cannot be: {first_fault(error)}.")


def _holds(rule: LeftAlone, frame: int, x: float, y: float) -> bool:
    if not rule.first <= frame < rule.stop:
        return False
    if rule.box is None:
        return True
    left, top, width, height = rule.box
    return left <= x < left + width and top <= y < top + height


def _cue_lift(reel: Reel, index: int) -> CueLiftSettings:
    """The settings of the step that lifts cue marks, of the shot named."""
    return settings_or_404(reel, index, "cue-lift", CueLiftSettings)


# Times the difference is made plainer, and the longer side of its picture.
_PLAINER, _LARGEST_MATCH = 6, 360


@pages.get("/reels/<int:reel_id>/steps/<int:index>/match/<int:frame>")
def match(reel_id: int, index: int, frame: int) -> Response:
    """How the clean frames match a marked frame: what is left of the difference, as a picture, black where they do."""
    reel = reel_or_404(reel_id)
    settings = _cue_lift(reel, index)
    plan = patches_learned(reel, index, "cue-lift")
    if plan is None:
        abort(425, "The analysis is still running; it follows in a moment.")
    number = services().viewing.moment(reel, frame)
    rows = plan.found_in(number)
    if not len(rows):
        frames = sorted(set(plan.table.frames.tolist()))
        where = f" They are in frames {', '.join(str(n) for n in frames[:16])}." if frames else ""
        return jsonify(marked=False, said=f"No cue mark is lifted in this frame.{where}")
    row = int(rows[0])
    source = services().viewing.reader(reel)
    left, top, width, height = (int(v) for v in plan.table.boxes[row])
    mask = np.zeros((source.format.height, source.format.width), np.float32)
    mask[max(0, top - 3) : top + height + 3, max(0, left - 3) : left + width + 3] = 1
    nudge = next(((n.across, n.down) for n in settings.nudges if n.frame == number), (0.0, 0.0))
    lenders = [Lender(source.frame(int(n)), nudge=nudge) for n in plan.table.lends[row] if n >= 0]
    one = source.frame(number)
    filled = fill(one, mask, lenders, 1.0)
    if filled is None:
        abort(404)
    out = np.abs(filled.own[0] - filled.planes[0]) * _PLAINER
    factor = max(1, _LARGEST_MATCH // max(out.shape))
    shown = cv2.resize(np.clip(out, 0, 255).astype(np.uint8), None, fx=factor, fy=factor, interpolation=cv2.INTER_NEAREST)
    picture = base64.b64encode(png(cv2.cvtColor(shown, cv2.COLOR_GRAY2BGR))).decode()
    said = f"Frame {number}, from {' and '.join(str(lender.frame.number) for lender in lenders)}. Black around the mark: they match."
    if nudge != (0.0, 0.0):
        said += f" Nudged by {nudge[0]:+.2f} across, {nudge[1]:+.2f} down, px."
    return jsonify(marked=True, said=said, picture=f"data:image/png;base64,{picture}")


@pages.post("/reels/<int:reel_id>/steps/<int:index>/nudge")
def nudge(reel_id: int, index: int) -> Response:
    """Move what lends in one frame by hand; null puts it back where it was found."""
    reel, sent = reel_or_404(reel_id), read_body(_Nudge)
    place = place_named(reel)
    settings = _cue_lift(reel, index)
    frame = services().viewing.moment(reel, sent.frame)
    old = next((n for n in settings.nudges if n.frame == frame), FrameNudge(frame=frame))
    kept = [n for n in settings.nudges if n.frame != frame]
    if sent.across is None:
        said = f"Frame {frame} as it was found"
    else:
        try:
            new = FrameNudge(frame=frame, across=old.across + sent.across, down=old.down + sent.down)
        except ValidationError:
            abort(400, "That nudge cannot be: at most 200 pixels, across and down.")
        kept.append(new)
        said = f"Frame {frame} nudged to {new.across:+.2f} across, {new.down:+.2f} down"
    _set(reel, place, index, said, nudges=kept)
    return jsonify(said=said)


# Frames that the grain of a place is measured in, and half the side of that place in pixels.
_MEASURED, _ABOUT = 5, 64


def _shot_grain(reel: Reel, place: int) -> tuple[Grain | None, ...]:
    """The grain of a shot of a reel."""
    viewing = services().viewing
    shot = viewing.shots(reel)[place]
    span = Span.of(viewing.reader(reel), *shot.span, usable=viewing.repeats(reel).distinct)
    frames = frames_of(span)
    if not frames:
        raise SweepError("No frame of this shot can be read.")
    return measured(frames)


@pages.get("/reels/<int:reel_id>/grain")
def grain(reel_id: int) -> str:
    """The grain of the shot named, as a small chart."""
    reel, place = reel_or_404(reel_id), place_named(reel_or_404(reel_id))
    shot = shot_named(reel)
    names = [c.name for c in services().viewing.reader(reel).format.components]
    found = [GrainOf.of(n, g).model_dump() for n, g in zip(names, _shot_grain(reel, place), strict=True) if g is not None]
    return render_template("sheets/grain.html", grains=found, looked=min(8, shot.stop - shot.first))


@pages.post("/reels/<int:reel_id>/steps/<int:index>/grain")
def take_grain(reel_id: int, index: int) -> Response:
    """Take the grain of another shot, or of the place named in the frame named, for a step."""
    reel, sent = reel_or_404(reel_id), read_body(_Grain)
    place = place_named(reel)
    step_or_404(reel, index, "lend-grain")
    viewing = services().viewing
    source = viewing.reader(reel)
    if sent.of is not None:
        if not str(sent.of).isdigit():
            abort(400, "Choose a shot of this reel.")
        other = place_of_number(reel, int(sent.of))
        found, said = _shot_grain(reel, other), f"shot {other + 1}"
    else:
        x, y, frame = sent.x or 0, sent.y or 0, sent.frame or 0
        shot = viewing.shots(reel)[place]
        if not shot.first <= frame < shot.stop:
            abort(400, f"Frame {frame} is not in this shot.")
        begin = max(shot.first, min(frame - _MEASURED // 2, shot.stop - _MEASURED))
        frames = [f for f in source.frames(begin, min(shot.stop, begin + _MEASURED)) if not f.missing]
        where = np.zeros((source.format.height, source.format.width), np.float32)
        where[max(0, y - _ABOUT) : y + _ABOUT, max(0, x - _ABOUT) : x + _ABOUT] = 1
        if not frames or not where.any():
            abort(400, f"x {x} y {y} is off the picture.")
        found, said = measured(frames, [where] * len(frames)), f"the place at x {x} y {y}, frame {frame}"
    names = [c.name for c in source.format.components]
    like = [GrainOf.of(n, g).model_dump() for n, g in zip(names, found, strict=True) if g is not None]
    if not any(max(g["sigma"]) > 0 for g in like):
        raise SweepError("The grain cannot be measured there: the place is too small or too busy. Choose a larger, flatter one.")
    _set(reel, place, index, f"Grain of {said}", like=like, taken_from=said)
    return jsonify(said=f"Given the grain of {said}")
