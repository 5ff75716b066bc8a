"""Plates: where each comes from, what it shows, and the light it is given."""

from __future__ import annotations

import base64
from typing import Any

import cv2
import numpy as np
from flask import Blueprint, Response, abort, jsonify, render_template, request
from pydantic import Field, ValidationError

from ...core.media.sent_pictures import decoded
from ...core.media.view import png
from ...core.model.planes import moved, undone
from ...core.model.recipes import first_fault
from ...core.model.tracks import track_named
from ...core.pipeline.confined import unconfined
from ...core.tools.plate_patch.plate_plan import PlatePlan
from ...core.tools.plate_patch.settings import PlateOf, PlatePatchSettings, PlateTouch, SampleArea
from ...core.tools.retouch import Touch
from ...store import edits
from ...store.models import Reel
from .common import (
    AtFrame,
    Body,
    DrawnShape,
    SweepError,
    changes,
    follow_up,
    place_named,
    read_body,
    reel_or_404,
    services,
    settings_or_404,
    shot_named,
    step_or_404,
)

pages = Blueprint("plates", __name__, url_prefix="/reels/<int:reel_id>/steps/<int:index>/plates")

_LARGEST = 60_000_000


def _settings(reel: Reel, index: int) -> PlatePatchSettings:
    return settings_or_404(reel, index, "plate-patch", PlatePatchSettings)


def _put(reel_id: int, index: int, what: str, **changed: Any) -> Response:
    reel = reel_or_404(reel_id)
    try:
        fresh = step_or_404(reel, index, "plate-patch").with_settings(**changed)
    except ValidationError as error:
        abort(400, f"That plate cannot be: {first_fault(error)}.")
    recipe = shot_named(reel).recipe.with_step(index, fresh)
    edits.change_shot(reel, what, place_named(reel), lambda s: s.with_(recipe=recipe))
    follow_up(reel)
    return jsonify(said=what)


def plan_of(reel: Reel, index: int) -> PlatePlan | None:
    """What a step of the shot named learned; None while it is learned."""
    shot = shot_named(reel)
    if not shot.recipe.steps[index].on:
        return None
    known = services().viewing.learned_of(reel, shot, sum(s.on for s in shot.recipe.steps[:index]))
    inner = unconfined(known)
    return inner if isinstance(inner, PlatePlan) else None


@pages.post("")
def add(reel_id: int, index: int) -> Response:
    """Add a plate; it serves the frames from the play head on, the one before it those up to there."""
    frame = read_body(AtFrame).frame
    plates = list(_settings(reel_or_404(reel_id), index).plates)
    plates[-1] = plates[-1].model_copy(update={"serves_to": frame - 1})
    return _put(reel_id, index, "Another plate", plates=[*plates, PlateOf(serves_from=frame)])


@pages.post("/<int:number>")
def change(reel_id: int, index: int, number: int) -> Response:
    """Change where a plate comes from, or which frames it serves."""
    plates = [p.model_dump() for p in _settings(reel_or_404(reel_id), index).plates]
    if number >= len(plates):
        abort(404, "There is no such plate any more.")
    plates[number] |= changes()
    return _put(reel_id, index, f"Plate {number + 1}", plates=plates)


@pages.post("/<int:number>/remove")
def remove(reel_id: int, index: int, number: int) -> Response:
    """Remove a plate; one stays."""
    settings = _settings(reel_or_404(reel_id), index)
    plates = list(settings.plates)
    if number >= len(plates) or len(plates) == 1:
        abort(409, "A patch needs a plate. Take the step off instead.")
    gone = plates.pop(number)
    at = max(0, number - 1)
    # The one beside it takes its frames over.
    side = {"serves_to": gone.serves_to} if number else {"serves_from": gone.serves_from}
    plates[at] = plates[at].model_copy(update=side)
    # Strokes go with their plate; those of the plates behind it keep theirs.
    touches = [t.model_copy(update={"plate": t.plate - (t.plate > number)}) for t in settings.touches if t.plate != number]
    return _put(reel_id, index, f"Removed plate {number + 1}", plates=plates, touches=[t.model_dump() for t in touches])


@pages.post("/<int:number>/picture")
def take_in(reel_id: int, index: int, number: int) -> Response:
    """Import a picture as a plate: the body of the request."""
    if (request.content_length or 0) > _LARGEST:
        abort(413, "This picture is larger than a plate should be. Save it smaller, as PNG.")
    reel = reel_or_404(reel_id)
    picture = services().apart("This picture", decoded, request.get_data())
    if picture.dtype not in (np.uint8, np.uint16):
        raise SweepError("This picture has samples of a kind that a plate cannot have. Save it as PNG of 8 or 16 bits.")
    plates = [p.model_dump() for p in _settings(reel, index).plates]
    if number >= len(plates):
        abort(404, "There is no such plate any more.")
    _, packed = cv2.imencode(".png", picture)
    plates[number] |= {"kind": "picture", "picture": base64.b64encode(packed.tobytes()).decode()}
    _put(reel_id, index, f"Took a picture in as plate {number + 1}", plates=plates)
    width, height = picture.shape[1], picture.shape[0]
    size = reel.facts.size
    said = "The picture is taken in."
    if (width, height) != size:
        said = f"The picture is {width} x {height} and was scaled to the reel's {size[0]} x {size[1]}. Look whether it fits."
    return jsonify(said=said)


