"""Trials from the sheet to the shot: made, looked at, kept, copied, reopened, removed; and what goes wrong on the way."""

from __future__ import annotations

from fractions import Fraction
from pathlib import Path

import cv2
import numpy as np
import pytest

from nimbus_sweep.core.base.errors import SweepError
from nimbus_sweep.core.pipeline.trials import Plan
from nimbus_sweep.demo.flicker import frame_pumping, lit
from nimbus_sweep.jobs.trials import shot_of_trial
from nimbus_sweep.store import edits
from nimbus_sweep.store.models import Task, Trial, database
from tests.conftest import small, write_movie
from tests.web.conftest import Desk

WAYS = {"vary": "0.reach", "values": "3, 5", "as_it_is": False, "others": ["step:frame-blend"]}


@pytest.fixture
def pumping(desk: Desk) -> int:
    """A reel whose exposure is set anew for each frame, with the step for it on."""
    source = small(24, 160, 96, "bunny-near")
    spoiled = source.over(lit(list(source.pictures), frame_pumping(24, 2)))
    reel_id = desk.take_in(write_movie(desk.services.allowed[0] / "pumping.mkv", spoiled, rate=Fraction(24)))
    desk.post(f"/reels/{reel_id}/steps", {"kind": "steady-frame"})
    desk.work()
    return reel_id


def sheet(desk: Desk, reel_id: int, stage: str = "trials") -> str:
    return desk.client.get(f"/reels/{reel_id}/sheet/{stage}").get_data(as_text=True)


def told(desk: Desk, reel_id: int) -> list[dict]:
    return desk.client.get(f"/reels/{reel_id}/state").get_json()["trials"]


def picture(desk: Desk, url: str) -> np.ndarray:
    answer = desk.client.get(url)
    assert answer.status_code == 200, answer.get_json()
    return cv2.imdecode(np.frombuffer(answer.data, np.uint8), cv2.IMREAD_COLOR)


def test_a_trial_is_made_looked_at_and_kept(desk: Desk, pumping: int) -> None:
    made = desk.post(f"/reels/{pumping}/trials", {"frames": 12, "head": 10, **WAYS}).get_json()
    assert made["said"] == "Trial of 12 frames in 3 ways"
    assert "Computing" in sheet(desk, pumping)
    desk.work()
    (trial,) = told(desk, pumping)
    assert (trial["first"], trial["stop"], trial["ready"]) == (4, 16, True)
    assert trial["names"] == ["Steady frame, reach 3", "Steady frame, reach 5", "Frame blend alone"]
    assert trial["figures"][0]["left"] < 0.2 < trial["figures"][2]["left"]
    assert trial["figures"][2]["detail"] < trial["figures"][0]["detail"]
    for words in ("Light left", "Detail kept", "Ghosting", "s a frame", "Keep this one"):
        assert words in sheet(desk, pumping), words
    # Small, exact, and along time, each way is the one that was computed.
    at = trial["id"]
    ways = [picture(desk, f"/reels/{pumping}/frame/8.jpg?view=trial-{at}-{n}&w=160") for n in range(3)]
    exact = [picture(desk, f"/reels/{pumping}/crop/8.png?view=trial-{at}-{n}&x=0&y=0&w=160&h=96") for n in range(3)]
    for small_one, exact_one in zip(ways, exact, strict=True):
        assert np.abs(small_one.astype(int) - exact_one).mean() < 5
    assert np.abs(exact[0].astype(int) - exact[2]).mean() > 1
    source = picture(desk, f"/reels/{pumping}/slice/row/40.jpg?view=source")
    along = picture(desk, f"/reels/{pumping}/slice/row/40.jpg?view=trial-{at}-0")
    outside, inside = (np.abs(along[part].astype(int) - source[part]).mean() for part in (np.s_[16:], np.s_[4:16]))
    assert outside < 0.2 * inside, "outside the trial's frames it is the source, but for how the picture is packed"
    desk.post(f"/reels/{pumping}/trials/{at}/keep/1")
    recipe = edits.shot_of(desk.reel(pumping)).recipe
    assert [s.settings.reach for s in recipe.steps] == [5]
    assert "Trials" in desk.client.get(f"/reels/{pumping}/trials").get_data(as_text=True)
    assert "trials" in desk.client.get(f"/reels/{pumping}/state").get_json()["done"]
    desk.post(f"/reels/{pumping}/undo")
    assert [s.settings.reach for s in edits.shot_of(desk.reel(pumping)).recipe.steps] == [16]
    assert told(desk, pumping)[0]["ready"], "taking back leaves the trial"


