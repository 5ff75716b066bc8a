"""Tracks: flat parts of the scene that are followed through a shot."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any, Literal

import numpy as np
from flask import Blueprint, Response, abort, jsonify, request
from pydantic import ValidationError

from ...core.model.planes import State, moved
from ...core.model.recipes import first_fault
from ...core.model.regions import Key, Part, Region
from ...core.model.tracks import Track
from ...jobs.tasks import TrackSettings
from ...store import edits
from ...store.models import Reel
from ...wording.tracks import STATES
from .common import AtFrame, DrawnShape, changes, follow_up, place_named, read_body, reel_or_404, services, shot_named

pages = Blueprint("tracks", __name__, url_prefix="/reels/<int:reel_id>/tracks")

# Lines each way of the grid that a plane is judged by.
_GRID = 6


def _track(reel: Reel, index: int) -> Track:
    tracks = shot_named(reel).recipe.tracks
    if index >= len(tracks):
        abort(404, "There is no such track any more. Look at the list in Treatment.")
    return tracks[index]


def _change(reel: Reel, what: str, change: Callable[[list[Track]], None]) -> Response:
    def changed(tracks: tuple[Track, ...]) -> tuple[Track, ...]:
        fresh = list(tracks)
        change(fresh)
        return tuple(fresh)

    edits.change_shot(
        reel, what, place_named(reel), lambda s: s.with_(recipe=s.recipe.model_copy(update={"tracks": changed(s.recipe.tracks)}))
    )
    follow_up(reel)
    return jsonify(said=what)


def _put(reel: Reel, what: str, index: int, make: Callable[[Track], Track]) -> Response:
    _track(reel, index)

    def change(tracks: list[Track]) -> None:
        tracks[index] = make(tracks[index])

    return _change(reel, what, change)


@pages.post("")
def add(reel_id: int) -> Response:
    """Begin a track: its plane is the shape that was drawn, in the frame it was drawn in."""
    reel, drawn = reel_or_404(reel_id), read_body(DrawnShape, "That shape")
    shape, frame = drawn.shape, drawn.frame
    shot = shot_named(reel)
    if not shot.first <= frame < shot.stop:
        abort(400, "That frame is not in this shot.")
    names = {t.name for t in shot.recipe.tracks}
    name = next(n for k in range(1, len(names) + 2) if (n := f"plane {k}") not in names)
    region = Region(parts=(Part(keys=(Key(frame=frame, shape=shape),)),))
    track = Track(name=name, reference=frame, region=region, size=(reel.facts.height, reel.facts.width))
    # A plane of which nothing lies on the picture is refused here.
    track.corners()
    _change(reel, f"Drew {name}", lambda tracks: tracks.append(track))
    return jsonify(said=f"{name[0].upper()}{name[1:]} is drawn. Follow it now.", track=name)


class _Follow(AtFrame):
    direction: Literal["on", "back", "both"] = "both"


@pages.post("/<int:index>/follow")
def follow(reel_id: int, index: int) -> Response:
    """Queue the following of a plane, from the frame at the play head, forwards, backwards, or both ways."""
    reel = reel_or_404(reel_id)
    sent, track = read_body(_Follow), _track(reel, index)
    wanted = TrackSettings(number=shot_named(reel).id, track=track.id, direction=sent.direction, frame=sent.frame)
    services().queue.put("track", reel, wanted)
    return jsonify(said=f"Following {track.name} …")


@pages.get("/<int:index>")
def seen(reel_id: int, index: int) -> Response:
    """A plane in a frame: its corners, the grid on it, how well it holds there; and the misfit of every frame, if asked for."""
    reel = reel_or_404(reel_id)
    track, frame = _track(reel, index), request.args.get("frame", 0, type=int)
    followed = track.followed()
    if followed is None and frame != track.reference:
        return jsonify(corners=None, grid=[], said=f"Not followed yet. It was drawn in frame {track.reference}.", first=0)
    way = track.way(frame) if followed is not None else np.eye(3)
    corners = track.corners()
    share = np.linspace(0, 1, _GRID + 1)
    lines = [np.array([corners[0] * (1 - s) + corners[1] * s, corners[3] * (1 - s) + corners[2] * s]) for s in share]
    lines += [np.array([corners[0] * (1 - s) + corners[3] * s, corners[1] * (1 - s) + corners[2] * s]) for s in share]
    said, over = "", {}
    if followed is not None:
        at = frame - track.first
        inside = 0 <= at < len(followed.numbers)
        said = (
            f"Frame {frame}: {STATES[State(int(followed.states[at]))]}, misfit {100 * followed.misfit[at]:.1f} %, corners sure to {followed.loose[at]:.2f} px."
            if inside
            else f"Frame {frame} was not followed."
        )
        if request.args.get("whole") == "1":
            over = {"misfit": followed.misfit.round(4).tolist(), "states": followed.states.tolist()}
    return jsonify(
        corners=moved(corners, way).round(3).tolist(),
        grid=[moved(line, way).round(2).tolist() for line in lines],
        said=said,
        first=track.first,
        followed=followed is not None,
        **over,
        nudged=[n.frame for n in track.nudges],
    )


@pages.post("/<int:index>/settings")
def settings(reel_id: int, index: int) -> Response:
    """Change the name, how it may move, or the smoothing; regions that ride on it go with the name."""
    reel, sent = reel_or_404(reel_id), changes()
    old = _track(reel, index)
    known: dict[str, Any] = {k: sent[k] for k in ("name", "model", "smooth") if k in sent}
    if "name" in known:
        known["name"] = str(known["name"]).strip()
        if any(t.name == known["name"] for n, t in enumerate(shot_named(reel).recipe.tracks) if n != index):
            abort(409, f"There is a track called {known['name']!r} already.")
    # Another kind of move has to be followed anew.
    base = old if known.get("model", old.model) == old.model else old.unfollowed()
    try:
        fresh = Track.model_validate({**base.model_dump(), **known})
    except ValidationError as error:
        abort(400, f"That setting cannot be: {first_fault(error)}.")
    if fresh.name == old.name:
        return _put(reel, f"Settings of {old.name}", index, lambda _: fresh)
    recipe = shot_named(reel).recipe.renamed(old.name, fresh.name)
    tracks = tuple(fresh if n == index else t for n, t in enumerate(recipe.tracks))
    edits.change_shot(reel, f"{old.name} is called {fresh.name}", place_named(reel), lambda s: s.with_(recipe=recipe.with_tracks(tracks)))
    follow_up(reel)
    return jsonify(said=f"Called {fresh.name} now.")


class _Corners(AtFrame):
    corners: tuple[tuple[float, float], tuple[float, float], tuple[float, float], tuple[float, float]] | None = None


@pages.post("/<int:index>/corners")
def put_right(reel_id: int, index: int) -> Response:
    """Put the corners of a plane where they belong in a frame; between such frames the correction changes gradually."""
    reel, sent = reel_or_404(reel_id), read_body(_Corners)
    frame = sent.frame
    if sent.corners is None:
        return _put(reel, "Corners as they were followed", index, lambda t: t.unnudged(frame))
    corners = np.array(sent.corners, np.float64)
    if not np.isfinite(corners).all() or np.abs(corners).max() > 1e5:
        abort(400, "These corners lie too far off.")
    _track(reel, index).adjusted(frame, corners)
    return _put(reel, f"Corners put right at {frame}", index, lambda t: t.adjusted(frame, corners))


@pages.post("/<int:index>/remove")
def remove(reel_id: int, index: int) -> Response:
    """Remove a track that nothing rides on."""
    reel = reel_or_404(reel_id)
    track, recipe = _track(reel, index), shot_named(reel).recipe
    riders = [s.of.title for s in recipe.steps if s.rides_on(track.name)]
    if riders:
        abort(409, f"{riders[0]} rides on this track. Fix its region to the frame first, or let it ride on another one.")

    def gone(tracks: list[Track]) -> None:
        tracks.pop(index)

    return _change(reel, f"Removed {track.name}", gone)
