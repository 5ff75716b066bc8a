"""Image sequences: read as their own samples, with gaps and unreadable pictures kept as missing frames.

Outside references: the DPX decoder of the FFmpeg libraries (SMPTE ST 268), OpenCV's PNG and TIFF readers.
"""

from __future__ import annotations

import zipfile
from fractions import Fraction
from pathlib import Path
from typing import Any

import av
import cv2
import numpy as np
import OpenImageIO as oiio
import pytest

from nimbus_sweep.core.base.errors import ChangedReel, DamagedReel, UnreadableReel
from nimbus_sweep.core.media.formats import FORMATS
from nimbus_sweep.core.media.opening import fingerprint, open_reel, stamp_of
from nimbus_sweep.core.media.pictures import write_picture
from nimbus_sweep.core.media.reel import Reading
from nimbus_sweep.core.media.sequence import SequenceReader, list_sequence
from nimbus_sweep.core.media.view import to_bgr
from nimbus_sweep.wording.reels import remark
from tests.conftest import small, write_movie

_TYPES: dict[str, Any] = {"uint8": oiio.UINT8, "uint16": oiio.UINT16, "float16": oiio.HALF, "float32": oiio.FLOAT}


def samples(kind: str, channels: int, bits: int, seed: int, shape: tuple[int, int] = (22, 31)) -> np.ndarray:
    rng = np.random.default_rng(seed)
    if kind.startswith("float"):
        return rng.normal(0.4, 0.6, (*shape, channels)).astype(kind)
    return rng.integers(0, 1 << bits, (*shape, channels)).astype(kind)


def put(path: Path, pixels: np.ndarray, bits: int = 0, **attributes: Any) -> Path:
    """A picture written by the library, not by the project's own writer."""
    height, width, channels = pixels.shape
    spec = oiio.ImageSpec(width, height, channels, _TYPES[pixels.dtype.name])
    if 8 < bits < 16:
        spec.attribute("oiio:BitsPerSample", bits)
        pixels = (pixels.astype(np.uint32) << (16 - bits) | pixels >> (2 * bits - 16)).astype(np.uint16)
    spec.attribute("oiio:UnassociatedAlpha", 1)
    for name, value in attributes.items():
        spec.attribute(name.replace("__", ":"), value)
    out = oiio.ImageOutput.create(str(path))
    assert out.open(str(path), spec), out.geterror()
    assert out.write_image(np.ascontiguousarray(pixels))
    assert out.close()
    return path


def sequence(
    folder: Path,
    suffix: str = ".png",
    numbers: tuple[int, ...] = (7, 8, 9),
    kind: str = "uint8",
    channels: int = 3,
    bits: int = 8,
    **more: Any,
) -> Path:
    folder.mkdir(exist_ok=True)
    for n in numbers:
        put(folder / f"fog.{n:04d}{suffix}", samples(kind, channels, bits, n), bits, **more)
    return folder


def interleaved(reel: SequenceReader, number: int) -> np.ndarray:
    frame = reel.frame(number)
    order = [n for n in "RGBYA" if any(c.name == n for c in frame.format.components)]
    return np.stack([frame.component(frame.format.index(n)) for n in order], -1)


KINDS = [
    (".dpx", "uint16", 3, 10), (".dpx", "uint16", 3, 12), (".dpx", "uint16", 3, 16), (".dpx", "uint16", 4, 10), (".dpx", "uint8", 3, 8),
    (".tif", "uint8", 3, 8), (".tif", "uint16", 3, 16), (".tif", "uint16", 4, 16), (".tif", "uint8", 1, 8),
    (".png", "uint8", 3, 8), (".png", "uint8", 4, 8), (".png", "uint16", 3, 16), (".png", "uint16", 1, 16),
    (".exr", "float16", 3, 16), (".exr", "float32", 3, 32), (".exr", "float16", 4, 16),
]  # fmt: skip


@pytest.mark.parametrize(("suffix", "kind", "channels", "bits"), KINDS)
def test_pictures_are_read_and_written_back_sample_for_sample(tmp_path: Path, suffix: str, kind: str, channels: int, bits: int) -> None:
    reel = open_reel(sequence(tmp_path / "in", suffix, (7, 8, 9), kind, channels, bits))
    assert isinstance(reel, SequenceReader)
    assert len(reel) == 3
    for n in (0, 2):
        assert np.array_equal(interleaved(reel, n), samples(kind, channels, bits, n + 7))
    form = FORMATS[reel.facts.codec]
    assert form.exact(reel.format)
    out = tmp_path / "out"
    out.mkdir()
    for frame in reel.frames(0, 3):
        write_picture(out / reel.name_of(frame.number), frame, reel.facts, form)
    back = open_reel(out)
    assert back.format == reel.format
    assert all(np.array_equal(a, b) for n in range(3) for a, b in zip(back.frame(n).planes, reel.frame(n).planes, strict=True))


