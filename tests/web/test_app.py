"""The pages and what they ask for: the whole job, undo, guards, and bad input."""

from __future__ import annotations

import io
import json
import re
import shutil
from datetime import UTC, datetime, timedelta
from pathlib import Path

import cv2
import numpy as np
import pytest

from nimbus_sweep.core.base.errors import SweepError
from nimbus_sweep.core.media.reader import MovieReader
from nimbus_sweep.core.media.view import to_bgr
from nimbus_sweep.jobs.queue import Queue
from nimbus_sweep.store.data import DataFolder
from nimbus_sweep.store.models import Reel, Task, database
from nimbus_sweep.wording import numbers as words
from tests.conftest import SITES, write_movie
from tests.web.conftest import ASKED, Desk


@pytest.fixture
def placed(desk: Desk, reel: Path) -> Path:
    """The reel in the allowed folder."""
    return Path(shutil.copy(reel, desk.services.allowed[0] / "pan.mkv"))


@pytest.fixture
def open_reel(desk: Desk, placed: Path) -> int:
    """The reel, taken in."""
    return desk.take_in(placed)


def picture(answer) -> np.ndarray:
    assert answer.status_code == 200, answer.get_data(as_text=True)
    return cv2.imdecode(np.frombuffer(answer.data, np.uint8), cv2.IMREAD_COLOR)


def treated(desk: Desk, reel_id: int) -> None:
    desk.post(f"/reels/{reel_id}/survey")
    desk.work()
    desk.post(f"/reels/{reel_id}/steps", {"kind": "pixel-mend"})
    desk.work()


def state(desk: Desk, reel_id: int) -> dict:
    return desk.client.get(f"/reels/{reel_id}/state").get_json()


def test_the_whole_job(desk: Desk, open_reel: int, placed: Path, tmp_path: Path) -> None:
    assert "pan" in desk.client.get("/").get_data(as_text=True)
    page = desk.client.get(f"/reels/{open_reel}/condition").get_data(as_text=True)
    assert "Reel log" in page
    sheet = desk.client.get(f"/reels/{open_reel}/sheet/intake").get_data(as_text=True)
    assert "160 x 96" in sheet
    assert "ffv1" in sheet
    assert "Survey this reel" in desk.client.get(f"/reels/{open_reel}/sheet/condition").get_data(as_text=True)
    treated(desk, open_reel)
    now = state(desk, open_reel)
    assert now["treated"]
    assert {(s["x"], s["y"]) for s in now["sites"] if s["state"] == "kept"} == {(s.x, s.y) for s in SITES}
    assert "Pixel mend" in desk.client.get(f"/reels/{open_reel}/sheet/treatment").get_data(as_text=True)
    assert desk.post(f"/reels/{open_reel}/render").status_code == 200
    desk.work()
    task = desk.task("render")
    assert task.state == "done", task.error
    fetched = desk.client.get(f"/deliveries/{task.id}/file/0")
    out = tmp_path / "fetched.mkv"
    out.write_bytes(fetched.data)
    assert len(MovieReader(out)) == 30
    assert json.loads(desk.client.get(f"/deliveries/{task.id}/report").data)["shots"][0]["recipe"]["steps"][0]["kind"] == "pixel-mend"
    assert "Download" in desk.client.get(f"/reels/{open_reel}/sheet/delivery").get_data(as_text=True)
    desk.post(f"/reels/{open_reel}/compare")
    desk.work()
    assert "Nothing else changed" in desk.client.get(f"/reels/{open_reel}/sheet/inspection").get_data(as_text=True)
    assert set(state(desk, open_reel)["done"]) == {"intake", "condition", "treatment", "inspection", "delivery"}
    assert not desk.services.data.chunks(task.id).exists(), "working files are cleared away"


