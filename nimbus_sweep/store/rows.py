"""Shots as rows: what of them changed, in rows before and behind, and how that is put into the tables and taken back."""

from __future__ import annotations

import json
from collections.abc import Iterable, Sequence
from functools import partial
from typing import Any, NamedTuple, TypeVar

from ..core.model.findings import Evidence, Findings, JudgedFinding
from ..core.model.kept import Kept
from ..core.model.recipes import Recipe, Step
from ..core.model.registry import DEFECTS
from ..core.model.shots import Shot, Shots
from ..core.model.tracks import Track
from .models import Counter, FindingRow, JSONField, Model, Reel, ShotRow, StepRow, TrackRow, contents, database

Values = dict[str, Any]
_One = TypeVar("_One", bound=Kept)

# In the order in which rows can be put in; they are taken out in the opposite one.
_TABLES: dict[str, type[Model]] = {"shot": ShotRow, "step": StepRow, "track": TrackRow, "finding": FindingRow}
_OF_SHOT = (
    *(
        "first",
        "stop",
        "enter",
        "leave",
        "handles",
        "name",
        "use",
        "cut",
        "confirmed",
        "change",
        "surveyed",
        "verdict",
        "remark",
        "judged",
        "judged_by",
    ),
)
_OF_FINDING = (
    *("kind", "step", "x", "y", "width", "height", "first", "stop", "confidence", "by_hand", "title", "sentence", "state", "chosen"),
)
# Rows that one statement of SQL puts in or asks for.
_AT_ONCE = 400


class RowChange(NamedTuple):
    """A row that a change put in, changed or took out.

    Attributes
    ----------
    table : str
    row, shot : int
        Its number, and that of the shot it belongs to.
    before, behind : dict or None
        The columns that differ, as they are stored; all of them for a row that was put in or taken out, which has None on the other side.
    """

    table: str
    row: int
    shot: int
    before: Values | None
    behind: Values | None

    @property
    def back(self) -> RowChange:
        """What takes it back."""
        return self._replace(before=self.behind, behind=self.before)

    def meets(self, other: RowChange) -> bool:
        """Whether two changes, one on top of the other, are to the same thing, so that one of them is lost."""
        if self.table == "shot" != other.table and None in (self.before, self.behind):
            return self.row == other.shot
        if (self.table, self.row) != (other.table, other.row):
            return False
        if None in (self.before, self.behind, other.before, other.behind):
            return True
        # A place moves by itself when something before it comes or goes.
        return bool((set(self.behind or ()) & set(other.behind or ())) - {"place"})


# -- what is stored of each ---------------------------------------------------------------------------------


def _stored(table: str, values: Values) -> Values:
    """Values as their columns store them."""
    fields = _TABLES[table]._meta.fields
    return {k: fields[k].db_value(v) if isinstance(fields[k], JSONField) else v for k, v in values.items()}


def _of_shot(shot: Shot) -> Values:
    recipe = shot.recipe.model_dump(mode="json", include={"name", "size", "enter"})
    notes = [n.model_dump(mode="json") for n in shot.notes]
    return _stored("shot", {**{k: getattr(shot, k) for k in _OF_SHOT}, "span": list(shot.span), "notes": notes, "recipe": recipe})


def _of_finding(found: JudgedFinding) -> Values:
    return _stored("finding", {**{k: getattr(found, k) for k in _OF_FINDING}, "evidence": found.evidence.model_dump(mode="json")})


def _of_step(step: Step) -> Values:
    told = step.model_dump(mode="json")
    return _stored("step", {k: told[k] for k in ("kind", "on", "settings", "region", "hold_out")})


def _of_track(track: Track) -> Values:
    return _stored("track", {"name": track.name, "told": track.model_dump(mode="json")})


# -- what changed -------------------------------------------------------------------------------------------