@pages.get("/<int:number>.png")
def shown(reel_id: int, index: int, number: int) -> Response:
    """A plate as it lies on the surface; what it does not show is left clear."""
    reel = reel_or_404(reel_id)
    plan, shot = plan_of(reel, index), shot_named(reel)
    if plan is None or number >= len(plan.plates):
        abort(425, "The plate is still being made; it follows in a moment.")
    plan = plan.painted(services().viewing.reader(reel), shot.enter, shot.leave).narrowed()
    bgr = np.clip(np.rint(plan.plates[number][..., ::-1]), 0, 255).astype(np.uint8)
    alpha = (255 * (plan.known[number] > 0)).astype(np.uint8)
    return Response(png(np.dstack([bgr, alpha])), mimetype="image/png", headers={"Cache-Control": "private, max-age=600"})


@pages.get("/<int:number>/strokes/<int:frame>")
def strokes(reel_id: int, index: int, number: int, frame: int) -> Response:
    """The brush strokes of a plate, whatever frame is shown."""
    touches = _settings(reel_or_404(reel_id), index).touches
    shown = [
        {"name": str(k), "size": round(t.touch.size), "mode": t.touch.mode, "lends": t.touch.lends, "points": t.touch.points}
        for k, t in enumerate(touches)
        if t.plate == number
    ]
    return jsonify(frame=frame, strokes=shown, touched=[], total=len(shown))


class _Strokes(Body):
    strokes: list[dict[str, Any]] = Field(min_length=1)


class _Named(Body):
    strokes: tuple[str, ...] = ()


@pages.post("/<int:number>/strokes")
def paint(reel_id: int, index: int, number: int) -> Response:
    """Put brush strokes on a plate, in the pixels of the reference frame."""
    reel = reel_or_404(reel_id)
    settings, sent, shot = _settings(reel, index), read_body(_Strokes, "These strokes").strokes, shot_named(reel)
    if number >= len(settings.plates):
        abort(404, "There is no such plate any more.")
    try:
        touches = [PlateTouch(plate=number, touch=Touch.model_validate({**one, "frame": 0, "aligned": False})) for one in sent]
    except ValidationError as error:
        abort(400, f"That stroke cannot be: {first_fault(error)}.")
    for one in touches:
        t = one.touch
        if t.lends is not None and not shot.enter <= t.lends < shot.leave:
            abort(400, f"Frame {t.lends} is not in this shot: a stroke takes from frames {shot.enter} to {shot.leave - 1} alone.")
        if t.mode != "original" and t.lends is None and not t.across and not t.down:
            abort(400, "Say where the brush takes from: Ctrl and click on the picture, or choose the frame at the play head.")
    _put(reel_id, index, f"Stroke on plate {number + 1}", touches=[t.model_dump() for t in (*settings.touches, *touches)])
    return jsonify(strokes=[str(len(settings.touches) + k) for k in range(len(touches))])


@pages.post("/<int:number>/strokes/remove")
def wipe(reel_id: int, index: int, number: int) -> Response:
    """Take strokes off a plate, by their names."""
    touches = _settings(reel_or_404(reel_id), index).touches
    gone = set(read_body(_Named).strokes) & {str(k) for k, t in enumerate(touches) if t.plate == number}
    if not gone:
        abort(404, "That stroke is not there any more.")
    kept = [t.model_dump() for k, t in enumerate(touches) if str(k) not in gone]
    return _put(reel_id, index, f"{len(gone)} stroke{'' if len(gone) == 1 else 's'} off plate {number + 1}", touches=kept)


@pages.get("/light")
def light(reel_id: int, index: int) -> str | tuple[str, int]:
    """What the light beside the patch does to the plate, over the frames: red, green and blue."""
    plan = plan_of(reel_or_404(reel_id), index)
    if plan is None or not plan.fits:
        abort(425, "The light is still being measured; it follows in a moment.")
    numbers = sorted(plan.fits)
    gains = np.array([np.exp(np.log(np.maximum(plan.fits[n].light.gains, 1e-3)).mean(0)) for n in numbers])
    offsets = np.array([plan.fits[n].light.offsets.mean(0) for n in numbers])
    by_offset = np.ptp(gains) < 1e-6
    values = offsets if by_offset else gains
    low, high = float(values.min()), float(values.max())
    span = max(high - low, 1e-3)
    across = 300 / max(1, len(numbers) - 1)
    lines = [" ".join(f"{k * across:.1f},{2 + 56 * (high - v) / span:.1f}" for k, v in enumerate(values[:, c])) for c in range(3)]
    return render_template(
        "sheets/plate_light.html", lines=lines, low=low, high=high, first=numbers[0], last=numbers[-1], by_offset=by_offset
    )


@pages.post("/areas")
def area(reel_id: int, index: int) -> Response:
    """Add an area that the light is measured in: the rectangle about the shape that was drawn."""
    reel, drawn = reel_or_404(reel_id), read_body(DrawnShape, "That shape")
    shape, frame = drawn.shape, drawn.frame
    step, settings = step_or_404(reel, index, "plate-patch"), _settings(reel, index)
    name = next((p.track for p in step.region.parts if p.track), "") if step.region else ""
    move = undone(track_named(shot_named(reel).recipe.tracks, name).way(frame)) if name else np.eye(3)
    outline = shape.transformed(np.eye(3)) if shape.kind == "ellipse" else shape
    if outline.kind != "outline":
        abort(400, "An area is drawn as an ellipse or an outline.")
    points = moved(np.array([[c.x, c.y] for c in outline.corners]), move)
    (left, top), (right, bottom) = points.min(0), points.max(0)
    if right - left < 3 or bottom - top < 3:
        abort(400, "This area is too small to be measured. Draw it larger.")
    fresh = SampleArea(
        x=round(float(left), 2), y=round(float(top), 2), width=round(float(right - left), 2), height=round(float(bottom - top), 2)
    )
    return _put(reel_id, index, "Area for the light", areas=[*(a.model_dump() for a in settings.areas), fresh.model_dump()])
