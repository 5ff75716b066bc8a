"""Takes the pictures of docs/screenshots from the demo, as a user sees it.

``make screenshots`` takes all of them; ``tools/screenshots.py glass mast`` those of the parts that are named.
"""

from __future__ import annotations

import os
import re
import sys
import tempfile
from collections.abc import Callable
from pathlib import Path

from playwright.sync_api import Page, sync_playwright

ROOT = Path(__file__).resolve().parent.parent
sys.path.insert(0, str(ROOT))

from nimbus_sweep.core.base.parallel import CORES
from tests.e2e.conftest import CHROMIUM, SWITCHES, Running

# The pictures are taken alone, on all cores.
os.environ.pop(CORES, None)
OUT = ROOT / "docs" / "screenshots"
HEAD = {"X-Requested-By": "nimbus-sweep"}


def resolve(page: Page, name: str, wait: int = 1800) -> None:
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
    resolve(page, "worn", 1500)
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
    resolve(page, "gulls", 6000)
    page.locator("[data-view=treated]").click()


def outlined(corners: tuple[tuple[float, float], ...]) -> dict[str, object]:
    """An outline as it is drawn."""
    return {"kind": "outline", "corners": [{"x": x, "y": y} for x, y in corners]}


def number(page: Page, at: str, owner: str) -> str:
    """The number of the first of a reel's steps or tracks, as its sheet has it."""
    found = re.search(rf"/{owner}/(\d+)", page.request.get(f"{at}/sheet/treatment").text())
    assert found is not None
    return found[1]


def patched(page: Page, app: Running, reel: int, plane: tuple[tuple[float, float], ...], where: tuple[tuple[float, float], ...]) -> None:
    """A plane that is followed, and a plate on it."""
    at = f"{app.address}/reels/{reel}"
    page.request.post(f"{at}/tracks", data={"shape": outlined(plane), "frame": 0}, headers=HEAD)
    page.request.post(f"{at}/tracks/{number(page, at, 'tracks')}/follow", data={"direction": "both", "frame": 0}, headers=HEAD)
    app.wait(reel, "track", 200)
    page.request.post(f"{at}/steps", data={"kind": "plate-patch"}, headers=HEAD)
    region = f"{at}/steps/{number(page, at, 'steps')}/region"
    page.request.post(f"{region}/parts", data={"shape": outlined(where), "frame": 0}, headers=HEAD)
    page.request.post(f"{region}/ride", data={"track": "plane 1", "frame": 0}, headers=HEAD)
    page.goto(f"{at}/treatment")
    page.wait_for_function("() => window.nimbusBench.treated", timeout=120_000)


def glass(page: Page, app: Running, reel: int) -> None:
    """A reflection under a plate, the plane's grid on the picture."""
    patched(page, app, reel, ((86, 58), (438, 58), (434, 236), (86, 236)), ((118, 88), (404, 88), (402, 202), (118, 202)))
    at = f"{app.address}/reels/{reel}"
    page.request.post(f"{at}/steps/{number(page, at, 'steps')}/settings", data={"front": "darker"}, headers=HEAD)
    page.reload()
    page.wait_for_function("() => window.nimbusBench.treated", timeout=120_000)
    page.evaluate("() => window.nimbusBench.go(46)")
    page.keyboard.press("h")
    page.locator("details[data-track] summary").first.click()
    page.evaluate("() => { document.getElementById('sheet').scrollTop = 0; }")
    resolve(page, "glass", 9000)
    page.locator("[data-view=treated]").click()


