"""The technician's job in a real browser, on the demo, from the rack to the proof; the worker is killed in mid-render."""

from __future__ import annotations

import json
import os
import signal
import subprocess
import sys
import time
import urllib.request
from collections.abc import Iterator
from dataclasses import replace
from functools import partial
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from playwright.sync_api import Locator, Page, Route, expect

from nimbus_sweep.core.media.reader import MovieReader
from nimbus_sweep.core.media.view import to_bgr
from nimbus_sweep.demo.carriers import EDIT, Carrier, edit
from nimbus_sweep.demo.reels import REELS, UNSTEADY
from tests.e2e.conftest import Running, accessible, bench

pytestmark = pytest.mark.browser
PAN = replace(REELS[0], frames=96, halved=True)
INSTRUMENTS = replace(REELS[1], frames=60)
CLOUDS = replace(UNSTEADY[1], frames=60, halved=True)
CUT = Carrier(EDIT.file, EDIT.frames, partial(edit, halved=True))


@pytest.fixture(scope="module")
def running(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Running]:
    app = Running(tmp_path_factory.mktemp("demo"), "1,2,3,5,10", [PAN, INSTRUMENTS, CUT, CLOUDS])
    yield app
    app.stop()


def shown(page: Page, view: str, frame: int) -> None:
    """Wait until that frame is on the canvas in exact values."""
    page.wait_for_function(
        "([view, frame]) => document.getElementById('picture').dataset.shown?.includes(`${view}:${frame}:exact`)", arg=[view, frame]
    )
    page.wait_for_timeout(150)


def canvas_pixels(page: Page, x: int, y: int, reach: int = 6) -> np.ndarray:
    """Pixels of the picture as they stand on the canvas at 4:1, (2 reach + 1, 2 reach + 1, 3), red, green, blue."""
    values = page.evaluate(
        """async ([x, y, reach]) => {
            const { transform } = await import('/static/js/picture.js');
            const place = transform();
            const pen = document.getElementById('picture').getContext('2d');
            const out = [];
            for (let dy = -reach; dy <= reach; dy += 1) for (let dx = -reach; dx <= reach; dx += 1) {
                const px = place.left + (x + dx + 0.5) * place.scale, py = place.top + (y + dy + 0.5) * place.scale;
                out.push([...pen.getImageData(Math.floor(px) + 1, Math.floor(py) + 1, 1, 1).data.slice(0, 3)]);
            }
            return out;
        }""",
        [x, y, reach],
    )
    return np.array(values).reshape(2 * reach + 1, 2 * reach + 1, 3)


