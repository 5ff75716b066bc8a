"""Writing: FFV1 in Matroska (RFC 9043) at the source's own format, read back by the media library itself."""

from __future__ import annotations

import os
import resource
import subprocess
import sys
from dataclasses import replace
from fractions import Fraction
from pathlib import Path

import av
import numpy as np
import pytest

from benchmarks.material import MemorySource, sound_samples
from nimbus_sweep.core.base.errors import DiskFull, SweepError, UnreadableReel
from nimbus_sweep.core.base.files import atomic_write
from nimbus_sweep.core.media.formats import FORMATS as DELIVERIES
from nimbus_sweep.core.media.formats import lossless_format
from nimbus_sweep.core.media.frames import Frame
from nimbus_sweep.core.media.layout import EXACT_KIN, picture_format, to_kin
from nimbus_sweep.core.media.reader import MovieReader
from nimbus_sweep.core.media.writer import Cut, join, sound_packets, write_chunk
from tests.conftest import decoded, small, write_movie

FORMATS = [
    "yuv420p", "yuv422p", "yuv444p", "yuv411p", "yuv420p10le", "yuv422p10le", "yuv444p12le", "yuv420p16le", "yuva420p",
    "yuva444p10le", "gray", "gray10le", "gray16le", "gbrp10le", "gbrp12le", "gbrp16le", "gbrap16le", "bgr0", "bgra",
]  # fmt: skip


FFV1 = DELIVERIES["ffv1"]


def noise(name: str, frames: int = 3, width: int = 36, height: int = 22) -> MemorySource:
    """Every value the format can hold, at random."""
    layout = picture_format(name, width, height)
    rng = np.random.default_rng(len(name))
    pictures = []
    for n in range(frames):
        planes = tuple(np.zeros(shape, layout.dtype) for shape in layout.plane_shapes)
        frame = Frame(n, planes, layout)
        for i, c in enumerate(layout.components):
            frame.component(i)[:] = rng.integers(0, int(c.peak) + 1, (c.height, c.width)).astype(layout.dtype)
        pictures.append(planes)
    return MemorySource(pictures, layout)


@pytest.mark.parametrize("name", FORMATS)
def test_every_sample_comes_back(tmp_path: Path, name: str) -> None:
    source = noise(name)
    facts = MovieReader(write_movie(tmp_path / "some.mkv", small(3))).facts
    path = tmp_path / "out.mkv"
    assert write_chunk(path, source.frames(0, 3), facts, FFV1) == 3
    with av.open(str(path)) as container:
        assert container.streams.video[0].codec_context.name == "ffv1"
        assert container.streams.video[0].codec_context.pix_fmt == name
    back = MovieReader(path)
    for n in range(3):
        for i in range(len(source.format.components)):
            assert np.array_equal(back.frame(n).component(i), source.frame(n).component(i))


@pytest.mark.parametrize("name", sorted(set(EXACT_KIN) - {"0rgb", "0bgr"}))
def test_formats_the_writer_cannot_hold_are_held_as_exact_kin(name: str) -> None:
    try:
        source = noise(name)
    except UnreadableReel:
        pytest.fail(f"{name} is not read")
    kin = to_kin(source.frame(0), lossless_format(source.format))
    for i, c in enumerate(source.format.components):
        own = source.frame(0).component(i).astype(int) >> c.shift
        assert np.array_equal(kin.component(kin.format.index(c.name)), own), c.name


def test_a_format_that_would_lose_is_refused() -> None:
    for name in ("pal8", "monob", "gbrpf32le"):
        with pytest.raises(UnreadableReel, match="pixel format"):
            picture_format(name, 8, 8)


@pytest.mark.parametrize("rate", [Fraction(24000, 1001), Fraction(25), Fraction(30000, 1001), Fraction(50)])
def test_joined_chunks_keep_frames_tags_rate_and_sound(tmp_path: Path, rate: Fraction) -> None:
    source = small(20)
    reel = MovieReader(write_movie(tmp_path / "reel.mkv", source, rate=rate, sound=True))
    for n, (first, stop) in enumerate(((0, 7), (7, 8), (8, 20))):
        write_chunk(tmp_path / f"{n}.mkv", reel.frames(first, stop), reel.facts, FFV1)
    out = tmp_path / "out.mkv"
    join([tmp_path / f"{n}.mkv" for n in range(3)], reel, out, FFV1, Cut(0, 20), {"NOTE": "kept"})
    assert all(np.array_equal(a, b) for a, b in zip(decoded(out), decoded(reel.path), strict=True))
    with av.open(str(out)) as container:
        stream = container.streams.video[0]
        context = stream.codec_context
        assert (context.colorspace, context.color_primaries, context.color_trc, context.color_range) == (1, 1, 1, 1)
        assert stream.average_rate == rate
        assert container.metadata["NOTE"] == "kept"
    assert MovieReader(out).facts.rate == rate
    assert sound_packets(out) == sound_packets(reel.path)
    (ours, ours_at, _), (theirs, theirs_at, _) = sound_samples(out), sound_samples(reel.path)
    assert np.array_equal(ours, theirs)
    assert abs(ours_at - theirs_at) < Fraction(1, 1000)


