"""The undo history and what a treatment takes from the condition sheet."""

from __future__ import annotations

import json
import sqlite3
import threading
from collections.abc import Iterator
from contextlib import closing
from pathlib import Path
from typing import Any

import pytest

from nimbus_sweep.core.base.errors import SweepError
from nimbus_sweep.core.defects.stuck_pixels.evidence import StuckPixelEvidence
from nimbus_sweep.core.model.findings import Finding, JudgedFinding
from nimbus_sweep.core.model.recipes import Recipe, Step
from nimbus_sweep.core.model.regions import Region, box_region
from nimbus_sweep.core.model.shots import Shot, Shots, add_cut
from nimbus_sweep.core.model.tracks import Track
from nimbus_sweep.store import edits, strokes
from nimbus_sweep.store.data import DataFolder
from nimbus_sweep.store.models import Edit, Job, Reel, Setting, Task, open_database
from nimbus_sweep.wording import sentence


@pytest.fixture
def reel(tmp_path: Path) -> Iterator[Reel]:
    opened = open_database(tmp_path / "test.db")
    yield Reel.create(job=Job.create(title="Skerrow Point"), title="Reel 01", path="/none", frames=60)
    opened.close()


# As an earlier version stored it, with its words.
OLD = {
    "kind": "stuck-pixel",
    "step": "pixel-mend",
    **{"x": 7, "y": 5, "width": 1, "height": 1, "first": 0, "stop": 48, "confidence": 0.9},
    "title": "Stuck pixel, red",
    "sentence": "Departs by 90.",
    "numbers": {"colour": "red", "departure": 90.0},
    **{"by_hand": False, "suggested": True, "state": "kept"},
}


def finding(x: int, confidence: float, by_hand: bool = False) -> JudgedFinding:
    place = {"x": x, "y": 5, "width": 1, "height": 1, "first": 0, "stop": 60}
    told = StuckPixelEvidence(seen=9)
    return JudgedFinding.of(Finding(kind="stuck-pixel", step="pixel-mend", **place, confidence=confidence, evidence=told, by_hand=by_hand))


def shot(reel: Reel) -> Shot:
    return edits.shot_of(reel)


def change(reel: Reel, what: str, **values: Any) -> Edit:
    """Change the reel's only shot."""
    return edits.change_shot(reel, what, 0, lambda s: s.with_(**values))


def test_the_first_state_is_empty(reel: Reel) -> None:
    assert shot(reel).findings == ()
    assert shot(reel).recipe == Recipe()
    assert edits.current(reel).id == edits.current(reel).id, "asking does not change anything"
    assert edits.undo(reel) is None
    assert edits.redo(reel) is None
    assert edits.can_undo(reel) is None


def test_changes_are_taken_back_one_by_one(reel: Reel) -> None:
    edits.current(reel)
    for n in range(4):
        change(reel, f"step {n}", findings=[finding(n, 0.9)])
    assert edits.can_undo(reel).what == "step 3"
    assert [edits.undo(reel).what for _ in range(3)] == ["step 3", "step 2", "step 1"]
    assert shot(reel).findings[0].x == 0
    assert edits.can_redo(reel).what == "step 1"
    assert edits.redo(reel).what == "step 1"
    change(reel, "another way", findings=[])
    assert edits.can_redo(reel) is None
    assert [e.what for e in Edit.select().where(~Edit.dropped).order_by(Edit.id)] == ["Intake", "step 0", "step 1", "another way"]


def test_a_change_after_undo_is_not_taken_for_the_one_undone(reel: Reel) -> None:
    change(reel, "one", findings=[finding(1, 0.9)])
    change(reel, "two", findings=[finding(2, 0.9)])
    undone, number = edits.revision(reel), shot(reel).findings[0].id
    edits.undo(reel)
    change(reel, "three", findings=[finding(3, 0.9)])
    assert edits.revision(reel) != undone
    assert shot(reel).findings[0].id != number, "no number is given out twice"


def test_a_change_keeps_what_it_does_not_name(reel: Reel) -> None:
    change(reel, "found", findings=[finding(3, 0.9)])
    change(reel, "step", recipe=Recipe(steps=(Step(kind="pixel-mend"),)))
    assert shot(reel).findings[0].x == 3
    change(reel, "more", findings=[finding(3, 0.9), finding(8, 0.4)])
    assert [s.kind for s in shot(reel).recipe.steps] == ["pixel-mend"]


