"""The first tables."""

from __future__ import annotations

import peewee as pw
from peewee_migrate import Migrator


def migrate(migrator: Migrator, database: pw.Database, *, fake: bool = False) -> None:
    """Make the tables."""
    from nimbus_sweep.store.models import TABLES

    if not fake:
        database.create_tables(TABLES, safe=True)


def rollback(migrator: Migrator, database: pw.Database, *, fake: bool = False) -> None:
    """Remove the tables."""
    from nimbus_sweep.store.models import TABLES

    if not fake:
        database.drop_tables(TABLES, safe=True)
