"""By which another file of the same size and time stamp is told from a reel; those taken in before have none."""

from __future__ import annotations

import peewee as pw
from peewee_migrate import Migrator


def migrate(migrator: Migrator, database: pw.Database, *, fake: bool = False) -> None:
    """Add the column, if the first tables did not come with it."""
    if not fake and "sample" not in {c.name for c in database.get_columns("reel")}:
        database.execute_sql("ALTER TABLE reel ADD COLUMN sample VARCHAR(255) NOT NULL DEFAULT ''")  # type: ignore[no-untyped-call]


def rollback(migrator: Migrator, database: pw.Database, *, fake: bool = False) -> None:
    """Remove it."""
    if not fake:
        database.execute_sql("ALTER TABLE reel DROP COLUMN sample")  # type: ignore[no-untyped-call]
