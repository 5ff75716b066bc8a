"""The whole job unattended, and the list of what needs eyes: decided, taken back, waved through, delivered."""

from __future__ import annotations

import hashlib
from pathlib import Path
from typing import Any

import pytest

from nimbus_sweep.core.base.errors import DiskFull
from nimbus_sweep.core.defects.stuck_pixels.evidence import StuckPixelEvidence
from nimbus_sweep.core.media.opening import open_reel
from nimbus_sweep.core.model.findings import Finding, JudgedFinding
from nimbus_sweep.core.model.recipes import Recipe, Step
from nimbus_sweep.core.model.shots import add_cut
from nimbus_sweep.core.pipeline.likes import apart, like
from nimbus_sweep.jobs import eyes, runs
from nimbus_sweep.jobs.tasks import CheckDone, RunDone, result_of
from nimbus_sweep.store import edits
from nimbus_sweep.store.models import Eye, Job, Reel, Run, SavedRecipe, Task, database
from tests.conftest import SITES, small, write_movie
from tests.web.conftest import Desk


@pytest.fixture
def two(desk: Desk, reel: Path) -> Job:
    """A job of a reel with stuck pixels and a sound one, neither taken in yet."""
    database.connect(reuse_if_open=True)
    sound = write_movie(desk.services.allowed[0] / "sound.mkv", small(30, name="bikes-1"))
    for path, title in ((reel, "Spoiled"), (sound, "Sound")):
        Reel.create(job=desk.job, title=title, path=str(path), frames=30)
    return desk.job


@pytest.fixture
def unchecked(monkeypatch: pytest.MonkeyPatch) -> None:
    """What is not about checks goes without: each surveys once more."""
    monkeypatch.setattr(runs, "do_check", lambda *_: CheckDone(shots=()))


def run_all(desk: Desk, job: Job, **body: Any) -> dict[str, Any]:
    answer = desk.post(f"/jobs/{job.id}/run", body)
    assert answer.status_code == 200, answer.text
    desk.work()
    database.connect(reuse_if_open=True)
    listed: dict[str, Any] = desk.client.get(f"/jobs/{job.id}/eyes/list").get_json()
    return listed


def frames_of(path: Path) -> str:
    told = hashlib.sha256()
    source = open_reel(path)
    for frame in source.frames(0, len(source)):
        for plane in frame.planes:
            told.update(plane.tobytes())
    return told.hexdigest()


def test_a_job_is_run_and_sound_reels_come_back_bit_for_bit(desk: Desk, two: Job) -> None:
    listed = run_all(desk, two, kind="ffv1")
    assert not listed["running"]
    spoiled, sound = Reel.select().order_by(Reel.id)
    assert {t.state for t in Task.select()} == {"done"}
    assert {(f.x, f.y) for f in edits.kept(edits.shot_of(spoiled))} == {(s.x, s.y) for s in SITES}
    assert [s.kind for s in edits.shot_of(spoiled).recipe.steps] == ["pixel-mend"]
    assert edits.current(spoiled).what == "The run's treatment"
    assert not edits.shot_of(sound).treated
    made = {t.reel_id: result_of(t, RunDone) for t in Task.select().where(Task.kind == "run")}
    assert made[sound.id].treated == 0 and made[spoiled.id].treated == 1
    data = desk.services.data
    assert frames_of(data.root / made[sound.id].delivered[0]) == frames_of(Path(sound.path))
    assert frames_of(data.root / made[spoiled.id].delivered[0]) != frames_of(Path(spoiled.path))
    rack = desk.client.get("/").text
    assert "Run over 2 reels." in rack
    assert "sound" in desk.client.get(f"/jobs/{two.id}/eyes").text
    assert not any(data.works(t.id).exists() for t in Task.select())


def doubtful(reel: Reel, *places: tuple[int, int]) -> list[int]:
    """Have the survey doubt what it finds at some places; gives the numbers of the findings."""

    def unsure(one: JudgedFinding) -> JudgedFinding:
        return one.with_(state="doubtful", confidence=0.5) if (one.x, one.y) in places else one

    edits.change_shot(reel, "doubts", 0, lambda s: s.with_(findings=tuple(unsure(f) for f in s.findings), recipe=Recipe()))
    return [f.id for f in edits.shot_of(reel).findings if f.state == "doubtful"]


