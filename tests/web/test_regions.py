"""Regions on the pages: drawn, changed, keyed, copied, taken in and saved; every change can be undone."""

from __future__ import annotations

import shutil
from pathlib import Path

import cv2
import numpy as np
import pytest

from nimbus_sweep.store import edits
from tests.conftest import SITES, small, write_movie
from tests.web.conftest import ASKED, Desk

ELLIPSE = {"kind": "ellipse", "x": 80, "y": 48, "across": 30, "down": 20}
OUTLINE = {"kind": "outline", "corners": [{"x": 10, "y": 10}, {"x": 60, "y": 12}, {"x": 40, "y": 70, "curved": True}]}


@pytest.fixture
def at(desk: Desk, reel: Path) -> str:
    """The address of the region of a step that is put on."""
    number = desk.take_in(Path(shutil.copy(reel, desk.services.allowed[0] / "pan.mkv")))
    desk.post(f"/reels/{number}/steps?shot=0", {"kind": "pixel-mend"})
    return f"/reels/{number}/steps/0/region"


def number_of(at: str) -> int:
    return int(at.split("/")[2])


def seen(desk: Desk, at: str, frame: int = 0) -> dict:
    return desk.client.get(f"{at}?shot=0&frame={frame}").get_json()


def mask(desk: Desk, at: str, frame: int = 0) -> np.ndarray:
    answer = desk.client.get(f"{at}/mask.png?shot=0&frame={frame}")
    return cv2.imdecode(np.frombuffer(answer.data, np.uint8), cv2.IMREAD_UNCHANGED)[..., 3]


def send(desk: Desk, at: str, pixels: np.ndarray, query: str = "") -> tuple[int, str]:
    _, data = cv2.imencode(".png", pixels)
    answer = desk.client.post(f"{at}/mask?shot=0{query}", data=data.tobytes(), headers=ASKED)
    told = answer.get_json()
    return answer.status_code, told.get("said") or told["error"]


def test_shapes_are_added_changed_taken_away_and_undone(desk: Desk, at: str) -> None:
    assert seen(desk, at) == {"parts": [], "lines": [], "changes": False}
    assert desk.post(f"{at}/parts?shot=0", {"shape": ELLIPSE, "frame": 0}).get_json() == {"part": 0}
    assert len(seen(desk, at)["lines"]) == 1
    assert mask(desk, at)[48, 80] == 255
    desk.post(f"{at}/parts?shot=0", {"shape": OUTLINE, "frame": 0})
    desk.post(f"{at}/parts/0?shot=0", {"shape": ELLIPSE | {"x": 120}, "frame": 5})
    assert [p["shape"]["kind"] for p in seen(desk, at)["parts"]] == ["ellipse", "outline"]
    assert mask(desk, at)[48, 120] == 255
    desk.post(f"{at}/parts/1/flip?shot=0")
    assert mask(desk, at)[30, 35] == 0
    desk.post(f"{at}/parts/0/remove?shot=0")
    assert mask(desk, at).max() == 0, "what is left is taken away from nothing: it acts nowhere, not everywhere"
    reel = number_of(at)
    for _ in range(4):
        desk.post(f"/reels/{reel}/undo")
    assert [p["shape"]["x"] for p in seen(desk, at)["parts"]] == [80]
    desk.post(f"/reels/{reel}/redo")
    assert len(seen(desk, at)["parts"]) == 2


def test_a_shape_with_keys_moves_and_shows_on_the_slices(desk: Desk, at: str) -> None:
    desk.post(f"{at}/parts?shot=0", {"shape": ELLIPSE, "frame": 0})
    for axis, place in (("row", 48), ("column", 80)):
        still = desk.client.get(f"{at}/{axis}/{place}?shot=0").get_json()["lines"][0]
        assert {round(p[1]) for p in still} == {0, 30}, "one that holds still runs through the whole shot"
    desk.post(f"{at}/parts/0/key?shot=0", {"frame": 20})
    desk.post(f"{at}/parts/0?shot=0", {"shape": ELLIPSE | {"x": 120}, "frame": 20})
    assert seen(desk, at, 10)["parts"][0]["shape"]["x"] == 100
    assert seen(desk, at)["changes"]
    line = np.array(desk.client.get(f"{at}/row/48?shot=0").get_json()["lines"][0])
    early, late = (line[np.abs(line[:, 1] - n) <= 1.5][:, 0] for n in (0, 29))
    assert late.min() - early.min() == pytest.approx(40, abs=3)
    desk.post(f"{at}/parts/0/unkey?shot=0", {"frame": 20})
    assert not seen(desk, at)["changes"]


