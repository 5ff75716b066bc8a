"""Worn film in a real browser: from the survey to a delivery that is proven to be changed nowhere else."""

from __future__ import annotations

import json
from collections import Counter
from collections.abc import Iterator
from dataclasses import replace
from typing import Any

import numpy as np
import pytest
from playwright.sync_api import Page, expect

from nimbus_sweep.core.media.reader import MovieReader
from nimbus_sweep.demo.carriers import GALE, GALE_WORN, WORN, Carrier, Worn
from tests.e2e.conftest import Running, accessible

pytestmark = pytest.mark.browser
# Long enough for the burn to be revealed from frames after it; the pair of cue marks is looked for in the tests of the core.
HEIGHT, WIDTH = 256, 448
SHORT = Carrier(WORN.file, 60, Worn(film=48, burn=(20, 28), cue=7, size=(HEIGHT, WIDTH)).make)
# Nothing that finds or mends was ever set on this one.
SHORT_GALE = Carrier(GALE.file, 60, replace(GALE_WORN, film=48, size=(HEIGHT, WIDTH)).make)


@pytest.fixture(scope="module")
def running(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Running]:
    app = Running(tmp_path_factory.mktemp("worn"), "15,19", [SHORT, SHORT_GALE])
    yield app
    app.stop()


def test_the_worn_reel_is_cleaned(running: Running, page: Page) -> None:
    truth = _surveyed(running, page, 1, WORN)
    expect(page.get_by_label("Kept: cue marks").locator("li")).to_have_count(1)
    _put_on(page, "Line lift", "Cue lift", "Speck sweep")
    # The specks of a frame are outlined; what the slider says is answered at once, before it is let go.
    burnt = truth["burn"]["frames"]
    frame = Counter(d["frame"] for d in truth["dirt"] if burnt[-1] < d["frame"] < SHORT.frames - 7).most_common(1)[0][0]
    page.evaluate("(n) => window.nimbusBench.go(n)", frame)
    told = page.locator("[data-specks-told]")
    expect(told).to_contain_text("removed")
    many = int(told.inner_text().split(":")[1].split()[0])
    assert many >= 2
    slider = page.get_by_label("Least confidence")
    begun = slider.input_value()
    slider.evaluate("(box) => { box.value = 99; box.dispatchEvent(new Event('input', { bubbles: true })); }")
    page.wait_for_function(
        "(many) => Number(document.querySelector('[data-specks-told]').textContent.split(':')[1].trim().split(' ')[0]) <= many", arg=many
    )
    slider.evaluate("(box, value) => { box.value = value; box.dispatchEvent(new Event('input', { bubbles: true })); }", begun)
    expect(told).to_contain_text(f"This frame: {many} removed")
    # One is chosen by its key, left alone, and taken back by undo.
    page.locator("#picture").focus()
    page.keyboard.press("n")
    expect(page.get_by_role("button", name="Leave this one alone")).to_be_enabled()
    page.keyboard.press("Delete")
    # Others that look the same may go with it.
    expect(told).to_contain_text("removed, 1 left alone by you")
    page.keyboard.press("Control+z")
    expect(told).to_contain_text(f"This frame: {many} removed, 0 left alone")
    page.wait_for_function("() => window.nimbusBench.treated", timeout=120_000)
    _brush_the_burn(running, page, truth["burn"])
    _delivered(running, page, 1)
    _is_cleaner(running, truth)


def _surveyed(running: Running, page: Page, reel: int, drawn: Carrier) -> dict[str, Any]:
    """Survey a reel: its dirt and all of its scratches are kept; the truth of it."""
    running.wait(reel, "intake", 600)
    page.goto(f"{running.address}/reels/{reel}/condition")
    page.get_by_role("button", name="Survey this reel").click()
    assert running.wait(reel, "survey", 900)["state"] == "done"
    expect(page.get_by_label("Kept: film dirt").locator("li")).to_have_count(1)
    truth = json.loads((running.data / "demo" / drawn.file).with_suffix(".truth.json").read_text())
    _scratches_are_kept(page, truth)
    return truth


