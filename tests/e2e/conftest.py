"""The application as a user starts it, and a real browser to look at it with."""

from __future__ import annotations

import json
import shutil
import signal
import socket
import subprocess
import sys
import time
import urllib.request
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest
from playwright.sync_api import Browser, Page, sync_playwright

from tests.conftest import interruptible

CHROMIUM = shutil.which("chromium") or "/usr/bin/chromium"
SWITCHES = (
    "--no-sandbox --disable-gpu --disable-quic --no-first-run --disable-background-networking --disable-component-update --disable-sync"
).split()


class Running:
    """The application, started as a user starts it."""

    def __init__(self, data: Path, reels: str = "") -> None:
        with socket.socket() as probe:
            probe.bind(("127.0.0.1", 0))
            self.port = probe.getsockname()[1]
        self.data, self.reels = data, reels
        self.address = f"http://127.0.0.1:{self.port}"
        self.start()

    def start(self) -> None:
        command = [sys.executable, "-m", "nimbus_sweep", "demo", "--data", str(self.data), "--port", str(self.port), "--reels", self.reels]
        self.process = subprocess.Popen(command, stdout=subprocess.PIPE, text=True, start_new_session=True, preexec_fn=interruptible)
        assert self.process.stdout is not None
        said = self.process.stdout.readline()
        assert self.address in said

    def worker(self) -> int | None:
        """The process number of the worker."""
        for entry in Path("/proc").iterdir():
            if entry.name.isdigit():
                try:
                    words = (entry / "cmdline").read_bytes().split(b"\0")
                except OSError:
                    continue
                if b"worker" in words and str(self.data).encode() in words:
                    return int(entry.name)
        return None

    def state(self, reel: int) -> dict[str, Any]:
        with urllib.request.urlopen(f"{self.address}/reels/{reel}/state") as answer:
            return json.load(answer)

    def wait(self, reel: int, kind: str, seconds: float = 120) -> dict[str, Any]:
        until = time.monotonic() + seconds
        while time.monotonic() < until:
            tasks = [t for t in self.state(reel)["tasks"] if t["kind"] == kind]
            if tasks and tasks[0]["state"] not in ("waiting", "running"):
                return tasks[0]
            time.sleep(0.2)
        raise AssertionError(f"{kind} took longer than {seconds} s")

    def stop(self, how: int = signal.SIGINT) -> None:
        self.process.send_signal(how)
        self.process.wait(20)


@pytest.fixture(scope="module")
def browser() -> Iterator[Browser]:
    with sync_playwright() as play:
        opened = play.chromium.launch(executable_path=CHROMIUM, args=SWITCHES)
        yield opened
        opened.close()


@pytest.fixture
def page(browser: Browser) -> Iterator[Page]:
    opened = browser.new_page(viewport={"width": 1280, "height": 800})
    faults: list[str] = []
    opened.on("pageerror", lambda error: faults.append(str(error)))
    yield opened
    opened.close()
    assert faults == []


def bench(page: Page, name: str) -> Any:
    """One value of what the views share."""
    return page.evaluate("(name) => window.nimbusBench[name]", name)
