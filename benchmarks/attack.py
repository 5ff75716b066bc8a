"""What is done to the application from outside, at length: files that are damaged, processes that are killed, many who change at once."""

from __future__ import annotations

import hashlib
import json
import os
import random
import signal
import socket
import subprocess
import sys
import threading
import time
import urllib.error
import urllib.request
from collections import Counter
from pathlib import Path
from typing import Any

from benchmarks.material import MemorySource, clip
from nimbus_sweep.core.base.errors import SweepError
from nimbus_sweep.core.media.reader import MovieReader
from tests.conftest import small, write_movie
from tests.core.media.test_damage import FORMATS, WAYS, alike, coded, read

EACH, RENDERS, THREADS, SECONDS = 400, 12, 6, 20.0


def run(folder: Path) -> None:
    """Print the tables."""
    mutations(folder)
    kills(folder)
    storm(folder)


def mutations(folder: Path) -> None:
    """Files of ten formats altered in five ways: told to be damaged, read as they were, taken as whole though they show something else."""
    print(f"\nDamaged files, {EACH} of each format: told; read as it was; taken as whole though it shows something else; traceback")
    rng = random.Random(int(os.environ.get("SEED", "1")))
    for name, how in FORMATS.items():
        path = coded(folder / name, *how)
        sound, wanted = path.read_bytes(), read(path)
        altered = folder / f"altered-{name}"
        ends: Counter[str] = Counter()
        for n in range(EACH):
            altered.write_bytes(WAYS[n % len(WAYS)](sound, rng))
            ends[_end(altered, wanted)] += 1
        print(f"  {name:<12}" + "".join(f"{ends[end]:>8}" for end in ("told", "same", "wrong", "traceback")))


def _end(path: Path, wanted: Any) -> str:
    try:
        end = "same" if alike(read(path), wanted) else "wrong"
    except SweepError:
        end = "told"
    except Exception:
        return "traceback"
    try:
        reader = MovieReader(path, accept_missing=True)
        list(reader.frames(0, len(reader)))
    except SweepError:
        pass
    except Exception:
        return "traceback"
    return end


class Served:
    """The application, started as its user starts it."""

    def __init__(self, data: Path, allowed: Path) -> None:
        with socket.socket() as probe:
            probe.bind(("127.0.0.1", 0))
            self.port = probe.getsockname()[1]
        self.data = data
        command = [sys.executable, "-m", "nimbus_sweep", "serve", "--data", str(data), "--port", str(self.port), "--allow", str(allowed)]
        self.process = subprocess.Popen(command, stdout=subprocess.PIPE, stderr=subprocess.DEVNULL, text=True)
        assert self.process.stdout is not None
        self.process.stdout.readline()

    def ask(self, url: str, body: dict[str, Any] | None = None) -> Any:
        """Get what is at an address, or post to it."""
        head = {"X-Requested-By": "nimbus-sweep", "Accept": "application/json", "Content-Type": "application/json"}
        data = None if body is None else json.dumps(body).encode()
        asked = urllib.request.Request(f"http://127.0.0.1:{self.port}{url}", data, head)
        with urllib.request.urlopen(asked, timeout=30) as answer:
            return json.load(answer)

    def patiently(self, url: str, body: dict[str, Any] | None = None) -> Any:
        """The same, until it is there again."""
        until = time.monotonic() + 60
        while True:
            try:
                return self.ask(url, body)
            except (urllib.error.URLError, ConnectionError):
                if time.monotonic() > until:
                    raise
                time.sleep(0.1)

    def taken_in(self, path: Path) -> int:
        """A reel, once it is ready."""
        reel = int(self.ask("/reels/open", {"path": str(path)})["id"])
        self.ended(reel, "intake")
        return reel

    def ended(self, reel: int, kind: str, task: int = 0) -> dict[str, Any]:
        """A piece of work, once it has ended."""
        while True:
            tasks = [t for t in self.patiently(f"/reels/{reel}/state")["tasks"] if t["kind"] == kind and t["id"] >= task]
            if tasks and tasks[0]["state"] not in ("waiting", "running"):
                return dict(tasks[0])
            time.sleep(0.05)

    def processes(self) -> dict[str, int]:
        """Numbers of the server that is watched, and of its worker."""
        found = {}
        for entry in Path("/proc").iterdir():
            try:
                words = (entry / "cmdline").read_bytes().split(b"\0") if entry.name.isdigit() else []
                parent = int((entry / "stat").read_text().rsplit(")", 1)[1].split()[1]) if words else 0
            except (OSError, IndexError):
                continue
            if str(self.data).encode() in words:
                if b"worker" in words:
                    found["worker"] = int(entry.name)
                elif parent == self.process.pid:
                    found["server"] = int(entry.name)
        return found

    def kill(self, who: str) -> bool:
        """Kill one of them; whether it was there."""
        number = self.processes().get(who)
        if number is None:
            return False
        try:
            os.kill(number, signal.SIGKILL)
        except ProcessLookupError:
            return False
        return True

    def stop(self) -> None:
        """End it."""
        self.process.terminate()
        self.process.wait(20)


