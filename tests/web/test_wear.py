"""Film dirt, from the condition sheet to the proof: what is outlined, left alone by hand, counted in the reel log."""

from __future__ import annotations

import json
from fractions import Fraction
from pathlib import Path

import numpy as np
import pytest

from benchmarks.material import MemorySource
from nimbus_sweep.core.media.reader import MovieReader
from nimbus_sweep.demo.dirt import scattered, soiled
from nimbus_sweep.store.models import Task
from tests.conftest import small, write_movie
from tests.web.conftest import ASKED, Desk

FRAMES = 15


@pytest.fixture
def worn(desk: Desk) -> tuple[int, MemorySource, list[int]]:
    """A reel of worn film, 24 carried as 30; its frames as they should be, and which of them each frame shows."""
    sound = small(FRAMES * 4 // 5, 320, 192, "bunny-near")
    dirt = scattered(len(sound), (192, 320), 4, 5)
    spoiled = soiled(list(sound.pictures), dirt)
    carried = [n * 4 // 5 for n in range(FRAMES)]
    path = write_movie(desk.services.allowed[0] / "worn.mkv", sound.over([spoiled[n] for n in carried]), rate=Fraction(30))
    return desk.take_in(path), sound, carried


def specks(desk: Desk, reel: int, frame: int, **settings: object) -> list[dict[str, object]]:
    query = "&".join(f"{k}={v}" for k, v in settings.items())
    return desk.client.get(f"/reels/{reel}/specks/{frame}?step=0&{query}").get_json()["specks"]


def put_on(desk: Desk, reel: int) -> None:
    assert desk.post(f"/reels/{reel}/steps", {"kind": "speck-sweep"}).status_code == 200
    desk.work()


def test_dirt_is_swept_by_following_the_sheets(desk: Desk, worn: tuple[int, MemorySource, list[int]]) -> None:
    reel, sound, carried = worn
    desk.post(f"/reels/{reel}/survey")
    desk.work()
    condition = desk.client.get(f"/reels/{reel}/sheet/condition").get_data(as_text=True)
    for words in ("Film dirt", "Specks and hairs", "Add step: Speck sweep", "a frame, "):
        assert words in condition, words
    assert desk.client.get(f"/reels/{reel}/specks/3?step=0", headers=ASKED).status_code == 404, "no such step yet"
    put_on(desk, reel)
    treatment = desk.client.get(f"/reels/{reel}/sheet/treatment").get_data(as_text=True)
    assert "Analysis is ready" in treatment
    lanes = desk.client.get(f"/reels/{reel}/lanes?points={FRAMES}").get_json()
    found = [sum(s["state"] == "swept" for s in specks(desk, reel, n)) for n in range(FRAMES) if carried[n] != carried[n - 1]]
    assert [lanes["patched"][n] for n in range(FRAMES) if carried[n] != carried[n - 1]] == found
    assert sum(found) >= 20
    desk.post(f"/reels/{reel}/render")
    desk.work()
    rendered = desk.task("render")
    assert rendered.state == "done", rendered.error
    desk.post(f"/reels/{reel}/compare")
    desk.work()
    assert desk.task("inspection").result["proven"]
    out = MovieReader(desk.services.data.delivery(rendered.id, rendered.result["file"]))
    source = MovieReader(Path(desk.reel(reel).path))
    before, after = (
        float(np.mean([np.abs(r.frame(n).planes[0].astype(int) - sound.pictures[carried[n]][0]).mean() for n in range(FRAMES)]))
        for r in (source, out)
    )
    assert after < before / 4


def test_the_slider_answers_from_what_is_known(desk: Desk, worn: tuple[int, MemorySource, list[int]]) -> None:
    reel, _, _ = worn
    put_on(desk, reel)
    tasks = desk.task("analysis").id
    counts = [sum(s["state"] == "swept" for n in range(FRAMES) for s in specks(desk, reel, n, sure=sure)) for sure in (0.2, 0.6, 0.95)]
    assert counts[0] >= counts[1] >= counts[2]
    assert counts[0] > counts[2]
    only = [s for n in range(FRAMES) for s in specks(desk, reel, n, takes="dark") if s["state"] == "swept"]
    assert only
    assert not any(s["bright"] for s in only)
    assert not [s for n in range(FRAMES) for s in specks(desk, reel, n, smallest=9999) if s["state"] == "swept"]
    assert desk.client.get(f"/reels/{reel}/specks/2?step=0&sure=7", headers=ASKED).status_code == 400
    # A change of what only chooses asks for nothing to be learned anew.
    desk.post(f"/reels/{reel}/steps/0/settings", {"sure": 0.8})
    assert desk.services.viewing.ready(desk.reel(reel))
    assert desk.task("analysis").id == tasks


def test_a_speck_is_left_alone_and_taken_back(desk: Desk, worn: tuple[int, MemorySource, list[int]]) -> None:
    reel, _, carried = worn
    put_on(desk, reel)
    copy = next(n for n in range(FRAMES - 1, 0, -1) if carried[n] == carried[n - 1] and specks(desk, reel, n))
    one = next(s for s in specks(desk, reel, copy) if s["state"] == "swept")
    box = [one["x"], one["y"], one["w"], one["h"]]
    url = f"/reels/{reel}/steps/0/leave"

    def state(frame: int) -> str:
        return next(str(s["state"]) for s in specks(desk, reel, frame) if [s["x"], s["y"], s["w"], s["h"]] == box)

    # A copy shows the same moment: what is left alone in it is left alone in both.
    assert desk.post(url, {"what": "one", "frame": copy, "box": box}).status_code == 200
    assert state(copy) == state(copy - 1) == "left"
    assert f"left alone: {1}" in desk.client.get(f"/reels/{reel}/sheet/treatment").get_data(as_text=True).lower()
    assert desk.post(url, {"what": "back", "frame": copy, "box": box}).status_code == 200
    assert state(copy) == "swept"
    assert desk.post(url, {"what": "range", "first": 0, "stop": FRAMES}).status_code == 200
    assert state(copy) == "left"
    refused = desk.post(url, {"what": "back", "frame": copy, "box": box})
    assert refused.status_code == 409
    assert "range" in refused.get_json()["error"]
    assert desk.post(url, {"what": "drop", "rule": 0}).status_code == 200
    assert state(copy) == "swept"
    desk.post(f"/reels/{reel}/undo")
    assert state(copy) == "left"


def test_specks_that_are_doubted_are_named_by_hand_or_brush(desk: Desk, worn: tuple[int, MemorySource, list[int]]) -> None:
    reel, _, _ = worn
    put_on(desk, reel)
    url = f"/reels/{reel}/steps/0/leave"

    def told(sure: float) -> dict[str, float]:
        return desk.client.get(f"/reels/{reel}/specks/1?step=0&sure={sure}").get_json()["shot"]

    swept = sum(s["state"] == "swept" for n in range(FRAMES) for s in specks(desk, reel, n))
    assert 0 < told(0.5)["removed"] <= swept
    # The less sure they may be the more are removed, and the more of them are expected to be none.
    many, few = told(0.2), told(0.9)
    assert many["removed"] > few["removed"]
    assert many["false"] > few["false"]
    desk.post(f"/reels/{reel}/steps/0/settings", {"sure": 0.99})
    frame, doubted = next((n, s) for n in range(2, FRAMES - 2) for s in specks(desk, reel, n) if s["state"] in ("unsure", "fast"))
    box = [doubted["x"], doubted["y"], doubted["w"], doubted["h"]]

    def state() -> str:
        return next(str(s["state"]) for s in specks(desk, reel, frame) if [s["x"], s["y"], s["w"], s["h"]] == box)

    assert desk.post(url, {"what": "sweep", "frame": frame, "box": box}).status_code == 200
    assert state() == "swept"
    assert told(0.99)["said"] == 1
    assert "Removed by you: 1" in desk.client.get(f"/reels/{reel}/sheet/treatment").get_data(as_text=True)
    assert desk.post(url, {"what": "drop", "of": "swept", "rule": 0}).status_code == 200
    assert state() != "swept"
    # A stroke of the brush over it says the same, as one change.
    desk.post(f"/reels/{reel}/steps", {"kind": "retouch"})
    x, y, w, h = box
    stroke = {"frame": frame, "points": [[x + w / 2, y + h / 2]], "size": max(w, h) + 4, "lends": frame + 2}
    answer = desk.post(f"/reels/{reel}/steps/1/strokes", {"strokes": [stroke]})
    assert "those like it" in answer.get_json()["said"]
    assert state() == "swept"
    desk.post(f"/reels/{reel}/undo")
    assert state() != "swept"


@pytest.mark.parametrize(
    ("sent", "status"),
    [
        ({"what": "everything"}, 400),
        ({"what": "drop", "of": "swept", "rule": 3}, 404),
        ({"what": "sweep", "frame": 1, "box": [1]}, 400),
        ({"what": "one", "frame": 1, "box": [1, 2]}, 400),
        ({"what": "one", "frame": "first", "box": [1, 2, 3, 4]}, 400),
        ({"what": "range", "first": -4, "stop": 2}, 400),
        ({"what": "drop", "rule": 5}, 404),
    ],
)
def test_rubbish_is_refused_with_a_sentence(desk: Desk, worn: tuple[int, MemorySource, list[int]], sent: dict, status: int) -> None:
    reel, _, _ = worn
    desk.post(f"/reels/{reel}/steps", {"kind": "speck-sweep"})
    answer = desk.post(f"/reels/{reel}/steps/0/leave", sent)
    assert answer.status_code == status
    assert answer.get_json()["error"].endswith((".", "?"))
    assert desk.client.get(f"/reels/{reel}/specks/0?step=0").get_json() == {"ready": False, "specks": []}


def test_a_recipe_carries_what_is_left_alone(desk: Desk, worn: tuple[int, MemorySource, list[int]]) -> None:
    reel, _, _ = worn
    desk.post(f"/reels/{reel}/steps", {"kind": "speck-sweep"})
    desk.post(f"/reels/{reel}/steps/0/leave", {"what": "range", "first": 2, "stop": 5})
    recipe = json.loads(desk.client.get(f"/reels/{reel}/recipe.json").data)
    assert recipe["steps"][0]["settings"]["left"] == [{"first": 2, "stop": 5, "box": None}]
    assert desk.post(f"/reels/{reel}/recipe", recipe).status_code == 200
    assert Task.select().where(Task.kind == "analysis").count() >= 1