def test_pictures_are_exact_where_it_counts(desk: Desk, open_reel: int, placed: Path) -> None:
    treated(desk, open_reel)
    reader = MovieReader(placed)
    exact = picture(desk.client.get(f"/reels/{open_reel}/crop/4.png?x=32&y=16&w=64&h=48&view=source"))
    assert np.abs(exact.astype(int) - to_bgr(reader.frame(4))[16:64, 32:96]).max() <= 1
    after = picture(desk.client.get(f"/reels/{open_reel}/crop/4.png?x=32&y=16&w=64&h=48&view=treated"))
    changed = np.abs(after.astype(int) - exact).max(2)
    assert changed[30 - 16, 40 - 32] > 30, "the stuck pixel is gone"
    assert changed[:8].max() == 0, "nothing changed away from it"
    gap = picture(desk.client.get(f"/reels/{open_reel}/crop/4.png?x=32&y=16&w=64&h=48&view=difference&gain=2"))
    assert gap[:8].max() == 0
    assert gap.max() > 60
    assert picture(desk.client.get(f"/reels/{open_reel}/frame/3.jpg?w=160")).shape == (96, 160, 3)
    row = picture(desk.client.get(f"/reels/{open_reel}/slice/row/30.jpg?view=source"))
    assert row.shape == (30, 160, 3)
    column = picture(desk.client.get(f"/reels/{open_reel}/slice/column/40.jpg?view=treated"))
    assert column.shape == (96, 30, 3)
    streak = np.abs(row[:, 40].astype(int) - row[:, 46]).max(1)
    healed = picture(desk.client.get(f"/reels/{open_reel}/slice/row/30.jpg?view=treated"))
    assert np.median(streak) > 2 * np.median(np.abs(healed[:, 40].astype(int) - healed[:, 46]).max(1)), "the streak is gone from the slice"
    told = desk.client.get(f"/reels/{open_reel}/value/4?x=40&y=30").get_json()
    assert told["samples"]["Y"] == int(reader.frame(4).planes[0][30, 40])
    light = desk.client.get(f"/reels/{open_reel}/light?points=10").get_json()
    assert len(light["low"]) == len(light["high"]) == 10
    assert picture(desk.client.get(f"/reels/{open_reel}/rows.png")).shape[1] == 64


@pytest.mark.parametrize(
    ("url", "status"),
    [
        ("/reels/{0}/frame/999.jpg", 404),
        ("/reels/{0}/frame/1.jpg?view=sideways", 400),
        ("/reels/{0}/frame/1.jpg?w=nan", 400),
        ("/reels/{0}/crop/1.png?x=0&y=0&w=10", 400),
        ("/reels/{0}/crop/1.png?x=9999&y=9999&w=9999&h=9999", 200),
        ("/reels/{0}/slice/row/5000.jpg", 404),
        ("/reels/{0}/frame/1.jpg?view=treated", 200),
        ("/reels/99/condition", 404),
        ("/reels/{0}/polish", 404),
        ("/deliveries/99/movie", 404),
        ("/deliveries/1/../../nimbus-sweep.db", 404),
    ],
)
def test_odd_requests(desk: Desk, open_reel: int, url: str, status: int) -> None:
    assert desk.client.get(url.format(open_reel), headers={"Accept": "application/json"}).status_code == status


def test_undo_and_redo(desk: Desk, open_reel: int) -> None:
    treated(desk, open_reel)
    index = next(n for n, s in enumerate(state(desk, open_reel)["sites"]) if s["state"] == "kept")
    desk.post(f"/reels/{open_reel}/findings/{index}/dismissed")
    assert state(desk, open_reel)["sites"][index]["state"] == "dismissed"
    assert not state(desk, open_reel)["treated"], "the repair waits for its analysis"
    desk.work()
    assert state(desk, open_reel)["treated"]
    assert desk.post(f"/reels/{open_reel}/undo").get_json()["said"].startswith("Taken back: Dismissed")
    assert state(desk, open_reel)["sites"][index]["state"] == "kept"
    assert state(desk, open_reel)["treated"], "the analysis from before is used again"
    desk.post(f"/reels/{open_reel}/redo")
    assert state(desk, open_reel)["sites"][index]["state"] == "dismissed"
    desk.post(f"/reels/{open_reel}/undo")
    desk.post(f"/reels/{open_reel}/steps/0/switch")
    assert state(desk, open_reel)["redo"] is None, "a new change ends what could be put on again"
    for _ in range(6):
        desk.post(f"/reels/{open_reel}/undo")
    assert state(desk, open_reel)["undo"] is None
    assert desk.post(f"/reels/{open_reel}/undo").get_json()["said"] == "There is nothing to take back."


