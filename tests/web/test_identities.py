"""Changes that meet: each names what it means by its number and the revision it was made on, and none is lost without a word."""

from __future__ import annotations

from concurrent.futures import ThreadPoolExecutor
from threading import Barrier

import pytest
from flask.testing import FlaskClient

from nimbus_sweep.core.defects.static_shade.evidence import ShadeEvidence
from nimbus_sweep.core.defects.stuck_pixels.evidence import StuckPixelEvidence
from nimbus_sweep.core.model.findings import Evidence, Finding, JudgedFinding, Surveyed
from nimbus_sweep.core.model.recipes import Recipe, Step
from nimbus_sweep.core.model.shots import Shot, add_cut, remove_cut
from nimbus_sweep.jobs.surveys import landed
from nimbus_sweep.store import edits
from nimbus_sweep.store.facts import StoredFacts
from nimbus_sweep.store.models import Edit, Reel, database
from tests.web.conftest import ASKED, Desk

PAIRS = 40


def found(x: int, first: int = 0, stop: int = 48, kind: str = "stuck-pixel", confidence: float = 0.9, side: int = 1) -> JudgedFinding:
    told: Evidence = StuckPixelEvidence(seen=9) if kind == "stuck-pixel" else ShadeEvidence()
    step = "pixel-mend" if kind == "stuck-pixel" else "unshade"
    place = {"x": x, "y": 7, "width": side, "height": side, "first": first, "stop": stop}
    return JudgedFinding.of(Finding(kind=kind, step=step, **place, confidence=confidence, evidence=told))


@pytest.fixture
def reel(desk: Desk) -> Reel:
    """A reel of 48 frames with a hundred findings, read as far as the pages need."""
    database.connect(reuse_if_open=True)
    facts = StoredFacts(frames=48, width=640, height=360)
    made = Reel.create(job=desk.job, title="Reel 01", path="/none", frames=48, state="ready", facts=facts)
    edits.begin_with(made, "Survey", (Shot(first=0, stop=48, findings=tuple(found(3 * n) for n in range(2 * PAIRS))),))
    database.close()
    return made


class Tab:
    """A page that was opened, and knows what was there then."""

    def __init__(self, desk: Desk, reel: Reel, name: str) -> None:
        self.reel = reel
        self.client = FlaskClient(desk.client.application, use_cookies=False)
        database.connect(reuse_if_open=True)
        self.headers = {**ASKED, "X-Page": name, "X-Revision": edits.revision(reel)}
        self.shots = edits.shots_of(reel)
        database.close()

    def post(self, what: str, body: object = None) -> tuple[int, dict]:
        answer = self.client.post(f"/reels/{self.reel.id}/{what}", json=body or {}, headers=self.headers)
        return answer.status_code, answer.get_json()


def at_once(one: Tab, other: Tab, asked: str, too: str) -> list[tuple[int, dict]]:
    gate = Barrier(2)

    def send(tab: Tab, what: str) -> tuple[int, dict]:
        gate.wait()
        return tab.post(what)

    with ThreadPoolExecutor(2) as both:
        sent = [both.submit(send, one, asked), both.submit(send, other, too)]
        return [s.result() for s in sent]


def states(reel: Reel) -> dict[int, str]:
    database.connect(reuse_if_open=True)
    told = {f.id: f.state for f in edits.shot_of(reel).findings}
    database.close()
    return told


def test_of_two_changes_sent_at_once_none_is_lost(desk: Desk, reel: Reel) -> None:
    for n in range(PAIRS):
        one, other = Tab(desk, reel, f"one {n}"), Tab(desk, reel, f"other {n}")
        mine, theirs = one.shots[0].findings[2 * n].id, one.shots[0].findings[2 * n + 1].id
        answers = at_once(one, other, f"findings/{mine}/dismissed", f"findings/{theirs}/dismissed")
        assert [status for status, _ in answers] == [200, 200]
        assert states(reel)[mine] == states(reel)[theirs] == "dismissed"


