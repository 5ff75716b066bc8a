"""The line down the middle of something long and thin, beside what scikit-image makes of the same masks."""

from __future__ import annotations

import cv2
import numpy as np
import pytest
from skimage.graph import route_through_array
from skimage.morphology import medial_axis

from nimbus_sweep.core.imaging.centrelines import Centreline


def arc(radius: float, wide: int) -> np.ndarray:
    """Three quarters of a circle about (60, 60)."""
    mask = np.zeros((120, 120), np.uint8)
    cv2.ellipse(mask, (60, 60), (round(radius), round(radius)), 0, 20, 290, 1, wide)
    return mask > 0


@pytest.mark.parametrize("wide", [3, 5, 9])
def test_it_keeps_to_the_middle_from_end_to_end(wide: int) -> None:
    line = Centreline.of(arc(40, wide))
    # Its ends run into the corners of a wide mask.
    assert np.abs(np.hypot(*(line.points[5:-5] - 60).T) - 40).max() < 1.5
    assert len(line) == pytest.approx(np.radians(270) * 40, rel=0.06)
    assert np.hypot(*np.diff(line.points, axis=0).T) == pytest.approx(1, abs=0.1)


def test_it_lies_on_the_medial_axis() -> None:
    mask = arc(35, 7)
    skeleton = np.argwhere(medial_axis(mask))
    away = [np.hypot(*(skeleton - p).T).min() for p in Centreline.of(mask).points]
    assert np.median(away) < 0.8


def test_no_way_between_its_ends_is_cheaper() -> None:
    # Without the middle's pull, the shortest way through the mask is that of route_through_array.
    mask = arc(35, 3)
    line = Centreline.of(mask)
    ends = [tuple(np.argwhere(mask)[np.hypot(*(np.argwhere(mask) - p).T).argmin()]) for p in (line.points[0], line.points[-1])]
    route, _ = route_through_array(np.where(mask, 1.0, 1e6), *ends, fully_connected=True, geometric=True)
    assert len(line) == pytest.approx(np.hypot(*np.diff(route, axis=0).T).sum(), rel=0.1)


def test_a_spur_is_left_aside() -> None:
    mask = np.zeros((40, 120), bool)
    mask[18:22, 10:110] = True
    mask[5:18, 60:63] = True
    rows = Centreline.of(mask).points[:, 0]
    assert np.abs(rows - 19.5).max() < 2


def test_profiles_show_what_lies_across() -> None:
    plane = np.tile(np.abs(np.arange(60) - 30.0).astype(np.float32), (50, 1))
    upright = Centreline(np.column_stack([np.arange(10.0, 40), np.full(30, 30.0)]))
    seen = upright.profiles(plane, np.array([-4.0, 0, 2.5]))
    assert seen == pytest.approx(np.tile([4, 0, 2.5], (30, 1)), abs=1e-5)
    assert upright.shifted(np.full(30, 3.0)).points[:, 1] == pytest.approx(np.full(30, 33.0)), (
        "across a line that goes down is to the right"
    )


def test_places_near_are_told_by_how_far_across_they_lie() -> None:
    line = Centreline(np.column_stack([np.full(30, 20.0), np.arange(10.0, 40)]))
    (rows, cols), nearest, away = line.places_near((50, 60), 3.0)
    assert np.abs(away).max() <= 3
    middle = (cols > 10) & (cols < 39)
    assert np.abs(away)[middle] == pytest.approx(np.abs(rows[middle] - 20.0))
    assert (cols[middle] - 10 == nearest[middle]).all()
    assert len(set(np.sign(away[middle & (rows < 20)]))) == 1, "one side has one sign"


@pytest.mark.parametrize("points", [[(5.0, 5.0)], [(5.0, 5.0), (5.0, 6.0)]])
def test_a_dot_is_a_short_line(points: list[tuple[float, float]]) -> None:
    mask = np.zeros((12, 12), bool)
    for row, column in points:
        mask[int(row), int(column)] = True
    line = Centreline.of(mask)
    assert 1 <= len(line) <= 2
    assert line.share_on(mask) == 1
    assert np.isfinite(line.profiles(mask.astype(np.float32), np.arange(-2.0, 3))).all()