def test_the_job(running: Running, page: Page, tmp_path: Path) -> None:
    truth = json.loads((running.data / "demo" / REELS[0].file).with_suffix(".truth.json").read_text())["stuck_pixels"]
    page.goto(running.address)
    expect(page.get_by_text("Skerrow Point weather station").first).to_be_visible()
    accessible(page)
    running.wait(1, "intake")
    page.goto(running.address)
    page.get_by_role("link", name="Reel 01, headland pan", exact=True).click()
    expect(page.get_by_role("heading", name="Intake")).to_be_visible(timeout=20_000)
    accessible(page)
    page.get_by_role("link", name="On to Condition").click()
    expect(page.get_by_role("heading", name="Condition")).to_be_visible()
    # Survey.
    page.get_by_role("button", name="Survey this reel").click()
    kept = page.locator("[aria-label='Kept: stuck and dead pixels'] li")
    expect(kept).not_to_have_count(0, timeout=300_000)
    found = [s for s in running.state(1)["sites"] if s["state"] == "kept"]
    # How many are found is asked of the whole reel (`make bench ONLY=demo`): here, that what the sheet lists is what is there.
    found = [f for f in found if f["drawn"] == "point"]
    assert kept.count() == len(found) >= 12
    assert all(any(abs(f["x"] - t["x"]) <= 2 and abs(f["y"] - t["y"]) <= 2 for t in truth) for f in found)
    # Look at one at 4:1: its pixels on the canvas are the file's.
    site = next(t for t in truth if t["colour"] == "green" and t["spread"] != "mosaic")
    index = next(f["index"] for f in found if abs(f["x"] - site["x"]) <= 1 and abs(f["y"] - site["y"]) <= 1)
    page.locator(f"li[data-finding='{index}'] > details > summary").click()
    accessible(page)
    page.keyboard.press("4")
    page.keyboard.press("r")
    page.keyboard.press("ArrowRight")
    shown(page, "source", 1)
    page.evaluate("() => { window.nimbusBench.aim(0, 0); }")
    page.wait_for_timeout(200)
    reader = MovieReader(running.data / "demo" / REELS[0].file)
    x, y = site["x"], site["y"]
    native = to_bgr(reader.frame(1))[y - 6 : y + 7, x - 6 : x + 7, ::-1].astype(int)
    assert np.abs(canvas_pixels(page, x, y) - native).max() <= 2
    # Mend it, compare.
    page.get_by_role("button", name="Add step: Pixel mend").click()
    page.get_by_role("link", name="On to Treatment").click()
    expect(page.locator("#sheet").get_by_text("the treated picture is shown at once")).to_be_visible(timeout=60_000)
    accessible(page)
    page.get_by_role("link", name="On to Inspection").click()
    page.locator("[data-view=treated]").click() if page.locator("[data-view=treated]").get_attribute("aria-pressed") != "true" else None
    shown(page, "treated", 1)
    after = canvas_pixels(page, x, y)
    assert np.abs(after[6, 6] - native[6, 6]).max() > 50, "the stuck pixel is gone from the canvas"
    assert np.abs(after[6, 6] - np.median(after.reshape(-1, 3), axis=0)).max() < 30, "and looks like its surroundings"
    assert np.abs(after[0] - native[0]).max() <= 2, "what lies around it is untouched"
    # Held key: the source while it is down.
    page.keyboard.down("q")
    shown(page, "source", 1)
    assert np.abs(canvas_pixels(page, x, y) - native).max() <= 2
    page.keyboard.up("q")
    shown(page, "treated", 1)
    # Undo takes the step off, redo puts it on.
    page.keyboard.press("Control+z")
    expect(page.locator("#sheet").get_by_text("Nothing is treated yet")).to_be_visible()
    page.keyboard.press("Control+y")
    expect(page.locator("#sheet").get_by_text("The check measures what was changed")).to_be_visible()
    # Render; the worker is killed in the middle and the render goes on.
    page.goto(f"{running.address}/reels/1/delivery")
    page.get_by_role("button", name="Render", exact=True).click()
    page.wait_for_function("() => Number(document.querySelector('#tasks progress')?.value) > 0.3", timeout=60_000)
    worker = running.worker()
    assert worker is not None
    os.kill(worker, signal.SIGKILL)
    assert not list((running.data / "deliveries").rglob("*-treated.mkv")), "no half file is taken for a finished one"
    page.goto("about:blank")
    assert running.wait(1, "render")["state"] == "done"
    assert running.state(1)["tasks"][0]["again"], "it was resumed"
    page.goto(f"{running.address}/reels/1/delivery")
    with page.expect_download() as fetched:
        page.get_by_role("link", name="Download").click()
    out = tmp_path / "treated.mkv"
    fetched.value.save_as(out)
    reel = running.data / "demo" / REELS[0].file
    proof = subprocess.run([sys.executable, "-m", "nimbus_sweep", "verify", str(reel), str(out), "--json"], capture_output=True, text=True)
    figures = json.loads(proof.stdout)
    assert proof.returncode == 0
    assert figures["proven"]
    assert figures["outside"] == 0
    # The proof in the browser.
    page.goto(f"{running.address}/reels/1/inspection")
    page.get_by_role("button", name="Compare the delivery").click()
    expect(page.locator("#sheet").get_by_text("Nothing else changed.")).to_be_visible(timeout=60_000)
    accessible(page)
    for way in ("reels/1/delivery", "reels/1/trials", "mains?reel=1", "storage", "nowhere"):
        page.goto(f"{running.address}/{way}")
        page.wait_for_timeout(400)
        accessible(page)
    page.goto(f"{running.address}/reels/1/condition")
    page.wait_for_timeout(400)
    page.keyboard.press("g")
    page.keyboard.press("?")
    accessible(page)
    page.keyboard.press("Escape")
    page.keyboard.press("g")


