"""Compiled medians, ranks and fits against reference libraries and against the same written out."""

from __future__ import annotations

import cv2
import numpy as np
import pytest
from numpy.typing import NDArray
from scipy.ndimage import median_filter

from nimbus_sweep.core.defects.film_dirt.attempt import dilated, reached
from nimbus_sweep.core.defects.film_dirt.blobs import blobs_of
from nimbus_sweep.core.defects.film_dirt.elsewhere import least_left
from nimbus_sweep.core.defects.film_dirt.examine import at_blob, examined
from nimbus_sweep.core.defects.static_shade.fit import _drawn, _moments
from nimbus_sweep.core.defects.stuck_pixels.departures import _over_spans
from nimbus_sweep.core.imaging.neighbours import Neighbour, comes_and_goes, disc, limits, outside
from nimbus_sweep.core.imaging.stack_statistics import ranked, running_median

RNG = np.random.default_rng(11)


@pytest.mark.parametrize("size", [1, 4, 7, 48, 49])
@pytest.mark.parametrize("values", [RNG.normal(0, 9, (5, 60)), RNG.integers(0, 4, (3, 200)).astype(float), np.zeros((2, 50))])
def test_a_running_median_is_that_of_scipy(values: np.ndarray, size: int) -> None:
    assert np.array_equal(running_median(values, size), median_filter(values, size=(1, size), mode="nearest"))


@pytest.mark.parametrize("count", [2, 3, 4, 5, 8])
def test_ranks_are_those_of_a_sort(count: int) -> None:
    stack = RNG.normal(100, 30, (count, 13, 17)).astype(np.float32)
    ordered = np.sort(stack, 0)
    low, high, middle, apart = ranked(stack)
    second = min(1, count - 1)
    assert np.array_equal(low, ordered[second])
    assert np.array_equal(high, ordered[-1 - second])
    assert np.allclose(middle, np.median(stack, 0), atol=1e-4)
    assert np.array_equal(apart, np.maximum(ordered[-2] - ordered[1], 0) if count > 3 else ordered[-1] - ordered[0])


@pytest.mark.parametrize("count", [1, 2, 5, 8])
def test_statistics_over_spans_are_those_of_numpy(count: int) -> None:
    means = RNG.normal(0, 3, (count, 9, 11)).astype(np.float32)
    depart, wander, steady = _over_spans(means)
    middle = np.median(means, 0)
    assert np.allclose(depart, middle, atol=1e-5)
    assert np.allclose(wander, 1.4826 * np.median(np.abs(means - middle), 0), atol=1e-5)
    if count > 2:
        second = np.sort(means, 0)[1]
        assert (steady[(second > 0) & (means.min(0) > 0)] == second[(second > 0) & (means.min(0) > 0)]).all()


def test_what_is_told_of_a_blob_is_told_by_numpy() -> None:
    departs = RNG.uniform(0, 50, (40, 60)).astype(np.float32)
    left, beside = RNG.uniform(0, 50, (2, 20, 20)).astype(np.float32)
    blob = RNG.random((20, 20)) > 0.6
    rough, first, second = at_blob(departs, left, beside, blob, 7, 11)
    box = np.s_[7:27, 11:31]
    assert rough == pytest.approx(np.percentile(departs[box][blob], 80), rel=1e-6)
    means = [np.kron(small, np.ones((2, 3)))[box][blob].mean() for small in (left, beside)]
    assert (first, second) == pytest.approx(means, rel=1e-5)


@pytest.mark.parametrize("reach", [1, 2, 4, 5])
def test_a_part_is_grown_as_opencv_grows_it(reach: int) -> None:
    for share in (0.02, 0.3, 0.9):
        part = (RNG.random((31, 43)) < share).astype(np.uint8)
        assert np.array_equal(dilated(part, reach), cv2.dilate(part, disc(reach)))


def test_a_hole_is_closed_and_holds_only_what_hangs_together_with_its_core() -> None:
    """As OpenCV closes and labels it."""
    layer = cv2.GaussianBlur(RNG.normal(0, 60, (40, 50)).astype(np.float32), (0, 0), 1.5)
    core = np.zeros((40, 50), np.uint8)
    core[18:21, 24:27] = 1
    wide = cv2.dilate(core, disc(9))
    out = (((layer > 5) & (wide > 0)) | (core > 0)).astype(np.uint8)
    closed = cv2.morphologyEx(out, cv2.MORPH_CLOSE, disc(1)) & wide
    _, named = cv2.connectedComponents(closed, connectivity=8)
    wanted = np.isin(named, np.unique(named[core > 0]))
    assert 9 < wanted.sum() < closed.sum()
    assert np.array_equal(reached(layer, core, wide, 5.0), wanted)


def test_blobs_hold_a_seed_and_are_those_that_opencv_labels() -> None:
    departs = cv2.GaussianBlur(RNG.normal(0, 60, (60, 80)).astype(np.float32), (0, 0), 2.0)
    seeds = np.zeros((60, 80), bool)
    peaks = np.argwhere((departs == cv2.dilate(departs, np.ones((9, 9)))) & (departs > 12))
    for row, col in peaks[::2]:
        seeds[row, col] = True
    found = blobs_of(departs, departs, seeds, 3.0, departs.shape)
    wholes = set()
    _, named = cv2.connectedComponents((departs > 3).astype(np.uint8), connectivity=8)
    for n in np.unique(named[seeds]):
        inside = named == n
        if 2 <= inside.sum() <= 0.012 * departs.size and max(np.ptp(np.argwhere(inside), 0)) + 1 <= 32:
            wholes.add((int(inside.sum()), float(departs[inside].max())))
    told = [(int(blob.sum()), strength) for _, blob, strength in found]
    assert wholes
    assert wholes <= set(told)
    assert [area for area, _ in told] == sorted((area for area, _ in told), reverse=True)
    assert all(seeds[box][blob].any() for box, blob, _ in found)


