"""How far two strands of work are, told as a share of the time they take together."""

from __future__ import annotations

from itertools import pairwise

import pytest

from nimbus_sweep.core.pipeline.pace import Pace


class Clock:
    """Seconds that pass when they are told to."""

    def __init__(self) -> None:
        self.at = 100.0

    def __call__(self) -> float:
        return self.at


def run(weights: tuple[float, float], lasts: tuple[float, float], alone: float = 1.8) -> tuple[list[tuple[float, float]], float]:
    """Two strands that last so many seconds beside each other, one faster once the other has ended: times and shares told, and the end."""
    clock = Clock()
    pace, done, told = Pace(weights, clock), [0.0, 0.0], []
    while min(done) < 1:
        clock.at += 0.1
        both = max(done) < 1
        done = [min(1.0, d + 0.1 / s * (1 if both else alone)) for d, s in zip(done, lasts, strict=True)]
        told.append((clock.at - 100, pace.share(done)))
    return told, clock.at - 100


@pytest.mark.parametrize("lasts", [(20.0, 20.0), (30.0, 12.0), (8.0, 40.0)])
@pytest.mark.parametrize("weights", [(60.0, 60.0), (60.0, 600.0), (60.0, 20.0)])
def test_time_left_is_right_whatever_the_strands_were_thought_to_take(weights: tuple[float, float], lasts: tuple[float, float]) -> None:
    told, end = run(weights, lasts)
    assert told[-1][1] == 1
    for (_, before), (_, after) in pairwise(told):
        assert after > before or before == 1, "it never stands still"
    wrong = [abs(at / share - end) / end for at, share in told if at > 0.1 * end]
    assert max(wrong) < 0.3


def test_a_strand_with_nothing_to_do_counts_for_nothing() -> None:
    clock = Clock()
    pace = Pace((0.0, 50.0), clock)
    for n in range(1, 51):
        clock.at += 0.2
        told = pace.share((0.0, n / 50))
        if n > 6:
            assert told == pytest.approx(n / 50, abs=0.02)
    assert told == 1
    assert Pace((0.0, 0.0), clock).share((0.0, 0.0)) == 1


def test_a_strand_that_slows_down_holds_the_share_back() -> None:
    clock = Clock()
    pace = Pace((10.0, 10.0), clock)
    done, shares = 0.0, []
    for n in range(200):
        clock.at += 0.1
        done = min(1.0, done + (0.01 if n < 50 else 0.0035))
        shares.append(pace.share((done, done)))
    assert all(b > a or a == 1 for a, b in pairwise(shares))
    assert shares[49] == pytest.approx(0.5, abs=0.03)
