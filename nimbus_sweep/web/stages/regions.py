"""Regions: the shapes drawn on the picture that say where a step may act, and what is held out of it."""

from __future__ import annotations

import re
from collections.abc import Callable
from functools import lru_cache
from typing import Any

import cv2
import numpy as np
from flask import Blueprint, Response, abort, g, jsonify, request
from pydantic import Field, ValidationError

from ...core.media.sent_pictures import decoded
from ...core.model.mask_pictures import from_picture, to_picture
from ...core.model.planes import undone
from ...core.model.recipes import Recipe, Step, first_fault
from ...core.model.regions import Key, Part, Region
from ...core.model.shapes import Matrix, Shape, contours
from ...core.model.shots import Shot
from ...core.model.tracks import Riding, Track, track_named
from ...store import edits
from ...store.models import Reel, Setting
from .common import AtFrame, Body, DrawnShape, changes, follow_up, place_named, read_body, reel_or_404, services, shot_named

pages = Blueprint("regions", __name__, url_prefix="/reels/<int:reel_id>/<any(steps,tracks):owner>/<int:index>/<any(region,hold_out):which>")


@pages.url_value_preprocessor
def _whose(_endpoint: str | None, values: dict[str, Any] | None) -> None:
    g.owner = (values or {}).pop("owner", "steps")


@pages.url_defaults
def _of_steps(_endpoint: str, values: dict[str, Any]) -> None:
    values.setdefault("owner", "steps")


CLIP = "region_clip"
# Frames of a slice at which a region that changes is looked at; bytes of a mask picture at most.
_LOOKS = 48
_LARGEST_MASK = 60_000_000


def _recipe() -> Recipe:
    return shot_named(reel_or_404(int(request.view_args["reel_id"]))).recipe  # type: ignore[index]


def _step(index: int) -> Step | Track:
    """The step, or the track, that the region is of."""
    steps: tuple[Step | Track, ...] = _recipe().tracks if g.owner == "tracks" else _recipe().steps
    if index >= len(steps):
        abort(404, f"There is no such {g.owner.removesuffix('s')} any more. Look at the list in Treatment.")
    return steps[index]


def _region(index: int, which: str) -> Region | None:
    return _step(index).hold_out if which == "hold_out" else _step(index).region


def _riding(index: int, which: str, region: Region | None) -> Region | None:
    """A region with what its parts ride on: a track's own rides on itself."""
    if region is None or g.owner == "steps" or which == "hold_out":
        return region
    track = _step(index)
    return track.ridden() if isinstance(track, Track) else region


def _move(name: str, frame: int) -> Matrix:
    """From where a part that rides on a track is kept to a frame."""
    return track_named(_recipe().tracks, name).way(frame) if name else np.eye(3)


def _part(region: Region | None, number: int) -> Part:
    if region is None or number >= len(region.parts):
        abort(404, "That shape is not there any more.")
    return region.parts[number]


def _size(reel: Reel) -> tuple[int, int]:
    return reel.facts.height, reel.facts.width


def _put(reel_id: int, index: int, which: str, what: str, region: Region | None) -> None:
    reel = reel_or_404(reel_id)

    owner = g.owner
    if owner == "tracks" and which == "region" and (region is None or not region.parts):
        abort(409, "A track needs its plane. Change its shape, or remove the track.")

    def changed(shot: Shot) -> Shot:
        fresh = tuple(s.model_copy(update={which: region}) if n == index else s for n, s in enumerate(getattr(shot.recipe, owner)))
        return shot.with_(recipe=shot.recipe.model_copy(update={owner: fresh}))

    edits.change_shot(reel, what, place_named(reel), changed)
    follow_up(reel)


def _with_parts(reel_id: int, index: int, which: str, what: str, change: Callable[[list[Part]], None]) -> Region:
    region = _region(index, which) or Region()
    parts = list(region.parts)
    change(parts)
    region = region.model_copy(update={"parts": tuple(parts)})
    _put(reel_id, index, which, what, region)
    return region


@lru_cache(maxsize=64)
def _lines(region: Riding, size: tuple[int, int], frame: int) -> list[list[list[float]]]:
    return [line.tolist() for line in contours(region.mask(size, frame))]


@pages.get("")
def seen(reel_id: int, index: int, which: str) -> Response:
    """A region in a frame: its edge, and its parts to take hold of."""
    reel = reel_or_404(reel_id)
    frame = request.args.get("frame", 0, type=int)
    region = _riding(index, which, _region(index, which))
    if region is None:
        return jsonify(parts=[], lines=[], changes=False)
    parts = []
    for p in region.parts:
        shape = p.at(frame)
        if p.track and shape.kind != "picture":
            shape = shape.transformed(_move(p.track, frame))
        parts.append({"takes": p.takes, "keys": [k.frame for k in p.keys], "shape": shape.model_dump(mode="json", exclude={"levels"})})
    lines = _lines(Riding(region, _recipe().tracks), _size(reel), frame if region.changes else 0)
    return jsonify(parts=parts, lines=lines, changes=region.changes)


