"""A step kept to a region acts inside it and nowhere else, softly at a soft edge, in every frame alike."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path

import numpy as np
import pytest
from numpy.typing import NDArray

from benchmarks.material import MemorySource, panned
from nimbus_sweep.core.media.frames import Frame, FrameSource, Window
from nimbus_sweep.core.model.recipes import Recipe, Step
from nimbus_sweep.core.model.regions import Key, Part, Region
from nimbus_sweep.core.model.shapes import Ellipse
from nimbus_sweep.core.pipeline.analyses import analysis_key
from nimbus_sweep.core.pipeline.confined import Confined


@dataclass(frozen=True)
class Lifted:
    """A step that lifts every sample of every component by 20."""

    source: MemorySource

    def save(self, path: Path) -> None:
        path.write_bytes(b"")

    def touched(self) -> list[NDArray[np.int64]]:
        return [np.arange(c.width * c.height, dtype=np.int64) for c in self.source.format.components]

    def needs(self, window: Window) -> Window:
        return window

    def apply(self, source: FrameSource, first: int, stop: int, window: Window | None = None) -> FrameSource:
        step = self

        class Source(MemorySource):
            def __len__(self) -> int:
                return len(source)

            def frame(self, number: int) -> Frame:
                return self.lift(source.frame(number))

            def frames(self, first: int, stop: int) -> Iterator[Frame]:
                return map(self.lift, source.frames(first, stop))

            def lift(self, frame: Frame) -> Frame:
                return Frame(frame.number, tuple(np.clip(p.astype(int) + 20, 0, 255).astype(p.dtype) for p in frame.planes), frame.format)

        return Source(step.source.pictures, step.source.format)


def ellipse(x: float, y: float, radius: float) -> Ellipse:
    return Ellipse(x=x, y=y, across=radius, down=radius)


@pytest.fixture(scope="module")
def source() -> MemorySource:
    return panned("coffee", 6, 1, 0.1, (160, 90))


def test_inside_it_acts_outside_it_does_not(source: MemorySource) -> None:
    region = Region(parts=(Part(keys=(Key(frame=0, shape=ellipse(60, 45, 20)),)),), feather=6)
    hold_out = Region(parts=(Part(keys=(Key(frame=0, shape=ellipse(60, 45, 5)),)),))
    confined = Confined(Lifted(source), source.format, region, hold_out)
    treated = confined.apply(source, 0, 6)
    whole = [f.planes for f in treated.frames(0, 6)]
    for n, planes in enumerate(whole):
        assert all(np.array_equal(a, b) for a, b in zip(planes, treated.frame(n).planes, strict=True))
        change = planes[0].astype(int) - source.pictures[n][0]
        assert change[45, 60] == 0, "held out"
        assert change[45, 70] == 20
        assert change[45, 100] == 0
        assert 3 < change[45, 79:82].mean() < 17, "a soft edge is blended"
        for a, b, places in zip(planes, source.pictures[n], confined.touched(), strict=True):
            differs = (a != b).ravel()
            differs[places] = False
            assert not differs.any()


def test_a_region_that_moves_is_followed(source: MemorySource) -> None:
    part = Part(keys=(Key(frame=0, shape=ellipse(30, 45, 12)), Key(frame=5, shape=ellipse(130, 45, 12))))
    confined = Confined(Lifted(source), source.format, Region(parts=(part,)), None)
    for n, frame in enumerate(confined.apply(source, 0, 6).frames(0, 6)):
        changed = np.argwhere(frame.planes[0] != source.pictures[n][0])
        assert changed[:, 1].mean() == pytest.approx(30 + 20 * n, abs=1)
    assert len(confined.touched()[0]) == 160 * 90, "it may touch all that the step itself names"


def test_an_empty_region_leaves_the_very_frames(source: MemorySource) -> None:
    treated = Confined(Lifted(source), source.format, Region(), None).apply(source, 0, 6)
    assert all(np.array_equal(a, b) for a, b in zip(treated.frame(3).planes, source.pictures[3], strict=True))


def test_where_a_step_acts_is_no_part_of_what_it_knows() -> None:
    region = Region(parts=(Part(keys=(Key(frame=0, shape=ellipse(60, 45, 20)),)),))
    bare, kept = Step(kind="pixel-mend", settings={"sites": []}), Step(kind="pixel-mend", settings={"sites": []}, region=region)
    after = Step(kind="unshade", settings={"marks": []})
    assert analysis_key("f", 0, 9, [bare]) == analysis_key("f", 0, 9, [kept])
    assert analysis_key("f", 0, 9, [bare, after]) != analysis_key("f", 0, 9, [kept, after]), "a step behind it sees another picture"
    assert Recipe.model_validate_json(Recipe(steps=(kept,)).model_dump_json()).steps[0].region == region