def test_hand_placement_and_dismissal(running: Running, page: Page) -> None:
    running.wait(2, "intake")
    truth = json.loads((running.data / "demo" / REELS[1].file).with_suffix(".truth.json").read_text())["stuck_pixels"]
    page.goto(f"{running.address}/reels/2/condition")
    site = truth[0]
    page.wait_for_function("() => window.nimbusBench?.reel.ready")
    page.evaluate("([x, y]) => window.nimbusBench.aim(x, y)", [site["x"] + 2, site["y"] + 1])
    page.keyboard.press("p")
    expect(page.locator("[aria-label='Kept: stuck and dead pixels'] li")).to_have_count(1, timeout=15_000)
    placed = running.state(2)["sites"][0]
    assert abs(placed["x"] - site["x"]) <= 1
    assert abs(placed["y"] - site["y"]) <= 1
    page.keyboard.press("Delete")
    expect(page.locator("#sheet").get_by_text("Dismissed").first).to_be_visible()
    page.keyboard.press("Control+z")
    expect(page.locator("[aria-label='Kept: stuck and dead pixels'] li")).to_have_count(1)
    page.keyboard.press("?")
    expect(page.get_by_role("dialog")).to_be_visible()
    page.keyboard.press("Escape")
    before = page.evaluate("() => window.nimbusBench.frame")
    page.keyboard.press("Shift+ArrowRight")
    assert page.evaluate("() => window.nimbusBench.frame") == before + 10
    page.keyboard.press("End")
    assert page.evaluate("() => window.nimbusBench.frame") == INSTRUMENTS.frames - 1
    page.keyboard.press("Home")
    page.locator("body").press("Space")
    page.wait_for_function("() => window.nimbusBench.frame > 0")
    first, begun = page.evaluate("() => [window.nimbusBench.frame, performance.now()]")
    page.wait_for_timeout(1200)
    last, ended = page.evaluate("() => [window.nimbusBench.frame, performance.now()]")
    page.locator("body").press("Space")
    assert 8 <= 1000 * (last - first) / (ended - begun) <= 40, "a second of playback moves about 24 frames"
    # The room, once dimmed, stays so.
    page.keyboard.press("g")
    page.wait_for_timeout(300)
    page.reload()
    assert page.evaluate("() => document.documentElement.dataset.room") == "dim"


def region_of(running: Running, place: Locator) -> dict[str, Any]:
    with urllib.request.urlopen(f"{running.address}{place.locator('[data-region]').first.get_attribute('data-region')}?frame=0") as answer:
        return json.load(answer)


