"""Scratches: found on real clips, verticals of the scene left alone, undone better than in-painting can."""

from __future__ import annotations

from functools import lru_cache
from itertools import product
from pathlib import Path

import cv2
import numpy as np
import pytest

from benchmarks.light import source_of
from benchmarks.material import MemorySource, Planes
from nimbus_sweep.core.defects.scratches.detect import ScratchWatch
from nimbus_sweep.core.defects.scratches.profiles import line_ends, profile_of, rows_of, straight
from nimbus_sweep.core.defects.scratches.repair import LineLiftSettings, Seed, analyse, resolve
from nimbus_sweep.core.defects.scratches.threads import BANDS, Scores, band_means, lines, scores
from nimbus_sweep.core.evidence.frames_at_hand import Span
from nimbus_sweep.core.evidence.moments import watched
from nimbus_sweep.core.imaging.patches import PatchPlan
from nimbus_sweep.core.model.findings import Finding, Surveyed
from nimbus_sweep.core.model.recipes import Recipe, Step
from nimbus_sweep.core.model.regions import Masked, box_region
from nimbus_sweep.demo.mast import Mast
from nimbus_sweep.demo.scratches import Scratch, scratched, three
from tests.conftest import with_sweep

FRAMES = 16


def surveyed(span: Span, hold_out: Masked | None = None) -> Surveyed:
    return watched(span, ScratchWatch(span, hold_out))


@lru_cache(maxsize=4)
def source(name: str) -> MemorySource:
    return source_of(name, 1, FRAMES)


def worn(name: str, seed: int) -> tuple[MemorySource, MemorySource, list[Scratch]]:
    sound = source(name)
    height, width = sound.pictures[0][0].shape
    put = three(FRAMES, (height, width), seed)
    return sound, sound.over(scratched(list(sound.pictures), put)), put


def found_in(over: MemorySource) -> list[Finding]:
    return surveyed(Span.of(over, 0, len(over))).findings


def lifted(over: MemorySource, findings: list[Finding]) -> tuple[PatchPlan, list[Planes]]:
    plan = analyse(Span.of(over, 0, len(over)), resolve(LineLiftSettings(), findings))
    return plan, [f.planes for f in plan.apply(over, 0, len(over)).frames(0, len(over))]  # type: ignore[misc]


@pytest.mark.slow
@pytest.mark.parametrize(("name", "seed"), with_sweep([("bikes-2", 1)], [("pan coffee", 1), ("bunny-near", 2)]))
def test_three_scratches_are_found_and_undone(name: str, seed: int) -> None:
    sound, spoiled, put = worn(name, seed)
    findings = [f for f in found_in(spoiled) if f.convinces]
    assert len(findings) == 3
    for scratch in put:
        mine = [f for f in findings if abs(np.mean([t[1:] for t in f.evidence.track]) - scratch.x - scratch.lean / 2) < 5]
        assert len(mine) == 1
        assert mine[0].evidence.bright == (scratch.level > 128)
        assert mine[0].evidence.cover == pytest.approx(scratch.cover, abs=0.12)
    _, mended = lifted(spoiled, findings)
    ours = stokes = altered = sound_samples = 0.0
    for n in range(FRAMES):
        for plane, (a, b, c) in enumerate(zip(sound.pictures[n], spoiled.pictures[n], mended[n], strict=True)):
            altered += ((a == b) & (b != c)).sum()
            sound_samples += (a == b).sum()
            if plane == 0:
                damage = a != b
                ours += ((c.astype(float) - a)[damage] ** 2).sum()
                stokes += ((cv2.inpaint(b, damage.astype(np.uint8), 4, cv2.INPAINT_NS).astype(float) - a)[damage] ** 2).sum()
    assert 10 * np.log10(stokes / ours) > 5, "Navier-Stokes in-painting (Bertalmio et al. 2001, in OpenCV) given the true mask"
    assert altered / sound_samples < 0.0005


@pytest.mark.slow
@pytest.mark.parametrize(
    "name", with_sweep(["bikes-1", "pan chelsea", "carphone"], ["bikes-2", "bikes-3", "pan coffee", "pan rocket", "bunny-near"])
)
def test_a_sound_clip_has_none(name: str) -> None:
    assert not [f for f in found_in(source(name)) if f.convinces]


def with_posts(moves: float) -> MemorySource:
    """Masts down the whole picture, in the scene: they go where it goes."""
    sound = source("pan coffee")
    pictures = []
    for n, (y, cb, cr) in enumerate(sound.pictures):
        luma = y.astype(np.float32)
        xs = np.arange(luma.shape[1], dtype=np.float32)
        for x, level, width in ((150, 30, 1.2), (400, 235, 1.0)):
            share = np.exp(-0.5 * ((xs - x - moves * n) / width) ** 2)
            luma += share * (level - luma)
        pictures.append((np.clip(np.rint(luma), 0, 255).astype(np.uint8), cb, cr))
    if moves == 0:
        first = sound.pictures[0]
        y = first[0].astype(np.float32)
        share = np.exp(-0.5 * ((np.arange(y.shape[1]) - 150) / 1.2) ** 2).astype(np.float32)
        still = (np.clip(np.rint(y + share * (30 - y)), 0, 255).astype(np.uint8), first[1], first[2])
        pictures = [still] * FRAMES
    return sound.over(pictures)


@pytest.mark.slow
def test_a_mast_in_a_scene_that_stands_still_is_doubted() -> None:
    assert not [f for f in found_in(with_posts(0.0)) if f.convinces]