def mast(page: Page, app: Running, reel: int) -> None:
    """A tripod taken out under flashing beacons: inspected, delivered, and the report of it."""
    at = f"{app.address}/reels/{reel}"
    page.goto(f"{at}/condition")
    page.get_by_role("button", name="Survey this reel").click()
    app.wait(reel, "survey", 300)
    page.get_by_role("button", name="Dismiss").first.click()
    patched(page, app, reel, ((20, 14), (618, 14), (618, 344), (20, 344)), ((300, 70), (503, 70), (551, 375), (253, 375)))
    page.request.post(f"{at}/check", data={}, headers=HEAD)
    app.wait(reel, "check", 300)
    page.request.post(f"{at}/verdict", data={"verdict": "accepted"}, headers=HEAD)
    page.request.post(f"{at}/render", data={}, headers=HEAD)
    app.wait(reel, "render", 300)
    page.request.post(f"{at}/compare", data={}, headers=HEAD)
    app.wait(reel, "inspection", 120)
    page.goto(f"{at}/inspection")
    page.wait_for_function("() => window.nimbusBench.treated", timeout=60_000)
    page.evaluate("() => { window.nimbusBench.go(31); window.nimbusBench.set({ split: 0.55 }); }")
    page.locator("[data-view=split]").click()
    page.get_by_label("Places most worth a look").scroll_into_view_if_needed()
    page.evaluate("() => { document.getElementById('sheet').scrollTop = 96; }")
    resolve(page, "inspection", 6000)
    page.locator("[data-view=treated]").click()
    page.request.post(f"{at}/papers", data={}, headers=HEAD)
    app.wait(reel, "papers", 120)
    page.goto(f"{at}/delivery")
    page.evaluate("() => { document.getElementById('sheet').scrollTop = 1e6; }")
    resolve(page, "delivery", 2500)
    paper = page.get_by_role("link", name="Treatment report").get_attribute("href")
    page.goto(f"{app.address}{paper}")
    page.set_viewport_size({"width": 780, "height": 1100})
    resolve(page, "report", 800)
    page.set_viewport_size({"width": 1280, "height": 800})


def shelf(page: Page, app: Running, reel: int) -> None:
    """The sheet of mains and shutter."""
    page.goto(f"{app.address}/mains?reel={reel}&shutter=1/60&readout=34.7")
    resolve(page, "mains")


def unattended(page: Page, app: Running, reel: int) -> None:
    """The second job while it is run, and its list in the morning."""
    page.goto(app.address)
    page.locator("section", has_text="spring round").get_by_role("button", name="Run").click()
    page.get_by_role("dialog").get_by_role("button", name="Run").click()
    page.wait_for_function("() => document.querySelector('.run')?.textContent.match(/left/)", timeout=300_000)
    resolve(page, "rack")
    page.wait_for_function("() => /Run over/.test(document.querySelector('.run')?.textContent)", timeout=1_200_000)
    page.locator(".run a").click()
    page.wait_for_function("() => document.getElementById('after').naturalWidth > 0", timeout=60_000)
    resolve(page, "eyes", 4000)


def brought_in(page: Page, app: Running, reel: int) -> None:
    """What intake shows."""
    page.goto(f"{app.address}/reels/{reel}/intake")
    page.wait_for_function("() => window.nimbusBench.laid[0]", timeout=60_000)
    resolve(page, "intake", 2500)


def edit(page: Page, app: Running, reel: int) -> None:
    """An edited reel with its cuts."""
    page.goto(f"{app.address}/reels/{reel}/intake")
    page.wait_for_function("() => window.nimbusBench.laid[0]", timeout=30_000)
    page.evaluate("() => window.nimbusBench.go(12)")
    page.eval_on_selector("#sheet", "sheet => { sheet.scrollTop = sheet.querySelector('.shots').offsetTop - 120; }")
    resolve(page, "shots")


def scan(page: Page, app: Running, reel: int) -> None:
    """A film scan."""
    page.goto(f"{app.address}/reels/{reel}/intake")
    page.wait_for_function("() => window.nimbusBench.laid[0]", timeout=30_000)
    page.evaluate("() => window.nimbusBench.go(16)")
    resolve(page, "scan")


def pixels(page: Page, app: Running, reel: int) -> None:
    """Stuck pixels found, and mended; a recipe kept."""
    page.goto(f"{app.address}/reels/{reel}/condition")
    page.get_by_role("button", name="Survey this reel").click()
    app.wait(reel, "survey", 300)
    page.wait_for_selector("li[data-finding]")
    page.evaluate("() => window.nimbusBench.go(70)")
    page.locator("li[data-finding]", has_text="green").first.locator("summary").first.click()
    page.locator("li[aria-current=true] details[data-load] summary").click()
    page.locator("li[aria-current=true] svg").scroll_into_view_if_needed()
    resolve(page, "condition")
    page.get_by_role("button", name="Add step: Pixel mend").click()
    app.wait(reel, "analysis")
    page.request.post(f"{app.address}/reels/{reel}/library", data={"name": "Headland camera, stuck pixels"}, headers=HEAD)
    page.goto(f"{app.address}/reels/{reel}/treatment")
    page.locator("details[data-fold=recipes] summary").click()
    resolve(page, "treatment")


