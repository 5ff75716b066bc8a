"""Plates: a reflection taken off a moving plane in changing light, what is known of it, and bad input."""

from __future__ import annotations

import base64
from pathlib import Path
from typing import Any

import cv2
import numpy as np
import pytest
from pydantic import ValidationError

from benchmarks.material import MemorySource, noisy, panned, still
from benchmarks.plates import judged, light_errors, patch, windowed
from nimbus_sweep.core.base.errors import SweepError
from nimbus_sweep.core.evidence.frames_at_hand import Span
from nimbus_sweep.core.imaging.box import Box
from nimbus_sweep.core.media.frames import Frame
from nimbus_sweep.core.media.layout import picture_format
from nimbus_sweep.core.model.recipes import Recipe, Step
from nimbus_sweep.core.model.regions import Outside, Region, box_region
from nimbus_sweep.core.pipeline.analyses import Analyses, chain
from nimbus_sweep.core.tools.plate_patch.canvas import put_rgb, rgb_of
from nimbus_sweep.core.tools.plate_patch.light import Areas, measured, smooth_lights
from nimbus_sweep.core.tools.plate_patch.pictures import common
from nimbus_sweep.core.tools.plate_patch.plate_plan import PlatePlan
from nimbus_sweep.core.tools.plate_patch.settings import PlateOf, PlatePatchSettings
from nimbus_sweep.core.tools.plate_patch.softness import Blur, softness
from nimbus_sweep.core.tools.plate_patch.step import analyse
from tests.conftest import with_sweep


@pytest.mark.slow
@pytest.mark.parametrize(("name", "seed", "flashes"), with_sweep([("chelsea", 2, True)], [("coffee", 1, False), ("astronaut", 3, False)]))
def test_a_reflection_goes_and_the_light_stays(name: str, seed: int, flashes: bool) -> None:
    clean, spoiled, _, _ = windowed(name, 30, seed, flashes=flashes)
    _, treated, recipe, plan = patch(spoiled)
    figures = judged(clean, spoiled, treated, recipe)
    assert figures["db"] > 34 > figures["before"]
    assert figures["seam"] < 0.1
    assert figures["outside"] == 0
    codes, percent = light_errors(clean, treated, recipe)
    assert codes < 1
    assert percent < 2
    assert plan.figures["unknown"] == [0.0]


def still_scene() -> tuple[MemorySource, MemorySource]:
    """A scene that stands still, in 8 noisy frames; and the same with something bright over a part in the first three."""
    clean = still(panned("chelsea", 2, size=(160, 96)), 8)
    clean = clean.over(noisy(clean.pictures, 1.0, 4))
    pictures = [tuple(p.copy() for p in planes) for planes in clean.pictures]
    for luma, _, _ in pictures[:3]:
        luma[40:56, 60:90] = 230
    return clean, clean.over(pictures)


def patched(source: MemorySource, folder: Path, **settings: Any) -> tuple[list[tuple[np.ndarray, ...]], PlatePlan]:
    recipe = Recipe(steps=(Step(kind="plate-patch", region=box_region(54, 34, 42, 28), settings=settings),))
    known = Analyses(folder, "test", 0, len(source)).make(recipe, source, lambda: None)  # type: ignore[arg-type, return-value]
    again = Analyses(folder, "test", 0, len(source)).load(recipe, source.format)
    made = [f.planes for f in chain(source, known, 0, len(source)).frames(0, len(source))]
    kept = [f.planes for f in chain(source, again, 0, len(source)).frames(0, len(source))]
    assert all(np.array_equal(a, b) for one, other in zip(made, kept, strict=True) for a, b in zip(one, other, strict=True))
    return made, known[0].inner  # type: ignore[attr-defined]


def test_a_camera_that_stands_still_needs_no_track(tmp_path: Path) -> None:
    clean, spoiled = still_scene()
    made, plan = patched(spoiled, tmp_path)
    miss = made[0][0][40:56, 60:90].astype(float) - clean.pictures[0][0][40:56, 60:90]
    assert np.abs(miss.mean()) < 1
    assert miss.std() < 2.5, "two independent grains at most"
    inside = np.zeros((96, 160), bool)
    inside[33:63, 53:97] = True
    assert not (made[0][0] != spoiled.pictures[0][0])[~inside].any()
    touched = np.unravel_index(plan.touched_in()[0][0], (96, 160))
    assert touched[0].min() <= 34 and touched[1].max() >= 95
    assert {n for n, _ in plan.figures["disturbed"][:4]}.isdisjoint({0, 1, 2}), "undisturbed frames are proposed first"


