"""A disk that is full is said to be, on every way and at the start; nothing is lost, and all goes on once there is room."""

from __future__ import annotations

import os
import subprocess
import sys
from collections.abc import Iterator
from pathlib import Path

import pytest

from nimbus_sweep.store.models import Edit, Task, database, hold_open
from tests.conftest import small, write_movie
from tests.web.conftest import Desk

SIZE = 48
pytestmark = pytest.mark.skipif(os.geteuid() != 0, reason="a small file system is mounted, which only root may do")


@pytest.fixture(autouse=True)
def small_disk(tmp_path: Path) -> Iterator[Path]:
    """The test's folder is a disk of a few megabytes."""
    mounted = subprocess.run(["mount", "-t", "tmpfs", "-o", f"size={SIZE}m", "tmpfs", tmp_path], capture_output=True, text=True)
    if mounted.returncode:
        pytest.skip(f"no file system can be mounted here: {mounted.stderr.strip()}")
    yield tmp_path
    subprocess.run(["umount", "-l", tmp_path], check=True)


def fill(disk: Path) -> Path:
    path = disk / "filler"
    with path.open("wb", buffering=0) as stream:
        for size in (1 << 20, 1 << 12, 1):
            try:
                while True:
                    stream.write(bytes(size))
            except OSError:
                continue
    return path


def test_every_way_says_so_and_goes_on_when_there_is_room(desk: Desk, small_disk: Path) -> None:
    reel = desk.take_in(write_movie(desk.services.allowed[0] / "reel.mkv", small(12)))
    sites = [{"x": 20, "y": 20, "width": 1, "height": 1}]
    step = {"steps": [{"kind": "pixel-mend", "settings": {"sites": sites}}]}
    assert desk.post(f"/reels/{reel}/recipe", step).status_code == 200
    desk.work()
    hold_open(desk.services.data.database)
    database.connect(reuse_if_open=True)
    edits, tasks = Edit.select().count(), Task.select().count()
    database.close()
    filler = fill(small_disk)
    uploaded = desk.services.data.arriving
    uploaded.mkdir(exist_ok=True)
    ways = [
        (f"/reels/{reel}/findings", {"kind": "stuck-pixel", "frame": 0, "x": 30, "y": 30, "width": 2, "height": 2}),
        (f"/reels/{reel}/undo", {}),
        (f"/reels/{reel}/survey", {}),
        (f"/reels/{reel}/render", {}),
        (f"/reels/{reel}/cuts/6", {}),
    ]
    refused = 0
    for url, body in ways:
        answer = desk.post(url, body)
        if answer.status_code == 507:
            assert "disk is full" in answer.get_json()["error"]
            assert "Nothing was lost" in answer.get_json()["error"]
            refused += 1
        else:
            # SQLite had room left in the pages it holds.
            assert answer.status_code in (200, 404, 405, 422), (url, answer.data)
        assert desk.client.get(f"/reels/{reel}/pulse").status_code == 200
    assert refused >= 2
    database.connect(reuse_if_open=True)
    assert Edit.select().count() - edits + Task.select().count() - tasks <= len(ways) - refused
    filler.unlink()
    desk.post(f"/reels/{reel}/render")
    desk.work()
    assert desk.task("render").state == "done", desk.task("render").error


def test_work_says_so_and_is_done_again(desk: Desk, small_disk: Path) -> None:
    reel = desk.take_in(write_movie(desk.services.allowed[0] / "reel.mkv", small(12)))
    desk.post(f"/reels/{reel}/render")
    filler = fill(small_disk)
    # What the queue itself needs to note how it ends.
    os.truncate(filler, filler.stat().st_size - (1 << 18))
    with (small_disk / "second").open("wb", buffering=0) as stream:
        stream.write(bytes(1 << 17))
    desk.work()
    first = desk.task("render")
    if first.state != "done":
        assert "disk is full" in first.error.lower()
        assert not list(desk.services.data.delivery(first.id, "x").parent.glob("*.mkv"))
    filler.unlink()
    desk.post(f"/reels/{reel}/render")
    desk.work()
    assert desk.task("render").state == "done"


def test_it_says_so_at_the_start(small_disk: Path) -> None:
    fill(small_disk)
    told = subprocess.run(
        [sys.executable, "-m", "nimbus_sweep", "serve", "--data", small_disk / "data", "--port", "8391"],
        capture_output=True,
        text=True,
        timeout=60,
    )
    assert told.returncode == 1
    assert "disk is full" in told.stderr.lower()
    assert "Traceback" not in told.stderr
