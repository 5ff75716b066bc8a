"""Tracks and plates on the pages: drawn, followed, put right, ridden on, undone; bad input is explained."""

from __future__ import annotations

import cv2
import numpy as np
import pytest

from benchmarks.material import MemorySource, drifting, panned
from nimbus_sweep.core.model.planes import moved
from nimbus_sweep.store import edits
from tests.conftest import write_movie
from tests.web.conftest import ASKED, Desk

PLANE = {"kind": "outline", "corners": [{"x": 60, "y": 50}, {"x": 170, "y": 50}, {"x": 170, "y": 150}, {"x": 60, "y": 150}]}
ELLIPSE = {"kind": "ellipse", "x": 110, "y": 100, "across": 20, "down": 14}


@pytest.fixture
def number(desk: Desk) -> int:
    """A reel in which the scene goes two pixels a frame to the left, and something bright stands before it for some frames."""
    pan = drifting(panned("coffee", 2, size=(320, 240)), 14, across=2.0)
    pictures: list[tuple[np.ndarray, ...]] = []
    for n, planes in enumerate(pan.pictures):
        luma = planes[0].copy()
        if n < 5:
            luma[92:108, 100 - 2 * n : 122 - 2 * n] = 225
        pictures.append((luma, planes[1], planes[2]))
    source: MemorySource = pan.over(pictures)
    return desk.take_in(write_movie(desk.services.allowed[0] / "wall.mkv", source))


@pytest.fixture
def followed(desk: Desk, number: int) -> int:
    assert desk.post(f"/reels/{number}/tracks?shot=0", {"shape": PLANE, "frame": 2}).get_json()["track"] == "plane 1"
    desk.post(f"/reels/{number}/tracks/0/settings?shot=0", {"model": "translation"})
    desk.post(f"/reels/{number}/tracks/0/follow?shot=0", {"direction": "both", "frame": 2})
    desk.work()
    assert desk.task("track").state == "done", desk.task("track").error
    return number


def recipe(desk: Desk, number: int):
    return edits.shot_of(desk.reel(number), 0).recipe


def seen(desk: Desk, number: int, frame: int) -> dict:
    return desk.client.get(f"/reels/{number}/tracks/0?shot=0&frame={frame}&whole=1").get_json()


def patched(desk: Desk, number: int) -> str:
    """A plate patch whose region rides on the plane."""
    desk.post(f"/reels/{number}/steps?shot=0", {"kind": "plate-patch"})
    desk.work()
    assert desk.task("analysis").state == "done", "without a region it acts nowhere"
    at = f"/reels/{number}/steps/0"
    desk.post(f"{at}/region/parts?shot=0", {"shape": ELLIPSE, "frame": 0})
    assert desk.post(f"{at}/region/ride?shot=0", {"track": "plane 1", "frame": 0}).status_code == 200
    desk.work()
    assert desk.task("analysis").state == "done", desk.task("analysis").error
    return at


def test_a_plane_is_drawn_and_followed(desk: Desk, number: int) -> None:
    desk.post(f"/reels/{number}/tracks?shot=0", {"shape": PLANE, "frame": 2})
    assert "Not followed yet" in seen(desk, number, 5)["said"]
    assert seen(desk, number, 2)["corners"] is not None
    sheet = desk.client.get(f"/reels/{number}/sheet/treatment?shot=0").get_data(as_text=True)
    assert "No step yet" in sheet and "not tracked yet" in sheet
    desk.post(f"/reels/{number}/tracks/0/follow?shot=0", {"direction": "both", "frame": 9})
    desk.work()
    told = seen(desk, number, 10)
    assert "held" in told["said"]
    assert len(told["misfit"]) == 14 and told["first"] == 0
    assert told["corners"][0] == pytest.approx([59.5 - 16, 49.5], abs=0.6)
    assert "held in" in desk.client.get(f"/reels/{number}/sheet/treatment?shot=0").get_data(as_text=True)
    still = cv2.imdecode(np.frombuffer(desk.client.get(f"/reels/{number}/frame/10.jpg?view=still-0&w=320").data, np.uint8), 0)
    first = cv2.imdecode(np.frombuffer(desk.client.get(f"/reels/{number}/frame/2.jpg?view=still-0&w=320").data, np.uint8), 0)
    assert np.abs(still[60:90, 70:160].astype(int) - first[60:90, 70:160]).mean() < 5
    desk.post(f"/reels/{number}/undo")
    assert "Not followed yet" in seen(desk, number, 10)["said"]


