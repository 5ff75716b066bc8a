"""Compiled fits held against NumPy's own least squares, and against trying every way."""

from __future__ import annotations

from itertools import pairwise, product

import numpy as np
import pytest

from nimbus_sweep.core.defects.scratches.row_fit import left_over, row_fit, ways_down

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


@pytest.mark.slow
def test_the_best_way_down_is_the_best_of_all() -> None:
    signed = np.random.default_rng(4).normal(0, 2, (4, 6))
    total, steps = ways_down(signed, 2, 0.3)
    for end in range(6):
        ways = [
            sum(signed[b, x] for b, x in enumerate(way)) - 0.3 * sum(abs(a - b) for a, b in pairwise(way))
            for way in product(range(6), repeat=4)
            if way[-1] == end and all(abs(a - b) <= 2 for a, b in pairwise(way))
        ]
        assert total[end] == pytest.approx(max(ways))
        at, got = end, signed[3, end]
        for band in range(3, 0, -1):
            moved = int(steps[band, at])
            at += moved
            got += signed[band - 1, at] - 0.3 * abs(moved)
        assert got == pytest.approx(total[end])
