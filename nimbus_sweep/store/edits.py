"""The shots of reels and the changes to them, each kept as the rows it changed, so that every one can be undone."""

from __future__ import annotations

import hashlib
import json
import re
import threading
import uuid
from collections.abc import Callable, Iterable, Sequence
from contextvars import ContextVar
from typing import Any

import peewee as pw
from cachetools import LRUCache

from ..core.base.errors import SweepError
from ..core.model.findings import Finding
from ..core.model.recipes import Recipe
from ..core.model.shots import Shot, Shots, single_shot
from . import rows, strokes
from .models import Edit, FindingRow, Reel, ShotRow, database, writing
from .rows import RowChange

# Who makes changes here, and what the page calls itself that they are made on.
author: ContextVar[tuple[str, str]] = ContextVar("author", default=("", ""))
# Shots at hand, by their numbers and marks.
_held: LRUCache[tuple[int, str], Shot] = LRUCache(20_000)
# All of a reel's, by its number and mark.
_whole: LRUCache[tuple[int, str], Shots] = LRUCache(16)
_lock = threading.Lock()


def shots_of(reel: Reel) -> Shots:
    """The reel's shots as they are now; a single one is made when there are none."""
    # All rows as they were at one moment: the worker may write between two questions.
    with database.atomic():
        at = _stamp(reel)[1]
        with _lock:
            whole = _whole.get((reel.id, at)) if at else None
        if whole is None:
            whole = _read(reel, at)
    if not whole:
        _begin(reel)
        return shots_of(reel)
    return whole


def _read(reel: Reel, at: str) -> Shots:
    marks = _marks(reel.id)
    with _lock:
        known = {number: _held.get((number, mark)) for number, mark in marks}
    lacking = [number for number, _ in marks if known[number] is None]
    fresh = rows.read(lacking)
    whole = tuple(known[number] or fresh[number] for number, _ in marks)
    with _lock:
        _held.update({(number, shot.mark): shot for number, shot in fresh.items()})
        if at and whole:
            _whole[reel.id, at] = whole
    return whole


def _marks(reel: int) -> list[tuple[int, str]]:
    return list(database.execute_sql("SELECT id, mark FROM shot WHERE reel_id = ? ORDER BY first", (reel,)).fetchall())


def _begin(reel: Reel) -> None:
    with writing():
        if not ShotRow.select().where(ShotRow.reel == reel).exists():
            begin_with(reel, "Intake", single_shot(max(1, reel.frames)))


def forget_held() -> None:
    """Let go of the shots at hand, as a process that has just begun has none."""
    with _lock:
        _held.clear()
        _whole.clear()


def begun(reel: Reel) -> bool:
    """Whether the reel has shots yet."""
    return bool(_marks(reel.id))


def begin_with(reel: Reel, what: str, shots: Shots) -> Edit:
    """Begin the history of a reel with some shots, whatever it had before: that cannot be taken back."""
    with writing():
        changes = rows.difference(reel.id, shots_of(reel) if begun(reel) else (), tuple(s.kept_as(0) for s in shots))
        Edit.delete().where(Edit.reel == reel).execute()  # type: ignore[misc]
        # They are never taken back, so what they change is not kept.
        return _noted(reel, what, [], _put(reel, changes))


def shot_of(reel: Reel, place: int = 0) -> Shot:
    """One of the reel's shots as it is now.

    Raises
    ------
    SweepError
        If there is no such shot any more.
    """
    shots = shots_of(reel)
    if not 0 <= place < len(shots):
        raise SweepError(f"There is no shot {place + 1} any more; the reel has {len(shots)}.")
    return shots[place]


def place_of_shot(reel: Reel, number: int) -> int | None:
    """The place of the shot that is kept under a number; None when there is none any more."""
    return next((n for n, shot in enumerate(shots_of(reel)) if shot.id == number), None)


def revision(reel: Reel) -> str:
    """What the reel's shots are like, in short: another one after each change, and none comes twice."""
    return "{}-{}".format(*_stamp(reel))


def _stamp(reel: Reel) -> tuple[int, str]:
    """The revision of a reel and the mark of its newest change; asked for so often that the rest of its row is left out."""
    number, mark = database.execute_sql("SELECT revision, mark FROM reel WHERE id = ?", (reel.id,)).fetchone()
    return int(number), str(mark)


# What is told of a change: what it changed may be very much.
_NAMED = (Edit.id, Edit.what, Edit.who, Edit.created)


def _standing(reel: Reel, *columns: Any) -> Any:
    return Edit.select(*columns).where(Edit.reel == reel, ~Edit.undone, ~Edit.dropped).order_by(Edit.id.desc())


def current(reel: Reel) -> Edit:
    """The newest change that stands."""
    shots_of(reel)
    newest: Edit = _standing(reel, *_NAMED).first()
    return newest


def _make(reel: Reel, what: str, changes: list[RowChange]) -> Edit:
    return _noted(reel, what, changes, _put(reel, changes))


def _noted(reel: Reel, what: str, changes: list[RowChange], number: int) -> Edit:
    who, page = author.get()
    return Edit.create(reel=reel, what=what[:255], who=who, page=page, changes=[list(c) for c in changes], number=number)


