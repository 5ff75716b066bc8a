"""Every kind of file that is read and every kind that is delivered: written, read back, held against the FFmpeg libraries.

Where a kind is not exact, the error it makes is stated with its test.
"""

from __future__ import annotations

from fractions import Fraction
from pathlib import Path

import av
import numpy as np
import pytest

from benchmarks.material import MemorySource, sound_samples
from nimbus_sweep.core.base.errors import SweepError
from nimbus_sweep.core.media.convert import values_of, with_values
from nimbus_sweep.core.media.formats import FORMATS, Delivery, DeliveryFormat, converted, usual_kind
from nimbus_sweep.core.media.frames import Frame
from nimbus_sweep.core.media.layout import picture_format, to_kin
from nimbus_sweep.core.media.opening import Deinterlaced, open_reel
from nimbus_sweep.core.media.pictures import gather, write_pictures
from nimbus_sweep.core.media.reader import MovieReader
from nimbus_sweep.core.media.reel import Reading, ReelReader
from nimbus_sweep.core.media.sequence import SequenceReader
from nimbus_sweep.core.media.view import to_bgr
from nimbus_sweep.core.media.writer import Cut, join, write_chunk
from nimbus_sweep.wording.reels import remark
from tests.conftest import small, write_movie
from tests.core.media.test_writer import noise

READ = [
    ("libx264", "yuv420p", "mp4"), ("libx264", "yuv422p10le", "mov"), ("libx264", "yuv444p", "mkv"), ("libx264", "yuv420p", "ts"),
    ("libx264", "yuv420p", "avi"), ("libx265", "yuv420p10le", "mp4"), ("libx265", "yuv422p10le", "mkv"), ("libx265", "yuv420p", "ts"),
    ("libsvtav1", "yuv420p10le", "mp4"), ("libsvtav1", "yuv420p", "mkv"), ("libsvtav1", "yuv420p", "webm"), ("libvpx-vp9", "yuv420p", "webm"),
    ("libvpx-vp9", "yuv444p", "mkv"), ("prores_ks", "yuv422p10le", "mov"), ("prores_ks", "yuva444p10le", "mov"), ("dnxhd", "yuv422p10le", "mov"),
    ("cfhd", "yuv422p10le", "mov"), ("cfhd", "gbrp12le", "mov"), ("ffv1", "yuv420p16le", "mkv"),
    ("ffv1", "gbrap16le", "mkv"), ("ffv1", "yuva444p10le", "mkv"), ("mjpeg", "yuvj422p", "mov"), ("mjpeg", "yuvj420p", "avi"), ("v210", "yuv422p10le", "mov"),
    ("v210", "yuv422p10le", "avi"), ("rawvideo", "uyvy422", "mov"), ("rawvideo", "yuv420p", "avi"), ("rawvideo", "rgb24", "mov"),
    ("png", "rgb24", "mov"), ("ffvhuff", "yuv420p10le", "avi"),
]  # fmt: skip


def moving(name: str, frames: int = 12, width: int = 320, height: int = 192) -> MemorySource:
    """Real frames in any pixel format, as the media library converts them."""
    source, layout = small(frames, width, height), picture_format(name, width, height)
    pictures = []
    for n in range(frames):
        made = with_values(source.frame(n), values_of(source.frame(n)), layout)
        pictures.append(made.planes)
    return MemorySource(pictures, layout, source.colour, source.rate)


