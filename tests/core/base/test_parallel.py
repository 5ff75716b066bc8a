"""Work spread over cores: in order, faults told, let go of when nobody asks on; processes that leave with the one who began them."""

from __future__ import annotations

import os
import subprocess
import sys
import time
from pathlib import Path

import cv2
import pytest

from nimbus_sweep.core.base.parallel import CORES, Tasks, buffered_map, cores, parallel_map, single_threaded_pictures


@pytest.fixture(autouse=True)
def two_cores(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setenv(CORES, "2")


def doubled(n: int) -> int:
    time.sleep(0.02 * (n % 3))
    return 2 * n


def fails(n: int) -> int:
    if n == 2:
        raise ValueError("this one")
    return n


def told_where(n: int) -> int:
    time.sleep(0.2)
    return os.getpid()


@pytest.mark.parametrize("many", ["1", "2"])
def test_results_come_in_order(many: str, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setenv(CORES, many)
    assert list(parallel_map(doubled, range(9))) == [2 * n for n in range(9)]
    assert list(buffered_map(doubled, range(9))) == [(n, 2 * n) for n in range(9)]
    assert list(parallel_map(doubled, [])) == []
    with Tasks(cores()) as tasks:
        begun = [tasks.begin(doubled, n) for n in range(9)]
        assert [task.result() for task in begun] == [2 * n for n in range(9)]


def test_rubbish_for_a_number_of_cores_is_as_if_there_were_none(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setenv(CORES, "rubbish")
    assert cores() == (os.cpu_count() or 1)


@pytest.mark.parametrize("many", ["1", "2"])
def test_a_fault_is_told_and_stops_it(many: str, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setenv(CORES, many)
    found = parallel_map(fails, range(100))
    assert next(found) == 0
    with pytest.raises(ValueError, match="this one"):
        list(found)
    with Tasks(cores()) as tasks, pytest.raises(ValueError, match="this one"):
        tasks.begin(fails, 2).result()


WAITS = """
import time
from concurrent.futures import ProcessPoolExecutor
from multiprocessing import get_context
from nimbus_sweep.core.base.parallel import share_cores
from tests.core.base.test_parallel import told_where
if __name__ == "__main__":
    with ProcessPoolExecutor(2, get_context("spawn"), initializer=share_cores) as pool:
        for pid in pool.map(told_where, range(50)):
            print(pid, flush=True)
"""


@pytest.mark.slow
def test_processes_leave_when_the_one_who_asked_is_killed(tmp_path: Path) -> None:
    script = tmp_path / "asks.py"
    script.write_text(WAITS)
    root = Path(__file__).parents[3]
    asked = subprocess.Popen([sys.executable, str(script)], stdout=subprocess.PIPE, env={**os.environ, "PYTHONPATH": str(root)})
    assert asked.stdout is not None
    pids = {int(asked.stdout.readline()) for _ in range(3)}
    asked.kill()
    asked.wait()
    until = time.monotonic() + 20
    while time.monotonic() < until and any(_runs(pid) for pid in pids):
        time.sleep(0.1)
    assert not [pid for pid in pids if _runs(pid)]


def _runs(pid: int) -> bool:
    try:
        return Path(f"/proc/{pid}/stat").read_text().split(")")[1].split()[0] != "Z"
    except OSError:
        return False


def test_the_picture_library_has_its_threads_back_when_the_last_is_done() -> None:
    before = cv2.getNumThreads()
    cv2.setNumThreads(2)
    try:
        one, other = single_threaded_pictures(), single_threaded_pictures()
        one.__enter__()
        other.__enter__()
        assert cv2.getNumThreads() == 1
        one.__exit__(None, None, None)
        assert cv2.getNumThreads() == 1
        other.__exit__(None, None, None)
        assert cv2.getNumThreads() == 2
    finally:
        cv2.setNumThreads(before)