def test_of_two_changes_to_one_thing_the_later_is_refused_in_words(desk: Desk, reel: Reel) -> None:
    for n in range(PAIRS):
        one, other = Tab(desk, reel, f"one {n}"), Tab(desk, reel, f"other {n}")
        mine = one.shots[0].findings[n].id
        answers = at_once(one, other, f"findings/{mine}/dismissed", f"findings/{mine}/doubtful")
        assert sorted(status for status, _ in answers) == [200, 409]
        (said,) = [told["error"] for status, told in answers if status == 409]
        assert "Meanwhile" in said
        assert states(reel)[mine] == next(told["said"] for status, told in answers if status == 200)


def test_a_page_meets_its_own_changes_without_a_word(desk: Desk, reel: Reel) -> None:
    tab = Tab(desk, reel, "one")
    mine = tab.shots[0].findings[0].id
    assert [tab.post(f"findings/{mine}/{state}")[0] for state in ("dismissed", "doubtful", "kept")] == [200, 200, 200]
    assert tab.post("undo")[0] == 200


def test_a_stale_page_takes_off_no_other_step(desk: Desk, reel: Reel) -> None:
    assert [Tab(desk, reel, "first").post("steps", {"kind": kind})[0] for kind in ("pixel-mend", "unshade", "reframe")] == [200] * 3
    stale, other = Tab(desk, reel, "stale"), Tab(desk, reel, "other")
    first, second, last = (s.id for s in stale.shots[0].recipe.steps)
    assert other.post(f"steps/{first}/remove")[0] == 200
    assert stale.post(f"steps/{second}/switch")[0] == 200, "what it means is there still, at another place"
    status, told = stale.post(f"steps/{first}/remove")
    assert (status, "gone" in told["error"]) == (409, True)
    steps = {s.id: s for s in edits.shot_of(reel).recipe.steps}
    assert set(steps) == {second, last}
    assert not steps[second].on


def test_undo_takes_nothing_back_that_the_page_has_not_shown(desk: Desk, reel: Reel) -> None:
    stale, other = Tab(desk, reel, "stale"), Tab(desk, reel, "other")
    number = stale.shots[0].findings[0].id
    assert other.post(f"findings/{number}/dismissed")[0] == 200
    status, told = stale.post("undo")
    assert (status, "Dismissed" in told["error"]) == (409, True)
    assert states(reel)[number] == "dismissed"
    assert Tab(desk, reel, "fresh").post("undo")[0] == 200


def test_a_change_to_a_shot_whose_cut_was_taken_out_is_refused(desk: Desk, reel: Reel) -> None:
    assert Tab(desk, reel, "first").post("cuts", {"at": 24})[0] == 200
    stale, other = Tab(desk, reel, "stale"), Tab(desk, reel, "other")
    behind = stale.shots[1]
    assert other.post("cuts/24/remove")[0] == 200
    status, told = stale.post(f"shot?shot={behind.id}", {"name": "The mast"})
    assert (status, "cuts were changed" in told["error"]) == (409, True)
    # The same place of the list is another shot by now.
    status, _ = stale.post(f"findings/{behind.findings[0].id}/dismissed?shot={behind.id}")
    assert status == 409
    assert {f.state for f in edits.shot_of(reel).findings} == {"kept"}


def test_a_change_that_is_refused_leaves_nothing(desk: Desk, reel: Reel) -> None:
    one, other = Tab(desk, reel, "one"), Tab(desk, reel, "other")
    assert one.post("steps", {"kind": "pixel-mend"})[0] == 200
    step = Tab(desk, reel, "later").shots[0].recipe.steps[0].id
    late = Tab(desk, reel, "late")
    assert one.post(f"steps/{step}/settings", {"sure": 0.8})[0] == 200
    before, held = edits.revision(reel), Edit.select().count()
    assert late.post(f"steps/{step}/settings", {"sure": 0.9})[0] == 409
    assert (edits.revision(reel), Edit.select().count()) == (before, held)
    assert edits.shot_of(reel).recipe.steps[0].settings.sure == 0.8
    assert other.post("confirm-nothing")[0] == 404


# -- surveys that land on what was changed meanwhile ----------------------------------------------------------


