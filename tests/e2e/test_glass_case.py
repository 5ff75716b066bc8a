"""The barograph behind its glass in a real browser: a plane is drawn and followed, and a plate put over the lamp's reflection."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np
import pytest
from playwright.sync_api import Page, expect

from nimbus_sweep.core.media.reader import MovieReader
from nimbus_sweep.demo.carriers import GLASS_CASE, Carrier, Filmed
from nimbus_sweep.demo.glass import PASSING, Glass
from tests.e2e.conftest import Running, accessible, delivered, outline

pytestmark = pytest.mark.browser
# At half the size, until who passes in front is gone.
FRAMES = PASSING[1] + 2
CASE = Filmed(Glass, FRAMES, smaller=2)
SMALL = Carrier(GLASS_CASE.file, FRAMES, CASE.make)


@pytest.fixture(scope="module")
def running(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Running]:
    app = Running(tmp_path_factory.mktemp("glass"), "17", [SMALL])
    yield app
    app.stop()


def test_a_reflection_is_taken_off_the_glass(running: Running, page: Page) -> None:
    running.wait(1, "intake", 300)
    page.goto(f"{running.address}/reels/1/treatment")
    page.get_by_role("button", name="Add step: Plate patch").click()
    page.get_by_role("button", name="Draw a surface to track").click()
    outline(page, [(43, 29), (219, 29), (217, 118), (43, 118)])
    fold = page.locator("details[data-track]")
    expect(fold).to_contain_text("plane 1")
    fold.locator("summary").first.click()
    fold.get_by_role("button", name="both ways").click()
    assert running.wait(1, "track", 200)["state"] == "done"
    expect(fold.locator("summary").first).to_contain_text(f"held in {FRAMES} of {FRAMES}")
    # How well it holds is told of the frame that is shown.
    page.evaluate("() => window.nimbusBench.go(30)")
    expect(fold.locator("[data-track-said]")).to_contain_text("Frame 30: held")
    page.evaluate("() => window.nimbusBench.go(0)")
    fold.locator("summary").first.click()
    where = page.locator("details.region").first
    where.locator("summary").first.click()
    where.get_by_role("button", name="Outline").click()
    outline(page, [(59, 44), (202, 44), (201, 101), (59, 101)])
    expect(where.locator("[data-part]")).to_have_count(1)
    where.get_by_label("Follows").select_option("plane 1")
    expect(page.locator("#sheet")).to_contain_text("Light over time", timeout=120_000)
    accessible(page)
    # Who passes in front is darker than the paper, and stays.
    page.get_by_label("What stays in front of the patch").get_by_role("button", name="darker").click()
    page.wait_for_function("() => window.nimbusBench.treated", timeout=120_000)
    report = delivered(running, page)
    assert report["proof"]["proven"] and report["proof"]["outside"] == 0
    assert [s["title"] for s in report["shots"][0]["steps"]] == ["Plate patch"]
    out = next((running.data / "deliveries").rglob("*-treated.mkv"))
    source = MovieReader(running.data / "demo" / GLASS_CASE.file)
    for n in (10, 30, 58):
        before, after = source.frame(n), MovieReader(out).frame(n)
        glass = Glass(n)
        x, y, depth = glass.way @ [*glass.lamp, 1.0]
        # The scene is told in pixels of a picture four times the size.
        col, row = round(x / depth / 4), round(y / depth / 4)
        part = np.s_[row - 3 : row + 4, col - 4 : col + 5]
        paper = float(np.percentile(after.planes[0][row - 15 : row + 16, col - 20 : col + 21], 70))
        assert np.median(before.planes[0][part]) > paper + 15
        assert np.percentile(after.planes[0][part], 90) < paper + 10
        assert np.array_equal(before.planes[0][:20], after.planes[0][:20])
    # Someone passes in front, and is whole.
    number = sum(PASSING) // 2
    true = CASE.drawn(number, shining=False)[0].astype(float)
    before, after = (MovieReader(path).frame(number).planes[0].astype(float) for path in (source.path, out))
    passer = np.abs(true - CASE.drawn(0, shining=False)[0]) > 60
    assert np.abs(after - true)[passer].mean() < 1.2 * np.abs(before - true)[passer].mean() + 1
