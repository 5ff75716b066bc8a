"""What is kept of a reel heals: altered or cut, it is made again, and what comes of it is the same; another source is noticed."""

from __future__ import annotations

import hashlib
import os
import random
import shutil
from pathlib import Path

import cv2
import numpy as np
import pytest

from nimbus_sweep.core.media.opening import sample_of, stamp_of
from nimbus_sweep.store.models import Task, database
from tests.conftest import SITES
from tests.web.conftest import Desk

RNG = random.Random(22)


@pytest.fixture
def treated(desk: Desk, reel: Path) -> int:
    """A reel that was surveyed and whose sites are mended."""
    reel_id = desk.take_in(Path(shutil.copy(reel, desk.services.allowed[0] / "pan.mkv")))
    sites = [{"x": s.x, "y": s.y, "width": s.size, "height": s.size} for s in SITES]
    desk.post(f"/reels/{reel_id}/recipe", {"steps": [{"kind": "pixel-mend", "settings": {"sites": sites}}]})
    desk.post(f"/reels/{reel_id}/survey")
    desk.work()
    return reel_id


def delivered(desk: Desk, reel_id: int) -> str:
    desk.post(f"/reels/{reel_id}/render")
    desk.work()
    task = desk.task("render")
    assert task.state == "done", task.error
    return hashlib.sha256(desk.services.data.delivery(task.id, task.result["file"]).read_bytes()).hexdigest()


def shown(desk: Desk, reel_id: int) -> list[bytes]:
    """What the pages ask for, once what they have to wait for is done."""
    asked = [
        f"/reels/{reel_id}/{what}"
        for what in ("frame/3.jpg", "slice/row/20.jpg", "light", "lanes", "rows.png", "frame/3.jpg?view=treated", "state", "delivery")
    ]
    for _ in range(3):
        answers = [desk.client.get(one) for one in asked]
        desk.post(f"/reels/{reel_id}/open")
        desk.work()
        if all(a.status_code == 200 for a in answers):
            break
    assert not [(one, a.status_code, a.data[:300]) for one, a in zip(asked, answers, strict=True) if a.status_code != 200]
    return [a.data for a in answers[1:6]]


def altered(data: bytes, how: str) -> bytes:
    if how == "cut":
        return data[: len(data) // 2]
    changed = bytearray(data)
    changed[RNG.randrange(len(data))] ^= 1 << RNG.randrange(8)
    return bytes(changed)


@pytest.mark.parametrize("how", ["cut", "changed", "removed"])
def test_everything_kept_heals(desk: Desk, treated: int, how: str) -> None:
    whole, pictures = delivered(desk, treated), shown(desk, treated)
    folders = (desk.services.data.of_reel(treated), desk.services.data.analyses)
    kept = [p for folder in folders for p in sorted(folder.rglob("*")) if p.is_file()]
    assert {p.suffix for p in kept} >= {".npz", ".bin", ".json", ".jpegs", ".ends", ".sums", ".light"}
    for path in kept:
        if not path.exists():
            continue
        # What is kept is altered on the disk while nobody looks: time stamps tell nothing.
        before = path.stat()
        if how == "removed":
            path.unlink()
        else:
            path.write_bytes(altered(path.read_bytes(), how))
            os.utime(path, ns=(before.st_atime_ns, before.st_mtime_ns - 1))
        desk.services.viewing.forget(desk.reel(treated))
        assert shown(desk, treated) == pictures, path.name
        assert delivered(desk, treated) == whole, path.name
    desk.post(f"/reels/{treated}/survey")
    desk.work()
    database.connect(reuse_if_open=True)
    assert not [t.error for t in Task.select().where(Task.state == "failed")]


def test_another_source_of_the_same_size_and_time_is_noticed(desk: Desk, treated: int) -> None:
    path = Path(desk.reel(treated).path)
    stamp, sample = stamp_of(path), sample_of(path)
    data = bytearray(path.read_bytes())
    data[len(data) // 2] ^= 1
    path.write_bytes(data)
    os.utime(path, ns=(stamp[1], stamp[1]))
    assert stamp_of(path) == stamp
    assert sample_of(path) != sample
    assert "has changed since it was taken in" in desk.post(f"/reels/{treated}/render").get_json()["error"]


def test_what_samples_miss_is_noticed_before_it_is_delivered(desk: Desk, treated: int, monkeypatch: pytest.MonkeyPatch) -> None:
    path = Path(desk.reel(treated).path)
    monkeypatch.setattr("nimbus_sweep.jobs.delivery.fingerprint", lambda _: "0" * 64)
    desk.post(f"/reels/{treated}/render")
    desk.work()
    task = desk.task("render")
    assert task.state == "failed"
    assert f"{path.name} is not the file that was taken in" in task.error
    assert not list(desk.services.data.delivery(task.id, "x").parent.glob("*.mkv"))


def test_samples_of_sequences_tell_pictures_apart(tmp_path: Path) -> None:
    folder = tmp_path / "scan"
    folder.mkdir()
    for n in range(5):
        cv2.imwrite(str(folder / f"a{n:04d}.png"), np.full((48, 64), n, np.uint8))
    before = sample_of(folder)
    assert sample_of(folder) == before
    last = folder / "a0004.png"
    data = bytearray(last.read_bytes())
    data[-20] ^= 1
    last.write_bytes(data)
    assert sample_of(folder) != before
