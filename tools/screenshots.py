"""Takes the pictures of docs/screenshots from the demo, as a user sees it: ``make screenshots``."""

from __future__ import annotations

import shutil
import sys
import tempfile
from pathlib import Path

from playwright.sync_api import Page, sync_playwright

ROOT = Path(__file__).resolve().parent.parent
sys.path.insert(0, str(ROOT))

from tests.e2e.conftest import CHROMIUM, SWITCHES, Running  # noqa: E402

OUT = ROOT / "docs" / "screenshots"


def settle(page: Page, name: str, wait: int = 1800) -> None:
    """Let everything be drawn, then take the picture; `wait` in milliseconds."""
    page.wait_for_timeout(wait)
    page.evaluate("() => { const said = document.getElementById('said'); if (said) said.hidden = true; }")
    page.screenshot(path=OUT / f"{name}.png")


def worn(page: Page, app: Running, reel: int) -> None:
    """Worn film: surveyed, treated, and a burn half brushed away."""
    page.goto(f"{app.address}/reels/{reel}/condition")
    page.get_by_role("button", name="Survey this reel").click()
    app.wait(reel, "survey", 400)
    for step in ("Line lift", "Cue lift", "Speck sweep"):
        page.get_by_role("button", name=f"Add step: {step}").click()
    brushed(page, app, reel)


def brushed(page: Page, app: Running, reel: int) -> None:
    """A burn half brushed away, the brush still down."""
    page.goto(f"{app.address}/reels/{reel}/treatment")
    page.get_by_text("Add another step").click()
    page.get_by_role("button", name="Add step: Retouch").click()
    page.wait_for_function("() => window.nimbusBench.treated", timeout=400_000)
    page.evaluate("() => { window.nimbusBench.go(122); window.nimbusBench.aim(236, 165); }")
    page.get_by_role("button", name="Reveal", exact=True).click()
    page.locator("[data-brush-set=away]").fill("22")
    page.locator("[data-brush-set=away]").press("Tab")
    page.wait_for_timeout(4000)
    box = page.locator("#picture").bounding_box()
    assert box is not None
    scale = box["width"] / 640
    page.mouse.move(box["x"] + 268 * scale, box["y"] + 140 * scale)
    page.mouse.down()
    for x, y in ((276, 168), (262, 196), (250, 172)):
        page.mouse.move(box["x"] + x * scale, box["y"] + y * scale, steps=8)
    page.eval_on_selector("#sheet", "(sheet) => { sheet.scrollTop = sheet.querySelector('[data-retouch]').offsetTop - 160; }")
    settle(page, "worn", 1500)
    page.mouse.up()
    page.keyboard.press("u")


def gulls(page: Page, app: Running, reel: int) -> None:
    """Clouds in time lapse: gulls taken off on the right of the split, a slow figure told of."""
    page.goto(f"{app.address}/reels/{reel}/treatment")
    page.get_by_role("button", name="Add step: Fleeting").click()
    page.wait_for_function("() => window.nimbusBench.treated", timeout=400_000)
    page.evaluate("() => { window.nimbusBench.go(31); window.nimbusBench.aim(98, 344); window.nimbusBench.set({ split: 0.5 }); }")
    page.locator("[data-view=split]").click()
    page.eval_on_selector("#sheet", "(sheet) => { sheet.scrollTop = 0; }")
    settle(page, "gulls", 6000)
    page.locator("[data-view=treated]").click()


def glass(page: Page, app: Running, reel: int) -> None:
    """A plane that is followed, and a plate on it."""
    app.wait(reel, "intake", 300)
    page.goto(f"{app.address}/reels/{reel}/treatment")
    plane = {"kind": "outline", "corners": [{"x": x, "y": y} for x, y in ((86, 58), (438, 58), (434, 236), (86, 236))]}
    where = {"kind": "outline", "corners": [{"x": x, "y": y} for x, y in ((118, 88), (404, 88), (402, 202), (118, 202))]}
    head = {"X-Requested-By": "nimbus-sweep"}
    at = f"{app.address}/reels/{reel}"
    page.request.post(f"{at}/tracks?shot=0", data={"shape": plane, "frame": 0}, headers=head)
    page.request.post(f"{at}/tracks/0/follow?shot=0", data={"direction": "both", "frame": 0}, headers=head)
    app.wait(reel, "track", 200)
    page.request.post(f"{at}/steps?shot=0", data={"kind": "plate-patch"}, headers=head)
    page.request.post(f"{at}/steps/0/region/parts?shot=0", data={"shape": where, "frame": 0}, headers=head)
    page.request.post(f"{at}/steps/0/region/ride?shot=0", data={"track": "plane 1", "frame": 0}, headers=head)
    page.reload()
    page.wait_for_function("() => window.nimbusBench.treated", timeout=120_000)
    page.evaluate("() => window.nimbusBench.go(24)")
    page.keyboard.press("h")
    page.locator("details[data-track] summary").first.click()
    page.evaluate("() => { document.getElementById('sheet').scrollTop = 0; }")
    settle(page, "glass", 2500)


