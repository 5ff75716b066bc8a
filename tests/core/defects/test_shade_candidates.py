"""Where marks may lie, as maps that were drawn here tell it, and how sure what speaks for one makes it."""

from __future__ import annotations

import cv2
import numpy as np
import pytest

from nimbus_sweep.core.defects.static_shade.candidates import Candidate, candidates
from nimbus_sweep.core.defects.static_shade.fit import Proof
from nimbus_sweep.core.defects.static_shade.promise import FEATURES as TOLD_BEFORE
from nimbus_sweep.core.defects.static_shade.sights import PairViews
from nimbus_sweep.core.defects.static_shade.weighing import FEATURES, features, sureness
from nimbus_sweep.core.imaging.box import Box
from nimbus_sweep.core.imaging.motion import Plane

SIZE = (200, 300)


def found_in(drawn: Plane) -> list[Candidate]:
    """Candidates of a map in which both halves of the pairs tell the same, but for a little noise."""
    rng = np.random.default_rng(4)
    mass = np.ones(SIZE, np.float32)
    one, other = (drawn + rng.normal(0, 0.002, SIZE).astype(np.float32) for _ in range(2))
    return candidates((one, mass), (other, mass), 1, SIZE)


def drawn_hair(width: int) -> Plane:
    loss = np.zeros(SIZE, np.float32)
    cv2.ellipse(loss, (150, 100), (40, 30), 0, 10, 200, -0.5, width)
    return loss


@pytest.mark.parametrize("width", [2, 3, 5])
def test_a_hair_that_bends_round_is_as_wide_as_it_is(width: int) -> None:
    (hair,) = found_in(drawn_hair(width))
    assert width <= hair.across <= width + 5
    assert min(hair.box.width, hair.box.height) > 25
    whole = np.zeros(SIZE, np.float32)
    hair.mark(whole)
    # All of the hair, and not what it bends round.
    assert whole[drawn_hair(width) < 0].all()
    assert whole[95, 150] == 0


@pytest.mark.parametrize("radius", [4, 10, 18])
def test_dust_is_as_wide_as_its_box(radius: int) -> None:
    loss = np.zeros(SIZE, np.float32)
    cv2.circle(loss, (150, 100), radius, -0.4, -1)
    (dust,) = found_in(loss)
    assert dust.across == pytest.approx(2 * radius + 3, abs=3)


def test_noise_and_the_whole_picture_are_no_candidates() -> None:
    assert found_in(np.zeros(SIZE, np.float32)) == []
    assert found_in(np.full(SIZE, -0.5, np.float32)) == []


def views(far: float, passing: float) -> PairViews:
    nothing = np.zeros((24, 4, 4), np.float32)
    return PairViews(
        nothing, nothing, nothing, np.zeros((24, 4, 4, 2), np.float32), np.zeros((24, 2), int), np.zeros(24, int), far, passing, 1.0
    )


@pytest.mark.parametrize("far", [0.0, 60.0])
def test_nothing_that_speaks_for_it_makes_no_mark(far: float) -> None:
    before = (np.log(0.01), *(0.0 for _ in TOLD_BEFORE[1:]))
    nothing = Candidate(Box(10, 10, 12, 12), np.ones((12, 12), np.float32), 4.0, 8.0, before)
    told = features(Proof(0.0, 0.0, 0.0, 0.0, 0.0, 0.0, 0.0), views(far, 0.0), nothing, 10.0, False, 0.9)
    assert len(told) == len(FEATURES)
    assert np.isfinite(told).all()
    assert sureness(told) < 0.3
