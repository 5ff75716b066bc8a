"""Trials: what can be compared, and that the figures tell what was done to light, detail and motion."""

from __future__ import annotations

from pathlib import Path

import cv2
import numpy as np
import pytest
from skimage.metrics import peak_signal_noise_ratio

from benchmarks.light import left
from benchmarks.material import MemorySource, clip, panned
from nimbus_sweep.core.base.errors import SweepError
from nimbus_sweep.core.evidence.light_record import record
from nimbus_sweep.core.media.frames import Frame
from nimbus_sweep.core.model.recipes import Recipe, Step
from nimbus_sweep.core.model.registry import STEPS
from nimbus_sweep.core.pipeline.trials import Figures, Judge, Plan, Variant, choices, departure, detail, varied
from nimbus_sweep.demo.flicker import bands, frame_pumping, lit

BLEND, FRAME = Recipe(steps=(Step(kind="frame-blend"),)), Recipe(steps=(Step(kind="steady-frame"),))


def treated(source: MemorySource, kind: str, folder: Path, **settings: object) -> list[Frame]:
    step = STEPS[kind]
    known = source if step.learns_from == "nothing" else record(folder / "known.light", source)
    plan = step.analyse(known, step.settings(**settings), None, None)
    return list(plan.apply(source, 0, len(source)).frames(0, len(source)))


def judged(source: MemorySource, frames: list[Frame], folder: Path) -> Figures:
    return Judge(folder, source, 0, len(source)).figures(frames, lambda: 4.0)


@pytest.mark.slow
@pytest.mark.parametrize(("name", "kind"), [("coffee", "bands"), ("bikes-1", "whole")])
def test_light_left_is_what_the_truth_says(name: str, kind: str, tmp_path: Path) -> None:
    """Against the light that was put in, which the trial does not know."""
    source = panned(name, 24, 5, 0.15, (384, 216)) if name == "coffee" else clip(name)
    truth = list(source.pictures[:24])
    light = frame_pumping(24, 3) if kind == "whole" else bands(24, truth[0][0].shape[0], 3)
    spoiled = source.over(lit(truth, light))
    step = "steady-frame" if kind == "whole" else "steady-bands"
    for amount in (0.5, 1.0):
        frames = treated(spoiled, step, tmp_path, amount=amount)
        told = judged(spoiled, frames, tmp_path)
        true = left(truth, [tuple(f.planes) for f in frames]) / left(truth, spoiled.pictures)
        # Light that drifts over the shot is slower than the frames a trial holds against one another: 4 and 10 % here.
        assert told.left == pytest.approx(true, abs=0.06), amount
        assert told.detail == pytest.approx(1, abs=0.03)
        assert told.seconds == pytest.approx(4.0 / 24)


@pytest.mark.slow
def test_blending_costs_detail_and_ghosts_what_moves(tmp_path: Path) -> None:
    source = panned("coffee", 20, 5, 0.3, (384, 216))
    spoiled = source.over(lit(list(source.pictures), frame_pumping(20, 4)))
    blended = judged(spoiled, treated(spoiled, "frame-blend", tmp_path), tmp_path)
    steadied = judged(spoiled, treated(spoiled, "steady-frame", tmp_path), tmp_path)
    assert blended.detail < 0.9 < 0.97 < steadied.detail
    assert blended.ghosting is not None and steadied.ghosting is not None
    assert blended.ghosting < 40 < 50 < steadied.ghosting
    assert blended.left is not None and steadied.left is not None and steadied.left < 0.1 < blended.left


@pytest.mark.slow
def test_the_source_itself_is_told_as_such(tmp_path: Path) -> None:
    source = clip("bikes-1")
    source = source.over(source.pictures[:12])
    told = judged(source, list(source.frames(0, 12)), tmp_path)
    assert told.detail == 1
    assert told.same and told.ghosting is None
    still = source.over([source.pictures[0]] * 12)
    told = judged(still, list(still.frames(0, 12)), tmp_path)
    assert (told.left, told.ghosting) == (None, None), "nothing flickers, nothing moves"


def test_a_level_is_no_ghost_and_a_double_image_is() -> None:
    rng = np.random.default_rng(1)
    scene = cv2.GaussianBlur(rng.uniform(0, 219, (120, 160)).astype(np.float32), (0, 0), 2) * 1.0
    scene = (scene - scene.min()) / (scene.max() - scene.min()) * 180 + 10
    relit = scene * 1.3 * np.linspace(0.9, 1.1, 120, dtype=np.float32)[:, None]
    double = (scene + np.roll(scene, 5, axis=1)) / 2
    # Against the PSNR of scikit-image, of the same picture without its level.
    true = peak_signal_noise_ratio(scene, double, data_range=255)
    one, other = (float(10 * np.log10(255**2 / np.mean(departure(scene, p) ** 2))) for p in (relit, double))
    assert one > 45 > 40 > other > true - 1
    assert not departure(scene, scene).any()
    assert detail(scene, scene * 0.5) == pytest.approx(1, abs=1e-4), "of its own light"
    assert detail(scene, cv2.GaussianBlur(scene, (0, 0), 2)) < 0.7


def test_a_setting_is_varied() -> None:
    recipe = Recipe(steps=(Step(kind="steady-bands"), Step(kind="steady-frame", on=False)))
    ways = varied(recipe, 1, "reach", ["3", "4", "5"])
    assert [w.recipe.steps[1].settings.reach for w in ways] == [3, 4, 5]
    assert all(w.recipe.steps[1].on and w.recipe.steps[0] == recipe.steps[0] for w in ways)
    assert ways[0].name == "Steady frame, reach 3"
    assert [w.recipe.steps[1].settings.contrast for w in varied(recipe, 1, "contrast", ["no", "yes"])] == [False, True]
    assert varied(recipe, 0, "lie", ["columns"])[0].recipe.steps[0].settings.lie == "columns"


@pytest.mark.parametrize(
    ("at", "field", "value", "said"),
    [(0, "reach", "0", "greater than"), (0, "reach", "x", "could not convert"), (0, "anchor", "top", "Input should be"),
     (0, "contrast", "maybe", "yes or no"), (0, "no", "1", "no setting"), (3, "reach", "1", "not on the shot")],
)  # fmt: skip
def test_what_cannot_be_is_said(at: int, field: str, value: str, said: str) -> None:
    with pytest.raises(SweepError, match=said):
        varied(FRAME, at, field, [value])


def test_every_setting_offers_what_can_be() -> None:
    for kind in STEPS:
        step = Step(kind=kind)
        for choice in choices(step):
            ways = varied(Recipe(steps=(step,)), 0, choice.field, choice.tried)
            assert len(ways) == len(choice.tried), (kind, choice)
    assert next(c for c in choices(Step(kind="steady-frame")) if c.field == "reach").tried == ("3", "4", "5")


def test_a_trial_is_short_and_of_different_ways() -> None:
    one, other = Variant(name="one", recipe=FRAME), Variant(name="other", recipe=BLEND)
    assert Plan(first=3, stop=13, variants=(one, other)).stop == 13
    for first, stop, ways, said in (
        (0, 9, (one, other), "10 to 60 frames"),
        (0, 61, (one, other), "10 to 60 frames"),
        (0, 20, (one,), "2 to 4 ways"),
        (0, 20, (one, other, one), "are the same"),
    ):
        with pytest.raises(ValueError, match=said):
            Plan(first=first, stop=stop, variants=ways)
