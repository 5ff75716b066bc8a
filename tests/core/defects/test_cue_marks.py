"""Cue marks and burns: found, only they replaced, better than in-painting can; and what stands beside them left alone."""

from __future__ import annotations

from functools import lru_cache
from itertools import pairwise
from pathlib import Path

import cv2
import numpy as np
import pytest

from benchmarks.light import source_of
from benchmarks.material import MemorySource, Planes, panned
from nimbus_sweep.core.base.errors import SweepError
from nimbus_sweep.core.defects.cue_marks.detect import CueWatch, drawn_by_hand
from nimbus_sweep.core.defects.cue_marks.events import APART, Event, corners
from nimbus_sweep.core.defects.cue_marks.pairing import paired
from nimbus_sweep.core.defects.cue_marks.repair import CueLiftSettings, CueSeed, FrameNudge, analyse, resolve
from nimbus_sweep.core.evidence.frames_at_hand import Span
from nimbus_sweep.core.evidence.moments import noise_at_hand, watched
from nimbus_sweep.core.imaging.patches import PatchPlan
from nimbus_sweep.core.model.findings import CONVINCES, Surveyed
from nimbus_sweep.core.model.regions import Key, Masked, Outside, Part, Region, box_region
from nimbus_sweep.core.model.shapes import Ellipse
from nimbus_sweep.core.pipeline.suggestions import suggested
from nimbus_sweep.core.tools.borrow_fill import BorrowFillSettings, frames_named
from nimbus_sweep.core.tools.borrow_fill import analyse as fill_burns
from nimbus_sweep.demo import cues
from nimbus_sweep.demo.burn import Burn, burnt
from nimbus_sweep.wording import sentence
from tests.conftest import with_sweep

# Common practice, no source: four frames, 168 clear, four again.
FIRST, LONG = 9, 190


def surveyed(span: Span, hold_out: Masked | None = None) -> Surveyed:
    return watched(span, CueWatch(span, noise_at_hand(span), hold_out))


@lru_cache(maxsize=2)
def long(name: str) -> MemorySource:
    return panned(name, LONG, seed=3, size=(320, 180))


@lru_cache(maxsize=4)
def short(name: str) -> MemorySource:
    return source_of(name, 1, 28)


def put(plan: PatchPlan, over: MemorySource) -> list[Planes]:
    return [f.planes for f in plan.apply(over, 0, len(over)).frames(0, len(over))]  # type: ignore[misc]


def decibels(truth: list[Planes], spoiled: list[Planes], made: list[Planes], planes: tuple[int, ...] = (0,)) -> float:
    squares = [((c[k].astype(float) - a[k])[a[k] != b[k]] ** 2) for a, b, c in zip(truth, spoiled, made, strict=True) for k in planes]
    return float(10 * np.log10(255**2 / np.concatenate(squares).mean()))


@pytest.mark.slow
@pytest.mark.parametrize("kind", ["dark", "green"])
def test_both_marks_of_a_pair_are_found_and_nothing_else_is_altered(kind: str) -> None:
    truth = list(long("coffee").pictures)
    height, width = truth[0][0].shape
    spoiled = cues.marked(truth, cues.pair(FIRST, (height, width), kind))
    over = long("coffee").over(spoiled)
    span = Span.of(over, 0, LONG)
    findings = surveyed(span).findings
    assert [(f.first, f.stop) for f in findings if f.convinces] in ([(9, 13), (181, 185)], [(181, 185), (9, 13)])
    assert findings[0].evidence.partner in (9, 181)
    assert "168 clear frames" in sentence(findings[0])
    plan = analyse(span, resolve(CueLiftSettings(), findings))
    mended = put(plan, over)
    altered = {n for n, (b, c) in enumerate(zip(spoiled, mended, strict=True)) if any((x != y).any() for x, y in zip(b, c, strict=True))}
    assert altered == {*range(9, 13), *range(181, 185)}
    assert decibels(truth, spoiled, mended, (1, 2) if kind == "green" else (0, 1, 2)) > 46
    # A whole mark more than its own size off is not it: the samples altered lie in the corner.
    for n in altered:
        rows, cols = np.nonzero(spoiled[n][0] != mended[n][0])
        assert not len(rows) or (cols.min() > 0.8 * width and rows.max() < 0.25 * height)


@pytest.mark.slow
@pytest.mark.parametrize("name", with_sweep(["bikes-1", "pan chelsea"], ["bikes-2", "bunny-near", "carphone"]))
def test_a_sound_clip_has_none(name: str) -> None:
    assert not [f for f in surveyed(Span.of(short(name), 0, 28)).findings if f.convinces]