@pytest.mark.slow
@pytest.mark.parametrize(("codec", "name", "suffix"), READ)
def test_movies_are_read_as_the_library_reads_them(tmp_path: Path, codec: str, name: str, suffix: str) -> None:
    """Codecs and containers of the trade, each written by the FFmpeg libraries; frames in order and by number, alpha too."""
    options = {"prores_ks": {"profile": "4" if "444" in name else "3"}, "dnxhd": {"profile": "dnxhr_hqx"}, "libsvtav1": {"preset": "12"}}
    path = write_movie(tmp_path / f"reel.{suffix}", moving(name), codec, options=options.get(codec, {}))
    reel = open_reel(path)
    theirs = []
    with av.open(str(path)) as container:
        for picture in container.decode(video=0):
            planes = []
            for plane in picture.planes:
                planes.append(np.frombuffer(plane, np.uint8).reshape(-1, plane.line_size))
            theirs.append(planes)
            swapped = picture.format.name.endswith("be")
    assert len(reel) == len(theirs) == 12
    for n in (0, 7, 3, 11):
        frame = reel.frame(n)
        for mine, plane in zip(frame.planes, theirs[n], strict=False):
            raw = np.ascontiguousarray(mine.byteswap() if swapped else mine).view(np.uint8).reshape(mine.shape[0], -1)
            assert np.array_equal(raw, plane[: raw.shape[0], : raw.shape[1]])
    assert [f.number for f in reel.frames(2, 9)] == list(range(2, 9))
    if name.startswith("yuva") or name.startswith("gbrap"):
        assert any(c.name == "A" for c in reel.format.components)


def delivered(tmp_path: Path, reel: ReelReader, form: DeliveryFormat, cut: Cut | None = None, burn: bool = False) -> Path:
    """A delivery in two chunks, joined."""
    cut = cut or Cut(0, len(reel))
    half = len(cut) // 2
    chunks = []
    for n, (first, stop) in enumerate(((0, half), (half, len(cut)))):
        numbers = [cut.number(place) for place in range(first, stop)]
        frames = (reel.frame(number) for number in numbers)
        chunk = tmp_path / f"{n:08d}-chunk{form.suffix if not form.is_sequence else ''}"
        if form.is_sequence:
            write_pictures(chunk, frames, reel, form)
        else:
            write_chunk(chunk, frames, reel.facts, form, burn=burn)
        chunks.append(chunk)
    out = tmp_path / f"delivered{form.suffix if not form.is_sequence else ''}"
    if form.is_sequence:
        gather(chunks, reel, out, cut, "{}")
    else:
        join(chunks, reel, out, form, cut, {"NOTE": "kept"})
    return out


# Least PSNR (dB, luma) of lossy kinds on real frames; the worst frame measured 61.2, 63.9, 58.3 and 45.8.
LOSSY = {"prores-422hq": 58, "prores-4444": 60, "dnxhr-hqx": 55, "h264": 43}


@pytest.mark.parametrize("kind", ["ffv1", "prores-422hq", "prores-4444", "dnxhr-hqx", "v210", "h264"])
def test_every_kind_of_movie_comes_back(tmp_path: Path, kind: str) -> None:
    source = moving("yuv422p10le")
    reel = open_reel(write_movie(tmp_path / "reel.mkv", source, sound=True))
    form = FORMATS[kind]
    out = open_reel(delivered(tmp_path, reel, form))
    assert len(out) == len(reel)
    assert out.rate == reel.rate
    assert (out.format.width, out.format.height) == (320, 192)
    assert out.colour.matrix == 1, "the colour tags are kept"
    for n in (0, 5, 6, 11):
        theirs, mine = reel.frame(n), out.frame(n)
        if form.exact(reel.format):
            assert all(np.array_equal(a, b) for a, b in zip(theirs.planes, mine.planes, strict=True))
        else:
            error = values_of(theirs)["Y"] - values_of(mine)["Y"]
            assert -10 * np.log10(float((error**2).mean())) > LOSSY[kind]
    ours, wave = sound_samples(out.path), sound_samples(reel.path)
    assert abs(ours[1] - wave[1]) < Fraction(1, 2000)
    if kind != "h264":
        assert np.array_equal(ours[0][:, : wave[0].shape[1]], wave[0])
    assert len(out.facts.sounds) == 1


@pytest.mark.parametrize(
    ("name", "kind"), [("yuv420p", "v210"), ("yuv422p", "v210"), ("gbrp10le", "v210"), ("yuva444p10le", "ffv1"), ("gbrap16le", "ffv1")]
)
def test_what_a_kind_cannot_hold_is_said(tmp_path: Path, name: str, kind: str) -> None:
    reel = open_reel(write_movie(tmp_path / "reel.mkv", moving(name, 4)))
    form = FORMATS[kind]
    told = " ".join(map(remark, form.losses(reel.facts, reel.format)))
    assert form.exact(reel.format) == (kind == "ffv1")
    assert bool(told) == (not form.exact(reel.format)) or name == "yuv422p"
    if name == "gbrp10le":
        assert "R'G'B' becomes Y'CbCr" in told
    if kind == "v210" and name == "yuv420p":
        assert "more places" in told


