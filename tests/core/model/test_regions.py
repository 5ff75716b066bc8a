"""Regions: what is drawn is what is masked; over time, grown, softened, taken away, ridden along and read from pictures."""

from __future__ import annotations

import numpy as np
import pytest
from pydantic import ValidationError
from skimage.draw import ellipse as reference_ellipse
from skimage.draw import polygon as reference_polygon

from nimbus_sweep.core.base.errors import SweepError
from nimbus_sweep.core.model.mask_pictures import from_picture, to_picture
from nimbus_sweep.core.model.regions import Key, Part, Region
from nimbus_sweep.core.model.shapes import Corner, Ellipse, Outline, Picture, Stroke

SIZE = (90, 120)


def fixed(shape: Ellipse | Outline | Stroke | Picture, takes: bool = False, track: str = "") -> Part:
    return Part(keys=(Key(frame=0, shape=shape),), takes=takes, track=track)


def region(*parts: Part, **more: object) -> Region:
    return Region.model_validate({"parts": parts, **more})


def test_an_ellipse_is_the_reference_librarys() -> None:
    # scikit-image's drawing of the same ellipse.
    mask = region(fixed(Ellipse(x=60, y=45, across=30, down=15))).mask(SIZE)
    expected = np.zeros(SIZE, bool)
    expected[reference_ellipse(45, 60, 15, 30)] = True
    assert np.mean((mask > 0.5) != expected) < 0.01
    turned = region(fixed(Ellipse(x=60, y=45, across=30, down=15, turn=90))).mask(SIZE)
    assert turned[45 + 28, 60] > 0.9
    assert turned[45, 60 + 28] < 0.1


def test_a_straight_outline_is_the_reference_librarys() -> None:
    corners = [(20, 15), (95, 25), (80, 75), (30, 60)]
    mask = region(fixed(Outline(corners=tuple(Corner(x=x, y=y) for x, y in corners)))).mask(SIZE)
    expected = np.zeros(SIZE, bool)
    expected[reference_polygon([y for _, y in corners], [x for x, _ in corners])] = True
    assert np.mean((mask > 0.5) != expected) < 0.015


def test_curved_sides_run_through_their_corners_and_bulge() -> None:
    square = [(40, 25), (80, 25), (80, 65), (40, 65)]
    straight = Outline(corners=tuple(Corner(x=x, y=y) for x, y in square))
    curved = Outline(corners=tuple(Corner(x=x, y=y, curved=True) for x, y in square))
    for x, y in square:
        assert np.hypot(*(curved.line() - [x, y]).T).min() < 1e-6
    areas = [region(fixed(o)).mask(SIZE).sum() for o in (straight, curved)]
    assert areas[1] > 1.1 * areas[0]


def test_paint_has_the_brushs_width_and_hardness() -> None:
    points = ((20.0, 45.0), (100.0, 45.0))
    hard = region(fixed(Stroke(points=points, size=10))).mask(SIZE)
    assert (hard[:, 60] > 0.5).sum() == pytest.approx(10, abs=1.5)
    soft = region(fixed(Stroke(points=points, size=10, hardness=0))).mask(SIZE)
    assert ((soft[:, 60] > 0.05) & (soft[:, 60] < 0.95)).sum() > 6
    dot = region(fixed(Stroke(points=((60.0, 45.0),), size=20))).mask(SIZE)
    assert (dot > 0.5).sum() == pytest.approx(np.pi * 100, rel=0.1)


def test_parts_are_added_and_taken_in_turn() -> None:
    big, hole = Ellipse(x=60, y=45, across=40, down=40), Ellipse(x=60, y=45, across=10, down=10)
    mask = region(fixed(big), fixed(hole, takes=True)).mask(SIZE)
    assert mask[45, 60] == 0
    assert mask[45, 85] == 1
    painted_back = region(fixed(big), fixed(hole, takes=True), fixed(Stroke(points=((60.0, 45.0),), size=8))).mask(SIZE)
    assert painted_back[45, 60] == 1
    assert np.allclose(region(fixed(big), invert=True).mask(SIZE), 1 - region(fixed(big)).mask(SIZE))