def test_corners_are_put_right_and_taken_back(desk: Desk, followed: int) -> None:
    corners = seen(desk, followed, 6)["corners"]
    corners[0][0] += 4
    assert desk.post(f"/reels/{followed}/tracks/0/corners?shot=0", {"frame": 6, "corners": corners}).status_code == 200
    assert seen(desk, followed, 6)["corners"][0] == pytest.approx(corners[0], abs=0.01)
    assert seen(desk, followed, 6)["nudged"] == [6]
    desk.post(f"/reels/{followed}/tracks/0/corners?shot=0", {"frame": 6, "corners": None})
    assert seen(desk, followed, 6)["nudged"] == []
    for bad in ([[1, 2]], "fog", [[1e9, 0]] * 4):
        answer = desk.post(f"/reels/{followed}/tracks/0/corners?shot=0", {"frame": 6, "corners": bad})
        assert answer.status_code == 400 and "corners" in answer.get_json()["error"]


def test_a_region_rides_and_is_changed_where_it_is_seen(desk: Desk, followed: int) -> None:
    at = patched(desk, followed)
    where = [desk.client.get(f"{at}/region?shot=0&frame={n}").get_json() for n in (0, 10)]
    lefts = [min(x for line in told["lines"] for x, _ in line) for told in where]
    assert lefts[1] - lefts[0] == pytest.approx(-20, abs=1)
    shape = where[1]["parts"][0]["shape"]
    assert shape["kind"] == "outline", "an ellipse that rides need not stay one"
    for corner in shape["corners"]:
        corner["x"] += 6
    desk.post(f"{at}/region/parts/0?shot=0", {"shape": shape, "frame": 10})
    again = [desk.client.get(f"{at}/region?shot=0&frame={n}").get_json() for n in (0, 10)]
    assert again[1]["parts"][0]["shape"]["corners"][0]["x"] == pytest.approx(shape["corners"][0]["x"], abs=0.01)
    moved = min(x for line in again[0]["lines"] for x, _ in line) - lefts[0]
    assert moved == pytest.approx(6, abs=0.6)
    assert desk.client.get(f"{at}/region/row/100?shot=0").get_json()["lines"]
    # It stays where it is seen when it is fixed to the frame again.
    desk.post(f"{at}/region/ride?shot=0", {"track": "", "frame": 10})
    fixed = desk.client.get(f"{at}/region?shot=0&frame=0").get_json()
    assert not fixed["changes"]
    assert min(x for line in fixed["lines"] for x, _ in line) == pytest.approx(lefts[1] + 6, abs=0.6)
    assert desk.post(f"{at}/region/ride?shot=0", {"track": "roof", "frame": 0}).status_code == 422


def test_a_plate_is_put_on_and_told_of(desk: Desk, followed: int) -> None:
    at = patched(desk, followed)
    sheet = desk.client.get(f"/reels/{followed}/sheet/treatment?shot=0").get_data(as_text=True)
    assert "Light over time" in sheet
    plate = cv2.imdecode(np.frombuffer(desk.client.get(f"{at}/plates/0.png?shot=0").data, np.uint8), cv2.IMREAD_UNCHANGED)
    assert plate.shape[2] == 4 and plate[..., 3].min() == 255
    assert "polyline" in desk.client.get(f"{at}/plates/light?shot=0").get_data(as_text=True)
    treated = cv2.imdecode(
        np.frombuffer(desk.client.get(f"/reels/{followed}/crop/1.png?x=0&y=0&w=256&h=216&view=treated").data, np.uint8), 0
    )
    assert treated[94:106, 102:116].max() < 215, "what stood before it is gone"
    desk.post(f"{at}/plates?shot=0", {"frame": 7})
    desk.post(f"{at}/plates/1?shot=0", {"kind": "frame", "frame": 12})
    assert [(p.kind, p.serves_from, p.serves_to) for p in recipe(desk, followed).steps[0].settings.plates] == [
        ("middle", None, 6),
        ("frame", 7, None),
    ]
    desk.work()
    assert desk.task("analysis").state == "done", desk.task("analysis").error
    assert desk.client.get(f"{at}/plates/1.png?shot=0").status_code == 200
    desk.post(f"{at}/plates/0/remove?shot=0")
    assert recipe(desk, followed).steps[0].settings.plates[0].serves_from is None
    assert desk.post(f"{at}/plates/0/remove?shot=0").status_code == 409
    desk.post(f"{at}/plates/areas?shot=0", {"shape": {**ELLIPSE, "y": 60}, "frame": 5})
    area = recipe(desk, followed).steps[0].settings.areas[0]
    assert area.x == pytest.approx(90 + 6, abs=1) and area.width == pytest.approx(40, abs=1)