@pytest.mark.slow
def test_grain_is_new_in_each_frame(tmp_path: Path) -> None:
    _, spoiled = still_scene()
    made, _ = patched(spoiled, tmp_path)
    one, other = (made[n][0][44:52, 64:86].astype(float) for n in (0, 1))
    assert (one != other).mean() > 0.3
    even, _ = patched(spoiled, tmp_path, grain=False)
    assert even[0][0][44:52, 64:86].std() < made[0][0][44:52, 64:86].std() + 0.5


def test_a_frame_whose_neighbour_repeats_another_is_matched_too(tmp_path: Path) -> None:
    _, spoiled = still_scene()
    recipe = Recipe(steps=(Step(kind="plate-patch", region=box_region(54, 34, 42, 28), settings={"sharpness": True}),))
    # The last frame has no frame after it, and the one before shows the moment of the one before that.
    usable = np.setdiff1d(np.arange(8), [6])
    known = Analyses(tmp_path, "test", 0, 8).make(recipe, spoiled, lambda: None, usable=usable)  # type: ignore[arg-type, return-value]
    plan = known[0].inner  # type: ignore[attr-defined]
    assert sorted(plan.fits) == usable.tolist()


def test_plates_serve_their_own_frames(tmp_path: Path) -> None:
    _, spoiled = still_scene()
    plates = [{"kind": "frame", "frame": 5, "serves_to": 2}, {"kind": "middle", "first": 3, "stop": 8, "serves_from": 6}]
    made, plan = patched(spoiled, tmp_path, plates=plates)
    assert [plan.fits[n].plate for n in (0, 2, 6, 7)] == [0, 0, 1, 1]
    assert plan.figures["unserved"] == [3, 4, 5]
    assert np.array_equal(made[4][0], spoiled.pictures[4][0])
    assert made[0][0][40:56, 60:90].max() < 225


@pytest.mark.slow
def test_a_picture_from_outside_of_another_size_and_depth(tmp_path: Path) -> None:
    clean, spoiled = still_scene()
    frame = Frame(5, clean.pictures[5], clean.format, clean.colour)
    rgb = rgb_of(frame, Box(0, 0, 160, 96))
    large = cv2.resize(np.clip(rgb[..., ::-1], 0, 255) * 257, (320, 192), interpolation=cv2.INTER_LINEAR).astype(np.uint16)
    packed = base64.b64encode(cv2.imencode(".png", large)[1].tobytes()).decode()
    made, _ = patched(spoiled, tmp_path, plates=[{"kind": "picture", "picture": packed}], sharpness=False)
    miss = made[0][0][42:54, 62:88].astype(float) - clean.pictures[0][0][42:54, 62:88]
    assert np.sqrt((miss**2).mean()) < 5
    with pytest.raises(SweepError, match="cannot be read"):
        patched(spoiled, tmp_path, plates=[{"kind": "picture", "picture": base64.b64encode(b"fog").decode()}])


def test_bad_input_is_explained(tmp_path: Path) -> None:
    _, spoiled = still_scene()
    with pytest.raises(SweepError, match="Frame 99"):
        patched(spoiled, tmp_path, plates=[{"kind": "frame", "frame": 99}])
    with pytest.raises(ValidationError, match="needs the picture"):
        PlateOf(kind="picture")
    with pytest.raises(ValidationError):
        PlatePatchSettings(plates=())
    nothing = analyse(Span.of(spoiled, 0, 8), PlatePatchSettings())
    # A step that was just put on has no region yet: its analysis is kept all the same.
    nothing.save(tmp_path / "nothing.npz")
    assert PlatePlan.load(tmp_path / "nothing.npz").fits == {}
    assert nothing.fits == {} and np.array_equal(nothing.mend(spoiled.frame(0)).planes[0], spoiled.pictures[0][0])


def test_what_no_frame_shows_is_told_and_left(tmp_path: Path) -> None:
    _, spoiled = still_scene()
    hidden = box_region(70, 40, 12, 10)
    step = Step(kind="plate-patch", region=box_region(54, 34, 42, 28), hold_out=hidden)
    known = Analyses(tmp_path, "test", 0, 8).make(Recipe(steps=(step,)), spoiled, lambda: None)  # type: ignore[arg-type, return-value]
    plan = known[0].inner  # type: ignore[attr-defined]
    assert plan.figures["unknown"][0] == pytest.approx(16 * 14 / (42 * 28), rel=0.2)
    made = chain(spoiled, known, 0, 8).frame(0)
    assert np.array_equal(made.planes[0][41:49, 71:81], spoiled.pictures[0][0][41:49, 71:81])


