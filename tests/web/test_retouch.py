"""The brush by following the sheet: strokes put on, shown at once, taken off in any order, refused with a reason; cues and grain by hand."""

from __future__ import annotations

from pathlib import Path

import cv2
import numpy as np
import pytest

from benchmarks.material import MemorySource, Planes
from nimbus_sweep.core.media.reader import MovieReader
from nimbus_sweep.core.model.recipes import Recipe, Step
from nimbus_sweep.demo.cues import CueMark, marked
from nimbus_sweep.store.models import Edit, StrokeChange
from nimbus_sweep.store.strokes import for_other_shot
from tests.conftest import small, write_movie
from tests.web.conftest import ASKED, Desk

FRAMES = 12
DAB = {"frame": 4, "points": [[80, 60], [110, 64]], "size": 20, "hardness": 1, "strength": 1, "mode": "copy", "across": 40, "down": 10}


@pytest.fixture
def reel(desk: Desk) -> int:
    """A reel with the brush step on it."""
    number = desk.take_in(write_movie(desk.services.allowed[0] / "hand.mkv", small(FRAMES, 320, 192, "bunny-near")))
    assert desk.post(f"/reels/{number}/steps", {"kind": "retouch"}).status_code == 200
    desk.work()
    return number


def put(desk: Desk, reel: int, *strokes: dict[str, object]) -> list[str]:
    answer = desk.post(f"/reels/{reel}/steps/0/strokes", {"strokes": list(strokes)})
    assert answer.status_code == 200, answer.get_json()
    return answer.get_json()["strokes"]


def seen(desk: Desk, reel: int, frame: int, view: str = "treated") -> np.ndarray:
    data = desk.client.get(f"/reels/{reel}/crop/{frame}.png?view={view}&x=0&y=0&w=320&h=192").get_data()
    return cv2.imdecode(np.frombuffer(data, np.uint8), cv2.IMREAD_COLOR)


def strokes(desk: Desk, reel: int, frame: int) -> dict[str, object]:
    return desk.client.get(f"/reels/{reel}/steps/0/strokes/{frame}").get_json()


def test_a_stroke_is_seen_at_once_and_comes_off_in_any_order(desk: Desk, reel: int) -> None:
    before = seen(desk, reel, 4)
    one, two = put(desk, reel, DAB), put(desk, reel, {**DAB, "points": [[200, 120]], "across": -60})
    assert desk.client.get(f"/reels/{reel}/state").get_json()["treated"], "nothing has to be learned for it"
    both = seen(desk, reel, 4)
    assert (both[58:66, 84:106] != before[58:66, 84:106]).any()
    told = strokes(desk, reel, 4)
    assert [s["name"] for s in told["strokes"]] == [*one, *two]
    assert told["touched"] == [4]
    assert desk.client.get(f"/reels/{reel}/lanes?points={FRAMES}").get_json()["by_hand"][4] == 2
    desk.post(f"/reels/{reel}/steps/0/strokes/remove", {"strokes": one})
    left = seen(desk, reel, 4)
    assert (left[40:90, 60:130] == before[40:90, 60:130]).all()
    assert (left[110:130, 190:210] == both[110:130, 190:210]).all()
    for _ in range(3):
        desk.post(f"/reels/{reel}/undo")
    assert not strokes(desk, reel, 4)["strokes"]
    assert (seen(desk, reel, 4) == before).all()
    desk.post(f"/reels/{reel}/redo")
    assert [s["name"] for s in strokes(desk, reel, 4)["strokes"]] == one
    desk.post(f"/reels/{reel}/steps/0/strokes/remove", {"frame": 4})
    assert not strokes(desk, reel, 4)["strokes"]


def test_a_stroke_costs_no_more_than_itself_to_be_kept(desk: Desk, reel: int) -> None:
    for n in range(12):
        put(desk, reel, *[{**DAB, "points": [[10 + n, 10 + k] for k in range(40)]} for _ in range(20)])
    assert len(strokes(desk, reel, 4)["strokes"]) == 240
    sizes = [len(str(edit.changes)) for edit in Edit.select().order_by(Edit.id.desc()).limit(12)]
    assert max(sizes) < min(sizes) + 60
    assert StrokeChange.select().count() == 12


@pytest.mark.parametrize(
    ("change", "said"),
    [
        ({"lends": 400}, "not in this shot"),
        ({"frame": 99}, "not in this shot"),
        ({"across": 0, "down": 0}, "where the brush takes from"),
        ({"size": 0}, "cannot be"),
        ({"points": []}, "cannot be"),
        ({"mode": "smear"}, "cannot be"),
    ],
)
def test_what_cannot_be_is_refused_with_a_reason(desk: Desk, reel: int, change: dict[str, object], said: str) -> None:
    answer = desk.post(f"/reels/{reel}/steps/0/strokes", {"strokes": [{**DAB, **change}]})
    assert answer.status_code == 400
    assert said in answer.get_json()["error"]
    assert not strokes(desk, reel, 4)["strokes"]


