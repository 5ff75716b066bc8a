"""The average of shifted frames: exact weights, nothing from other shots, and what it costs."""

from __future__ import annotations

from fractions import Fraction
from pathlib import Path

import numpy as np
import pytest
from pydantic import ValidationError

from benchmarks.material import MemorySource, clip
from nimbus_sweep.core.media.frames import Frame, blank
from nimbus_sweep.core.model.recipes import Recipe, Step
from nimbus_sweep.core.tools.frame_blend import BlendPlan, FrameBlendSettings, analyse, opacities
from nimbus_sweep.demo.flicker import lit, on_off


def plan(folder: Path, source: MemorySource, **settings: object) -> BlendPlan:
    made = analyse(source, FrameBlendSettings(**settings))  # type: ignore[arg-type]
    made.save(folder / "plan.npz")
    return BlendPlan.load(folder / "plan.npz")


def test_layers_at_these_opacities_count_alike() -> None:
    # The k-th layer of an equal stack has opacity 1/k (compositing with "over": Porter and Duff 1984): 100, 50, 33, 25 %.
    assert opacities(4) == [1, Fraction(1, 2), Fraction(1, 3), Fraction(1, 4)]
    stack = [Fraction(v) for v in (12, 200, 31, 77, 150)]
    over = Fraction(0)
    for value, opacity in zip(stack, opacities(5)):
        over = opacity * value + (1 - opacity) * over
    assert over == sum(stack) / 5


def test_the_average_is_exact(tmp_path: Path) -> None:
    source = clip("bikes-1")
    blend = plan(tmp_path, source, offsets=(-1, 0, 1))
    made = {f.number: f for f in blend.apply(source, 0, 30).frames(3, 9)}
    for n in range(3, 9):
        for i in range(3):
            three = [source.frame(n + k).component(i).astype(np.float64) for k in (-1, 0, 1)]
            want = np.rint(sum(three) / 3)
            assert np.abs(made[n].component(i) - want).max() == 0
        assert np.array_equal(made[n].planes[0], blend.apply(source, 0, 30).frame(n).planes[0])
    own = plan(tmp_path, source, offsets=(0, 2), weights=(3.0, 1.0)).apply(source, 0, 30).frame(5)
    want = np.rint(0.75 * source.frame(5).planes[0].astype(float) + 0.25 * source.frame(7).planes[0])
    assert np.abs(own.planes[0] - want).max() <= 1
    half = plan(tmp_path, source, amount=0.0).apply(source, 0, 30).frame(5)
    assert half.planes[0] is source.frame(5).planes[0]


def test_nothing_comes_from_another_shot_or_a_gap(tmp_path: Path) -> None:
    source = clip("bikes-1")
    blend = plan(tmp_path, source, offsets=(-2, -1, 0, 1, 2))
    treated = blend.apply(source, 4, 20)
    first = treated.frame(4)
    want = np.rint(sum(source.frame(4 + k).planes[0].astype(float) for k in (0, 1, 2)) / 3)
    assert np.abs(first.planes[0] - want).max() == 0
    assert treated.frame(3) is not first
    assert np.array_equal(treated.frame(3).planes[0], source.frame(3).planes[0])

    class Gapped(MemorySource):
        def frame(self, number: int) -> Frame:
            return blank(number, self.format, self.colour) if number == 6 else super().frame(number)

    holed = Gapped(source.pictures, source.format)
    made = blend.apply(holed, 4, 20).frame(7)
    assert made.planes[0].mean() > 0.9 * source.frame(7).planes[0].mean()
    assert blend.apply(holed, 4, 20).frame(6).missing


@pytest.mark.slow
def test_it_takes_out_a_whole_beat_and_ghosts_what_moves(tmp_path: Path) -> None:
    source = clip("bikes-3")
    truth = list(source.pictures)
    spoiled = source.over(lit(truth, on_off(len(truth), 1)))
    made = {}
    for aligned in (False, True):
        blend = plan(tmp_path, spoiled, offsets=(0, 1), aligned=aligned)
        made[aligned] = np.stack([f.planes[0] for f in blend.apply(spoiled, 0, 30).frames(10, 20)]).astype(float)
    means = made[False].mean((1, 2))
    assert np.std(np.diff(means)) < 0.1 * np.std(np.diff([p[0].mean() for p in spoiled.pictures[10:20]]))
    # Followed along the scene, fine detail that moves is kept better.
    sharp = [np.abs(np.diff(v, axis=2)).mean() for v in (made[False], made[True])]
    assert sharp[1] > sharp[0]


@pytest.mark.parametrize(
    "settings", [{"offsets": (-4, 0)}, {"offsets": (0, 0)}, {"offsets": ()}, {"weights": (1.0,)}, {"weights": (0.0, 0.0, 0.0)}]
)
def test_what_cannot_be_is_refused(settings: dict[str, object]) -> None:
    with pytest.raises(ValidationError):
        FrameBlendSettings(**settings)  # type: ignore[arg-type]


def test_a_recipe_may_hold_a_step_twice() -> None:
    recipe = Recipe(name="Twice", steps=(Step(kind="steady-frame", settings={"takes": "rhythm"}), Step(kind="steady-frame")))
    again = Recipe.model_validate_json(recipe.model_dump_json())
    assert [s.settings.takes for s in again.steps] == ["rhythm", "auto"]


def test_weights_are_told_by_their_offsets() -> None:
    told = FrameBlendSettings.model_validate({"shares": {"-3": 0, "1": 1, "-1": 1, "0": "2"}, "offsets": [0], "weights": []})
    assert (told.offsets, told.weights) == ((-1, 0, 1), (1.0, 2.0, 1.0))
    assert told.shares == {-1: 0.25, 0: 0.5, 1: 0.25}
    for wrong in ({"0": 0}, {"0": -1}, {"9": 1}, {"a": 1}):
        with pytest.raises(ValidationError):
            FrameBlendSettings.model_validate({"shares": wrong})
