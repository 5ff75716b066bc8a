"""Brush strokes: what they put down and where, exactly; in order, undone in any order, at the edges, many of them."""

from __future__ import annotations

from functools import lru_cache

import cv2
import numpy as np
import pytest
from pydantic import ValidationError

from benchmarks.light import source_of
from benchmarks.material import MemorySource, clip, noisy, panned, still
from nimbus_sweep.core.media.frames import Frame
from nimbus_sweep.core.media.layout import picture_format
from nimbus_sweep.core.model.recipes import Step
from nimbus_sweep.core.pipeline.analyses import analysis_key, chain
from nimbus_sweep.core.tools.retouch import RetouchPlan, RetouchSettings, Touch, analyse, repeated

LONG = 16


@lru_cache(maxsize=4)
def scene(name: str) -> MemorySource:
    return source_of(name, 1, LONG)


def plan_of(source: MemorySource, *touches: Touch) -> RetouchPlan:
    return analyse(source, RetouchSettings()).with_strokes(RetouchSettings(strokes=touches))


def retouched(source: MemorySource, *touches: Touch, number: int = 5) -> Frame:
    return plan_of(source, *touches).apply(source, 0, len(source)).frame(number)


def dab(**more: object) -> Touch:
    usual = {"frame": 5, "points": ((200.0, 120.0), (230.0, 130.0)), "size": 24.0, "hardness": 1.0, "across": 40.0, "down": -12.0}
    return Touch.model_validate({**usual, **more})


def test_a_copy_from_beside_is_exact_and_nothing_else_changes() -> None:
    source = scene("bunny-near")
    frame = retouched(source, dab())
    own, made = source.pictures[5][0], frame.planes[0]
    touched = plan_of(source, dab()).touched_in()[5][0]
    changed = np.flatnonzero(own.ravel() != made.ravel())
    assert set(changed) <= set(touched)
    middle = np.s_[120:128, 206:224]
    assert (made[middle] == own[108:116, 246:264]).all()
    for other in (4, 6):
        assert (retouched(source, dab(), number=other).planes[0] == source.pictures[other][0]).all()


def test_strength_and_hardness_make_it_softer() -> None:
    source = scene("bunny-near")
    own = source.pictures[5][0].astype(float)
    full, half = (retouched(source, dab(strength=s)).planes[0].astype(float) - own for s in (1.0, 0.5))
    heart = np.s_[120:128, 206:224]
    assert half[heart] == pytest.approx(full[heart] / 2, abs=1)
    hard, soft = (plan_of(source, dab(hardness=h)).touched_in()[5][0].size for h in (1.0, 0.0))
    assert soft > hard


def test_the_neighbour_is_laid_on_along_the_motion() -> None:
    """A hole in one frame of a moving photograph is revealed from the next, which has moved by whole and part pixels."""
    truth = list(panned("coffee", 12, seed=2).pictures)
    own = truth[5][0].astype(float)
    spoiled = [tuple(p.copy() for p in t) for t in truth]
    spoiled[5][0][150:170, 300:320] = 235
    source = panned("coffee", 12, seed=2).over(spoiled)
    touch = dab(points=((310.0, 160.0),), size=46.0, lends=6, aligned=True, across=0.0, down=0.0)
    made = retouched(source, touch).planes[0].astype(float)
    error = np.sqrt(((made - own)[150:170, 300:320] ** 2).mean())
    assert error < 3
    loose = retouched(source, touch.model_copy(update={"aligned": False})).planes[0].astype(float)
    assert np.sqrt(((loose - own)[150:170, 300:320] ** 2).mean()) > 3 * error
    nudged = retouched(source, touch.model_copy(update={"across": 6.0})).planes[0].astype(float)
    assert np.sqrt(((nudged - own)[150:170, 300:320] ** 2).mean()) > 2 * error


def test_a_blend_takes_texture_and_not_brightness() -> None:
    ramp = np.broadcast_to(np.linspace(60, 180, 640), (360, 640))
    base = still(clip("bunny-near"), 3)
    flat = [(np.rint(ramp).astype(np.uint8), np.full((180, 320), 128, np.uint8), np.full((180, 320), 128, np.uint8))] * 3
    source = base.over(noisy(flat, 3.0, 7))
    spot = [tuple(p.copy() for p in t) for t in source.pictures]
    cv2.circle(spot[1][0], (200, 180), 8, 20, -1)
    dirty = base.over(spot)
    touch = dab(frame=1, points=((200.0, 180.0),), size=30.0, across=150.0, down=0.0)
    plain, blended = (retouched(dirty, touch.model_copy(update={"mode": m}), number=1).planes[0].astype(float) for m in ("copy", "blend"))
    here = np.s_[174:187, 194:207]
    level = ramp[here].mean()
    assert abs(plain[here].mean() - level) > 20, "it brings the brightness of where it is from"
    assert abs(blended[here].mean() - level) < 2
    grain = blended[here] - cv2.GaussianBlur(blended, (0, 0), 3)[here]
    usual = (source.pictures[1][0].astype(float) - cv2.GaussianBlur(source.pictures[1][0].astype(float), (0, 0), 3))[40:80, 180:220]
    assert grain.std() == pytest.approx(usual.std(), rel=0.25)


def test_the_original_comes_back_through_the_steps_before() -> None:
    source = scene("bunny-near")
    first = plan_of(source, dab())
    second = plan_of(source, dab(mode="original", size=80.0, across=0.0, down=0.0))
    both = chain(source, [first, second], 0, LONG).frame(5)
    assert (both.planes[0] == source.pictures[5][0]).all()
    assert (both.planes[1] == source.pictures[5][1]).all()