def difference(reel: int, old: Shots, new: Shots) -> list[RowChange]:
    """What has to be done to the rows of a reel to have other shots."""
    known = {s.id: s for s in old if s.id}
    made: list[RowChange] = []
    for shot in new:
        before = known.pop(shot.id, None)
        if before is not None:
            made += _changed(before, shot)
        else:
            number = _next_number()
            made.append(RowChange("shot", number, number, None, {"reel_id": reel, **_of_shot(shot)}))
            made += _parts(number, None, shot)
    for shot in known.values():
        made += _parts(shot.id, shot, None)
        made.append(RowChange("shot", shot.id, shot.id, {"reel_id": reel, **_of_shot(shot)}, None))
    return made


def _changed(old: Shot, new: Shot) -> list[RowChange]:
    if old is new:
        return []
    rows = []
    before, behind = _of_shot(old), _of_shot(new)
    differ = [k for k in behind if behind[k] != before[k]]
    if differ:
        rows.append(RowChange("shot", old.id, old.id, {k: before[k] for k in differ}, {k: behind[k] for k in differ}))
    return rows + _parts(old.id, old, new)


def _parts(shot: int, old: Shot | None, new: Shot | None) -> list[RowChange]:
    """Changes to the findings, steps and tracks of a shot."""
    rows: list[RowChange] = []
    if old is None or new is None or old.findings is not new.findings:
        rows += _listed("finding", shot, old.findings if old else (), new.findings if new else ())
    rows += _listed("step", shot, old.recipe.steps if old else (), new.recipe.steps if new else ())
    rows += _listed("track", shot, old.recipe.tracks if old else (), new.recipe.tracks if new else ())
    return rows


_VALUES_OF = {"finding": _of_finding, "step": _of_step, "track": _of_track}
# By what one that came without its number is known to be the one that was there.
_KNOWN_BY = {"finding": lambda _: None, "step": lambda step: step.kind, "track": lambda track: track.name}


def _listed(table: str, shot: int, old: Sequence[_One], new: Sequence[_One]) -> list[RowChange]:
    told: Any = _VALUES_OF[table]
    left = {one.id: (place, one) for place, one in enumerate(old) if one.id}
    same: list[tuple[int, _One] | None] = [left.pop(one.id, None) for one in new]
    for n, one in enumerate(new):
        name = _KNOWN_BY[table](one)  # type: ignore[no-untyped-call]
        if same[n] is None and name is not None:
            alike = next((k for k, (_, other) in left.items() if _KNOWN_BY[table](other) == name), None)  # type: ignore[no-untyped-call]
            same[n] = None if alike is None else left.pop(alike)
    rows = [RowChange(table, k, shot, {"shot_id": shot, "place": place, **told(one)}, None) for k, (place, one) in left.items()]
    for place, (one, was) in enumerate(zip(new, same, strict=True)):
        if was is None:
            rows.append(RowChange(table, _next_number(), shot, None, {"shot_id": shot, "place": place, **told(one)}))
        elif was[1] is not one or was[0] != place:
            before, behind = ({"place": p, **({} if was[1] is one else told(o))} for p, o in (was, (place, one)))
            differ = [k for k in behind if behind[k] != before[k]]
            if differ:
                rows.append(RowChange(table, was[1].id, shot, {k: before[k] for k in differ}, {k: behind[k] for k in differ}))
    return rows


def _next_number() -> int:
    counter = Counter.select().first() or Counter.create(next=1)
    Counter.update(next=Counter.next + 1).where(Counter.id == counter.id).execute()
    return int(counter.next)


# -- into the tables, and out of them -----------------------------------------------------------------------


