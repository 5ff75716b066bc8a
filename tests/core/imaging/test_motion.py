"""Motion: known shifts come back, light does not disturb them, and pictures of any size are safe."""

from __future__ import annotations

import cv2
import numpy as np
import pytest
import skimage.data

from nimbus_sweep.core.evidence.travel import Travel, pairs, travel
from nimbus_sweep.core.imaging.motion import agreement, blur, carried, flow, grid, inside, look, spread


def photo(shape: tuple[int, int] = (160, 220)) -> np.ndarray:
    whole = cv2.cvtColor(skimage.data.coffee(), cv2.COLOR_RGB2GRAY).astype(np.float32)
    return np.ascontiguousarray(whole[100 : 100 + shape[0], 60 : 60 + shape[1]])


@pytest.mark.parametrize(("dx", "dy"), [(0, 0), (5, -3), (-12, 8)])
def test_a_shift_is_found_through_a_change_of_light(dx: int, dy: int) -> None:
    whole = photo((220, 300))
    one, other = whole[40:180, 40:240], 0.7 * whole[40 - dy : 180 - dy, 40 - dx : 240 - dx]
    there = flow(look(one, 0.5).gray, look(other, 0.5).gray, fine=True)
    middle = there[30:-30, 30:-30]
    assert np.median(middle[..., 0]) == pytest.approx(dx, abs=0.15)
    assert np.median(middle[..., 1]) == pytest.approx(dy, abs=0.15)


@pytest.mark.parametrize("shape", [(1, 1), (3, 300), (12, 12), (30, 200), (64, 63), (65, 1000)])
@pytest.mark.parametrize("fine", [False, True])
def test_pictures_of_any_size_are_safe(shape: tuple[int, int], fine: bool) -> None:
    gray = np.random.default_rng(1).integers(0, 255, shape, dtype=np.uint8)
    for start in (None, np.full((*shape, 2), 90, np.float32)):
        assert flow(gray, gray, start, fine).shape == (*shape, 2)


def test_carrying_by_whole_pixels_is_exact() -> None:
    plane = photo((40, 50))
    moved = carried(plane, np.full((40, 50, 2), (3, -2), np.float32))
    assert np.allclose(moved[5:-5, 5:-5], plane[3:-7, 8:-2], atol=1e-3)
    still = inside(np.full((40, 50, 2), (3, -2), np.float32), grid((40, 50)))
    assert still[10, 10]
    assert not still[10, 48]
    assert not still[1, 10]


def test_there_and_back_agree_only_where_they_meet() -> None:
    there = np.full((30, 30, 2), (4, 0), np.float32)
    assert agreement(there, -there).min() > 0.99
    assert agreement(there, there).max() < 0.01


def test_gaps_are_filled_from_the_nearest_that_speak() -> None:
    values = np.zeros((120, 120, 2), np.float32)
    values[:, :60], values[:, 60:] = (2, 1), (8, 1)
    weight = np.ones((120, 120), np.float32)
    weight[40:80, 20:40] = 0
    full, support = spread(values * weight[..., None], weight)
    assert full[60, 30, 0] == pytest.approx(2, abs=0.6)
    assert full[60, 30, 1] == pytest.approx(1, abs=0.05)
    assert support.min() > 0.1
    assert np.allclose(spread(values, np.zeros_like(weight))[1], 0)


@pytest.mark.parametrize("sigma", [1.0, 7.0, 20.0])
def test_wide_smoothing_is_the_same_on_a_smaller_picture(sigma: float) -> None:
    plane = np.random.default_rng(2).standard_normal((160, 200)).astype(np.float32) * 10
    exact = cv2.GaussianBlur(plane, (0, 0), sigma, borderType=cv2.BORDER_REFLECT_101)
    assert np.abs(blur(plane, sigma) - exact).std() < 0.15 * exact.std()


def _way(step: float, frames: int = 20) -> Travel:
    moves = np.repeat(np.eye(3)[None], frames, 0)
    moves[:, 0, 2] = step * np.arange(frames)
    return Travel(moves, (640, 360))


def test_the_cameras_way_is_followed_in_pixels_of_the_picture() -> None:
    whole = photo((200, 400))
    small = [np.ascontiguousarray(whole[20:170, 20 + 3 * n : 220 + 3 * n]) for n in range(12)]
    way = travel(small, 0.5, (800, 600))
    # Three pixels of the small picture are twelve of the large one; the scene goes left.
    assert way.shift(0, 11, 400, 300)[0] == pytest.approx(-132, abs=3)
    assert way.shift(0, 11, 400, 300)[1] == pytest.approx(0, abs=3)
    assert way.farthest == pytest.approx(132, abs=3)


def test_pairs_are_those_that_moved_far_enough() -> None:
    way = _way(5.0)
    chosen = pairs(way, 12, (20.0,))
    assert len(chosen) >= 10
    assert all(i < j and 17 <= 5 * (j - i) <= 25 for i, j in chosen)
    # Where the scene stands still they are spread over time; what never comes is the farthest there is.
    assert pairs(_way(0.0), 8)
    far = pairs(way, 6, (1000.0 / 4,))
    assert far, far
    assert max(5 * (j - i) for i, j in far) >= 85
    assert pairs(_way(1.0, 1), 5) == []