def test_a_thing_is_looked_for_as_opencv_matches_it() -> None:
    place = RNG.uniform(0, 200, (30, 40)).astype(np.float32)
    thing, mask = place[7:15, 20:29] + RNG.normal(0, 2, (8, 9)).astype(np.float32), (RNG.random((8, 9)) > 0.2).astype(np.float32)
    least = float(cv2.matchTemplate(place, thing, cv2.TM_SQDIFF, mask=mask).min())
    assert least_left(place, thing, mask, 1e9) == pytest.approx(least, rel=1e-3)
    assert least_left(place, thing, mask, 0.5 * least) == 0.5 * least
    assert least_left(place[:5], thing, mask, 1e9) == 1e9


def test_a_spot_is_filled_with_what_its_neighbours_hold() -> None:
    """Neighbours that differ by a gain and a level: the fill is the picture without the spot."""
    rows, cols = np.mgrid[:40, :40].astype(np.float32)
    scene = 80 + 20 * np.sin(rows / 5) + 15 * np.cos(cols / 4)
    here = scene.copy()
    core = ((rows - 20) ** 2 + (cols - 20) ** 2 < 16).astype(np.uint8)
    ring = (((rows - 20) ** 2 + (cols - 20) ** 2 > 64) & ((rows - 20) ** 2 + (cols - 20) ** 2 < 196)).astype(np.uint8)
    here[core > 0] += 60
    lights = (np.float32(0.9) * scene + 4, np.float32(1.1) * scene - 6)
    seen, none = np.ones((40, 40), bool), np.zeros((40, 40), np.float32)
    told = examined(here, lights, (seen, seen), (none, none), (cols, cols), (rows, rows), core, ring, 0.5, True)
    assert told is not None
    assert np.abs(told.fill - scene).max() < 3
    assert told.contrast == pytest.approx(60, abs=2)
    assert sum(told.shares) == pytest.approx(1)
    assert told.moves == pytest.approx(0, abs=1e-6)
    assert told.life == pytest.approx(float(here[ring > 0].std()), rel=1e-4)
    plane = np.column_stack([np.ones(int(ring.sum())), rows[ring > 0], cols[ring > 0]])
    left = here[ring > 0] - plane @ np.linalg.lstsq(plane, here[ring > 0], rcond=None)[0]
    assert told.flat == pytest.approx(float(left.std()), rel=1e-3)
    hidden = np.zeros((40, 40), bool)
    assert examined(here, lights, (hidden, hidden), (none, none), (cols, cols), (rows, rows), core, ring, 0.5, True) is None


def test_how_far_light_is_drawn_is_told_by_sums() -> None:
    """A veil that draws the light by a third towards 120: told exactly where nothing disturbs it."""
    scene = RNG.uniform(20, 220, (16, 6, 7)).astype(np.float32)
    at_mark = (scene - np.float32(1 / 3) * (scene - 120)).astype(np.float32)
    weight = RNG.uniform(0.5, 2, scene.shape).astype(np.float32)
    sums = _moments(at_mark, scene, weight, np.arange(16) % 2 == 1)
    for half in (sums[0], sums[1], sums.sum(0)):
        assert _drawn(half, 120.0) == pytest.approx(1 / 3, abs=1e-3)


def laid(plane: NDArray[np.float32]) -> Neighbour:
    return Neighbour.along(np.zeros((*plane.shape, 2), np.float32), plane)


def test_nothing_comes_and_goes_in_what_neighbours_hold() -> None:
    light = RNG.uniform(50, 200, (30, 30)).astype(np.float32)
    assert comes_and_goes(light, laid(light - 1), laid(light + 1), 0.5, 4) is None
    spotted = light.copy()
    spotted[15, 15] = 240
    marked = comes_and_goes(spotted, laid(light - 1), laid(light + 1), 0.5, 4)
    assert marked is not None
    assert marked[15, 15] == 1
    assert 20 < marked.sum() < 90


def test_what_is_outside_is_outside_the_limits_about_it() -> None:
    light, one, other = RNG.uniform(0, 255, (3, 40, 50)).astype(np.float32)
    low, high = limits(laid(one), laid(other))
    expected = np.maximum(light - high, low - light) > 3
    assert 0 < expected.sum() < expected.size
    assert np.array_equal(outside(light, laid(one), laid(other), 3) > 0, expected)


@pytest.mark.parametrize("shape", [(60, 80), (30, 40), (7, 80), (1, 1), (23, 11)])
def test_a_way_told_on_a_smaller_picture_leads_as_the_resized_one(shape: tuple[int, int]) -> None:
    """Bilinear between its pixels' middles, as OpenCV's `resize` does it."""
    height, width = 60, 80
    way = RNG.uniform(-3, 3, (*shape, 2)).astype(np.float32)
    full = cv2.resize(way, (width, height), interpolation=cv2.INTER_LINEAR).reshape(height, width, 2)
    near = Neighbour.along(way, np.zeros((height, width), np.float32))
    y, x = np.mgrid[:height, :width]
    assert near.x == pytest.approx(x + full[..., 0] * width / shape[1], abs=2e-3)
    assert near.y == pytest.approx(y + full[..., 1] * height / shape[0], abs=2e-3)
    assert np.array_equal(near.seen, (near.x >= 1) & (near.y >= 1) & (near.x <= width - 2) & (near.y <= height - 2))
