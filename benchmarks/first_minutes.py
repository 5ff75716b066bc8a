"""The first minutes of someone new, in a fresh clone: the installation, the demo until it can be worked with, and all tests."""

from __future__ import annotations

import json
import os
import re
import shutil
import signal
import socket
import subprocess
import time
import urllib.request
from pathlib import Path
from typing import Any

ROOT = Path(__file__).resolve().parent.parent


class _Demo:
    """`make demo` in a clone, until stopped."""

    def __init__(self, clone: Path, data: Path) -> None:
        with socket.socket() as probe:
            probe.bind(("127.0.0.1", 0))
            self.port = probe.getsockname()[1]
        self.began = time.monotonic()
        # It is stopped as a user does, by Ctrl+C, also where this runs behind a `&` and would hand on that it is ignored.
        self._process = subprocess.Popen(
            ["make", "demo", f"DATA={data}", f"PORT={self.port}"],
            cwd=clone,
            stdout=subprocess.DEVNULL,
            stderr=subprocess.DEVNULL,
            start_new_session=True,
            preexec_fn=lambda: signal.signal(signal.SIGINT, signal.SIG_DFL),
        )

    def passed(self) -> float:
        return time.monotonic() - self.began

    def get(self, path: str) -> str:
        with urllib.request.urlopen(f"http://127.0.0.1:{self.port}{path}", timeout=10) as answer:
            return str(answer.read().decode())

    def post(self, path: str, body: Any) -> None:
        asked = {"Content-Type": "application/json", "X-Requested-By": "nimbus-sweep"}
        sent = urllib.request.Request(f"http://127.0.0.1:{self.port}{path}", json.dumps(body).encode(), asked, method="POST")
        urllib.request.urlopen(sent, timeout=10).close()

    def until(self, there: Any, most: float = 900) -> float:
        """Seconds from the start until something is so."""
        while self.passed() < most:
            try:
                if there():
                    return self.passed()
            except OSError:
                pass
            time.sleep(0.05)
        raise TimeoutError(f"not within {most} s")

    def stop(self) -> None:
        os.killpg(self._process.pid, signal.SIGINT)
        self._process.wait(20)
        # The port is let go when the application itself has ended.
        while True:
            try:
                socket.create_connection(("127.0.0.1", self.port), 1).close()
                time.sleep(0.1)
            except OSError:
                return


def run(folder: Path) -> None:
    """Print how long each takes; the old figures beside them are those of the version before, on the same kind of machine."""
    clone, data = folder / "clone", folder / "data"
    subprocess.run(["git", "clone", "--quiet", str(ROOT), str(clone)], check=True)
    before = _stolen()
    print(f"\nThe first minutes, in a fresh clone on {os.cpu_count()} cores")
    _line("make env: libraries, compiled loops", _timed(["make", "env"], clone), "")
    demo = _Demo(clone, data)
    _line("make demo: the page answers", demo.until(lambda: demo.get("/")), "5 s; over 15 min before")
    ready = demo.until(lambda: json.loads(demo.get("/reels/1/state"))["reel"] == "ready")
    _line("reel 01 is taken in and can be opened and surveyed", ready, "20 s")
    demo.get("/reels/1/condition")
    drawn = demo.until(lambda: 'data-state="drawing"' not in demo.get("/rack/list"))
    _line("all nineteen are drawn", drawn, "120 s; 584 s of CPU for thirteen before")
    _line("all nineteen are taken in", demo.until(lambda: "data-busy" not in demo.get("/rack/list")), "")
    demo.stop()
    again = _Demo(clone, data)
    _line("a second start answers", again.until(lambda: again.get("/")), "3 s")
    again.post("/reels/1/survey", {"shots": [0]})
    tasks = lambda: [t for t in json.loads(again.get("/reels/1/state"))["tasks"] if t["kind"] == "survey"]  # noqa: E731
    asked = again.passed()
    _line("a survey of reel 01", again.until(lambda: tasks() and tasks()[0]["state"] == "done") - asked, "")
    again.stop()
    shutil.rmtree(data)
    _line("what make test installs", _timed(["make", "test-env", "js-env", "browser"], clone), "")
    tests = subprocess.run(["make", "test"], cwd=clone, capture_output=True, text=True)
    (folder / "tests.log").write_text(tests.stdout + tests.stderr)
    told = re.findall(r"(\d+ (?:passed|failed).*) in ([\d.]+)s", tests.stdout)
    _line(f"make test: {told[-1][0] if told else 'failed'}", float(told[-1][1]) if told else 0.0, "480 s; 28 to 29 min before")
    _line("make quick", _timed(["make", "quick"], clone), "60 s")
    print(f"  taken by other guests of the machine meanwhile: {(_stolen() - before):.0f} s of its cores")


def _timed(command: list[str], folder: Path) -> float:
    began = time.monotonic()
    subprocess.run(command, cwd=folder, check=True, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
    return time.monotonic() - began


def _stolen() -> float:
    """Seconds of the cores that a shared machine gave to others, where it tells (Linux: ``steal`` of /proc/stat)."""
    try:
        return int(Path("/proc/stat").read_text().split("\n", 1)[0].split()[8]) / os.sysconf("SC_CLK_TCK")
    except (OSError, IndexError, ValueError):
        return 0.0


def _line(what: str, seconds: float, aim: str) -> None:
    print(f"  {what:<64} {seconds:7.1f} s" + (f"   (aim {aim})" if aim else ""), flush=True)
