"""The second job, run while nobody looks, through the list to deliveries and papers, by keys alone."""

from __future__ import annotations

import re
from collections.abc import Iterator
from dataclasses import replace

import pytest
from playwright.sync_api import Page, expect

from nimbus_sweep.core.media.opening import open_reel
from nimbus_sweep.demo.spring import REELS
from tests.e2e.conftest import Running, accessible


@pytest.fixture(scope="module")
def running(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Running]:
    """Three of its ten reels, shorter: stuck pixels, a sound one, and a camera that stands."""
    some = [replace(reel, frames=24) for reel in REELS if reel.file[:7] in ("reel-20", "reel-22", "reel-29")]
    started = Running(tmp_path_factory.mktemp("run"), reels="20,22,29", small=some)
    for number in range(1, 4):
        started.wait_ready(number)
    yield started
    started.stop()


def press_on(page: Page, name: str) -> None:
    """Go to a button with the Tab key alone and press Enter."""
    for _ in range(80):
        page.keyboard.press("Tab")
        if page.evaluate("() => document.activeElement?.textContent.trim()") == name:
            page.keyboard.press("Enter")
            return
    raise AssertionError(f"no {name} was reached with Tab")


def test_the_second_job_goes_from_run_to_papers_by_keys(running: Running, page: Page) -> None:
    page.goto(running.address)
    press_on(page, "Run")
    expect(page.get_by_role("dialog")).to_contain_text("What is sure is mended")
    accessible(page)
    press_on(page, "Run")
    expect(page.locator(".run")).to_contain_text("of 3 reels")
    # It can be held, and goes on.
    press_on(page, "Pause")
    expect(page.locator(".run")).to_contain_text("paused")
    press_on(page, "Go on")
    expect(page.locator(".run")).not_to_contain_text("paused")
    expect(page.locator(".run")).to_contain_text("Run over 3 reels.", timeout=600_000)
    told = page.locator(".run a").inner_text()
    press_on(page, told)
    page.wait_for_url("**/eyes")
    accessible(page)
    open_ = int(page.locator("#count").inner_text())
    assert open_ <= 9, "three for each reel at most"
    waits = re.search(r": (\d+)$", told)
    assert open_ == (int(waits[1]) if waits else 0)
    # Each is shown, accepted or left alone; the last decision can be taken back.
    turn = 0
    while int(page.locator("#count").inner_text()) and turn < 20:
        before = page.locator("#count").inner_text()
        expect(page.locator("#reason")).not_to_be_empty()
        if page.locator("#like-label").is_visible():
            page.keyboard.press("m")
        page.keyboard.press("l" if turn % 2 else "a")
        expect(page.locator("#count")).not_to_have_text(before)
        if turn == 0:
            page.keyboard.press("Control+z")
            expect(page.locator("#count")).to_have_text(before)
            page.keyboard.press("a")
            expect(page.locator("#count")).not_to_have_text(before)
        turn += 1
    expect(page.locator("#none-said")).to_have_text("Nothing needs eyes")
    page.keyboard.press("d")
    expect(page.locator("#done-body td:last-child", has_text="yes")).to_have_count(3, timeout=300_000)
    for number in range(1, 4):
        assert running.wait(number, "papers", 60)["state"] == "done"
    files = sorted((running.data / "deliveries").rglob("*.mkv"))
    assert len(files) == 3
    # The sound one comes back as it was, sample for sample.
    treated = next(p for p in files if "reel-22" in p.name)
    source = open_reel(running.data / "demo" / "reel-22-path.mkv")
    made = open_reel(treated)
    assert len(made) == len(source)
    for one, other in zip(source.frames(0, len(source)), made.frames(0, len(made)), strict=True):
        assert all((a == b).all() for a, b in zip(one.planes, other.planes, strict=True))
