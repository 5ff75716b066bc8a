"""Scratches: found on real clips, verticals of the scene left alone, undone better than in-painting can."""

from __future__ import annotations

from functools import lru_cache
from pathlib import Path

import cv2
import numpy as np
import pytest
import skimage.data

from benchmarks.light import source_of
from benchmarks.material import MemorySource, Planes
from nimbus_sweep.core.defects.scratches.detect import ScratchWatch
from nimbus_sweep.core.defects.scratches.lines import BANDS, Line, lines
from nimbus_sweep.core.defects.scratches.presence import ends, presence, steadiness
from nimbus_sweep.core.defects.scratches.profiles import Profile, profile_of, rows_of
from nimbus_sweep.core.defects.scratches.repair import LineLiftSettings, analyse, resolve
from nimbus_sweep.core.defects.scratches.seeds import Seed, all_known
from nimbus_sweep.core.defects.scratches.sightings import Sighting
from nimbus_sweep.core.defects.scratches.threads import Thread, ThreadFollower
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
    assert profile.there > 0.9


def test_a_seed_is_expected_on_the_line_through_its_ends() -> None:
    seed = Seed(bright=True, track=((0, 100.0, 130.0), (10, 110.0, 140.0)), rows=(90, 270))
    assert rows_of(seed.expected(5, 361), 361)[180] == pytest.approx(120, abs=0.05)
    assert seed.bands(360) == slice(6, 18)
    assert Seed(bright=True, track=((0, 1.0, 1.0),)).bands(360) == slice(0, BANDS)


def scored(seed: int = 2) -> np.ndarray:
    """Scores of nothing, 240 columns wide."""
    return np.random.default_rng(seed).normal(0, 0.6, (BANDS, 240)).astype(np.float32)


@pytest.mark.parametrize("bright", [True, False])
def test_a_line_in_a_part_of_the_picture_is_told_with_its_ends_and_lean(bright: bool) -> None:
    out = scored()
    for band in range(8, 17):
        at = 100 + 0.4 * (band - 11.5)
        out[band] += (9 if bright else -9) * np.exp(-0.5 * ((np.arange(240) - at) / 1.2) ** 2)
    line = lines(out, 480, bright)[0]
    assert (line.bright, line.first, line.stop) == (bright, 160, 340)
    assert line.lean == pytest.approx(0.4 / 20, abs=0.006)
    assert line.at(249.5) == pytest.approx(100.4, abs=0.3)
    assert not [other for other in lines(out, 480, not bright) if other.score > line.score]


def test_texture_that_moves_on_hides_no_line() -> None:
    # Palings stand out more than the line does, but the frames beside it show them where they have gone.
    out, moved = scored(), scored(3)
    for x in range(15, 240, 20):
        out[:, x - 1 : x + 2] += 7
    for plane, height in ((out, 3), (moved, 4)):
        plane += height * np.exp(-0.5 * ((np.arange(240) - 103) / 1.2) ** 2).astype(np.float32)
    assert not any(abs(line.middle - 103) < 1.5 for line in lines(out, 480, True))
    assert lines(out, 480, True, moved)[0].middle == pytest.approx(103, abs=0.5)


def seen(
    x: float,
    *,
    bright: bool = True,
    rows: tuple[int, int] = (0, 300),
    goes: float = 0.0,
    sinks: float = 0.0,
    height: float = 30.0,
    before: float = 1.0,
    after: float = 1.0,
) -> Sighting:
    line, cover = Line(bright, x, 0.0, *rows, score=40.0, rough=0.1), (1.0, 1.0, 1.0, 1.0, 1.0)
    in_place = {-1: before, 1: after}
    return Sighting(line, 1.0, height, 0.1, 6.0, 3.0, 2.0, 0.0, 0.1, 0.0, 0.3, 0.0, {-1: 0.1}, in_place, {-1: -goes}, {-1: -sinks}, cover)


def test_lines_are_followed_and_told_apart_and_join_after_a_gap() -> None:
    follower = ThreadFollower()
    for n in range(20):
        there = [seen(50 + 0.5 * n, goes=2.0), seen(120.0, rows=(100, 200))]
        # One is lost for some frames; another passes only once.
        follower.add(n, there[1:] if 8 <= n < 14 else [*there, *([seen(200.0)] if n == 3 else [])])
    threads = sorted(follower.threads(), key=lambda t: t.seen[0].line.x)
    assert [len(t.frames) for t in threads] == [14, 20]
    assert threads[0].life == 20
    assert threads[0].own == pytest.approx(0.5)
    assert threads[0].travel == pytest.approx(1.5 * 19)
    assert threads[1].rows == (100, 200)


