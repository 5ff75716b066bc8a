"""Reels of the demo that are still being drawn, as the rack and the work page show them; failures that nobody foresaw."""

from __future__ import annotations

import pytest

from nimbus_sweep.store.models import Reel, Task, database
from nimbus_sweep.wording import numbers as words
from tests.web.conftest import Desk


@pytest.fixture
def waiting(desk: Desk) -> list[int]:
    """Three reels that are to be drawn; the first is being drawn."""
    database.connect(reuse_if_open=True)
    made = []
    for n in range(3):
        reel = Reel.create(job=desk.job, title=f"Reel {n}", path=f"/demo/reel-{n}.mkv", frames=90, state="drawing")
        desk.services.queue.put("draw", reel)
        made.append(reel.id)
    Task.update(state="running", share=0.4, rate=18.0).where(Task.reel == made[0]).execute()
    return made


def test_the_rack_says_how_far_the_drawing_is(desk: Desk, waiting: list[int]) -> None:
    rows = desk.client.get("/rack/list").text.split("<article")[1:]
    assert "Being drawn, 40 %, about 3 s left" in rows[0]
    assert "Being drawn next, about 10 s until it is here" in rows[1]
    assert "Waiting to be drawn, about 15 s until it is here" in rows[2]
    assert all(">Open<" not in row for row in rows)
    assert "disabled" in rows[0] and "disabled" not in rows[1]


def test_pressing_one_puts_it_first(desk: Desk, waiting: list[int]) -> None:
    assert desk.post(f"/reels/{waiting[2]}/draw-next").get_json()["said"] == "Reel 2 is drawn next."
    rows = desk.client.get("/rack/list").text.split("<article")[1:]
    assert "Being drawn next" in rows[2] and "Waiting to be drawn" in rows[1]
    assert desk.post(f"/reels/{waiting[0]}/draw-next").get_json()["said"] == "Reel 0 is being drawn already."


def test_a_reel_that_is_not_there_yet_leads_to_the_rack(desk: Desk, waiting: list[int]) -> None:
    for address in (f"/reels/{waiting[1]}", f"/reels/{waiting[1]}/condition"):
        answer = desk.client.get(address)
        assert (answer.status_code, answer.headers["Location"]) == (302, "/")


def test_removing_one_leaves_the_others_in_line(desk: Desk, waiting: list[int]) -> None:
    desk.post(f"/reels/{waiting[1]}/remove")
    rows = desk.client.get("/rack/list").text.split("<article")[1:]
    assert len(rows) == 2 and "Being drawn next, about 10 s" in rows[1]


def test_a_failure_nobody_foresaw_names_its_line_in_the_log(
    desk: Desk, monkeypatch: pytest.MonkeyPatch, caplog: pytest.LogCaptureFixture
) -> None:
    def fails() -> None:
        raise RuntimeError("disk on fire")

    monkeypatch.setattr("nimbus_sweep.web.stages.rack._jobs", fails)
    desk.client.application.testing = False
    answer = desk.client.get("/", headers={"Accept": "application/json"})
    assert answer.status_code == 500
    said = answer.get_json()["error"]
    assert "RuntimeError" in said and "logs/server.log" in said and "disk on fire" not in said
    (entry,) = [r for r in caplog.records if r.exc_info]
    assert entry.getMessage().split(":")[0] in said


@pytest.mark.parametrize(
    ("seconds", "said"), [(0.2, "1 s"), (7.4, "7 s"), (12, "10 s"), (49, "50 s"), (58, "1 min 00 s"), (95, "1 min 40 s")]
)
def test_guessed_times_are_round(seconds: float, said: str) -> None:
    assert words.about(seconds) == said