def _long(frames: int) -> MemorySource:
    source = clip("bikes-3")
    return source.over([source.pictures[n % len(source.pictures)] for n in range(frames)])


def kills(folder: Path) -> None:
    """Renders whose worker or server is killed at random: each has to come out as the one that was left in peace."""
    served = Served(folder / "killed", folder)
    reel = served.taken_in(write_movie(folder / "pan.mkv", _long(360)))
    sites = [{"x": 100, "y": 100, "width": 1, "height": 1}]
    served.ask(f"/reels/{reel}/recipe", {"steps": [{"kind": "pixel-mend", "settings": {"sites": sites}}]})
    served.ended(reel, "analysis")
    rng, sums, killed = random.Random(2), [], Counter[str]()
    for n in range(RENDERS + 1):
        task = int(served.patiently(f"/reels/{reel}/render", {})["task"])
        for _ in range(0 if n == 0 else rng.randint(1, 3)):
            time.sleep(rng.uniform(0.1, 1.0))
            who = "server" if rng.random() < 0.3 else "worker"
            killed[who] += served.kill(who)
        ended = served.ended(reel, "render", task)
        name = next((served.data / "deliveries" / str(task)).glob("*.mkv")) if ended["state"] == "done" else None
        sums.append(hashlib.sha256(name.read_bytes()).hexdigest() if name else ended.get("error", ended["state"]))
    served.stop()
    print(
        f"\nKilled in mid-render: {killed['worker']} workers and {killed['server']} servers in {RENDERS} renders; "
        f"{sum(s == sums[0] for s in sums[1:])} of {RENDERS} came out as the one left in peace"
    )
    for wrong in {s for s in sums if s != sums[0]}:
        print(f"  otherwise: {wrong}")


def storm(folder: Path) -> None:
    """Changes by several at once while the server is killed again and again: what was answered has to be there."""
    served = Served(folder / "stormed", folder)
    reel = served.taken_in(write_movie(folder / "long.mkv", _small(900)))
    places = list(range(2, 899))
    random.Random(3).shuffle(places)
    acknowledged: list[int] = []
    refused, until, lock = Counter[str](), time.monotonic() + SECONDS, threading.Lock()

    def change() -> None:
        while time.monotonic() < until:
            with lock:
                if not places:
                    return
                at = places.pop()
            try:
                served.ask(f"/reels/{reel}/cuts", {"at": at})
                acknowledged.append(at)
            except urllib.error.HTTPError as error:
                refused[str(error.code)] += 1
            except (OSError, ValueError):
                refused["unanswered"] += 1
                time.sleep(0.1)

    threads = [threading.Thread(target=change) for _ in range(THREADS)]
    for thread in threads:
        thread.start()
    killed = 0
    while time.monotonic() < until:
        time.sleep(3)
        killed += served.kill("server")
    for thread in threads:
        thread.join()
    there = {int(s["first"]) for s in served.patiently(f"/reels/{reel}/state")["shots"]}
    served.stop()
    lost = sorted(set(acknowledged) - there)
    print(
        f"\n{THREADS} at once for {SECONDS:.0f} s, the server killed {killed} times: {len(acknowledged)} changes answered, {len(lost)} of them lost; "
        + ", ".join(f"{count} {why}" for why, count in sorted(refused.items()))
    )


def _small(frames: int) -> MemorySource:
    source = small(30, 64, 48)
    return source.over([source.pictures[n % 30] for n in range(frames)])
