"""Trouble with the light, from the condition sheet to the delivery; and the sheet of mains and shutters."""

from __future__ import annotations

import json
from dataclasses import replace
from fractions import Fraction
from pathlib import Path

import cv2
import numpy as np
import pytest

from benchmarks.light import left
from nimbus_sweep.core.interchange.starting_points import STARTING_POINTS
from nimbus_sweep.core.media.reader import MovieReader
from nimbus_sweep.core.model.recipes import Recipe
from nimbus_sweep.demo.flicker import bands, lit
from nimbus_sweep.jobs.reels import at_hand, open_as_taken_in
from nimbus_sweep.store import edits
from tests.conftest import small, write_movie
from tests.web.conftest import Desk


@pytest.fixture
def under_lamps(desk: Desk) -> tuple[int, list]:
    """A reel under lamps on 50 Hz mains at 30 frames a second, and its frames as they should be."""
    source = small(24, 224, 128, "bunny-near")
    truth = list(source.pictures)
    spoiled = source.over(lit(truth, bands(24, 128, 1, step=1 / 3)))
    return desk.take_in(write_movie(desk.services.allowed[0] / "lamps.mkv", spoiled, rate=Fraction(30))), truth


def test_bands_are_steadied_by_following_the_sheet(desk: Desk, under_lamps: tuple[int, list], tmp_path: Path) -> None:
    reel_id, truth = under_lamps

    def sheet(stage: str) -> str:
        return desk.client.get(f"/reels/{reel_id}/sheet/{stage}").get_data(as_text=True)

    assert "Rolling bands" not in sheet("condition")
    desk.post(f"/reels/{reel_id}/survey")
    desk.work()
    told = sheet("condition")
    for words in ("Rolling bands", "0.33 of a period", "50 Hz mains", "1/50 or 1/100 s", "Add step: Steady bands", "See the light"):
        assert words in told, words
    for kind in ("strip", "map"):
        answer = desk.client.get(f"/reels/{reel_id}/light/{kind}.png")
        drawn = cv2.imdecode(np.frombuffer(answer.data, np.uint8), cv2.IMREAD_GRAYSCALE)
        assert drawn.std() > 5
    desk.post(f"/reels/{reel_id}/steps", {"kind": "steady-bands"})
    desk.work()
    assert "Analysis is ready" in sheet("treatment")
    assert "For what was found" not in sheet("treatment")
    assert "On to Treatment" in sheet("condition")
    desk.post(f"/reels/{reel_id}/render", {"kind": "ffv1"})
    desk.work()
    task = desk.task("render")
    assert task.state == "done", task.error
    fetched = tmp_path / "fetched.mkv"
    fetched.write_bytes(desk.client.get(f"/deliveries/{task.id}/file/0").data)
    delivered = [f.planes for f in MovieReader(fetched).frames(0, 24)]
    before = [f.planes for f in MovieReader(desk.services.allowed[0] / "lamps.mkv").frames(0, 24)]
    assert left(truth, delivered) < 0.08 * left(truth, before)
    # Dismissed, the finding asks for nothing; undo brings it back.
    desk.post(f"/reels/{reel_id}/findings/0/dismissed")
    assert "Steady: nothing flickers" in sheet("condition")
    desk.post(f"/reels/{reel_id}/undo")
    assert "Rolling bands" in sheet("condition")


def test_a_steadying_step_may_be_put_on_twice_and_set(desk: Desk, under_lamps: tuple[int, list]) -> None:
    reel_id, _ = under_lamps
    for _ in range(2):
        assert desk.post(f"/reels/{reel_id}/steps", {"kind": "steady-frame"}).status_code == 200
    desk.work()
    assert desk.post(f"/reels/{reel_id}/steps/0/settings", {"takes": "rhythm", "amount": 0.5, "keep": 1.5}).status_code == 200
    assert desk.post(f"/reels/{reel_id}/steps/1/settings", {"amount": 7}).status_code == 400
    assert desk.post(f"/reels/{reel_id}/steps", {"kind": "frame-blend"}).status_code == 200
    assert desk.post(f"/reels/{reel_id}/steps/2/settings", {"offsets": [-1, 0, 1, 2], "aligned": True}).status_code == 200
    assert desk.post(f"/reels/{reel_id}/steps/2/settings", {"offsets": [-9]}).status_code == 400
    desk.work()
    told = desk.client.get(f"/reels/{reel_id}/recipe.json").get_json()
    assert [s["kind"] for s in told["steps"]] == ["steady-frame", "steady-frame", "frame-blend"]
    assert told["steps"][0]["settings"]["takes"] == "rhythm"
    assert desk.task("analysis").state == "done"


