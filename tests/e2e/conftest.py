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
from collections.abc import Iterator, Sequence
from pathlib import Path
from typing import Any

import pytest
from playwright.sync_api import Browser, Page, expect, sync_playwright

from nimbus_sweep.demo.carriers import Carrier
from nimbus_sweep.demo.reels import DemoReel
from tests.conftest import interruptible

CHROMIUM = shutil.which("chromium") or "/usr/bin/chromium"
SWITCHES = (
    "--no-sandbox --disable-gpu --disable-quic --no-first-run --disable-background-networking --disable-component-update --disable-sync"
).split()

# Machines that test are shared: what takes a second alone may take ten beside other work.
expect.set_options(timeout=20_000)


class Running:
    """The application, started as a user starts it."""

    def __init__(self, data: Path, reels: str = "", small: Sequence[DemoReel | Carrier] = ()) -> None:
        """Start it with demo reels of some numbers; those in `small` are drawn here, shorter or smaller than the demo's own."""
        for reel in small:
            (data / "demo").mkdir(parents=True, exist_ok=True)
            reel.draw(data / "demo", lambda share: None)
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

    def wait_ready(self, reel: int, seconds: float = 120) -> None:
        """Wait until a reel was drawn and taken in."""
        until = time.monotonic() + seconds
        while time.monotonic() < until:
            if self.state(reel)["reel"] == "ready":
                return
            time.sleep(0.3)
        raise AssertionError(f"reel {reel} was not taken in within {seconds} s")

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


# WCAG 2.1, levels A and AA, and what the library's authors hold to be good practice.
RULES = ["wcag2a", "wcag2aa", "wcag21a", "wcag21aa", "best-practice"]
AXE = Path(__file__).parents[2] / "node_modules" / "axe-core" / "axe.min.js"


def accessible(page: Page) -> None:
    """Nothing on the page, as it is shown, keeps out who cannot see, point or tell colours apart (axe-core)."""
    page.evaluate(AXE.read_text())
    found = page.evaluate("(rules) => axe.run(document, { runOnly: rules }).then((told) => told.violations)", RULES)
    assert [(v["id"], v["nodes"][0]["html"], v["nodes"][0]["failureSummary"]) for v in found] == []


def outline(page: Page, corners: list[tuple[float, float]]) -> None:
    """Click round, and close with Enter."""
    for x, y in corners:
        at = page.evaluate(
            """([x, y]) => { const c = document.getElementById('picture'), p = window.nimbusBench.place(c.clientWidth, c.clientHeight),
            b = c.getBoundingClientRect(); return [b.left + p.left + (x + 0.5) * p.across, b.top + p.top + (y + 0.5) * p.scale]; }""",
            [x, y],
        )
        page.mouse.click(*at)
    page.keyboard.press("Enter")


def surveyed(running: Running, page: Page, meant: int = 0) -> None:
    """Survey the one reel there is, dismiss so many findings that are meant to be so, and go on to its treatment."""
    running.wait(1, "intake", 300)
    page.goto(f"{running.address}/reels/1/condition")
    page.get_by_role("button", name="Survey this reel").click()
    assert running.wait(1, "survey", 300)["state"] == "done"
    expect(page.get_by_role("button", name="Survey again")).to_be_visible(timeout=20_000)
    for _ in range(meant):
        page.get_by_role("button", name="Dismiss").first.click()
    expect(page.get_by_role("button", name="Dismiss")).to_have_count(0)
    page.get_by_role("navigation").get_by_role("link", name="Treatment").click()


def inspected(running: Running, page: Page) -> None:
    """Check and accept what was treated."""
    page.get_by_role("link", name="On to Inspection").click()
    page.get_by_role("button", name="Check", exact=True).click()
    assert running.wait(1, "check", 300)["state"] == "done"
    expect(page.locator("#sheet")).to_contain_text("What the treatment did", timeout=20_000)
    places = page.get_by_label("Places most worth a look").get_by_role("button")
    if places.count():
        places.first.click()
        expect(page.locator("#tag-picture")).to_contain_text("400 %")
    page.get_by_role("button", name="Accept").click()
    expect(page.get_by_role("button", name="Accept")).to_have_attribute("aria-pressed", "true")


def delivered(running: Running, page: Page) -> dict[str, Any]:
    """Render what was treated, prove it, write the papers; gives the treatment report."""
    page.get_by_role("navigation").get_by_role("link", name="Delivery").click()
    page.get_by_role("button", name="Render", exact=True).click()
    assert running.wait(1, "render", 300)["state"] == "done"
    page.get_by_role("link", name="Verify against the source").click()
    page.get_by_role("button", name="Compare the delivery").click()
    expect(page.locator("#sheet")).to_contain_text("Nothing else changed.", timeout=120_000)
    page.get_by_role("link", name="On to Delivery").click()
    page.get_by_role("button", name="Write the papers").click()
    assert running.wait(1, "papers", 120)["state"] == "done"
    with page.context.expect_page() as opened:
        page.get_by_role("link", name="Treatment report").click()
    paper = opened.value
    expect(paper.get_by_role("heading", name="Treatment report")).to_be_visible()
    # All it shows, it carries with it.
    assert paper.evaluate("() => [...document.images].every((i) => i.complete && i.naturalWidth > 0 && i.src.startsWith('data:'))")
    assert paper.evaluate("() => document.fonts.check('16px Barlow Semi Condensed')")
    paper.close()
    return json.loads(next((running.data / "papers").rglob("treatment.json")).read_text())
