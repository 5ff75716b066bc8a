"""Shots, findings, steps and tracks as rows, and changes as the rows they changed."""

from __future__ import annotations

import json
from functools import partial
from typing import TYPE_CHECKING, Any

import peewee as pw
from peewee_migrate import Migrator

from nimbus_sweep.core.base.errors import SweepError

if TYPE_CHECKING:
    from nimbus_sweep.core.model.findings import JudgedFinding
    from nimbus_sweep.core.model.shots import Shots

_TEXT = "VARCHAR(255) NOT NULL DEFAULT ''"
# The sample of a reel came later; the models that are used here know it.
_COLUMNS = {
    "reel": {"revision": "INTEGER NOT NULL DEFAULT 0", "mark": _TEXT, "sample": _TEXT},
    "task": {"who": _TEXT, "reached": "REAL NOT NULL DEFAULT 0"},
}


def migrate(migrator: Migrator, database: pw.Database, *, fake: bool = False) -> None:
    """Make the tables, and turn the states that were kept whole into rows and the changes between them."""
    if fake:
        return
    from nimbus_sweep.store.models import Counter, Edit, FindingRow, Reel, ShotRow, StepRow, TrackRow

    database.create_tables([ShotRow, FindingRow, StepRow, TrackRow, Counter], safe=True)
    for table, columns in _COLUMNS.items():
        there = {c.name for c in database.get_columns(table)}
        for name, kind in columns.items():
            if there and name not in there:
                _ask(database, f'ALTER TABLE "{table}" ADD COLUMN "{name}" {kind}')
    for number, place in _ask(database, "SELECT id, path FROM reel"):
        # Told from the data folder from now on, where it lies in there.
        Reel.update(path=place).where(Reel.id == number).execute()
    if "shots" in {c.name for c in database.get_columns("edit")}:
        _ask(database, "CREATE TABLE edit_before AS SELECT id, reel_id, shots, undone, created, what FROM edit")
        _ask(database, "DROP TABLE edit")
        database.create_tables([Edit])
        _turn(database)
        _ask(database, "DROP TABLE edit_before")


def _ask(database: pw.Database, sql: str, *values: Any) -> list[tuple[Any, ...]]:
    return list(database.execute_sql(sql, values).fetchall())  # type: ignore[no-untyped-call]


def _turn(database: pw.Database) -> None:
    from nimbus_sweep.core.model.shots import Shot
    from nimbus_sweep.store import edits
    from nimbus_sweep.store.models import Reel

    for (number,) in _ask(database, "SELECT DISTINCT reel_id FROM edit_before ORDER BY reel_id"):
        reel, undone = Reel(id=number), 0
        states = _ask(database, "SELECT id FROM edit_before WHERE reel_id = ? ORDER BY id", number)
        for (state,) in states:
            told, taken_back, created, what = _ask(database, "SELECT shots, undone, created, what FROM edit_before WHERE id = ?", state)[0]
            shots = tuple(Shot.model_validate(s) for s in json.loads(told))
            edit = edits.change(reel, what, partial(_recognised, shots=shots)) if edits.begun(reel) else edits.begin_with(reel, what, shots)
            _ask(database, "UPDATE edit SET created = ? WHERE id = ?", created, edit.id)
            undone += bool(taken_back)
        for _ in range(undone):
            edits.undo(reel)


def _recognised(now: Shots, shots: Shots) -> Shots:
    """Shots that were kept whole, under the numbers of those before them that they go on."""
    known = {s.first: s for s in now}
    made = []
    for shot in shots:
        same = known.pop(shot.first, None)
        if same is not None:
            findings = {_place(f): f.id for f in same.findings}
            told = tuple(f.kept_as(findings.pop(_place(f), 0)) for f in shot.findings)
            shot = shot.with_(findings=told).kept_as(same.id)
        made.append(shot)
    return tuple(made)


def _place(finding: JudgedFinding) -> tuple[object, ...]:
    return finding.kind, finding.x, finding.y, finding.width, finding.height, finding.first


def rollback(migrator: Migrator, database: pw.Database, *, fake: bool = False) -> None:
    """There is no way back from rows."""
    raise SweepError("Rows cannot be put together again. Put back the copy that was made before.")