@pytest.mark.slow
def test_the_other_of_a_pair_is_found_from_one_by_hand() -> None:
    truth = list(long("coffee").pictures)
    height, width = truth[0][0].shape
    spoiled = cues.marked(truth, cues.pair(FIRST, (height, width), "light", right=False))
    over = long("coffee").over(spoiled)
    first = cues.pair(FIRST, (height, width), "light", right=False)[0]
    drawn = drawn_by_hand(Ellipse(x=first.x, y=first.y, across=first.across + 6, down=first.down + 6), (height, width), FIRST + 2)
    assert (drawn.first, drawn.stop, drawn.by_hand) == (FIRST + 2, FIRST + 3, True)
    plan = analyse(Span.of(over, 0, LONG), resolve(CueLiftSettings(), [drawn]))
    assert plan.figures["frames"] == [*range(9, 13), *range(181, 185)]
    # At the edge that the scene comes in by, one side alone shows what is behind.
    assert decibels(truth, spoiled, put(plan, over)) > 36
    with pytest.raises(SweepError, match="outside the picture"):
        drawn_by_hand(Ellipse(x=-500, y=-500, across=4, down=4), (height, width), 3)


def one_mark(name: str, kind: str = "dark") -> tuple[MemorySource, list[Planes], tuple[CueSeed, ...]]:
    truth = list(short(name).pictures)
    height, width = truth[0][0].shape
    spoiled = cues.marked(truth, cues.pair(11, (height, width), kind))
    mark = cues.pair(11, (height, width), kind)[0]
    angles = np.linspace(0, 2 * np.pi, 24, endpoint=False)
    outline = tuple((int(mark.x + (mark.across + 5) * np.cos(a)), int(mark.y + (mark.down + 5) * np.sin(a))) for a in angles)
    return short(name).over(spoiled), truth, (CueSeed(first=11, stop=15, outline=outline),)


@pytest.mark.slow
def test_one_alone_is_found_and_is_less_sure_than_a_pair() -> None:
    over, _, _ = one_mark("bikes-3", "light")
    found = surveyed(Span.of(over, 0, 28)).findings
    assert [(f.first, f.stop) for f in found if f.convinces] == [(11, 15)]
    assert found[0].confidence <= 0.93
    assert "may lie in the next" in sentence(found[0])
    assert [s.kind for s in suggested(found).steps] == ["cue-lift"]


@pytest.mark.slow
def test_a_nudge_moves_what_is_put_down_by_that_much() -> None:
    over, _, marks = one_mark("pan coffee")
    span = Span.of(over, 0, 28)
    plain, nudged = (
        put(analyse(span, CueLiftSettings(marks=marks, grain=False, nudges=n)), over)[12][0].astype(float)
        for n in ((), (FrameNudge(frame=12, across=4.0),))
    )
    x, y = (int(v) for v in np.mean(marks[0].outline, 0))
    inside = np.s_[y - 4 : y + 5, x - 4 : x + 5]
    beside = np.s_[y - 4 : y + 5, x - 0 : x + 9]
    assert np.abs(nudged[inside] - plain[beside]).mean() < np.abs(nudged[inside] - plain[inside]).mean()


@pytest.mark.slow
@pytest.mark.parametrize("lends", ["before", "behind"])
def test_one_side_may_lend_alone_and_the_first_and_last_frames_have_but_one(lends: str) -> None:
    over, truth, marks = one_mark("pan coffee")
    plan = analyse(Span.of(over, 0, 28), CueLiftSettings(marks=marks, lends=lends))  # type: ignore[arg-type]
    assert set(plan.table.lends[:, 0].tolist()) == ({10} if lends == "before" else {15})
    assert decibels(truth, list(over.pictures), put(plan, over)) > 36
    begins = analyse(Span.of(over, 11, 28), CueLiftSettings(marks=marks, lends="before"))
    assert set(begins.table.lends[:, 0].tolist()) == {15}, "there is none before: the other side lends"


def test_shots_of_one_and_two_frames_have_none() -> None:
    for stop in (1, 2):
        span = Span.of(short("bikes-1"), 0, stop)
        assert not surveyed(span).findings
        assert not len(analyse(span, CueLiftSettings(marks=())).table)


@pytest.mark.slow
def test_what_is_held_out_is_not_looked_for() -> None:
    over, _, _ = one_mark("bikes-3", "light")
    assert not surveyed(Span.of(over, 0, 28), box_region(500, 0, 140, 90)).findings


def test_the_corners_lie_at_the_top_and_no_pair_is_nearer_than_marks_are() -> None:
    left, right = corners(short("bikes-1").format)
    assert (left.left, left.top, right.top) == (0, 0, 0)
    assert right.left + right.width == 640
    assert APART[0] < 172 < APART[1], "168 clear frames and four of the mark (common practice, no source)"
    assert paired([]) == []


# -- burns -------------------------------------------------------------------------------------------------


def burning(name: str) -> tuple[MemorySource, list[Planes], Region]:
    truth = list(short(name).pictures)
    height, width = truth[0][0].shape
    burn = Burn(7, 21, 0.4 * width, 0.45 * height, 0.003 * width, 0.002 * height, 0.13 * height)
    keys = []
    for n in (0, 4, 8, 13):
        x, y, radius = burn.at(7 + n)
        keys.append(Key(frame=7 + n, shape=Ellipse(x=x, y=y, across=1.35 * radius + 4, down=1.18 * radius + 4)))
    return short(name).over(burnt(truth, burn)), truth, Region(parts=(Part(keys=tuple(keys)),), grow=2, feather=2)


