"""Retouching: brush strokes put on and taken off, what they take from, and the frames that are touched."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from itertools import islice
from typing import Any

import cv2
import numpy as np
from flask import Blueprint, Response, abort, jsonify, request
from pydantic import Field, ValidationError

from ...core.defects.film_dirt.choosing import SpeckSweepSettings
from ...core.imaging.aligned_fill import Looks, cells_box, cells_of
from ...core.media.frames import FrameSource
from ...core.media.view import crop, png
from ...core.model.planes import moved
from ...core.model.recipes import first_fault
from ...core.model.tracks import Track
from ...core.pipeline.analyses import chain
from ...core.tools.retouch import RetouchPlan, RetouchSettings, Touch, repeated
from ...store import edits, strokes
from ...store.models import Reel
from .common import (
    Body,
    follow_up,
    named_by_number,
    patches_learned,
    place_named,
    read_body,
    reel_or_404,
    services,
    settings_or_404,
    shot_named,
)

pages = Blueprint("retouch", __name__)

# Strokes that come together, and frames a stroke is repeated on at most.
_MOST, _REPEATED = 400, 200
# Largest side of a place that is shown, in pixels; the largest brush is no larger.
_LONGEST = 2600


def _put(reel: Reel, index: int, book: int, said: str, others: Mapping[int, dict[str, Any]] | None = None) -> None:
    """Let the step hold another book, and other steps other settings, as one change."""
    place = place_named(reel)
    recipe = shot_named(reel).recipe
    for n, settings in {index: {"book": book}, **(others or {})}.items():
        recipe = recipe.with_step(n, recipe.steps[n].with_settings(**settings))
    edits.change_shot(reel, said, place, lambda s: s.with_(recipe=recipe))
    follow_up(reel)


def _touch(reel: Reel, sent: Any) -> Touch:
    """A stroke that was sent, in the first frame that shows its moment."""
    try:
        touch = Touch.model_validate(sent)
    except ValidationError as error:
        abort(400, f"That stroke cannot be: {first_fault(error)}.")
    shot = shot_named(reel)
    if not shot.enter <= touch.frame < shot.leave:
        abort(400, f"Frame {touch.frame} is not in this shot, or outside its in and out point.")
    if touch.lends is not None and not shot.enter <= touch.lends < shot.leave:
        abort(400, f"Frame {touch.lends} is not in this shot: a stroke takes from frames {shot.enter} to {shot.leave - 1} alone.")
    if touch.mode != "original" and touch.lends is None and not touch.across and not touch.down:
        abort(400, "Say where the brush takes from: Ctrl and click on the picture, or choose another frame.")
    once = _once(reel, touch)
    if once.lends == once.frame and touch.lends != touch.frame:
        abort(400, f"Frame {touch.lends} repeats frame {touch.frame}: it shows nothing else. Take from one farther away.")
    return once


class _Strokes(Body):
    strokes: list[dict[str, Any]] = Field(min_length=1, max_length=_MOST)
    still: int | None = Field(default=None, description="the number of the track whose plane stood still while they were drawn")


class _Gone(Body):
    frame: int | None = None
    strokes: tuple[str, ...] = ()


class _Repeat(Body):
    stroke: str = ""
    frames: int = Field(ge=1, le=_REPEATED)


def _as_seen(reel: Reel, sent: _Strokes) -> list[dict[str, Any]]:
    """Strokes that were drawn while a track's plane stood still, as they lie in their frames."""
    if sent.still is None:
        return sent.strokes
    track = shot_named(reel).recipe.tracks[named_by_number(reel, "tracks", sent.still)]
    try:
        return [_unlaid(track, one) for one in sent.strokes]
    except (KeyError, TypeError, ValueError):
        abort(400, "That stroke cannot be: it has no points.")


def _unlaid(track: Track, sent: dict[str, Any]) -> dict[str, Any]:
    """A stroke drawn where a plane lies in its reference, as it lies in its own frame."""
    points = np.array(sent["points"], np.float64).reshape(-1, 2)
    way = track.way(int(sent["frame"]))
    laid, middle = moved(points, way), points.mean(0)
    # What is small goes through the move as through a slope.
    here, right, below = moved(middle + np.array([[0, 0], [1, 0], [0, 1]]), way)
    slope = np.stack([right - here, below - here], 1)
    size = float(np.sqrt(abs(np.linalg.det(slope))))
    across, down = slope @ [float(sent.get("across") or 0), float(sent.get("down") or 0)]
    fresh = {"points": laid.round(2).tolist(), "size": max(0.5, float(sent["size"]) * size)}
    return {**sent, **fresh, "across": round(float(across), 2), "down": round(float(down), 2)}