def _put_on(page: Page, *steps: str) -> None:
    """Put steps on that the survey suggests, and see the reel treated."""
    for step in steps:
        page.get_by_role("button", name=f"Add step: {step}").click()
        expect(page.get_by_role("button", name=f"Add step: {step}")).to_have_count(0)
    page.goto(page.url.rsplit("/", 1)[0] + "/treatment")
    page.wait_for_function("() => window.nimbusBench.treated", timeout=900_000)


def _delivered(running: Running, page: Page, reel: int) -> None:
    """Render a reel, and compare it with its source."""
    page.goto(f"{running.address}/reels/{reel}/delivery")
    page.get_by_role("button", name="Render", exact=False).first.click()
    assert running.wait(reel, "render", 600)["state"] == "done"
    page.goto(f"{running.address}/reels/{reel}/inspection")
    page.get_by_role("button", name="Compare", exact=False).first.click()
    expect(page.locator("#sheet")).to_contain_text("Nothing else changed.", timeout=120_000)


def _scratches_are_kept(page: Page, truth: dict[str, Any]) -> None:
    """Each, the one that leans far and is broken, too."""
    tracks = page.get_by_label("Kept: scratches").locator("li")
    places = [
        float(tracks.nth(n).get_attribute("data-x") or 0) + float(tracks.nth(n).get_attribute("data-w") or 0) / 2
        for n in range(tracks.count())
    ]
    assert all(any(abs(x - s["x"] - s["lean"] / 2) < 12 for x in places) for s in truth["scratches"])


def test_a_second_reel_is_cleaned_unseen(running: Running, page: Page) -> None:
    """Heavier damage before a camera that stands; what the survey suggests is put on, and nothing is set by hand."""
    truth = _surveyed(running, page, 2, GALE)
    _put_on(page, "Line lift", "Speck sweep")
    # The whole shot's specks are counted, with how many of them may be none.
    expect(page.locator("[data-shot-told]")).to_contain_text("expected to be no specks")
    _delivered(running, page, 2)
    _is_swept(MovieReader(running.data / "demo" / GALE.file), MovieReader(next((running.data / "deliveries").rglob("*gale*.m*"))), truth)


def _brush_the_burn(running: Running, page: Page, burn: dict[str, Any]) -> None:
    """The burn is brushed away in its first frame, from a frame behind it, and so in the next ones, along the motion."""
    page.get_by_text("Add another step").click()
    page.get_by_role("button", name="Add step: Retouch").click()
    first, last = burn["frames"][0], burn["frames"][-1]
    page.evaluate("(n) => window.nimbusBench.go(n)", first)
    page.wait_for_function("() => window.nimbusBench.treated", timeout=120_000)
    page.get_by_role("button", name="Reveal", exact=True).click()
    page.locator("[data-brush-set=away]").fill("22")
    page.locator("[data-brush-set=away]").press("Tab")
    page.locator("[data-brush-set=size]").evaluate("(b) => { b.value = 120; b.dispatchEvent(new Event('input', { bubbles: true })); }")
    expect(page.locator("[data-source-said]")).to_contain_text(f"From frame {first + 22}")
    canvas = page.locator("#picture")
    box = canvas.bounding_box()
    assert box is not None
    scale = box["width"] / WIDTH

    def at(x: float, y: float) -> tuple[float, float]:
        return box["x"] + x * scale, box["y"] + y * scale

    x, y, _ = burn["at"][0]
    page.mouse.move(*at(x - 20, y))
    page.mouse.down()
    page.mouse.move(*at(x + 50, y - 8), steps=6)
    page.mouse.up()
    expect(page.locator("[data-strokes-told]")).to_contain_text("This frame: 1 stroke", timeout=15_000)
    page.locator("[data-brush-frames]").fill(str(len(burn["frames"]) - 1))
    page.get_by_role("button", name="Repeat along motion").click()
    expect(page.locator("[data-strokes-told]")).to_contain_text(f"{len(burn['frames'])} frames touched", timeout=30_000)
    accessible(page)
    # By keys through the touched frames, and back; the brush is laid down.
    canvas.focus()
    page.keyboard.press("n")
    page.wait_for_function("(n) => window.nimbusBench.frame === n", arg=burn["frames"][1])
    page.keyboard.press("Shift+N")
    page.wait_for_function("([first, last]) => window.nimbusBench.frame > first && window.nimbusBench.frame <= last + 1", arg=[first, last])
    page.keyboard.press("u")
    expect(page.locator("[data-brush-hand]")).to_have_attribute("aria-pressed", "false")
    lanes = page.request.get(f"{running.address}/reels/1/lanes?points={SHORT.frames}").json()
    assert [n for n, strokes in enumerate(lanes["by_hand"]) if strokes] == burn["frames"]