def _put(reel: Reel, changes: Iterable[RowChange]) -> int:
    """Change rows, and give the reel its next revision."""
    mark = uuid.uuid4().hex[:12]
    rows.put(reel, changes, mark)
    Reel.update(revision=Reel.revision + 1, mark=mark).where(Reel.id == reel.id).execute()
    return _stamp(reel)[0]


def change(reel: Reel, what: str, make: Callable[[Shots], Shots]) -> Edit:
    """Put a change on top of what is; what had been undone cannot be redone then.

    Parameters
    ----------
    reel : Reel
    what : str
        What is done, as undo names it.
    make : callable
        Makes the shots of those that there are when its turn has come.
    """
    with writing():
        shots = shots_of(reel)
        made = make(shots)
        changes = rows.difference(reel.id, shots, made)
        Edit.update(dropped=True).where(Edit.reel == reel, Edit.undone, ~Edit.dropped).execute()
        edit = _make(reel, what, changes)
        _hold(reel, made, {c.shot for c in changes})
        return edit


def _hold(reel: Reel, shots: Shots, touched: set[int]) -> None:
    """Have shots at hand that were just put, as far as all in them have their numbers: they need not be read again."""
    mark = _stamp(reel)[1]
    for shot in shots:
        # Findings that were not read yet are those of the rows.
        found = shot.findings if shot.findings.at_hand else ()
        if shot.id in touched and all(one.id for one in (*found, *shot.recipe.steps, *shot.recipe.tracks)):
            with _lock:
                _held[shot.id, mark] = shot.marked(mark)


def change_shot(reel: Reel, what: str, place: int, make: Callable[[Shot], Shot]) -> Edit:
    """Change one shot and leave the others."""

    def made(shots: Shots) -> Shots:
        if not 0 <= place < len(shots):
            raise SweepError(f"There is no shot {place + 1} any more; the reel has {len(shots)}.")
        return (*shots[:place], make(shots[place]), *shots[place + 1 :])

    return change(reel, what, made)


def undo(reel: Reel) -> Edit | None:
    """Take the newest change back; None when there is none."""
    with writing():
        if can_undo(reel) is None:
            return None
        newest = _standing(reel).first()
        return _turned(reel, newest, [c.back for c in changes_of(newest)], undone=True)


def redo(reel: Reel) -> Edit | None:
    """Put the last change taken back on again; None when there is none."""
    with writing():
        edit = _undone(reel)
        return None if edit is None else _turned(reel, edit, changes_of(edit), undone=False)


def _turned(reel: Reel, edit: Edit, changes: Iterable[RowChange], undone: bool) -> Edit:
    edit.number, edit.undone, edit.page = _put(reel, changes), undone, author.get()[1]
    edit.save(only=["number", "undone", "page"])
    return edit


def _undone(reel: Reel, *columns: Any) -> Edit | None:
    next_: Edit | None = Edit.select(*columns).where(Edit.reel == reel, Edit.undone, ~Edit.dropped).order_by(Edit.id).first()
    return next_


def changes_of(edit: Edit) -> list[RowChange]:
    """The rows that a change changed."""
    return [RowChange(*c) for c in edit.changes]


def can_undo(reel: Reel) -> Edit | None:
    """What undo would take back."""
    standing = list(_standing(reel, *_NAMED).limit(2))
    return standing[0] if len(standing) == 2 else None


def can_redo(reel: Reel) -> Edit | None:
    """What redo would put on again."""
    return _undone(reel, *_NAMED)


def since(reel: Reel, number: int) -> list[Edit]:
    """What was changed, taken back or made again after a revision, oldest first."""
    return list(Edit.select().where(Edit.reel == reel, Edit.number > number).order_by(Edit.number))


def unseen(reel: Reel, seen: str) -> list[Edit]:
    """What others than this page did after a revision that it showed, oldest first."""
    known = int(seen.partition("-")[0]) if re.fullmatch(r"\d{1,12}-\w*", seen) else -1
    page = author.get()[1]
    return [e for e in since(reel, known) if not page or e.page != page]


def lost(reel: Reel, number: int, others: Sequence[Edit]) -> Edit | None:
    """The newest of others' changes that those made after a revision were put over; None if they are of other things."""
    own = [c for e in since(reel, number) for c in changes_of(e)]
    for other in reversed(others):
        if any(c.meets(o) or o.meets(c) for c in own for o in changes_of(other)):
            return other
    return None


def forget(reel: Reel, keep: int) -> int:
    """Let go of all but the newest changes, and of those that were taken back for good; gives how many went."""
    with writing():
        oldest = _standing(reel, Edit.id).offset(max(0, keep - 1)).first()
        own = Edit.reel == reel
        if oldest is not None:
            # The oldest that is left cannot be taken back, so what it changed is of no use.
            Edit.update(changes=[]).where(Edit.id == oldest.id).execute()
        old = (Edit.id < oldest.id) & ~Edit.undone if oldest is not None else Edit.dropped
        return int(Edit.delete().where(own, Edit.dropped | old).execute())  # type: ignore[misc]


def with_kept(reel: Reel) -> set[int]:
    """The numbers of the shots that have something to be mended."""
    found = FindingRow.select(FindingRow.shot).where(FindingRow.shot == ShotRow.id, FindingRow.state == "kept")
    asked: Any = ShotRow.select(ShotRow.id).where(ShotRow.reel == reel, pw.fn.EXISTS(found)).tuples()
    return {number for (number,) in asked}


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