def test_a_picture_is_taken_in_as_a_plate(desk: Desk, followed: int) -> None:
    at = patched(desk, followed)
    refused = desk.client.post(f"{at}/plates/0/picture?shot=0", data=b"fog", headers=ASKED)
    assert refused.status_code == 422 and "can be read" in refused.get_json()["error"]
    picture = cv2.imencode(".png", np.full((30, 40, 3), 90, np.uint8))[1].tobytes()
    taken = desk.client.post(f"{at}/plates/0/picture?shot=0", data=picture, headers=ASKED)
    assert "was scaled" in taken.get_json()["said"]
    assert recipe(desk, followed).steps[0].settings.plates[0].kind == "picture"
    desk.work()
    assert desk.task("analysis").state == "done", desk.task("analysis").error


def test_a_track_is_renamed_with_what_rides_on_it_and_not_removed_under_it(desk: Desk, followed: int) -> None:
    patched(desk, followed)
    assert desk.post(f"/reels/{followed}/tracks/0/remove?shot=0").status_code == 409
    desk.post(f"/reels/{followed}/tracks/0/settings?shot=0", {"name": "chart"})
    assert recipe(desk, followed).tracks[0].name == "chart"
    assert recipe(desk, followed).steps[0].region.parts[0].track == "chart"
    assert desk.post(f"/reels/{followed}/tracks/0/settings?shot=0", {"name": " "}).status_code == 400
    desk.post(f"/reels/{followed}/tracks?shot=0", {"shape": PLANE, "frame": 3})
    assert desk.post(f"/reels/{followed}/tracks/1/settings?shot=0", {"name": "chart"}).status_code == 409
    assert desk.post(f"/reels/{followed}/tracks/1/remove?shot=0").status_code == 200
    desk.post(f"/reels/{followed}/steps/0/remove?shot=0")
    assert desk.post(f"/reels/{followed}/tracks/0/remove?shot=0").status_code == 200
    assert desk.client.get(f"/reels/{followed}/tracks/0?shot=0").status_code == 404


def test_what_cannot_be_followed_says_why(desk: Desk, number: int) -> None:
    off = {"kind": "ellipse", "x": -500, "y": 10, "across": 5, "down": 5}
    refused = desk.post(f"/reels/{number}/tracks?shot=0", {"shape": off, "frame": 0})
    assert refused.status_code == 422 and "off the picture" in refused.get_json()["error"]
    assert desk.post(f"/reels/{number}/tracks?shot=0", {"shape": PLANE, "frame": 900}).status_code == 400
    tiny = {"kind": "ellipse", "x": 100, "y": 30, "across": 2, "down": 2}
    desk.post(f"/reels/{number}/tracks?shot=0", {"shape": tiny, "frame": 0})
    assert desk.post(f"/reels/{number}/tracks/0/follow?shot=0", {"direction": "up", "frame": 0}).status_code == 400
    desk.post(f"/reels/{number}/tracks/0/follow?shot=0", {"direction": "on", "frame": 0})
    desk.work()
    assert desk.task("track").state == "failed"
    assert "hold" in desk.task("track").error
    assert desk.task("track").error in desk.client.get(f"/reels/{number}/sheet/treatment?shot=0").get_data(as_text=True)


def test_reframing_comes_last_and_a_track_stands_still(desk: Desk, followed: int) -> None:
    desk.post(f"/reels/{followed}/steps?shot=0", {"kind": "reframe"})
    desk.post(f"/reels/{followed}/steps?shot=0", {"kind": "pixel-mend"})
    assert [s.kind for s in recipe(desk, followed).steps] == ["pixel-mend", "reframe"]
    assert "Always last" in desk.client.get(f"/reels/{followed}/sheet/treatment?shot=0").get_data(as_text=True)
    assert desk.post(f"/reels/{followed}/steps/1/settings?shot=0", {"track": "plane 1", "left": 30}).status_code == 200
    desk.work()
    assert desk.task("analysis").state == "done", desk.task("analysis").error
    one, other = (
        cv2.imdecode(
            np.frombuffer(desk.client.get(f"/reels/{followed}/crop/{n}.png?x=60&y=60&w=100&h=60&view=treated").data, np.uint8), 0
        ).astype(int)
        for n in (6, 12)
    )
    assert np.abs(one - other).mean() < 4
    desk.post(f"/reels/{followed}/steps/1/settings?shot=0", {"left": 250})
    desk.work()
    assert "Too little" in desk.task("analysis").error