def test_a_short_scratch_is_kept_apart_from_what_passes_there() -> None:
    follower = ThreadFollower()
    for n in range(24):
        # A faint line of the scene is seen now and then where a scratch is for eight frames.
        if 8 <= n < 16:
            follower.add(n, [seen(51.0, before=0.1 if n == 8 else 1.0, after=0.1 if n == 15 else 1.0)])
        else:
            follower.add(n, [seen(50.0, height=14.0)])
    scratch = next(t for t in follower.threads() if t.seen[0].height == 30.0)
    assert scratch.frames == list(range(8, 16))


def test_a_line_whose_ends_go_up_and_down_with_the_scene_is_told_from_a_scratch() -> None:
    way = [3.0 * n for n in range(30)]

    def line(rows: list[tuple[int, int]]) -> Thread:
        return Thread(list(range(30)), [seen(50.0, rows=(max(0, a), min(480, b)), sinks=3.0) for a, b in rows])

    assert line([(int(100 + w), int(250 + w)) for w in way]).ends_with_scene(480), "a mast before a camera that tilts"
    assert line([(int(100 + w), 480) for w in way]).ends_with_scene(480), "and one that stands on the ground"
    assert not line([(100, 250)] * 30).ends_with_scene(480), "a scratch of some rows"
    assert not line([(int(60 + w), 300) for w in way]).ends_with_scene(480), "one of its ends stays"
    assert not line([(0, 480)] * 30).ends_with_scene(480), "all the way down there is nothing to tell it by"
    assert not Thread(list(range(30)), [seen(50.0, rows=(100, 250))] * 30).ends_with_scene(480), "nor where the scene does not sink"


def test_the_shoulder_of_a_line_is_told_from_another_line() -> None:
    line = Thread(list(range(10)), [seen(50.0)] * 10)
    assert Thread(list(range(2, 9)), [seen(54.5, bright=False)] * 7).lies_beside(line)
    assert not Thread(list(range(10)), [seen(70.0, bright=False)] * 10).lies_beside(line)
    assert not Thread(list(range(8, 20)), [seen(54.5)] * 12).lies_beside(line), "most of its life it is alone"


def test_lines_at_other_heights_are_other_lines() -> None:
    assert seen(50.0, rows=(0, 100)).line.apart(seen(50.0, rows=(150, 300)).line) == np.inf
    assert seen(50.0, rows=(0, 100)).line.apart(seen(53.0, rows=(20, 300)).line) == pytest.approx(3)


def striped(rows: slice, height: float, noise: float, frames: int = 8) -> tuple[list[tuple[np.ndarray, np.ndarray]], Profile]:
    """A line of one height in some rows of noisy frames, and where it is."""
    rng = np.random.default_rng(1)
    cols = np.arange(160)
    samples = []
    for _ in range(frames):
        light = 100 + rng.normal(0, noise, (360, 160))
        light[rows] += height * np.exp(-0.5 * ((cols - 80) / 1.2) ** 2)
        samples.append((light.astype(np.float32), np.full(360, 80.0)))
    return samples, Profile(1.2, 0.0, height)


@pytest.mark.parametrize("rows", [slice(90, 250), slice(0, 130), slice(200, 360)])
def test_the_rows_of_a_scratch_are_told_nearer_than_they_were_found(rows: slice) -> None:
    samples, profile = striped(rows, 25, 8)
    found = ends(samples, profile, slice(max(0, rows.start - 12), min(360, rows.stop + 9)), 30)
    assert abs(found.start - rows.start) <= 3
    assert abs(found.stop - rows.stop) <= 3


def test_as_much_of_a_change_is_believed_as_noise_leaves() -> None:
    rows = slice(0, 360)
    steady, profile = striped(rows, 20, 12)
    learned = steadiness(steady, profile, rows)
    # What is even is taken as even, though each row by itself is told poorly.
    told, seen_of_it = presence(steady[0][0], steady[0][1], profile, learned, rows)
    assert seen_of_it == pytest.approx(1, abs=0.05)
    assert presence(steady[0][0], steady[0][1] - 40, profile, learned, rows)[1] == pytest.approx(0, abs=0.1)
    assert np.abs(told - 1).max() < 0.15
    clear, profile = striped(rows, 60, 1)
    for light, _ in clear:
        light[120:200] = 100 + 0.5 * (light[120:200] - 100)
    told, _ = presence(clear[0][0], clear[0][1], profile, steadiness(clear, profile, rows), rows)
    assert told[40:110].mean() == pytest.approx(1, abs=0.08)
    assert told[130:190].mean() == pytest.approx(0.5, abs=0.08)
    assert not presence(clear[0][0], clear[0][1], profile, learned, slice(100, 200))[0][:100].any()