def test_a_region_is_drawn_changed_and_taken_back(running: Running, page: Page) -> None:
    running.wait(2, "intake")
    page.goto(f"{running.address}/reels/2/treatment")
    page.wait_for_selector("details[data-fold=others]")
    if not page.get_by_role("button", name="Add step: Region median").is_visible():
        page.get_by_text("Add another step").click()
    page.get_by_role("button", name="Add step: Region median").click()
    place = page.locator(".step", has_text="Region median")
    expect(place.get_by_text("nowhere yet")).to_be_visible()
    place.locator("details.region summary").first.click()
    box = page.locator("#picture").bounding_box()
    assert box is not None

    def drag(*path: tuple[float, float]) -> None:
        for n, (x, y) in enumerate(path):
            page.mouse.move(box["x"] + x * box["width"], box["y"] + y * box["height"])
            if n == 0:
                page.mouse.down()
        page.mouse.up()

    def parts(count: int) -> list[dict[str, Any]]:
        expect(place.locator("[data-part]")).to_have_count(count, timeout=30_000)
        return region_of(running, place)["parts"]

    tool = place.locator("details.region[open] [data-tool]")
    tool.filter(has_text="Ellipse").click()
    drag((0.2, 0.2), (0.3, 0.3), (0.4, 0.5))
    ellipse = parts(1)[0]["shape"]
    assert ellipse["kind"] == "ellipse"
    assert ellipse["x"] == pytest.approx(0.3 * 1280, abs=8)
    # It is taken hold of and moved; the cross-hair stays where it was.
    aimed = bench(page, "x")
    page.wait_for_timeout(400)
    drag((0.3, 0.35), (0.4, 0.4), (0.5, 0.35))
    page.wait_for_function(
        "([url, x]) => fetch(url).then((a) => a.json()).then((r) => r.parts[0].shape.x > x)",
        arg=[f"{place.locator('[data-region]').first.get_attribute('data-region')}?frame=0", ellipse["x"] + 200],
    )
    assert bench(page, "x") == aimed
    tool.filter(has_text="Outline").click()
    for x, y in ((0.6, 0.6), (0.8, 0.6), (0.7, 0.8)):
        page.mouse.click(box["x"] + x * box["width"], box["y"] + y * box["height"])
        page.wait_for_timeout(350)
    page.keyboard.press("Enter")
    assert parts(2)[1]["shape"]["kind"] == "outline"
    tool.filter(has_text="Paint").click()
    size = place.locator("[data-brush-said]").first
    before = size.inner_text()
    page.keyboard.press(".")
    expect(size).not_to_have_text(before)
    drag((0.1, 0.8), (0.15, 0.82), (0.2, 0.8))
    assert parts(3)[2]["shape"]["kind"] == "stroke"
    page.keyboard.press("Escape")
    place.locator("[data-part] [data-choose-part]").nth(2).click()
    page.keyboard.press("Delete")
    parts(2)
    page.keyboard.press("Control+z")
    parts(3)
    with page.expect_download() as saved:
        place.get_by_role("link", name="Save mask").first.click()
    assert saved.value.suggested_filename.startswith("region-")
    page.keyboard.press("Escape")
    # In Condition a line is drawn round a mark; with nothing chosen a drag only aims.
    page.goto(f"{running.address}/reels/2/condition")
    page.wait_for_function("() => document.getElementById('picture').dataset.shown")
    marks = page.locator("[aria-label='Kept: dust, hairs and lens dirt'] li")
    drag((0.3, 0.3), (0.35, 0.35))
    expect(marks).to_have_count(0)
    page.get_by_role("button", name="Ellipse round a mark").click()
    drag((0.3, 0.3), (0.33, 0.33), (0.35, 0.36))
    expect(marks).to_have_count(1, timeout=30_000)
    page.keyboard.press("Control+z")
    # Other reels are being taken in meanwhile, and slices made: an answer may take its time.
    expect(marks).to_have_count(0, timeout=30_000)


def test_uploading_rubbish_is_explained(running: Running, page: Page, tmp_path: Path) -> None:
    log = tmp_path / "fog-signal.mp4"
    log.write_text("0600 fog, signal sounded\n" * 500)
    page.goto(running.address)
    page.set_input_files("#file", str(log))
    expect(page.locator("#sheet").get_by_text("cannot be read as a movie")).to_be_visible(timeout=20_000)
    page.get_by_role("link", name="Back to the rack").click()
    row = page.locator("article", has_text="fog-signal")
    row.get_by_role("button", name="Remove").click()
    row.get_by_role("button", name="Really remove").click()
    expect(page.locator("article", has_text="fog-signal")).to_have_count(0)


def test_a_button_pressed_while_the_page_loads_is_not_lost(running: Running, page: Page) -> None:
    held: list[Route] = []
    page.route("**/rack.js", lambda route: held.append(route))
    with page.expect_request("**/rack.js"):
        page.goto(running.address, wait_until="commit")
    page.get_by_role("button", name="Describe").first.click()
    expect(page.get_by_label("Customer's reference")).to_be_hidden()
    held[0].continue_()
    expect(page.get_by_label("Customer's reference")).to_be_visible()


def geometry(page: Page) -> dict[str, float]:
    """Scale and offset of the picture on its canvas."""
    return page.evaluate(
        "async () => { const { scale, left, top, fit } = (await import('/static/js/picture.js')).transform(); return { scale, left, top, fit }; }"
    )


