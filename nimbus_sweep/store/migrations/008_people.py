"""Users, who of them is signed in, and who judged a shot."""

from __future__ import annotations

import peewee as pw
from peewee_migrate import Migrator

from nimbus_sweep.store.models import Account, SignedIn


def migrate(migrator: Migrator, database: pw.Database, *, fake: bool = False) -> None:
    """Make the tables, and the column, if the tables of shots did not come with it."""
    if fake:
        return
    database.create_tables((Account, SignedIn))
    if "judged_by" not in {c.name for c in database.get_columns("shot")}:
        database.execute_sql("ALTER TABLE shot ADD COLUMN judged_by VARCHAR(255) NOT NULL DEFAULT ''")  # type: ignore[no-untyped-call]


def rollback(migrator: Migrator, database: pw.Database, *, fake: bool = False) -> None:
    """Remove them."""
    if not fake:
        database.drop_tables((SignedIn, Account))
        database.execute_sql("ALTER TABLE shot DROP COLUMN judged_by")  # type: ignore[no-untyped-call]