def test_light_is_measured_area_by_area() -> None:
    rng = np.random.default_rng(5)
    plate = rng.uniform(40, 160, (80, 120, 3)).astype(np.float32)
    labels = np.zeros((80, 120), np.int16)
    labels[10:30, 10:30], labels[50:70, 90:110] = 1, 2
    areas = Areas.of(labels)
    frame = plate.copy()
    frame[:, :60] *= np.float32([1.3, 0.8, 1.0])
    frame[:, 60:] *= np.float32([0.7, 1.0, 1.2])
    # Something bright passes over a fifth of one of them.
    frame[10:14, 10:30] = 250
    light = measured(frame, plate, np.ones((80, 120), np.float32), areas, "gain")
    assert light.gains == pytest.approx(np.array([[1.3, 0.8, 1.0], [0.7, 1.0, 1.2]]), rel=0.01)
    given = light.on(areas, plate)
    assert given[14:30, 10:30].mean((0, 1)) == pytest.approx(frame[14:30, 10:30].mean((0, 1)), abs=1.0)
    assert given[50:70, 90:110].mean((0, 1)) == pytest.approx(frame[50:70, 90:110].mean((0, 1)), abs=1.0)
    added = measured(plate + 9, plate, np.ones((80, 120), np.float32), areas, "offset")
    assert added.offsets == pytest.approx(np.full((2, 3), 9), abs=0.01)
    both = measured(plate * 1.2 + 5, plate, np.ones((80, 120), np.float32), areas, "both")
    assert both.gains == pytest.approx(np.full((2, 3), 1.2), rel=0.01)
    even = smooth_lights([light, measured(plate, plate, np.ones((80, 120), np.float32), areas, "gain")] * 6, 3)
    assert np.ptp([one.gains[0, 0] for one in even]) < 0.15


def test_the_plate_is_what_lies_closest_together() -> None:
    rng = np.random.default_rng(6)
    truth = rng.uniform(40, 160, (40, 50, 3)).astype(np.float32)
    pictures = []
    for n in range(20):
        picture = truth + rng.normal(0, 1, truth.shape).astype(np.float32)
        # Half of the frames have it brighter, each by another amount.
        if n % 2:
            picture[10:30, 10:40] += 15 + 5 * n
        pictures.append((picture, np.ones((40, 50), np.float32)))
    found, known = common(pictures, Areas.of(np.zeros((40, 50), np.int16)), "middle")
    assert known.all()
    assert np.abs(found - truth)[10:30, 10:40].mean() < 1.5
    median = np.median([p for p, _ in pictures], 0)
    assert np.abs(median - truth)[10:30, 10:40].mean() > 4


@pytest.mark.parametrize("sigma", [0.0, 0.8, 1.8])
def test_softness_is_told(sigma: float) -> None:
    rng = np.random.default_rng(8)
    sharp = np.repeat(cv2.GaussianBlur(rng.normal(120, 60, (90, 120)).astype(np.float32), (0, 0), 0.7)[..., None], 3, 2)
    frame = Blur(sigma).on(sharp) + rng.normal(0, 1, (90, 120, 1)).astype(np.float32)
    told = softness(frame, sharp, np.ones((90, 120), np.float32), (0.0, 0.0))
    assert told.sigma == pytest.approx(sigma, abs=0.45)
    smeared = Blur(0, 8.0, 0.0).on(sharp)
    assert softness(smeared, sharp, np.ones((90, 120), np.float32), (8.0, 0.0)).across == pytest.approx(8)


@pytest.mark.parametrize("name", ["yuv420p", "yuv444p10le", "gbrp", "gray"])
def test_colours_come_back_through_every_layout(name: str) -> None:
    layout = picture_format(name, 32, 24)
    rng = np.random.default_rng(9)
    planes = tuple(rng.integers(60, 200, shape).astype(layout.dtype) * (4 if "10" in name else 1) for shape in layout.plane_shapes)
    frame = Frame(0, planes, layout)
    box = Box(4, 4, 16, 12)
    before = frame.copy()
    put_rgb(frame, box, rgb_of(frame, box), np.ones((12, 16), np.float32))
    for i in range(len(layout.components)):
        rough = np.abs(frame.component(i).astype(int) - before.component(i))
        assert rough.max() <= 1 if i == 0 or name != "yuv420p" else rough.mean() < 30
    assert Region().mask((4, 4)).sum() == 0


