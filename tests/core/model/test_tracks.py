"""Tracks as they are kept: packed, put right, followed on from, ridden on by regions, and part of what analyses depend on."""

from __future__ import annotations

import base64
import zlib

import numpy as np
import pytest
from pydantic import ValidationError

from benchmarks.material import MemorySource, drifting, panned
from nimbus_sweep.core.base.errors import SweepError
from nimbus_sweep.core.model.planes import State, moved
from nimbus_sweep.core.model.recipes import Recipe, Step
from nimbus_sweep.core.model.regions import Key, Part, Region, box_region
from nimbus_sweep.core.model.shapes import Ellipse, Stroke
from nimbus_sweep.core.model.tracks import Riding, Track, TrackSummary
from nimbus_sweep.core.pipeline.analyses import analysis_key
from nimbus_sweep.core.pipeline.tracking import follow

SIZE = (96, 128)


@pytest.fixture(scope="module")
def pan() -> MemorySource:
    return drifting(panned("coffee", 2, size=(320, 240)), 16, across=2.0)


@pytest.fixture(scope="module")
def track(pan: MemorySource) -> Track:
    layout = pan.format
    drawn = Track(name="wall", model="translation", reference=6, region=box_region(80, 60, 90, 90), size=(layout.height, layout.width))
    back = drawn.with_path(follow(pan, drawn, 6, range(6, -1, -1)))
    return back.with_path(follow(pan, back, 6, range(6, 16)))


def test_both_ways_join_to_one_path(track: Track) -> None:
    assert track.first == 0
    assert track.summary() == TrackSummary(16, 16, pytest.approx(0, abs=0.3))
    for n in range(16):
        # The window slides by two pixels a frame, so the scene goes the other way.
        assert track.way(n)[:2, 2] == pytest.approx([-2.0 * (n - 6), 0], abs=0.08)


def test_it_comes_back_from_json_the_same(track: Track) -> None:
    again = Track.model_validate_json(track.model_dump_json())
    assert again == track
    assert np.array_equal(again.way(3), track.way(3))
    with pytest.raises(ValidationError, match="cut short"):
        Track.model_validate({**track.model_dump(), "path": base64.b64encode(zlib.compress(b"short")).decode()})
    with pytest.raises(ValidationError, match="unpacked"):
        Track.model_validate({**track.model_dump(), "path": "not a path"})


def test_a_track_that_was_not_followed_says_so() -> None:
    with pytest.raises(SweepError, match="not been followed"):
        Track(name="a", reference=0, region=box_region(1, 1, 9, 9), size=SIZE).way(0)


def test_corners_put_right_stay_when_it_is_followed_on(track: Track, pan: MemorySource) -> None:
    wanted = moved(track.corners(), track.way(8)) + np.array([3.0, -2.0])
    put = track.adjusted(8, wanted)
    assert moved(put.corners(), put.way(8)) == pytest.approx(wanted, abs=2e-3)
    assert moved(put.corners(), put.way(12)) == pytest.approx(moved(track.corners(), track.way(12)) + np.array([3.0, -2.0]), abs=2e-3)
    assert put.unnudged(8).way(8) == pytest.approx(track.way(8))
    resolved = put.settled_to(8)
    assert resolved.nudges == ()
    assert resolved.way(8) == pytest.approx(put.way(8), abs=2e-3)
    on = resolved.with_path(follow(pan, resolved, 8, range(8, 16)))
    assert on.way(15)[:2, 2] == pytest.approx([-18 + 3, -2], abs=0.15), "it goes on from where it was put"
    assert on.way(2) == pytest.approx(resolved.way(2))


def test_its_shape_can_be_changed_on_the_way(track: Track) -> None:
    wider = track.model_copy(update={"region": box_region(20, 30, 200, 150)})
    for n in (0, 6, 15):
        assert wider.way(n) == pytest.approx(track.way(n))
    assert wider.unfollowed().corners() != pytest.approx(track.corners())


def test_a_hold_out_may_ride_on_any_track(track: Track, pan: MemorySource) -> None:
    held = Region(parts=(Part(keys=box_region(100, 80, 20, 20).parts[0].keys, track="wall"),))
    size = (pan.format.height, pan.format.width)
    other = Track(name="other", model="translation", reference=0, region=box_region(60, 50, 110, 110), hold_out=held, size=size)
    assert follow(pan, other, 0, range(4), [], [other, track]).matrices[3][:2, 2] == pytest.approx([-6, 0], abs=0.1)
    with pytest.raises(SweepError, match="not there"):
        follow(pan, other, 0, range(4), [], [other])


@pytest.mark.slow
def test_what_a_track_above_covers_is_kept_out(pan: MemorySource) -> None:
    layout = pan.format
    # A block that goes its own way over most of the plane's right half.
    pictures = []
    for n, (luma, cb, cr) in enumerate(pan.pictures):
        luma = luma.copy()
        luma[70:150, 120 + 3 * n - 20 : 170 + 3 * n - 20] = (np.indices((80, 50)).sum(0) % 17 * 13 + 20).astype(np.uint8)
        pictures.append((luma, cb, cr))
    source = pan.over(pictures)
    size = (layout.height, layout.width)
    block = Track(name="block", model="translation", reference=0, region=box_region(100, 70, 49, 79), size=size)
    block = block.with_path(follow(source, block, 0, range(16)))
    assert block.way(10)[:2, 2] == pytest.approx([30, 0], abs=0.2)
    wall = Track(name="wall", model="similarity", reference=0, region=box_region(60, 60, 110, 100), size=size)
    with_it = wall.with_path(follow(source, wall, 0, range(16), [Riding(block.ridden(), (block,))]))
    assert with_it.way(15)[:2, 2] == pytest.approx([-30, 0], abs=1.5)
    assert (with_it.followed().states <= State.WEAK).all()  # type: ignore[union-attr]


