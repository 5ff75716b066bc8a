"""Where veils lie, told from pairs of frames."""

from __future__ import annotations

from types import SimpleNamespace
from typing import Any

import numpy as np
import pytest
from numpy.typing import NDArray

from nimbus_sweep.core.base.logistic import Logistic
from nimbus_sweep.core.defects.static_shade.light_system import POWER, WHITE, Lost
from nimbus_sweep.core.defects.static_shade.veil_search import FEATURES, MODEL, Drawn, VeilArea, VeilSystem, drawn, search
from tests.core.defects.test_light_system import MOVES, SHAPE, disc, pairs

CELL = 4
SIZE = (SHAPE[0] * CELL, SHAPE[1] * CELL)


def seen(share: NDArray[np.float32], laid: float = 0.0, noise: float = 0.3) -> Any:
    """Pairs as `search` reads them: the camera moves both ways, so each half of the evidence holds the same motions."""
    moves = [m for m in MOVES for _ in (0, 1)]
    blocks = pairs(share, laid, moves, noise=noise)
    far = np.array([np.hypot(*m) * CELL for m in moves])
    half = np.arange(len(moves)) // 2 % 2
    return SimpleNamespace(blocks=blocks, far=far, half=half, frame=np.arange(len(moves)), factor=1, moving=1.0)


def looked(share: NDArray[np.float32], laid: float = 0.0) -> tuple[VeilSystem, list[VeilArea]] | None:
    return search(seen(share, laid), SIZE, lambda: None)


def laid_in(share: NDArray[np.float32], made: Drawn) -> float:
    """Root mean square of what a drawn veil has wrong, where it was laid in."""
    whole = np.zeros(SIZE, np.float32)
    height, width = (min(n, most - at) for n, most, at in zip(made.share.shape, SIZE, (made.top, made.left), strict=True))
    whole[made.top : made.top + height, made.left : made.left + width] = made.share[:height, :width]
    true = share.repeat(CELL, 0).repeat(CELL, 1)
    return float(np.sqrt(np.mean((whole - true)[true > 0.05] ** 2)))


@pytest.mark.parametrize(("laid", "off"), [(0.0, 0.03), (0.08, 0.03), (0.5, 0.06)], ids=["takes", "lays", "lays more than it takes"])
def test_a_wide_soft_veil_is_found_and_drawn(laid: float, off: float) -> None:
    share = disc(30, 20, 9, 0.35, 4)
    told = looked(share, laid)
    assert told is not None
    system, areas = told
    assert len(areas) == 1
    assert areas[0].sure > 0.7
    middle = np.zeros(SIZE, np.float32)
    areas[0].mark(middle)
    assert middle[20 * CELL, 30 * CELL] == 1
    (made,) = drawn(system, areas[0], np.zeros(SIZE, np.float32))
    if laid:
        assert made.veil.power == POWER
        assert (made.veil.level / WHITE) ** POWER == pytest.approx(laid, abs=0.02, rel=0.2)
        assert laid_in(share, made) < off
    else:
        # A mere loss is told of in codes.
        assert made.veil.level == 0
        assert laid_in(1 - (1 - share) ** np.float32(1 / POWER), made) < off


def test_a_veil_behind_whose_middle_nothing_moves_is_doubted() -> None:
    share = disc(30, 20, 9, 0.35, 4)
    zoomed = seen(share)
    assert search(zoomed, SIZE, lambda: None)[1][0].sure > 0.7  # type: ignore[index]
    # The camera goes much farther elsewhere than it does here.
    zoomed.far = 10 * zoomed.far
    told = search(zoomed, SIZE, lambda: None)
    assert told is not None
    assert 0.3 < told[1][0].sure < 0.5


def test_clean_glass_has_no_veil() -> None:
    told = looked(np.zeros(SHAPE, np.float32))
    assert told is None or not told[1]