@pytest.fixture
def listed(desk: Desk, two: Job, monkeypatch: pytest.MonkeyPatch) -> list[dict[str, Any]]:
    """The list of a job in which two pixels are doubtful, all of it shown."""
    monkeypatch.setattr(eyes, "_SHOWN", 20)
    spoiled = Reel.get(Reel.title == "Spoiled")
    desk.services.queue.put("intake", spoiled)
    desk.work()
    desk.post(f"/reels/{spoiled.id}/survey", {})
    desk.work()
    database.connect(reuse_if_open=True)
    doubtful(Reel.get_by_id(spoiled.id), *((s.x, s.y) for s in SITES[::2]))
    found = run_all(desk, two)["entries"]
    mine = [(s.x, s.y) for s in SITES[::2]]
    entries: list[dict[str, Any]] = [e for e in found if e["kind"] == "doubtful" and tuple(e["box"][:2]) in mine]
    return entries


def states(reel_id: int = 1) -> list[str]:
    database.connect(reuse_if_open=True)
    return [f.state for f in edits.shot_of(Reel.get_by_id(reel_id)).findings]


@pytest.mark.usefixtures("unchecked")
def test_what_is_not_sure_is_listed_shown_mended_and_decided(desk: Desk, two: Job, listed: list[dict[str, Any]]) -> None:
    assert len(listed) == 2
    first, doubted = listed[0], states().count("doubtful")
    assert first["heading"].endswith("?") and first["accept"] == "Mend it" and first["like"] >= 1
    x, y, w, h = first["box"]
    crop = f"/reels/1/crop/{first['frame']}.png?x={x}&y={y}&w={w}&h={h}&stays=1&view="
    source, mended = (desk.client.get(crop + view) for view in ("source", "doubtful"))
    assert source.status_code == mended.status_code == 200
    assert source.data != mended.data, "before it is decided the list shows what mending it would do"
    assert desk.client.get(crop + "treated").data == source.data
    answer = desk.post(f"/eyes/{first['id']}/accepted").get_json()
    assert answer["said"] == "Mended."
    assert first["id"] not in [e["id"] for e in answer["entries"]]
    assert states().count("doubtful") == doubted - 1
    kept = edits.shot_of(Reel.get_by_id(1))
    assert any(f.chosen and (f.x, f.y) == (x, y) for f in kept.findings)
    assert desk.post(f"/eyes/{listed[1]['id']}/left").get_json()["said"] == "Left alone."
    assert states().count("dismissed") == 1 and states().count("doubtful") == doubted - 2
    assert edits.current(Reel.get_by_id(1)).what == "Left alone 1 from the list"


@pytest.mark.usefixtures("unchecked")
def test_a_decision_is_put_on_its_like_and_taken_back_in_one_step(desk: Desk, two: Job, listed: list[dict[str, Any]]) -> None:
    before = states()
    many = listed[0]["like"]
    assert many >= 1
    assert desk.post(f"/eyes/{listed[0]['id']}/left", {"like": True}).get_json()["said"] == f"Left alone, and {many} like it."
    assert states().count("dismissed") == many + 1
    answer = desk.post(f"/jobs/{two.id}/eyes/undo").get_json()
    assert answer["said"] == f"Taken back: the decision on {many + 1}."
    assert states() == before
    assert {e["id"] for e in answer["entries"]} >= {e["id"] for e in listed}
    assert desk.post(f"/jobs/{two.id}/eyes/undo").get_json()["said"] == "There is nothing to take back."
    desk.post(f"/eyes/{listed[0]['id']}/accepted")
    desk.post("/reels/1/steps?shot=0", {"kind": "frame-blend"})
    refused = desk.post(f"/jobs/{two.id}/eyes/undo")
    assert refused.status_code == 409
    assert "Spoiled was changed since" in refused.get_json()["error"]


