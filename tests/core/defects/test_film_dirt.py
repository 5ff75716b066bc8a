"""Film dirt: published rules recomputed, real clips with dirt put in, sound clips left alone, and what cannot be told."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from functools import lru_cache
from pathlib import Path

import cv2
import numpy as np
import pytest

from benchmarks.light import source_of
from benchmarks.material import MemorySource, Planes, clip, noisy, still
from nimbus_sweep.core.defects.film_dirt.appearance import APPEARANCE, _rim_and_shift
from nimbus_sweep.core.defects.film_dirt.choosing import LeftAlone, SpeckSweepSettings
from nimbus_sweep.core.defects.film_dirt.detect import DirtWatch
from nimbus_sweep.core.defects.film_dirt.family import family_of
from nimbus_sweep.core.defects.film_dirt.likelihood import SpeckEvidence
from nimbus_sweep.core.defects.film_dirt.look_over import look_over
from nimbus_sweep.core.defects.film_dirt.repair import analyse
from nimbus_sweep.core.defects.film_dirt.shot_odds import FEATURES, Candidate, come_again, features, in_shot
from nimbus_sweep.core.evidence.frames_at_hand import Span
from nimbus_sweep.core.evidence.moments import each_moment, watched
from nimbus_sweep.core.evidence.shot_evidence import ShotEvidence
from nimbus_sweep.core.evidence.time_volume import build_volume
from nimbus_sweep.core.imaging.neighbours import Neighbour, departures, limits
from nimbus_sweep.core.imaging.patches import PatchPlan
from nimbus_sweep.core.media.frames import Colour
from nimbus_sweep.core.media.layout import picture_format
from nimbus_sweep.core.media.opening import fingerprint
from nimbus_sweep.core.media.reader import MovieReader
from nimbus_sweep.core.media.reel import Reading
from nimbus_sweep.core.media.repeats import Repeats
from nimbus_sweep.core.media.writer import Cut
from nimbus_sweep.core.model.findings import Surveyed
from nimbus_sweep.core.model.recipes import Recipe, Step
from nimbus_sweep.core.model.regions import Masked, box_region
from nimbus_sweep.core.pipeline.analyses import Analyses, analysis_key
from nimbus_sweep.core.pipeline.comparison import compare, report_of
from nimbus_sweep.core.pipeline.render import RenderedShot, RenderSpec, render, treated
from nimbus_sweep.core.pipeline.report import TreatedShot, make_report
from nimbus_sweep.core.pipeline.survey import survey
from nimbus_sweep.demo.defects import ycbcr_to_rgb
from nimbus_sweep.demo.dirt import Dirt, scattered, soiled
from nimbus_sweep.wording import sentence
from tests.conftest import with_sweep, write_movie

FRAMES = 12
# What dirt looks like, about; see `appearance.APPEARANCE`.
DIRT = (-1.5, 0.1, 1.0, -1.3, 0.4, 0.4, -2.5, -2.5, 0.0, 0.1, 2.6, -3.6, -4.1)


def surveyed(span: Span, hold_out: Masked | None = None) -> Surveyed:
    return watched(span, DirtWatch(span, 0, len(span), hold_out))


@lru_cache(maxsize=4)
def source(name: str) -> MemorySource:
    return source_of(name, 1, FRAMES)


def dirty(name: str, seed: int, each: float = 6) -> tuple[MemorySource, MemorySource]:
    sound = source(name)
    return sound, sound.over(soiled(list(sound.pictures), scattered(FRAMES, sound.pictures[0][0].shape, seed, each)))


def learned(over: MemorySource, settings: SpeckSweepSettings | None = None) -> PatchPlan:
    settings = settings or SpeckSweepSettings()
    return analyse(Span.of(over, 0, len(over)), settings).chosen(settings.chosen)


def swept(over: MemorySource, plan: PatchPlan) -> list[Planes]:
    return [f.planes for f in plan.apply(over, 0, len(over)).frames(0, len(over))]  # type: ignore[misc]


def altered(before: MemorySource, after: list[Planes]) -> float:
    return float(np.mean([np.mean(a != b) for x, y in zip(before.pictures, after, strict=True) for a, b in zip(x, y, strict=True)]))


def test_departures_are_those_of_the_published_rules() -> None:
    """Rank-ordered differences (Nadenau and Mitra 1997) and the spike detection index (Kokaram 1995), sample by sample."""
    rng = np.random.default_rng(3)
    before, here, behind = (rng.integers(0, 255, (40, 50)).astype(np.float32) for _ in range(3))
    near = [Neighbour.along(np.zeros((40, 50, 2), np.float32), p) for p in (before, behind)]
    out, spike, seeds = departures(here, near, limits(*near), np.ones(here.shape, bool), bright=True, least=np.full((4, 5), 30, np.float32))
    assert np.array_equal(seeds, out > 30)
    for y, x in rng.integers(1, 39, (60, 2)):
        window = np.concatenate([p[y - 1 : y + 2, x - 1 : x + 2].ravel() for p in (before, behind)])
        assert out[y, x] == here[y, x] - window.max()
        one, other = here[y, x] - before[y, x], here[y, x] - behind[y, x]
        # The index is the smaller size of the two where both have one sign (here: brighter), and nothing elsewhere.
        index = min(abs(one), abs(other)) if one > 0 and other > 0 else 0
        assert max(0, spike[y, x]) == index


@pytest.mark.slow
@pytest.mark.parametrize(("name", "seed"), with_sweep([("bikes-1", 3)], [("pan coffee", 4), ("bunny-near", 5)]))
def test_dirt_goes_and_what_is_sound_stays(name: str, seed: int) -> None:
    sound, spoiled = dirty(name, seed)
    mended = swept(spoiled, learned(spoiled))
    shown = repaired = touched = free = 0
    errors, filled = [], []
    for n in range(1, FRAMES - 1):
        truth, seen, out = (pictures[n][0].astype(float) for pictures in (sound.pictures, spoiled.pictures, mended))
        damage = np.abs(seen - truth) > 10
        shown += damage.sum()
        repaired += (damage & (np.abs(out - truth) < np.abs(seen - truth) / 2)).sum()
        free += (seen == truth).sum()
        touched += ((seen == truth) & (out != seen)).sum()
        errors.append(((out - truth) ** 2)[seen != truth])
        filled.append(((out - truth) ** 2)[(seen != truth) & (out != seen)])
    assert repaired > 0.93 * shown
    assert touched < 0.001 * free
    assert 10 * np.log10(255**2 / np.concatenate(filled).mean()) > 36
    assert 10 * np.log10(255**2 / np.concatenate(errors).mean()) > 30


@pytest.mark.slow
@pytest.mark.parametrize("name", with_sweep(["bikes-2", "carphone", "pan coffee"], ["bikes-1", "bikes-3", "bunny-near"]))
def test_a_sound_clip_is_left_alone(name: str) -> None:
    sound = source(name)
    assert altered(sound, swept(sound, learned(sound))) < 0.0005


@pytest.mark.slow
def test_what_stays_for_two_frames_is_swept_in_both() -> None:
    sound = source("bunny-near")
    height, width = sound.pictures[0][0].shape
    ones = [d for d in scattered(FRAMES - 2, (height, width), 8, 3) if d.frame % 3 == 1]
    pairs = [*ones, *(replace(d, frame=d.frame + 1) for d in ones)]
    spoiled = sound.over(soiled(list(sound.pictures), pairs))
    mended = swept(spoiled, learned(spoiled))
    damage = [np.abs(b[0].astype(int) - a[0]) > 10 for a, b in zip(sound.pictures, spoiled.pictures, strict=True)]
    left = [np.abs(b[0].astype(int) - a[0])[d] > 10 for a, b, d in zip(sound.pictures, mended, damage, strict=True)]
    assert np.concatenate(left).mean() < 0.4


@pytest.mark.slow
def test_fills_have_the_grain_of_what_is_around_them() -> None:
    base = still(clip("bunny-near"), 9)
    flat: list[Planes] = [(np.full_like(p[0], 120), p[1], p[2]) for p in base.pictures]
    grainy = noisy(flat, 3.0, 5)
    shape = grainy[0][0].shape
    dirt = [Dirt(n, 120 + 190 * k, 100 + 150 * m, 9, False, 230, 1, 0.7, 10 * n + k) for n in range(9) for k in range(3) for m in range(2)]
    moved = [replace(d, x=d.x + 37 * (d.frame % 3 - 1), y=d.y + 31 * (d.frame // 3 - 1)) for d in dirt]
    spoiled = base.over(soiled(grainy, moved))
    mended = swept(spoiled, learned(spoiled))
    inside, along_rows = [], []
    for n in range(1, 8):
        hole = spoiled.pictures[n][0] != mended[n][0]
        core = cv2.erode(hole.astype(np.uint8), np.ones((3, 3), np.uint8)) > 0
        fine = mended[n][0].astype(float) - 120
        inside.append(fine[core])
        both = core[:, 1:] & core[:, :-1]
        along_rows.append((fine[:, 1:] * fine[:, :-1])[both])
    grain = np.concatenate(inside)
    assert len(grain) > 3000
    assert grain.std() == pytest.approx(3.0, rel=0.1)
    assert abs(np.concatenate(along_rows).mean() / grain.var()) < 0.1
    assert shape == mended[0][0].shape


@pytest.mark.slow
def test_settings_choose_among_what_was_found() -> None:
    _, spoiled = dirty("bunny-near", 5)
    every = analyse(Span.of(spoiled, 0, FRAMES), SpeckSweepSettings())
    table = every.table
    counts = [SpeckSweepSettings(sure=s).chosen(table).sum() for s in (0.2, 0.5, 0.9, 0.99)]
    assert counts == sorted(counts, reverse=True)
    assert counts[0] == (table.sure >= 0.2).sum()
    bright, dark = (SpeckSweepSettings.model_validate({"takes": t}).chosen(table) for t in ("bright", "dark"))
    assert not (bright & dark).any()
    assert (bright | dark).sum() == SpeckSweepSettings().chosen(table).sum()
    assert (table.areas[SpeckSweepSettings(smallest=30, largest=90).chosen(table)] <= 90).all()
    row = int(np.flatnonzero(SpeckSweepSettings().chosen(table))[0])
    frame, box = int(table.frames[row]), tuple(int(v) for v in table.boxes[row])
    alone = SpeckSweepSettings(left=(LeftAlone(first=frame, stop=frame + 1, box=box),))  # type: ignore[arg-type]
    assert not alone.chosen(table)[row]
    assert alone.judged(table)[row] == "left"
    assert alone.chosen(table).sum() >= SpeckSweepSettings().chosen(table).sum() - 2
    ranged = SpeckSweepSettings(left=(LeftAlone(first=0, stop=FRAMES),))
    assert not ranged.chosen(table).any()
    assert swept(spoiled, every.chosen(ranged.chosen))[3][0] is spoiled.pictures[3][0]


def test_what_only_chooses_asks_for_no_new_analysis() -> None:
    one, other = (Step(kind="speck-sweep", settings={"sure": s}) for s in (0.4, 0.8))
    assert analysis_key("reel", 0, 9, [one]) == analysis_key("reel", 0, 9, [other])
    after = Step(kind="pixel-mend")
    assert analysis_key("reel", 0, 9, [one, after]) != analysis_key("reel", 0, 9, [other, after])


@pytest.mark.slow
def test_knowledge_is_kept_whole(tmp_path: Path) -> None:
    _, spoiled = dirty("bunny-near", 5)
    plan = learned(spoiled)
    plan.save(tmp_path / "plan.npz")
    again = PatchPlan.load(tmp_path / "plan.npz").chosen(SpeckSweepSettings().chosen)
    for one, other in zip(swept(spoiled, plan), swept(spoiled, again), strict=True):
        assert all(np.array_equal(a, b) for a, b in zip(one, other, strict=True))
    touched = plan.touched_in()
    for n, (before, after) in enumerate(zip(spoiled.pictures, swept(spoiled, plan), strict=True)):
        for i, (a, b) in enumerate(zip(before, after, strict=True)):
            outside = np.setdiff1d(np.flatnonzero(a != b), touched[n][i] if n in touched else [])
            assert not len(outside)


@pytest.mark.slow
def test_what_a_survey_has_left_is_not_decoded_again(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    _, spoiled = dirty("bunny-near", 5)
    volume = build_volume(tmp_path / "volume.bin", spoiled)
    recipe = Recipe(steps=(Step(kind="speck-sweep"),))

    def patches(folder: str, **more: object) -> list[int]:
        made = Analyses(tmp_path / folder, "x", 0, FRAMES).make(recipe, spoiled, lambda: volume, **more)  # type: ignore[arg-type]
        return [int(places[0].sum()) for places in made[0].touched_in().values()]

    decoded = patches("decoded")
    monkeypatch.setattr(MemorySource, "frames", lambda *_: pytest.fail("no frame is asked for"))
    assert patches("kept", kept=lambda: volume) == decoded


@pytest.mark.parametrize("frames", [1, 2])
def test_shots_too_short_to_tell_are_left_alone(frames: int) -> None:
    _, spoiled = dirty("bunny-near", 5)
    short = spoiled.over(list(spoiled.pictures)[:frames])
    assert not len(learned(short).table)
    assert surveyed(Span.of(short, 0, frames)).notes


@pytest.mark.slow
def test_three_frames_are_enough() -> None:
    _, spoiled = dirty("bunny-near", 5)
    assert len(learned(spoiled.over(list(spoiled.pictures)[:3])).table)


@pytest.mark.slow
def test_a_flash_is_no_speck() -> None:
    sound = source("bikes-1")
    lit = list(sound.pictures)
    lit[5] = (np.clip(lit[5][0].astype(int) * 3 // 2 + 40, 0, 255).astype(np.uint8), *lit[5][1:])
    flashed = sound.over(lit)
    assert altered(flashed, swept(flashed, learned(flashed))) < 0.0005


def snowing(seed: int, flakes: int = 400) -> MemorySource:
    sound = source("pan coffee")
    height, width = sound.pictures[0][0].shape
    rng = np.random.default_rng(seed)
    x, y, size = rng.uniform(0, width, flakes), rng.uniform(0, height, flakes), rng.uniform(1.2, 3.2, flakes)
    across, down = rng.normal(3, 4, flakes), rng.uniform(12, 34, flakes)
    dirt = [
        Dirt(n, float((x[k] + across[k] * n) % width), float((y[k] + down[k] * n) % height), float(size[k]), False, 235, 0.9, 0.8, k)
        for n in range(FRAMES)
        for k in range(flakes)
    ]
    return sound.over(soiled(list(sound.pictures), dirt))


@pytest.mark.slow
def test_snow_is_warned_of_and_nothing_is_suggested() -> None:
    told = surveyed(Span.of(snowing(2), 0, FRAMES)).findings
    assert all(not f.convinces for f in told)
    assert any("snow" in sentence(f) for f in told)


@pytest.mark.slow
def test_the_survey_tells_of_dirt_as_one_family(tmp_path: Path) -> None:
    sound, spoiled = dirty("bikes-1", 3)
    volume = build_volume(tmp_path / "volume.bin", spoiled)
    told = survey(ShotEvidence(volume, 0, FRAMES, frames=Span.of(spoiled, 0, FRAMES)), steps=["speck-sweep"]).findings
    assert [f.kind for f in told] == ["film-dirt"]
    assert told[0].convinces
    assert told[0].evidence.each == pytest.approx(6, rel=0.5)
    assert not surveyed(Span.of(sound, 0, FRAMES)).findings
    held = surveyed(Span.of(spoiled, 0, FRAMES), box_region(0, 0, 640, 272)).findings
    assert not held


def test_a_rim_and_a_shift_are_told_as_by_numpy() -> None:
    """Slopes as `numpy.gradient` tells them, and what a shift explains as `numpy.linalg.lstsq` does."""
    rng = np.random.default_rng(4)
    fill = cv2.GaussianBlur(rng.normal(100, 40, (24, 30)).astype(np.float32), (0, 0), 2)
    slopes = cv2.GaussianBlur(fill, (0, 0), 0.7)
    hole = np.zeros(fill.shape, np.uint8)
    cv2.circle(hole, (15, 12), 5, 1, -1)
    zone = cv2.dilate(hole, np.ones((5, 5), np.uint8)) > 0
    rim = zone & (cv2.erode(hole, np.ones((3, 3), np.uint8)) == 0)
    down, across = np.gradient(slopes)
    for off in (rng.normal(0, 5, fill.shape), 1.7 * across - 0.4 * down, 30.0 * hole):
        layer = off.astype(np.float32)
        steep, shifted = _rim_and_shift(layer, fill, slopes, zone, rim)
        assert steep == pytest.approx(np.percentile(np.hypot(*np.gradient(layer))[rim], 80), rel=1e-4)
        scene = np.column_stack([np.ones(zone.sum()), across[zone], down[zone], fill[zone]])
        left = layer[zone] - scene @ np.linalg.lstsq(scene, layer[zone], rcond=None)[0]
        assert shifted == pytest.approx(1 - left.var() / layer[zone].var(), abs=1e-3)


def test_dirt_takes_a_scene_s_colour() -> None:
    """Over a scene of one strong colour it is greyer than that, by about what it hides."""
    coloured = [(p[0], np.full_like(p[1], 90), np.full_like(p[2], 170)) for p in source("bikes-1").pictures]
    spoiled = source("bikes-1").over(soiled(coloured, scattered(FRAMES, coloured[0][0].shape, 3, 6)))
    looks = [
        f.appearance
        for _, told in each_moment(Span.of(spoiled, 0, FRAMES), look_over, noise=0.5)
        for f in told.specks
        if f.speck.sure > 0.95
    ]
    typical = dict(zip(APPEARANCE, np.median(looks, axis=0), strict=True))
    assert np.expm1(typical["colour"]) == pytest.approx(np.hypot(38, 42), rel=0.1)
    assert typical["greyed"] == pytest.approx(typical["opaque"], abs=0.3)
    assert typical["greyed"] > 0.2
    assert typical["tint_left"] < typical["tint"] - 0.5
    assert typical["shifted"] < 0.5


def test_nothing_is_told_of_the_colour_of_a_grey_picture() -> None:
    grey = MemorySource([(p[0],) for p in dirty("bikes-1", 3)[1].pictures], picture_format("gray", 640, 272))
    looks = [f.appearance for _, told in each_moment(Span.of(grey, 0, 5), look_over, noise=0.5) for f in told.specks]
    assert looks
    assert all(look[APPEARANCE.index("tint") :] == (0.0,) * 7 for look in looks)


def test_the_whole_shot_weighs_candidates() -> None:
    """A doubtful candidate among many certain ones spread over a shot, and the same one where things come again at the same place."""
    speck = SpeckEvidence(40.0, 0.1, 0.1, 0.2, 0.3, 20.0, 2, 0.9, 0.1, 0.1, 0.0, 0.3, 0.3)
    rng = np.random.default_rng(1)

    def shot(places: np.ndarray, sure: float) -> list[Candidate]:
        return [Candidate(n % 30, int(y), int(x), True, 1.0, 0.01, speck, sure, DIRT) for n, (y, x) in enumerate(places)]

    doubtful = Candidate(10, 100, 200, True, 1.0, 0.01, speck, 0.6, DIRT)
    among_dirt = in_shot([doubtful, *shot(rng.integers(0, (360, 640), (90, 2)), 0.99)], 30, (360, 640))[0][0]
    again = in_shot([doubtful, *shot(np.tile((100, 200), (60, 1)), 0.6)], 30, (360, 640))[0][0]
    assert among_dirt > again
    assert not len(in_shot([], 10, (360, 640))[0])


def _found(at: list[int], places: np.ndarray) -> list[Candidate]:
    speck = SpeckEvidence(40.0, 0.1, 0.1, 0.2, 0.3, 20.0, 2, 0.9, 0.1, 0.1, 0.0, 0.3, 0.3)
    return [Candidate(n, int(y), int(x), True, 1.0, 0.0, speck, 0.95, DIRT) for n, (y, x) in zip(at, places, strict=True)]


def test_what_comes_again_at_its_place_is_of_the_scene() -> None:
    """A lamp that flashes in eight frames among forty specks anywhere; a speck that lasts two frames is one speck."""
    rng = np.random.default_rng(3)
    anywhere = rng.integers(0, (360, 640), (40, 2))
    lamp = np.tile((180, 320), (8, 1)) + rng.integers(-2, 3, (8, 2))
    twice = np.array([(300, 500), (301, 500)])
    found = _found([*range(40), *range(0, 40, 5), 11, 12], np.concatenate([anywhere, lamp, twice]))
    again = come_again(found, np.full(len(found), 0.95), (360, 640))
    assert again[40:48].all()
    assert not again[48:].any()
    assert again[:40].sum() <= 2
    doubtful = np.concatenate([np.full(40, 0.95), np.full(10, 0.3)])
    assert not come_again(found, doubtful, (360, 640))[40:].any(), "what is unlikely proves nothing"
    assert come_again(found[:1], np.ones(1), (360, 640)).tolist() == [False]


def test_a_family_is_told_by_rate_place_and_time() -> None:
    """Dirt that falls anywhere at any time, held against as many at a few places, and against as many at once; counted as NumPy does."""
    rng = np.random.default_rng(4)
    anywhere, frames = rng.integers(0, (360, 640), (90, 2)), rng.integers(0, 30, 90)
    sure = np.concatenate([np.full(80, 0.95), np.full(10, 0.6)])
    dirt = family_of(_found(frames.tolist(), anywhere), sure, 30, (360, 640))
    assert dirt is not None
    counts = np.bincount(frames, minlength=30)
    assert (dirt.certain, dirt.doubtful) == (80 / 30, 10 / 30)
    assert dirt.uneven == pytest.approx((counts.var() + 0.5) / (3 + 0.5))
    assert dirt.contrast == 40
    assert dirt.sure > 0.8
    places = anywhere[rng.integers(0, 6, 90)]
    at_few = family_of(_found(frames.tolist(), places), sure, 30, (360, 640))
    at_once = family_of(_found((frames // 10 * 10).tolist(), anywhere), sure, 30, (360, 640))
    assert at_few is not None
    assert at_once is not None
    assert at_few.again > 10 > dirt.again
    assert at_once.uneven > 5 > dirt.uneven
    assert max(at_few.sure, at_once.sure) < dirt.sure
    assert family_of(_found([1], anywhere[:1]), np.array([0.3]), 30, (360, 640)) is None


def test_more_than_dirt_ever_is_may_be_snow() -> None:
    rng = np.random.default_rng(5)
    places, frames = rng.integers(0, (360, 640), (1000, 2)), np.repeat(np.arange(20), 50)
    crowd = family_of(_found(frames.tolist(), places), np.full(1000, 0.97), 20, (360, 640))
    assert crowd is not None
    assert crowd.crowds
    assert crowd.sure < 0.5


def test_what_lies_about_a_candidate_is_counted() -> None:
    """Three at one place in frames 4, 5 and 20, one beside it and one afar in frame 4; as NumPy counts them."""
    speck = SpeckEvidence(40.0, 0.1, 0.1, 0.2, 0.3, 20.0, 2, 0.9, 0.1, 0.1, 0.0, 0.3, 0.3)
    places = [(4, 50, 50), (5, 52, 49), (20, 50, 53), (4, 70, 70), (4, 50, 250)]
    told = features([Candidate(n, y, x, True, 1.0, 0.0, speck, 0.5, DIRT) for n, y, x in places], 24, (200, 400))
    again, soon, near = (told[:, FEATURES.index(name)] for name in ("again", "soon", "near"))
    assert np.exp(again) * 24 == pytest.approx([2 + 0.48, 2.48, 2.48, 0.48, 0.48])
    assert np.expm1(soon) == pytest.approx([1, 1, 0, 0, 0])
    assert np.expm1(near) == pytest.approx([2, 1, 1, 2, 1])


@pytest.mark.slow
def test_a_part_of_the_shot_tells_what_the_whole_does() -> None:
    _, spoiled = dirty("bunny-near", 6)

    def sure(first: int, stop: int) -> dict[int, list[tuple[int, int]]]:
        found = each_moment(Span.of(spoiled, first, stop), look_over, noise=0.5)
        return {
            at.frame.number: [(f.speck.box[1].start, f.speck.box[0].start) for f in told.specks if f.speck.sure > 0.9] for at, told in found
        }

    whole, part = sure(0, FRAMES), sure(1, 9)
    assert whole[4]
    assert [whole[n] for n in (4, 5)] == [part[n] for n in (4, 5)]


@pytest.mark.slow
def test_repeats_are_mended_once_and_proven(tmp_path: Path) -> None:
    """Film carried at another rate: each distinct frame is looked at once, its repair appears in the copy, nothing else changes."""
    sound, spoiled = dirty("bunny-near", 5)
    carried = [n * 4 // 5 for n in range(15)]
    reel = tmp_path / "film.mkv"
    write_movie(reel, spoiled.over([spoiled.pictures[n] for n in carried]), "ffv1", {})
    repeated = np.array([n > 0 and carried[n] == carried[n - 1] for n in range(15)])
    repeats = Repeats(repeated, (4, 5), np.zeros(15, np.int8))
    repeats.save(tmp_path / "repeats.npz")
    reader = MovieReader(reel)
    recipe = Recipe(steps=(Step(kind="speck-sweep"),))
    analyses = Analyses(tmp_path / "analyses", fingerprint(reel), 0, 15)
    known = analyses.make(recipe, reader, lambda: pytest.fail("no volume is asked for"), usable=repeats.distinct)
    shot = TreatedShot("Shot 1", 0, 15, recipe, [], known)
    report = make_report(reader, fingerprint(reel), Reading(), Cut(0, 15), "ffv1", [shot], repeats)
    stat = reel.stat()
    spec = RenderSpec(
        reel=str(reel),
        fingerprint=fingerprint(reel),
        size=stat.st_size,
        modified=stat.st_mtime_ns,
        shots=(RenderedShot(first=0, stop=15, span=(0, 15), recipe=recipe),),
        repeats=str(tmp_path / "repeats.npz"),
        first=0,
        stop=15,
        analyses=str(analyses.folder),
        chunks=str(tmp_path / "chunks"),
    )
    out = tmp_path / "out.mkv"
    render(spec, out, report)
    result = compare(MovieReader(reel), MovieReader(out), report_of(out))
    assert result.proven
    assert result.differing > 1000
    made = treated(spec, reader)
    for n in np.flatnonzero(repeated):
        assert np.array_equal(made.frame(int(n)).planes[0], made.frame(int(n) - 1).planes[0])
    before, after = (
        np.abs(p.astype(int) - sound.pictures[carried[8]][0]).sum() for p in (reader.frame(8).planes[0], made.frame(8).planes[0])
    )
    assert after < before / 3


def as_rgb(over: MemorySource) -> MemorySource:
    pictures: list[Planes] = []
    for y, cb, cr in over.pictures:
        wide = [cv2.resize(p, y.shape[::-1], interpolation=cv2.INTER_LINEAR).astype(np.float64) for p in (cb, cr)]
        colours = np.clip(np.rint(ycbcr_to_rgb(y.astype(np.float64), *wide)), 0, 255).astype(np.uint8)
        red, green, blue = (np.ascontiguousarray(colours[..., k]) for k in range(3))
        pictures.append((green, blue, red))
    height, width = over.pictures[0][0].shape
    return MemorySource(pictures, picture_format("gbrp", width, height), Colour(matrix=0, full_range=True), over.rate)


def as_ten_bit(over: MemorySource) -> MemorySource:
    height, width = over.pictures[0][0].shape
    deep = [tuple(p.astype(np.uint16) << 2 for p in planes) for planes in over.pictures]
    return MemorySource(deep, picture_format("yuv420p10le", width, height), over.colour, over.rate)  # type: ignore[arg-type]


@pytest.mark.slow
@pytest.mark.parametrize("form", [as_rgb, as_ten_bit])
def test_other_formats_are_swept_on_their_own_planes(form: Callable[[MemorySource], MemorySource]) -> None:
    sound, spoiled = (form(s) for s in dirty("pan coffee", 4))
    plan = learned(spoiled)
    mended = swept(spoiled, plan)
    top = 1023 if spoiled.format.dtype == np.uint16 else 255
    for i in range(3):
        truth, seen, out = (
            np.stack([p[i] for p in pictures[1:-1]]).astype(float) for pictures in (sound.pictures, spoiled.pictures, mended)
        )
        damage = np.abs(seen - truth) > 0.05 * top
        assert damage.sum() > 100
        assert (np.abs(out - truth)[damage] < np.abs(seen - truth)[damage] / 2).mean() > 0.85
        assert (out != seen)[seen == truth].mean() < 0.001
    assert mended[3][0].dtype == spoiled.format.dtype


def test_specks_are_looked_for_where_something_is_outside_its_neighbours_alone(monkeypatch: pytest.MonkeyPatch) -> None:
    """Looked for in parts of the picture they are what they are when all of it is looked at."""
    _, spoiled = dirty("bikes-2", 3, 2)

    def told() -> set[tuple[int, int, int]]:
        found = each_moment(Span.of(spoiled, 0, 8), look_over, noise=0.5)
        return {(at.place, f.speck.box[0].start, f.speck.box[1].start) for at, seen in found for f in seen.specks if f.speck.sure > 0.8}

    parts = told()
    monkeypatch.setattr(
        "nimbus_sweep.core.defects.film_dirt.look_over._windows", lambda seeds: [np.s_[0 : seeds.shape[0], 0 : seeds.shape[1]]]
    )
    whole = told()
    assert len(whole) > 5
    assert len(parts ^ whole) <= 0.1 * len(whole)
