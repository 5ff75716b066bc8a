"""Compiled fits held against NumPy's own least squares, and against trying every way."""

from __future__ import annotations

from itertools import product

import numpy as np
import pytest
from scipy.ndimage import map_coordinates

from nimbus_sweep.core.defects.scratches.row_fit import best_stretches, left_over, row_fit, straightened, stretches

WIDTH, REACH = 1.3, 7.8


@pytest.mark.parametrize("sliding", [False, True])
def test_rows_are_fitted_as_by_least_squares(sliding: bool) -> None:
    rng = np.random.default_rng(3)
    away = np.arange(-10, 11) + rng.uniform(-0.5, 0.5, (40, 1))
    values = 90 + 12 * np.exp(-0.5 * (away / WIDTH) ** 2) + 3 * away + rng.normal(0, 2, away.shape)
    inside = rng.random(away.shape) > 0.1
    found = row_fit(values, away, inside, WIDTH, REACH, sliding)
    left = left_over(values, away, inside, WIDTH, REACH, found, 5.0)
    for row in range(len(values)):
        x, u = away[row, inside[row]], away[row, inside[row]] / REACH
        line = np.exp(-0.5 * (x / WIDTH) ** 2)
        basis = np.stack([line, *([line * x / WIDTH**2] if sliding else []), np.ones_like(u), u, u**2, u**3], 1)
        # numpy.linalg.lstsq, with the ridge as rows of its own.
        ridge = np.sqrt(1e-3) * np.eye(basis.shape[1])
        told = np.linalg.lstsq(
            np.concatenate([basis, ridge]), np.concatenate([values[row, inside[row]], np.zeros(len(ridge))]), rcond=None
        )[0]
        assert found[row] == pytest.approx(told, rel=1e-6, abs=1e-6)
        if not sliding:
            rest = (values[row, inside[row]] - basis @ told)[np.abs(x) <= 5]
            assert left[row] == pytest.approx(float((rest**2).mean()), rel=1e-6)


def test_a_row_outside_the_picture_tells_nothing() -> None:
    away = np.arange(-10.0, 11.0)[None]
    nothing = np.zeros(away.shape, bool)
    assert not row_fit(away, away, nothing, WIDTH, REACH, False).any()
    assert not left_over(away, away, nothing, WIDTH, REACH, np.zeros((1, 5)), 5.0).any()


def test_the_best_stretch_of_a_way_is_the_best_of_all() -> None:
    signed = np.random.default_rng(4).normal(0, 2, (6, 20))
    slopes = np.array([-1.0, 0.0, 0.5])
    sums, bands = best_stretches(signed, slopes)
    for (n, slope), x in product(enumerate(slopes), range(6, 14)):
        # Drawn linearly between columns, as numpy does.
        along = np.array([np.interp(x + slope * (band - 2.5), np.arange(20), signed[band]) for band in range(6)])
        best = max(along[first:stop].sum() for first in range(6) for stop in range(first + 1, 7))
        assert sums[n, x] == pytest.approx(max(best, 0))
        if best > 0:
            assert along[slice(*bands[n, x])].sum() == pytest.approx(best)


def test_stretches_keep_apart_and_come_best_first() -> None:
    signed = np.full((12, 60), -1.0)
    signed[2:9, 20], signed[:, 45], signed[4:7, 5] = 3.0, 2.5, 2.5
    # A second way beside the first is the same line.
    signed[2:9, 22] = 2.0
    slopes = np.array([0.0])
    found = stretches(*best_stretches(signed, slopes), slopes, 12, 8.0, 5, 8, 4.0)
    assert found.tolist() == [[45, 0, 0, 12, 30], [20, 0, 2, 9, 21]]


def test_a_straightened_line_is_upright() -> None:
    rows, cols = np.mgrid[0:60, 0:80].astype(np.float32)
    light = np.exp(-0.5 * ((cols - 30 - 0.2 * rows) / 1.5) ** 2).astype(np.float32)
    strip = straightened(light, 30.0, 0.2, 6, 56, 2, 8)
    assert strip.shape == (25, 17)
    assert (strip.argmax(1) == 8).all()
    # scipy's own linear interpolation (map_coordinates), row by row.
    told = np.stack([map_coordinates(light, [np.full(17, row), 30 + 0.2 * row + np.arange(-8, 9)], order=1) for row in range(6, 56)])
    assert np.allclose(strip, told.reshape(25, 2, 17).mean(1), atol=1e-5)