def test_the_best_way_down_is_the_best_of_all_ways() -> None:
    """Viterbi's way (1967) held against every way there is."""
    rng = np.random.default_rng(4)
    out = np.zeros((BANDS, 40))
    out[:, 20] = 5
    out[:5] += rng.normal(0, 1.2, (5, 40))
    short = Scores(out[:5], np.zeros((5, 40)))
    line = lines(short, bright=True)[0]
    signed = np.clip(out[:5], -2, 6)
    best = max(
        (sum(signed[b, x] for b, x in enumerate(np.cumsum([start, *steps]))) - 0.3 * sum(map(abs, steps)), start, steps)
        for start in range(10, 31)
        for steps in product(range(-2, 3), repeat=4)
    )
    way = np.cumsum([best[1], *best[2]])
    assert line.score == pytest.approx(np.mean([signed[b, x] for b, x in enumerate(way)]))


@pytest.mark.parametrize(("cover", "level", "width"), [(0.3, 235, 0.8), (0.6, 20, 1.0), (0.8, 240, 1.5)])
def test_a_profile_is_measured(cover: float, level: float, width: float) -> None:
    sound = source("pan coffee")
    put = Scratch(300.0, 0, FRAMES, level, cover, width, lean=5, wander=0, seed=3)
    spoiled = scratched(list(sound.pictures), [put])
    height = spoiled[0][0].shape[0]
    rows = np.arange(height)
    bow = np.random.default_rng(3)
    bow.normal(0, 0, FRAMES)
    at = 300 + 5 * rows / height + bow.uniform(-1, 1) * np.sin(np.pi * rows / height)
    profile = profile_of([(spoiled[n][0].astype(np.float32), at) for n in range(0, FRAMES, 3)])
    assert profile is not None
    assert profile.width == pytest.approx(width, abs=0.11)
    assert profile.cover == pytest.approx(cover, abs=0.05)
    assert profile.level == pytest.approx(cover * level, abs=6)
    assert profile.laid_over


def test_a_line_told_by_its_ends_is_the_line() -> None:
    xs = straight(100, 130, 360)
    assert line_ends(xs, 360) == pytest.approx((100, 130), abs=0.05)
    assert rows_of(xs, 360)[180] == pytest.approx(115, abs=0.2)
    assert scores(band_means(np.full((96, 120), 80, np.float32))).out.shape == (BANDS, 120)


@pytest.mark.slow
def test_what_is_held_out_is_not_found() -> None:
    _, spoiled, put = worn("pan coffee", 1)
    span = Span.of(spoiled, 0, FRAMES)
    around = box_region(int(put[0].x) - 20, 0, 40, 360)
    held = surveyed(span, around).findings
    assert len([f for f in held if f.convinces]) == 2


@pytest.mark.slow
def test_scratches_are_named_by_the_findings_and_kept(tmp_path: Path) -> None:
    _, spoiled, _ = worn("bunny-near", 2)
    findings = found_in(spoiled)
    recipe = Recipe(steps=(Step(kind="line-lift"),))
    assert recipe.needs_survey
    named = recipe.resolved(findings)
    assert len(named.steps[0].settings.lines) == 3
    assert Recipe.model_validate_json(named.model_dump_json()) == named
    plan, mended = lifted(spoiled, findings)
    plan.save(tmp_path / "plan.npz")
    again = PatchPlan.load(tmp_path / "plan.npz").apply(spoiled, 0, FRAMES)
    for n in range(0, FRAMES, 5):
        assert all(np.array_equal(a, b) for a, b in zip(again.frame(n).planes, mended[n], strict=True))


@pytest.mark.slow
def test_what_hides_the_picture_is_filled_from_both_sides() -> None:
    sound = source("pan chelsea")
    put = Scratch(320.0, 0, FRAMES, 240, 0.97, 1.2, wander=0.2, seed=5)
    spoiled = sound.over(scratched(list(sound.pictures), [put]))
    _, mended = lifted(spoiled, [f for f in found_in(spoiled) if f.convinces])
    truth, seen, out = (np.stack([p[0] for p in pictures]).astype(float) for pictures in (sound.pictures, spoiled.pictures, mended))
    damage = np.abs(seen - truth) > 20
    assert np.abs(out - truth)[damage].mean() < np.abs(seen - truth)[damage].mean() / 8


@pytest.mark.parametrize(
    "lines_named", [(), (Seed(bright=True, track=((900, 5.0, 5.0),)),), (Seed(bright=True, track=((3, -80.0, -80.0),)),)]
)
def test_scratches_that_are_not_there_change_nothing(lines_named: tuple[Seed, ...]) -> None:
    sound = source("pan chelsea")
    plan = analyse(Span.of(sound, 0, FRAMES), LineLiftSettings(lines=lines_named))
    assert not len(plan.table)


@pytest.mark.slow
def test_lattices_that_go_with_the_camera_are_no_scratches() -> None:
    """Thin upright lines down the whole picture, panned over; scratches on the same frames are found beside them."""
    frames = [Mast(n).drawn(standing=False) for n in range(30)]
    sound = source("bunny-near").over(frames)
    assert not [f for f in found_in(sound) if f.convinces]
    put = three(len(frames), frames[0][0].shape, 3)
    found = [f for f in found_in(sound.over(scratched(frames, put))) if f.convinces]
    means = [float(np.mean([t[1:] for t in f.evidence.track])) for f in found]
    assert len(found) == 3
    assert all(min(abs(m - s.x - s.lean / 2) for s in put) < 6 for m in means)