@pages.get("/<any(row,column):kind>/<int:at>")
def along_time(reel_id: int, index: int, which: str, kind: str, at: int) -> Response:
    """Where a row or a column crosses a region over the shot: lines of points, a place and a frame counted from the shot's first."""
    reel = reel_or_404(reel_id)
    region, shot, size = _riding(index, which, _region(index, which)), shot_named(reel), _size(reel)
    if region is None or at >= size[0 if kind == "row" else 1]:
        return jsonify(lines=[])
    count = shot.stop - shot.first
    numbers = np.unique(np.linspace(0, count - 1, min(count, _LOOKS)).round().astype(int)) if region.changes else np.array([0])
    masks = [Riding(region, shot.recipe.tracks).mask(size, shot.first + int(n)) for n in numbers]
    strips = np.stack([m[at] if kind == "row" else m[:, at] for m in masks])
    # Each line of the strip stands for a stretch of frames; its edges lie half way to the next.
    edges = np.concatenate([[0], (numbers[1:] + numbers[:-1]) / 2 + 0.5, [count]])
    lines = [np.stack([line[:, 0], edges[np.rint(line[:, 1] + 0.5).astype(int)]], -1).round(2).tolist() for line in contours(strips)]
    return jsonify(lines=lines)


class _NewPart(Body):
    shape: Shape
    frame: int = Field(default=0, ge=0)
    takes: bool = False


@pages.post("/parts")
def add(reel_id: int, index: int, which: str) -> Response:
    """Add a shape."""
    sent = read_body(_NewPart, "That shape")
    shape, frame = sent.shape, sent.frame
    track = _track_of(index, which)
    if track:
        shape = shape.transformed(undone(_move(track, frame)))
    rides_on = "" if g.owner == "tracks" and which == "region" else track
    part = Part(keys=(Key(frame=frame, shape=shape),), takes=sent.takes, track=rides_on)
    region = _with_parts(reel_id, index, which, "Drew a shape" if not part.takes else "Took a shape away", lambda parts: parts.append(part))
    return jsonify(part=len(region.parts) - 1)


def _track_of(index: int, which: str) -> str:
    """The track that the region as a whole rides on."""
    region = _riding(index, which, _region(index, which))
    return region.parts[0].track if region is not None and region.parts else ""


class _Ride(AtFrame):
    track: str = ""


@pages.post("/ride")
def ride(reel_id: int, index: int, which: str) -> Response:
    """Let a region ride on a track, or fix it to the frame; what is shown at the play head stays where it is."""
    sent = read_body(_Ride)
    name, frame = sent.track, sent.frame
    region = _region(index, which)
    if region is None or not region.parts:
        abort(409, "Draw a shape first; then it can ride.")

    def ridden(part: Part) -> Part:
        def move(key: int) -> Matrix:
            # A part of several keys was drawn in each key's own frame.
            at = key if len(part.keys) > 1 else frame
            return undone(_move(name, at)) @ _move(part.track, at)

        return part.ridden(name, move)

    parts = tuple(ridden(p) for p in region.parts)
    _put(reel_id, index, which, f"Rides on {name}" if name else "Fixed to the frame", region.model_copy(update={"parts": parts}))
    return jsonify(said=f"It rides on {name} now." if name else "Fixed to the frame.")


@pages.post("/parts/<int:number>")
def reshape(reel_id: int, index: int, which: str, number: int) -> Response:
    """Give a part another shape; with several keys, in that frame."""
    drawn = read_body(DrawnShape, "That shape")
    frame, shape = drawn.frame, drawn.shape
    part = _part(_region(index, which), number)
    track = _track_of(index, which) if g.owner == "tracks" else part.track
    if track:
        shape = shape.transformed(undone(_move(track, frame)))
        # An ellipse that rides has become an outline.
        part = part.ridden(part.track, lambda _: np.eye(3))
    if shape.kind != part.keys[0].shape.kind:
        abort(409, "A shape stays of its kind. Draw a new one instead.")

    def change(parts: list[Part]) -> None:
        parts[number] = part.reshaped(frame, shape)

    _with_parts(reel_id, index, which, "Changed a shape", change)
    return jsonify(part=number)


@pages.post("/parts/<int:number>/<any(key,unkey,flip,remove):act>")
def alter(reel_id: int, index: int, which: str, number: int, act: str) -> Response:
    """Set or take a key at a frame, add a part or take it away, or remove it."""
    part = _part(_region(index, which), number)
    frame = read_body(AtFrame).frame if act in ("key", "unkey") else 0

    def change(parts: list[Part]) -> None:
        if act == "remove":
            parts.pop(number)
        elif act == "flip":
            parts[number] = part.model_copy(update={"takes": not part.takes})
        else:
            parts[number] = part.keyed(frame, part.at(frame)) if act == "key" else part.unkeyed(frame)

    said = {"key": f"Key at {frame}", "unkey": f"Key at {frame} removed", "flip": "Added or taken away", "remove": "Removed a shape"}[act]
    _with_parts(reel_id, index, which, said, change)
    return jsonify(said=said)