def test_alpha_depth_and_colour_that_are_lost_are_named(tmp_path: Path) -> None:
    reel = open_reel(write_movie(tmp_path / "reel.mkv", moving("yuva444p10le", 3)))
    told = " ".join(map(remark, FORMATS["h264"].losses(reel.facts, reel.format)))
    for word in ("10 bit become 8", "alpha channel is left out", "fewer places", "loses a little"):
        assert word in told
    assert FORMATS["prores-4444"].held(reel.format).name != "yuv444p10le", "ProRes 4444 keeps alpha"
    with pytest.raises(SweepError, match="256 x 120"):
        FORMATS["dnxhr-hqx"].held(picture_format("yuv420p", 160, 96))


@pytest.mark.parametrize(
    ("name", "kind"),
    [
        ("gbrp10le", "dpx"),
        ("gbrp12le", "dpx"),
        ("rgb48le", "dpx"),
        ("rgb24", "tiff"),
        ("rgba64le", "tiff"),
        ("rgb24", "png"),
        ("gbrp10le", "exr"),
    ],
)
def test_every_kind_of_sequence_holds_what_it_says(tmp_path: Path, name: str, kind: str) -> None:
    source = moving(name, 6, 64, 40)
    form = FORMATS[kind]
    assert form.exact(source.format) == (kind != "exr")
    for frame in source.frames(0, 6):
        held = converted(frame, form.held(source.format))
        for i, component in enumerate(source.format.components):
            theirs = held.component(held.format.index(component.name))
            if held.format.components[0].floating:
                # 10-bit codes are exact in half floats: 11 bits of significand (IEEE 754).
                assert np.array_equal(np.rint(theirs.astype(np.float64) * component.peak), frame.component(i))
            else:
                assert np.array_equal(theirs, frame.component(i))


def test_tags_that_are_lost_are_named(tmp_path: Path) -> None:
    reel = open_reel(write_movie(tmp_path / "reel.mkv", moving("gbrp10le", 3)), Reading(transfer="log", fields="top"))
    told = {kind: " ".join(map(remark, FORMATS[kind].losses(reel.facts, reel.format))) for kind in ("dpx", "tiff", "ffv1")}
    assert "logarithmic" in told["tiff"]
    assert "logarithmic" in told["ffv1"]
    assert "logarithmic" not in told["dpx"]
    assert "fields" in told["dpx"]
    assert "fields" not in told["ffv1"]


def test_a_sequence_keeps_its_numbers_its_gap_and_gets_the_sound(tmp_path: Path) -> None:
    """Sound of a movie goes into Broadcast WAV (EBU Tech 3285), its time reference from the time code."""
    reel = open_reel(write_movie(tmp_path / "reel.mov", small(20), "libx264", sound=True))
    reel.facts = reel.facts.__class__(**{**reel.facts.__dict__, "time_code": "10:00:00:00"})
    out = delivered(tmp_path, reel, FORMATS["tiff"])
    names = sorted(p.name for p in out.iterdir())
    assert names[:2] == ["reel-sound-1.wav", "reel.000000.tif"]
    assert names[-1] == "report.json"
    assert len(names) == 22
    wave = sound_samples(reel.path)
    with av.open(str(out / "reel-sound-1.wav")) as container:
        assert int(container.metadata["time_reference"]) == 10 * 3600 * 48000
        stream = container.streams.audio[0]
        assert stream.codec_context.name in ("pcm_s16le", "pcm_s24le")
        told = np.concatenate([f.to_ndarray() for f in container.decode(stream)], axis=1)
    assert abs(told.shape[1] - wave[0].shape[1]) <= 1024
    again = open_reel(out)
    assert isinstance(again, SequenceReader)
    folder = tmp_path / "gap"
    folder.mkdir()
    write_pictures(folder / "x", (again.frame(n) for n in (0, 1)), again, FORMATS["dpx"])
    assert sorted(p.name for p in (folder / "x").iterdir()) == ["reel.000000.dpx", "reel.000001.dpx"]


