"""Damage that decoders pass over or hide is told: mutated files of ten formats, and each check against its published rule."""

from __future__ import annotations

import random
import zlib
from collections.abc import Callable
from pathlib import Path

import av
import numpy as np
import pytest

from nimbus_sweep.core.base.errors import DamagedReel, SweepError
from nimbus_sweep.core.media.damage import altered_stretches, has_parity, packet_check
from nimbus_sweep.core.media.opening import damage_of
from nimbus_sweep.core.media.reader import MovieReader
from tests.conftest import small

FRAMES = 24
# Ending, codec, pixel format, options.
FORMATS = {
    "ffv1.mkv": ("ffv1", "yuv420p", {"level": "3", "slicecrc": "1", "g": "1"}),
    "h264.mkv": ("libx264", "yuv420p", {"crf": "18", "bf": "2", "g": "12"}),
    "hevc.mkv": ("libx265", "yuv420p", {"crf": "18", "x265-params": "log-level=none"}),
    "vp9.mkv": ("libvpx-vp9", "yuv420p", {"crf": "20", "b": "0", "cpu-used": "8"}),
    "h264.mp4": ("libx264", "yuv420p", {"crf": "18", "bf": "2", "g": "12"}),
    "prores.mov": ("prores_ks", "yuv422p10le", {}),
    "mpeg4.avi": ("mpeg4", "yuv420p", {"b": "4M"}),
    "mpeg2.mxf": ("mpeg2video", "yuv420p", {"b": "4M"}),
    "h264.ts": ("libx264", "yuv420p", {"crf": "18"}),
    "png.mov": ("png", "rgb24", {}),
}
EACH = 40

Planes = list[tuple[np.ndarray, ...]]


def coded(path: Path, codec: str, layout: str, options: dict[str, str]) -> Path:
    with av.open(str(path), "w") as out:
        stream = out.add_stream(codec, rate=25, options=options)
        assert isinstance(stream, av.VideoStream)
        stream.width, stream.height, stream.pix_fmt = 96, 64, layout
        for n, (luma, _, _) in enumerate(small(FRAMES, 96, 64).pictures):
            picture = av.VideoFrame.from_ndarray(np.ascontiguousarray(luma), "gray").reformat(format=layout)
            picture.pts = n
            out.mux(stream.encode(picture))
        out.mux(stream.encode())
    return path


def read(path: Path) -> Planes:
    """All pictures of a file that is taken as whole."""
    reader = MovieReader(path)
    reader.require_whole()
    return [frame.planes for frame in reader.frames(0, len(reader))]


def alike(one: Planes, other: Planes) -> bool:
    return len(one) == len(other) and all(np.array_equal(a, b) for x, y in zip(one, other, strict=True) for a, b in zip(x, y, strict=True))


def zeroed(data: bytes, rng: random.Random) -> bytes:
    begin, size = _stretch(data, rng)
    return data[:begin] + bytes(size) + data[begin + size :]


def overwritten(data: bytes, rng: random.Random) -> bytes:
    begin, size = _stretch(data, rng)
    return data[:begin] + rng.randbytes(size) + data[begin + size :]


def lost(data: bytes, rng: random.Random) -> bytes:
    begin, size = _stretch(data, rng)
    return data[:begin] + data[begin + size :]


