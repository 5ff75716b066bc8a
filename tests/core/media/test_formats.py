"""Every kind of pixel format: laid out as the media library lays it out, and found and mended alike."""

from __future__ import annotations

from fractions import Fraction
from pathlib import Path

import av
import numpy as np
import pytest

from benchmarks.material import MemorySource, clip
from nimbus_sweep.core.base.errors import UnreadableReel
from nimbus_sweep.core.defects.stuck_pixels import detect as stuck_pixels
from nimbus_sweep.core.defects.stuck_pixels.repair import PixelMendSettings, Site, analyse
from nimbus_sweep.core.evidence.time_volume import build_volume
from nimbus_sweep.core.media.colour import from_rgb, to_rgb
from nimbus_sweep.core.media.formats import FORMATS
from nimbus_sweep.core.media.frames import Colour, Frame
from nimbus_sweep.core.media.layout import picture_format, planes_of, to_picture

NAMES = [
    "yuv420p",
    "yuv422p10le",
    "yuv444p",
    "yuv444p16le",
    "nv12",
    "p010le",
    "uyvy422",
    "gbrp",
    "gbrp12le",
    "rgb24",
    "bgra",
    "gray16le",
    "ya8",
]


@pytest.mark.parametrize("name", NAMES)
@pytest.mark.parametrize(("width", "height"), [(64, 32), (46, 26)])
def test_components_lie_where_the_library_puts_them(name: str, width: int, height: int) -> None:
    """A picture filled by the media library is read component by component, and comes back byte for byte."""
    layout = picture_format(name, width, height)
    picture = av.VideoFrame(width, height, name)
    rng = np.random.default_rng(7)
    for plane in picture.planes:
        view = np.frombuffer(plane, np.uint8)
        view[:] = rng.integers(0, 4 if layout.dtype == np.uint16 else 256, view.size, np.uint8)
    frame = Frame(0, planes_of(picture, layout), layout)
    back = to_picture(frame)
    for one, other in zip(planes_of(picture, layout), planes_of(back, layout), strict=True):
        assert np.array_equal(one, other)
    names = [c.name for c in layout.components]
    assert len(set(names)) == len(names)
    for i, c in enumerate(layout.components):
        assert frame.component(i).shape == (c.height, c.width)
        across, down = layout.subsampling(i)
        assert (-(-width // across), -(-height // down)) == (c.width, c.height)


def test_a_component_is_the_right_one() -> None:
    # Held against the media library: pure colours converted by it to interleaved and planar RGB.
    for name in ("rgb24", "bgr24", "rgba", "bgra", "argb", "gbrp"):
        source = av.VideoFrame.from_ndarray(np.full((8, 8, 3), (200, 30, 90), np.uint8), format="rgb24")
        layout = picture_format(name, 8, 8)
        frame = Frame(0, planes_of(source.reformat(format=name), layout), layout)
        for component, value in (("R", 200), ("G", 30), ("B", 90)):
            assert (frame.component(layout.index(component)) == value).all(), name


def test_decoded_planes_cannot_be_written() -> None:
    layout = picture_format("yuv420p", 16, 16)
    planes = planes_of(av.VideoFrame(16, 16, "yuv420p"), layout)
    with pytest.raises(ValueError, match="read-only"):
        planes[0][0, 0] = 1
    before = planes[0].copy()
    free = Frame(0, planes, layout).copy()
    free.planes[0][:] = before + 1
    assert np.array_equal(planes[0], before), "writing a copy leaves the picture alone"


@pytest.mark.parametrize("name", ["pal8", "monow", "bayer_rggb8", "gbrpf32le", "rgb565le", "xyz12be"])
def test_formats_that_cannot_be_edited_are_refused_in_words(name: str) -> None:
    with pytest.raises(UnreadableReel, match="Convert it"):
        picture_format(name, 16, 16)


def converted(name: str, frames: int = 32) -> tuple[MemorySource, Colour]:
    """A window of a real moving clip in another pixel format, converted by the media library."""
    source = clip("bikes-3")
    window = picture_format("yuv420p", 320, 192)
    colour = Colour(matrix=1, full_range=name.startswith(("gbr", "rgb", "bgr")))
    pictures = []
    for luma, cb, cr in source.pictures[:frames]:
        planes = (luma[40:232, 160:480], cb[20:116, 80:240], cr[20:116, 80:240])
        picture = to_picture(Frame(0, tuple(np.ascontiguousarray(p) for p in planes), window, Colour(matrix=1, range_code=1)))
        other = picture.reformat(format=name, src_colorspace=1, dst_colorspace=1 if name.startswith("y") else None)
        pictures.append(tuple(p.copy() for p in planes_of(other, picture_format(name, 320, 192))))
    return MemorySource(pictures, picture_format(name, 320, 192), colour), colour


def pinned(source: MemorySource, colour: Colour, x: int, y: int, rgb: tuple[int, int, int]) -> MemorySource:
    """One pixel (its chroma cell, averaged) held at a colour in every frame."""
    layout = source.format
    held = np.array(rgb, float)
    spoiled = []
    for n in range(len(source)):
        frame = source.frame(n).copy()
        places = [(y // layout.subsampling(i)[1], x // layout.subsampling(i)[0]) for i in range(len(layout.components))]
        now = [float(frame.component(i)[p]) / layout.components[i].code for i, p in enumerate(places)]
        change = from_rgb(held - np.clip(to_rgb(now, layout, colour), 0, 255), layout, colour, difference=True)
        for i, (p, c) in enumerate(zip(places, layout.components, strict=True)):
            across, down = layout.subsampling(i)
            value = (now[i] + change[i] / (across * down)) * c.code
            frame.component(i)[p] = np.clip(round(value), 0, c.peak)
        spoiled.append(frame.planes)
    return source.over(spoiled)


@pytest.mark.slow
@pytest.mark.parametrize("name", ["yuv420p", "yuv422p", "yuv422p10le", "yuv444p12le", "gbrp", "gbrp10le", "rgb24", "gray10le", "nv12"])
def test_found_and_mended_in_every_format(tmp_path: Path, name: str) -> None:
    source, colour = converted(name)
    dirty = pinned(source, colour, 171, 88, (255, 255, 255))
    volume = build_volume(tmp_path / "volume.bin", dirty)
    sure = [s for s in stuck_pixels.find(volume).found if s.confidence >= 0.5]
    assert [(s.x, s.y) for s in sure] == [(171, 88)]
    assert sure[0].colour == "white"
    plan = analyse(volume, PixelMendSettings(sites=(Site(x=171, y=88),)))
    mended = plan.apply(dirty, 0, len(dirty))
    before = after = 0.0
    for n in range(len(source)):
        truth, bad, good = source.frame(n), dirty.frame(n), mended.frame(n)
        code = truth.format.components[0].code
        before += abs(float(bad.component(0)[88, 171]) - float(truth.component(0)[88, 171])) / code
        after += abs(float(good.component(0)[88, 171]) - float(truth.component(0)[88, 171])) / code
    assert before / len(source) > 60
    assert after / len(source) < 4
    clean = build_volume(tmp_path / "clean.bin", source)
    assert not [s for s in stuck_pixels.find(clean).found if s.confidence >= 0.5]


def test_alpha_is_never_touched(tmp_path: Path) -> None:
    source, _ = converted("gbrap", 20)
    plan = analyse(build_volume(tmp_path / "v.bin", source), PixelMendSettings(sites=(Site(x=100, y=60),)))
    assert len(plan.touched()) == 4
    assert len(plan.touched()[source.format.index("A")]) == 0


def test_ffv1_takes_all_that_it_is_said_to_hold() -> None:
    """Every layout the encoder names that can be edited: written where it is offered, and refused by the encoder itself where it is not."""
    offered = 0
    for named in av.Codec("ffv1", "w").video_formats or ():
        try:
            layout = picture_format(named.name, 32, 32)
        except UnreadableReel:
            continue
        encoder = av.CodecContext.create("ffv1", "w")
        assert isinstance(encoder, av.VideoCodecContext)
        encoder.width, encoder.height, encoder.time_base = 32, 32, Fraction(1, 25)
        encoder.pix_fmt = FORMATS["ffv1"].held(layout).name if FORMATS["ffv1"].holds(layout) else named.name
        if FORMATS["ffv1"].holds(layout):
            encoder.open()
            offered += 1
        else:
            with pytest.raises(av.FFmpegError):
                encoder.open()
    assert offered > 20


def test_floats_are_not_offered_as_ffv1() -> None:
    floats = FORMATS["exr"].held(picture_format("rgb48le", 32, 32))
    assert not FORMATS["ffv1"].holds(floats)
    with pytest.raises(UnreadableReel, match="Deliver OpenEXR pictures"):
        FORMATS["ffv1"].held(floats)
    assert FORMATS["exr"].holds(floats)
