"""What the application says of itself: its logs, the marks of failures, and the doctor."""

from __future__ import annotations

import logging
import os
import re
import sqlite3
from collections.abc import Iterator
from pathlib import Path
from types import SimpleNamespace

import pytest
from click.testing import CliRunner

from nimbus_sweep import __version__
from nimbus_sweep.cli import main
from nimbus_sweep.core.base.failures import mark_failure
from nimbus_sweep.core.media.opening import stamp_of
from nimbus_sweep.logs import about, keep_log, log_path
from nimbus_sweep.store.data import DataFolder
from nimbus_sweep.store.models import Job, Reel, Task, open_database
from tests.conftest import small, write_movie


@pytest.fixture
def logged(tmp_path: Path) -> Iterator[Path]:
    """A data folder that is logged to."""
    before = logging.root.handlers[:]
    keep_log(tmp_path, "worker", "info")
    yield tmp_path
    for handler in logging.root.handlers:
        handler.close()
    logging.root.handlers[:] = before


def test_a_line_says_when_how_grave_and_about_what(logged: Path) -> None:
    log = logging.getLogger("nimbus_sweep.jobs.work")
    with about(reel=3, task=12):
        log.info("survey begins")
    log.debug("not kept at this level")
    log.info("nothing in particular")
    first, second = log_path(logged, "worker").read_text().splitlines()
    assert re.fullmatch(r"\d{4}-\d\d-\d\dT\d\d:\d\d:\d\dZ INFO    nimbus_sweep\.jobs\.work \[reel 3 task 12\] survey begins", first)
    assert second.endswith("[-] nothing in particular")


def test_a_failure_is_found_by_its_mark(logged: Path) -> None:
    try:
        raise KeyError("frame")
    except KeyError:
        mark = mark_failure(logging.getLogger("nimbus_sweep"), "survey failed")
    lines = log_path(logged, "worker").read_text()
    assert re.fullmatch(r"F-[0-9a-f]{6}", mark)
    assert f"{mark}: survey failed\nTraceback" in lines
    assert "KeyError: 'frame'" in lines


def test_logs_are_begun_anew_when_they_are_large(logged: Path) -> None:
    for _ in range(30):
        logging.getLogger("nimbus_sweep").info("x" * 100_000)
    kept = sorted(p.name for p in (logged / "logs").iterdir())
    assert kept == ["worker.log", "worker.log.1"]
    assert sum(p.stat().st_size for p in (logged / "logs").iterdir()) < 4_100_000


def doctor(data: Path) -> tuple[int, str]:
    told = CliRunner().invoke(main, ["doctor", "--data", str(data)])
    return told.exit_code, told.output


@pytest.fixture
def kept(tmp_path: Path) -> Path:
    """A data folder with one reel taken in."""
    data = DataFolder(tmp_path / "data")
    data.make()
    opened = open_database(data.database)
    path = write_movie(tmp_path / "reel.mkv", small(2))
    size, modified = stamp_of(path)
    reel = Reel.create(job=Job.create(title="Skerrow Point"), title="pan", path=str(path), size=size, modified=modified, state="ready")
    Task.create(reel=reel, kind="survey", state="failed")
    opened.close()
    return data.root


def test_a_sound_machine_is_told_so(kept: Path, tmp_path: Path) -> None:
    status, said = doctor(kept)
    assert status == 0, said
    assert said.splitlines()[-1] == "All is well."
    assert f"Nimbus Sweep {__version__}" in said
    assert f"Cores: {os.cpu_count()}" in said
    assert "Writes ffv1" in said
    assert "GB free" in said
    assert "Reels taken in: 1; work waiting or under way: 0, failed: 1" in said
    status, said = doctor(tmp_path / "not there yet")
    assert status == 0 and "nothing in it yet" in said


def test_reels_that_are_gone_or_changed_are_named(kept: Path, tmp_path: Path) -> None:
    reel = tmp_path / "reel.mkv"
    reel.write_bytes(reel.read_bytes() + b"x")
    status, said = doctor(kept)
    assert status == 1 and "WRONG: pan:" in said and "was changed after it was taken in" in said
    reel.unlink()
    status, said = doctor(kept)
    assert status == 1 and "is not there any more" in said and "1 thing wrong." in said


def test_a_damaged_database_is_told(kept: Path) -> None:
    path = DataFolder(kept).database
    path.write_bytes(b"no database" * 500)
    status, said = doctor(kept)
    assert status == 1 and "cannot be read" in said


def test_little_room_is_told(kept: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr("shutil.disk_usage", lambda _: SimpleNamespace(free=1e9, total=5e9))
    status, said = doctor(kept)
    assert status == 1 and "WRONG: Room: 1.0 GB free of 5.0 GB" in said


def test_looking_changes_nothing(kept: Path) -> None:
    doctor(kept)
    with sqlite3.connect(DataFolder(kept).database) as opened:
        assert opened.execute("select count(*) from reel").fetchone() == (1,)
    assert not (kept / "logs").exists()
