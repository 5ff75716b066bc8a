"""Work in a process apart: what it gives comes back, what ends it is told and ends nothing else."""

from __future__ import annotations

import os
import time
from collections.abc import Iterator

import numpy as np
import pytest

from nimbus_sweep.core.base.apart import Apart
from nimbus_sweep.core.base.errors import SweepError


@pytest.fixture(scope="module")
def apart() -> Iterator[Apart]:
    made = Apart(memory=2 << 30, seconds=20)
    yield made
    made.end()


def doubled(values: list[int]) -> list[int]:
    return [2 * v for v in values]


def refused() -> None:
    raise SweepError("This list is of another reel.")


def confused() -> None:
    raise ValueError("of no use to anybody")


def died() -> None:
    os._exit(11)


def greedy() -> int:
    return int(np.ones(3 << 30, np.uint8).sum())


def number() -> int:
    return os.getpid()


def test_what_it_gives_comes_back_from_another_process(apart: Apart) -> None:
    assert apart("The list", doubled, [1, 2]) == [2, 4]
    one = apart("The list", number)
    assert one != os.getpid()
    assert apart("The list", number) == one, "it is begun once"


def test_what_it_says_is_said(apart: Apart) -> None:
    with pytest.raises(SweepError, match="of another reel"):
        apart("The list", refused)
    with pytest.raises(SweepError, match="The list cannot be read: it is damaged"):
        apart("The list", confused)


@pytest.mark.parametrize("work", [died, greedy])
def test_what_ends_it_or_takes_too_much_is_told_and_the_next_is_done(apart: Apart, work: object) -> None:
    with pytest.raises(SweepError, match="The picture cannot be read"):
        apart("The picture", work)  # type: ignore[arg-type]
    assert apart("The list", doubled, [4]) == [8]


def test_what_takes_too_long_is_given_up(apart: Apart) -> None:
    apart("The list", number)
    begun = time.monotonic()
    with pytest.raises(SweepError, match="took longer than"):
        apart.within(0.3, "The list", time.sleep, 60)
    assert time.monotonic() - begun < 5
    assert apart("The list", doubled, [4]) == [8]