def main() -> None:
    """Play the job and take a picture of each view; of worn film, or of the glass, alone when asked to."""
    alone = {"worn": ("15,16", (worn, gulls)), "glass": ("17", (glass,))}
    if sys.argv[1:] and sys.argv[1] in alone:
        reels, takes = alone[sys.argv[1]]
        with tempfile.TemporaryDirectory() as folder, sync_playwright() as play:
            app = Running(Path(folder), reels)
            page = play.chromium.launch(executable_path=CHROMIUM, args=SWITCHES).new_page(viewport={"width": 1280, "height": 800})
            for reel, take in enumerate(takes, start=1):
                app.wait(reel, "intake", 240)
                take(page, app, reel)
            app.stop()
        return
    shutil.rmtree(OUT, ignore_errors=True)
    OUT.mkdir(parents=True)
    with tempfile.TemporaryDirectory() as folder, sync_playwright() as play:
        app = Running(Path(folder))
        for reel in range(1, 18):
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
        page.goto(f"{app.address}/reels/1/condition")
        page.get_by_role("button", name="Survey this reel").click()
        app.wait(1, "survey", 300)
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
        app.wait(7, "survey", 300)
        page.wait_for_selector("li[data-finding]")
        page.evaluate("() => window.nimbusBench.go(60)")
        page.locator("li[data-finding]", has_text="Sensor dust").first.locator("summary").click()
        settle(page, "dust", 5000)
        page.get_by_role("button", name="Add step: Unshade").click()
        app.wait(7, "analysis", 300)
        page.locator("li[data-finding]", has_text="Hair").first.locator("summary").click()
        page.goto(f"{app.address}/reels/7/treatment")
        page.wait_for_function("() => window.nimbusBench.treated", timeout=30_000)
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
        app.wait(8, "survey", 300)
        page.wait_for_selector("li[data-finding]")
        page.evaluate("() => window.nimbusBench.go(96)")
        page.locator("li[data-finding]", has_text="veil").first.locator("summary").click()
        page.get_by_role("button", name="Add step: Unshade").click()
        app.wait(8, "analysis", 300)
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
        app.wait(9, "survey", 300)
        page.wait_for_selector(".light-found")
        page.get_by_text("See the light").click()
        page.evaluate("() => window.nimbusBench.go(30)")
        settle(page, "light", 4000)
        page.goto(f"{app.address}/reels/13/condition")
        page.get_by_role("button", name="Survey this reel").click()
        app.wait(13, "survey", 300)
        page.get_by_role("button", name="Add step: Steady bands").click()
        app.wait(13, "analysis", 300)
        page.goto(f"{app.address}/reels/13/treatment")
        page.locator("summary", has_text="2. Bands and patches").click()
        page.evaluate("() => window.nimbusBench.go(31)")
        settle(page, "order", 5000)
        page.goto(f"{app.address}/reels/10/treatment")
        page.get_by_role("button", name="Add step: Steady frame").click()
        app.wait(10, "analysis", 300)
        page.goto(f"{app.address}/reels/10/trials")
        page.evaluate("() => window.nimbusBench.go(30)")
        page.locator("[data-field=values]").fill("3, 5")
        page.get_by_text("Another step, or a cause").click()
        page.locator("[data-field=others][value='step:frame-blend']").check()
        page.get_by_role("button", name="Compute the trial").click()
        app.wait(10, "trial", 60)
        page.wait_for_selector("li[data-way]")
        settle(page, "trials", 4000)
        worn(page, app, 15)
        glass(page, app, 17)
        gulls(page, app, 16)
        page.goto(f"{app.address}/mains?reel=9&shutter=1/60&readout=34.7")
        settle(page, "mains")
        app.stop()


if __name__ == "__main__":
    main()
