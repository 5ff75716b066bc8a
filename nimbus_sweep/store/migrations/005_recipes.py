"""Recipes kept under a name."""

from __future__ import annotations

import peewee as pw
from peewee_migrate import Migrator


def migrate(migrator: Migrator, database: pw.Database, *, fake: bool = False) -> None:
    """Make their table, if the first tables did not come with it."""
    from nimbus_sweep.store.models import SavedRecipe

    if not fake:
        database.create_tables([SavedRecipe], safe=True)


def rollback(migrator: Migrator, database: pw.Database, *, fake: bool = False) -> None:
    """Remove it."""
    from nimbus_sweep.store.models import SavedRecipe

    if not fake:
        database.drop_tables([SavedRecipe], safe=True)
