"""Work on the workers of a cluster: the same as here, whoever is lost on the way."""

from __future__ import annotations

import hashlib
import os
import re
import signal
import socket
import subprocess
import sys
import threading
import time
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any

import pytest
from distributed import Client

from nimbus_sweep.core.base.errors import SweepError
from nimbus_sweep.core.model.recipes import Recipe, Step
from nimbus_sweep.core.pipeline import render as rendering
from nimbus_sweep.jobs import cluster as clusters
from nimbus_sweep.jobs import machines, work
from nimbus_sweep.jobs.cluster import Cluster
from nimbus_sweep.store import edits
from nimbus_sweep.store.data import DataFolder
from nimbus_sweep.store.models import Job, Reel, Task, database
from tests.conftest import SITES


def free_port() -> int:
    with socket.socket() as probe:
        probe.bind(("127.0.0.1", 0))
        return int(probe.getsockname()[1])


class Started:
    """A scheduler and workers, as the command starts them."""

    def __init__(self, port: int, workers: int, *more: str) -> None:
        command = [sys.executable, "-m", "nimbus_sweep", "cluster", "--workers", str(workers), "--port", str(port), *more]
        self.process = subprocess.Popen(command, stdout=subprocess.PIPE, text=True)
        assert self.process.stdout is not None
        self.said = self.process.stdout.readline()

    def stop(self) -> None:
        """Stop it, and all it started."""
        self.process.send_signal(signal.SIGINT)
        try:
            self.process.wait(15)
        except subprocess.TimeoutExpired:
            self.process.kill()


@pytest.fixture(scope="module")
def four() -> Iterator[Cluster]:
    """Four workers here."""
    started = Started(free_port(), 4)
    told = re.search(r"--scheduler (\S+)", started.said)
    assert told is not None, started.said
    yield Cluster(told[1])
    started.stop()


@pytest.fixture
def at(monkeypatch: pytest.MonkeyPatch) -> Callable[[machines.Machines], None]:
    """Puts a cluster to work for one test."""
    return lambda where: monkeypatch.setattr(machines, "_current", where)


def do(data: DataFolder, reel: Reel, kind: str, **settings: Any) -> Task:
    task = Task.create(reel=reel, kind=kind, settings=settings or None)
    database.close()
    work.perform(data, task.id)
    database.connect(reuse_if_open=True)
    task = Task.get_by_id(task.id)
    assert task.state == "done", task.error
    return task


@pytest.fixture
def taken(data: DataFolder, reel: Path, monkeypatch: pytest.MonkeyPatch) -> Reel:
    """A reel taken in, with two ways of treatment on it, one of which learns from frames already treated."""
    monkeypatch.setattr(rendering, "CHUNK_FRAMES", 5)
    stored = Reel.create(job=Job.create(title="Skerrow Point"), title="pan", path=str(reel))
    do(data, stored, "intake")
    steps = (Step(kind="pixel-mend", settings={"sites": [{"x": s.x, "y": s.y} for s in SITES]}), Step(kind="steady-frame"))
    edits.change_shot(stored, "steps", 0, lambda s: s.with_(recipe=Recipe(steps=steps)))
    return Reel.get_by_id(stored.id)


def until(told: Callable[[], bool], seconds: float = 20) -> None:
    end = time.monotonic() + seconds
    while not told():
        assert time.monotonic() < end, "it took too long"
        time.sleep(0.1)


def sums(data: DataFolder, task: Task) -> dict[str, str]:
    """SHA-256 of everything that was delivered, but for what tells when it was."""
    folder = data.deliveries / str(task.id)
    files = [p for p in sorted(folder.rglob("*")) if p.is_file() and not p.name.endswith("report.json")]
    return {str(p.relative_to(folder)): hashlib.sha256(p.read_bytes()).hexdigest() for p in files}


@pytest.mark.parametrize("kind", ["ffv1", "prores-422hq", "dpx"])
def test_a_delivery_is_the_same_on_one_machine_on_four_workers_and_with_two_of_them_killed(
    data: DataFolder, taken: Reel, four: Cluster, at: Callable[[machines.Machines], None], kind: str
) -> None:
    delivery = {"kind": kind}
    here = sums(data, do(data, taken, "render", delivery=delivery))
    assert here
    for path in data.analyses.iterdir():
        path.unlink()
    at(four)
    assert sums(data, do(data, taken, "render", delivery=delivery)) == here
    with Client(four.address, set_as_default=False) as client:
        numbers = list(client.run(os.getpid).values())
    assert len(numbers) == 4

    def kill() -> None:
        for number in numbers[:2]:
            time.sleep(0.3)
            os.kill(number, signal.SIGKILL)

    killer = threading.Thread(target=kill)
    killer.start()
    assert sums(data, do(data, taken, "render", delivery=delivery)) == here
    killer.join()


