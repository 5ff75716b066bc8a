"""A server that ends by itself is started again, later each time; one that is stopped, or cannot start, is not."""

from __future__ import annotations

import os
import signal
import subprocess
import sys
import time
from itertools import pairwise
from pathlib import Path

import pytest

SERVER = """
import os, signal, sys, time
from pathlib import Path
from nimbus_sweep.cli.watcher import watched
from nimbus_sweep.core.base.errors import SweepError

told, ways = Path(sys.argv[1]), sys.argv[2:]

def run():
    with told.open("a") as stream:
        stream.write(f"{os.getpid()} {time.monotonic()}\\n")
    way = ways[min(len(told.read_text().splitlines()), len(ways)) - 1]
    if way == "killed":
        os.kill(os.getpid(), signal.SIGKILL)
    elif way == "failed":
        raise ValueError("unforeseen")
    elif way == "refused":
        raise SweepError("Port 80 is taken.")
    elif way == "serves":
        time.sleep(60)

watched(run, first=0.2)
"""


def started(told: Path, *ways: str) -> subprocess.Popen[str]:
    return subprocess.Popen([sys.executable, "-c", SERVER, str(told), *ways], stderr=subprocess.PIPE, text=True)


def starts(told: Path) -> list[tuple[int, float]]:
    return [(int(pid), float(at)) for pid, at in (line.split() for line in told.read_text().splitlines())]


def until(condition: object, seconds: float = 20) -> None:
    end = time.monotonic() + seconds
    while not condition():  # type: ignore[operator]
        assert time.monotonic() < end
        time.sleep(0.02)


def gone(pid: int) -> bool:
    try:
        os.kill(pid, 0)
    except ProcessLookupError:
        return True
    return Path(f"/proc/{pid}/stat").read_text().split()[2] == "Z"


def test_it_is_started_again_later_each_time(tmp_path: Path) -> None:
    told = tmp_path / "told"
    watch = started(told, "killed", "failed", "killed", "ends")
    _, said = watch.communicate(timeout=30)
    assert watch.returncode == 0
    times = [at for _, at in starts(told)]
    waits = [b - a for a, b in pairwise(times)]
    assert len(times) == 4
    assert [w >= least for w, least in zip(waits, (0.2, 0.4, 0.8), strict=True)] == [True] * 3
    assert "signal 9" in said
    assert "something unforeseen" in said
    assert "in 0.8 s" in said


def test_what_cannot_start_is_not_started_again(tmp_path: Path) -> None:
    watch = started(tmp_path / "told", "refused")
    _, said = watch.communicate(timeout=30)
    assert watch.returncode == 1
    assert said == "nimbus-sweep: Port 80 is taken.\n"
    assert len(starts(tmp_path / "told")) == 1


@pytest.mark.parametrize("how", [signal.SIGTERM, signal.SIGINT, signal.SIGKILL])
def test_the_server_ends_with_its_watch(tmp_path: Path, how: signal.Signals) -> None:
    told = tmp_path / "told"
    watch = started(told, "serves")
    until(told.exists)
    until(lambda: starts(told))
    server = starts(told)[0][0]
    watch.send_signal(how)
    watch.communicate(timeout=10)
    until(lambda: gone(server), 5)
    assert len(starts(told)) == 1
    assert watch.returncode == (0 if how == signal.SIGINT else -how)