def test_the_light_of_a_finding_is_drawn_against_that_around_it(desk: Desk, open_reel: int) -> None:
    site = SITES[1]
    number = desk.post(f"/reels/{open_reel}/findings", {"x": site.x, "y": site.y}).get_json()["index"]
    sheet = desk.client.get(f"/reels/{open_reel}/sheet/condition").text
    assert f"/findings/{number}/course" in sheet
    told = desk.client.get(f"/reels/{open_reel}/findings/0/course")
    assert told.status_code == 200
    here, around = re.findall(r'<polyline points="([^"]+)"', told.text)[::-1]
    assert len(here.split()) == len(around.split()) > 3
    assert here != around
    assert "frames" in told.text
    assert desk.client.get(f"/reels/{open_reel}/findings/99/course").status_code == 404


def test_placing_nudging_and_settings(desk: Desk, open_reel: int) -> None:
    site = SITES[1]
    told = desk.post(f"/reels/{open_reel}/findings", {"x": site.x + 2, "y": site.y - 1}).get_json()
    assert (told["x"], told["y"]) == (site.x, site.y)
    again = desk.post(f"/reels/{open_reel}/findings", {"x": site.x, "y": site.y}).get_json()
    assert again["index"] == told["index"], "the same place is not placed twice"
    moved = desk.post(f"/reels/{open_reel}/findings/0/move", {"dx": 1, "dy": 0}).get_json()
    assert moved == {"x": site.x + 1, "y": site.y}
    assert desk.post(f"/reels/{open_reel}/findings", {"x": 5000, "y": 1}).status_code == 400
    assert desk.post(f"/reels/{open_reel}/findings", {"x": "a", "y": 1}).status_code == 400
    assert desk.post(f"/reels/{open_reel}/steps", {"kind": "polish"}).status_code == 400
    desk.post(f"/reels/{open_reel}/steps", {"kind": "pixel-mend"})
    assert desk.post(f"/reels/{open_reel}/steps/0/settings", {"sure": 7}).status_code == 400
    assert desk.post(f"/reels/{open_reel}/steps/0/settings", {"sure": 0.8}).status_code == 200
    assert desk.post(f"/reels/{open_reel}/steps/5/switch").status_code == 409
    recipe = json.loads(desk.client.get(f"/reels/{open_reel}/recipe.json").data)
    assert recipe["steps"][0]["settings"]["sites"][0]["x"] == site.x + 1
    assert desk.post(f"/reels/{open_reel}/recipe", recipe).status_code == 200
    assert desk.post(f"/reels/{open_reel}/recipe", {"steps": 3}).status_code == 422
    assert desk.post("/settings", {"room": "dim"}).status_code == 200
    assert 'data-room="dim"' in desk.client.get(f"/reels/{open_reel}/condition").get_data(as_text=True)
    assert desk.post("/settings", {"password": "x"}).status_code == 400


def test_strangers_are_refused(desk: Desk, open_reel: int) -> None:
    get, post = desk.client.get, desk.client.post
    assert get("/", headers={"Host": "evil.example"}).status_code == 421
    assert post(f"/reels/{open_reel}/survey", json={}).status_code == 403
    assert post(f"/reels/{open_reel}/survey", json={}, headers={**ASKED, "Origin": "http://evil.example"}).status_code == 403
    assert post(f"/reels/{open_reel}/survey", json={}, headers={**ASKED, "Sec-Fetch-Site": "cross-site"}).status_code == 403
    assert post(f"/reels/{open_reel}/survey", json={}, headers={**ASKED, "Origin": "http://localhost"}).status_code == 200
    headers = get("/").headers
    assert "default-src 'self'" in headers["Content-Security-Policy"]
    assert headers["X-Content-Type-Options"] == "nosniff"


