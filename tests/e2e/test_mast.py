"""The wall under the mast in a real browser: a tripod goes, the beacons go on flashing where it stood."""

from __future__ import annotations

import hashlib
from collections.abc import Iterator

import numpy as np
import pytest
from playwright.sync_api import Page, expect

from nimbus_sweep.core.media.reader import MovieReader
from nimbus_sweep.demo.carriers import MAST, Carrier, Filmed
from nimbus_sweep.demo.mast import MAST_FRAMES, Mast
from tests.e2e.conftest import Running, delivered, inspected, outline, surveyed

pytestmark = pytest.mark.browser
# Every second frame, at half the size.
WALL = Filmed(Mast, MAST_FRAMES, every=2, smaller=2)
SMALL = Carrier(MAST.file, MAST_FRAMES // 2, WALL.make)


@pytest.fixture(scope="module")
def running(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Running]:
    app = Running(tmp_path_factory.mktemp("mast"), "18", [SMALL])
    yield app
    app.stop()


def test_the_tripod_goes_and_the_beacons_flash_on(running: Running, page: Page) -> None:
    surveyed(running, page, meant=1)
    page.get_by_role("button", name="Add step: Plate patch").click()
    page.get_by_role("button", name="Draw a surface to track").click()
    outline(page, [(10, 7), (309, 7), (309, 172), (10, 172)])
    fold = page.locator("details[data-track]")
    fold.locator("summary").first.click()
    fold.get_by_role("button", name="both ways").click()
    assert running.wait(1, "track", 200)["state"] == "done"
    expect(fold.locator("summary").first).to_contain_text("held in 36 of 36")
    fold.locator("summary").first.click()
    # In the frame in which the wall stands highest, so that the legs are covered down to the edge in all.
    page.evaluate("() => window.nimbusBench.go(18)")
    where = page.locator("details.region").first
    where.locator("summary").first.click()
    where.get_by_role("button", name="Outline").click()
    outline(page, [(119, 35), (220, 35), (244, 179), (95, 179)])
    expect(where.locator("[data-part]")).to_have_count(1)
    where.get_by_label("Follows").select_option("plane 1")
    expect(page.locator("#sheet")).to_contain_text("Light over time", timeout=120_000)
    page.wait_for_function("() => window.nimbusBench.treated", timeout=120_000)
    inspected(running, page)
    report = delivered(running, page)
    assert report["proof"]["proven"]
    assert report["shots"][0]["verdict"] == "accepted"
    out = next((running.data / "deliveries").rglob("*-treated.mkv"))
    assert report["files"][0]["sha256"] == hashlib.sha256(out.read_bytes()).hexdigest()
    source, treated = MovieReader(running.data / "demo" / MAST.file), MovieReader(out)
    seen = []
    for n in (0, 4, 8, 16, 25, 35):
        # The scene is told in pixels of a picture four times the size.
        x, y = (round(v / 4) for v in Mast(2 * n).tripod)
        part, true = np.s_[y - 11 : y + 75, x - 15 : x + 15], [p.astype(float) for p in WALL.drawn(n, standing=False)]
        before, after = (frame.planes[0][part].astype(float) for frame in (source.frame(n), treated.frame(n)))
        # What stood there is gone: far nearer to the wall without it.
        assert np.abs(after - true[0][part]).mean() < 0.35 * np.abs(before - true[0][part]).mean(), n
        # And each flash is on the wall that was put there, in its colour: Cr and Cb of the place, in codes.
        small = np.s_[y // 2 : y // 2 + 30, x // 2 - 6 : x // 2 + 6]
        for plane in (1, 2):
            own, wanted = treated.frame(n).planes[plane][small].mean(), true[plane][small].mean()
            assert abs(own - wanted) < 1.5, (n, plane)
        seen.append(float(treated.frame(n).planes[2][small].mean()))
    assert max(seen) - min(seen) > 6, "the red beacon is seen to flash"
