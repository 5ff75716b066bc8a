"""Unattended runs, what needs eyes, and tasks that are parts of others."""

from __future__ import annotations

import peewee as pw
from peewee_migrate import Migrator

from nimbus_sweep.store.models import Eye, Run


def migrate(migrator: Migrator, database: pw.Database, *, fake: bool = False) -> None:
    """Make the tables, and the column, if the first tables did not come with it."""
    if fake:
        return
    database.create_tables((Run, Eye))
    there = {c.name for c in database.get_columns("task")}
    if there and "parent" not in there:
        database.execute_sql("ALTER TABLE task ADD COLUMN parent INTEGER NOT NULL DEFAULT 0")  # type: ignore[no-untyped-call]


def rollback(migrator: Migrator, database: pw.Database, *, fake: bool = False) -> None:
    """Remove them."""
    if not fake:
        database.drop_tables((Eye, Run))
        database.execute_sql("ALTER TABLE task DROP COLUMN parent")  # type: ignore[no-untyped-call]