@pytest.mark.usefixtures("unchecked")
def test_what_two_decide_at_once_is_refused_to_the_second(desk: Desk, listed: list[dict[str, Any]]) -> None:
    assert desk.post(f"/eyes/{listed[0]['id']}/accepted").status_code == 200
    again = desk.post(f"/eyes/{listed[0]['id']}/left")
    assert again.status_code == 409
    assert "Somebody decided on this" in again.get_json()["error"]
    desk.post("/reels/1/survey", {})
    database.connect(reuse_if_open=True)
    edits.change_shot(Reel.get_by_id(1), "gone", 0, lambda s: s.with_(findings=()))
    assert "surveyed anew" in desk.post(f"/eyes/{listed[1]['id']}/left").get_json()["error"]


@pytest.mark.usefixtures("unchecked")
def test_a_job_is_delivered_when_its_list_is_empty_or_waved_through_by_name(desk: Desk, two: Job, listed: list[dict[str, Any]]) -> None:
    refused = desk.post(f"/jobs/{two.id}/deliver", {"kind": "ffv1"})
    assert refused.status_code == 422
    assert "need eyes yet" in refused.get_json()["error"]
    desk.post(f"/eyes/{listed[0]['id']}/remark", {"remark": "  ask the archive "})
    assert Eye.get_by_id(listed[0]["id"]).remark == "ask the archive"
    desk.services.user = "Maren Holt"
    assert desk.post(f"/jobs/{two.id}/eyes/wave").get_json()["open"] == 0
    assert "waved through by Maren Holt" in desk.client.get(f"/jobs/{two.id}/eyes/done").text
    assert desk.post(f"/jobs/{two.id}/deliver", {"kind": "ffv1"}).get_json()["said"] == "Delivering 2 reels, with papers."
    desk.work()
    database.connect(reuse_if_open=True)
    for kind in ("render", "inspection", "papers", "finish"):
        assert [t.state for t in Task.select().where(Task.kind == kind)] == ["done", "done"], kind
    assert desk.client.get(f"/jobs/{two.id}/eyes/done").text.count(">yes<") == 2


@pytest.mark.usefixtures("unchecked")
def test_a_reel_that_fails_stands_on_the_list_and_the_others_go_on(desk: Desk, two: Job) -> None:
    broken = desk.services.allowed[0] / "broken.mkv"
    broken.write_bytes(b"no movie at all" * 100)
    Reel.create(job=two, title="Broken", path=str(broken))
    listed = run_all(desk, two)
    assert [t.state for t in Task.select().where(Task.kind == "run").order_by(Task.id)] == ["done", "done", "failed"]
    first = listed["entries"][0]
    assert first["kind"] == "failed" and first["title"] == "Broken", "worst first"
    assert first["accept"] == "Try it again"
    assert Reel.get(Reel.title == "Broken").state == "refused"
    assert "1 failed" in desk.client.get("/").text
    broken.write_bytes(Path(Reel.get(Reel.title == "Sound").path).read_bytes())
    assert desk.post(f"/eyes/{first['id']}/accepted").get_json()["said"] == "Tried again."
    desk.work()
    database.connect(reuse_if_open=True)
    assert Reel.get(Reel.title == "Broken").state == "ready"
    assert Task.select().where(Task.kind == "run").order_by(Task.id.desc()).first().state == "done"


@pytest.mark.usefixtures("unchecked")
def test_a_run_waits_goes_on_is_put_in_another_order_and_stopped(desk: Desk, two: Job) -> None:
    desk.post(f"/jobs/{two.id}/run", {})
    assert desk.post(f"/jobs/{two.id}/run", {}).get_json()["error"].startswith("This job is being run already")
    first, second = (t for _, t in runs.reels_of(Run.get()))
    assert runs.next_one() == first.id
    assert desk.post(f"/reels/{second.reel_id}/run/earlier").status_code == 200
    assert runs.next_one() == second.id
    assert desk.post(f"/reels/{second.reel_id}/run/earlier").status_code == 409
    assert "Run Sound later" in desk.client.get("/").text
    assert desk.post(f"/jobs/{two.id}/run/pause").get_json()["said"] == "Paused."
    assert runs.next_one() is None
    assert "paused" in desk.client.get("/rack/list").text
    desk.work()
    database.connect(reuse_if_open=True)
    assert {t.state for t in Task.select().where(Task.kind == "run")} == {"waiting"}, "one that is begun while it is held is put back"
    desk.post(f"/jobs/{two.id}/run/resume")
    assert runs.next_one() == second.id
    desk.post(f"/jobs/{two.id}/run/stop")
    assert {t.state for t in Task.select().where(Task.kind == "run")} == {"cancelled"}
    standing = runs.standing(two)
    assert standing is not None and not standing.under_way