def dust(page: Page, app: Running, reel: int) -> None:
    """Dust found, taken off, and a region drawn."""
    page.goto(f"{app.address}/reels/{reel}/condition")
    page.get_by_role("button", name="Survey this reel").click()
    app.wait(reel, "survey", 300)
    page.wait_for_selector("li[data-finding]")
    page.evaluate("() => window.nimbusBench.go(60)")
    page.locator("li[data-finding]", has_text="Sensor dust").first.locator("summary").first.click()
    page.locator("li[aria-current=true] details[data-load] summary").click()
    page.locator("li[aria-current=true] svg").scroll_into_view_if_needed()
    resolve(page, "dust", 5000)
    page.get_by_role("button", name="Add step: Unshade").click()
    app.wait(reel, "analysis", 300)
    page.locator("li[data-finding]", has_text="Hair").first.locator("summary").first.click()
    page.goto(f"{app.address}/reels/{reel}/treatment")
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
    resolve(page, "region", 6000)
    page.keyboard.press("Control+z")


def lamps(page: Page, app: Running, reel: int) -> None:
    """Light that is not steady."""
    page.goto(f"{app.address}/reels/{reel}/condition")
    page.get_by_role("button", name="Survey this reel").click()
    app.wait(reel, "survey", 300)
    page.wait_for_selector(".light-found")
    page.get_by_text("See the light").click()
    page.evaluate("() => window.nimbusBench.go(30)")
    resolve(page, "light", 4000)


def order(page: Page, app: Running, reel: int) -> None:
    """Light, in the order that works."""
    page.goto(f"{app.address}/reels/{reel}/condition")
    page.get_by_role("button", name="Survey this reel").click()
    app.wait(reel, "survey", 300)
    page.get_by_role("button", name="Add step: Steady bands").click()
    app.wait(reel, "analysis", 300)
    page.goto(f"{app.address}/reels/{reel}/treatment")
    page.locator("summary", has_text="2. Bands and patches").click()
    page.evaluate("() => window.nimbusBench.go(31)")
    resolve(page, "order", 5000)


def trials(page: Page, app: Running, reel: int) -> None:
    """Three ways beside one another."""
    page.goto(f"{app.address}/reels/{reel}/treatment")
    page.get_by_role("button", name="Add step: Steady frame").click()
    app.wait(reel, "analysis", 300)
    page.goto(f"{app.address}/reels/{reel}/trials")
    page.evaluate("() => window.nimbusBench.go(30)")
    page.locator("[data-field=values]").fill("3, 5")
    page.get_by_text("Another step, or a cause").click()
    page.locator("[data-field=others][value='step:frame-blend']").check()
    page.get_by_role("button", name="Compute the trial").click()
    app.wait(reel, "trial", 60)
    page.wait_for_selector("li[data-way]")
    resolve(page, "trials", 4000)


# Each part with the numbers of its demo reels.
PARTS: dict[str, tuple[Callable[[Page, Running, int], None], tuple[int, ...]]] = {
    "shelf": (shelf, (9,)),
    "run": (unattended, (20, 22, 24, 27, 29)),
    "intake": (brought_in, (1,)),
    "edit": (edit, (5,)),
    "scan": (scan, (3,)),
    "pixels": (pixels, (1,)),
    "dust": (dust, (7,)),
    "lamps": (lamps, (9,)),
    "order": (order, (13,)),
    "trials": (trials, (10,)),
    "worn": (worn, (15,)),
    "gulls": (gulls, (16,)),
    "glass": (glass, (17,)),
    "mast": (mast, (18,)),
}


def main() -> None:
    """Play the job and take the pictures of the parts that are named, or of all."""
    named = sys.argv[1:] or list(PARTS)
    if unknown := [n for n in named if n not in PARTS]:
        sys.exit(f"There is no part called {', '.join(unknown)}; there are: {', '.join(PARTS)}")
    OUT.mkdir(parents=True, exist_ok=True)
    wanted = sorted({number for n in named for number in PARTS[n][1]})
    with tempfile.TemporaryDirectory() as folder, sync_playwright() as play:
        app = Running(Path(folder), ",".join(map(str, wanted)))
        page = play.chromium.launch(executable_path=CHROMIUM, args=SWITCHES).new_page(viewport={"width": 1280, "height": 800})
        for reel in range(1, len(wanted) + 1):
            app.wait_ready(reel, 400)
        for name in named:
            take, numbers = PARTS[name]
            take(page, app, wanted.index(numbers[0]) + 1)
        app.stop()


if __name__ == "__main__":
    main()