def test_off_the_picture_and_not_there(desk: Desk, reel: int) -> None:
    assert put(desk, reel, {**DAB, "points": [[-900, -900]]}) == []
    for wrong in ([], "x", [DAB] * 401):
        assert desk.post(f"/reels/{reel}/steps/0/strokes", {"strokes": wrong}).status_code == 400
    assert desk.post(f"/reels/{reel}/steps/3/strokes", {"strokes": [DAB]}).status_code == 409
    assert desk.post(f"/reels/{reel}/steps/0/strokes/remove", {"strokes": ["9.9"]}).status_code == 404
    assert desk.post(f"/reels/{reel}/steps/0/strokes/repeat", {"stroke": "9.9", "frames": 2}).status_code == 404


def test_a_stroke_is_repeated_and_the_delivery_has_it(desk: Desk, reel: int) -> None:
    (name,) = put(desk, reel, {**DAB, "lends": 5, "aligned": True, "across": 0, "down": 0})
    assert desk.post(f"/reels/{reel}/steps/0/strokes/repeat", {"stroke": name, "frames": 0}).status_code == 400
    answer = desk.post(f"/reels/{reel}/steps/0/strokes/repeat", {"stroke": name, "frames": 99})
    assert answer.status_code == 200
    told = strokes(desk, reel, 4)
    assert told["touched"] == list(range(4, FRAMES)), "to the end of the shot"
    last = strokes(desk, reel, FRAMES - 1)["strokes"][0]
    assert last["lends"] == FRAMES - 2, "what would lie behind the shot is taken from before"
    desk.post(f"/reels/{reel}/render")
    desk.work()
    out = next(p for p in (desk.services.data.deliveries).rglob("*") if p.suffix in (".mkv", ".mov"))
    delivered, source = MovieReader(out), MovieReader(desk.services.allowed[0] / "hand.mkv")
    changed = [n for n in range(FRAMES) if (delivered.frame(n).planes[0] != source.frame(n).planes[0]).any()]
    assert set(changed) <= set(range(4, FRAMES))
    assert len(changed) >= 4


def test_a_recipe_carries_the_strokes_to_another_reel(desk: Desk, reel: int) -> None:
    put(desk, reel, DAB, {**DAB, "frame": 6})
    wanted = seen(desk, reel, 4)
    recipe = desk.client.get(f"/reels/{reel}/recipe.json").get_json()
    assert len(recipe["steps"][0]["settings"]["strokes"]) == 2
    assert recipe["steps"][0]["settings"]["book"] == 0
    assert Recipe.model_validate(recipe).steps[0].kind == "retouch"
    other = desk.take_in(write_movie(desk.services.allowed[0] / "other.mkv", small(FRAMES, 320, 192, "bunny-near")))
    assert desk.post(f"/reels/{other}/recipe", recipe).status_code == 200
    desk.work()
    assert strokes(desk, other, 4)["touched"] == [4, 6]
    assert (seen(desk, other, 4) == wanted).all()
    recipe["steps"][0]["settings"] = {"strokes": [], "book": 1}
    desk.post(f"/reels/{other}/recipe", recipe)
    assert not strokes(desk, other, 4)["strokes"], "a book named from outside is none of this place's"


def test_strokes_stay_with_their_shot_and_are_in_its_trials(desk: Desk, reel: int) -> None:
    put(desk, reel, DAB)
    own = Recipe(steps=(Step(kind="retouch", settings={"book": 7}),))
    put_on = for_other_shot(
        Recipe(steps=(Step(kind="pixel-mend"), Step(kind="retouch", settings={"book": 3}), Step(kind="match-grain"))), own
    )
    assert [(s.kind, getattr(s.settings, "book", None)) for s in put_on.steps] == [
        ("pixel-mend", None),
        ("retouch", 7),
        ("lend-grain", None),
    ]
    answer = desk.post(f"/reels/{reel}/trials", {"frames": 10, "head": 4, "as_it_is": True, "others": ["source"]})
    assert answer.status_code == 200, answer.get_json()
    desk.work()
    trial = answer.get_json()["trial"]
    names = desk.client.get(f"/reels/{reel}/state").get_json()["trials"][0]["names"]
    way = names.index("The treatment as it is")
    assert (seen(desk, reel, 4, f"trial-{trial}-{way}") == seen(desk, reel, 4)).all()
    assert (seen(desk, reel, 4) != seen(desk, reel, 4, "source")).any()


def test_the_source_is_shown_and_black_where_it_matches(desk: Desk, reel: int) -> None:
    url = f"/reels/{reel}/steps/0/source/4.png?x=32&y=32&w=96&h=64"

    def picture(more: str) -> np.ndarray:
        answer = desk.client.get(url + more)
        assert answer.status_code == 200
        return cv2.imdecode(np.frombuffer(answer.get_data(), np.uint8), cv2.IMREAD_COLOR)

    own = seen(desk, reel, 4, "source")
    assert (picture("&across=20&down=4") == own[36:100, 52:148]).all()
    assert picture("&lends=5&show=match").mean() < 0.6 * picture("&lends=5&aligned=0&across=12&show=match").mean()
    assert (picture("&mode=original") == own[32:96, 32:128]).all()
    assert desk.client.get(url + "&lends=77", headers=ASKED).status_code == 400
    sheet = desk.client.get(f"/reels/{reel}/sheet/treatment").get_data(as_text=True)
    for words in ("Take the brush", "Reveal", "Repeat along motion", "Onion"):
        assert words in sheet