@pytest.mark.usefixtures("unchecked")
def test_a_full_disk_overnight_holds_the_run_and_says_so(desk: Desk, two: Job, monkeypatch: pytest.MonkeyPatch) -> None:
    def full(*_: object) -> None:
        raise DiskFull("The disk is full: nothing could be written.")

    with monkeypatch.context() as patched:
        patched.setattr(runs, "do_survey", full)
        run_all(desk, two)
    run = Run.get()
    assert run.paused and "disk is full" in run.said
    assert {t.state for t in Task.select().where(Task.kind == "run")} == {"waiting"}
    assert "The disk is full" in desk.client.get("/").text
    desk.post(f"/jobs/{two.id}/run/resume")
    desk.work()
    database.connect(reuse_if_open=True)
    assert {t.state for t in Task.select().where(Task.kind == "run")} == {"done"}


def test_a_run_that_is_interrupted_goes_on_where_it_was(desk: Desk, two: Job, monkeypatch: pytest.MonkeyPatch) -> None:
    def lost(*_: object) -> None:
        raise KeyboardInterrupt

    monkeypatch.setattr(runs, "do_check", lost)
    desk.post(f"/jobs/{two.id}/run", {})
    with pytest.raises(KeyboardInterrupt):
        desk.work()
    database.connect(reuse_if_open=True)
    monkeypatch.undo()
    Task.update(state="running").where(Task.kind == "check").execute()
    surveyed = Task.select().where(Task.kind == "survey").count()
    desk.services.queue.resume()
    assert {t.state for t in Task.select().where(Task.kind == "check")} == {"cancelled"}
    desk.work()
    database.connect(reuse_if_open=True)
    assert {t.state for t in Task.select().where(Task.kind == "run")} == {"done"}
    assert Task.select().where(Task.kind == "survey", Task.reel == 1).count() == surveyed == 1, "what was done is not done again"


@pytest.mark.usefixtures("unchecked")
def test_recipes_that_fit_are_put_on_and_others_are_said(desk: Desk, two: Job) -> None:
    recipe = Recipe(name="Blend", steps=(Step(kind="frame-blend"),))
    saved = SavedRecipe.create(name="Blend", recipe=recipe.model_dump(mode="json"))
    other = recipe.model_copy(update={"name": "Other", "size": (99, 55)})
    wrong = SavedRecipe.create(name="Other", recipe=other.model_dump(mode="json"))
    listed = run_all(desk, two, recipe=wrong.id)
    assert [e["kind"] for e in listed["entries"][:2]] == ["failed", "failed"]
    assert "drawn on 99 x 55" in listed["entries"][0]["reason"]
    run_all(desk, two, recipe=saved.id)
    assert [s.kind for s in edits.shot_of(Reel.get_by_id(1)).recipe.steps] == ["frame-blend"]
    assert desk.post(f"/jobs/{two.id}/run", {"recipe": 99}).status_code == 409


@pytest.mark.usefixtures("unchecked")
def test_a_reel_shows_its_worst_three_and_those_like_them_are_decided_along(desk: Desk, two: Job) -> None:
    run_all(desk, two)
    reel = Reel.get_by_id(1)
    places = [(s.x, s.y) for s in SITES]
    doubtful(reel, *places)
    eyes.look_over(Reel.get_by_id(1))
    every = list(Eye.select().where(Eye.reel == 1, Eye.state == "open").order_by(Eye.score.desc()))
    shown = [e for e in every if e.shown]
    assert len(shown) == 3 < len(every)
    families = [e.family for e in shown]
    assert len(set(families)) == min(3, len({e.family for e in every})), "what is unlike comes before more of the same"
    hidden = next(e for e in every if not e.shown and e.family in families)
    first = next(e for e in shown if e.family == hidden.family)
    desk.post(f"/eyes/{first.id}/left", {"like": True})
    database.connect(reuse_if_open=True)
    assert Eye.get_by_id(hidden.id).state == "left"