@pytest.fixture
def bench_page(running: Running, page: Page) -> Page:
    """The second reel on the work screen, as it comes up first."""
    running.wait(2, "intake")
    page.goto(f"{running.address}/reels/2/condition")
    page.wait_for_function("() => document.getElementById('picture').dataset.shown")
    page.wait_for_timeout(300)
    return page


def test_the_views_are_linked(bench_page: Page) -> None:
    page = bench_page
    box = page.locator("#picture").bounding_box()
    assert box is not None
    place = geometry(page)
    # A click in the picture moves the cross-hair there.
    page.mouse.click(box["x"] + place["left"] + 400.5 * place["scale"], box["y"] + place["top"] + 300.5 * place["scale"])
    assert abs(bench(page, "x") - 400) <= 1
    assert abs(bench(page, "y") - 300) <= 1
    # A click in the row slice moves the column and the frame, x lined up with the picture's x.
    row = page.locator("#row").bounding_box()
    assert row is not None
    page.mouse.click(row["x"] + place["left"] + 820.5 * place["scale"], row["y"] + row["height"] * 0.75)
    assert abs(bench(page, "x") - 820) <= 1
    assert abs(bench(page, "frame") - 0.75 * INSTRUMENTS.frames) <= 1
    # A click in the column slice moves the row and the frame, y lined up with the picture's y.
    column = page.locator("#column").bounding_box()
    assert column is not None
    page.mouse.click(column["x"] + column["width"] * 0.25, column["y"] + place["top"] + 120.5 * place["scale"])
    assert abs(bench(page, "y") - 120) <= 1
    assert abs(bench(page, "frame") - 0.25 * INSTRUMENTS.frames) <= 2
    # Single pixels by key; the loupe steps through its sizes.
    x, y = bench(page, "x"), bench(page, "y")
    for key in ("d", "d", "a", "s", "Shift+W"):
        page.keyboard.press(key)
    assert (bench(page, "x"), bench(page, "y")) == (x + 1, y + 1 - 10)
    sizes = []
    for _ in range(3):
        page.keyboard.press("l")
        sizes.append(bench(page, "loupe"))
    assert sorted(sizes) == [4, 6, 8]
    expect(page.locator("#readout")).to_contain_text(f"x {x + 1:4d}  y {y - 9:4d}   Y")


def test_zoom_goes_through_whole_multiples_about_the_cursor(bench_page: Page) -> None:
    page = bench_page
    page.keyboard.press("0")
    fit = geometry(page)
    assert fit["scale"] == pytest.approx(fit["fit"])
    box = page.locator("#picture").bounding_box()
    assert box is not None
    at = (box["x"] + 200, box["y"] + 150)
    under = ((200 - fit["left"]) / fit["scale"], (150 - fit["top"]) / fit["scale"])
    page.mouse.move(*at)
    scales = []
    for _ in range(6):
        page.mouse.wheel(0, -100)
        page.wait_for_timeout(60)
        now = geometry(page)
        scales.append(now["scale"])
        assert abs((200 - now["left"]) / now["scale"] - under[0]) < 2, "what is under the cursor stays there"
        assert abs((150 - now["top"]) / now["scale"] - under[1]) < 2
    assert scales == sorted(scales)
    assert {1, 2, 3, 4} <= {round(s, 6) for s in scales}
    page.keyboard.press("1")
    assert geometry(page)["scale"] == 1
    page.keyboard.press("4")
    assert geometry(page)["scale"] == 4
    before = bench(page, "centreX")
    page.keyboard.down("Shift")
    page.mouse.move(*at)
    page.mouse.down()
    page.mouse.move(at[0] - 80, at[1])
    page.mouse.up()
    page.keyboard.up("Shift")
    assert bench(page, "centreX") == pytest.approx(before + 20, abs=1)
    # The place is remembered when the page comes back.
    frame = bench(page, "frame")
    page.reload()
    page.wait_for_function("() => document.getElementById('picture').dataset.shown")
    assert geometry(page)["scale"] == 4
    assert bench(page, "frame") == frame