def test_growing_goes_by_single_pixels_and_feathering_keeps_the_edge() -> None:
    shape = fixed(Ellipse(x=60, y=45, across=20, down=20))
    widths = [(region(shape, grow=n).mask(SIZE)[45] > 0.5).sum() for n in (-2, -1, 0, 1, 2)]
    assert np.diff(widths).tolist() == [2, 2, 2, 2]
    soft = region(shape, feather=12).mask(SIZE)
    assert (soft[45] > 0.5).sum() == pytest.approx(widths[2], abs=2)
    assert ((soft[45] > 0.02) & (soft[45] < 0.98)).sum() > 14


def test_keys_are_blended_between_and_hold_outside() -> None:
    part = fixed(Ellipse(x=20, y=45, across=8, down=8)).keyed(10, Ellipse(x=80, y=45, across=16, down=8))
    assert [k.frame for k in part.keys] == [0, 10]
    middle = part.at(5)
    assert isinstance(middle, Ellipse)
    assert (middle.x, middle.across) == (50, 12)
    assert part.at(99) == part.keys[1].shape
    # An outline with another number of corners still goes over smoothly.
    one = Outline(corners=(Corner(x=20, y=20), Corner(x=60, y=20), Corner(x=60, y=60), Corner(x=20, y=60)))
    two = Outline(corners=(Corner(x=50, y=20), Corner(x=90, y=20), Corner(x=90, y=60), Corner(x=70, y=66), Corner(x=50, y=60)))
    between = region(Part(keys=(Key(frame=0, shape=one), Key(frame=4, shape=two)))).mask(SIZE, 2)
    cols = np.nonzero(between > 0.5)[1]
    assert cols.mean() == pytest.approx(55, abs=3)
    assert (between > 0.5).sum() == pytest.approx(1600, rel=0.12)
    with pytest.raises(ValidationError, match="one kind"):
        Part(keys=(Key(frame=0, shape=one), Key(frame=4, shape=Ellipse(x=1, y=1, across=1, down=1))))
    with pytest.raises(ValidationError, match="in order"):
        Part(keys=(Key(frame=4, shape=one), Key(frame=0, shape=two)))


def test_a_region_rides_on_its_track() -> None:
    riding = region(fixed(Ellipse(x=30, y=30, across=10, down=10), track="wall"))
    assert riding.changes
    move = np.array([[1, 0, 40], [0, 1, 20], [0, 0, 1.0]])
    mask = riding.mask(SIZE, 3, {"wall": move})
    assert mask[50, 70] == 1
    assert mask[30, 30] == 0
    with pytest.raises(SweepError, match="track called 'wall'"):
        riding.mask(SIZE)


@pytest.mark.parametrize("shape", [Ellipse(x=-500, y=4000, across=9, down=9), Stroke(points=((1e6, -1e6),), size=40)])
def test_off_the_picture_nothing_is_marked(shape: Ellipse | Stroke) -> None:
    assert region(fixed(shape)).mask(SIZE).max() == 0
    assert Region().mask(SIZE).max() == 0
    assert Region(invert=True).mask(SIZE).min() == 1


def test_a_region_goes_through_json() -> None:
    whole = region(
        fixed(Picture.of(np.eye(40, 60, dtype=np.float32))),
        fixed(Outline(corners=(Corner(x=1, y=1), Corner(x=9, y=1, curved=True), Corner(x=5, y=9))), takes=True),
        grow=3,
        feather=2.5,
    )
    again = Region.model_validate_json(whole.model_dump_json())
    assert again == whole
    assert np.array_equal(again.mask(SIZE), whole.mask(SIZE))
    with pytest.raises(ValidationError, match="unpacked"):
        Picture(width=4, height=4, levels="rubbish!")


def test_masks_come_from_alpha_and_go_back() -> None:
    drawn = region(fixed(Ellipse(x=60, y=45, across=30, down=15)), feather=6).mask(SIZE)
    picture, warnings = from_picture(to_picture(drawn), SIZE)
    assert warnings == []
    assert np.abs(picture.mask() - drawn).max() <= 0.5 / 255 + 1e-6