def test_a_corrected_reading_is_gone_by(desk: Desk, under_lamps: tuple[int, list]) -> None:
    reel_id, _ = under_lamps
    reel = desk.reel(reel_id)
    shot = edits.shot_of(reel)
    kept = at_hand(desk.services.data, reel).light(shot, open_as_taken_in(reel))
    source = open_as_taken_in(reel)
    source.colour, source.rate = replace(source.colour, full_range=True), Fraction(24)
    read_anew = at_hand(desk.services.data, reel).light(shot, source)
    assert read_anew.rate == 24
    # Without a foot, all light lies 16 codes higher.
    assert np.median(read_anew.light(3) - kept.light(3)) == pytest.approx(16, abs=0.2)


def test_a_starting_point_is_an_ordinary_recipe(desk: Desk, under_lamps: tuple[int, list]) -> None:
    reel_id, _ = under_lamps
    desk.post(f"/reels/{reel_id}/steps", {"kind": "pixel-mend"})
    for key, point in STARTING_POINTS.items():
        assert desk.post(f"/reels/{reel_id}/starting-point", {"point": key}).status_code == 200
        told = desk.client.get(f"/reels/{reel_id}/recipe.json").get_json()
        kinds = [s["kind"] for s in told["steps"]]
        assert kinds[-1] == "pixel-mend", "what was on stays"
        assert {s.kind for s in point.recipe.steps} <= set(kinds)
        assert Recipe.model_validate(point.recipe.model_dump()) == point.recipe
    page = desk.client.get(f"/reels/{reel_id}/sheet/treatment").get_data(as_text=True)
    assert all(point.name in page for point in STARTING_POINTS.values())
    assert desk.post(f"/reels/{reel_id}/starting-point", {"point": "nothing"}).status_code == 400


def drawn_light(page: str) -> list[list[int]]:
    """The light of each row of each frame that the page plays, in percent."""
    return json.loads(page.split("data-lit='")[1].split("'")[0])


def test_mains_and_shutter(desk: Desk, under_lamps: tuple[int, list]) -> None:
    reel_id, _ = under_lamps
    page = desk.client.get("/mains?rate=24&shutter=172.8°&mains=50").get_data(as_text=True)
    for words in ("100 Hz", "4 Hz", "6 frames", "172.8°", "lets 0 % of the pulse", "1/48 s", "1/50 s, 1/100 s"):
        assert words in page, words
    assert 'value="30"' in desk.client.get(f"/mains?reel={reel_id}").get_data(as_text=True)
    rolling = desk.client.get("/mains?rate=30&shutter=1/60&readout=23.148&lines=1080").get_data(as_text=True)
    assert "2.50 over the picture" in rolling
    lit = drawn_light(rolling)
    assert lit[0] == lit[3] != lit[1], "one beat lasts three frames"
    assert max(map(max, lit)) == 108, "a swing by half, and the sinc of 5/3 turns"
    assert {light for row in drawn_light(desk.client.get("/mains?rate=30&shutter=1/50").get_data(as_text=True)) for light in row} == {100}
    for query, said in (
        ("rate=0", "above 0"),
        ("rate=much", "has to be a number"),
        ("shutter=1/2", "at most 1/25 s"),
        ("shutter=", "has to be a number"),
        ("mains=55", "50 or 60"),
        ("readout=9999", "longer than a frame"),
        ("reel=99", "nothing here"),
    ):
        answer = desk.client.get(f"/mains?{query}", headers={"Accept": "text/html"})
        assert answer.status_code in (404, 422), query
        assert said in answer.get_data(as_text=True), query