def test_a_range_of_the_reel_log_is_looped(bench_page: Page) -> None:
    page = bench_page
    log = page.locator("#log").bounding_box()
    assert log is not None
    frames = INSTRUMENTS.frames
    y = lambda frame: log["y"] + (frame + 0.5) / frames * log["height"]  # noqa: E731
    page.mouse.move(log["x"] + 60, y(30))
    page.mouse.down()
    page.mouse.move(log["x"] + 60, y(45))
    page.mouse.move(log["x"] + 60, y(50))
    page.mouse.up()
    first, last = bench(page, "range")
    assert abs(first - 30) <= 1
    assert abs(last - 50) <= 1
    expect(page.locator("#loop")).to_have_text(f"Loop: {first}–{last}")
    page.locator("#play").click()
    seen = set()
    for _ in range(12):
        page.wait_for_timeout(120)
        seen.add(bench(page, "frame"))
    page.locator("#play").click()
    assert len(seen) > 3
    assert all(first <= n <= last for n in seen)
    page.mouse.click(log["x"] + 60, y(56))
    assert bench(page, "range") is None
    assert abs(bench(page, "frame") - 56) <= 1


def test_everything_can_be_reached_by_keyboard(bench_page: Page) -> None:
    page = bench_page
    reached = set()
    page.locator("body").press("Tab")
    for _ in range(60):
        reached.add(page.evaluate("() => document.activeElement.id || document.activeElement.textContent.trim().slice(0, 24)"))
        page.keyboard.press("Tab")
    assert {"room", "help-open", "log", "picture", "play", "lift", "rings"} <= reached
    outline = page.evaluate(
        "() => { document.getElementById('play').focus(); return getComputedStyle(document.getElementById('play')).outlineStyle; }"
    )
    assert outline == "solid", "focus shows"


@pytest.mark.parametrize("room", ["day", "dim"])
def test_words_can_be_read_and_the_chrome_is_neutral(bench_page: Page, room: str) -> None:
    """Contrast of at least 4.5 to 1 (WCAG 2.2, criterion 1.4.3), and greys without a tint."""
    page = bench_page
    page.evaluate("(room) => { document.documentElement.dataset.room = room; }", room)
    tokens = ("paper", "sheet", "ink", "soft", "act", "caution", "loss", "on-act", "rule", "hover")
    colours = page.evaluate(
        """(names) => Object.fromEntries(names.map((name) => {
            const probe = document.createElement('i');
            probe.style.color = `var(--${name})`;
            document.body.append(probe);
            const told = getComputedStyle(probe).color.match(/\\d+/g).slice(0, 3).map(Number);
            probe.remove();
            return [name, told];
        }))""",
        tokens,
    )

    def light(rgb: list[int]) -> float:
        # Relative luminance, WCAG 2.2, after IEC 61966-2-1.
        parts = [c / 255 / 12.92 if c / 255 <= 0.04045 else ((c / 255 + 0.055) / 1.055) ** 2.4 for c in rgb]
        return float(np.dot(parts, (0.2126, 0.7152, 0.0722)))

    def contrast(one: str, other: str) -> float:
        high, low = sorted((light(colours[one]), light(colours[other])), reverse=True)
        return (high + 0.05) / (low + 0.05)

    for words in ("ink", "soft", "act", "caution", "loss"):
        assert contrast(words, "sheet") >= 4.5, words
    assert contrast("on-act", "act") >= 4.5
    for grey in ("paper", "sheet", "ink", "soft", "rule", "hover"):
        assert len(set(colours[grey])) == 1, f"{grey} has a tint"


def test_the_application_comes_back_after_it_is_killed(running: Running) -> None:
    """A second start is quick and finds everything as it was; a start beside it is refused."""
    beside = subprocess.run(
        [sys.executable, "-m", "nimbus_sweep", "serve", "--data", str(running.data), "--port", str(running.port + 1)],
        capture_output=True,
        text=True,
    )
    assert beside.returncode == 1
    assert "already" in beside.stderr
    before = running.state(1)
    running.stop(signal.SIGKILL)
    until = time.monotonic() + 10
    while running.worker() and time.monotonic() < until:
        time.sleep(0.1)
    assert running.worker() is None, "the worker ends with its server"
    running.start()
    assert running.state(1)["revision"] == before["revision"]