def told(*findings: JudgedFinding) -> Surveyed:
    return Surveyed([f.finding for f in findings])


def test_a_survey_of_a_shot_that_was_cut_lands_on_its_parts(desk: Desk, reel: Reel) -> None:
    database.connect(reuse_if_open=True)
    edits.begin_with(reel, "Intake", (Shot(first=0, stop=48),))
    surveyed = edits.shot_of(reel)
    edits.change(reel, "Cut", lambda now: add_cut(now, 24))
    edits.change(reel, "Survey", lambda now: landed(now, surveyed, told(found(5), found(9, 30, 40), found(13, 2, 20)), 1.0))
    one, other = edits.shots_of(reel)
    assert [(f.x, f.first, f.stop) for f in one.findings] == [(5, 0, 24), (13, 2, 20)]
    assert [(f.x, f.first, f.stop) for f in other.findings] == [(5, 24, 48), (9, 30, 40)]
    assert (one.surveyed, other.surveyed) == (1.0, 1.0)


def test_a_survey_of_a_shot_that_was_joined_leaves_the_rest_to_be_surveyed(desk: Desk, reel: Reel) -> None:
    database.connect(reuse_if_open=True)
    edits.begin_with(reel, "Intake", add_cut((Shot(first=0, stop=48, findings=(found(50, 30, 40),)),), 24))
    surveyed = edits.shot_of(reel)
    edits.change(reel, "Cut taken out", lambda now: remove_cut(now, 24))
    edits.change(reel, "Survey", lambda now: landed(now, surveyed, told(found(5, 0, 24)), 1.0))
    (joined,) = edits.shots_of(reel)
    assert sorted(f.x for f in joined.findings) == [5, 50]
    assert joined.surveyed is None


def test_a_second_survey_keeps_what_was_decided(desk: Desk, reel: Reel) -> None:
    database.connect(reuse_if_open=True)
    chosen = found(5, confidence=0.4).with_(state="kept", chosen=True)
    mended = found(60, kind="static-shade", side=12)
    mended = mended.with_(evidence=mended.evidence.model_copy(update={"mended_by": "surround"}))
    doubted, gone = found(100).with_(state="doubtful"), found(130).with_(state="dismissed")
    lone = found(200, confidence=0.3).with_(state="kept", chosen=True)
    edits.begin_with(reel, "Survey", (Shot(first=0, stop=48, findings=(chosen, mended, doubted, gone, lone)),))
    before = edits.shot_of(reel)
    again = told(found(5, confidence=0.5), found(61, kind="static-shade", side=12), found(100), found(130), found(300))
    edits.change(reel, "Survey", lambda now: landed(now, before, again, 1.0))
    after = {f.x: f for f in edits.shot_of(reel).findings}
    assert (after[5].state, after[5].chosen, after[5].confidence) == ("kept", True, 0.5)
    assert after[61].evidence.mended_by == "surround"
    assert (after[100].state, after[130].state) == ("doubtful", "dismissed")
    assert (after[200].state, after[200].chosen) == ("kept", True), "kept by hand, though it was not found again"
    assert after[300].state == "kept"
    assert [after[x].id for x in (5, 61, 100, 130, 200)] == [f.id for f in before.findings]


def test_what_is_changed_while_a_survey_runs_stays(desk: Desk, reel: Reel) -> None:
    database.connect(reuse_if_open=True)
    edits.begin_with(reel, "Survey", (Shot(first=0, stop=48, findings=(found(5), found(9)), recipe=Recipe()),))
    surveyed = edits.shot_of(reel)
    database.close()
    page = Tab(desk, reel, "one")
    assert page.post(f"findings/{surveyed.findings[0].id}/dismissed")[0] == 200
    assert page.post("steps", {"kind": "pixel-mend"})[0] == 200
    edits.change(reel, "Survey", lambda now: landed(now, surveyed, told(found(5), found(9)), 1.0))
    shot = edits.shot_of(reel)
    assert [f.state for f in shot.findings] == ["dismissed", "kept"]
    assert [s.kind for s in shot.recipe.steps] == ["pixel-mend"]
    assert isinstance(shot.recipe.steps[0], Step)