def test_matrices_there_and_back() -> None:
    """Against the FFmpeg libraries' own conversion of 8-bit BT.709, within a step and a half of rounding."""
    source = small(2, 64, 48)
    frame = source.frame(0)
    wide = picture_format("rgb24", 64, 48)
    theirs = to_bgr(frame)[..., ::-1].astype(int)
    mine = converted(frame, wide)
    middle = np.s_[4:-4, 4:-4]
    ours = np.stack([mine.component(mine.format.index(c)) for c in "RGB"], -1).astype(int)
    assert np.abs(ours - theirs)[middle].mean() < 1.5
    # White and black of ITU-R BT.709 in 10 bit: 940 and 64, not the 943 of a careless scaling.
    for value, code in ((255, 940), (0, 64)):
        white = Frame(0, (np.full((4, 12), value, np.uint8),), picture_format("rgb24", 4, 4))
        luma = with_values(white, values_of(white), picture_format("yuv422p10le", 4, 4))
        assert (luma.component(0) == code).all()
        assert (luma.component(1) == 512).all()


def test_part_of_a_reel_has_its_sound_cut_to_the_sample(tmp_path: Path) -> None:
    reel = open_reel(write_movie(tmp_path / "reel.mkv", small(30), sound=True))
    out = delivered(tmp_path, reel, FORMATS["ffv1"], Cut(7, 19))
    assert len(open_reel(out)) == 12
    whole, part = sound_samples(reel.path), sound_samples(out)
    first = 7 * 48000 // 25
    assert np.array_equal(part[0][:, : 12 * 1920], whole[0][:, first : first + 12 * 1920])
    assert part[1] == 0