def test_what_is_asked_for_wrongly(desk: Desk, two: Job) -> None:
    assert desk.post("/jobs/99/run").status_code == 404
    assert desk.post(f"/jobs/{two.id}/run", {"reels": [77]}).get_json()["error"].startswith("No reel was chosen")
    assert desk.post(f"/jobs/{two.id}/run", {"kind": "vhs"}).status_code == 400
    assert desk.post("/eyes/99/accepted").status_code == 409
    assert desk.post("/eyes/99/remark", {"remark": "x"}).status_code == 409
    assert desk.post(f"/jobs/{two.id}/run/pause").status_code == 404, "nothing was run yet"
    assert desk.client.get(f"/jobs/{two.id}/eyes").status_code == 200


@pytest.mark.usefixtures("unchecked")
def test_missing_frames_and_what_could_not_be_judged_are_listed(desk: Desk, two: Job) -> None:
    run_all(desk, two)
    reel = Reel.get_by_id(2)
    Reel.update(missing=3).where(Reel.id == reel.id).execute()
    assert eyes.look_over(reel) >= 1
    entry = Eye.get(Eye.kind == "missing")
    listed = desk.client.get(f"/jobs/{two.id}/eyes/list").get_json()["entries"]
    assert "3 frames are missing" in next(e for e in listed if e["kind"] == "missing")["reason"]
    desk.post(f"/eyes/{entry.id}/accepted")
    assert Reel.get_by_id(2).accept_missing
    assert desk.post(f"/jobs/{two.id}/eyes/again").get_json()["said"] == "Looked over."


def pixel(x: int, sure: float, departure: float = 30.0, side: int = 1) -> JudgedFinding:
    evidence = StuckPixelEvidence(colour="red", departure=departure, seen=20, looked=20)
    box = {"x": x, "y": 20, "width": side, "height": side, "first": 0, "stop": 30}
    return JudgedFinding.of(Finding(kind="stuck-pixel", step="pixel-mend", **box, confidence=sure, evidence=evidence))


def test_what_is_like_a_finding_is_decided_along_in_one_step(desk: Desk, reel: Path) -> None:
    database.connect(reuse_if_open=True)
    stored = Reel.create(job=desk.job, title="Spoiled", path=str(reel))
    desk.services.queue.put("intake", stored)
    desk.work()
    database.connect(reuse_if_open=True)
    some = (pixel(10, 0.6), pixel(20, 0.55), pixel(30, 0.5), pixel(40, 0.6, 900.0, 9))
    edits.change_shot(Reel.get(), "found", 0, lambda s: s.with_(findings=some))
    edits.change(Reel.get(), "cut", lambda shots: add_cut(shots, 12))

    def now() -> dict[tuple[int, int], str]:
        database.connect(reuse_if_open=True)
        return {(n, f.x): f.state for n, s in enumerate(edits.shots_of(Reel.get())) for f in s.findings}

    offer = desk.post("/reels/1/findings/0/kept?shot=0").get_json()["offer"]
    many = sum(state == "doubtful" and x in (10, 20, 30) for (_, x), state in now().items())
    assert many >= 3, "in the other shot, too"
    assert offer["said"] == f"{many} more like it in this reel" and offer["do"] == "Keep those too"
    assert desk.post(offer["url"]).get_json()["said"] == f"Kept {many} like x 10 y 20."
    assert {x for (_, x), state in now().items() if state == "doubtful"} == {40}, "what is of another size is another matter"
    desk.post("/reels/1/undo")
    assert sum(state == "doubtful" and x in (10, 20, 30) for (_, x), state in now().items()) == many
    assert desk.post("/reels/1/findings/1/dismissed?shot=0").get_json()["offer"]["do"].startswith("Dismiss")
    assert desk.post("/reels/1/like/99999999/kept").status_code == 409


def test_likeness_is_by_kind_size_and_figures() -> None:
    one = pixel(10, 0.6)
    assert apart(one, pixel(50, 0.6)) == 0.0
    assert apart(one, pixel(50, 0.6, side=2)) == 1.0
    assert 0 < apart(one, pixel(50, 0.5, 20.0)) < apart(one, pixel(50, 0.1, 2.0)) < 1
    assert like(one, [pixel(1, 0.1, 900.0), pixel(2, 0.6), pixel(3, 0.5)]) == [pixel(2, 0.6), pixel(3, 0.5), pixel(1, 0.1, 900.0)][:2]
