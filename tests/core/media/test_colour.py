"""Colour against the published standards and against the media library's own conversion."""

from __future__ import annotations

import numpy as np
import pytest

from benchmarks.material import clip
from nimbus_sweep.core.defects.stuck_pixels.detect import colour_name
from nimbus_sweep.core.media.colour import from_rgb, luma_weights, to_rgb
from nimbus_sweep.core.media.frames import Colour, Frame
from nimbus_sweep.core.media.layout import picture_format
from nimbus_sweep.core.media.view import to_bgr

HD = picture_format("yuv420p", 1920, 1080)


@pytest.mark.parametrize(
    ("matrix", "weights"),
    [
        (1, (0.2126, 0.7152, 0.0722)),  # ITU-R BT.709-6, item 3.2
        (6, (0.299, 0.587, 0.114)),  # ITU-R BT.601-7, item 2.5.1
        (9, (0.2627, 0.6780, 0.0593)),  # ITU-R BT.2020-2, table 4
    ],
)
def test_luma_weights(matrix: int, weights: tuple[float, float, float]) -> None:
    assert luma_weights(Colour(matrix=matrix), 1080) == pytest.approx(weights, abs=1e-9)


def test_an_unnamed_matrix_goes_by_size() -> None:
    # Common practice, no source: BT.601 below 720 lines.
    assert luma_weights(Colour(), 576)[0] == 0.299
    assert luma_weights(Colour(), 720)[0] == 0.2126


# Values of 100 % colour bars in 8-bit BT.709, limited range: computed from item 3 of ITU-R BT.709-6.
BARS = {"white": (235, 128, 128), "red": (63, 102, 240), "green": (173, 42, 26), "blue": (32, 240, 118), "black": (16, 128, 128)}
RGB = {"white": (255, 255, 255), "red": (255, 0, 0), "green": (0, 255, 0), "blue": (0, 0, 255), "black": (0, 0, 0)}


@pytest.mark.parametrize("name", list(BARS))
def test_colour_bars(name: str) -> None:
    assert to_rgb(BARS[name], HD, Colour(matrix=1)) == pytest.approx(RGB[name], abs=1.2)
    assert from_rgb(np.array(RGB[name], float), HD, Colour(matrix=1)) == pytest.approx(BARS[name], abs=0.5)


@pytest.mark.parametrize("full", [False, True])
def test_there_and_back(full: bool) -> None:
    colour = Colour(matrix=1, full_range=full)
    for rgb in np.random.default_rng(1).uniform(0, 255, (40, 3)):
        assert to_rgb(from_rgb(rgb, HD, colour), HD, colour) == pytest.approx(rgb)
        assert to_rgb(from_rgb(rgb, HD, colour, True), HD, colour, True) == pytest.approx(rgb)


def test_pictures_to_look_at_agree_with_the_formula() -> None:
    # The media library's conversion, held against the standard's: a flat patch of each colour.
    for name, values in BARS.items():
        layout = picture_format("yuv420p", 64, 48)
        planes = tuple(np.full(shape, v, np.uint8) for shape, v in zip(layout.plane_shapes, values, strict=True))
        picture = to_bgr(Frame(0, planes, layout, Colour(matrix=1)))
        assert picture[24, 32, ::-1] == pytest.approx(RGB[name], abs=2)


def test_a_part_of_a_frame_looks_like_the_frame() -> None:
    frame = clip("bikes-3").frame(4)
    whole = to_bgr(frame)
    part = to_bgr(frame.part(64, 48, 192, 112))
    assert np.abs(part[8:-8, 8:-8].astype(int) - whole[56:104, 72:184]).max() <= 1


@pytest.mark.parametrize(
    ("change", "name"),
    [
        ((200, 5, -3), "red"),
        ((0, 150, 4), "green"),
        ((-8, 3, 90), "blue"),
        ((80, 90, 85), "white"),
        ((-70, -80, -90), "black"),
        ((90, 88, 2), "yellow"),
    ],
)
def test_names_of_departures(change: tuple[float, float, float], name: str) -> None:
    assert colour_name(np.array(change, float)) == name