@pytest.mark.slow
def test_a_plate_is_retouched(tmp_path: Path) -> None:
    """What no frame shows is painted: from beside on the plate, and from a frame laid on the plane; nothing is learned anew."""
    clean, spoiled = still_scene()
    pictures = [tuple(p.copy() for p in planes) for planes in clean.pictures]
    for luma, _, _ in pictures[:7]:
        luma[40:56, 60:90] = 230
    spoiled = clean.over(pictures)
    made, plan = patched(spoiled, tmp_path)
    assert made[7][0][44:52, 64:86].mean() > 200, "the plate of most frames is spoiled, too"
    files = {p: p.stat().st_mtime_ns for p in tmp_path.iterdir()}
    line = [[x, 48] for x in range(58, 93, 2)]
    stroke = {"frame": 0, "points": line, "size": 26, "hardness": 1.0}
    lent = {"plate": 0, "touch": {**stroke, "lends": 7}}
    by_frame, _ = patched(spoiled, tmp_path, touches=[lent])
    for number in (1, 4):
        miss = by_frame[number][0][42:54, 62:88].astype(float) - clean.pictures[number][0][42:54, 62:88]
        assert abs(miss.mean()) < 1.5 and miss.std() < 3
    beside, _ = patched(spoiled, tmp_path, touches=[{"plate": 0, "touch": {**stroke, "down": -24}}])
    # Two grains differ; the picture is that of the rows above.
    assert abs(float(beside[4][0][44:52, 64:86].mean()) - float(spoiled.pictures[4][0][20:28, 64:86].mean())) < 4
    back, _ = patched(spoiled, tmp_path, touches=[lent, {"plate": 0, "touch": {**stroke, "mode": "original"}}])
    assert back[4][0][44:52, 64:86].mean() > 200
    assert {p: p.stat().st_mtime_ns for p in tmp_path.iterdir()} == files, "no analysis was made anew"
    assert plan.touches == ()
    # A frame outside the shot lends nothing.
    stranger, _ = patched(spoiled, tmp_path, touches=[{"plate": 0, "touch": {**stroke, "lends": 40}}])
    assert stranger[4][0][44:52, 64:86].mean() > 200


@pytest.mark.slow
def test_strokes_on_what_is_unknown_are_told_of(tmp_path: Path) -> None:
    """A part of the region that no frame shows is left, until it is painted; the proof allows for just that."""
    _, spoiled = still_scene()
    hidden = box_region(60, 40, 20, 14)
    recipe = Recipe(steps=(Step(kind="plate-patch", region=box_region(54, 34, 42, 28), hold_out=None, settings={"also": False}),))
    span = Span.of(spoiled, 0, 8)
    outside = Outside(recipe.steps[0].acts_in, hidden)
    plan = analyse(span, PlatePatchSettings(also=False), None, outside)
    assert plan.figures["unknown"][0] > 0.1
    size = len(plan.touched_in()[0][0])
    touch = {"plate": 0, "touch": {"frame": 0, "points": [[70, 47]], "size": 30, "hardness": 1.0, "across": 0, "down": -20}}
    painted = plan.with_touches(PlatePatchSettings.model_validate({"touches": [touch]}))
    assert len(painted.touched_in()[0][0]) > size
    frames = list(painted.apply(spoiled, 0, 8).frames(0, 8))
    changed = np.flatnonzero(frames[0].planes[0].ravel() != spoiled.pictures[0][0].ravel())
    assert np.isin(changed, painted.touched_in()[0][0]).all()


@pytest.mark.slow
@pytest.mark.parametrize(("front", "level"), [("darker", 20), ("lighter", 234)])
@pytest.mark.parametrize("name", with_sweep(["chelsea"], ["coffee", "astronaut"]))
def test_what_passes_in_front_stays_there(name: str, front: str, level: int, tmp_path: Path) -> None:
    """Someone before a spoiled place: the patch keeps behind; without being asked it covers all."""
    clean = still(panned(name, 2, size=(320, 192)), 16)
    clean = clean.over(noisy(clean.pictures, 1.0, 4))
    passed = [tuple(p.copy() for p in planes) for planes in clean.pictures]
    for n, (luma, cb, cr) in enumerate(passed[4:12]):
        x = 40 + 24 * n
        luma[30:192, x : x + 26] = level
        cb[15:96, x // 2 : x // 2 + 13] = cr[15:96, x // 2 : x // 2 + 13] = 126
    spoiled = [tuple(p.copy() for p in planes) for planes in passed]
    for n, (luma, _, _) in enumerate(spoiled[:3]):
        luma[84:110, 120 : 150 + n] = 45 if front == "lighter" else 215
    source, truth = clean.over(spoiled), clean.over(passed)
    recipe = {"region": box_region(96, 66, 92, 62), "kind": "plate-patch"}

    def made(**settings: Any) -> list[np.ndarray]:
        own = Recipe(steps=(Step(**recipe, settings=settings),))
        known = Analyses(tmp_path, "test", 0, 16).make(own, source, lambda: None)  # type: ignore[arg-type, return-value]
        return [f.planes[0] for f in chain(source, known, 0, 16).frames(0, 16)]

    kept, covered = made(front=front), made()

    def miss(frames: list[np.ndarray], number: int) -> float:
        part = np.s_[70:124, 100:184]
        return float(np.abs(frames[number][part].astype(float) - truth.pictures[number][0][part]).mean())

    for number in (7, 8, 9):
        assert miss(kept, number) < 0.35 * miss(covered, number), number
        assert miss(kept, number) < 6, number
    assert miss(kept, 1) < 4, "what was to go is gone"