def test_what_is_kept_is_copied_to_other_shots_and_reels(desk: Desk, pumping: int) -> None:
    """A sound shot that gets the step too is delivered bit for bit."""
    steady = small(24, 160, 96, "bikes-1")
    other = desk.take_in(write_movie(desk.services.allowed[0] / "steady.mkv", steady))
    desk.post(f"/reels/{other}/cuts", {"at": 11})
    desk.post(f"/reels/{pumping}/trials", {"frames": 12, "head": 0, **WAYS})
    desk.work()
    assert f'value="{other}.{edits.shot_of(desk.reel(other), 1).id}"' in sheet(desk, pumping)
    at = told(desk, pumping)[0]["id"]
    said = desk.post(f"/reels/{pumping}/trials/{at}/keep/0", {"on": [f"{other}.0", f"{other}.1"]}).get_json()["said"]
    assert said == "Steady frame, reach 3: on 3 shots now."
    desk.work()
    shots = edits.shots_of(desk.reel(other))
    assert [s.recipe.steps[0].settings.reach for s in shots] == [3, 3]
    viewing, reel = desk.services.viewing, desk.reel(other)
    for number in (3, 20):
        one, two = (viewing.frame(reel, number, view).planes for view in ("source", "treated"))
        assert all(np.array_equal(a, b) for a, b in zip(one, two, strict=True))


@pytest.mark.parametrize(
    ("asked", "said"),
    [
        ({"frames": 9, "head": 3}, "10 to 60 frames"),
        ({"frames": 12, "head": 3, "as_it_is": True}, "2 to 4 ways"),
        ({"frames": 12, "head": 3, "vary": "0.reach", "values": "3, 3"}, "are the same"),
        ({"frames": 12, "head": 3, "vary": "0.reach", "values": "0, 3"}, "reach"),
        ({"frames": 12, "head": 3, "vary": "7.reach", "values": "3"}, "This step is gone"),
        ({"frames": 12, "head": 3, "vary": "reach", "values": "3"}, "by the number of a step"),
        ({"frames": 12, "head": 3, "others": ["step:polish", "source"]}, "no such way"),
        ({"frames": "many", "head": 3}, "whole number"),
    ],
)
def test_a_trial_that_cannot_be_is_said(desk: Desk, pumping: int, asked: dict, said: str) -> None:
    answer = desk.post(f"/reels/{pumping}/trials", asked)
    assert answer.status_code in (400, 409, 422)
    assert said in answer.get_json()["error"]
    assert told(desk, pumping) == []


def test_short_shots_cut_trials_and_lost_analyses_are_told(desk: Desk, pumping: int) -> None:
    desk.post(f"/reels/{pumping}/trials", {"frames": 12, "head": 12, **WAYS})
    desk.work()
    at = told(desk, pumping)[0]["id"]
    desk.post("/storage/free")
    answer = desk.client.get(f"/reels/{pumping}/crop/8.png?view=trial-{at}-0&x=0&y=0&w=16&h=16", headers={"Accept": "application/json"})
    assert answer.status_code == 425 and "Compute it again" in answer.get_json()["error"]
    assert picture(desk, f"/reels/{pumping}/frame/8.jpg?view=trial-{at}-0&w=160").any(), "the small pictures stay"
    desk.work()
    desk.post(f"/reels/{pumping}/trials/{at}/again")
    desk.work()
    assert picture(desk, f"/reels/{pumping}/crop/8.png?view=trial-{at}-0&x=0&y=0&w=16&h=16").any()
    desk.post(f"/reels/{pumping}/cuts", {"at": 7})
    short = desk.post(f"/reels/{pumping}/trials?shot=0", {"frames": 12, "head": 3, **WAYS})
    assert "This shot has 7 frames" in short.get_json()["error"]
    kept = desk.post(f"/reels/{pumping}/trials/{at}/keep/0")
    assert "do not lie in one shot any more" in kept.get_json()["error"]
    plan = Plan.model_validate(Trial.get_by_id(at).plan)
    with pytest.raises(SweepError, match="cut at"):
        shot_of_trial(desk.reel(pumping), plan)
    desk.post(f"/reels/{pumping}/trials/{at}/again")
    desk.work()
    assert "do not lie in one shot" in sheet(desk, pumping)
    assert desk.post(f"/reels/{pumping}/trials/{at}/remove").status_code == 200
    assert told(desk, pumping) == []
    assert not desk.services.data.trial(pumping, at).exists()
    assert desk.post(f"/reels/{pumping}/trials/{at}/keep/0").status_code == 404


