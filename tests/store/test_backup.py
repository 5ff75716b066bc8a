"""Backups: made while the database is in use, put back elsewhere, and refused where they are none."""

from __future__ import annotations

import zipfile
from collections.abc import Iterator
from pathlib import Path

import pytest

from nimbus_sweep.core.base.errors import SweepError
from nimbus_sweep.core.model.recipes import Recipe, Step
from nimbus_sweep.core.model.regions import box_region
from nimbus_sweep.core.model.shots import Shot
from nimbus_sweep.core.model.tracks import Track
from nimbus_sweep.store import edits
from nimbus_sweep.store.backup import backup, restore
from nimbus_sweep.store.data import DataFolder
from nimbus_sweep.store.models import Job, Reel, TrackRow, open_database
from nimbus_sweep.store.upkeep import tidied

# A name that is long enough to lie in a file of its own.
LONG = "headland " * 400


@pytest.fixture
def root(tmp_path: Path) -> Iterator[Path]:
    data = DataFolder(tmp_path / "one")
    data.make()
    opened = open_database(data.database)
    data.uploads.mkdir()
    (data.uploads / "reel.mkv").write_bytes(b"frames")
    reel = Reel.create(job=Job.create(title="Skerrow Point"), title="Reel 01", path=str(data.uploads / "reel.mkv"), frames=48)
    plane = Track(name="wall", reference=0, region=box_region(2, 2, 9, 9), size=(20, 20))
    step = Step.new("lend-grain", taken_from=LONG[:100])
    edits.begin_with(reel, "Intake", (Shot(first=0, stop=48, remark=LONG[:2000], recipe=Recipe(steps=(step,), tracks=(plane,))),))
    yield data.root
    opened.close()


def test_what_is_put_back_elsewhere_is_what_was_backed_up(root: Path, tmp_path: Path) -> None:
    before = edits.shot_of(Reel.get())
    count, size = backup(root, tmp_path / "all.zip")
    assert (count, size > 1000) == (2, True)
    assert restore(tmp_path / "all.zip", tmp_path / "two") == count
    (root / "uploads" / "reel.mkv").unlink()
    opened = open_database(tmp_path / "two" / "nimbus-sweep.db")
    reel = Reel.get()
    assert reel.path == str(tmp_path / "two" / "uploads" / "reel.mkv"), "the folder was moved"
    assert Path(reel.path).read_bytes() == b"frames"
    assert edits.shot_of(reel) == before
    opened.close()


def test_what_is_no_backup_is_refused_and_leaves_nothing(root: Path, tmp_path: Path) -> None:
    made, two = tmp_path / "all.zip", tmp_path / "two"
    backup(root, made)
    with pytest.raises(SweepError, match="not empty"):
        restore(made, root)
    sound = made.read_bytes()
    made.write_bytes(sound[: len(sound) // 2])
    with pytest.raises(SweepError, match=r"not a backup"):
        restore(made, two)
    at = sound.index(b"frames")
    made.write_bytes(sound[:at] + b"FRAMES" + sound[at + 6 :])
    with pytest.raises(SweepError, match="damaged"):
        restore(made, two)
    with zipfile.ZipFile(made, "w") as packed:
        packed.writestr("manifest.json", '{"format": "nimbus-sweep backup", "version": 1, "sums": {"../out": "0"}}')
        packed.writestr("../out", "x")
    with pytest.raises(SweepError, match="does not belong"):
        restore(made, two)
    assert not any(two.iterdir())
    assert not (tmp_path / "out").exists()
    with pytest.raises(SweepError, match="nothing to back up"):
        backup(two, made)


def test_what_is_long_lies_in_a_file_that_is_checked(root: Path) -> None:
    reel = Reel.get()
    path = "A" * 4000
    held = edits.shot_of(reel).recipe.tracks[0].model_copy(update={"path": path})
    edits.change_shot(reel, "Followed", 0, lambda s: s.with_(recipe=s.recipe.model_copy(update={"tracks": (held,)})))
    (file,) = (root / "contents").glob("*/*")
    assert file.read_text() == path
    assert path not in str(edits.current(reel).changes)
    edits.forget_held()
    file.write_text("B" * 4000)
    with pytest.raises(SweepError, match="damaged"):
        edits.shots_of(reel)


def test_files_that_nothing_names_any_more_are_cleared(root: Path) -> None:
    reel = Reel.get()
    for letter in "AB":
        held = edits.shot_of(reel).recipe.tracks[0].model_copy(update={"path": letter * 4000})
        edits.change_shot(reel, "Followed", 0, lambda s, held=held: s.with_(recipe=s.recipe.model_copy(update={"tracks": (held,)})))
    (root / ".half.mkv.part1").write_bytes(b"x")
    assert list(tidied(root, True, None)) == ["Cleared: 1 files left over by work that was stopped, 0 that nothing names any more"]
    told = list(tidied(root, True, 1))
    assert told[0] == "Changes let go of: 2"
    assert [p.read_text()[0] for p in (root / "contents").glob("*/*")] == ["B"]
    open_database(DataFolder(root).database)
    assert TrackRow.get().told["path"] == "B" * 4000
