"""The worker as a process of its own: it works, is started again, resumes, and ends with its server."""

from __future__ import annotations

import hashlib
import os
import shutil
import signal
import subprocess
import sys
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest

from benchmarks.material import noisy, panned, still
from nimbus_sweep.core.media.reader import MovieReader
from nimbus_sweep.core.model.recipes import Recipe, Step
from nimbus_sweep.core.model.shots import set_points
from nimbus_sweep.core.pipeline import render as rendering
from nimbus_sweep.core.pipeline import works
from nimbus_sweep.core.pipeline.survey import survey
from nimbus_sweep.demo.shade import shade, sprinkle
from nimbus_sweep.jobs import intake, work
from nimbus_sweep.jobs.queue import Queue
from nimbus_sweep.jobs.tasks import AnalysisSettings
from nimbus_sweep.jobs.worker import WorkerWatch
from nimbus_sweep.store import edits
from nimbus_sweep.store.backup import backup, restore
from nimbus_sweep.store.data import DataFolder
from nimbus_sweep.store.models import Job, Reel, Task, database, open_database
from tests.conftest import SITES, write_movie


@pytest.fixture
def stored(data: DataFolder, reel: Path) -> Reel:
    """A reel on the rack, not read yet."""
    return Reel.create(job=Job.create(title="Skerrow Point"), title="pan", path=str(reel))


def until(told: Callable[[], bool], seconds: float = 40) -> None:
    end = time.monotonic() + seconds
    while not told():
        assert time.monotonic() < end, "it took too long"
        time.sleep(0.1)


def state(task: Task) -> str:
    return Task.get_by_id(task.id).state


def do(data: DataFolder, task: Task) -> Task:
    database.close()
    work.perform(data, task.id)
    database.connect(reuse_if_open=True)
    return Task.get_by_id(task.id)


def test_a_worker_process_works_and_comes_back(data: DataFolder, stored: Reel) -> None:
    queue = Queue(data)
    watch = WorkerWatch(data)
    watch.start()
    try:
        intake = queue.put("intake", stored)
        until(lambda: state(intake) == "done")
        assert Reel.get_by_id(stored.id).facts.frames == 30
        first = watch.pid
        os.kill(first, signal.SIGKILL)
        until(lambda: watch.pid not in (None, first))
        survey = queue.put("survey", Reel.get_by_id(stored.id))
        until(lambda: state(survey) == "done")
        assert {(f.x, f.y) for f in edits.shot_of(stored).findings if f.state == "kept"} == {(s.x, s.y) for s in SITES}
    finally:
        watch.stop()
    until(lambda: not Path(f"/proc/{watch.pid}/exe").exists())


def test_a_worker_ends_with_its_server(data: DataFolder) -> None:
    command = [sys.executable, "-m", "nimbus_sweep", "worker", "--data", str(data.root)]
    process = subprocess.Popen(command, stdin=subprocess.PIPE)
    time.sleep(2.5)
    assert process.poll() is None
    assert process.stdin is not None
    process.stdin.close()
    assert process.wait(10) == 0


def intaken(data: DataFolder, stored: Reel) -> Reel:
    assert do(data, Task.create(reel=stored, kind="intake")).state == "done"
    step = Step(kind="pixel-mend", settings={"sites": [{"x": s.x, "y": s.y} for s in SITES]})
    edits.change_shot(stored, "step", 0, lambda s: s.with_(recipe=Recipe(steps=(step,))))
    return Reel.get_by_id(stored.id)


def test_a_render_resumes_with_the_treatment_it_began_with(data: DataFolder, stored: Reel, monkeypatch: pytest.MonkeyPatch) -> None:
    """Lost in the middle, it goes on with its own recipe, though the treatment on the sheet has changed since."""
    reel = intaken(data, stored)
    monkeypatch.setattr(rendering, "CHUNK_FRAMES", 8)
    task = Task.create(reel=reel, kind="render")
    real = rendering.join

    def lost(*_words: object, **_more: object) -> None:
        raise KeyboardInterrupt

    monkeypatch.setattr(rendering, "join", lost)
    database.close()
    with pytest.raises(KeyboardInterrupt):
        work.perform(data, task.id)
    database.connect(reuse_if_open=True)
    assert state(task) == "running"
    chunks = sorted(data.chunks(task.id).rglob("*.mkv"))
    assert len(chunks) == 4
    assert not list((data.root / "deliveries").rglob("*.mkv"))
    times = {c: c.stat().st_mtime_ns for c in chunks}
    edits.change_shot(reel, "another treatment", 0, lambda s: s.with_(recipe=Recipe()))
    assert Queue(data).resume() == 1
    seen: dict[Path, int] = {}

    def joined(paths: list[Path], *words: object, **more: object) -> None:
        seen.update({p: p.stat().st_mtime_ns for p in paths})
        real(paths, *words, **more)

    monkeypatch.setattr(rendering, "join", joined)
    done = do(data, task)
    assert done.state == "done", done.error
    assert done.attempts == 2
    assert seen == times, "no chunk was rendered twice"
    assert done.settings["shots"][0]["recipe"]["steps"][0]["kind"] == "pixel-mend"
    assert len(MovieReader(data.delivery(task.id, done.result["file"]))) == 30
    assert not data.chunks(task.id).exists()


