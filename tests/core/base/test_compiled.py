"""Loops are compiled when they are first called."""

from __future__ import annotations

import numpy as np
import pytest
from numpy.typing import NDArray

from nimbus_sweep.core.base.compiled import compiled


@compiled("float64(float64)")
def twice(value: float) -> float:
    """Twice a number."""
    return 2 * value


@compiled("float64(float64[::1])")
def doubled_sum(values: NDArray[np.float64]) -> float:
    """Twice the sum of some numbers."""
    total = 0.0
    for value in values:
        total += twice(value)
    return total


@compiled()
def inverse(value: float) -> float:
    """One over a number."""
    return 1 / value


def test_a_loop_is_compiled_when_it_is_first_called_and_calls_others() -> None:
    assert not {"dispatcher"} & (vars(twice).keys() | vars(doubled_sum).keys())
    # Where it is read back from disk, what it calls is a part of it.
    assert doubled_sum(np.array([1.0, 2.5])) == 7.0
    assert len(doubled_sum.dispatcher.signatures) == 1
    assert doubled_sum.__doc__ == "Twice the sum of some numbers."


def test_a_loop_that_names_its_types_takes_no_others() -> None:
    with pytest.raises(TypeError):
        twice("a word")  # type: ignore[arg-type]


def test_a_loop_that_names_none_is_compiled_for_what_it_is_called_with_and_divides_as_numpy_does() -> None:
    assert inverse(4) == 0.25
    assert inverse(0.0) == np.inf