def test_strokes_go_on_in_order_and_come_off_in_any() -> None:
    source = scene("bunny-near")
    one, two, three = dab(), dab(across=-60.0), dab(points=((400.0, 60.0),), across=30.0, down=30.0)
    whole = retouched(source, one, two, three).planes[0]
    assert (whole != retouched(source, two, one, three).planes[0]).any(), "each over what the ones before left"
    assert (retouched(source, one, three).planes[0][:100, 350:450] == whole[:100, 350:450]).all()
    assert (retouched(source).planes[0] == source.pictures[5][0]).all()


@pytest.mark.parametrize("points", [((-500.0, -500.0),), ((5_000.0, 20.0), (6_000.0, 30.0))])
def test_a_brush_off_the_picture_does_nothing(points: tuple[tuple[float, float], ...]) -> None:
    source = scene("bunny-near")
    touch = dab(points=points)
    assert touch.place(source.format) is None
    assert not plan_of(source, touch).touched_in()[5][0].size
    assert (retouched(source, touch).planes[0] == source.pictures[5][0]).all()


def test_a_brush_over_the_edge_is_cut_by_it() -> None:
    source = scene("bunny-near")
    made = retouched(source, dab(points=((2.0, 2.0), (-40.0, -40.0)), across=300.0, down=100.0)).planes[0]
    assert (made[:4, :4] == source.pictures[5][0][100:104, 300:304]).all()


def test_another_shots_frame_is_never_taken_from() -> None:
    source = scene("bunny-near")
    plan = plan_of(source, dab(lends=12, across=0.0, down=0.0))
    assert (plan.apply(source, 0, 10).frame(5).planes[0] == source.pictures[5][0]).all()
    assert (plan.apply(source, 0, 13).frame(5).planes[0] != source.pictures[5][0]).any()
    assert (plan.apply(source, 6, 13).frame(5).planes[0] == source.pictures[5][0]).all(), "nor is a frame outside touched"


def test_a_stroke_is_repeated_along_the_motion() -> None:
    source = panned("astronaut", 12, seed=4)
    frames = [source.frame(n) for n in range(12)]
    touch = dab(frame=2, points=((320.0, 180.0),), size=40.0)
    made = repeated(touch, frames[3:7], frames[2])
    assert [t.frame for t in made] == [3, 4, 5, 6]
    # Where it is told to lie shows what lay under it: no other place within reach fits as well.
    patch = frames[2].planes[0][160:200, 300:340]
    for told in made:
        x, y = told.points[0]
        _, _, _, best = cv2.minMaxLoc(cv2.matchTemplate(frames[told.frame].planes[0], patch, cv2.TM_CCOEFF_NORMED))
        assert np.hypot(x - best[0] - 20, y - best[1] - 20) < 3
    away = repeated(dab(frame=2, lends=3), frames[3:5], frames[2])
    assert [t.lends for t in away] == [4, 5]


def test_it_is_the_same_at_ten_bits_and_in_red_green_and_blue() -> None:
    for name in ("yuv422p10le", "gbrp10le"):
        layout = picture_format(name, 320, 180)
        rng = np.random.default_rng(3)
        planes = tuple(rng.integers(200, 800, shape).astype(layout.dtype) for shape in layout.plane_shapes)
        frame = Frame(0, planes, layout)
        plan = RetouchPlan(layout).with_strokes(RetouchSettings(strokes=(dab(frame=0, points=((100.0, 90.0),), across=60.0, down=20.0),)))
        made = plan.mend(frame, lambda _n, frame=frame: frame, range(1))
        for i in range(len(layout.components)):
            across, down = layout.subsampling(i)
            here = np.s_[86 // down : 94 // down, 96 // across : 104 // across]
            there = np.s_[106 // down : 114 // down, 156 // across : 164 // across]
            assert (made.component(i)[here] == frame.component(i)[there]).all()


@pytest.mark.slow
def test_ten_thousand_strokes_are_kept_and_put_on() -> None:
    source = scene("bunny-near")
    rng = np.random.default_rng(1)
    touches = tuple(
        dab(frame=int(n % LONG), points=tuple((float(x), float(y)) for x, y in rng.uniform(0, 600, (6, 2)) * [1, 0.5]))
        for n in range(10_000)
    )
    plan = analyse(source, RetouchSettings()).with_strokes(RetouchSettings.model_construct(strokes=touches, book=0))
    assert sum(len(t) for t in plan.by_frame.values()) == 10_000
    assert (plan.apply(source, 0, LONG).frame(5).planes[0] != source.pictures[5][0]).mean() > 0.3


def test_strokes_do_not_make_other_analyses_old() -> None:
    before, behind = Step(kind="retouch"), Step(kind="retouch", settings={"strokes": [dab().model_dump(mode="json")]})
    assert analysis_key("x", 0, 9, [before]) == analysis_key("x", 0, 9, [behind])
    later = Step(kind="lend-grain")
    assert analysis_key("x", 0, 9, [before, later]) == analysis_key("x", 0, 9, [behind, later])


@pytest.mark.parametrize(
    "wrong", [{"size": 0}, {"points": ()}, {"strength": 0.0}, {"mode": "smear"}, {"frame": -1}, {"across": float("nan")}]
)
def test_a_wrong_stroke_is_refused(wrong: dict[str, object]) -> None:
    with pytest.raises(ValidationError):
        dab(**wrong)
