"""Changes by the user, each kept whole, so that every one can be undone."""

from __future__ import annotations

import hashlib
import json
from collections.abc import Callable
from typing import Any

from ..core.base.errors import SweepError
from ..core.model.findings import Finding
from ..core.model.recipes import Recipe
from ..core.model.shots import Shot, Shots, single_shot
from . import strokes
from .models import Edit, Reel, writing


def current(reel: Reel) -> Edit:
    """The state of the reel now; a first one of a single shot is made when there is none."""
    edit = Edit.select().where(Edit.reel == reel, ~Edit.undone).order_by(Edit.id.desc()).first()
    return edit or Edit.create(reel=reel, what="Intake", shots=_plain(single_shot(max(1, reel.frames))))


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
        Edit.delete().where(Edit.reel == reel, Edit.undone).execute()  # type: ignore[misc]
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
        standing: list[Edit] = list(Edit.select().where(Edit.reel == reel, ~Edit.undone).order_by(Edit.id.desc()).limit(2))
        if len(standing) < 2:
            return None
        standing[0].undone = True
        standing[0].save()
        return standing[0]


def redo(reel: Reel) -> Edit | None:
    """Put the last change taken back on again; None when there is none."""
    with writing():
        edit: Edit | None = Edit.select().where(Edit.reel == reel, Edit.undone).order_by(Edit.id).first()
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


def kept(shot: Shot) -> list[Finding]:
    """The findings of a shot that are to be mended."""
    return [f.finding for f in shot.findings if f.state == "kept"]


def named(shot: Shot) -> Recipe:
    """A shot's treatment with what the condition sheet names filled in; its brush strokes are named by their book alone."""
    return shot.recipe.resolved(kept(shot))


def resolved(shot: Shot) -> Recipe:
    """The same with the brush strokes themselves."""
    return strokes.unfolded(named(shot))


def mark_of(shot: Shot) -> str:
    """What a treated shot is like, in short: another mark, another picture."""
    text = json.dumps([shot.enter, shot.leave, shot.span, shot.use, named(shot).model_dump(mode="json", exclude={"name"})], sort_keys=True)
    return hashlib.sha256(text.encode()).hexdigest()[:16]


def mended(shot: Shot) -> list[Finding]:
    """Those of the kept findings that the treatment acts on."""
    active = resolved(shot).active
    return [f for f in kept(shot) if any(s.kind == f.step and s.of.acts_on(s.settings, f) for s in active)]