def test_the_edge_is_grown_softened_and_turned_inside_out(desk: Desk, at: str) -> None:
    desk.post(f"{at}/parts?shot=0", {"shape": ELLIPSE, "frame": 0})
    plain = (mask(desk, at) > 127).sum()
    desk.post(f"{at}/edge?shot=0", {"grow": 1})
    grown = (mask(desk, at) > 127).sum()
    assert 100 < grown - plain < 220, "one pixel all round"
    desk.post(f"{at}/edge?shot=0", {"grow": 0, "feather": 8})
    assert ((mask(desk, at) > 20) & (mask(desk, at) < 235)).sum() > 400
    desk.post(f"{at}/edge?shot=0", {"feather": 0, "invert": True})
    assert mask(desk, at)[48, 80] == 0
    assert desk.post(f"{at}/edge?shot=0", {"grow": 9999}).status_code == 400


def test_it_only_acts_inside_and_keeps_its_region_when_its_settings_change(desk: Desk, at: str) -> None:
    reel, site = number_of(at), SITES[0]
    desk.post(f"/reels/{reel}/survey?shot=0")
    desk.work()
    desk.post(f"{at}/parts?shot=0", {"shape": {"kind": "ellipse", "x": site.x, "y": site.y, "across": 9, "down": 9}, "frame": 0})
    desk.post(f"/reels/{reel}/steps/0/settings?shot=0", {"sure": 0.4})
    desk.work()
    assert len(seen(desk, at)["parts"]) == 1
    viewing, stored = desk.services.viewing, desk.reel(reel)
    before, after = (viewing.frame(stored, 4, view).component(0) for view in ("source", "treated"))
    rows, cols = np.nonzero(before != after)
    assert len(rows)
    assert np.hypot(rows - site.y, cols - site.x).max() <= 10


def test_it_is_copied_to_another_step_and_reel(desk: Desk, at: str) -> None:
    assert desk.post(f"{at}/copy?shot=0").status_code == 409, "nothing is drawn"
    assert desk.post(f"{at}/paste?shot=0").status_code == 409, "nothing was copied"
    desk.post(f"{at}/parts?shot=0", {"shape": ELLIPSE, "frame": 0})
    desk.post(f"{at}/copy?shot=0")
    held = at.replace("region", "hold_out")
    assert "put in" in desk.post(f"{held}/paste?shot=0").get_json()["said"]
    assert mask(desk, held)[48, 80] == 255
    for name, size, word in (("large", (320, 192), "scaled"), ("square", (192, 192), "not the shape")):
        other = desk.take_in(write_movie(desk.services.allowed[0] / f"{name}.mkv", small(8, *size)))
        desk.post(f"/reels/{other}/steps?shot=0", {"kind": "unshade"})
        there = f"/reels/{other}/steps/0/region"
        assert word in desk.post(f"{there}/paste?shot=0").get_json()["said"].lower()
        assert mask(desk, there).shape == size[::-1]
    assert desk.post(f"{at}/clear?shot=0").get_json()["said"] == "The whole picture again"
    assert edits.shot_of(desk.reel(number_of(at))).recipe.steps[0].region is None


def test_mask_pictures_are_taken_in_and_saved(desk: Desk, at: str) -> None:
    painted = np.full((96, 160, 3), 120, np.uint8)
    painted[20:40, 30:70] = (0, 0, 230)
    status, said = send(desk, at, painted)
    assert (status, said) == (200, "The mask is taken in.")
    assert (mask(desk, at) > 0).sum() == 20 * 40
    saved = desk.client.get(f"{at}/mask.png?shot=0&frame=0").data
    desk.post(f"{at}/clear?shot=0")
    assert desk.client.post(f"{at}/mask?shot=0", data=saved, headers=ASKED).status_code == 200
    assert (mask(desk, at) > 0).sum() == 20 * 40, "what is saved comes back the same"
    desk.post(f"{at}/clear?shot=0")
    status, said = send(desk, at, cv2.resize(painted, (320, 192), interpolation=cv2.INTER_NEAREST), "&trim=2&tolerance=20&colour=%23e60000")
    assert "scaled" in said
    assert (mask(desk, at) > 127).sum() == pytest.approx(18 * 38, rel=0.05)


