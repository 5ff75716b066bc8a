"""The demo's reels: drawn the same each time, spoiled only where the truth says, with highlights that must stay."""

from __future__ import annotations

import json
from pathlib import Path

import numpy as np
import pytest

from benchmarks.material import sound_samples
from nimbus_sweep.core.media.reader import MovieReader
from nimbus_sweep.demo import station
from nimbus_sweep.demo.defects import COLOURS, StuckSite, rgb_to_ycbcr, scatter, stick, visible, ycbcr_to_rgb
from nimbus_sweep.demo.reels import RATE, REELS, DemoReel, wind
from tests.conftest import small


@pytest.mark.slow
def test_frames_are_drawn_the_same_each_time() -> None:
    camera = station.Camera(400, 120)
    one, other = station.draw(camera, 1.5, 9), station.draw(camera, 1.5, 9)
    assert all(np.array_equal(a, b) for a, b in zip(one, other, strict=True))
    assert [p.shape for p in one] == [(720, 1280), (360, 640), (360, 640)]
    assert all(p.min() >= 16 and p.max() <= 240 for p in one), "limited range is kept (ITU-R BT.709)"


def test_the_scene_lives() -> None:
    camera = station.Camera(850, 196, 1.5)
    now, later = station.draw(camera, 1.0, 1, grain=0)[0].astype(int), station.draw(camera, 1.4, 1, grain=0)[0].astype(int)
    moved = np.abs(later - now) > 2
    assert moved[:300].mean() > 0.02, "cloud moves"
    assert moved[420:].mean() < 0.25, "the hill does not"
    grain = station.draw(camera, 1.0, 1)[0].astype(int) - station.draw(camera, 1.0, 2)[0]
    assert 1 < grain.std() < 8


def test_the_pan_moves_and_the_other_does_not() -> None:
    pan, locked = REELS
    assert pan.camera(pan.frames - 1).x - pan.camera(0).x > 500
    assert locked.camera(0) == locked.camera(locked.frames - 1)
    steps = [pan.camera(n + 1).x - pan.camera(n).x for n in range(pan.frames - 1)]
    assert min(steps[20:-20]) > 0


def test_highlights_stand_out() -> None:
    camera = station.Camera(850, 196, 1.5)
    luma = station.draw(camera, 1.0, 1, grain=0)[0].astype(int)
    seen = 0
    for wx, wy, _power in station.HIGHLIGHTS:
        x, y = round((wx - camera.x) * camera.scale), round((wy - camera.y) * camera.scale)
        around = np.median(luma[y - 6 : y + 7, x - 6 : x + 7])
        seen += luma[y - 1 : y + 2, x - 1 : x + 2].max() > around + 20
    assert seen >= 3


def test_colours_there_and_back() -> None:
    rgb = np.random.default_rng(0).uniform(0, 255, (50, 3))
    assert ycbcr_to_rgb(*rgb_to_ycbcr(rgb)) == pytest.approx(rgb, abs=1e-9)
    # ITU-R BT.709 in 8 bits: white is 235, black 16, chroma zero 128.
    assert [float(v) for v in rgb_to_ycbcr(np.array([255.0, 255, 255]))] == pytest.approx([235, 128, 128])
    assert [float(v) for v in rgb_to_ycbcr(np.zeros(3))] == pytest.approx([16, 128, 128])


@pytest.mark.parametrize("spread", ["sharp", "mild", "mosaic"])
@pytest.mark.parametrize("colour", list(COLOURS))
def test_a_stuck_pixel_changes_its_neighbourhood_and_nothing_else(spread: str, colour: str) -> None:
    frames = list(small(3).pictures)
    site = StuckSite(61, 43, 2, colour, spread)
    spoiled, masks = stick(frames, [site])
    for before, after in zip(frames, spoiled, strict=True):
        for plane, mask in enumerate(masks):
            assert np.array_equal(before[plane][~mask], after[plane][~mask])
    rows, cols = np.nonzero(masks[0])
    reach = 0 if spread == "sharp" else 1
    assert rows.min() >= 43 - reach
    assert rows.max() <= 44 + reach
    assert cols.min() >= 61 - reach
    assert cols.max() <= 62 + reach
    if spread == "sharp":
        held = np.array(COLOURS[colour], float)
        assert int(spoiled[0][0][43, 61]) == pytest.approx(float(rgb_to_ycbcr(held)[0]), abs=1.5)
    with pytest.raises(ValueError, match="too near the edge"):
        stick(frames, [StuckSite(0, 0, 1, "red", "sharp")])


def test_places_are_apart_and_can_be_seen() -> None:
    frames = list(small(3).pictures)
    sites = scatter(frames, 6, 3)
    assert sites == scatter(frames, 6, 3)
    assert sites != scatter(frames, 6, 4)
    for n, one in enumerate(sites):
        assert visible(frames, one) >= 25
        assert all(abs(one.x - other.x) >= 14 or abs(one.y - other.y) >= 14 for other in sites[:n])


def test_the_wind_lasts_as_long_as_the_pictures() -> None:
    sound = wind(48, 3)
    assert sound.shape == (96000, 2)
    assert np.array_equal(sound, wind(48, 3))
    assert 200 < np.abs(sound.astype(int)).mean() < 20000


@pytest.mark.slow
@pytest.mark.parametrize("which", [0, 1])
def test_a_reel_is_written_with_its_truth(tmp_path: Path, which: int) -> None:
    from dataclasses import replace

    full: DemoReel = REELS[which]
    reel = replace(full, frames=12, stuck=3)
    shares: list[float] = []
    path = reel.draw(tmp_path, shares.append)
    assert shares[-1] == 1
    reader = MovieReader(path)
    assert (len(reader), reader.rate, reader.facts.colour.matrix, reader.missing) == (12, RATE, 1, 0)
    truth = json.loads(path.with_suffix(".truth.json").read_text())
    assert len(truth["stuck_pixels"]) == 3
    assert {s["colour"] for s in truth["stuck_pixels"]} <= set(COLOURS)
    clean, spoiled = reel.frame(5), reader.frame(5).planes
    if ("qp", "0") in reel.options:
        differs = {tuple(p) for p in np.argwhere(clean[0] != spoiled[0])}
        assert differs
        assert differs <= {tuple(p) for p in truth["samples_changed"]["Y"]}
    else:
        assert np.abs(clean[0].astype(int) - spoiled[0]).mean() < 2
    samples, start, rate = sound_samples(path)
    assert start == 0
    assert samples.shape[1] >= 12 * rate // RATE