@pytest.mark.parametrize("width", [0.6, 1.0, 1.5, 2.1])
def test_a_width_is_told_in_a_rough_picture(width: float) -> None:
    """On gravel, a photograph inside scikit-image, under a camera that moves."""
    gravel = skimage.data.gravel().astype(np.float32)[:, :480]
    line = 40 * np.exp(-0.5 * ((np.arange(480) - 210.3) / width) ** 2).astype(np.float32)
    at = np.full(len(gravel), 210.3)
    profile = profile_of([(0.7 * np.roll(gravel, 9 * n, 1) + line, at) for n in range(8)])
    assert profile is not None
    assert profile.width == pytest.approx(width, rel=0.2)
    assert profile.level - profile.cover * 80 == pytest.approx(40, rel=0.25)


def test_a_scratch_is_followed_beyond_what_was_found_of_it() -> None:
    sound = source("pan coffee")
    put = Scratch(200.0, 0, FRAMES, 235, 0.55, 0.9, seed=4)
    spoiled = sound.over(scratched(list(sound.pictures), [put]))
    found = Seed(bright=True, track=((9, 200.0, 200.0), (15, 200.0, 200.0)), rows=(120, 220), width=0.9)
    span = Span.of(spoiled, 0, FRAMES)
    one = all_known(span, [found])[0]
    assert one.rows.start < 20
    assert one.rows.stop > spoiled.pictures[0][0].shape[0] - 20
    plan = analyse(span, LineLiftSettings(lines=(found,)))
    assert set(plan.table.frames.tolist()) == set(range(FRAMES))


def test_a_line_that_is_cut_off_at_black_is_measured_where_it_is_not() -> None:
    rng = np.random.default_rng(4)
    columns, at = np.arange(160), np.full(360, 80.0)
    line = np.exp(-0.5 * ((columns - 80) / 1.5) ** 2)
    samples, hidden = [], []
    for n in range(8):
        # Most of what lies under it is nearly black, so that it shows more where the picture is light.
        ground = np.where(np.arange(360) % 90 < 60, 24.0, 150.0 + 5 * n)[:, None] + rng.normal(0, 0.7, (360, 160))
        samples.append((np.maximum(ground - 25 * line, 16).astype(np.float32), at))
        shaded = (90 + 60 * np.sin(np.arange(360) / 40 + n))[:, None] + rng.normal(0, 3, (360, 160))
        hidden.append(((shaded * (1 - 0.98 * line) + 0.98 * 235 * line).astype(np.float32), at))
    as_is, told = profile_of(samples, width=1.5), profile_of(samples, width=1.5, within=(16, 235))
    assert as_is is not None and told is not None
    assert as_is.cover > 0.08, "it seems to take a share of the light"
    assert told.cover == pytest.approx(0, abs=0.03)
    assert told.level - told.cover * 160 == pytest.approx(-25, abs=2)
    # What hides the picture is as light everywhere, and not cut off where it is white.
    assert profile_of(hidden, width=1.5, within=(16, 235)) == profile_of(hidden, width=1.5)


def test_a_cover_is_doubted_where_places_beside_show_one() -> None:
    """On gravel, from four frames: what a groove adds is not taken for what an emulsion scratch hides, which is told."""
    gravel = 0.7 * skimage.data.gravel().astype(np.float32)[:200, :480]

    def covers(hides: float) -> np.ndarray:
        told = []
        for x in range(60, 420, 24):
            shape = np.exp(-0.5 * ((np.arange(480) - x - 0.3) / 1.5) ** 2).astype(np.float32)
            laid = [
                (np.roll(gravel, 9 * n, 1) * (1 - hides * shape) + (235 * hides or 40) * shape, np.full(200, x + 0.3)) for n in range(4)
            ]
            profile = profile_of(laid, width=1.5)
            assert profile is not None
            told.append(profile.cover)
        return np.array(told)

    assert np.mean(covers(0.0) < 0.1) > 0.8
    assert np.mean(covers(0.8) > 0.1) > 0.6