def test_only_the_distinct_frames_at_the_true_rate(tmp_path: Path) -> None:
    film = small(24)
    carried = film.over([film.pictures[n * 4 // 5] for n in range(30)])
    reel = open_reel(write_movie(tmp_path / "reel.mkv", carried, rate=Fraction(30), sound=True))
    numbers = [n for n in range(30) if n % 5 != 1]
    out = open_reel(delivered(tmp_path, reel, FORMATS["ffv1"], Cut(0, 30, numbers, Fraction(24))))
    assert (len(out), out.rate) == (24, 24)
    assert abs(out.facts.duration - reel.facts.duration) < Fraction(1, 500), "the sound stays in step"
    for place, number in enumerate(numbers):
        assert np.array_equal(out.frame(place).planes[0], reel.frame(number).planes[0])


def test_the_review_carries_the_frame_number(tmp_path: Path) -> None:
    reel = open_reel(write_movie(tmp_path / "reel.mkv", small(6, 320, 192)))
    plain, burnt = (open_reel(delivered(tmp_path / n, reel, FORMATS["h264"], burn=n == "b")) for n in _folders(tmp_path))
    gap = np.abs(plain.frame(3).planes[0].astype(int) - burnt.frame(3).planes[0])
    assert gap[-30:].max() > 80
    assert gap[:120].mean() < 1
    assert np.abs(burnt.frame(2).planes[0].astype(int) - burnt.frame(5).planes[0])[-26:-8, 120:200].max() > 60, "each frame its own"


def _folders(root: Path) -> tuple[str, str]:
    (root / "a").mkdir()
    (root / "b").mkdir()
    return "a", "b"


@pytest.mark.parametrize("degrees", [90, 180, 270])
@pytest.mark.parametrize("name", ["yuv420p", "yuv422p10le", "gbrp"])
def test_turned_reels_are_read_upright_sample_for_sample(tmp_path: Path, degrees: int, name: str) -> None:
    source = moving(name, 4, 64, 48)
    path = tmp_path / "reel.mov"
    with av.open(str(path), "w") as container:
        codec = "libx264rgb" if name == "gbrp" else "libx264"
        if name == "gbrp":
            pytest.importorskip("av")
            codec = "prores_ks"
            source = moving("yuv444p10le", 4, 64, 48)
        stream = container.add_stream(codec, rate=25, options={"qp": "0"} if codec == "libx264" else {"profile": "4"})
        assert isinstance(stream, av.VideoStream)
        stream.width, stream.height, stream.pix_fmt = 64, 48, source.format.name
        stream.set_display_rotation(degrees)
        from nimbus_sweep.core.media.layout import to_picture

        for n in range(4):
            picture = to_picture(source.frame(n))
            picture.pts = n
            container.mux(stream.encode(picture))
        container.mux(stream.encode())
    lying, upright = MovieReader(path), open_reel(path)
    if degrees != 180:
        assert (upright.format.width, upright.format.height) == (48, 64)
    for i in range(3):
        # The library's angle runs against the clock, as numpy's does.
        assert np.array_equal(upright.frame(2).component(i), np.rot90(lying.frame(2).component(i), degrees // 90))
    out = open_reel(delivered(tmp_path, upright, FORMATS["ffv1"]))
    assert all(np.array_equal(a, b) for a, b in zip(out.frame(3).planes, upright.frame(3).planes, strict=True))


def test_two_fields_are_made_one_moment_wherever_reading_begins(tmp_path: Path) -> None:
    """Held against the media library's filter run over the whole file (bwdif)."""
    film = small(16)
    woven = []
    for n in range(8):
        planes = tuple(p.copy() for p in film.pictures[2 * n])
        for plane, other in zip(planes, film.pictures[2 * n + 1], strict=True):
            plane[1::2] = other[1::2]
        woven.append(planes)
    path = write_movie(tmp_path / "reel.mkv", film.over(woven))
    reel = open_reel(path, Reading(fields="top", deinterlace=True))
    assert isinstance(reel, Deinterlaced)
    whole = [f.planes[0].copy() for f in reel.frames(0, 8)]
    assert len(whole) == 8
    for n in (5, 0, 7, 3):
        assert np.array_equal(reel.frame(n).planes[0], whole[n])
    with av.open(str(path)) as container:
        graph = av.filter.Graph()
        entry = graph.add_buffer(template=container.streams.video[0])
        made = graph.add("bwdif", "mode=send_frame:parity=tff:deint=all")
        out = graph.add("buffersink")
        entry.link_to(made)
        made.link_to(out)
        graph.configure()
        theirs = []
        for picture in container.decode(video=0):
            graph.push(picture)
            theirs += list(_pulled(graph))
        graph.push(None)
        theirs += list(_pulled(graph))
    for mine, picture in zip(whole, theirs, strict=True):
        assert np.array_equal(mine, picture.to_ndarray()[: mine.shape[0]])
    own = open_reel(path)
    assert not np.array_equal(own.frame(3).planes[0], whole[3])


def _pulled(graph: av.filter.Graph):
    while True:
        try:
            yield graph.pull()
        except (av.error.BlockingIOError, av.error.EOFError):
            return


@pytest.mark.parametrize(("fields", "kind"), [("top", "ffv1"), ("bottom", "ffv1"), ("top", "prores-422hq"), ("bottom", "v210")])
def test_the_order_of_fields_is_kept(tmp_path: Path, fields: str, kind: str) -> None:
    options = {"x264-params": f"interlaced=1:{'tff' if fields == 'top' else 'bff'}=1"}
    path = write_movie(tmp_path / "reel.mkv", moving("yuv422p10le"), "libx264", options=options)
    reel = open_reel(path)
    assert reel.facts.field_order == fields
    assert open_reel(delivered(tmp_path, reel, FORMATS[kind])).facts.field_order == fields
    assert open_reel(path, Reading(deinterlace=True)).facts.field_order == "progressive"


def test_pictures_without_times_are_counted(tmp_path: Path) -> None:
    path = write_movie(tmp_path / "bare.h264", small(30), "libx264", options={"bf": "2", "g": "10"})
    reel = open_reel(path)
    assert (len(reel), reel.rate) == (30, 25)
    assert "rate" in reel.facts.assumptions
    with av.open(str(path)) as container:
        theirs = [f.to_ndarray()[:96] for f in container.decode(video=0)]
    for n in (0, 17, 4, 29):
        assert np.array_equal(reel.frame(n).planes[0], theirs[n])


@pytest.mark.parametrize("rate", ["0:0", "0:1", "1:0"])
def test_a_rate_of_nothing_is_no_rate(tmp_path: Path, rate: str) -> None:
    path = tmp_path / "zero.y4m"
    frames = b"".join(b"FRAME\n" + b"".join(np.ascontiguousarray(p).tobytes() for p in planes) for planes in small(8).pictures)
    path.write_bytes(f"YUV4MPEG2 W160 H96 F{rate} Ip A1:1 C420\n".encode() + frames)
    reel = open_reel(path)
    assert len(reel) == 8
    assert 1 <= reel.rate <= 1000
    assert np.array_equal(reel.frame(5).planes[0], small(8).pictures[5][0])


def test_frames_dropped_in_recording_are_counted(tmp_path: Path) -> None:
    stamps = [n * 3000 for n in range(40) if n not in (5, 11, 12, 30)]
    rng = np.random.default_rng(4)
    shaken = [s + int(rng.integers(-200, 200)) for s in stamps]
    path = write_movie(tmp_path / "phone.mp4", small(36), "libx264", stamps=shaken, time_base=Fraction(1, 90000), options={"bf": "0"})
    assert "About 4 frames seem to have been dropped" in " ".join(map(remark, open_reel(path).facts.notes))


def test_time_code_and_several_sounds_are_told(tmp_path: Path) -> None:
    path = tmp_path / "reel.mov"
    with av.open(str(path), "w") as container:
        container.metadata["timecode"] = "01:00:00;00"
        video = container.add_stream("libx264", rate=Fraction(30000, 1001))
        assert isinstance(video, av.VideoStream)
        video.width, video.height, video.pix_fmt = 160, 96, "yuv420p"
        sounds = [container.add_stream("pcm_s16le", rate=48000, layout=layout) for layout in ("mono", "stereo", "5.1")]
        from nimbus_sweep.core.media.layout import to_picture

        for n, frame in enumerate(small(30).frames(0, 30)):
            picture = to_picture(frame)
            picture.pts = n
            container.mux(video.encode(picture))
        for sound, channels in zip(sounds, (1, 2, 6), strict=True):
            assert isinstance(sound, av.AudioStream)
            block = av.AudioFrame.from_ndarray(np.zeros((1, 48000 * channels), np.int16), format="s16", layout=sound.layout.name)
            block.sample_rate, block.pts = 48000, 0
            container.mux(sound.encode(block))
            container.mux(sound.encode())
        container.mux(video.encode())
    reel = open_reel(path)
    assert reel.facts.time_code == "01:00:00;00"
    assert [(s.channels, s.seconds) for s in reel.facts.sounds] == [(1, 1.0), (2, 1.0), (6, 1.0)]
    out = open_reel(delivered(tmp_path, reel, FORMATS["prores-422hq"]))
    assert [s.channels for s in out.facts.sounds] == [1, 2, 6]
    assert out.facts.time_code == "01:00:00;00"


def test_the_usual_kind_is_lossless_in_the_manner_of_the_source(tmp_path: Path) -> None:
    reel = open_reel(write_movie(tmp_path / "reel.mkv", small(3)))
    assert usual_kind(reel.facts, reel.format) == "ffv1"
    assert Delivery().kind == "ffv1"
    with pytest.raises(ValueError, match="kind"):
        Delivery.model_validate({"kind": "gif"})


@pytest.mark.parametrize("name", ["rgb24", "bgra", "nv12", "yuv422p10le"])
def test_kin_hold_the_very_samples(name: str) -> None:
    source = noise(name)
    held = FORMATS["ffv1"].held(source.format)
    assert FORMATS["ffv1"].exact(source.format)
    kin = to_kin(source.frame(0), held)
    assert {c.name for c in kin.format.components} >= {c.name for c in source.format.components}
