"""Writing reels: FFV1 (RFC 9043) in Matroska, sample for sample, with the source's sound copied.

A delivery is written in chunks, each a small file of its own, which are then joined packet by packet
without decoding. FFV1 codes every frame alone, so chunks join anywhere.
"""

from __future__ import annotations

import hashlib
import heapq
from collections.abc import Iterable, Iterator, Sequence
from fractions import Fraction
from pathlib import Path
from typing import BinaryIO

import av

from ..errors import UnreadableReel
from ..frames import Frame, PictureFormat
from .aside import written_aside
from .layout import EXACT_KIN, picture_format, to_kin, to_picture
from .reader import ASPECT_TAG, MovieReader, ReelFacts

_HELD = frozenset(f.name for f in av.Codec("ffv1", "w").video_formats or ())
REPORT_TAG = "TREATMENT_REPORT"
# Fine enough to hold any source's time stamps and every usual rate exactly.
_OUT_BASE = Fraction(1, 1000)


def lossless_format(layout: PictureFormat) -> PictureFormat:
    """The layout in which the lossless writer holds `layout`: its own, or an exact kin of it.

    Raises
    ------
    UnreadableReel
        If the writer can hold neither.
    """
    name = EXACT_KIN.get(layout.name, layout.name)
    if name not in _HELD:
        raise UnreadableReel(f"FFV1 cannot hold the pixel format {layout.name} exactly. Convert the reel to yuv422p10le or gbrp16le first.")
    return layout if name == layout.name else picture_format(name, layout.width, layout.height)


def write_chunk(path: Path, frames: Iterable[Frame], facts: ReelFacts, threads: int = 0) -> int:
    """Write frames as one FFV1 file; returns how many.

    Parameters
    ----------
    path : Path
        Appears only when whole.
    frames : iterable of Frame
    facts : ReelFacts
        Of the source: rate, pixel aspect and colour tags are taken from it.
    threads : int
        For the encoder's slices; 0 lets it choose.
    """
    count = 0
    with written_aside(path) as stream, av.open(stream, "w", format="matroska") as container:
        video: av.VideoStream | None = None
        held: PictureFormat | None = None
        for frame in frames:
            if video is None or held is None:
                held = lossless_format(frame.format)
                video = _add_video(container, held, facts, threads)
            picture = to_picture(to_kin(frame, held))
            picture.pts = count
            container.mux(video.encode(picture))
            count += 1
        if video is not None:
            container.mux(video.encode())
    return count


def _add_video(container: av.container.OutputContainer, held: PictureFormat, facts: ReelFacts, threads: int) -> av.VideoStream:
    stream = container.add_stream("ffv1", rate=facts.rate)
    stream.width, stream.height, stream.pix_fmt = held.width, held.height, held.name
    context = stream.codec_context
    context.time_base = 1 / facts.rate
    context.gop_size = 1
    context.thread_type = "SLICE"
    context.thread_count = threads
    context.options = {"level": "3", "coder": "1", "context": "0", "slicecrc": "1", "slices": "4" if held.height >= 64 else "1"}
    context.sample_aspect_ratio = facts.sample_aspect
    colour = facts.colour
    context.colorspace = colour.matrix
    context.color_range = colour.range_code
    context.color_primaries = colour.primaries
    context.color_trc = colour.transfer
    return stream


def join(chunks: Sequence[Path], reel: MovieReader, out: Path, tags: dict[str, str] | None = None) -> None:
    """Join chunk files into one delivery with the reel's sound, packet by packet.

    Parameters
    ----------
    chunks : sequence of Path
        In order; together they hold every frame of `reel`.
    reel : MovieReader
        The source: time stamps and sound come from it.
    out : Path
        Appears only when whole.
    tags : dict
        Written into the file beside the source's own.
    """
    priming = _priming(reel.path)
    # Checksums of the header would not agree with what is noted in it afterwards; FFV1 carries its own in every slice.
    options = {"write_crc32": "0"} if priming else {}
    with written_aside(out) as stream:
        with (
            av.open(stream, "w", format="matroska", options=options) as container,
            av.open(str(chunks[0])) as first,
            av.open(str(reel.path), metadata_errors="replace") as source,
        ):
            for key, value in {**source.metadata, **(tags or {})}.items():
                container.metadata[key] = value
            video = container.add_stream_from_template(first.streams.video[0])
            video.time_base = _OUT_BASE
            video.codec_context.framerate = reel.facts.rate
            for key, value in source.streams.video[0].metadata.items():
                if key.lower() not in ("encoder", "duration", "handler_name", "vendor_id"):
                    video.metadata[key] = value
            aspect = reel.facts.sample_aspect
            if aspect != 1:
                video.metadata[ASPECT_TAG] = f"{aspect.numerator}:{aspect.denominator}"
            sounds = [s for s in source.streams.audio if s.codec_context.name]
            copies = {s.index: container.add_stream_from_template(s) for s in sounds}
            for s in sounds:
                copies[s.index].metadata.update(s.metadata)
                if s.index in priming:
                    copies[s.index].metadata["title"] = _placeholder(s.index)
            sound = _sound(source, sounds, copies, reel.facts.start, priming)
            for _, packet in heapq.merge(_pictures(chunks, reel, video), sound, key=lambda p: p[0]):
                container.mux_one(packet)
        for index, seconds in priming.items():
            _note_codec_delay(stream, _placeholder(index), seconds)