@pytest.mark.slow
def test_what_stands_as_the_scene_does_is_doubted() -> None:
    """Before a camera that stands, a line that stands from the first frame to the last may be a door frame; one that begins is none."""
    still = source("pan coffee").pictures[0]
    rng = np.random.default_rng(6)
    sound = [tuple(np.clip(p + rng.normal(0, 1.5, p.shape), 0, 255).astype(np.uint8) for p in still) for _ in range(FRAMES)]
    put = [Scratch(180.0, 0, FRAMES, 235, 0.6, 0.9, wander=0, seed=1), Scratch(420.0, 5, FRAMES, 235, 0.6, 0.9, wander=0, seed=2)]
    found = found_in(source("pan coffee").over(scratched(sound, put)))
    told = {x: max((f.confidence for f in found if abs(f.x + f.width / 2 - x) < 8), default=0.0) for x in (180, 420)}
    assert told[180] <= 0.5
    assert told[420] > 0.7


def _wall(frames: range, passes: bool, noise: np.random.Generator) -> list[Planes]:
    """Bricks (a photograph that comes with scikit-image), 640 x 360, with a dark line in some of 30 frames; behind what passes until then."""
    wall = cv2.resize(skimage.data.brick(), (640, 360), interpolation=cv2.INTER_AREA) * np.float32(0.6) + 60
    grass = cv2.resize(skimage.data.grass(), (640, 360)) * np.float32(0.5) + 30
    flat = np.full((180, 320), 128, np.uint8)
    pictures = []
    for n in range(30):
        light = wall + noise.normal(0, 1, wall.shape)
        if passes or n in frames:
            light[30:320] -= 45 * np.exp(-0.5 * ((np.arange(640) - 330) / 1.5) ** 2)
        if passes and n not in frames:
            light[:, 150:] = np.roll(grass, 7 * n, axis=1)[:, 150:]
        pictures.append((np.clip(light, 16, 235).astype(np.uint8), flat, flat))
    return pictures


@pytest.mark.slow
def test_an_upright_that_was_hidden_is_doubted_and_a_scratch_that_begins_is_not() -> None:
    for passes in (False, True):
        over = source("pan coffee").over(_wall(range(16, 30), passes, np.random.default_rng(1)))
        there = [f for f in found_in(over) if f.x <= 330 <= f.x + f.width and f.stop == 30]
        assert [f.convinces for f in there] == [not passes]


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
def test_scratches_that_lie_close_are_told_apart_and_undone() -> None:
    sound = source("pan chelsea")
    put = [
        Scratch(300.0, 0, FRAMES, 235, 0.5, 1.5, wander=0.2, seed=1),
        Scratch(311.0, 0, FRAMES, 20, 0.5, 1.3, wander=0.2, seed=4),
    ]
    spoiled = sound.over(scratched(list(sound.pictures), put))
    named = tuple(Seed(bright=one.level > 128, track=tuple((n, one.x, one.x) for n in (0, FRAMES - 1)), width=one.width) for one in put)
    found = all_known(Span.of(spoiled, 0, FRAMES), named)
    assert [k.profile.width for k in found] == pytest.approx([1.5, 1.3], abs=0.2)
    assert [k.profile.cover for k in found] == pytest.approx([0.5, 0.5], abs=0.1)
    plan = analyse(Span.of(spoiled, 0, FRAMES), LineLiftSettings(lines=named))
    mended = [f.planes for f in plan.apply(spoiled, 0, FRAMES).frames(0, FRAMES)]
    truth, seen_, out = (np.stack([p[0] for p in pictures]).astype(float) for pictures in (sound.pictures, spoiled.pictures, mended))
    damage = truth != seen_
    assert 10 * np.log10(((seen_ - truth)[damage] ** 2).mean() / ((out - truth)[damage] ** 2).mean()) > 18


@pytest.mark.slow
def test_frames_without_a_scratch_are_left() -> None:
    sound = source("pan coffee")
    put = Scratch(300.0, 4, 12, 235, 0.5, 1.2, wander=0, seed=2)
    spoiled = sound.over(scratched(list(sound.pictures), [put]))
    seed = Seed(bright=True, track=((4, 300.0, 300.0), (11, 300.0, 300.0)))
    plan = analyse(Span.of(spoiled, 0, FRAMES), LineLiftSettings(lines=(seed,)))
    assert set(plan.table.frames.tolist()) == set(range(4, 12))


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
