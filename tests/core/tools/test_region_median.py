"""The speck filter: the median of the reference library, only where it is asked for and only what departs."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest
from scipy.ndimage import median_filter

from benchmarks.material import MemorySource, clip
from nimbus_sweep.core.evidence.time_volume import build_volume
from nimbus_sweep.core.media.frames import Component, Frame, PictureFormat, Window
from nimbus_sweep.core.model.recipes import Recipe, Step
from nimbus_sweep.core.model.regions import Key, Part, Region
from nimbus_sweep.core.model.shapes import Ellipse
from nimbus_sweep.core.pipeline.analyses import Analyses, chain
from nimbus_sweep.core.tools.region_median import MedianPlan, RegionMedianSettings, analyse


def speckled(seed: int, dtype: type, top: int) -> np.ndarray:
    random = np.random.default_rng(seed)
    plane = (0.5 * top + 0.1 * top * np.sin(np.arange(90)[:, None] / 9 + np.arange(120)[None] / 14)).astype(dtype)
    rows, cols = random.integers(0, 90, 40), random.integers(0, 120, 40)
    plane[rows, cols] = random.choice([0, top], 40).astype(dtype)
    return plane


def gray(dtype: type, bits: int) -> PictureFormat:
    floating = dtype is np.float32
    return PictureFormat("test", 120, 90, (Component("Y", 0, 0, 1, 120, 90, bits, floating=floating),), ((90, 120),), np.dtype(dtype))


@pytest.mark.parametrize(("dtype", "bits"), [(np.uint8, 8), (np.uint16, 10), (np.float32, 32)])
@pytest.mark.parametrize("radius", [1, 3, 8])
def test_what_departs_becomes_the_median_of_the_reference_library(dtype: type, bits: int, radius: int) -> None:
    top = 1 if dtype is np.float32 else (1 << bits) - 1
    plane, layout = speckled(radius, dtype, top), gray(dtype, bits)
    settings = RegionMedianSettings(radius=radius, threshold=0.05)
    mended = MedianPlan(layout, settings).mend(Frame(0, (plane,), layout)).planes[0]
    middle = median_filter(plane, 2 * radius + 1, mode="nearest")
    departs = np.abs(plane.astype(np.float64) - middle) > 0.05 * top
    assert departs.sum() >= 35
    assert np.array_equal(mended, np.where(departs, middle, plane))


@pytest.mark.parametrize(("takes", "kept"), [("dark", 255), ("light", 0)])
def test_only_one_kind_is_taken(takes: str, kept: int) -> None:
    plane, layout = speckled(5, np.uint8, 255), gray(np.uint8, 8)
    settings = RegionMedianSettings.model_validate({"radius": 2, "takes": takes})
    mended = MedianPlan(layout, settings).mend(Frame(0, (plane,), layout)).planes[0]
    assert (mended == kept).sum() == (plane == kept).sum()
    assert (mended == 255 - kept).sum() < 5


def test_a_part_of_the_picture_comes_out_as_the_whole_does() -> None:
    source = clip("bikes-1")
    plan = MedianPlan(source.format, RegionMedianSettings(radius=4, threshold=0.02))
    whole, window = plan.mend(source.frame(3)), Window(31, 17, 200, 90)
    part = plan.mend(source.frame(3), window)
    for i in range(3):
        rows, cols = window.cells(source.format, i)
        assert np.array_equal(part.component(i)[rows, cols], whole.component(i)[rows, cols])
        outside = np.ones(part.component(i).shape, bool)
        outside[rows, cols] = False
        assert np.array_equal(part.component(i)[outside], source.frame(3).component(i)[outside])


def test_it_acts_nowhere_until_it_has_a_region(tmp_path: Path) -> None:
    source: MemorySource = clip("bikes-1")
    settings = {"radius": 5, "threshold": 0.0}

    def treated(step: Step) -> Frame:
        known = Analyses(tmp_path, "reel", 0, len(source)).make(
            Recipe(steps=(step,)), source, lambda: build_volume(tmp_path / "v.bin", source)
        )
        return chain(source, known, 0, len(source)).frame(4)

    bare = treated(Step(kind="region-median", settings=settings))
    assert all(a is b for a, b in zip(bare.planes, source.frame(4).planes, strict=True))
    ellipse = Region(parts=(Part(keys=(Key(frame=0, shape=Ellipse(x=80, y=60, across=20, down=15)),)),))
    inside = treated(Step(kind="region-median", settings=settings, region=ellipse))
    differs = inside.component(0) != source.frame(4).component(0)
    mask = ellipse.mask(differs.shape) > 0
    assert differs[mask].mean() > 0.3
    assert not differs[~mask].any()


def test_what_it_knows_is_kept(tmp_path: Path) -> None:
    source = clip("bikes-1")
    plan = analyse(build_volume(tmp_path / "v.bin", source), RegionMedianSettings(radius=7, takes="dark"))
    plan.save(tmp_path / "known.npz")
    again = MedianPlan.load(tmp_path / "known.npz")
    assert again == plan
