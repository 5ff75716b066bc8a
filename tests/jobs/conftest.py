"""A data folder for work that is done on the spot."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path

import pytest

from nimbus_sweep.store.data import DataFolder
from nimbus_sweep.store.models import open_database


@pytest.fixture
def data(tmp_path: Path, surveyed_once: None) -> Iterator[DataFolder]:
    folder = DataFolder(tmp_path / "data")
    folder.make()
    opened = open_database(folder.database)
    yield folder
    if not opened.is_closed():
        opened.close()