@pytest.mark.slow
@pytest.mark.parametrize("name", with_sweep(["pan coffee"], ["bunny-near"]))
def test_a_burn_is_filled_from_before_and_behind(name: str) -> None:
    over, truth, region = burning(name)
    plan = fill_burns(Span.of(over, 0, 28), BorrowFillSettings(), None, Outside(region))
    assert plan.figures["frames"] == list(range(7, 21))
    assert not plan.figures["unlent"]
    mended = put(plan, over)
    spoiled = list(over.pictures)
    stokes = [
        (cv2.inpaint(b[0], cv2.dilate((a[0] != b[0]).astype(np.uint8), np.ones((3, 3), np.uint8)), 4, cv2.INPAINT_NS), *b[1:])
        for a, b in zip(truth, spoiled, strict=True)
    ]
    ours, theirs = decibels(truth, spoiled, mended), decibels(truth, spoiled, stokes)
    assert ours > theirs + 8, "Navier-Stokes in-painting (Bertalmio et al. 2001, in OpenCV) given the true mask"
    outside = Outside(region).mask(truth[0][0].shape, 12) == 1
    assert (mended[12][0][outside] == spoiled[12][0][outside]).all()


@pytest.mark.slow
def test_fills_do_not_stand_still_and_no_lender_is_told_of() -> None:
    over, _, region = burning("bunny-near")
    plan = fill_burns(Span.of(over, 0, 28), BorrowFillSettings(), None, Outside(region))
    x, y = 0.41 * 640, 0.46 * 360
    middle = np.s_[int(y) - 5 : int(y) + 6, int(x) - 5 : int(x) + 6]
    fills = [f.planes[0][middle] for f in plan.apply(over, 0, 28).frames(11, 16)]
    assert all((a != b).any() for a, b in pairwise(fills))
    alone = fill_burns(Span.of(over, 10, 14), BorrowFillSettings(first=10, stop=14), None, Outside(region))
    assert alone.figures["unlent"], "every frame of this stretch is burnt at the same place"
    assert not len(fill_burns(Span.of(over, 0, 28), BorrowFillSettings(), None, None).table), "nothing is drawn"


def test_the_frames_are_those_of_the_keys_or_those_named() -> None:
    assert frames_named(BorrowFillSettings(), [12, 9, 20]) == (9, 21)
    assert frames_named(BorrowFillSettings(first=4, stop=6), [12]) == (4, 6)
    assert frames_named(BorrowFillSettings(first=30), [12]) == (30, 30)


@pytest.mark.slow
def test_a_plan_is_read_back_as_it_was_written(tmp_path: Path) -> None:
    over, _, marks = one_mark("bikes-3", "scratched")
    plan = analyse(Span.of(over, 0, 28), CueLiftSettings(marks=marks))
    plan.save(tmp_path / "plan.npz")
    again = PatchPlan.load(tmp_path / "plan.npz")
    assert again.figures == plan.figures
    for a, b in zip(put(plan, over), put(again, over), strict=True):
        assert all((x == y).all() for x, y in zip(a, b, strict=True))


def _sat(first: int, frames: int, left: int = 10) -> Event:
    hole = np.zeros((40, 60), bool)
    hole[5:15, left : left + 10] = True
    return Event(first, first + frames, hole, contrast=40.0, ratio=20.0, alike=1.0, rim=0.0)


def test_what_is_alone_is_told_by_how_long_it_stays_and_whether_it_comes_again() -> None:
    """How sure each is was measured on drawn clips: dirt that lasts two frames behaves as a mark does."""
    sure = {frames: paired([_sat(9, frames)])[0].sure for frames in (2, 3, 4, 5)}
    assert sure[2] < CONVINCES <= min(sure[3], sure[4], sure[5])
    assert all(cue.sure < CONVINCES for cue in paired([_sat(9, 4), _sat(40, 4)])), "a lamp blinks at its place again"
    assert all(cue.sure > CONVINCES for cue in paired([_sat(9, 4), _sat(40, 4, left=40)]))
    assert all(cue.partner >= 0 and cue.sure == 1.0 for cue in paired([_sat(9, 4), _sat(9 + 170, 4)]))


def test_a_mark_in_a_held_picture_shows_in_frames_that_repeat_one_another() -> None:
    still = short("bikes-3").pictures[0]
    marks = cues.pair(5, still[0].shape, "light")
    spoiled = cues.marked([still] * 14, marks)
    held = surveyed(Span.of(short("bikes-3").over(spoiled), 0, 14, np.array([0, 5, 9])))
    assert [(f.first, f.stop) for f in held.findings if f.convinces] == [(5, 9)]
    # Dirt on one frame of footage in which every frame is shown four times.
    moving = [p for p in short("bikes-3").pictures[:7] for _ in range(4)]
    spoiled = cues.marked(moving, cues.pair(12, still[0].shape, "light"))
    shown = surveyed(Span.of(short("bikes-3").over(spoiled), 0, 28, np.arange(0, 28, 4)))
    assert not [f for f in shown.findings if f.convinces]