def test_where_next_to_nothing_moves_nothing_is_told() -> None:
    still = seen(disc(30, 20, 9, 0.35, 4))
    still.blocks.weight[:] = 0
    assert search(still, SIZE, lambda: None) is None


def test_what_another_mark_takes_is_no_part_of_a_veil() -> None:
    veil = disc(30, 20, 13, 0.3, 3)
    share = 1 - (1 - veil) * (1 - disc(30, 20, 1.5, 0.6, 0.7))
    told = looked(share, 0.05)
    assert told is not None
    system, areas = told
    speck = np.zeros(SIZE, np.float32)
    speck[17 * CELL : 24 * CELL, 27 * CELL : 34 * CELL] = 1
    with_it, without = (drawn(system, areas[0], marked)[0] for marked in (np.zeros(SIZE, np.float32), speck))
    assert laid_in(veil, without) < laid_in(veil, with_it)
    assert without.share.max() < 0.35 < with_it.share.max()


def test_veils_whose_skirts_touch_are_told_apart() -> None:
    share = np.maximum(disc(20, 20, 7, 0.3, 2), disc(40, 20, 7, 0.25, 2))
    # A faint bridge between them, as their skirts make one.
    share = np.maximum(share, 0.03 * ((np.abs(np.mgrid[: SHAPE[0], : SHAPE[1]][0] - 20) < 4) & (share == 0))).astype(np.float32)
    whole = VeilSystem(Lost(np.log(1 - share.astype(float)), 0.0, 0.0), CELL, 0.2, 40.0, 16)
    area = VeilArea(0, 0, np.ones(SIZE, np.float32), (0.0,) * len(FEATURES), np.ones(SHAPE, bool), 0.01, True)
    one, other = drawn(whole, area, np.zeros(SIZE, np.float32))
    assert not (one.share * other.share).any()
    assert sorted(int(np.flatnonzero(v.share.any(0)).mean()) // (10 * CELL) for v in (one, other)) == [2, 4]


def test_a_veil_goes_on_to_the_edge_of_a_picture_that_is_no_whole_number_of_places() -> None:
    whole = VeilSystem(Lost(np.log(1 - disc(58, 38, 8, 0.3, 2).astype(float)), 0.0, 0.0), CELL, 0.2, 40.0, 16)
    area = VeilArea(0, 0, np.ones(SIZE, np.float32), (0.0,) * len(FEATURES), disc(58, 38, 8, 0.3, 2) > 0, 0.01, True)
    (made,) = drawn(whole, area, np.zeros((SIZE[0] + 3, SIZE[1] + 2), np.float32))
    assert (made.top + made.share.shape[0], made.left + made.share.shape[1]) == (SIZE[0] + 3, SIZE[1] + 2)
    assert made.share[-1, -1] > 0.1


def test_a_place_in_a_veil_that_is_as_large_is_a_part_of_it() -> None:
    shape = np.ones((80, 80), np.float32)
    area = VeilArea(40, 40, shape, (0.0,) * len(FEATURES), np.ones((4, 4), bool), 0.01, True)
    whole = np.zeros((200, 200), np.float32)
    assert not area.holds(whole)
    whole[60:70, 60:70] = 1
    assert not area.holds(whole), "a speck in it is a mark of its own"
    whole[50:110, 50:110] = 1
    assert area.holds(whole)
    whole[:] = 1
    assert not area.holds(whole)


def test_search_can_be_stopped() -> None:
    def stop() -> None:
        raise KeyboardInterrupt

    with pytest.raises(KeyboardInterrupt):
        search(seen(disc(30, 20, 9, 0.35, 4)), SIZE, stop)


def test_the_model_goes_the_way_its_features_do() -> None:
    """What speaks for a veil must not speak against it."""
    model = Logistic.read(MODEL, FEATURES)
    usual = model.mean
    for name in ("agree", "foretells"):
        more = usual.copy()
        more[FEATURES.index(name)] += model.deviation[FEATURES.index(name)]
        assert model.sure(more) > model.sure(usual), name