def test_what_cannot_be_is_refused_in_words(desk: Desk, at: str) -> None:
    assert send(desk, at, np.zeros((50, 160, 3), np.uint8))[0] == 422
    assert "not the same shape" in send(desk, at, np.zeros((50, 160, 3), np.uint8))[1]
    assert "vivid" in send(desk, at, np.full((96, 160), 90, np.uint8))[1]
    answer = desk.client.post(f"{at}/mask?shot=0", data=b"rubbish", headers=ASKED)
    assert "not a picture" in answer.get_json()["error"]
    assert desk.client.post(f"{at}/mask?shot=0", data=b"", headers=ASKED).status_code == 422
    assert desk.post(f"{at}/parts?shot=0", {"shape": {"kind": "star"}}).status_code == 400
    assert desk.post(f"{at}/parts?shot=0", {"shape": ELLIPSE | {"across": -3}}).status_code == 400
    assert desk.post(f"{at}/parts?shot=0", {"shape": ELLIPSE, "frame": "noon"}).status_code == 400
    assert desk.post(f"{at}/parts/3?shot=0", {"shape": ELLIPSE, "frame": 0}).status_code == 404
    desk.post(f"{at}/parts?shot=0", {"shape": ELLIPSE, "frame": 0})
    assert desk.post(f"{at}/parts/0?shot=0", {"shape": OUTLINE, "frame": 0}).status_code == 409, "a shape stays of its kind"
    assert desk.client.get(f"{at.replace('steps/0', 'steps/7')}?shot=0").status_code == 404
    far = {"kind": "ellipse", "x": 1e7, "y": -1e7, "across": 5, "down": 5}
    assert desk.post(f"{at}/parts?shot=0", {"shape": far, "frame": 0}).status_code == 200
    assert (mask(desk, at) > 0).sum() == (mask(desk, at)[25:72, 45:115] > 0).sum(), "a shape off the picture changes nothing"


def test_marks_are_drawn_by_hand_and_told_how_to_be_mended(desk: Desk, at: str) -> None:
    reel = number_of(at)
    told = desk.post(f"/reels/{reel}/findings/static-shade/outline?shot=0", {"shape": ELLIPSE, "frame": 0}).get_json()
    assert told["index"] == edits.shot_of(desk.reel(reel)).findings[0].id
    desk.post(f"/reels/{reel}/findings/0/set?shot=0", {"mended_by": "surround"})
    desk.post(f"/reels/{reel}/steps?shot=0", {"kind": "unshade"})
    desk.work()
    ways = desk.client.get(f"/reels/{reel}/ways/3?shot=0").get_json()["marks"]
    assert [(w["way"], bool(w["doubt"])) for w in ways] == [("surround", True)]
    assert desk.post(f"/reels/{reel}/findings/0/set?shot=0", {"mended_by": "magic"}).status_code == 400
    assert desk.post(f"/reels/{reel}/findings/0/move?shot=0", {"dx": 1, "dy": 0}).status_code == 409
    assert desk.post(f"/reels/{reel}/findings/static-shade/outline?shot=0", {"shape": ELLIPSE | {"x": -900}, "frame": 0}).status_code == 422


def test_a_running_analysis_goes_on_when_only_the_region_changes(desk: Desk, at: str) -> None:
    reel = number_of(at)
    running = desk.task("analysis")
    type(running).update(state="running").where(type(running).id == running.id).execute()
    desk.post(f"{at}/parts?shot=0", {"shape": ELLIPSE, "frame": 0})
    assert desk.task("analysis").id == running.id
    assert not type(running).get_by_id(running.id).cancel
    desk.post(f"/reels/{reel}/steps/0/settings?shot=0", {"sites": [{"x": 3, "y": 3}]})
    assert desk.task("analysis").id != running.id
