"""The undo history and what a treatment takes from the condition sheet."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path

import pytest

from nimbus_sweep.core.survey import Finding
from nimbus_sweep.core.treatment import Recipe, Step
from nimbus_sweep.store import edits
from nimbus_sweep.store.data import DataFolder
from nimbus_sweep.store.models import Edit, Job, Reel, Setting, Task, open_database


@pytest.fixture
def reel(tmp_path: Path) -> Iterator[Reel]:
    opened = open_database(tmp_path / "test.db")
    yield Reel.create(job=Job.create(title="Skerrow Point"), title="Reel 01", path="/none")
    opened.close()


def finding(x: int, confidence: float, by_hand: bool = False) -> dict:
    return edits.as_stored(
        Finding("stuck-pixel", "pixel-mend", x, 5, 1, 1, 0, 9, confidence, "Stuck pixel", "Because.", {"seen": 9}, by_hand)
    )


def test_the_first_state_is_empty(reel: Reel) -> None:
    assert edits.current(reel).findings == []
    assert edits.recipe_of(edits.current(reel)) == Recipe()
    assert edits.current(reel).id == edits.current(reel).id, "asking does not change anything"
    assert edits.undo(reel) is None
    assert edits.redo(reel) is None
    assert edits.can_undo(reel) is None


def test_changes_are_taken_back_one_by_one(reel: Reel) -> None:
    edits.current(reel)
    for n in range(4):
        edits.change(reel, f"step {n}", findings=[finding(n, 0.9)])
    assert edits.can_undo(reel) == "step 3"
    assert [edits.undo(reel).what for _ in range(3)] == ["step 3", "step 2", "step 1"]
    assert edits.current(reel).findings[0]["x"] == 0
    assert edits.can_redo(reel) == "step 1"
    assert edits.redo(reel).what == "step 1"
    edits.change(reel, "another way", findings=[])
    assert edits.can_redo(reel) is None
    assert [e.what for e in Edit.select().order_by(Edit.id)] == ["Intake", "step 0", "step 1", "another way"]


def test_a_change_keeps_what_it_does_not_name(reel: Reel) -> None:
    edits.change(reel, "found", findings=[finding(3, 0.9)])
    edits.change(reel, "step", recipe=Recipe(steps=(Step(kind="pixel-mend"),)))
    assert edits.current(reel).findings[0]["x"] == 3
    edits.change(reel, "more", findings=[finding(3, 0.9), finding(8, 0.4)])
    assert [s.kind for s in edits.recipe_of(edits.current(reel)).steps] == ["pixel-mend"]


def test_histories_of_reels_are_apart(reel: Reel) -> None:
    other = Reel.create(job=reel.job, title="Reel 02", path="/none")
    edits.change(reel, "here", findings=[finding(1, 0.9)])
    assert edits.current(other).findings == []
    edits.change(other, "there", findings=[])
    assert edits.undo(other).what == "there"
    assert edits.current(reel).what == "here"


def test_what_is_kept_is_mended_and_nothing_else(reel: Reel) -> None:
    found = [finding(1, 0.9), finding(2, 0.4), finding(3, 0.95), finding(4, 0.1, by_hand=True)]
    assert [f["state"] for f in found] == ["kept", "doubtful", "kept", "kept"]
    found[2]["state"] = "dismissed"
    edits.change(reel, "found", findings=found, recipe=Recipe(steps=(Step(kind="pixel-mend"),)))
    sites = edits.settled(edits.current(reel)).steps[0].settings["sites"]
    assert [s["x"] for s in sites] == [1, 4]
    assert [f.x for f in edits.mended(edits.current(reel))] == [1, 4]
    found[1] |= {"state": "kept", "chosen": True}
    edits.change(reel, "kept the doubtful one", findings=found)
    assert [s["x"] for s in edits.settled(edits.current(reel)).steps[0].settings["sites"]] == [1, 2, 4]


def test_the_step_may_ask_to_be_surer(reel: Reel) -> None:
    """A higher bar leaves out what the survey is less sure of, never what the user chose himself."""
    found = [finding(1, 0.95), finding(2, 0.6), finding(3, 0.4) | {"state": "kept", "chosen": True}, finding(4, 0.2, by_hand=True)]
    for sure, mended in ((0.5, [1, 2, 3, 4]), (0.8, [1, 3, 4])):
        edits.change(reel, "bar", findings=found, recipe=Recipe(steps=(Step(kind="pixel-mend", settings={"sure": sure}),)))
        assert [f.x for f in edits.mended(edits.current(reel))] == mended
    edits.change(reel, "off", recipe=Recipe(steps=(Step(kind="pixel-mend", on=False),)))
    assert edits.mended(edits.current(reel)) == []


def test_sites_named_by_a_recipe_win(reel: Reel) -> None:
    named = Step(kind="pixel-mend", settings={"sites": [{"x": 77, "y": 8}]})
    edits.change(reel, "both", findings=[finding(1, 0.9)], recipe=Recipe(steps=(named,)))
    assert [s["x"] for s in edits.settled(edits.current(reel)).steps[0].settings["sites"]] == [77]


def test_the_tables_come_up_to_date_and_survive(tmp_path: Path, reel: Reel) -> None:
    edits.change(reel, "kept", findings=[finding(1, 0.9)])
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