def _priming(path: Path) -> dict[int, Fraction]:
    """For each sound stream whose decoder is told by an edit list to leave out samples at its start, how many seconds.

    Matroska keeps such a delay in its track header; streams that bring it in their own description are not listed.
    """
    found: dict[int, Fraction] = {}
    with av.open(str(path), metadata_errors="replace") as container:
        if "matroska" in container.format.name:
            return found
        waiting = {s.index: s for s in container.streams.audio if s.codec_context.name not in ("", "opus", "vorbis")}
        for packet in container.demux(*waiting.values()) if waiting else ():
            stream = waiting.pop(packet.stream.index, None)
            if stream is not None and packet.has_sidedata("skip_samples"):
                samples = int.from_bytes(bytes(packet.get_sidedata("skip_samples"))[:4], "little")
                if samples and stream.rate:
                    found[stream.index] = Fraction(samples, stream.rate)
            if not waiting:
                break
    return found


def _placeholder(index: int) -> str:
    return f"prime{index:03d}"


def _note_codec_delay(stream: BinaryIO, placeholder: str, seconds: Fraction) -> None:
    """Turn a track's name of eight letters into its codec delay, which takes the same room.

    The media library's binding cannot set the delay. In Matroska (RFC 9559) a track's Name is 53 6E, its CodecDelay,
    in nanoseconds, 56 AA; both are followed here by a length of eight.
    """
    stream.seek(0)
    head = stream.read(1 << 20)
    name = b"\x53\x6e\x88" + placeholder.encode()
    if head.count(name) != 1:
        raise RuntimeError("the track header was not written as expected")
    stream.seek(head.index(name))
    stream.write(b"\x56\xaa\x88" + round(seconds * 10**9).to_bytes(8, "big"))
    stream.seek(0, 2)


def _pictures(chunks: Sequence[Path], reel: MovieReader, video: av.VideoStream) -> Iterator[tuple[float, av.Packet]]:
    number = 0
    for chunk in chunks:
        with av.open(str(chunk)) as container:
            for packet in container.demux(video=0):
                if not packet.size:
                    continue
                seconds = number / reel.facts.rate if reel.facts.constant_timing else reel.time_of(number)
                packet.stream = video
                packet.time_base = _OUT_BASE
                packet.pts = packet.dts = round(seconds / _OUT_BASE)
                packet.duration = round(1 / reel.facts.rate / _OUT_BASE)
                number += 1
                yield float(seconds), packet
    if number != len(reel):
        raise RuntimeError(f"the chunks hold {number} frames, the reel {len(reel)}")


def _sound(
    source: av.container.InputContainer,
    sounds: Sequence[av.AudioStream],
    copies: dict[int, av.AudioStream],
    start: Fraction,
    priming: dict[int, Fraction],
) -> Iterator[tuple[float, av.Packet]]:
    """Sound packets untouched, their time counted from the first picture."""
    if not sounds:
        return
    for packet in source.demux(*sounds):
        if packet.pts is None or not packet.size or packet.time_base is None:
            continue
        base = packet.time_base
        # Behind a codec delay, time in the file is counted from the first sample that is decoded, heard or not.
        packet.pts -= round((start - priming.get(packet.stream.index, 0)) / base)
        packet.dts = packet.pts
        seconds = float(packet.pts * base)
        packet.stream = copies[packet.stream.index]
        yield seconds, packet


def sound_packets(path: str | Path) -> list[list[str]]:
    """For each sound stream of a file, the SHA-256 of every packet, in order."""
    digests: dict[int, list[str]] = {}
    with av.open(str(path), metadata_errors="replace") as container:
        streams = [s for s in container.streams.audio if s.codec_context.name]
        for stream in streams:
            digests[stream.index] = []
        if streams:
            for packet in container.demux(*streams):
                if packet.size:
                    digests[packet.stream.index].append(hashlib.sha256(bytes(packet)).hexdigest())
    return list(digests.values())