def test_stopping_a_render_leaves_nothing(data: DataFolder, stored: Reel, monkeypatch: pytest.MonkeyPatch) -> None:
    reel = intaken(data, stored)
    task = Task.create(reel=reel, kind="render")
    told = work.TaskProgress.__call__

    def stopped(self: work.TaskProgress, share: float, rate: float = 0.0, what: str | None = None) -> None:
        if what == "Rendering":
            Task.update(cancel=True).where(Task.id == task.id).execute()
        told(self, share, rate, what)

    monkeypatch.setattr(work.TaskProgress, "__call__", stopped)
    assert do(data, task).state == "cancelled"
    assert not list((data.root / "deliveries").rglob("*.mkv"))
    assert not data.chunks(task.id).exists()


@pytest.mark.parametrize(
    ("fault", "said"),
    [
        (MemoryError(), "not enough memory"),
        (RuntimeError("cups stopped"), "cups stopped"),
        (OSError(28, "No space left on device"), "unforeseen"),
    ],
)
def test_every_failure_is_kept_in_words(
    data: DataFolder, stored: Reel, monkeypatch: pytest.MonkeyPatch, fault: Exception, said: str
) -> None:
    def fails(*_words: object) -> dict:
        raise fault

    monkeypatch.setitem(work._WORK, "survey", fails)
    done = do(data, Task.create(reel=stored, kind="survey"))
    assert done.state == "failed"
    assert said in done.error
    assert "Traceback" not in done.error


FULL = """
import resource, sys
from pathlib import Path
from nimbus_sweep.jobs import work
from nimbus_sweep.store.data import DataFolder
from nimbus_sweep.store.models import Task, database, open_database
data = DataFolder(Path(sys.argv[1]))
open_database(data.database)
database.close()
resource.setrlimit(resource.RLIMIT_FSIZE, (int(sys.argv[3]),) * 2)
work.perform(data, int(sys.argv[2]))
"""


@pytest.mark.parametrize(("kind", "delivery", "limit"), [("intake", "", 400_000), ("render", "ffv1", 250_000), ("render", "tiff", 30_000)])
def test_a_full_disk_is_said_and_leaves_no_stray_file(data: DataFolder, stored: Reel, kind: str, delivery: str, limit: int) -> None:
    # A limit on the size of files stands in for a full disk.
    reel = intaken(data, stored) if kind == "render" else stored
    task = Task.create(reel=reel, kind=kind, settings={"delivery": {"kind": delivery}} if delivery else None)
    before = {p for p in data.root.rglob("*") if p.is_file()}
    if delivery == "tiff":
        assert do(data, Task.create(reel=reel, kind="analysis")).state == "done"
    subprocess.run([sys.executable, "-c", FULL, str(data.root), str(task.id), str(limit)], check=True)
    done = Task.get_by_id(task.id)
    assert done.state == "failed"
    assert "disk is full" in done.error
    left = {p for p in data.root.rglob("*") if p.is_file()} - before
    assert not [p for p in left if p.suffix in (".mkv", ".part", ".bin", ".jpegs", ".growing", ".tif")]


def test_what_was_put_back_from_a_backup_renders_to_the_same_bytes(data: DataFolder, stored: Reel, tmp_path: Path) -> None:
    reel = intaken(data, stored)
    step = Step.new("pixel-mend", sites=[{"x": s.x, "y": s.y} for s in SITES])
    edits.change_shot(reel, "step", 0, lambda s: s.with_(recipe=Recipe(steps=(step,))))

    def rendered(where: DataFolder) -> str:
        task = do(where, Task.create(reel=Reel.get(), kind="render"))
        assert task.state == "done", task.error
        return hashlib.sha256(where.delivery(task.id, task.result["file"]).read_bytes()).hexdigest()

    backup(data.root, tmp_path / "all.zip")
    before = rendered(data)
    other = DataFolder(tmp_path / "other")
    restore(tmp_path / "all.zip", other.root)
    opened = open_database(other.database)
    assert not list(other.root.glob("analyses/*")), "what was learned is learned anew"
    assert rendered(other) == before
    opened.close()


def test_the_reel_is_read_anew_after_it_was_put_back(data: DataFolder, stored: Reel, tmp_path: Path) -> None:
    kept = shutil.copy2(stored.path, tmp_path / "kept.mkv")
    Path(stored.path).unlink()
    assert "no such file" in do(data, Task.create(reel=stored, kind="intake")).error
    assert Reel.get_by_id(stored.id).state == "refused"
    shutil.copy2(kept, stored.path)
    assert do(data, Task.create(reel=stored, kind="intake")).state == "done"
    assert Reel.get_by_id(stored.id).state == "ready"