def cut(data: bytes, rng: random.Random) -> bytes:
    return data[: rng.randrange(len(data) // 3, len(data) - 10)]


def changed(data: bytes, rng: random.Random) -> bytes:
    altered = bytearray(data)
    for _ in range(20):
        altered[rng.randrange(len(data) // 10, len(data) * 9 // 10)] ^= rng.randrange(1, 256)
    return bytes(altered)


def _stretch(data: bytes, rng: random.Random) -> tuple[int, int]:
    size = len(data) // rng.choice([6, 20, 60])
    return rng.randrange(len(data) // 10, len(data) * 9 // 10 - size), size


WAYS: list[Callable[[bytes, random.Random], bytes]] = [zeroed, overwritten, lost, cut, changed]


@pytest.fixture(scope="module")
def whole(tmp_path_factory: pytest.TempPathFactory) -> dict[str, Path]:
    folder = tmp_path_factory.mktemp("whole")
    return {name: coded(folder / name, *how) for name, how in FORMATS.items()}


@pytest.mark.parametrize("name", FORMATS)
def test_no_mutated_file_is_taken_as_whole(whole: dict[str, Path], tmp_path: Path, name: str) -> None:
    sound, rng = whole[name].read_bytes(), random.Random(name)
    wanted = read(whole[name])
    assert len(wanted) == FRAMES
    told = 0
    for n in range(EACH):
        path = tmp_path / name
        way = WAYS[n % len(WAYS)]
        path.write_bytes(way(sound, rng))
        try:
            assert alike(read(path), wanted), f"{way.__name__}, {n}: taken as whole, though it shows something else"
        except SweepError:
            told += 1
        try:
            accepted = MovieReader(path, accept_missing=True)
            frames = [frame.missing for frame in accepted.frames(0, len(accepted))]
            assert frames == [k in accepted.facts.absent for k in range(len(accepted))]
        except SweepError:
            pass
    assert told > 0.8 * EACH


def test_what_cannot_be_read_is_told_with_its_numbers(whole: dict[str, Path], tmp_path: Path) -> None:
    path = tmp_path / "tape.mkv"
    with av.open(str(whole["ffv1.mkv"])) as container:
        places = [(p.pos, p.size) for p in container.demux(video=0) if p.size]
    data = bytearray(whole["ffv1.mkv"].read_bytes())
    for number in (5, 6, 17):
        begin, size = places[number]
        data[begin + size // 2] ^= 0x40
    path.write_bytes(bytes(data))
    damage = damage_of(path)
    assert damage is not None
    assert "3 frames are missing (5-6, 17); 21 can be read" in str(damage)
    reader = MovieReader(path)
    with pytest.raises(DamagedReel, match="frame 5 cannot be decoded"):
        list(reader.frames(0, FRAMES))
    with pytest.raises(DamagedReel):
        reader.frame(17)
    assert np.array_equal(reader.frame(16).planes[0], MovieReader(whole["ffv1.mkv"]).frame(16).planes[0])
    assert damage_of(whole["ffv1.mkv"]) is None


def test_pictures_coded_on_a_damaged_one_are_not_sound(whole: dict[str, Path], tmp_path: Path) -> None:
    path = tmp_path / "tape.mp4"
    with av.open(str(whole["h264.mp4"])) as container:
        packets = [(p.pos, p.size) for p in container.demux(video=0) if p.size]
    data = bytearray(whole["h264.mp4"].read_bytes())
    begin, size = packets[0]
    data[begin + size // 2 : begin + size // 2 + 64] = bytes(64)
    path.write_bytes(bytes(data))
    reader = MovieReader(path, accept_missing=True)
    keys = MovieReader(whole["h264.mp4"]).key_frames
    assert len(keys) > 1
    assert set(reader.facts.absent) == set(range(keys[1])), "all up to the next key frame, and none behind"


@pytest.mark.parametrize("parity", ["0", "1"])
def test_parities_of_ffv1(tmp_path: Path, parity: str) -> None:
    """RFC 9043, 4.9.3: with its parity the remainder of a slice is nothing; streams without one are not checked."""
    path = coded(tmp_path / "a.mkv", "ffv1", "yuv420p", {"level": "3", "slicecrc": parity, "slices": "4"})
    with av.open(str(path)) as container:
        packets = [bytes(p) for p in container.demux(video=0) if p.size]
        check = packet_check(container.streams.video[0], has_parity(packets[0]))
    assert has_parity(packets[0]) == (parity == "1") == (check is not None)
    if check is not None:
        assert all(map(check, packets))
        for n, packet in enumerate(packets):
            altered = bytearray(packet)
            altered[(n * 97) % len(packet)] ^= 1
            assert not check(bytes(altered))


@pytest.mark.parametrize("name", ["h264.mkv", "hevc.mkv", "h264.ts", "h264.mp4"])
def test_zeros_cannot_stand_in_units(whole: dict[str, Path], name: str) -> None:
    """ITU-T H.264, 7.4.1.1, and H.265, 7.4.2.1: three zero bytes never follow each other inside a unit."""
    with av.open(str(whole[name])) as container:
        check = packet_check(container.streams.video[0], False)
        packets = [bytes(p) for p in container.demux(video=0) if p.size]
    assert check is not None
    assert all(map(check, packets))
    long = max(packets, key=len)
    assert not check(long[: len(long) // 2] + bytes(6) + long[len(long) // 2 + 6 :])


def test_checks_of_matroska(whole: dict[str, Path], tmp_path: Path) -> None:
    """RFC 8794, 11.3.1: the checksum is that of ISO 3309, over the elements behind it."""
    path = whole["vp9.mkv"]
    data = path.read_bytes()
    at = data.index(b"\xbf\x84", data.index(b"\x1f\x43\xb6\x75"))
    assert altered_stretches(path) == []
    altered = bytearray(data)
    altered[at + 100] ^= 1
    other = tmp_path / "other.mkv"
    other.write_bytes(altered)
    ((begin, end),) = altered_stretches(other)
    assert begin == at
    assert zlib.crc32(data[at + 6 : end]) == int.from_bytes(data[at + 2 : at + 6], "little")
    with pytest.raises(DamagedReel, match=f"where frames 0 to {FRAMES - 1} lie"):
        MovieReader(other).require_whole()
    accepted = MovieReader(other, accept_missing=True)
    assert "stretch-altered" in [n.code for n in accepted.facts.notes]


def transport(counts: list[int], leap: int | None = None) -> bytes:
    """Packets of one stream (ITU-T H.222.0, 2.4.3.2); the one numbered `leap` says that its count begins anew."""
    packets = []
    for n, count in enumerate(counts):
        head = bytes([0x47, 0x01, 0x00, 0x30 | count, 1, 0x80 if n == leap else 0])
        packets.append(head + bytes(188 - len(head)))
    return b"".join(packets)


@pytest.mark.parametrize(
    ("counts", "leap", "altered"),
    [
        ([n % 16 for n in range(40)], None, []),
        ([0, 1, 2, 2, 3, 4, 5], None, []),
        ([0, 1, 2, 9, 10, 11, 12], 3, []),
        ([0, 1, 2, 9, 10, 11, 12], None, [3]),
        ([0, 1, 2, 3, 4, 6, 7], None, [5]),
    ],
)
def test_counts_of_transport_streams(tmp_path: Path, counts: list[int], leap: int | None, altered: list[int]) -> None:
    path = tmp_path / "a.ts"
    path.write_bytes(transport(counts, leap))
    assert [begin // 188 for begin, _ in altered_stretches(path)] == altered
    path.write_bytes(transport(counts, leap)[:-50])
    assert altered_stretches(path)[0] == (188 * (len(counts) - 1), 188 * len(counts) - 50)


def test_a_damaged_picture_takes_none_with_it_where_each_is_coded_on_its_own(tmp_path: Path) -> None:
    """This codec's decoder marks no picture as coded on its own; the file does."""
    path = coded(tmp_path / "a.mov", "cfhd", "yuv422p10le", {})
    with av.open(str(path)) as container:
        begin, size = [(p.pos, p.size) for p in container.demux(video=0) if p.size][4]
    data = bytearray(path.read_bytes())
    data[begin : begin + size // 2] = bytes(size // 2)
    path.write_bytes(bytes(data))
    assert MovieReader(path, accept_missing=True).facts.absent == (4,)
