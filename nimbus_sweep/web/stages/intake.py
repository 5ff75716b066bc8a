"""Intake: what was read of a reel beside what was assumed, its shots, and the lists that describe them."""

from __future__ import annotations

import shutil
from pathlib import Path

from flask import Blueprint, Response, abort, jsonify, render_template, request
from pydantic import ValidationError

from ...core.base.errors import SweepError
from ...core.interchange.cut_lists import KINDS, read_cuts, write_cuts
from ...core.media.reel import Reading
from ...core.model.recipes import first_fault
from ...core.model.shots import Shot, add_cut, cut_by_list, move_cut, place_of, remove_cut, set_points
from ...jobs.reels import facts_of, open_as_taken_in, reading_of
from ...store import edits
from ...store.models import Reel, writing
from .common import LOOKED_AT, Body, attached, changes, ensure_volume, follow_up, latest, place_named, read_body, reel_or_404, services

pages = Blueprint("intake", __name__)
_LONGEST_LIST = 4 << 20


@pages.get("/reels/<int:reel_id>/sheet/intake")
def sheet(reel_id: int) -> str:
    """The sheet."""
    reel = reel_or_404(reel_id, needs=())
    ready = reel.state == "ready"
    shots = services().viewing.shots(reel) if ready else ()
    return render_template(
        "sheets/intake.html",
        reel=reel,
        facts=reel.facts,
        reading=reading_of(reel),
        task=latest(reel, "intake"),
        shots=shots,
        place=next((n for n, s in enumerate(shots) if s.id == request.args.get("shot", 0, type=int)), 0),
        where=_place(reel),
    )


def _place(reel: Reel) -> str:
    """Where the reel lies, told from the data folder if it is in there."""
    path, root = Path(reel.path), services().data.root
    return f"data folder, {path.relative_to(root)}" if path.is_relative_to(root) else str(path)


@pages.post("/reels/<int:reel_id>/accept-missing")
def accept_missing(reel_id: int) -> Response:
    """Read a damaged reel again, taking what cannot be read for missing."""
    reel = reel_or_404(reel_id, needs=())
    if reel.state == "ready":
        # It was read, and is shown with them: nothing has to be read again.
        Reel.update(accept_missing=True).where(Reel.id == reel.id).execute()
        return jsonify(said="Accepted: the missing frames are delivered black, and the report lists them.")
    Reel.update(accept_missing=True, state="new", refusal="").where(Reel.id == reel.id).execute()
    services().queue.put("intake", Reel.get_by_id(reel.id))
    return jsonify(queued=True)


@pages.post("/reels/<int:reel_id>/intake")
def again(reel_id: int) -> Response:
    """Read the reel anew, as after its file has changed."""
    reel = reel_or_404(reel_id, needs=())
    services().viewing.forget(reel)
    shutil.rmtree(services().data.volumes(reel.id), ignore_errors=True)
    (services().data.of_reel(reel.id) / "proxy.jpegs").unlink(missing_ok=True)
    Reel.update(state="new", refusal="").where(Reel.id == reel.id).execute()
    services().queue.put("intake", Reel.get_by_id(reel.id))
    return jsonify(queued=True)


_SEEN = ("cadence", "pulled_down", "repeated", "period", "still_runs", "absent", "notes")


@pages.post("/reels/<int:reel_id>/reading")
def correct(reel_id: int) -> Response:
    """Correct how the reel is read; the picture shows it at once, the small copies follow."""
    # Two corrections may come at once: the second adds to what the first made of the reading.
    with writing():
        reel = reel_or_404(reel_id, needs=LOOKED_AT)
        before = reading_of(reel)
        try:
            reading = Reading.model_validate(
                {**before.model_dump(), **{k: v or None for k, v in changes().items() if k != "deinterlace"}, **_switch()}
            )
        except ValidationError as error:
            abort(400, f"That cannot be: {first_fault(error)}.")
        if reading == before:
            return jsonify(said="Nothing changed.")
        Reel.update(reading=reading.model_dump(mode="json")).where(Reel.id == reel.id).execute()
        source = open_as_taken_in(Reel.get_by_id(reel.id))
        facts = facts_of(source)
        if reel.facts:
            # What intake saw of the pictures stays as it is.
            facts = facts.model_copy(update={k: getattr(reel.facts, k) for k in _SEEN})
        Reel.update(facts=facts).where(Reel.id == reel.id).execute()
    if reading.key != reel.look:
        services().queue.put("intake", Reel.get_by_id(reel.id))
    return jsonify(said="Read that way now.")


def _switch() -> dict[str, bool]:
    sent = changes()
    return {"deinterlace": bool(sent["deinterlace"])} if "deinterlace" in sent else {}


