"""Specks judged by their like: the equation that holds at the mode, what is near and what is far, and what settings make of it."""

from __future__ import annotations

import numpy as np
import pytest
from scipy.special import expit, logit

from nimbus_sweep.core.defects.film_dirt.choosing import LeftAlone, OneSpeck, SpeckSweepSettings
from nimbus_sweep.core.defects.film_dirt.likeness import judged_alike
from nimbus_sweep.core.imaging.patches import Patch, PatchTable

LIKE, UNLIKE = (0.0,) * 7, (3.0,) * 7


def test_what_was_said_pulls_as_far_as_the_model_was_wrong() -> None:
    # At the mode the inverse kernel times the change of the odds is what was said less how sure it is then: Rasmussen and Williams 2006, (3.17).
    rng = np.random.default_rng(3)
    sure, looks = rng.uniform(0.05, 0.95, 40), rng.normal(0, 1, (40, 7))
    rows, right = np.arange(6), np.array([True, True, False, False, True, False])
    after = judged_alike(sure, looks, rows, right)
    apart = ((looks[rows, None] - looks[None, rows]) ** 2).sum(-1)
    kernel = 4.0 * np.exp(-apart / 2)
    pull = np.linalg.solve(kernel, logit(after[rows]) - logit(sure[rows]))
    assert pull == pytest.approx(right - after[rows], abs=1e-4)
    everywhere = 4.0 * np.exp(-((looks[:, None] - looks[None, rows]) ** 2).sum(-1) / 2)
    assert after == pytest.approx(expit(logit(sure) + everywhere @ pull), abs=1e-4)


def test_nothing_said_changes_nothing() -> None:
    sure = np.array([0.2, 0.8])
    assert judged_alike(sure, np.zeros((2, 7)), np.zeros(0, np.int64), np.zeros(0, bool)) is sure


def table(*specks: tuple[float, tuple[float, ...]]) -> PatchTable:
    """One speck a frame, 6 pixels wide at x 10 y 20, so sure and of such looks."""
    return PatchTable.of(
        [Patch(n, (10, 20, 6, 6), sure, -30.0, 30, (n - 1, n + 1), (), looks=looks) for n, (sure, looks) in enumerate(specks)]
    )


def test_a_speck_left_alone_lowers_those_like_it_alone() -> None:
    shot = table((0.6, LIKE), (0.6, LIKE), (0.6, UNLIKE))
    left = (LeftAlone(first=0, stop=1, box=(10, 20, 6, 6)),)
    assert SpeckSweepSettings(sure=0.5, left=left).judged(shot) == ["left", "unsure", "swept"]
    assert SpeckSweepSettings(sure=0.5, left=left, alike=False).judged(shot) == ["left", "swept", "swept"]
    # A range that is left alone says nothing of how a speck looks.
    ranged = (LeftAlone(first=0, stop=1),)
    assert SpeckSweepSettings(sure=0.5, left=ranged).judged(shot) == ["left", "swept", "swept"]
    # Two that contradict each other at one place say nothing.
    both = SpeckSweepSettings(sure=0.5, left=left, swept=(OneSpeck(frame=0, box=(10, 20, 6, 6)),))
    assert both.judged(shot) == ["left", "swept", "swept"]


def test_a_speck_named_raises_those_like_it_and_is_not_counted_as_doubtful() -> None:
    shot = table((0.1, LIKE), (0.4, LIKE), (0.4, UNLIKE), (0.9, UNLIKE))
    settings = SpeckSweepSettings(sure=0.5, swept=(OneSpeck(frame=0, box=(10, 20, 6, 6)),))
    assert settings.judged(shot) == ["swept", "swept", "unsure", "swept"]
    sure = settings.judged_sure(shot)
    assert settings.expected_false(shot) == pytest.approx((1 - sure[1]) + (1 - sure[3]))
    assert SpeckSweepSettings(sure=0.5).expected_false(shot) == pytest.approx(0.1)


def test_plans_without_looks_are_judged_by_themselves() -> None:
    shot = table((0.6, ()), (0.6, ()))
    assert SpeckSweepSettings(sure=0.5, left=(LeftAlone(first=0, stop=1, box=(10, 20, 6, 6)),)).judged(shot) == ["left", "swept"]


@pytest.mark.parametrize(
    ("frame", "size", "corner", "named"),
    [(1, 12, (8, 18), True), (0, 12, (8, 18), False), (1, 60, (0, 0), False), (1, 12, (40, 18), False)],
)
def test_a_stroke_names_the_doubted_speck_under_it(frame: int, size: int, corner: tuple[int, int], named: bool) -> None:
    # In frame 0 it is swept anyway; a far larger brush, or one beside it, is for something else.
    shot = table((0.6, LIKE), (0.3, LIKE))
    found = SpeckSweepSettings(sure=0.5).missed(shot, frame, np.ones((size, size), np.float32), corner)
    assert found == ([OneSpeck(frame=1, box=(10, 20, 6, 6))] if named else [])
