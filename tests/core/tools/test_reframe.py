"""Reframing: exact where nothing is cut, like scikit-image's warp where something is, always last, and still on a track."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest
import skimage.transform

from benchmarks.material import MemorySource, drifting, panned
from nimbus_sweep.core.base.errors import SweepError
from nimbus_sweep.core.model.recipes import Recipe, Step
from nimbus_sweep.core.model.regions import box_region
from nimbus_sweep.core.model.tracks import Track
from nimbus_sweep.core.pipeline.analyses import Analyses, chain
from nimbus_sweep.core.pipeline.tracking import follow
from nimbus_sweep.core.tools.reframe import ReframePlan, ReframeSettings, analyse


@pytest.fixture(scope="module")
def pan() -> MemorySource:
    return panned("chelsea", 6, size=(320, 240))


def test_nothing_cut_is_nothing_changed(pan: MemorySource) -> None:
    frame = pan.frame(0)
    assert ReframePlan(pan.format).mend(frame) is frame
    assert sum(len(p) for p in ReframePlan(pan.format).touched()) == 0


def test_it_enlarges_as_scikit_image_does(pan: MemorySource, tmp_path: Path) -> None:
    plan = analyse(pan, ReframeSettings(left=32, right=8, top=12, bottom=24))
    plan.save(tmp_path / "plan.npz")
    made = ReframePlan.load(tmp_path / "plan.npz").mend(pan.frame(2))
    assert made.planes[0].shape == (240, 320)
    cut = plan.cut()
    for i in (0, 1):
        plane = pan.frame(2).component(i).astype(float)
        half = 1 if i == 0 else 2
        fine = np.array([[half, 0, (half - 1) / 2], [0, half, (half - 1) / 2], [0, 0, 1]])
        way = skimage.transform.ProjectiveTransform(np.linalg.inv(fine) @ cut @ fine)
        like = skimage.transform.warp(plane, way, order=5, mode="edge", preserve_range=True)
        gap = made.component(i).astype(float) - like
        assert np.sqrt((gap[8:-8, 8:-8] ** 2).mean()) < 1.5
    # What is left keeps its shape and is of the middle: 280 of 320 across, 204 of 240 down.
    assert cut[0, 0] == pytest.approx(204 / 240)
    assert cut[:2] @ [159.5, 119.5, 1] == pytest.approx([32 + 140 - 0.5, 12 + 102 - 0.5])


def test_too_little_left_is_refused(pan: MemorySource) -> None:
    with pytest.raises(SweepError, match="Too little"):
        analyse(pan, ReframeSettings(left=200, right=110))


def test_it_is_always_last() -> None:
    recipe = Recipe(steps=(Step(kind="reframe", settings={"left": 4}), Step(kind="retouch"), Step(kind="pixel-mend")))
    assert [s.kind for s in recipe.steps] == ["retouch", "pixel-mend", "reframe"]


def test_a_track_stands_still(tmp_path: Path) -> None:
    source = drifting(panned("coffee", 2, size=(320, 240)), 10, across=2.0)
    track = Track(name="gate", model="translation", reference=0, region=box_region(60, 50, 120, 100), size=(216, 256))
    track = track.with_path(follow(source, track, 0, range(10)))
    recipe = Recipe(steps=(Step(kind="reframe", settings={"track": "gate"}),), tracks=(track,))
    known = Analyses(tmp_path, "test", 0, 10).make(recipe, source, lambda: None)  # type: ignore[arg-type, return-value]
    first, last = (chain(source, known, 0, 10).frame(n).planes[0][40:170, 60:200].astype(float) for n in (0, 9))
    moving = source.pictures[0][0][40:170, 60:200].astype(float) - source.pictures[9][0][40:170, 60:200]
    assert np.abs(first - last).mean() < 0.15 * np.abs(moving).mean()