def put(reel: Reel, changes: Iterable[RowChange], mark: str) -> None:
    """Make changes to the rows of a reel; the shots they belong to get a new mark."""
    changes = list(changes)
    for table in reversed(_TABLES):
        gone = [c.row for c in changes if c.table == table and c.behind is None]
        for at in range(0, len(gone), _AT_ONCE):
            _run(f'DELETE FROM "{table}" WHERE id IN ({_marks(gone[at : at + _AT_ONCE])})', gone[at : at + _AT_ONCE])
    for table in _TABLES:
        fresh = [
            {"id": c.row, **(c.behind or {}), **({"mark": mark} if table == "shot" else {})}
            for c in changes
            if c.table == table and c.before is None
        ]
        for values in fresh:
            names = ", ".join(f'"{k}"' for k in values)
            _run(f'INSERT INTO "{table}" ({names}) VALUES ({_marks(values)})', values.values())
    for change in changes:
        if change.before is not None and change.behind is not None:
            names = ", ".join(f'"{k}" = ?' for k in change.behind)
            _run(f'UPDATE "{change.table}" SET {names} WHERE id = ?', [*change.behind.values(), change.row])
    touched = sorted({c.shot for c in changes})
    for at in range(0, len(touched), _AT_ONCE):
        some = touched[at : at + _AT_ONCE]
        _run(f"UPDATE shot SET mark = ?, learns = NULL WHERE id IN ({_marks(some)})", [mark, *some])


def _marks(values: Any) -> str:
    return ", ".join("?" * len(values))


def _run(sql: str, values: Iterable[Any]) -> None:
    database.execute_sql(sql, tuple(values))


def read(numbers: Sequence[int]) -> dict[int, Shot]:
    """Shots by their numbers, with their marks; their findings are read when they are asked for."""
    made: dict[int, Shot] = {}
    for at in range(0, len(numbers), _AT_ONCE):
        some = list(numbers[at : at + _AT_ONCE])
        steps: dict[int, list[Step]] = {}
        row: Any
        for row in StepRow.select().where(StepRow.shot.in_(some)).order_by(StepRow.place):
            told = {k: getattr(row, k) for k in ("kind", "on", "settings", "region", "hold_out")}
            steps.setdefault(row.shot_id, []).append(Step.model_validate(told).kept_as(row.id))
        tracks: dict[int, list[Track]] = {}
        for row in TrackRow.select().where(TrackRow.shot.in_(some)).order_by(TrackRow.place):
            tracks.setdefault(row.shot_id, []).append(Track.model_validate(row.told).kept_as(row.id))
        for row in ShotRow.select().where(ShotRow.id.in_(some)):
            recipe = Recipe(**row.recipe, steps=tuple(steps.get(row.id, ())), tracks=tuple(tracks.get(row.id, ())))
            values = {k: getattr(row, k) for k in _OF_SHOT}
            shot = Shot(**values, span=tuple(row.span), notes=row.notes, recipe=recipe, findings=Findings(read=partial(findings, row.id)))
            made[row.id] = shot.kept_as(row.id).marked(row.mark)
    return made


def findings(shot: int) -> list[JudgedFinding]:
    """The findings of a shot."""
    asked = f"SELECT id, evidence, {', '.join(_OF_FINDING)} FROM finding WHERE shot_id = ? ORDER BY place"
    return [_finding(*row) for row in database.execute_sql(asked, (shot,)).fetchall()]


def doubtful_of(reel: int, kind: str, most: int) -> list[JudgedFinding]:
    """Doubtful findings of a kind in all shots of a reel that nobody decided on, the surest first."""
    asked = (
        f"SELECT f.id, f.evidence, {', '.join(f'f.{name}' for name in _OF_FINDING)} FROM shot s CROSS JOIN finding f ON f.shot_id = s.id "
        "WHERE s.reel_id = ? AND f.state = 'doubtful' AND f.kind = ? AND NOT f.chosen AND NOT f.by_hand ORDER BY f.confidence DESC LIMIT ?"
    )
    return [_finding(*row) for row in database.execute_sql(asked, (reel, kind, most)).fetchall()]


def _finding(number: int, evidence: str, *values: Any) -> JudgedFinding:
    told = dict(zip(_OF_FINDING, values, strict=True))
    kind = DEFECTS.get(told["kind"])
    plain = contents.whole(json.loads(evidence))
    told |= {name: bool(told[name]) for name in ("by_hand", "chosen")}
    # What the rows hold was checked when it was put there; there may be hundreds of thousands.
    found = JudgedFinding.model_construct(**told, evidence=(kind.evidence if kind else Evidence).model_validate(plain))
    return found.kept_as(number)