def test_light_is_steadied_in_order_and_tried(running: Running, page: Page) -> None:
    """A cloud time lapse that pumps: through the guided order to a trial, one way of which is kept."""
    reel = 5
    running.wait(reel, "intake", 200)
    page.goto(f"{running.address}/reels/{reel}/treatment")
    page.get_by_role("button", name="Add step: Steady frame").click()
    running.wait(reel, "analysis")
    page.wait_for_function("() => nimbusBench.treated")
    page.locator("#picture").focus()
    page.keyboard.press("End")
    plain = page.evaluate("() => document.getElementById('picture').toDataURL()")
    page.locator("summary", has_text="3. Whole frame").click()
    page.wait_for_function("before => document.getElementById('picture').toDataURL() !== before", arg=plain)
    page.wait_for_function("() => nimbusBench.forms?.includes('before=0')")
    page.locator("summary", has_text="4. Repeats").click()
    page.wait_for_function("() => nimbusBench.forms?.includes('before=1')")
    page.locator("#picture").focus()
    page.keyboard.press("f")
    page.wait_for_function("() => nimbusBench.forms === null")

    page.get_by_role("link", name="Try on a few frames").click()
    page.locator("[data-field=frames]").fill("10")
    expect(page.locator("[data-field=values]")).to_have_value("3, 4, 5")
    page.locator("[data-field=values]").fill("3")
    page.get_by_role("button", name="Compute the trial").click()
    assert running.wait(reel, "trial")["state"] == "done"
    expect(page.locator("li[data-way]")).to_have_count(2)
    page.wait_for_function("() => document.getElementById('picture').dataset.shown?.split(' ').length === 2")
    first, last = bench(page, "range")
    assert last - first == 9
    page.keyboard.press("1")
    page.wait_for_function("() => document.getElementById('picture').dataset.shown?.startsWith('trial-')")
    assert bench(page, "shown") == [f"trial-{bench(page, 'openTrial')}-0"]
    page.keyboard.press("t")
    assert bench(page, "shown") == ["source"]
    page.keyboard.press("v")
    assert len(bench(page, "shown")) == 2
    page.keyboard.press(" ")
    page.wait_for_function("() => nimbusBench.playing")
    page.wait_for_timeout(600)
    assert first <= bench(page, "frame") <= last
    page.keyboard.press(" ")
    page.locator("li[data-way]").nth(1).get_by_role("button", name="Keep this one").click()
    expect(page.locator("#said")).to_have_text("Steady frame, reach 3: on this shot now.")
    page.reload()
    expect(page.locator("li[data-way]")).to_have_count(2)


def test_an_edit_is_divided_confirmed_and_listed(running: Running, page: Page, tmp_path: Path) -> None:
    running.wait(4, "intake", 200)
    truth = json.loads((running.data / "demo" / "reel-05-edit.truth.json").read_text())
    page.goto(f"{running.address}/reels/4/intake")
    expect(page.locator("li[data-shot]")).to_have_count(6)
    shots = running.state(4)["shots"]
    assert [s["first"] for s in shots[1:]] == truth["cuts"], "five cuts; neither the fade nor the flash is one"
    # Every shot is laid open in time when it is looked at, and its slices are the shot's own.
    page.locator("body").press("PageDown")
    page.wait_for_function("() => window.nimbusBench.shotAt === 1 && window.nimbusBench.laid[1]", timeout=20_000)
    assert bench(page, "frame") == truth["cuts"][0]
    # Two frames at each cut; confirming, cutting and undoing by hand.
    expect(page.locator(f".cut[data-at='{truth['cuts'][1]}'] img")).to_have_count(2)
    page.get_by_role("button", name="All of them are cuts").click()
    expect(page.get_by_role("button", name="All of them are cuts")).to_have_count(0)
    page.evaluate("() => window.nimbusBench.go(10)")
    page.locator("body").press("c")
    expect(page.locator("li[data-shot]")).to_have_count(7)
    page.keyboard.press("Control+z")
    expect(page.locator("li[data-shot]")).to_have_count(6)
    # The list goes out and comes back.
    with page.expect_download() as fetched:
        page.get_by_role("link", name="Save EDL").click()
    listed = tmp_path / "winter.edl"
    fetched.value.save_as(listed)
    assert "10:00:01:02" in listed.read_text(), "time code of the first cut, from the reel's own start"
    page.locator(".cut").first.get_by_role("button", name="Take out").click()
    expect(page.locator("li[data-shot]")).to_have_count(5)
    page.set_input_files("input[data-text]", str(listed))
    # It is read in a process of its own, which has to start.
    expect(page.locator("li[data-shot]")).to_have_count(6, timeout=20_000)
    # One shot left as it is, told in the log and on the list.
    page.locator("li[data-shot='2'] summary").click()
    page.locator("li[data-shot='2'] select").select_option("leave")
    expect(page.locator("li[data-shot='2']")).to_contain_text("left as is")


