"""Compiled statistics held against NumPy's own and against the picture library's."""

from __future__ import annotations

import cv2
import numpy as np
import pytest

from nimbus_sweep.core.imaging.motion import agreement, grid, spread, support
from nimbus_sweep.core.imaging.stack_statistics import median, robust


@pytest.mark.parametrize("count", [1, 2, 7, 40])
def test_medians_are_those_of_numpy(count: int) -> None:
    values = np.random.default_rng(count).normal(0, 5, (count, 9, 11)).astype(np.float32)
    assert median(values) == pytest.approx(np.median(values, axis=0), abs=1e-6)


def test_robust_means_are_those_of_the_formula() -> None:
    """Redescending weights (Beaton and Tukey 1974) written out in double precision; more samples than are taken at a time."""
    rng = np.random.default_rng(5)
    values, weight = rng.normal(3, 1, (30, 40, 60)), rng.uniform(0.1, 1, (30, 40, 60))
    values[:6] += 50
    values, weight = values.astype(np.float32), weight.astype(np.float32)
    mean, borne = robust(values, weight)
    some = values.astype(np.float64)
    centre = np.median(some, axis=0)
    scale = np.maximum(1.4826 * np.median(np.abs(some - centre), axis=0), 0.008)
    for n in range(6):
        kept = weight / (1 + ((some - centre) / scale) ** 2) ** (2 if n else 1)
        centre = (kept * some).sum(0) / kept.sum(0)
    assert mean == pytest.approx(centre, rel=1e-4)
    assert borne == pytest.approx(kept.sum(0), rel=1e-3)
    assert np.abs(mean - 3).max() < 1.5, "what lies far off counts for nothing"
    weight[:, 0, 0] = 0
    assert robust(values, weight)[0][0, 0] == 0


def test_agreement_is_that_of_the_way_back_looked_up_by_the_picture_library() -> None:
    rng = np.random.default_rng(6)
    there, back = (cv2.GaussianBlur(rng.normal(0, 20, (60, 80, 2)).astype(np.float32), (0, 0), 4) for _ in range(2))
    back = (back - there).astype(np.float32)
    gap = there + cv2.remap(back, grid((60, 80)) + there, None, cv2.INTER_LINEAR, borderMode=cv2.BORDER_REPLICATE)
    wanted = 1 / (1 + ((gap * gap).sum(-1) / 0.25) ** 2)
    # The library looks up at places rounded to 1/32 of a sample.
    assert np.abs(agreement(there, back) - wanted).max() < 0.05


def test_support_is_what_filling_in_finds() -> None:
    rng = np.random.default_rng(7)
    weight = (rng.random((50, 70)) > 0.7).astype(np.float32)
    assert support(weight) == pytest.approx(spread(rng.random((50, 70, 2)).astype(np.float32), weight)[1], abs=1e-6)
