"""Brush strokes."""

from __future__ import annotations

import peewee as pw
from peewee_migrate import Migrator


def migrate(migrator: Migrator, database: pw.Database, *, fake: bool = False) -> None:
    """Make their table, if the first tables did not come with it."""
    from nimbus_sweep.store.models import StrokeChange

    if not fake:
        database.create_tables([StrokeChange], safe=True)


def rollback(migrator: Migrator, database: pw.Database, *, fake: bool = False) -> None:
    """Remove it."""
    from nimbus_sweep.store.models import StrokeChange

    if not fake:
        database.drop_tables([StrokeChange], safe=True)
