"""How sure a few features make something."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest
from scipy.special import expit

from nimbus_sweep.core.base.logistic import Logistic

NAMES = ("size", "depth")


def model() -> Logistic:
    return Logistic(NAMES, -1.0, np.array([0.5, 2.0, 0.1, 0.3, -0.2]), np.array([2.0, 0.0]), np.array([4.0, 1.0]))


def test_it_is_the_logistic_function_of_scaled_features_and_their_products() -> None:
    """SciPy's `expit` is the reference."""
    told = np.array([[8.0, 0.3], [2.0, -1.0]])
    x, y = (told[:, 0] - 2) / 4, told[:, 1]
    assert model().sure(told) == pytest.approx(expit(-1 + 0.5 * x + 2.0 * y + 0.1 * x * x + 0.3 * x * y - 0.2 * y * y))


def test_it_may_have_been_fitted_to_the_features_alone() -> None:
    plain = Logistic(NAMES, -1.0, np.array([0.5, 2.0]), np.array([2.0, 0.0]), np.array([4.0, 1.0]))
    assert plain.sure([8.0, 0.3]) == pytest.approx(expit(-1 + 0.5 * 1.5 + 2.0 * 0.3))


def test_what_was_never_seen_says_no_more_than_the_farthest_that_was() -> None:
    assert model().sure([1e9, 0.0]) == model().sure([18.0, 0.0])
    assert float(Logistic.blank(NAMES).sure([3.0, 4.0])) == 0.5


def test_it_comes_back_from_its_file(tmp_path: Path) -> None:
    model().write(tmp_path / "model.json", seeds=[1, 2])
    assert Logistic.read(tmp_path / "model.json", NAMES).sure([1.0, 1.0]) == pytest.approx(model().sure([1.0, 1.0]), abs=1e-4)
    with pytest.raises(ValueError, match="other features"):
        Logistic.read(tmp_path / "model.json", ("size", "width"))