def test_a_plate_is_painted_and_wiped(desk: Desk, followed: int) -> None:
    at = patched(desk, followed)
    stroke = {"points": [[104, 98], [116, 100]], "size": 14, "hardness": 0.9}
    before = desk.client.get(f"/reels/{followed}/crop/2.png?x=80&y=70&w=60&h=40&view=plate-0-0").data
    analyses = {p: p.stat().st_mtime_ns for p in desk.services.data.analyses.iterdir()}
    assert "Ctrl and click" in desk.post(f"{at}/plates/0/strokes?shot=0", {"strokes": [stroke]}).get_json()["error"]
    assert desk.post(f"{at}/plates/0/strokes?shot=0", {"strokes": [{**stroke, "lends": 99}]}).status_code == 400
    assert desk.post(f"{at}/plates/7/strokes?shot=0", {"strokes": [{**stroke, "down": -9}]}).status_code == 404
    assert desk.post(f"{at}/plates/0/strokes?shot=0", {"strokes": [{"size": 4}]}).status_code == 400
    put = desk.post(f"{at}/plates/0/strokes?shot=0", {"strokes": [{**stroke, "across": 30.0, "down": -9.0}]}).get_json()
    assert put["strokes"] == ["0"]
    told = desk.client.get(f"{at}/plates/0/strokes/5?shot=0").get_json()
    assert told["total"] == 1 and told["strokes"][0]["size"] == 14
    painted = desk.client.get(f"/reels/{followed}/crop/2.png?x=80&y=70&w=60&h=40&view=plate-0-0").data
    assert painted != before
    assert {p: p.stat().st_mtime_ns for p in desk.services.data.analyses.iterdir()} == analyses, "nothing is learned anew"
    # The strokes go with their plate.
    assert desk.post(f"{at}/plates/0/strokes/remove?shot=0", {"strokes": ["4"]}).status_code == 404
    desk.post(f"{at}/plates/0/strokes/remove?shot=0", {"strokes": ["0"]})
    assert desk.client.get(f"/reels/{followed}/crop/2.png?x=80&y=70&w=60&h=40&view=plate-0-0").data == before
    assert desk.client.get(f"/reels/{followed}/frame/2.jpg?view=plate-0-9&w=160").status_code == 425
    assert desk.client.get(f"/reels/{followed}/frame/2.jpg?view=plate-5-0&w=160", headers={"Accept": "application/json"}).status_code == 422
    assert desk.client.get(f"/reels/{followed}/frame/2.jpg?view=plate-x&w=160").status_code == 400


def test_painting_where_the_plane_stands_still_lands_on_the_frame(desk: Desk, followed: int) -> None:
    """A stroke drawn at a place of the plane lies there in the frame it is drawn in, moved and scaled as the plane is."""
    desk.post(f"/reels/{followed}/steps", {"kind": "retouch"})
    track = edits.shot_of(desk.reel(followed)).recipe.tracks[0]
    stroke = {"frame": 10, "points": [[100, 90], [110, 94]], "size": 12, "across": 20.0, "down": 0.0}
    desk.post(f"/reels/{followed}/steps/0/strokes?shot=0", {"strokes": [stroke], "still": 0})
    laid = desk.client.get(f"/reels/{followed}/steps/0/strokes/10?shot=0").get_json()["strokes"][0]
    assert np.allclose(laid["points"], moved(np.array(stroke["points"], float), track.way(10)), atol=0.02)
    assert abs(laid["size"] - 12) <= 1
    assert desk.post(f"/reels/{followed}/steps/0/strokes?shot=0", {"strokes": [stroke], "still": 4}).status_code == 409
    assert desk.post(f"/reels/{followed}/steps/0/strokes?shot=0", {"strokes": [{"frame": 10}], "still": 0}).status_code == 400
    assert desk.client.get(f"/reels/{followed}/frame/10.jpg?view=still-6&w=160", headers={"Accept": "application/json"}).status_code == 422
