"""A job as one archive: taken in again it gives the same delivery, to the last bit; what is damaged is refused."""

from __future__ import annotations

import hashlib
import io
import json
import shutil
import zipfile
from collections.abc import Callable

import numpy as np
import pytest

from nimbus_sweep.core.interchange.archive import Manifest
from nimbus_sweep.store import edits
from nimbus_sweep.store.models import Job, Reel, Task
from tests.conftest import small, write_movie
from tests.web.conftest import ASKED, Desk

ELLIPSE = {"kind": "ellipse", "x": 80, "y": 48, "across": 40, "down": 30}


def treated_reel(desk: Desk) -> int:
    """A reel with a hand-placed pixel, a region with a soft edge, a brush stroke and a mask picture."""
    reel = write_movie(desk.services.allowed[0] / "mast.mkv", small(24))
    reel_id = desk.take_in(reel)
    desk.post(f"/reels/{reel_id}/findings", {"x": 30, "y": 20})
    desk.post(f"/reels/{reel_id}/steps", {"kind": "pixel-mend"})
    desk.post(f"/reels/{reel_id}/steps", {"kind": "region-median"})
    desk.post(f"/reels/{reel_id}/steps/1/region/parts", {"shape": ELLIPSE})
    desk.post(f"/reels/{reel_id}/steps/1/region/edge", {"feather": 5})
    desk.post(f"/reels/{reel_id}/steps", {"kind": "retouch"})
    stroke = {"frame": 4, "points": [[50, 40], [70, 44]], "size": 12, "across": 9, "down": -6}
    assert desk.post(f"/reels/{reel_id}/steps/2/strokes", {"strokes": [stroke]}).status_code == 200
    desk.work()
    return reel_id


def delivered(desk: Desk, reel_id: int, kind: str = "ffv1") -> str:
    """The SHA-256 of a fresh delivery."""
    assert desk.post(f"/reels/{reel_id}/delivery", {"kind": kind}).status_code == 200
    desk.post(f"/reels/{reel_id}/render")
    desk.work()
    task = desk.task("render")
    assert task.state == "done", task.error
    files = desk.services.data.delivery(task.id, task.result["file"])
    return hashlib.sha256(files.read_bytes()).hexdigest()


def archive_of(desk: Desk) -> bytes:
    answer = desk.client.get("/jobs/1/archive")
    assert answer.status_code == 200
    return answer.get_data()


def take(desk: Desk, content: bytes) -> dict[str, object]:
    answer = desk.client.post("/jobs/archive?name=job.zip", data=content, headers=ASKED)
    return {"status": answer.status_code, **answer.get_json()}


@pytest.mark.parametrize("kind", ["ffv1", "prores-422hq"])
@pytest.mark.parametrize("learned", [True, False])
def test_the_same_delivery_comes_out_to_the_last_bit(desk: Desk, kind: str, learned: bool) -> None:
    reel_id = treated_reel(desk)
    first = delivered(desk, reel_id, kind)
    content = archive_of(desk)
    told = take(desk, content)
    assert told["status"] == 200 and "on the rack" in str(told["said"])
    if not learned:
        shutil.rmtree(desk.services.data.analyses)
    desk.work()
    again = Reel.select().order_by(Reel.id.desc()).first()
    assert again.id != reel_id and again.state == "ready" and again.job_id == told["id"]
    assert delivered(desk, again.id, kind) == first
    mine, theirs = (edits.shots_of(desk.reel(n)) for n in (reel_id, again.id))
    assert [s.model_dump(exclude={"recipe"}) for s in mine] == [s.model_dump(exclude={"recipe"}) for s in theirs]
    assert edits.resolved(mine[0]) == edits.resolved(theirs[0])
    # An archive of what was taken in is the archive.
    desk.post("/jobs/1/remove")
    one, other = (zipfile.ZipFile(io.BytesIO(c)) for c in (content, desk.client.get(f"/jobs/{told['id']}/archive").get_data()))
    shared = [n for n in one.namelist() if n.endswith(".json") and n != "manifest.json"]
    assert shared and all(one.read(n) == other.read(n) for n in shared if not n.startswith("analyses"))


def remade(content: bytes, change: Callable[[dict[str, bytes]], None]) -> bytes:
    """The archive with other members."""
    with zipfile.ZipFile(io.BytesIO(content)) as packed:
        members = {n: packed.read(n) for n in packed.namelist()}
    change(members)
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w") as packed:
        for name, value in members.items():
            packed.writestr(name, value)
    return out.getvalue()


def told_in(members: dict[str, bytes], **values: object) -> None:
    members["manifest.json"] = json.dumps({**json.loads(members["manifest.json"]), **values}).encode()


def altered(members: dict[str, bytes]) -> None:
    members["reel-1/shots.json"] = members["reel-1/shots.json"].replace(b"24", b"23")


def outside(members: dict[str, bytes]) -> None:
    members["../../evil.npz"] = b"x"


@pytest.mark.parametrize(
    ("change", "said"),
    [
        (lambda m: m.pop("reel-1/shot-00001.recipe.json"), "is missing in it"),
        (altered, "is not what was saved"),
        (outside, "does not belong to a job"),
        (lambda m: told_in(m, version=9), "made by a newer one"),
        (lambda m: m.pop("manifest.json"), "no manifest"),
        (lambda m: told_in(m, title=3), "not a usable archive"),
    ],
)
def test_a_damaged_archive_is_refused_whole(desk: Desk, change: Callable[[dict[str, bytes]], None], said: str) -> None:
    treated_reel(desk)
    content = archive_of(desk)
    told = take(desk, remade(content, change))
    assert told["status"] == 422 and said in str(told["error"])
    assert (Job.select().count(), Reel.select().count()) == (1, 1)


def test_bits_that_fell_over_are_noticed(desk: Desk) -> None:
    """Anywhere in the file, or cut short: it is refused, or the bit lay where no content is and nothing is lost."""
    treated_reel(desk)
    content = archive_of(desk)
    rng = np.random.default_rng(5)
    refused = 0
    for at in rng.integers(0, len(content), 24):
        spoiled = bytearray(content)
        spoiled[at] ^= 1 << int(rng.integers(8))
        told = take(desk, bytes(spoiled))
        assert told["status"] in (200, 422), told
        refused += told["status"] == 422
    assert refused > 12
    for part in (0, 10, len(content) // 2, len(content) - 3):
        told = take(desk, content[:part]) if part else take(desk, b"PK")
        assert told["status"] == 422


def test_an_archive_wants_its_reels(desk: Desk) -> None:
    reel_id = treated_reel(desk)
    content = archive_of(desk)
    desk.post(f"/reels/{reel_id}/remove")
    told = take(desk, content)
    assert told["status"] == 422
    assert "mast.mkv" in str(told["error"]) and "Take it in first" in str(told["error"])
    assert Task.select().where(Task.state == "waiting").count() == 0
    # Nothing to save is said, too.
    job = Job.create(title="Empty")
    assert "No reel of this job has been read" in desk.client.get(f"/jobs/{job.id}/archive", headers=ASKED).get_json()["error"]
    assert Manifest(title="x").version == 1