def test_only_allowed_folders(desk: Desk, reel: Path, tmp_path: Path) -> None:
    inside = desk.services.allowed[0]
    (inside / "link.mkv").symlink_to(reel)
    for path in (reel, inside / ".." / "reel.mkv", inside / "link.mkv", "/etc/passwd", inside / "none.mkv", "\0"):
        answer = desk.post("/reels/open", {"path": str(path)})
        assert answer.status_code == 422, path
        assert "folders allowed" in answer.get_json()["error"]
    assert "no numbered pictures" in desk.post("/reels/open", {"path": str(inside)}).get_json()["error"]
    assert desk.post("/reels/open", {"path": ""}).status_code == 400
    assert Reel.select().count() == 0


def test_reels_go_to_the_job_that_is_named(desk: Desk, placed: Path) -> None:
    desk.post("/reels/open", {"path": str(placed), "job": "  Fog signal house "})
    desk.post("/reels/open", {"path": str(placed), "job": "Fog signal house"})
    desk.post("/reels/open", {"path": str(placed), "job": "Skerrow Point"})
    database.connect(reuse_if_open=True)
    assert [r.job.title for r in Reel.select().order_by(Reel.id)] == ["Fog signal house", "Fog signal house", "Skerrow Point"]
    assert "Fog signal house" in desk.client.get("/").get_data(as_text=True)


def test_uploads(desk: Desk, reel: Path) -> None:
    data = reel.read_bytes()

    def send(body: bytes, name: str = "pan.mkv", told: int | None = None):
        length = len(body) if told is None else told
        return desk.client.post(
            f"/reels/upload?name={name}", input_stream=io.BytesIO(body), headers=ASKED, environ_overrides={"CONTENT_LENGTH": str(length)}
        )

    answer = send(data, "../../etc/.hidden name?.mkv")
    assert answer.status_code == 200
    stored = Path(desk.reel(answer.get_json()["id"]).path)
    assert stored.is_relative_to(desk.services.data.uploads)
    assert stored.read_bytes() == data
    desk.work()
    assert desk.reel(answer.get_json()["id"]).state == "ready"
    assert send(b"", told=4_000_000).status_code == 413
    broken = send(data[:1000], told=2000)
    assert broken.status_code >= 400
    assert len(list(desk.services.data.uploads.rglob("*.*"))) == 1, "a broken upload leaves nothing"
    assert desk.post(f"/reels/{answer.get_json()['id']}/remove").status_code == 200
    assert not stored.exists()


@pytest.mark.parametrize(
    ("name", "content", "said"),
    [("empty.mp4", b"", "is empty"), ("log.mp4", b"wind NW 7\n" * 900, "cannot be read as a movie")],
)
def test_rubbish_on_the_rack(desk: Desk, name: str, content: bytes, said: str) -> None:
    path = desk.services.allowed[0] / name
    path.write_bytes(content)
    reel_id = desk.take_in(path)
    assert desk.reel(reel_id).state == "refused"
    assert said in desk.client.get(f"/reels/{reel_id}/sheet/intake").get_data(as_text=True)
    assert said in desk.client.get("/").get_data(as_text=True)
    assert desk.client.get(f"/reels/{reel_id}/sheet/condition", headers={"Accept": "application/json"}).status_code == 409
    assert path.read_bytes() == content


