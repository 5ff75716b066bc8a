"""Changes by the user, each kept whole, so that every one can be undone."""

from __future__ import annotations

from typing import Any

from ..core.survey import Finding
from ..core.treatment import Recipe
from .models import Edit, Reel, database


def current(reel: Reel) -> Edit:
    """The state of the reel's condition and treatment now; an empty first one is made when there is none."""
    edit = Edit.select().where(Edit.reel == reel, ~Edit.undone).order_by(Edit.id.desc()).first()
    return edit or Edit.create(reel=reel, what="Intake", findings=[], recipe=Recipe().model_dump(mode="json"))


def change(reel: Reel, what: str, findings: list[dict[str, Any]] | None = None, recipe: Recipe | None = None) -> Edit:
    """Put a new state on top of the current one; what had been undone is gone then."""
    with database.atomic():
        now = current(reel)
        Edit.delete().where(Edit.reel == reel, Edit.undone).execute()
        return Edit.create(
            reel=reel,
            what=what,
            findings=now.findings if findings is None else findings,
            recipe=now.recipe if recipe is None else recipe.model_dump(mode="json"),
        )


def undo(reel: Reel) -> Edit | None:
    """Take the newest change back; None when there is none."""
    with database.atomic():
        standing = list(Edit.select().where(Edit.reel == reel, ~Edit.undone).order_by(Edit.id.desc()).limit(2))
        if len(standing) < 2:
            return None
        standing[0].undone = True
        standing[0].save()
        return standing[0]


def redo(reel: Reel) -> Edit | None:
    """Put the last change taken back on again; None when there is none."""
    with database.atomic():
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


def recipe_of(edit: Edit) -> Recipe:
    """The treatment."""
    return Recipe.model_validate(edit.recipe)


def as_stored(finding: Finding) -> dict[str, Any]:
    """A finding as it is kept: its values, and whether it is to be mended."""
    return {**finding.as_json(), "state": "kept" if finding.convinces else "doubtful"}


def kept(edit: Edit) -> list[Finding]:
    """The findings that are to be mended."""
    return [_finding(f) for f in edit.findings if f["state"] == "kept"]


def _finding(stored: dict[str, Any]) -> Finding:
    values = {k: v for k, v in stored.items() if k not in ("state", "suggested", "chosen")}
    # What the user kept himself is sure, whatever the figure says.
    return Finding(**{**values, "confidence": 1.0 if stored.get("chosen") else values["confidence"]})


def settled(edit: Edit) -> Recipe:
    """The treatment with what the condition sheet names filled in."""
    return recipe_of(edit).settled(kept(edit))


def mended(edit: Edit) -> list[Finding]:
    """Those of the kept findings that the treatment acts on."""
    places = {(s["x"], s["y"]) for step in settled(edit).active for s in step.settings.get("sites") or ()}
    return [f for f in kept(edit) if (f.x, f.y) in places]
