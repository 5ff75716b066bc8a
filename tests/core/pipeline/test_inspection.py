"""Inspection: what was changed, whether repairs live like their surroundings, and what is left, against known spoiling."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass
from pathlib import Path

import cv2
import numpy as np
import pytest
from numpy.typing import NDArray

from benchmarks.material import MemorySource, clip, panned, still
from nimbus_sweep.core.evidence.frames_at_hand import Span
from nimbus_sweep.core.evidence.shot_evidence import ShotEvidence
from nimbus_sweep.core.evidence.time_volume import build_volume
from nimbus_sweep.core.media.frames import Frame, FrameSource, PictureFormat, Window
from nimbus_sweep.core.media.mark_ways import MarkWay
from nimbus_sweep.core.pipeline.analyses import Analyses
from nimbus_sweep.core.pipeline.inspection import Inspected, Inspector, Known, TreatedSpan, alike, became, inspect
from nimbus_sweep.core.pipeline.suggestions import suggested
from nimbus_sweep.core.pipeline.survey import Finding, survey
from nimbus_sweep.demo.shade import shade, sprinkle
from tests.conftest import small, with_sweep

X, Y, SIDE = 120, 70, 36


@dataclass(frozen=True)
class Painted:
    """A repair of a square that is as good or as bad as `paint` makes it: (square, frame) to square."""

    layout: PictureFormat
    paint: Callable[[NDArray[np.uint8], int], NDArray[np.uint8]]
    stray: bool = False

    def save(self, path: Path) -> None:
        """Nothing is learned that could be kept."""

    def touched(self) -> list[NDArray[np.int64]]:
        mask = np.zeros((self.layout.height, self.layout.width), bool)
        mask[Y : Y + SIDE, X : X + SIDE] = True
        return [np.flatnonzero(mask), *(np.zeros(0, np.int64) for _ in self.layout.components[1:])]

    def touched_in(self) -> Mapping[int, list[NDArray[np.int64]]]:
        return {}

    def needs(self, window: Window) -> Window:
        return window

    def ways(self, number: int) -> list[MarkWay]:
        return []

    def apply(self, source: FrameSource, first: int, stop: int, window: Window | None = None) -> FrameSource:
        return PaintedSource(source, self)


class PaintedSource:
    def __init__(self, source: FrameSource, painted: Painted) -> None:
        self.format, self.colour, self.rate = source.format, source.colour, source.rate
        self.source, self._painted = source, painted

    def __len__(self) -> int:
        return len(self.source)

    def frame(self, number: int) -> Frame:
        return next(self.frames(number, number + 1))

    def frames(self, first: int, stop: int) -> Iterator[Frame]:
        for frame in self.source.frames(first, stop):
            made = frame.copy()
            square = made.component(0)[Y : Y + SIDE, X : X + SIDE]
            square[:] = self._painted.paint(square.copy(), frame.number)
            if self._painted.stray:
                made.component(0)[3, 5] ^= 1
            yield made


def looked_at(source: MemorySource, paint: Callable[[NDArray[np.uint8], int], NDArray[np.uint8]], stray: bool = False) -> Inspected:
    painted = Painted(source.format, paint, stray)
    inspector = Inspector(source.format, [painted], len(source))
    for own, made in zip(source.frames(0, len(source)), painted.apply(source, 0, len(source)).frames(0, len(source)), strict=True):
        inspector.add(own, made)
    return inspector.finish()


@pytest.mark.slow
@pytest.mark.parametrize("name", with_sweep(["coffee", "bikes-1"], ["chelsea", "bunny"]))
def test_bad_repairs_are_told_from_good_ones(name: str) -> None:
    """Flicker, softness and a dead patch, each against the untouched picture with one code of change."""
    source = clip(name) if name in ("bikes-1", "bunny") else panned(name, 24, 5, 0.2, (384, 216))
    source = source.over(source.pictures[:24])
    seeds = np.random.default_rng(7)
    swing = seeds.integers(-14, 15, 24)
    frozen = source.frame(0).component(0)[Y : Y + SIDE, X : X + SIDE].copy()
    good = looked_at(source, lambda square, _: square ^ 1)
    flicker = looked_at(source, lambda square, n: np.clip(square + float(swing[n]), 0, 255).astype(np.uint8))
    soft = looked_at(source, lambda square, _: cv2.GaussianBlur(square, (0, 0), 5))
    assert good.steadiness is not None and good.detail is not None
    # The scene itself differs from place to place: what counts is what the repair does to it.
    assert flicker.steadiness is not None and flicker.steadiness > 1.3 * good.steadiness
    assert soft.detail is not None and soft.detail < 0.8 * good.detail
    assert flicker.worst and soft.worst
    assert "change" in flicker.worst[0].code
    assert any("structure" in p.code for p in soft.worst)
    assert flicker.worst[0].score > 1.5 * max((p.score for p in good.worst), default=0.0)
    if name != "bunny":
        dead = looked_at(source, lambda square, n: frozen)
        assert dead.worst[0].score > 1.2 * max((p.score for p in good.worst), default=0.0)
    for place in (*flicker.worst, *soft.worst):
        assert abs(place.x + place.width / 2 - X - SIDE / 2) < 4 and abs(place.y + place.height / 2 - Y - SIDE / 2) < 4


@pytest.mark.slow
def test_what_changed_is_counted_to_the_sample() -> None:
    source = panned("coffee", 12, 5, 0.2, (384, 216))
    told = looked_at(source, lambda square, _: square ^ 1)
    per_frame = sum(c.width * c.height for c in source.format.components)
    assert (told.frames, told.changed_frames, told.samples) == (12, 12, 12 * per_frame)
    assert (told.changed, told.outside) == (12 * SIDE * SIDE, 0)
    stray = looked_at(source, lambda square, _: square ^ 1, stray=True)
    assert (stray.changed, stray.outside) == (12 * (SIDE * SIDE + 1), 12)
    untouched = looked_at(source, lambda square, _: square)
    assert (untouched.changed, untouched.detail, untouched.steadiness, untouched.worst) == (0, None, None, ())


@pytest.mark.slow
def test_what_is_left_is_told_by_surveying_once_more(tmp_path: Path) -> None:
    """Dust of which one mark is held back from the treatment: that one is left, the others are gone, none is brought in."""
    source = panned("coffee", 30, 3, 0.3, (320, 180))
    pictures, _ = shade(list(source.pictures), sprinkle((180, 320), 4, 4, largest=11))
    spoiled = source.over(pictures)
    volume = build_volume(tmp_path / "volume.bin", spoiled)
    found = survey(ShotEvidence(volume, 0, 30, frames=Span.of(spoiled, 0, 30))).findings
    kept = [f for f in found if f.convinces]
    assert len(kept) >= 2
    held_back = kept[0]
    recipe = suggested(kept).resolved(kept[1:])
    known = Analyses(tmp_path / "analyses", "x", 0, 30).make(recipe, spoiled, lambda: volume)
    folder = tmp_path / "scratch"
    folder.mkdir()
    shares: list[float] = []
    told = inspect(TreatedSpan(spoiled, recipe.active, known, 0, 30), folder, Known(kept, kept[1:], found), shares.append)
    (untreated,) = [left for left in told.left if left.finding == held_back]
    assert untreated.outcome == "untreated"
    rest = [left.outcome for left in told.left if left is not untreated]
    assert rest and set(rest) <= {"gone", "trace"} and rest.count("gone") >= len(rest) / 2
    assert not told.brought
    assert told.outside == 0 < told.changed
    assert told.detail is not None and 0.7 < told.detail < 1.3
    assert shares == sorted(shares) and shares[-1] == pytest.approx(1)


def line_at(x: int, first: int, stop: int, confidence: float, kind: str = "scratch") -> Finding:
    return Finding(kind=kind, step="line-lift", x=x, y=0, width=4, height=200, first=first, stop=stop, confidence=confidence)


def test_a_finding_is_found_again_by_kind_place_and_time() -> None:
    one, near, sure = line_at(50, 0, 60, 0.9), line_at(53, 10, 60, 0.3), line_at(53, 10, 60, 0.8)
    assert became(one, [near], True).outcome == "trace"
    assert became(one, [near], False).outcome == "untreated"
    assert became(one, [], True).outcome == "gone"
    assert became(one, [near, sure], True).outcome == "left"
    for other in (line_at(50, 0, 60, 0.9, "cue-mark"), line_at(90, 0, 60, 0.9), line_at(50, 60, 90, 0.9)):
        assert not alike(one, other)


@pytest.mark.slow
def test_a_clean_shot_has_nothing_to_be_told_of(tmp_path: Path) -> None:
    source = still(small(), 16)
    told = inspect(TreatedSpan(source, [], [], 0, 16), tmp_path)
    assert (told.changed, told.outside, told.left, told.brought, told.worst) == (0, 0, (), (), ())
    assert told.kept == 1