def test_sound_stays_in_step_when_the_first_stamp_is_not_zero(tmp_path: Path) -> None:
    path = write_movie(tmp_path / "late.mkv", small(12), stamps=[n + 50 for n in range(12)], sound=True)
    reel = MovieReader(path)
    write_chunk(tmp_path / "c.mkv", reel.frames(0, 12), reel.facts, FFV1)
    join([tmp_path / "c.mkv"], reel, tmp_path / "out.mkv", FFV1, Cut(0, 12))
    ours, theirs = sound_samples(tmp_path / "out.mkv"), sound_samples(path)
    # The sound began 2 s before the first picture; what is left of it keeps its place to the sample.
    lag = round((ours[1] - theirs[1]) * 48000)
    assert lag == 0 or np.array_equal(ours[0], theirs[0][:, lag:])


@pytest.mark.parametrize("codec", ["libx264", "mpeg4"])
def test_sound_primed_by_an_edit_list_is_in_step_to_the_sample(tmp_path: Path, codec: str) -> None:
    """MP4 tells the decoder to leave out AAC's first 1024 samples; Matroska (RFC 9559) does so by the codec delay."""
    path = write_movie(tmp_path / "phone.mp4", small(30), codec, options={"bf": "2"}, sound=True)
    reel = MovieReader(path)
    write_chunk(tmp_path / "c.mkv", reel.frames(0, 30), reel.facts, FFV1)
    join([tmp_path / "c.mkv"], reel, tmp_path / "out.mkv", FFV1, Cut(0, 30))
    ours, theirs = sound_samples(tmp_path / "out.mkv"), sound_samples(path)
    assert np.array_equal(ours[0], theirs[0])
    assert ours[1] == theirs[1]
    assert sound_packets(tmp_path / "out.mkv") == sound_packets(path)
    with av.open(str(tmp_path / "out.mkv")) as container:
        assert "prime" not in str(container.streams.audio[0].metadata)


def test_pixel_aspect_survives(tmp_path: Path) -> None:
    reel = MovieReader(write_movie(tmp_path / "reel.mkv", small(3)))
    facts = replace(reel.facts, sample_aspect=Fraction(16, 15))
    reel.facts = facts
    write_chunk(tmp_path / "c.mkv", reel.frames(0, 3), facts, FFV1)
    join([tmp_path / "c.mkv"], reel, tmp_path / "out.mkv", FFV1, Cut(0, 3))
    assert MovieReader(tmp_path / "out.mkv").facts.sample_aspect == Fraction(16, 15)


def test_nothing_half_written_is_left(tmp_path: Path) -> None:
    with pytest.raises(ValueError, match="halfway"), atomic_write(tmp_path / "file") as stream:
        stream.write(b"part")
        assert not (tmp_path / "file").exists()
        raise ValueError("halfway")
    assert list(tmp_path.iterdir()) == []
    with pytest.raises(SweepError, match="cannot be written"), atomic_write(tmp_path / "no" / "file"):
        pass


FILL = """
import resource, sys
from pathlib import Path
from nimbus_sweep.core.base.errors import DiskFull
from nimbus_sweep.core.media.reader import MovieReader
from nimbus_sweep.core.media.formats import FORMATS
from nimbus_sweep.core.media.writer import write_chunk
reel = MovieReader(sys.argv[1])
resource.setrlimit(resource.RLIMIT_FSIZE, (40_000, 40_000))
try:
    write_chunk(Path(sys.argv[2]), reel.frames(0, len(reel)), reel.facts, FORMATS["ffv1"])
except DiskFull as error:
    print(error)
    sys.exit(7)
"""


@pytest.mark.slow
def test_a_full_disk_is_told_and_leaves_nothing(tmp_path: Path, reel: Path) -> None:
    # A limit on the size of files stands in for a full disk: both fail the write in the middle.
    done = subprocess.run(
        [sys.executable, "-c", FILL, str(reel), str(tmp_path / "out.mkv")], capture_output=True, text=True, env=os.environ
    )
    assert done.returncode == 7, done.stderr
    assert "disk is full" in done.stdout
    assert sorted(p.name for p in tmp_path.iterdir()) == ["reel.mkv"]
    assert resource.getrlimit(resource.RLIMIT_FSIZE)[0] != 40_000


def test_full_disk_is_a_sweep_error() -> None:
    assert issubclass(DiskFull, SweepError)