@pytest.mark.slow
def test_a_change_waits_its_turn_when_the_worker_writes_meanwhile(reel: Reel, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    file = next(tmp_path.rglob("*.db"))
    told = edits.shots_of

    def written() -> None:
        with closing(sqlite3.connect(file, timeout=10)) as other, other:
            other.execute("update reel set title = 'as the worker has it'")

    worker = threading.Thread(target=written)

    def read_and_wait(of: Reel) -> Shots:
        shots = told(of)
        if worker.ident is None:
            worker.start()
            worker.join(0.4)
        return shots

    monkeypatch.setattr(edits, "shots_of", read_and_wait)
    edits.change(reel, "Divided", lambda shots: add_cut(shots, 20))
    worker.join(10)
    assert edits.current(reel).what == "Divided"
    assert Reel.get_by_id(reel.id).title == "as the worker has it"


def test_histories_of_reels_are_apart(reel: Reel) -> None:
    other = Reel.create(job=reel.job, title="Reel 02", path="/none", frames=60)
    change(reel, "here", findings=[finding(1, 0.9)])
    assert shot(other).findings == ()
    change(other, "there", findings=[])
    assert edits.undo(other).what == "there"
    assert edits.current(reel).what == "here"


def test_what_is_kept_is_mended_and_nothing_else(reel: Reel) -> None:
    found = [finding(1, 0.9), finding(2, 0.4), finding(3, 0.95), finding(4, 0.1, by_hand=True)]
    assert [f.state for f in found] == ["kept", "doubtful", "kept", "kept"]
    found[2] = found[2].with_(state="dismissed")
    change(reel, "found", findings=found, recipe=Recipe(steps=(Step(kind="pixel-mend"),)))
    sites = edits.resolved(shot(reel)).steps[0].settings.sites
    assert [s.x for s in sites] == [1, 4]
    assert [f.x for f in edits.mended(shot(reel))] == [1, 4]
    found[1] = found[1].with_(state="kept", chosen=True)
    change(reel, "kept the doubtful one", findings=found)
    assert [s.x for s in edits.resolved(shot(reel)).steps[0].settings.sites] == [1, 2, 4]


def test_the_step_may_ask_to_be_surer(reel: Reel) -> None:
    """A higher bar leaves out what the survey is less sure of, never what the user chose himself."""
    found = [finding(1, 0.95), finding(2, 0.75), finding(3, 0.4).with_(state="kept", chosen=True), finding(4, 0.2, by_hand=True)]
    for sure, mended in ((0.7, [1, 2, 3, 4]), (0.8, [1, 3, 4])):
        change(reel, "bar", findings=found, recipe=Recipe(steps=(Step(kind="pixel-mend", settings={"sure": sure}),)))
        assert [f.x for f in edits.mended(shot(reel))] == mended
    change(reel, "off", recipe=Recipe(steps=(Step(kind="pixel-mend", on=False),)))
    assert edits.mended(shot(reel)) == []


def test_sites_named_by_a_recipe_win(reel: Reel) -> None:
    named = Step(kind="pixel-mend", settings={"sites": [{"x": 77, "y": 8}]})
    change(reel, "both", findings=[finding(1, 0.9)], recipe=Recipe(steps=(named,)))
    assert [s.x for s in edits.resolved(shot(reel)).steps[0].settings.sites] == [77]


def test_the_tables_come_up_to_date_and_survive(tmp_path: Path, reel: Reel) -> None:
    change(reel, "kept", findings=[finding(1, 0.9)])
    Setting.create(name="room", value="dim")
    again = open_database(tmp_path / "test.db")
    assert edits.current(Reel.get_by_id(reel.id)).what == "kept"
    assert Setting.get(Setting.name == "room").value == "dim"
    Task.create(reel=reel, kind="survey")
    reel.delete_instance(recursive=True)
    assert Edit.select().count() == Task.select().count() == 0
    again.close()


def test_paths_stay_inside_the_data_folder(tmp_path: Path) -> None:
    data = DataFolder(tmp_path / "data")
    data.make()
    for path in (
        data.database,
        data.queue,
        data.uploads,
        data.demo,
        data.analyses,
        data.of_reel(3),
        data.chunks(4),
        data.delivery(5, "a.mkv"),
    ):
        assert path.is_relative_to(tmp_path / "data")


def test_shots_have_findings_and_treatments_of_their_own(reel: Reel) -> None:
    change(reel, "found", findings=[finding(3, 0.9)])
    edits.change(reel, "cut", lambda shots: add_cut(shots, 20))
    edits.change_shot(reel, "step", 1, lambda s: s.with_(recipe=Recipe(steps=(Step(kind="pixel-mend"),))))
    first, second = edits.shots_of(reel)
    assert (first.first, first.stop, second.first, second.stop) == (0, 20, 20, 60)
    assert not first.recipe.steps
    assert [f.x for f in edits.mended(second)] == [3], "both parts kept the finding"
    with pytest.raises(SweepError, match="no shot 3 any more"):
        edits.shot_of(reel, 2)
    edits.undo(reel)
    edits.undo(reel)
    assert len(edits.shots_of(reel)) == 1


def test_an_older_database_keeps_its_treatments(tmp_path: Path) -> None:
    """Before shots, findings and recipe belonged to the reel."""
    import sqlite3

    path = tmp_path / "older.db"
    with sqlite3.connect(path) as old:
        old.executescript(
            """
            CREATE TABLE job (id INTEGER PRIMARY KEY, title VARCHAR(200) NOT NULL, created VARCHAR(255) NOT NULL);
            CREATE TABLE reel (id INTEGER PRIMARY KEY, job_id INTEGER NOT NULL REFERENCES job, title VARCHAR(200) NOT NULL,
              path TEXT NOT NULL, size BIGINT NOT NULL, modified BIGINT NOT NULL, fingerprint VARCHAR(255) NOT NULL,
              accept_missing INTEGER NOT NULL, state VARCHAR(255) NOT NULL, refusal TEXT NOT NULL, missing INTEGER NOT NULL,
              facts TEXT, surveyed REAL, created VARCHAR(255) NOT NULL);
            CREATE TABLE edit (id INTEGER PRIMARY KEY, reel_id INTEGER NOT NULL REFERENCES reel, what VARCHAR(255) NOT NULL,
              findings TEXT NOT NULL, recipe TEXT NOT NULL, undone INTEGER NOT NULL, created VARCHAR(255) NOT NULL);
            CREATE TABLE migratehistory (id INTEGER PRIMARY KEY, name VARCHAR(255) NOT NULL, migrated_at DATETIME NOT NULL);
            INSERT INTO migratehistory VALUES (1, '001_first', '2026-01-01');
            INSERT INTO job VALUES (1, 'Skerrow Point', '');
            """
        )
        recipe = Recipe(steps=(Step(kind="pixel-mend"),)).model_dump_json()
        old.execute(
            "INSERT INTO reel VALUES (1, 1, 'Reel 01', '/none', 1, 1, 'f', 0, 'ready', '', 0, ?, 2.5, '')", (json.dumps({"frames": 48}),)
        )
        old.execute("INSERT INTO edit VALUES (1, 1, 'Survey', ?, ?, 0, '')", (json.dumps([OLD]), recipe))
    opened = open_database(path)
    kept = edits.shot_of(Reel.get_by_id(1))
    assert (kept.first, kept.stop, kept.surveyed) == (0, 48, 2.5)
    assert [f.x for f in edits.mended(kept)] == [7]
    assert Job.get_by_id(1).reference == ""
    assert sentence(kept.findings[0]) == "Departs by 90.", "words that were stored are shown as they are"
    assert (kept.findings[0].kind, kept.findings[0].evidence.departure) == ("stuck-pixel", 90.0)
    opened.close()


def test_what_is_of_a_shots_own_frames_is_not_put_on_others() -> None:
    plane = Track(name="wall", reference=0, region=box_region(2, 2, 9, 9), size=(20, 20))
    riding = Region(parts=(box_region(2, 2, 5, 5).parts[0].model_copy(update={"track": "wall"}),))
    mine = Recipe(steps=(Step(kind="pixel-mend"), Step(kind="plate-patch", region=riding), Step(kind="retouch")), tracks=(plane,))
    put = strokes.for_other_shot(mine, Recipe())
    assert [s.kind for s in put.steps] == ["pixel-mend"]
    assert put.tracks == ()
    again = strokes.for_other_shot(Recipe(steps=(Step(kind="pixel-mend"),)), mine)
    assert [s.kind for s in again.steps] == ["pixel-mend", "plate-patch", "retouch"]
    assert again.tracks == (plane,)


def test_what_a_killed_process_left_is_cleared_away(tmp_path: Path) -> None:
    data = DataFolder(tmp_path)
    for name in ("reels/1/check-a1", "reels/2/trial-b2", "reels/2/trials/4"):
        (tmp_path / name).mkdir(parents=True)
        (tmp_path / name / "treated.bin").write_bytes(b"x" * 9)
    assert data.clear_left("reels/*/check-*", "reels/*/trial-*") == 2
    assert [p.relative_to(tmp_path).as_posix() for p in tmp_path.rglob("*.bin")] == ["reels/2/trials/4/treated.bin"]


def test_every_state_of_an_earlier_version_can_be_undone_to(tmp_path: Path) -> None:
    """Before rows, each edit kept all shots: they become rows, and what lay between them the changes."""
    path = tmp_path / "older.db"
    open_database(path).close()
    one, two = Shot(first=0, stop=48, findings=(finding(1, 0.9),)), Recipe(steps=(Step(kind="pixel-mend"),))
    cut = add_cut((one.with_(recipe=two),), 24)
    judged = (cut[0].with_(findings=(cut[0].findings[0].with_(state="dismissed"),)), cut[1])
    states = [("Survey", (one,), 0), ("Step", (one.with_(recipe=two),), 0), ("Cut", cut, 0), ("Dismissed", judged, 1)]
    with closing(sqlite3.connect(path)) as old, old:
        old.execute("DELETE FROM migratehistory WHERE name = '006_rows'")
        old.execute("INSERT INTO job (id, title, reference, notes, archived, created) VALUES (1, 'Skerrow Point', '', '', 0, '')")
        names = "id, job_id, title, path, size, modified, fingerprint, accept_missing, state, refusal, missing, frames, look, created, revision, mark, sample"
        old.execute(
            f"INSERT INTO reel ({names}) VALUES (1, 1, 'Reel 01', ?, 1, 1, 'f', 0, 'ready', '', 0, 48, '', '', 0, '', '')",
            (str(tmp_path / "a.mkv"),),
        )
        old.execute("DROP TABLE edit")
        old.execute("CREATE TABLE edit (id INTEGER PRIMARY KEY, reel_id INTEGER, what TEXT, shots TEXT, undone INTEGER, created TEXT)")
        for n, (what, shots, undone) in enumerate(states, start=1):
            told = json.dumps([s.model_dump(mode="json") for s in shots])
            old.execute("INSERT INTO edit VALUES (?, 1, ?, ?, ?, '2026-05-01T10:00:00.000+00:00')", (n, what, told, undone))
    opened = open_database(path)
    reel = Reel.get_by_id(1)
    assert (tmp_path / "older-before-006_rows.db").exists(), "what was there before is copied"
    assert reel.path == str(tmp_path / "a.mkv")
    assert edits.shots_of(reel) == cut
    numbers = [s.id for s in edits.shots_of(reel)]
    assert edits.redo(reel).what == "Dismissed"
    assert edits.shots_of(reel) == judged
    assert [s.id for s in edits.shots_of(reel)] == numbers
    for what, expected in (("Dismissed", cut), ("Cut", states[1][1]), ("Step", (one,))):
        assert edits.undo(reel).what == what
        assert edits.shots_of(reel) == expected
    assert edits.undo(reel) is None
    opened.close()


def test_a_database_of_a_newer_version_is_refused_in_words(tmp_path: Path, reel: Reel) -> None:
    with closing(sqlite3.connect(tmp_path / "test.db")) as newer, newer:
        newer.execute("INSERT INTO migratehistory (name, migrated_at) VALUES ('099_later', '2031-01-01')")
    with pytest.raises(SweepError, match="newer version"):
        open_database(tmp_path / "test.db")
    (tmp_path / "none.db").write_bytes(b"no database at all" * 100)
    with pytest.raises(SweepError, match="cannot be read"):
        open_database(tmp_path / "none.db")


def test_a_change_costs_what_it_changes(reel: Reel) -> None:
    change(reel, "found", findings=[finding(n, 0.9) for n in range(300)])
    found = list(shot(reel).findings)
    found[150] = found[150].with_(state="dismissed")
    change(reel, "dismissed", findings=found)
    told = Edit.select().order_by(Edit.id.desc()).first()
    assert [(c.table, c.before, c.behind) for c in edits.changes_of(told)] == [("finding", {"state": "kept"}, {"state": "dismissed"})]
    assert len(json.dumps(told.changes)) < 200


def test_old_changes_are_let_go_of(reel: Reel) -> None:
    for n in range(8):
        change(reel, f"named {n}", name=f"take {n}")
    edits.undo(reel)
    change(reel, "another way", name="take 9")
    assert edits.forget(reel, 3) == 7
    assert [edits.undo(reel).what for _ in range(2)] == ["another way", "named 6"]
    assert edits.undo(reel) is None
    assert shot(reel).name == "take 5"