def _once(reel: Reel, touch: Touch) -> Touch:
    """The stroke in, and from, the first frames that show their moments: a frame that repeats another is touched with it."""
    moment = services().viewing.moment
    return touch.model_copy(
        update={"frame": moment(reel, touch.frame), "lends": None if touch.lends is None else moment(reel, touch.lends)}
    )


@pages.post("/reels/<int:reel_id>/steps/<int:index>/strokes")
def put_on(reel_id: int, index: int) -> Response:
    """Put strokes on."""
    reel = reel_or_404(reel_id)
    settings, sent = settings_or_404(reel, index, "retouch", RetouchSettings), read_body(_Strokes, "These strokes")
    touches = [_touch(reel, one) for one in _as_seen(reel, sent)]
    layout = services().viewing.reader(reel).format
    on = [t for t in touches if t.place(layout) is not None]
    if not on:
        return jsonify(said="The brush was off the picture; nothing was painted.", strokes=[])
    book = strokes.put_on(reel, settings.book, on)
    frames = sorted({t.frame for t in on})
    said = f"Stroke in frame {frames[0]}" if len(on) == 1 else f"{len(on)} strokes in frames {frames[0]} to {frames[-1]}"
    missed = _missed_specks(reel, on)
    _put(reel, index, book, said, missed)
    names = [f"{book}.{n}" for n in range(len(on))]
    if not missed:
        return jsonify(strokes=names)
    return jsonify(strokes=names, said="The sweep had doubted the speck under the brush. It takes it off now, and those like it.")


def _missed_specks(reel: Reel, touches: Sequence[Touch]) -> dict[int, dict[str, Any]]:
    """New settings for each sweep of the shot that found, but doubted, a speck under a stroke."""
    changed, layout = {}, services().viewing.reader(reel).format
    for n, step in enumerate(shot_named(reel).recipe.steps):
        plan, settings = patches_learned(reel, n, "speck-sweep"), step.settings
        if plan is None or not isinstance(settings, SpeckSweepSettings):
            continue
        named = [
            one
            for touch in touches
            if touch.mode != "original" and (box := touch.place(layout)) is not None
            for one in settings.missed(plan.table, touch.frame, touch.mask(box), (box.left, box.top))
        ]
        if named:
            changed[n] = {"swept": [*settings.swept, *named]}
    return changed


@pages.post("/reels/<int:reel_id>/steps/<int:index>/strokes/remove")
def take_off(reel_id: int, index: int) -> Response:
    """Take strokes off, whichever: those named, or all of a frame."""
    reel = reel_or_404(reel_id)
    settings, sent = settings_or_404(reel, index, "retouch", RetouchSettings), read_body(_Gone)
    known = strokes.book(settings.book)
    if sent.frame is not None:
        frame = services().viewing.moment(reel, sent.frame)
        gone = [name for name, touch in known.items() if touch.frame == frame]
    else:
        gone = [name for name in sent.strokes if name in known]
    if not gone:
        abort(404, "That stroke is not there any more.")
    said = f"{len(gone)} stroke{'' if len(gone) == 1 else 's'} taken off"
    _put(reel, index, strokes.taken_off(reel, settings.book, gone), said)
    return jsonify(said=said)


@pages.post("/reels/<int:reel_id>/steps/<int:index>/strokes/repeat")
def repeat(reel_id: int, index: int) -> Response:
    """Put a stroke on the frames that follow as well, along the motion of what lies under it."""
    reel, sent = reel_or_404(reel_id), read_body(_Repeat, "A stroke repeated so often")
    settings, many = settings_or_404(reel, index, "retouch", RetouchSettings), sent.frames
    touch = strokes.book(settings.book).get(sent.stroke)
    if touch is None:
        abort(404, "That stroke is not there any more.")
    shot, viewing = shot_named(reel), services().viewing
    reader, repeats = viewing.reader(reel), viewing.repeats(reel)
    distinct = repeats.distinct[(repeats.distinct > touch.frame) & (repeats.distinct < shot.leave)]
    numbers = [int(n) for n in distinct[:many]]
    frames = (reader.frame(n) for n in numbers)
    made = repeated(touch, (f for f in islice(frames, many) if not f.missing), reader.frame(touch.frame))
    # What would take from outside the shot takes from the other side.
    inside = [t if t.lends is None or shot.enter <= t.lends < shot.leave else _turned(t) for t in made]
    kept = [t for t in inside if t.lends is None or shot.enter <= t.lends < shot.leave]
    if not kept:
        return jsonify(said="There is no later frame to repeat it on.", strokes=[])
    kept = [_once(reel, t) for t in kept]
    book = strokes.put_on(reel, settings.book, kept)
    said = f"Repeated on {len(kept)} frame{'' if len(kept) == 1 else 's'}, {kept[0].frame} to {kept[-1].frame}"
    _put(reel, index, book, said)
    return jsonify(said=said, strokes=[f"{book}.{n}" for n in range(len(kept))])


