"""Work spread over processes: in order, done over when a process is killed, let go of when nobody asks on."""

from __future__ import annotations

import multiprocessing
import os
import subprocess
import sys
import time
from pathlib import Path

import pytest

from nimbus_sweep.core.base.parallel import CORES, cores, in_processes, parallel_map


@pytest.fixture(autouse=True)
def two_cores(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setenv(CORES, "2")


def doubled(n: int) -> int:
    time.sleep(0.02 * (n % 3))
    return 2 * n


def dies_elsewhere(n: int) -> int:
    if n == 3 and multiprocessing.parent_process() is not None:
        os._exit(9)
    return 2 * n


def fails(n: int) -> int:
    if n == 2:
        raise ValueError("this one")
    return n


@pytest.mark.slow
def test_results_come_in_order() -> None:
    assert list(in_processes(doubled, range(9))) == [2 * n for n in range(9)]
    assert list(in_processes(doubled, [])) == []


@pytest.mark.slow
def test_one_core_is_worked_on_by_the_caller_alone(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setenv(CORES, "1")
    assert set(in_processes(told_where, range(3))) == {os.getpid()}
    assert list(parallel_map(doubled, range(5))) == [2 * n for n in range(5)]
    monkeypatch.setenv(CORES, "rubbish")
    assert cores() == (os.cpu_count() or 1)


@pytest.mark.slow
def test_what_a_killed_process_had_is_done_over() -> None:
    assert list(in_processes(dies_elsewhere, range(7))) == [2 * n for n in range(7)]


@pytest.mark.slow
def test_a_fault_is_told_and_stops_it() -> None:
    found = in_processes(fails, range(100))
    assert next(found) == 0
    with pytest.raises(ValueError, match="this one"):
        list(found)


WAITS = """
import time
from nimbus_sweep.core.base.parallel import in_processes
from tests.core.base.test_parallel import told_where
if __name__ == "__main__":
    for pid in in_processes(told_where, range(50)):
        print(pid, flush=True)
"""


def told_where(n: int) -> int:
    time.sleep(0.2)
    return os.getpid()


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
