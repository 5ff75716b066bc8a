"""Clearing a data folder of what is not needed any more."""

from __future__ import annotations

import json
import shutil
from collections.abc import Iterator
from pathlib import Path

from ..core.base.errors import SweepError
from . import edits
from .contents import named_in
from .data import DataFolder
from .models import Reel, contents, database, open_database
from .rows import RowChange

# Where files that are named by what they hold may be named.
_NAMING = (("step", "settings"), ("step", "region"), ("step", "hold_out"), ("track", "told"), ("finding", "evidence"))


def tidied(root: Path, repair: bool, keep_changes: int | None) -> Iterator[str]:
    """Clear a data folder that is not in use; says what was done.

    Parameters
    ----------
    root : Path
        The data folder.
    repair : bool
        Clear what work that was stopped left over, and files that nothing names any more.
    keep_changes : int or None
        How many changes of each reel are kept; all when None.

    Raises
    ------
    SweepError
        If the folder is in use, or there is none.
    """
    data = DataFolder(root)
    if not data.database.exists():
        raise SweepError(f"There is nothing to tidy in {root}: no database is there. Name the data folder with --data.")
    with data.lock():
        opened = open_database(data.database)
        if keep_changes is not None:
            gone = sum(edits.forget(reel, keep_changes) for reel in Reel.select())
            yield f"Changes let go of: {gone}"
        if repair:
            parts = list(root.rglob(".*.part*"))
            unnamed = _unnamed()
            for path in (*parts, *unnamed):
                if path.is_dir():
                    shutil.rmtree(path, ignore_errors=True)
                else:
                    path.unlink(missing_ok=True)
            yield f"Cleared: {len(parts)} files left over by work that was stopped, {len(unnamed)} that nothing names any more"
        database.execute_sql("VACUUM")
        opened.close()


def _unnamed() -> list[Path]:
    """The files of long texts that neither the shots nor the changes that can be undone name."""
    named: set[str] = set()
    for table, column in _NAMING:
        for (told,) in database.execute_sql(f'SELECT "{column}" FROM "{table}" WHERE "{column}" LIKE ?', ("%content%",)):
            named |= named_in(json.loads(told))
    for (told,) in database.execute_sql("SELECT changes FROM edit WHERE changes LIKE ?", ("%content%",)):
        for change in (RowChange(*c) for c in json.loads(told)):
            for side in (change.before, change.behind):
                texts = [v for v in (side or {}).values() if isinstance(v, str) and "content" in v]
                named |= {name for text in texts for name in named_in(json.loads(text))}
    return [path for path in contents.files() if path.name not in named]
