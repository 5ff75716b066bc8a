"""Shots, corrections to how a reel is read, and what a job is called by its customer."""

from __future__ import annotations

import json

import peewee as pw
from peewee_migrate import Migrator

from nimbus_sweep.core.base.errors import SweepError

_COLUMNS = {
    "job": {"reference": "VARCHAR(120) NOT NULL DEFAULT ''", "notes": "TEXT NOT NULL DEFAULT ''", "archived": "INTEGER NOT NULL DEFAULT 0"},
    "reel": {"reading": "TEXT", "look": "VARCHAR(255) NOT NULL DEFAULT ''", "frames": "INTEGER NOT NULL DEFAULT 0"},
    "edit": {"shots": "TEXT NOT NULL DEFAULT '[]'"},
}


def migrate(migrator: Migrator, database: pw.Database, *, fake: bool = False) -> None:
    """Add the columns, and make one shot of what a reel's edits held."""
    if fake:
        return
    for table, columns in _COLUMNS.items():
        there = {c.name for c in database.get_columns(table)}
        for name, kind in columns.items():
            if name not in there:
                database.execute_sql(f'ALTER TABLE "{table}" ADD COLUMN "{name}" {kind}')  # type: ignore[no-untyped-call]
    old = {c.name for c in database.get_columns("edit")}
    if {"findings", "recipe"} <= old:
        rows = database.execute_sql(  # type: ignore[no-untyped-call]
            'SELECT e.id, e.findings, e.recipe, r.facts, r.surveyed FROM "edit" e JOIN reel r ON r.id = e.reel_id'
        ).fetchall()
        for row, findings, recipe, facts, surveyed in rows:
            frames = (json.loads(facts) or {}).get("frames", 1) if facts else 1
            shot = {"first": 0, "stop": frames, "findings": json.loads(findings), "recipe": json.loads(recipe), "surveyed": surveyed}
            database.execute_sql('UPDATE "edit" SET shots = ? WHERE id = ?', (json.dumps([shot]), row))  # type: ignore[no-untyped-call]
        for name in ("findings", "recipe"):
            database.execute_sql(f'ALTER TABLE "edit" DROP COLUMN "{name}"')  # type: ignore[no-untyped-call]


def rollback(migrator: Migrator, database: pw.Database, *, fake: bool = False) -> None:
    """There is no way back from shots."""
    raise SweepError("Shots cannot be taken out of a database again. Put back a copy made before.")