def test_work_is_queued_once(data: DataFolder, stored: Reel) -> None:
    queue = Queue(data)
    first = queue.put("render", stored)
    assert queue.put("render", stored).id == first.id
    assert queue.put("survey", stored).id != first.id
    running = queue.put("analysis", stored, AnalysisSettings(learns="one"))
    Task.update(state="running").where(Task.id == running.id).execute()
    assert queue.put("analysis", stored, AnalysisSettings(learns="one")).id == running.id, "what learns the same goes on"
    newer = queue.put("analysis", stored, AnalysisSettings(learns="other"))
    assert newer.id != running.id
    assert Task.get_by_id(running.id).cancel, "an analysis that is out of date is stopped"


def test_a_still_shot_gains_from_one_that_moves(data: DataFolder, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    # Dust alone is asked for here.
    looked_for = ["steady-frame", "pixel-mend", "unshade"]
    monkeypatch.setattr(works, "survey", lambda evidence, told, hold_outs: survey(evidence, told, looked_for, hold_outs))
    size = (320, 180)
    marks = sprinkle(size[::-1], 4, 5, largest=11, depth=(0.35, 0.7))
    moving = panned("coffee", 30, 5, 0.3, size)
    held = still(panned("rocket", 12, 3, 0.3, size), 16, 5)
    pictures = [*shade(list(moving.pictures), marks)[0], *shade(noisy(list(held.pictures), 1.0, 7), marks)[0]]
    stored = Reel.create(
        job=Job.create(title="Skerrow Point"), title="two", path=str(write_movie(tmp_path / "two.mkv", moving.over(pictures)))
    )
    assert do(data, Task.create(reel=stored, kind="intake")).state == "done"
    assert [s.first for s in edits.shots_of(stored)] == [0, 30]
    # The still one first: it gains when the other has been surveyed.
    assert do(data, Task.create(reel=stored, kind="survey", settings={"numbers": [edits.shot_of(stored, 1).id]})).state == "done"
    alone = edits.shot_of(stored, 1)
    assert not edits.kept(alone)
    assert alone.notes[0].code == "too-little-motion"
    assert do(data, Task.create(reel=stored, kind="survey", settings={"numbers": [edits.shot_of(stored).id]})).state == "done"
    assert edits.current(stored).what == "Marks shared between shots"
    gained = edits.kept(edits.shot_of(stored, 1))
    assert len(gained) >= 2
    assert all(f.evidence.shared == "shot 1" and f.first == 30 for f in gained)
    first, *others = edits.shot_of(stored, 1).findings
    dismissed = (first.with_(state="dismissed"), *others)
    edits.change_shot(stored, "Dismissed", 1, lambda s: s.with_(findings=dismissed))
    do(data, Task.create(reel=stored, kind="survey", settings={"numbers": [edits.shot_of(stored, 1).id]}))
    states = [f.state for f in edits.shot_of(stored, 1).findings if (f.x, f.y) == (first.x, first.y)]
    assert states == ["dismissed"], "what was dismissed stays so"


def test_intake_begins_anew_when_the_worker_is_lost_in_it(data: DataFolder, stored: Reel, monkeypatch: pytest.MonkeyPatch) -> None:
    task = Task.create(reel=stored, kind="intake")
    real = intake.scan

    def lost(*words: Any, **more: Any) -> None:
        real(*words, **more)
        raise KeyboardInterrupt

    monkeypatch.setattr(intake, "scan", lost)
    database.close()
    with pytest.raises(KeyboardInterrupt):
        work.perform(data, task.id)
    database.connect(reuse_if_open=True)
    assert Reel.get_by_id(stored.id).state == "open", "it can be looked at meanwhile"
    monkeypatch.setattr(intake, "scan", real)
    assert Queue(data).resume() == 1
    assert do(data, task).state == "done"
    assert Reel.get_by_id(stored.id).state == "ready"


def test_changing_a_point_inside_the_handles_keeps_the_analysis(data: DataFolder, stored: Reel) -> None:
    reel = intaken(data, stored)
    edits.change_shot(reel, "points", 0, lambda s: set_points(s, 8, 20, handles=4))
    assert do(data, Task.create(reel=reel, kind="analysis")).state == "done"
    times = {p: p.stat().st_mtime_ns for p in data.analyses.iterdir()}
    edits.change_shot(reel, "points", 0, lambda s: set_points(s, 5, 23))
    assert do(data, Task.create(reel=reel, kind="analysis")).state == "done"
    assert {p: p.stat().st_mtime_ns for p in data.analyses.iterdir()} == times
    edits.change_shot(reel, "points", 0, lambda s: set_points(s, 0, 30))
    assert do(data, Task.create(reel=reel, kind="analysis")).state == "done"
    assert len(list(data.analyses.iterdir())) == 2, "beyond the handles it is made anew"