def test_masks_come_from_a_vivid_colour() -> None:
    pixels = np.full((180, 240, 3), 120, np.uint8)
    pixels[60:120, 80:160] = (230, 20, 40)
    picture, warnings = from_picture(pixels, SIZE)
    assert len(warnings) == 1
    assert "240 x 180 and was scaled" in warnings[0]
    found = picture.mask() > 0.5
    assert found[31:59, 41:79].all()
    assert found.sum() == pytest.approx(30 * 40, rel=0.05)
    trimmed, _ = from_picture(pixels, SIZE, trim=6)
    assert (trimmed.mask() > 0.5).sum() == pytest.approx(24 * 34, rel=0.1)
    named, _ = from_picture(pixels, SIZE, colour=(230, 20, 40), tolerance=5)
    assert (named.mask() > 0.5).sum() == pytest.approx(30 * 40, rel=0.05)


@pytest.mark.parametrize(
    ("pixels", "said"),
    [
        (np.zeros((100, 100, 3), np.uint8), "not the same shape"),
        (np.full((90, 120, 3), 90, np.uint8), "neither transparency nor a vivid colour"),
        (np.dstack([np.full((90, 120, 3), 255, np.uint8), np.zeros((90, 120), np.uint8)]), "is empty"),
    ],
)
def test_a_useless_mask_is_refused_in_words(pixels: np.ndarray, said: str) -> None:
    with pytest.raises(SweepError, match=said):
        from_picture(pixels, SIZE)


def test_its_lines_run_along_its_edge() -> None:
    shape = Outline(corners=tuple(Corner(x=x, y=y) for x, y in [(19.5, 14.5), (60.5, 14.5), (60.5, 40.5), (19.5, 40.5)]))
    lines = region(fixed(shape)).lines(SIZE)
    assert len(lines) == 1
    for point in lines[0]:
        assert min(abs(point[0] - 19.5), abs(point[0] - 60.5)) <= 0.5
        assert min(abs(point[1] - 14.5), abs(point[1] - 40.5)) <= 0.5
    # A hole has a line of its own; nothing has none.
    ring = region(fixed(shape), fixed(Ellipse(x=40, y=28, across=8, down=6), takes=True))
    assert len(ring.lines(SIZE)) == 2
    assert region().lines(SIZE) == []


def test_a_shape_with_keys_is_changed_where_one_stands() -> None:
    part = fixed(Ellipse(x=10, y=10, across=5, down=5))
    moved = part.reshaped(30, Ellipse(x=40, y=10, across=5, down=5))
    assert [k.frame for k in moved.keys] == [0], "a shape of one key is changed altogether"
    keyed = part.keyed(20, part.at(20)).reshaped(20, Ellipse(x=50, y=10, across=5, down=5))
    assert keyed.at(0).x == 10
    assert keyed.at(10).x == 30
    assert keyed.unkeyed(20).at(20).x == 10
    assert len(part.unkeyed(0).keys) == 1, "the last key stays"


def test_a_region_is_carried_to_another_shot_and_size() -> None:
    stroke = Stroke(points=((20, 20), (80, 60)), size=10, hardness=1)
    drawn = region(fixed(Ellipse(x=60, y=45, across=30, down=15)).keyed(8, Ellipse(x=70, y=45, across=30, down=15)), fixed(stroke), grow=2)
    carried = drawn.carried_to(100, 2, 2)
    assert [k.frame for k in carried.parts[0].keys] == [100, 108]
    large = carried.mask((180, 240), 104)
    # Made small again it is the region itself, but for its edge.
    again = large.reshape(90, 2, 120, 2).mean((1, 3))
    assert np.mean(np.abs(again - drawn.mask(SIZE, 4)) > 0.5) < 0.01
    early = drawn.carried_to(-5)
    assert [k.frame for k in early.parts[0].keys] == [0, 3]