# -- cue marks and grain -------------------------------------------------------------------------------------


def _marked(sound: MemorySource) -> list[Planes]:
    return marked(list(sound.pictures), [CueMark(5, 9, 290.0, 24.0, 10.0, 8.0, (230.0, 0.0, 0.0))])  # type: ignore[return-value]


def test_a_cue_mark_drawn_in_one_frame_is_lifted_from_all_and_nudged(desk: Desk, tmp_path: Path) -> None:
    sound = small(16, 320, 192, "bunny-near")
    number = desk.take_in(write_movie(desk.services.allowed[0] / "cue.mkv", sound.over(_marked(sound))))
    shape = {"kind": "ellipse", "x": 290, "y": 24, "across": 15, "down": 13}
    answer = desk.post(f"/reels/{number}/findings/cue-mark/outline", {"shape": shape, "frame": 7})
    assert answer.status_code == 200
    assert desk.post(f"/reels/{number}/findings/cue-mark/outline", {"shape": shape, "frame": 70}).status_code == 400
    desk.post(f"/reels/{number}/steps", {"kind": "cue-lift"})
    desk.work()
    sheet = desk.client.get(f"/reels/{number}/sheet/treatment").get_data(as_text=True)
    assert "Removes <b>1</b> of" in sheet
    for n in (5, 6, 7, 8):
        left = np.abs(
            seen(desk, number, n)[16:33, 282:299].astype(int) - cv2.cvtColor(sound.pictures[n][0][16:33, 282:299], cv2.COLOR_GRAY2BGR)
        )
        assert left[..., 1].mean() < 30
    assert (seen(desk, number, 4) == seen(desk, number, 4, "source")).all()
    told = desk.client.get(f"/reels/{number}/steps/0/match/7").get_json()
    assert told["marked"]
    assert told["picture"].startswith("data:image/png")
    assert "They are in frames 5, 6, 7, 8" in desk.client.get(f"/reels/{number}/steps/0/match/2").get_json()["said"]
    assert desk.post(f"/reels/{number}/steps/0/nudge", {"frame": 7, "across": 1.0, "down": 0}).status_code == 200
    assert desk.post(f"/reels/{number}/steps/0/nudge", {"frame": 7, "across": 900, "down": 0}).status_code == 400
    desk.work()
    assert "Nudged by +1.00" in desk.client.get(f"/reels/{number}/steps/0/match/7").get_json()["said"]
    desk.post(f"/reels/{number}/steps/0/nudge", {"frame": 7, "across": None})
    desk.work()
    assert "Nudged" not in desk.client.get(f"/reels/{number}/steps/0/match/7").get_json()["said"]


def test_grain_is_charted_and_taken_from_a_place(desk: Desk, reel: int) -> None:
    chart = desk.client.get(f"/reels/{reel}/grain").get_data(as_text=True)
    assert chart.count("<polyline") == 3
    assert desk.post(f"/reels/{reel}/steps", {"kind": "lend-grain"}).status_code == 200
    assert desk.post(f"/reels/{reel}/steps/1/grain", {"x": 200, "y": 60, "frame": 3}).status_code == 200
    for wrong in ({"of": "7"}, {"x": 2, "y": 2, "frame": 300}, {"x": 2, "frame": 3}):
        assert desk.post(f"/reels/{reel}/steps/1/grain", wrong).status_code in (400, 409)
    desk.work()
    sheet = desk.client.get(f"/reels/{reel}/sheet/treatment").get_data(as_text=True)
    assert "the place at x 200 y 60, frame 3" in sheet
    assert "Bold: wanted" in sheet


def test_things_that_cross_and_burns_by_following_the_sheets(desk: Desk) -> None:
    sound = small(16, 320, 192, "bunny-near")
    still = sound.over([sound.pictures[0]] * 16)
    birds = [tuple(p.copy() for p in t) for t in still.pictures]
    for n in range(3, 13):
        cv2.circle(birds[n][0], (10 + 26 * (n - 3), 40), 5, 20, -1)
    number = desk.take_in(write_movie(desk.services.allowed[0] / "birds.mkv", still.over(birds)))
    desk.post(f"/reels/{number}/steps", {"kind": "fleeting"})
    desk.post(f"/reels/{number}/steps/0/settings", {"first": 3, "stop": 13})
    desk.work()
    sheet = desk.client.get(f"/reels/{number}/sheet/treatment").get_data(as_text=True)
    assert "Frames 3 to 12" in sheet
    assert "Something passed in" in sheet
    mended = seen(desk, number, 6).astype(int)
    assert np.abs(mended - seen(desk, number, 0).astype(int)).max() <= 6
    desk.post(f"/reels/{number}/steps", {"kind": "borrow-fill"})
    assert "Go to the first damaged frame" in desk.client.get(f"/reels/{number}/sheet/treatment").get_data(as_text=True)
