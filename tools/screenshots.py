"""Takes the pictures of docs/screenshots from the demo, as a user sees it: ``make screenshots``."""

from __future__ import annotations

import shutil
import sys
import tempfile
from pathlib import Path

from playwright.sync_api import Page, sync_playwright

ROOT = Path(__file__).resolve().parent.parent
sys.path.insert(0, str(ROOT))

from tests.e2e.test_job import CHROMIUM, SWITCHES, Running  # noqa: E402

OUT = ROOT / "docs" / "screenshots"


def settle(page: Page, name: str, wait: int = 1800) -> None:
    """Let everything be drawn, then take the picture; `wait` in milliseconds."""
    page.wait_for_timeout(wait)
    page.evaluate("() => { const said = document.getElementById('said'); if (said) said.hidden = true; }")
    page.screenshot(path=OUT / f"{name}.png")


def main() -> None:
    """Play the job and take a picture of each view."""
    shutil.rmtree(OUT, ignore_errors=True)
    OUT.mkdir(parents=True)
    with tempfile.TemporaryDirectory() as folder, sync_playwright() as play:
        app = Running(Path(folder))
        for reel in range(1, 13):
            app.wait(reel, "intake", 240)
        page = play.chromium.launch(executable_path=CHROMIUM, args=SWITCHES).new_page(viewport={"width": 1280, "height": 800})
        page.goto(app.address)
        settle(page, "rack")
        page.goto(f"{app.address}/reels/1/intake")
        settle(page, "intake")
        page.goto(f"{app.address}/reels/5/intake")
        page.wait_for_function("() => window.nimbusBench.laid[0]", timeout=30_000)
        page.evaluate("() => window.nimbusBench.go(12)")
        page.eval_on_selector("#sheet", "sheet => { sheet.scrollTop = sheet.querySelector('.shots').offsetTop - 120; }")
        settle(page, "shots")
        page.goto(f"{app.address}/reels/3/intake")
        page.wait_for_function("() => window.nimbusBench.laid[0]", timeout=30_000)
        page.evaluate("() => window.nimbusBench.go(16)")
        settle(page, "scan")
        page.goto(f"{app.address}/reels/4/delivery")
        page.wait_for_function("() => window.nimbusBench.laid[0]", timeout=30_000)
        page.evaluate("() => window.nimbusBench.go(33)")
        settle(page, "repeats")
        page.goto(f"{app.address}/reels/1/condition")
        page.get_by_role("button", name="Survey this reel").click()
        app.wait(1, "survey")
        page.wait_for_selector("li[data-finding]")
        page.evaluate("() => window.nimbusBench.go(70)")
        page.locator("li[data-finding]", has_text="green").first.locator("summary").click()
        settle(page, "condition")
        page.get_by_role("button", name="Add step: Pixel mend").click()
        app.wait(1, "analysis")
        page.goto(f"{app.address}/reels/1/treatment")
        settle(page, "treatment")
        page.goto(f"{app.address}/reels/1/inspection")
        page.keyboard.press("4")
        page.locator("[data-view=split]").click()
        settle(page, "inspection")
        page.keyboard.press("0")
        page.locator("[data-view=difference]").click()
        settle(page, "difference")
        page.locator("[data-view=treated]").click()
        page.goto(f"{app.address}/reels/1/delivery")
        page.get_by_role("button", name="Render", exact=True).click()
        app.wait(1, "render")
        settle(page, "delivery")
        page.keyboard.press("g")
        page.goto(f"{app.address}/reels/1/inspection")
        page.get_by_role("button", name="Compare the delivery").click()
        app.wait(1, "inspection")
        settle(page, "dimmed")
        page.keyboard.press("g")
        page.goto(f"{app.address}/reels/7/condition")
        page.get_by_role("button", name="Survey this reel").click()
        app.wait(7, "survey", 120)
        page.wait_for_selector("li[data-finding]")
        page.evaluate("() => window.nimbusBench.go(60)")
        page.locator("li[data-finding]", has_text="Sensor dust").first.locator("summary").click()
        settle(page, "dust", 5000)
        page.keyboard.press("e")
        page.keyboard.press("e")
        settle(page, "average")
        page.keyboard.press("e")
        page.get_by_role("button", name="Add step: Unshade").click()
        app.wait(7, "analysis", 120)
        page.locator("li[data-finding]", has_text="Hair").first.locator("summary").click()
        page.goto(f"{app.address}/reels/7/treatment")
        page.wait_for_function("() => window.nimbusBench.treated", timeout=30_000)
        page.locator("[data-view=split]").click()
        page.evaluate("() => { window.nimbusBench.aim(1062, 276); window.nimbusBench.set({ split: 0.7 }); }")
        settle(page, "unshaded", 12_000)
        page.locator("[data-view=treated]").click()
        page.evaluate("() => window.nimbusBench.aim(560, 330)")
        page.locator("details.region summary").first.click()
        page.locator("details.region[open] [data-tool=outline]").click()
        box = page.locator("#picture").bounding_box()
        assert box is not None
        for x, y in ((0.3, 0.35), (0.62, 0.3), (0.7, 0.62), (0.36, 0.66)):
            page.mouse.click(box["x"] + x * box["width"], box["y"] + y * box["height"])
            page.wait_for_timeout(350)
        page.keyboard.press("Enter")
        settle(page, "region", 6000)
        page.keyboard.press("Control+z")
        page.goto(f"{app.address}/reels/8/condition")
        page.get_by_role("button", name="Survey this reel").click()
        app.wait(8, "survey", 120)
        page.wait_for_selector("li[data-finding]")
        page.evaluate("() => window.nimbusBench.go(96)")
        page.locator("li[data-finding]", has_text="veil").first.locator("summary").click()
        settle(page, "veils", 5000)
        page.get_by_role("button", name="Add step: Unshade").click()
        app.wait(8, "analysis", 240)
        page.goto(f"{app.address}/reels/8/delivery")
        page.get_by_role("button", name="Render", exact=True).click()
        app.wait(8, "render", 240)
        page.goto(f"{app.address}/reels/8/inspection")
        page.get_by_role("button", name="Compare the delivery").click()
        app.wait(8, "inspection", 120)
        page.locator("[data-view=split]").click()
        page.evaluate("() => window.nimbusBench.set({ split: 0.3 })")
        page.eval_on_selector("#sheet", "sheet => { sheet.scrollTop = sheet.scrollHeight; }")
        settle(page, "truth", 6000)
        page.goto(f"{app.address}/reels/9/condition")
        page.get_by_role("button", name="Survey this reel").click()
        app.wait(9, "survey", 120)
        page.wait_for_selector(".light-found")
        page.get_by_text("See the light").click()
        page.evaluate("() => window.nimbusBench.go(30)")
        settle(page, "light", 4000)
        page.goto(f"{app.address}/mains?reel=9&shutter=1/60&readout=34.7")
        settle(page, "mains")
        app.stop()


if __name__ == "__main__":
    main()