def _turned(touch: Touch) -> Touch:
    assert touch.lends is not None
    return touch.model_copy(update={"lends": max(0, 2 * touch.frame - touch.lends)})


@pages.get("/reels/<int:reel_id>/steps/<int:index>/strokes/<int:frame>")
def of_frame(reel_id: int, index: int, frame: int) -> Response:
    """The strokes of a frame, and all frames of the shot that are touched."""
    reel = reel_or_404(reel_id)
    settings, number = settings_or_404(reel, index, "retouch", RetouchSettings), services().viewing.moment(reel, frame)
    known = strokes.book(settings.book)
    shown = [
        {
            "name": name,
            "size": round(t.size),
            "mode": t.mode,
            "lends": t.lends,
            "points": t.points if len(t.points) <= 400 else t.points[::4],
        }
        for name, t in known.items()
        if t.frame == number
    ]
    return jsonify(frame=number, strokes=shown, touched=sorted({t.frame for t in known.values()}), total=len(known))


@pages.get("/reels/<int:reel_id>/steps/<int:index>/source/<int:frame>.png")
def source(reel_id: int, index: int, frame: int) -> Response:
    """What the brush would put down on a part of a frame; or how far that is from what is there, black where it is the same."""
    reel = reel_or_404(reel_id)
    settings_or_404(reel, index, "retouch", RetouchSettings)
    numbers = {name: request.args.get(name, usual, type=float) for name, usual in (("across", 0.0), ("down", 0.0), ("x", 0.0), ("y", 0.0))}
    sent = {
        "frame": frame,
        "points": [(0, 0)],
        "size": 10,
        "mode": "original" if request.args.get("mode") == "original" else "copy",
        "aligned": request.args.get("aligned", "1") != "0",
        "across": numbers["across"],
        "down": numbers["down"],
        "lends": request.args.get("lends", type=int),
    }
    try:
        touch = Touch.model_validate(sent)
    except ValidationError as error:
        abort(400, f"That source cannot be: {first_fault(error)}.")
    shot = shot_named(reel)
    if touch.lends is not None and not shot.enter <= touch.lends < shot.leave:
        abort(400, f"Frame {touch.lends} is not in this shot.")
    over = _into(reel, index)
    width, height = (min(_LONGEST, max(1, request.args.get(name, 64, type=int))) for name in ("w", "h"))
    x, y = int(numbers["x"] or 0), int(numbers["y"] or 0)
    number = services().viewing.moment(reel, frame)
    one = over.frame(number)
    box = cells_box(x - 8, y - 8, x + width + 8, y + height + 8, one.format)
    plan = RetouchPlan(one.format, original=services().viewing.reader(reel))
    made = plan.source_of(touch, one, over.frame, range(shot.enter, shot.leave), box, None, Looks())
    if made is None:
        abort(404, "That frame is not there.")
    shown = one.copy()
    for i, component in enumerate(one.format.components):
        cells = cells_of(box, one.format, i)
        zero = 128 if component.is_chroma else 0
        target = shown.component(i)
        values = (made[i].astype(np.float64) + zero) * component.code
        target[cells.top : cells.top + cells.height, cells.left : cells.left + cells.width] = component.samples(values, target.dtype)
    part = crop(shown, x, y, width, height)
    if request.args.get("show") == "match":
        gain = min(64.0, max(1.0, request.args.get("gain", 4.0, type=float)))
        part = cv2.convertScaleAbs(cv2.absdiff(part, crop(one, x, y, width, height)), alpha=gain)
    return Response(png(np.ascontiguousarray(part)), mimetype="image/png", headers={"Cache-Control": "private, max-age=600"})


def _into(reel: Reel, index: int) -> FrameSource:
    """The reel with the steps before one put on: what that one takes from."""
    viewing, shot = services().viewing, shot_named(reel)
    reader = viewing.reader(reel)
    at = sum(s.on for s in shot.recipe.steps[:index])
    if not at:
        return reader
    return chain(reader, viewing.known(reel, shot, reader.format)[:at], shot.enter, shot.leave)