@pytest.mark.slow
def test_where_a_step_above_puts_something_else_is_kept_out(pan: MemorySource, track: Track) -> None:
    """A burn that is filled, and a patch that rides elsewhere; not what rides on the track itself, nor what would leave nothing."""
    other = track.model_copy(update={"name": "other"})
    riding = {
        "parts": [{"keys": [{"frame": 0, "shape": {"kind": "ellipse", "x": 90, "y": 90, "across": 9, "down": 9}}], "track": other.name}]
    }
    recipe = Recipe(
        steps=(
            Step(kind="borrow-fill", region=box_region(100, 70, 30, 30)),
            Step(kind="plate-patch", region=Region.model_validate(riding)),
            Step(kind="speck-sweep", region=box_region(0, 0, 300, 200)),
            Step(kind="region-median", region=box_region(0, 0, 20, 20), on=False),
        ),
        tracks=(other, track),
    )
    assert [name for name, _ in recipe.above(track)] == ["other", "Borrow fill", "Plate patch"]
    assert [name for name, _ in recipe.above(other)] == ["Borrow fill"]
    # A fill that moves its own way is no part of the wall's motion.
    pictures = []
    for n, (luma, cb, cr) in enumerate(pan.pictures):
        luma = luma.copy()
        luma[70:150, 100 + 3 * n : 150 + 3 * n] = (np.indices((80, 50)).sum(0) % 17 * 13 + 20).astype(np.uint8)
        pictures.append((luma, cb, cr))
    source, size = pan.over(pictures), (pan.format.height, pan.format.width)
    wall = Track(name="wall", model="similarity", reference=0, region=box_region(60, 60, 110, 100), size=size)
    keys = [
        {
            "frame": f,
            "shape": {"kind": "outline", "corners": [{"x": x + 3 * f, "y": y} for x, y in ((98, 68), (152, 68), (152, 152), (98, 152))]},
        }
        for f in (0, 15)
    ]
    fill = Step(kind="borrow-fill", region=Region.model_validate({"parts": [{"keys": keys}]}))
    above = [masked for _, masked in Recipe(steps=(fill,), tracks=(wall,)).above(wall)]
    held = wall.with_path(follow(source, wall, 0, range(16), above))
    assert held.way(15)[:2, 2] == pytest.approx([-30, 0], abs=1.5)
    # What covers nearly all of the plane is not kept out: nothing would be left to follow.
    whole = Riding(box_region(50, 50, 130, 120), ())
    assert follow(pan, wall, 0, range(3), [whole]).numbers.tolist() == [0, 1, 2]


def test_regions_ride(track: Track) -> None:
    region = Region(parts=(Part(keys=(Key(frame=0, shape=Ellipse(x=100, y=80, across=10, down=10)),), track="wall"),))
    riding = Riding(region, (track,))
    assert riding.changes
    for n in (0, 6, 15):
        rows, cols = np.nonzero(riding.mask((200, 240), n) > 0.5)
        assert (cols.mean(), rows.mean()) == pytest.approx((100 - 2 * (n - 6), 80), abs=0.3)
    with pytest.raises(SweepError, match="rides on a track called 'wall'"):
        Riding(region, ()).mask((200, 240), 0)


def test_paint_grows_with_its_plane() -> None:
    stroke = Stroke(points=((50.0, 50.0),), size=20)
    mask = np.zeros((200, 200), np.float32)
    stroke.paint(mask, np.diag([2.0, 2.0, 1.0]))
    assert mask.sum() == pytest.approx(np.pi * 20**2, rel=0.05)
    assert stroke.transformed(np.diag([2.0, 2.0, 1.0])).size == pytest.approx(40)


def test_recipes_carry_tracks_and_analyses_depend_on_them(track: Track) -> None:
    region = Region(parts=(Part(keys=box_region(80, 60, 40, 40).parts[0].keys, track="wall"),))
    recipe = Recipe(steps=(Step(kind="plate-patch", region=region), Step(kind="pixel-mend")), tracks=(track,))
    again = Recipe.model_validate_json(recipe.model_dump_json())
    assert again.tracks == (track,)
    key = analysis_key("f", 0, 16, recipe.active[:1])
    put = recipe.with_tracks((track.adjusted(8, moved(track.corners(), track.way(8)) + 1.0),))
    assert analysis_key("f", 0, 16, put.active[:1]) != key
    renamed = recipe.renamed("wall", "chart")
    assert renamed.steps[0].region.parts[0].track == "chart"  # type: ignore[union-attr]
    assert renamed.steps[0].rides_on("chart") and not renamed.steps[0].rides_on("wall")
    assert analysis_key("f", 0, 16, renamed.active[1:]) == analysis_key("f", 0, 16, recipe.active[1:])
    assert recipe.fitting(10, 30).tracks == (track,)
    with pytest.raises(SweepError, match="not been followed"):
        recipe.fitting(100, 130).tracks[0].way(100)
    with pytest.raises(ValidationError, match="same name"):
        Recipe(tracks=(track, track))