def _is_cleaner(running: Running, told: dict[str, Any]) -> None:
    """The delivered file held against where the demo put its damage: what stood out there is gone."""
    source = MovieReader(running.data / "demo" / WORN.file)
    out = next((running.data / "deliveries").rglob("*launch*.m*"))
    delivered = MovieReader(out)
    _is_swept(source, delivered, told)
    for number, (x, y, radius) in zip(told["burn"]["frames"], told["burn"]["at"], strict=True):
        reach = int(0.6 * radius)
        rows, cols = slice(int(y) - reach, int(y) + reach + 1), slice(int(x) - reach, int(x) + reach + 1)
        # The hole is of a colour that nothing else there is of.
        half = slice(rows.start // 2, rows.stop // 2), slice(cols.start // 2, cols.stop // 2)
        before, after = ((r.frame(number).planes[1][half] < 113).mean() for r in (source, delivered))
        assert before > 0.6
        assert after < 0.03
    for cue in told["cues"]:
        rows, cols = slice(int(cue["y"]) - 5, int(cue["y"]) + 6), slice(int(cue["x"]) - 5, int(cue["x"]) + 6)
        for number in cue["frames"]:
            before, after = (float(r.frame(number).planes[0][rows, cols].mean()) for r in (source, delivered))
            clean = float(source.frame(cue["frames"][0] - 1).planes[0][rows, cols].mean())
            assert before - clean > 25
            assert abs(after - clean) < 15
    clear = cue["frames"][-1] + 12
    corner = np.s_[:80, WIDTH - 100 :]
    lifted = np.abs(delivered.frame(clear).planes[0][corner].astype(int) - source.frame(clear).planes[0][corner])
    assert (lifted > 0).mean() < 0.1, "only the scratch and a speck or two are mended there"


def _is_swept(source: MovieReader, delivered: MovieReader, told: dict[str, Any]) -> None:
    """Of specks that stood out plainly nearly all are gone."""
    gone = []
    for one in told["dirt"]:
        x, y, size = int(one["x"]), int(one["y"]), max(2, int(one["size"]))
        inside = size < x < WIDTH - size and size < y < HEIGHT - size
        if one["hair"] or one["size"] < 2 or one["cover"] < 0.75 or not inside or not 3 < one["frame"] < SHORT.frames - 7:
            continue
        reach = int(1.6 * size) + 6
        rows, cols = slice(max(0, y - reach), y + reach + 1), slice(max(0, x - reach), x + reach + 1)
        before, after = (r.frame(one["frame"]).planes[0].astype(float) for r in (source, delivered))
        around = float(np.median(before[rows, cols]))
        seen, left = (abs(float(p[y - 1 : y + 2, x - 1 : x + 2].mean()) - around) for p in (before, after))
        if seen > 25:
            gone.append(left < seen / 2)
    assert len(gone) > 10
    assert np.mean(gone) > 0.8