def test_missing_frames_are_accepted_only_on_request(desk: Desk, placed: Path) -> None:
    data = placed.read_bytes()
    placed.write_bytes(data[: len(data) // 2])
    reel_id = desk.take_in(placed)
    sheet = desk.client.get(f"/reels/{reel_id}/sheet/intake").get_data(as_text=True)
    assert "missing" in sheet
    assert "Accept" in sheet
    desk.post(f"/reels/{reel_id}/accept-missing")
    desk.work()
    accepted = desk.reel(reel_id)
    assert accepted.state == "ready"
    assert accepted.missing > 0
    treated(desk, reel_id)
    desk.post(f"/reels/{reel_id}/render")
    desk.work()
    assert desk.task("render").state == "done", desk.task("render").error
    desk.post(f"/reels/{reel_id}/compare")
    desk.work()
    assert desk.task("inspection").result["proven"]


def test_a_changed_or_missing_file_is_said_at_once(desk: Desk, open_reel: int, placed: Path) -> None:
    treated(desk, open_reel)
    placed.write_bytes(placed.read_bytes() + b"0")
    answer = desk.client.get(f"/reels/{open_reel}/crop/1.png?x=0&y=0&w=9&h=9&view=source", headers={"Accept": "application/json"})
    assert answer.status_code == 409
    assert "has changed" in answer.get_json()["error"]
    desk.post(f"/reels/{open_reel}/survey")
    desk.work()
    assert desk.task("survey").state == "failed"
    assert "has changed" in desk.task("survey").error
    refused = desk.post(f"/reels/{open_reel}/render")
    assert refused.status_code == 409
    assert "has changed" in refused.get_json()["error"]
    placed.unlink()
    assert "is gone" in desk.post(f"/reels/{open_reel}/render").get_json()["error"]
    assert desk.task("render") is None, "nothing is computed on the wrong file"


def test_work_survives_the_worker(desk: Desk, open_reel: int) -> None:
    """What was running when the worker was lost is queued again; the third loss is told."""
    task = Task.create(reel=open_reel, kind="survey", state="running", attempts=1)
    lost = Task.create(reel=open_reel, kind="render", state="running", attempts=3)
    database.close()
    assert Queue(desk.services.data).resume() == 1
    assert Task.get_by_id(task.id).state == "waiting"
    assert "lost three times" in Task.get_by_id(lost.id).error
    desk.work()
    assert desk.task("survey").state == "done"


@pytest.mark.parametrize(("share", "left"), [(0.01, None), (0.25, 30), (0.8, 2.5)])
def test_time_left_is_told_by_what_was_taken(desk: Desk, open_reel: int, share: float, left: float | None) -> None:
    started = (datetime.now(UTC) - timedelta(seconds=10)).isoformat(timespec="milliseconds")
    task = Task.create(reel=open_reel, kind="survey", state="running", share=share, started=started)
    database.close()
    told = next(t for t in desk.client.get(f"/reels/{open_reel}/state", headers=ASKED).get_json()["tasks"] if t["id"] == task.id)
    assert told["left"] == (None if left is None else pytest.approx(left, abs=2))


def test_stopping_work(desk: Desk, open_reel: int) -> None:
    task_id = desk.post(f"/reels/{open_reel}/render").get_json()["task"]
    assert desk.post(f"/reels/{open_reel}/render").get_json()["task"] == task_id, "asked twice, done once"
    desk.post(f"/tasks/{task_id}/cancel")
    desk.work()
    assert desk.task("render").state == "cancelled"
    assert desk.post("/tasks/999/cancel").status_code == 404
    running = Task.create(reel=open_reel, kind="survey", state="waiting", cancel=True)
    database.close()
    desk.work()
    assert desk.reel(open_reel)
    assert Task.get_by_id(running.id).state == "cancelled"


def test_a_second_start_on_the_same_folder_is_refused(tmp_path: Path) -> None:
    data = DataFolder(tmp_path)
    with data.lock():
        data.note_address("http://127.0.0.1:8017/")
        with pytest.raises(SweepError, match=r"running on the data folder .* already .*8017"), data.lock():
            pass
    with data.lock():
        pass


def test_words() -> None:
    # SMPTE ST 12-1 counting without drop frame: 24 frames/s, one hour is frame 86400.
    assert words.rate("24000/1001") == "23.976 (24000/1001)"
    assert words.rate("25") == "25"
    assert words.size(20_000_000_000) == "20.0 GB"
    assert words.seconds(75) == "1 min 15 s"


def test_a_big_reel_opens_wide_formats(desk: Desk, tmp_path: Path, clean) -> None:
    path = write_movie(desk.services.allowed[0] / "rgb.mkv", _rgb(clean), "ffv1")
    reel_id = desk.take_in(path)
    assert desk.reel(reel_id).state == "ready", desk.reel(reel_id).refusal
    assert picture(desk.client.get(f"/reels/{reel_id}/slice/row/3.jpg?view=source")).shape[1] == 40
    assert picture(desk.client.get(f"/reels/{reel_id}/crop/2.png?x=0&y=0&w=40&h=20&view=source")).shape == (20, 40, 3)


def _rgb(clean):
    from tests.core.media.test_writer import noise

    return noise("bgr0", frames=9, width=40, height=24)
