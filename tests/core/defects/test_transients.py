"""Things that cross: taken off where they passed, sound pictures left alone, slow ones left whole and told of; and grain."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import replace
from functools import lru_cache
from pathlib import Path

import cv2
import numpy as np
import pytest

from benchmarks.light import source_of
from benchmarks.material import MemorySource, Planes, clip, noisy, still
from nimbus_sweep.core.defects.transients.detect import CrossingWatch
from nimbus_sweep.core.defects.transients.repair import FleetingSettings, analyse
from nimbus_sweep.core.evidence.frames_at_hand import Span
from nimbus_sweep.core.evidence.moments import watched
from nimbus_sweep.core.imaging.grain import measure
from nimbus_sweep.core.imaging.patches import PatchPlan
from nimbus_sweep.core.media.frames import Frame
from nimbus_sweep.core.model.findings import Surveyed
from nimbus_sweep.core.model.regions import Masked, Outside, box_region
from nimbus_sweep.core.pipeline.suggestions import suggested
from nimbus_sweep.core.tools.lend_grain import GrainOf, GrainPlan, LendGrainSettings, given
from nimbus_sweep.core.tools.lend_grain import analyse as match
from nimbus_sweep.demo.birds import Crossing, crossed, flock
from tests.conftest import with_sweep

LONG = 24


def surveyed(span: Span, hold_out: Masked | None = None) -> Surveyed:
    return watched(span, CrossingWatch(span, 0, len(span), hold_out))


@lru_cache(maxsize=6)
def scene(name: str) -> MemorySource:
    kind, _, rest = name.partition(" ")
    if kind == "noisy":
        stood = still(clip(rest), LONG)
        return stood.over(noisy(list(stood.pictures), 1.5, 5))
    return source_of(name, 1, LONG)


def taken_off(over: MemorySource, settings: FleetingSettings | None = None, **more: object) -> tuple[PatchPlan, list[Planes]]:
    plan = analyse(Span.of(over, 0, len(over)), settings or FleetingSettings(), **more)  # type: ignore[arg-type]
    return plan, [f.planes for f in plan.apply(over, 0, len(over)).frames(0, len(over))]  # type: ignore[misc]


def held(truth: list[Planes], spoiled: list[Planes], mended: list[Planes]) -> tuple[float, float]:
    """PSNR of luma where something was, and the share of sound samples altered."""
    squares, altered, sound = [], 0, 0
    for a, b, c in zip(truth, spoiled, mended, strict=True):
        squares.append((c[0].astype(float) - a[0])[a[0] != b[0]] ** 2)
        for x, y, z in zip(a, b, c, strict=True):
            altered += int(((x == y) & (y != z)).sum())
            sound += int((x == y).sum())
    error = np.concatenate(squares)
    return float(10 * np.log10(255**2 / max(error.mean(), 1e-4))) if error.size else 0.0, altered / sound


@pytest.mark.slow
@pytest.mark.parametrize(("name", "seed"), with_sweep([("noisy bikes-2", 2)], [("noisy bunny-near", 1)]))
def test_gulls_before_a_camera_that_stands_are_taken_off(name: str, seed: int) -> None:
    truth = list(scene(name).pictures)
    height, width = truth[0][0].shape
    over = scene(name).over(crossed(truth, flock(LONG, (height, width), seed)))
    plan, mended = taken_off(over)
    inside, altered = held(truth, list(over.pictures), mended)
    assert inside > 35
    assert altered < 0.0004
    assert not plan.figures["slow"]
    # Each is told of by the survey, but a step for it is never suggested.
    found = surveyed(Span.of(over, 0, LONG)).findings
    assert [f.kind for f in found if f.convinces] == ["transient"]
    assert found[0].evidence.keeps == "lighter"
    assert not suggested(found).steps


@pytest.mark.slow
def test_gulls_before_a_camera_that_moves_are_taken_off() -> None:
    truth = list(scene("pan chelsea").pictures)
    height, width = truth[0][0].shape
    over = scene("pan chelsea").over(crossed(truth, flock(LONG, (height, width), 2)))
    inside, altered = held(truth, list(over.pictures), taken_off(over)[1])
    median = [
        (np.median(np.stack([over.pictures[min(max(0, n + k), LONG - 1)][0] for k in (-1, 0, 1)]), 0), *over.pictures[n][1:])
        for n in range(LONG)
    ]
    assert inside > 33
    assert inside > held(truth, list(over.pictures), median)[0] + 6, "the temporal median of three"
    assert altered < 0.002


@pytest.mark.slow
@pytest.mark.parametrize("name", with_sweep(["noisy bikes-2"], ["noisy bunny-near"]))
def test_a_sound_clip_comes_back_as_it_was(name: str) -> None:
    plan, mended = taken_off(scene(name))
    assert not len(plan.table)
    assert all((a == b).all() for one, other in zip(scene(name).pictures, mended, strict=True) for a, b in zip(one, other, strict=True))


@pytest.mark.slow
@pytest.mark.parametrize("name", with_sweep(["carphone", "pan rocket"], ["bunny-near"]))
def test_nothing_is_named_where_nothing_crosses(name: str) -> None:
    assert not [f for f in surveyed(Span.of(scene(name), 0, LONG)).findings if f.convinces]


@pytest.mark.slow
def test_what_moves_slowly_is_left_whole_and_told_of() -> None:
    truth = list(scene("noisy bunny-near").pictures)
    height, width = truth[0][0].shape
    figure = Crossing(0, LONG, 0.2 * width, 0.6 * height, 0.008 * height, 0, 0.2 * height, 30, 0.0)
    over = scene("noisy bunny-near").over(crossed(truth, [figure]))
    plan, mended = taken_off(over)
    assert len(plan.figures["slow"]) == 1
    first, last, x, y, w, h = plan.figures["slow"][0]
    assert first <= 2
    assert last >= LONG - 3
    assert x < figure.x + 20
    assert y < figure.y < y + h + 20
    assert w < 0.2 * width
    there = figure.mask((height, width), 12) > 0.9
    assert (mended[12][0][there] == over.pictures[12][0][there]).mean() > 0.97, "not eaten into"


@pytest.mark.slow
def test_what_is_light_goes_when_the_darker_is_kept_and_not_when_the_lighter_is() -> None:
    truth = list(scene("noisy bikes-2").pictures)
    things = [Crossing(2, 16, 20.0 + 40 * k, 60.0 + 30 * k, 38.0, 2.0, 20.0, 250.0) for k in range(3)]
    over = scene("noisy bikes-2").over(crossed(truth, things))
    darker, lighter, middle = (
        held(truth, list(over.pictures), taken_off(over, FleetingSettings(keeps=k))[1])[0] for k in ("darker", "lighter", "middle")
    )  # type: ignore[arg-type]
    assert darker > 33
    assert middle > 33
    assert lighter < 20


@pytest.mark.slow
def test_a_range_and_a_region_are_kept_to() -> None:
    truth = list(scene("noisy bikes-2").pictures)
    height, width = truth[0][0].shape
    over = scene("noisy bikes-2").over(crossed(truth, flock(LONG, (height, width), 1)))
    ranged, _ = taken_off(over, FleetingSettings(first=6, stop=12))
    assert set(ranged.table.frames.tolist()) <= set(range(6, 12))
    assert len(ranged.table)
    part = Outside(box_region(0, 0, width // 2, height))
    inside, _ = taken_off(over, None, outside=part)
    assert len(inside.table)
    assert (inside.table.boxes[:, 0] < width // 2).all()


@pytest.mark.slow
def test_short_shots_flashes_and_snow_are_safe() -> None:
    truth = list(scene("noisy bikes-2").pictures)[:12]
    for stop in (1, 2):
        plan = analyse(Span.of(scene("noisy bikes-2"), 0, stop), FleetingSettings())
        assert plan.figures["few"]
        assert not len(plan.table)
    flash = [
        tuple(np.clip(p.astype(int) + (70 if n == 5 and k == 0 else 0), 0, 255).astype(np.uint8) for k, p in enumerate(t))
        for n, t in enumerate(truth)
    ]
    lit = scene("noisy bikes-2").over(flash)  # type: ignore[arg-type]
    plan, mended = taken_off(lit, FleetingSettings(keeps="middle"))
    assert held(flash, flash, mended)[1] < 0.002  # type: ignore[arg-type]
    rng = np.random.default_rng(2)
    snow = []
    for planes in truth:
        flakes = np.zeros(planes[0].shape, np.float32)
        for x, y, r in zip(rng.integers(0, 640, 900), rng.integers(0, 272, 900), rng.uniform(1.5, 4, 900), strict=True):
            cv2.circle(flakes, (int(x), int(y)), int(r), 1.0, -1)
        snow.append((np.where(flakes > 0, 245, planes[0]).astype(np.uint8), *planes[1:]))
    plan, mended = taken_off(scene("noisy bikes-2").over(snow), FleetingSettings(keeps="darker"))
    assert len(plan.figures["much"]) >= 9
    assert held(snow, snow, mended)[1] < 0.002


@pytest.mark.slow
def test_a_missing_neighbour_is_none() -> None:
    truth = list(scene("noisy bikes-2").pictures)
    height, width = truth[0][0].shape
    over = scene("noisy bikes-2").over(crossed(truth, flock(LONG, (height, width), 1)))
    span = Span(over, np.array([n for n in range(LONG) if n not in (7, 8)], np.int64))
    plan = analyse(span, FleetingSettings())
    assert not set(plan.table.frames.tolist()) & {7, 8}
    assert not set(plan.table.lends.ravel().tolist()) & {7, 8}


# -- grain -------------------------------------------------------------------------------------------------


def grained(sigma: float, width: float, seed: int) -> np.ndarray:
    noise = np.random.default_rng(seed).standard_normal((360, 640)).astype(np.float32)
    if width:
        noise = cv2.GaussianBlur(noise, (0, 0), width)
    return np.asarray(np.linspace(40, 210, 640, dtype=np.float32)[None] + sigma * noise / noise.std(), np.float32)


def figures(picture: np.ndarray) -> tuple[float, float]:
    fine = picture - np.linspace(40, 210, 640)[None]
    return float(fine.std()), float(((fine[:, 1:] * fine[:, :-1]).mean() + (fine[1:] * fine[:-1]).mean()) / 2 / fine.var())


@pytest.mark.parametrize(
    ("here", "wanted"), [((0.5, 0.0), (3.0, 0.7)), ((1.0, 0.5), (4.0, 0.8)), ((0.3, 0.0), (2.0, 0.0)), ((3.0, 0.0), (1.0, 0.0))]
)
def test_grain_is_given_as_strong_and_hanging_together_as_wanted(here: tuple[float, float], wanted: tuple[float, float]) -> None:
    own, like = (measure([grained(*kind, seed + k) for k in range(3)]) for kind, seed in ((here, 1), (wanted, 11)))
    made = given(grained(*here, 99), own, like, like.even((360, 640), (1, 2)))
    assert made is not None
    sigma, together = figures(made)
    truth = figures(grained(*wanted, 50))
    assert sigma == pytest.approx(truth[0], rel=0.1)
    assert together == pytest.approx(truth[1], abs=0.12)
    assert given(grained(*here, 98), own, own, own.even((360, 640), (1, 2))) is None


def test_a_shot_is_given_the_grain_of_another_and_not_the_same_in_two_frames(tmp_path: Path) -> None:
    calm = still(clip("bunny-near"), 8)
    coarse = calm.over(noisy(list(calm.pictures), 4.0, 3))
    like = tuple(
        GrainOf.of(c.name, measure([coarse.pictures[n][i].astype(np.float32) - (128 if c.is_chroma else 0) for n in range(4)]))
        for i, c in enumerate(calm.format.components)
    )
    plan = match(Span.of(calm, 0, 8), LendGrainSettings(like=like))
    plan.save(tmp_path / "grain.npz")
    again = GrainPlan.load(tmp_path / "grain.npz")
    first, second = (again.mend(calm.frame(n)).planes[0].astype(float) - calm.pictures[n][0] for n in (2, 3))
    assert np.std(first) == pytest.approx(4.0, rel=0.15)
    assert abs(np.corrcoef(first.ravel(), second.ravel())[0, 1]) < 0.05, "it never stands still"
    assert (again.mend(calm.frame(2)).planes[0] == plan.mend(calm.frame(2)).planes[0]).all()
    untouched = match(Span.of(calm, 0, 8), LendGrainSettings())
    assert all(not len(places) for places in untouched.touched())
    assert (untouched.mend(calm.frame(1)).planes[0] == calm.pictures[1][0]).all()


def test_the_grain_of_a_part_is_that_of_the_part() -> None:
    left, right = grained(1.0, 0.0, 1), grained(5.0, 0.0, 2)
    both = np.where(np.arange(640)[None] < 320, left, right).astype(np.float32)
    where = np.zeros((360, 640), np.float32)
    where[:, :300] = 1
    middle = len(measure([both]).sigma) // 4
    assert measure([both], [where]).sigma[middle] == pytest.approx(1.0, rel=0.15)
    assert measure([both], [1 - where]).sigma[-middle] == pytest.approx(5.0, rel=0.2)


@pytest.mark.slow
def test_a_frame_that_cannot_be_read_is_passed_over_and_none_is_taken_for_another() -> None:
    truth = list(scene("noisy bikes-2").pictures)
    height, width = truth[0][0].shape
    over = scene("noisy bikes-2").over(crossed(truth, flock(LONG, (height, width), 1)))
    whole, _ = taken_off(over)

    class Torn(MemorySource):
        def frames(self, first: int, stop: int) -> Iterator[Frame]:
            return (replace(f, missing=f.number == 9) for f in over.frames(first, stop))

    torn = Torn(over.pictures, over.format, over.colour, over.rate)
    plan = analyse(Span.of(torn, 0, LONG), FleetingSettings())
    assert 9 not in plan.table.frames
    assert 9 not in plan.table.lends
    # Far from it all is as before.
    boxes = [t.boxes[t.frames == 18].tolist() for t in (whole.table, plan.table)]
    assert boxes[0] == boxes[1]
    assert boxes[0]
    stop = int(whole.table.frames[whole.table.frames > 10].min())
    ranged = analyse(Span.of(torn, 0, LONG), FleetingSettings(first=6, stop=stop))
    assert stop not in ranged.table.frames, "the range still ends where it was said to"