def test_a_survey_finds_the_same_on_a_cluster(
    data: DataFolder, taken: Reel, four: Cluster, at: Callable[[machines.Machines], None]
) -> None:
    do(data, taken, "survey")
    here = [f.finding for f in edits.shot_of(taken).findings]
    assert len(here) >= len(SITES)
    at(four)
    do(data, taken, "survey")
    assert [f.finding for f in edits.shot_of(taken).findings] == here
    assert not (data.root / "works" / "1").exists()


def test_work_waits_for_a_scheduler_that_is_gone_and_goes_on(tmp_path: Path) -> None:
    port = free_port()
    where = Cluster(f"tcp://127.0.0.1:{port}")
    assert "does not answer" in where.unreachable()
    assert "nimbus-sweep cluster" in where.unreachable()
    pool = where.executor(str(tmp_path))
    answer = pool.submit(sorted, [3, 1, 2])
    until(lambda: "goes on by itself" in where.trouble)
    assert not answer.done()
    started = Started(port, 1)
    try:
        assert answer.result(30) == [1, 2, 3]
        slow = pool.submit(time.sleep, 3)
        time.sleep(1)
    finally:
        started.process.kill()
        started.process.wait()
    until(lambda: "does not answer" in where.trouble)
    assert not slow.done()
    started = Started(port, 1)
    try:
        assert slow.result(40) is None
        assert not where.trouble
    finally:
        pool.shutdown(cancel_futures=True)
        started.stop()


def test_a_scheduler_without_workers_is_said_and_more_can_join(tmp_path: Path) -> None:
    port = free_port()
    started = Started(port, 0)
    where = Cluster(f"tcp://127.0.0.1:{port}")
    pool = where.executor(str(tmp_path))
    joined = None
    try:
        answer = pool.submit(sorted, [2, 1])
        until(lambda: "--join" in where.trouble)
        assert not answer.done()
        joined = Started(port, 1, "--join", where.address)
        assert answer.result(30) == [1, 2]
    finally:
        pool.shutdown(cancel_futures=True)
        for one in (joined, started):
            if one is not None:
                one.stop()


def test_workers_that_differ_or_do_not_see_the_files_are_refused_in_words(
    four: Cluster, tmp_path: Path, monkeypatch: pytest.MonkeyPatch, caplog: pytest.LogCaptureFixture
) -> None:
    pool = four.executor(str(tmp_path / "elsewhere"))
    with pytest.raises(SweepError, match=r"does not see .*elsewhere.* Mount its folder"):
        pool.submit(sorted, [1]).result(20)
    pool.shutdown()
    monkeypatch.setattr(clusters, "build", lambda: "0.0.9 (abcdef01)")
    pool = four.executor(str(tmp_path))
    with pytest.raises(SweepError, match=r"this machine 0\.0\.9.* Install the same"):
        pool.submit(sorted, [1]).result(20)
    pool.shutdown()
    monkeypatch.setattr(clusters, "_APART", -10.0)
    pool = four.executor(str(tmp_path))
    pool.submit(str).cancel()
    time.sleep(2)
    pool.shutdown(cancel_futures=True)
    assert "clock of tcp" in caplog.text


def test_work_that_is_stopped_stops_on_the_workers(
    data: DataFolder, taken: Reel, four: Cluster, at: Callable[[machines.Machines], None]
) -> None:
    at(four)
    task = Task.create(reel=taken, kind="survey")

    def stop() -> None:
        time.sleep(1.5)
        with database.connection_context():
            Task.update(cancel=True).where(Task.id == task.id).execute()

    threading.Thread(target=stop).start()
    began = time.monotonic()
    database.close()
    work.perform(data, task.id)
    database.connect(reuse_if_open=True)
    assert Task.get_by_id(task.id).state == "cancelled"
    assert time.monotonic() - began < 8
    assert not (data.works(task.id)).exists()


def test_a_join_without_a_scheduler_is_refused() -> None:
    done = subprocess.run(
        [sys.executable, "-m", "nimbus_sweep", "cluster", "--join", f"tcp://127.0.0.1:{free_port()}"],
        capture_output=True,
        text=True,
        timeout=90,
        env={**os.environ, "DASK_DISTRIBUTED__COMM__TIMEOUTS__CONNECT": "3s"},
    )
    assert done.returncode == 1
    assert "does not answer" in done.stderr and "Traceback" not in done.stderr