@pages.post("/edge")
def edge(reel_id: int, index: int, which: str) -> Response:
    """Grow, shrink, soften or turn inside out."""
    region = _region(index, which) or Region()
    sent = {k: v for k, v in changes().items() if k in ("grow", "feather", "invert")}
    try:
        changed = Region.model_validate(region.model_dump() | sent)
    except ValidationError as error:
        abort(400, f"That edge cannot be: {first_fault(error)}.")
    _put(reel_id, index, which, "Edge of the region", changed)
    return jsonify(said="Edge of the region")


@pages.post("/clear")
def clear(reel_id: int, index: int, which: str) -> Response:
    """Do without: the step acts on the whole picture again, or nothing is held out."""
    _put(reel_id, index, which, "Region removed", None)
    if which == "hold_out":
        return jsonify(said="Nothing is held out")
    step = _step(index)
    needs = isinstance(step, Step) and step.of.needs_region
    return jsonify(said="It acts nowhere until it has a region" if needs else "The whole picture again")


@pages.post("/copy")
def copy(reel_id: int, index: int, which: str) -> Response:
    """Keep the region to be put in elsewhere: another step, shot or reel."""
    reel = reel_or_404(reel_id)
    region = _region(index, which)
    if region is None or not region.parts:
        abort(409, "There is nothing to copy: no shape is drawn here.")
    height, width = _size(reel)
    value = {"region": region.model_dump(mode="json"), "size": [width, height], "enter": shot_named(reel).enter}
    Setting.insert(name=CLIP, value=value).on_conflict(conflict_target=[Setting.name], update={Setting.value: value}).execute()
    return jsonify(said="Copied. Open a region of any step, shot or reel, and put it in.")


@pages.post("/paste")
def paste(reel_id: int, index: int, which: str) -> Response:
    """Put the copied region in, in place of this one; fitted to a picture of another size, its keys to this shot."""
    reel = reel_or_404(reel_id)
    kept = Setting.get_or_none(Setting.name == CLIP)
    if kept is None:
        abort(409, "No region was copied yet.")
    height, width = _size(reel)
    was_wide, was_tall = kept.value["size"]
    across, down = width / was_wide, height / was_tall
    said = "Region put in"
    if abs(across / down - 1) > 0.01:
        said = f"Put in as it was: it was drawn on {was_wide} x {was_tall}, not the shape of this reel. Look whether it fits"
        across = down = 1.0
    elif across != 1:
        said = f"Put in, scaled from {was_wide} x {was_tall}"
    region = Region.model_validate(kept.value["region"]).carried_to(shot_named(reel).enter - kept.value["enter"], across, down)
    _put(reel_id, index, which, "Region put in", region)
    return jsonify(said=f"{said}.")


@pages.post("/mask")
def take_in(reel_id: int, index: int, which: str) -> Response:
    """Add a mask picture, the body of the request: by its transparency, or by a colour painted on it."""
    if (request.content_length or 0) > _LARGEST_MASK:
        abort(413, "This picture is larger than a mask should be. Save it smaller, as PNG.")
    pixels = services().apart("This picture", decoded, request.get_data())
    if pixels.dtype != np.uint8:
        pixels = (pixels >> 8 if pixels.dtype == np.uint16 else np.clip(pixels * 255, 0, 255)).astype(np.uint8)
    if pixels.ndim == 2:
        pixels = cv2.cvtColor(pixels, cv2.COLOR_GRAY2RGB)
    else:
        pixels = cv2.cvtColor(pixels, cv2.COLOR_BGRA2RGBA if pixels.shape[2] == 4 else cv2.COLOR_BGR2RGB)
    colour = re.fullmatch(r"#?([0-9a-fA-F]{6})", request.args.get("colour", ""))
    named = tuple(int(colour[1][n : n + 2], 16) for n in (0, 2, 4)) if colour else None
    tolerance = min(255, max(0, request.args.get("tolerance", 60, type=int)))
    trim = min(200, max(0, request.args.get("trim", 0, type=int)))
    mask, warnings = from_picture(pixels, _size(reel_or_404(reel_id)), named, tolerance, trim)  # type: ignore[arg-type]
    part = Part(keys=(Key(frame=0, shape=mask),))
    _with_parts(reel_id, index, which, "Took a mask picture in", lambda parts: parts.append(part))
    return jsonify(said=" ".join(["The mask is taken in.", *warnings]))


@pages.get("/mask.png")
def save(reel_id: int, index: int, which: str) -> Response:
    """The region in a frame as a mask picture: white, with the region for its transparency."""
    reel = reel_or_404(reel_id)
    frame = request.args.get("frame", 0, type=int)
    region = _riding(index, which, _region(index, which)) or Region()
    mask = Riding(region, _recipe().tracks).mask(_size(reel), frame)
    _, data = cv2.imencode(".png", to_picture(mask))
    name = f"region-{frame:06d}.png"
    return Response(data.tobytes(), mimetype="image/png", headers={"Content-Disposition": f'attachment; filename="{name}"'})


def clipped() -> bool:
    """Whether a region was copied."""
    return bool(Setting.select().where(Setting.name == CLIP).exists())