def test_dpx_codes_are_those_the_ffmpeg_libraries_read(tmp_path: Path) -> None:
    folder = sequence(tmp_path / "scan", ".dpx", (1, 2), "uint16", 3, 10, dpx__Transfer="Printing density")
    reel = open_reel(folder)
    assert reel.colour.transfer_name == "log"
    with av.open(str(folder / "fog.0002.dpx")) as container:
        picture = next(container.decode(video=0))
    assert picture.format.name == reel.format.name == "gbrp10le"
    for plane, mine in zip(picture.planes, reel.frame(1).planes, strict=True):
        theirs = np.frombuffer(plane, np.uint16).reshape(-1, plane.line_size // 2)[: mine.shape[0], : mine.shape[1]]
        assert np.array_equal(theirs, mine)


@pytest.mark.parametrize("suffix", [".png", ".tif"])
def test_pictures_are_those_opencv_reads(tmp_path: Path, suffix: str) -> None:
    folder = sequence(tmp_path / "in", suffix, (1, 2), "uint16", 3, 16)
    theirs = cv2.imread(str(folder / f"fog.0001{suffix}"), cv2.IMREAD_UNCHANGED)[..., ::-1]
    assert np.array_equal(interleaved(open_reel(folder), 0), theirs)


def test_jpeg_is_read_within_a_step_of_opencv(tmp_path: Path) -> None:
    folder = tmp_path / "in"
    folder.mkdir()
    for n in range(3):
        smooth = cv2.GaussianBlur(samples("uint8", 3, 8, n, (64, 64)), (0, 0), 6)
        cv2.imwrite(str(folder / f"a{n}.jpg"), smooth)
    theirs = cv2.imread(str(folder / "a1.jpg"))[..., ::-1]
    # Two decoders may round their colour conversion apart.
    assert np.abs(interleaved(open_reel(folder), 1).astype(int) - theirs).max() <= 3


def test_gaps_are_missing_frames(tmp_path: Path) -> None:
    reel = open_reel(sequence(tmp_path / "in", numbers=(3, 4, 7, 8)))
    assert (len(reel), reel.facts.first_number, reel.facts.absent, reel.missing) == (6, 3, (2, 3), 2)
    assert [f.missing for f in reel.frames(0, 6)] == [False, False, True, True, False, False]
    assert not reel.frame(2).component(0).any()
    assert "2 numbers have no picture: 5, 6" in " ".join(map(remark, reel.facts.notes))
    assert isinstance(reel, SequenceReader)
    assert reel.name_of(2) == "fog.0005.png"


def test_what_cannot_be_read_is_missing_and_the_rest_usable(tmp_path: Path) -> None:
    folder = sequence(tmp_path / "in", numbers=(1, 2, 3, 4, 5))
    (folder / "fog.0002.png").write_bytes(b"")
    whole = (folder / "fog.0003.png").read_bytes()
    (folder / "fog.0003.png").write_bytes(whole[: len(whole) // 2])
    with zipfile.ZipFile(folder / "fog.0004.png", "w", zipfile.ZIP_DEFLATED) as bomb:
        bomb.writestr("fog.txt", b"0" * 40_000_000)
    reel = open_reel(folder)
    assert [f.missing for f in reel.frames(0, 5)] == [False, True, True, True, False]
    assert isinstance(reel, SequenceReader)
    assert set(reel.unreadable) == {1, 2, 3}


def test_a_pattern_names_one_of_several(tmp_path: Path) -> None:
    folder = sequence(tmp_path / "in")
    for n in range(4):
        put(folder / f"sea_{n:03d}.png", samples("uint8", 3, 8, n))
    with pytest.raises(UnreadableReel, match="several sequences"):
        open_reel(folder)
    assert len(open_reel(folder / "sea_%03d.png")) == 4
    assert len(open_reel(folder / "fog.####.png")) == 3
    assert fingerprint(folder / "sea_%03d.png") != fingerprint(folder / "fog.%04d.png")


@pytest.mark.parametrize(
    ("names", "said"),
    [
        ([], "no numbered pictures"),
        (["a.0001.png"], "sequence of one"),
        (["a.0001.png", "a.90000000.png"], "not the frames of one reel"),
    ],
)
def test_what_is_no_sequence_is_explained(tmp_path: Path, names: list[str], said: str) -> None:
    for name in names:
        put(tmp_path / name, samples("uint8", 3, 8, 1))
    with pytest.raises(UnreadableReel, match=said):
        open_reel(tmp_path)


def test_mixed_sizes_are_refused_or_accepted_as_missing(tmp_path: Path) -> None:
    folder = sequence(tmp_path / "in")
    put(folder / "fog.0008.png", samples("uint8", 3, 8, 1, (10, 12)))
    with pytest.raises(DamagedReel, match=r"fog.0008.png is 12 x 10.*began with 31 x 22"):
        list(open_reel(folder).frames(0, 3))
    assert [f.missing for f in open_reel(folder, accept_missing=True).frames(0, 3)] == [False, True, False]


def test_absurd_sizes_are_refused_before_they_are_read(tmp_path: Path) -> None:
    folder = sequence(tmp_path / "in", numbers=(1, 2))
    for path in folder.iterdir():
        data = bytearray(path.read_bytes())
        data[16:24] = (1_000_000).to_bytes(4, "big") * 2
        path.write_bytes(data)
    with pytest.raises(UnreadableReel, match=r"beyond what can be treated|can be read"):
        open_reel(folder)


def test_links_out_of_the_folder_are_refused(tmp_path: Path) -> None:
    elsewhere = put(tmp_path / "other.png", samples("uint8", 3, 8, 1))
    folder = sequence(tmp_path / "in")
    (folder / "fog.0010.png").symlink_to(elsewhere)
    with pytest.raises(UnreadableReel, match="link to a file outside"):
        list_sequence(folder)


def test_a_picture_that_changes_is_noticed(tmp_path: Path) -> None:
    folder = sequence(tmp_path / "in")
    reel, before = open_reel(folder), stamp_of(folder)
    put(folder / "fog.0009.png", samples("uint8", 3, 8, 99))
    assert stamp_of(folder) != before
    with pytest.raises(ChangedReel, match="has changed"):
        reel.frame(2)


def test_the_rate_is_assumed_and_can_be_corrected(tmp_path: Path) -> None:
    folder = sequence(tmp_path / "in")
    reel = open_reel(folder)
    assert reel.rate == 24
    assert "rate" in reel.facts.assumptions
    corrected = open_reel(folder, Reading(rate="18"))
    assert (corrected.rate, corrected.facts.duration) == (18, Fraction(3, 18))
    assert "rate" not in corrected.facts.assumptions
    told = open_reel(sequence(tmp_path / "told", ".dpx", (1, 2), "uint16", 3, 10, dpx__FrameRate=25.0, dpx__TimeCode="01:00:00:12"))
    assert (told.rate, told.facts.time_code) == (25, "01:00:00:12")
    assert "rate" not in told.facts.assumptions
    with pytest.raises(ValueError, match="24000/1001"):
        Reading(rate="fast")


def test_a_part_of_a_frame_shows_what_the_whole_shows(tmp_path: Path) -> None:
    folder = sequence(tmp_path / "in", ".dpx", (1, 2), "uint16", 3, 10, dpx__Transfer="Printing density")
    frame = open_reel(folder).frame(0)
    assert np.array_equal(to_bgr(frame.part(8, 4, 24, 20)), to_bgr(frame)[4:20, 8:24])


def test_log_and_linear_are_shown_through_a_display_s_curve(tmp_path: Path) -> None:
    """Linear light 0.214 is 0.5 of a display (IEC 61966-2-1); code 685 of a log scan is white (from memory)."""
    folder = tmp_path / "in"
    folder.mkdir()
    for n in (1, 2):
        put(folder / f"a{n}.exr", np.full((8, 8, 3), 0.21404, np.float32))
    assert abs(int(to_bgr(open_reel(folder).frame(0))[4, 4, 1]) - 128) <= 1
    scan = tmp_path / "scan"
    scan.mkdir()
    for n in (1, 2):
        pixels = np.full((8, 8, 3), 685, np.uint16)
        pixels[:4] = 95
        put(scan / f"a{n}.dpx", pixels, 10, dpx__Transfer="Printing density")
    shown = to_bgr(open_reel(scan).frame(0))
    assert (int(shown[6, 4, 1]), int(shown[1, 4, 1])) == (255, 0)
    plain = to_bgr(open_reel(scan, Reading(transfer="video")).frame(0))
    assert abs(int(plain[6, 4, 1]) - round(685 / 1023 * 255)) <= 1


def test_a_movie_may_be_told_otherwise_too(tmp_path: Path) -> None:
    path = write_movie(tmp_path / "reel.mkv", small(4))
    as_read, full = open_reel(path), open_reel(path, Reading(levels="full", matrix="601", aspect="16:15"))
    assert full.facts.sample_aspect == Fraction(16, 15)
    assert set(full.facts.corrections) == {"range", "matrix", "pixel aspect"}
    assert np.abs(to_bgr(as_read.frame(0)).astype(int) - to_bgr(full.frame(0))).mean() > 3
    assert np.array_equal(as_read.frame(0).planes[0], full.frame(0).planes[0]), "the samples stay what they are"