def test_a_scan_is_read_right_and_shows_a_correction_at_once(running: Running, page: Page) -> None:
    running.wait(3, "intake", 200)
    page.goto(f"{running.address}/reels/3/intake")
    expect(page.locator("#sheet")).to_contain_text("1 number has no picture: 1019")
    page.evaluate("() => window.nimbusBench.go(5)")
    page.keyboard.press("1")
    shown(page, "source", 5)
    before = canvas_pixels_at_one(page)
    mark = bench(page, "mark")
    page.get_by_label("Transfer").select_option("video")
    page.wait_for_function("() => document.getElementById('sheet').textContent.includes('corrected')")
    page.wait_for_function("(mark) => window.nimbusBench.mark !== mark", arg=mark)
    shown(page, "source", 5)
    after = canvas_pixels_at_one(page)
    assert np.abs(before - after).mean() > 5, "log codes look flat when they are shown as video"
    page.get_by_label("Transfer").select_option("")
    page.get_by_label("Rate").fill("18")
    page.get_by_label("Rate").press("Enter")
    expect(page.locator("#sheet")).to_contain_text("2.22 s")
    # A missing frame is shown as one.
    page.evaluate("() => window.nimbusBench.go(18)")
    expect(page.locator("#tag-warn")).to_contain_text("missing")


def canvas_pixels_at_one(page: Page) -> np.ndarray:
    """The middle of the picture's canvas."""
    values = page.evaluate(
        "() => { const c = document.getElementById('picture'); return [...c.getContext('2d').getImageData(c.width / 2 - 40, c.height / 2 - 40, 80, 80).data]; }"
    )
    return np.array(values).reshape(80, 80, 4)[..., :3].astype(int)


def test_the_rack_keeps_what_is_noted(running: Running, page: Page) -> None:
    page.goto(running.address)
    page.get_by_role("button", name="Describe").first.click()
    page.get_by_label("Customer's reference").fill("SKP 7")
    page.get_by_role("button", name="Save").click()
    expect(page.locator("#rack-list")).to_contain_text("SKP 7")
    # A list that comes late, after another change, takes nothing away that is being typed.
    late: list[Route] = []
    page.route("**/rack/list", lambda route: route.continue_() if late else late.append(route))
    page.get_by_role("button", name="Describe").first.click()
    page.get_by_role("button", name="Save").click()
    row = page.locator("article", has_text="Reel 03")
    row.get_by_role("button", name="Rename").click()
    page.get_by_label("Title of the reel").fill("Reel 03, at last")
    while not late:
        page.wait_for_timeout(50)
    with page.expect_response("**/rack/list"):
        late[0].continue_()
    page.wait_for_timeout(200)
    page.get_by_label("Title of the reel").press("Enter")
    expect(page.locator("#rack-list")).to_contain_text("Reel 03, at last")
    page.get_by_role("link", name="Storage").click()
    expect(page.get_by_role("heading", name="Storage")).to_be_visible()
    expect(page.locator("table")).to_contain_text("Reel 03, at last")
