"""Changes by the user, each kept whole, so that every one can be undone."""

from __future__ import annotations

import hashlib
import json
from collections.abc import Callable
from typing import Any

from ..core.base.errors import SweepError
from ..core.cutting import Shot, Shots, whole
from ..core.survey import Finding
from ..core.treatment import Recipe
from . import strokes
from .models import Edit, Reel, writing


def current(reel: Reel) -> Edit:
    """The state of the reel now; a first one of a single shot is made when there is none."""
    edit = Edit.select().where(Edit.reel == reel, ~Edit.undone).order_by(Edit.id.desc()).first()
    return edit or Edit.create(reel=reel, what="Intake", shots=_plain(whole(max(1, reel.frames))))


def shots_of(edit: Edit) -> Shots:
    """The reel's shots in that state."""
    return tuple(Shot.model_validate(s) for s in edit.shots)


def shot_of(reel: Reel, place: int = 0) -> Shot:
    """One of the reel's shots as it is now.

    Raises
    ------
    SweepError
        If there is no such shot any more.
    """
    shots = shots_of(current(reel))
    if not 0 <= place < len(shots):
        raise SweepError(f"There is no shot {place + 1} any more; the reel has {len(shots)}.")
    return shots[place]


def _plain(shots: Shots) -> list[dict[str, Any]]:
    return [s.model_dump(mode="json") for s in shots]


def change(reel: Reel, what: str, shots: Shots) -> Edit:
    """Put a new state on top of the current one; what had been undone is gone then."""
    with writing():
        current(reel)
        Edit.delete().where(Edit.reel == reel, Edit.undone).execute()
        return Edit.create(reel=reel, what=what[:255], shots=_plain(shots))


def change_shot(reel: Reel, what: str, place: int, make: Callable[[Shot], Shot]) -> Edit:
    """Change one shot and leave the others."""
    with writing():
        shots = list(shots_of(current(reel)))
        if not 0 <= place < len(shots):
            raise SweepError(f"There is no shot {place + 1} any more; the reel has {len(shots)}.")
        shots[place] = make(shots[place])
        return change(reel, what, tuple(shots))


def undo(reel: Reel) -> Edit | None:
    """Take the newest change back; None when there is none."""
    with writing():
        standing = list(Edit.select().where(Edit.reel == reel, ~Edit.undone).order_by(Edit.id.desc()).limit(2))
        if len(standing) < 2:
            return None
        standing[0].undone = True
        standing[0].save()
        return standing[0]


def redo(reel: Reel) -> Edit | None:
    """Put the last change taken back on again; None when there is none."""
    with writing():
        edit = Edit.select().where(Edit.reel == reel, Edit.undone).order_by(Edit.id).first()
        if edit is not None:
            edit.undone = False
            edit.save()
        return edit


def can_undo(reel: Reel) -> str | None:
    """What undo would take back."""
    standing = list(Edit.select().where(Edit.reel == reel, ~Edit.undone).order_by(Edit.id.desc()).limit(2))
    return standing[0].what if len(standing) == 2 else None


def can_redo(reel: Reel) -> str | None:
    """What redo would put on again."""
    edit = Edit.select().where(Edit.reel == reel, Edit.undone).order_by(Edit.id).first()
    return edit.what if edit else None


def as_stored(found: Finding) -> dict[str, Any]:
    """A finding as it is kept: its values, and whether it is to be mended."""
    return {**found.as_json(), "state": "kept" if found.convinces else "doubtful"}


def kept(shot: Shot) -> list[Finding]:
    """The findings of a shot that are to be mended."""
    return [finding(f) for f in shot.findings if f["state"] == "kept"]


def finding(stored: dict[str, Any]) -> Finding:
    """A finding from the values it is kept as."""
    values = {k: v for k, v in stored.items() if k not in ("state", "suggested", "chosen")}
    # What the user kept himself is sure, whatever the figure says.
    return Finding(**{**values, "confidence": 1.0 if stored.get("chosen") else values["confidence"]})


def named(shot: Shot) -> Recipe:
    """A shot's treatment with what the condition sheet names filled in; its brush strokes are named by their book alone."""
    return shot.recipe.settled(kept(shot))


def settled(shot: Shot) -> Recipe:
    """The same with the brush strokes themselves."""
    return strokes.unfolded(named(shot))


def mark_of(shot: Shot) -> str:
    """What a treated shot is like, in short: another mark, another picture."""
    told = json.dumps([shot.enter, shot.leave, shot.span, shot.use, named(shot).model_dump(mode="json", exclude={"name"})], sort_keys=True)
    return hashlib.sha256(told.encode()).hexdigest()[:16]


def mended(shot: Shot) -> list[Finding]:
    """Those of the kept findings that the treatment acts on."""
    active = settled(shot).active
    places = {(s["x"], s["y"]) for step in active for s in step.settings.get("sites") or ()}
    lines = [[list(point) for point in m["outline"]] for step in active for m in step.settings.get("marks") or ()]
    tracks = [[list(place) for place in line["track"]] for step in active for line in step.settings.get("lines") or ()]
    kinds = {step.kind for step in active}

    def is_mended(f: Finding) -> bool:
        if f.kind in ("light", "film-dirt", "fleeting"):
            return f.step in kinds
        if f.kind == "cue-mark":
            return f.numbers["outline"] in lines
        if f.kind == "scratch":
            return [list(place) for place in f.numbers["track"]] in tracks
        return (f.x, f.y) in places if "outline" not in f.numbers else f.numbers["outline"] in lines

    return [f for f in kept(shot) if is_mended(f)]