def test_a_trial_can_be_stopped_and_computed_again(desk: Desk, pumping: int) -> None:
    desk.post(f"/reels/{pumping}/trials", {"frames": 12, "head": 12, **WAYS})
    desk.post(f"/reels/{pumping}/trials", {"frames": 14, "head": 12, **WAYS})
    database.connect(reuse_if_open=True)
    first, _ = Task.select().where(Task.kind == "trial").order_by(Task.id)
    desk.post(f"/tasks/{first.id}/cancel")
    desk.work()
    newest, older = told(desk, pumping)
    assert (newest["ready"], older["ready"], older["state"]) == (True, False, "cancelled")
    assert "stopped before it finished" in sheet(desk, pumping)
    desk.post(f"/reels/{pumping}/trials/{older['id']}/again")
    desk.work()
    assert all(t["ready"] for t in told(desk, pumping))


def test_trials_stay_with_their_reel(desk: Desk, pumping: int) -> None:
    desk.post(f"/reels/{pumping}/trials", {"frames": 12, "head": 12, **WAYS})
    desk.work()
    at = told(desk, pumping)[0]["id"]
    other = desk.take_in(write_movie(desk.services.allowed[0] / "other.mkv", small(16)))
    assert desk.client.get(f"/reels/{other}/crop/3.png?view=trial-{at}-0&x=0&y=0&w=8&h=8").status_code == 425
    assert desk.post(f"/reels/{other}/trials/{at}/remove").status_code == 404
    assert desk.client.get(f"/reels/{pumping}/crop/3.png?view=trial-{at}-9&x=0&y=0&w=8&h=8").status_code == 425
    assert desk.client.get(f"/reels/{pumping}/frame/3.jpg?view=trial-x").status_code == 400


def test_the_forms_of_the_light_answer_to_the_settings(desk: Desk, pumping: int, tmp_path: Path) -> None:
    def share(form: str, **asked: object) -> float:
        query = "&".join(f"{k}={v}" for k, v in asked.items())
        answer = desk.client.get(f"/reels/{pumping}/forms/{form}/9.png?{query}")
        assert answer.status_code == 200, answer.get_json()
        return float(cv2.imdecode(np.frombuffer(answer.data, np.uint8), cv2.IMREAD_UNCHANGED)[..., 3].mean() / 255)

    desk.post(f"/reels/{pumping}/survey")
    desk.work()
    assert share("flickering") > 0.8
    assert share("flickering", grain=0.5) == 0, "all of it is called grain"
    assert share("flickering", before=1) < 0.15, "the step has taken it out"
    assert share("untold") < 0.3
    words = sheet(desk, pumping, "treatment")
    for point in ("1. Grain", "2. Bands and patches", "3. Whole frame", "4. Repeats", "The whole frame pumps"):
        assert point in words, point
    assert desk.client.get(f"/reels/{pumping}/forms/moving/9.png?reach=nan").status_code == 400
    assert desk.client.get(f"/reels/{pumping}/forms/moving/99.png").status_code == 404
    desk.post(f"/reels/{pumping}/steps/grain", {"grain": 0.05})
    answer = desk.client.get(f"/reels/{pumping}/forms/moving/9.png?before=1", headers={"Accept": "application/json"})
    assert answer.status_code == 425 and "still being measured" in answer.get_json()["error"]
    assert edits.shot_of(desk.reel(pumping)).recipe.steps[0].settings.grain == 0.05
    assert desk.post(f"/reels/{pumping}/steps/grain", {"grain": 3}).status_code == 400
    desk.post(f"/reels/{pumping}/steps", {"kind": "steady-bands", "grain": 0.02})
    assert edits.shot_of(desk.reel(pumping)).recipe.steps[0].settings.grain == 0.02