# -- shots -----------------------------------------------------------------------------------------------


def _changed(reel: Reel, what: str, shots: tuple[Shot, ...]) -> Response:
    edits.change(reel, what, lambda _: shots)
    follow_up(reel)
    return jsonify(said=what)


class _At(Body):
    at: int


class _To(Body):
    to: int


@pages.post("/reels/<int:reel_id>/cuts")
def cut(reel_id: int) -> Response:
    """Cut before a frame, by hand."""
    reel = reel_or_404(reel_id)
    at = read_body(_At).at
    return _changed(reel, f"Cut at frame {at}", add_cut(services().viewing.shots(reel), at))


@pages.post("/reels/<int:reel_id>/cuts/<int:at>/<any(remove,confirm):what>")
def judge_cut(reel_id: int, at: int, what: str) -> Response:
    """Take a cut out, or say that it is one."""
    reel = reel_or_404(reel_id)
    shots = services().viewing.shots(reel)
    if what == "remove":
        return _changed(reel, f"Cut at {at} taken out", remove_cut(shots, at))
    n = place_of(shots, at)
    if shots[n].first != at:
        raise SweepError(f"There is no cut at frame {at}.")
    return _changed(reel, f"Cut at {at} confirmed", (*shots[:n], shots[n].with_(confirmed=True), *shots[n + 1 :]))


@pages.post("/reels/<int:reel_id>/cuts/confirm")
def confirm_all(reel_id: int) -> Response:
    """Say that every cut found is one."""
    reel = reel_or_404(reel_id)
    return _changed(reel, "All cuts confirmed", tuple(s.with_(confirmed=True) for s in services().viewing.shots(reel)))


@pages.post("/reels/<int:reel_id>/cuts/<int:at>/move")
def move(reel_id: int, at: int) -> Response:
    """Move a cut to before another frame."""
    reel = reel_or_404(reel_id)
    to = read_body(_To).to
    return _changed(reel, f"Cut at {at} moved to {to}", move_cut(services().viewing.shots(reel), at, to))


class _ShotChange(Body):
    name: str | None = None
    use: str | None = None
    enter: int | None = None
    leave: int | None = None
    handles: int | None = None


@pages.post("/reels/<int:reel_id>/shot")
def describe(reel_id: int) -> Response:
    """Name a shot, say what becomes of it, or set its in and out points and handles."""
    reel = reel_or_404(reel_id)
    place, sent = place_named(reel), read_body(_ShotChange)
    what = {"name": "Named", "use": "Use of", "enter": "In point of", "leave": "Out point of", "handles": "Handles of"}
    said = next((verb for key, verb in what.items() if getattr(sent, key) is not None), "Changed")

    def make(shot: Shot) -> Shot:
        shot = set_points(shot, sent.enter, sent.leave, sent.handles)
        return shot.with_(**{k: said[:120] for k in ("name", "use") if (said := getattr(sent, k)) is not None})

    try:
        edits.change_shot(reel, f"{said} shot {place + 1}", place, make)
    except ValidationError as error:
        abort(400, f"That cannot be: {first_fault(error)}.")
    follow_up(reel)
    ensure_volume(reel, place)
    return jsonify(said=f"{said} shot {place + 1}")


class _CutList(Body):
    text: str = ""
    name: str = ""


@pages.post("/reels/<int:reel_id>/cut-list")
def place_list(reel_id: int) -> Response:
    """Divide the reel by an edit decision list."""
    reel = reel_or_404(reel_id)
    sent = read_body(_CutList)
    text, name = sent.text, sent.name
    kind = Path(name).suffix.lower().removeprefix(".")
    if kind not in KINDS:
        raise SweepError(f"{name or 'The list'} is neither a CMX 3600 list (.edl) nor an OpenTimelineIO file (.otio).")
    if len(text) > _LONGEST_LIST:
        raise SweepError(f"{name} is longer than an edit decision list should be.")
    cuts = services().apart(name or "The list", read_cuts, text, kind, reel.frames, reel.facts.frames_a_second)
    shots = cut_by_list(services().viewing.shots(reel), cuts)
    return _changed(reel, f"Cuts of {name[:60]}", shots)


@pages.get("/reels/<int:reel_id>/cuts.<any(edl,otio):kind>")
def save_list(reel_id: int, kind: str) -> Response:
    """The shots as an edit decision list."""
    reel = reel_or_404(reel_id)
    text = write_cuts(
        services().viewing.shots(reel),
        kind,
        reel.title,
        Path(reel.path).name,
        reel.facts.frames_a_second,
        reel.facts.time_code,
    )
    stem = Path(reel.path).stem
    return attached(Response(text, mimetype="text/plain"), f"{stem}.{kind}")
