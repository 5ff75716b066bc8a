"""Writing movies: in chunks, each a small file of its own, then joined packet by packet without decoding.

Every kind of delivery codes each frame alone, or begins each chunk with a key frame, so chunks join anywhere.
"""

from __future__ import annotations

import hashlib
import heapq
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass
from fractions import Fraction
from pathlib import Path
from typing import BinaryIO

import av
import cv2

from ..base.files import atomic_write
from .formats import DeliveryFormat, converted
from .frames import Frame, PictureFormat
from .layout import to_picture
from .reader import ASPECT_TAG
from .reel import ReelFacts, ReelReader
from .sound import trimmed

REPORT_TAG = "TREATMENT_REPORT"
REPORT_FILE = "report.json"
# Fine enough to hold any source's time stamps and every usual rate exactly.
_OUT_BASE = Fraction(1, 1000)


@dataclass(frozen=True)
class Cut:
    """Which part of a reel a delivery holds.

    Attributes
    ----------
    first, stop : int
        Frames of the reel, from `first` up to, not including, `stop`.
    numbers : sequence of int or None
        The frames in it, when repeated ones are left out.
    rate : Fraction or None
        The rate at which those run; None keeps the source's times.
    """

    first: int
    stop: int
    numbers: Sequence[int] | None = None
    rate: Fraction | None = None

    def __len__(self) -> int:
        return self.stop - self.first if self.numbers is None else len(self.numbers)

    def number(self, place: int) -> int:
        """The reel's number of the frame at `place` in the delivery."""
        return self.first + place if self.numbers is None else self.numbers[place]

    def time_of(self, place: int, reel: ReelReader) -> Fraction:
        """Seconds from the delivery's first frame to that at `place`."""
        if self.rate is not None:
            return place / self.rate
        if reel.facts.constant_timing:
            return (self.number(place) - self.first) / reel.rate
        return reel.time_of(self.number(place)) - reel.time_of(self.first)

    def is_whole(self, reel: ReelReader) -> bool:
        """Whether it runs from the reel's first frame to its last."""
        return self.first == 0 and self.stop == len(reel)


def write_chunk(path: Path, frames: Iterable[Frame], facts: ReelFacts, format: DeliveryFormat, threads: int = 0, burn: bool = False) -> int:
    """Write frames as one file of the delivery's kind; returns how many.

    Parameters
    ----------
    path : Path
        Appears only when whole.
    frames : iterable of Frame
    facts : ReelFacts
        Of the source: rate, pixel aspect and colour tags are taken from it.
    format : DeliveryFormat
    threads : int
        For the encoder's slices; 0 lets it choose.
    burn : bool
        Burn the frame number in.
    """
    count = 0
    with atomic_write(path) as stream, av.open(stream, "w", format=format.container) as container:
        video: av.VideoStream | None = None
        held: PictureFormat | None = None
        for frame in frames:
            if held is None:
                held = format.held(frame.format)
            shown = converted(frame, held)
            if video is None:
                video = _add_video(container, shown, facts, format, threads)
            picture = to_picture(_numbered(shown) if burn else shown)
            picture.pts = count
            container.mux(video.encode(picture))
            count += 1
        if video is not None:
            container.mux(video.encode())
    return count


def _add_video(
    container: av.container.OutputContainer, like: Frame, facts: ReelFacts, format: DeliveryFormat, threads: int
) -> av.VideoStream:
    held, colour = like.format, like.colour
    stream = container.add_stream(format.codec, rate=facts.rate)
    assert isinstance(stream, av.VideoStream)
    stream.width, stream.height, stream.pix_fmt = held.width, held.height, held.name
    context = stream.codec_context
    context.time_base = 1 / facts.rate
    context.sample_aspect_ratio = facts.sample_aspect
    options = dict(format.options)
    if format.codec == "ffv1":
        context.gop_size = 1
        context.thread_type = "SLICE"
        context.thread_count = threads
        options |= {"level": "3", "coder": "1", "context": "0", "slicecrc": "1", "slices": "4" if held.height >= 64 else "1"}
    elif format.codec == "prores_ks":
        context.thread_type = "AUTO"
    context.options = options
    if facts.field_order in _FIELD_ORDERS:
        context.field_order = _FIELD_ORDERS[facts.field_order]
        if facts.field_order != "progressive" and format.codec in ("prores_ks", "dnxhd"):
            context.flags |= int(av.codec.context.Flags.interlaced_dct)
    if colour.matrix or held.components[0].name in "RGB":
        context.colorspace = colour.matrix
    context.color_range = colour.range_code
    context.color_primaries = colour.primaries
    context.color_trc = colour.transfer if colour.transfer in _TAGGED else 2
    return stream


# Transfers that players know; a film scan's own curve is no tag.
_TAGGED = frozenset((1, 2, 4, 5, 6, 7, 8, 11, 13, 14, 15, 16, 17, 18))


# Codes of the media library.
_FIELD_ORDERS = {"progressive": 1, "top": 2, "bottom": 3}


def _numbered(frame: Frame) -> Frame:
    """The frame with its number burnt into the lower edge: for review."""
    marked = frame.copy()
    luma = marked.component(0)
    tall, bits = luma.shape[0], frame.format.components[0].bits
    scale = max(0.4, tall / 720)
    text = f"{frame.number:06d}"
    (wide, high), _ = cv2.getTextSize(text, cv2.FONT_HERSHEY_SIMPLEX, scale, max(1, round(2 * scale)))
    left, bottom = (luma.shape[1] - wide) // 2, tall - round(12 * scale)
    top = max(0, bottom - high - round(8 * scale))
    luma[top : tall - round(4 * scale), max(0, left - 8) : left + wide + 8] = (24 << bits) >> 8
    drawn = luma.copy()
    cv2.putText(drawn, text, (left, bottom), cv2.FONT_HERSHEY_SIMPLEX, scale, float((220 << bits) >> 8), max(1, round(2 * scale)))
    luma[:] = drawn
    return marked


def join(chunks: Sequence[Path], reel: ReelReader, out: Path, format: DeliveryFormat, cut: Cut, tags: dict[str, str] | None = None) -> None:
    """Join chunk files into one delivery with the reel's sound, packet by packet.

    Parameters
    ----------
    chunks : sequence of Path
        In order; together they hold every frame of `cut`.
    reel : ReelReader
        The source: time stamps and sound come from it.
    out : Path
        Appears only when whole.
    format : DeliveryFormat
    cut : Cut
        A part of a reel has its sound cut to the sample, which uncompresses it.
    tags : dict
        Written into the file beside the source's own.
    """
    matroska = format.container == "matroska"
    movie = reel.facts.container != "sequence"
    priming = _priming(reel.path) if movie and matroska and cut.is_whole(reel) else {}
    # Checksums of the header would not agree with what is noted in it afterwards; FFV1 carries its own in every slice.
    options = {"write_crc32": "0"} if priming else {} if matroska else {"movflags": "use_metadata_tags+write_colr"}
    with atomic_write(out) as stream:
        with av.open(stream, "w", format=format.container, options=options) as container, av.open(str(chunks[0])) as first:
            # Without names made up at random, so that the same frames give the same file.
            container.flags |= av.container.Flags.bitexact.value  # type: ignore[operator]
            source = av.open(str(reel.path), metadata_errors="replace") if movie else None
            try:
                for key, value in {**(source.metadata if source else {}), **(tags or {})}.items():
                    container.metadata[key] = value
                video = container.add_stream_from_template(first.streams.video[0])
                rate = cut.rate or reel.rate
                base = _OUT_BASE if matroska else _fine_base(rate, reel)
                video.time_base = base
                video.codec_context.framerate = rate
                if source:
                    for key, value in source.streams.video[0].metadata.items():
                        if key.lower() not in ("encoder", "duration", "handler_name", "vendor_id", "timecode"):
                            video.metadata[key] = value
                if reel.facts.time_code and cut.is_whole(reel):
                    container.metadata["timecode"] = reel.facts.time_code
                aspect = reel.facts.sample_aspect
                if aspect != 1 and matroska:
                    video.metadata[ASPECT_TAG] = f"{aspect.numerator}:{aspect.denominator}"
                sound = _sound_streams(container, source, reel, format, cut, priming)
                # Streams are named in full before the first packet.
                parts = [_pictures(chunks, reel, video, cut, base), *sound]
                for _, packet in heapq.merge(*parts, key=lambda p: p[0]):
                    container.mux_one(packet)
            finally:
                if source:
                    source.close()
        for index, seconds in priming.items():
            _note_codec_delay(stream, _placeholder(index), seconds)


def _fine_base(rate: Fraction, reel: ReelReader) -> Fraction:
    """A clock on which every frame lies exactly where it belongs."""
    return Fraction(1, 90000) if not reel.facts.constant_timing else Fraction(1, rate.numerator)


_Timed = Iterator[tuple[float, av.Packet]]


def _sound_streams(
    container: av.container.OutputContainer,
    source: av.container.InputContainer | None,
    reel: ReelReader,
    format: DeliveryFormat,
    cut: Cut,
    priming: dict[int, Fraction],
) -> list[_Timed]:
    """The sound: copied where the whole reel is delivered and the container takes it, else turned and cut to the sample."""
    if source is None:
        return []
    sounds = [s for s in source.streams.audio if s.codec_context.name]
    uncut = cut.is_whole(reel)
    copied = [s for s in sounds if uncut and (format.copies is None or s.codec_context.name in format.copies)]
    copies = {}
    turned = []
    for s in sounds:
        if s in copied:
            copies[s.index] = container.add_stream_from_template(s)
            copies[s.index].metadata.update(s.metadata)
            if s.index in priming:
                copies[s.index].metadata["title"] = _placeholder(s.index)
        else:
            codec = "pcm_s16le" if s.codec_context.name in ("pcm_s16le", "pcm_s16be") else format.sound
            made = container.add_stream(codec, rate=s.rate, layout=s.layout.name if s.layout else "stereo")
            assert isinstance(made, av.AudioStream)
            turned.append(_encoded(reel, s.index, made, cut))
    if copied:
        turned.insert(0, _copied(source, copied, copies, reel.facts.start, priming))
    return turned


def _encoded(reel: ReelReader, index: int, made: av.AudioStream, cut: Cut) -> _Timed:
    start, end = sound_span(reel, cut)
    position = 0
    for frame in trimmed(reel.path, index, reel.facts.start + start, reel.facts.start + end, made.codec_context.format.name):
        frame.pts, frame.time_base = position, Fraction(1, made.rate)
        position += frame.samples
        for packet in made.encode(frame):
            yield float((packet.pts or 0) * packet.time_base), packet
    for packet in made.encode(None):
        yield float((packet.pts or 0) * packet.time_base), packet


def sound_span(reel: ReelReader, cut: Cut) -> tuple[Fraction, Fraction]:
    """Seconds after the reel's first picture at which the part begins and ends."""
    end = (
        reel.time_of(cut.stop)
        if cut.stop < len(reel)
        else max(reel.facts.duration, Fraction(max((s.seconds for s in reel.facts.sounds), default=0)).limit_denominator(1000))
    )
    return reel.time_of(cut.first), end


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


def _pictures(chunks: Sequence[Path], reel: ReelReader, video: av.VideoStream, cut: Cut, base: Fraction) -> _Timed:
    place = 0
    rate = cut.rate or reel.rate
    for chunk in chunks:
        with av.open(str(chunk)) as container:
            for packet in container.demux(video=0):
                if not packet.size:
                    continue
                seconds = cut.time_of(place, reel)
                packet.stream = video
                packet.time_base = base
                packet.pts = packet.dts = round(seconds / base)
                packet.duration = round(1 / rate / base)
                place += 1
                yield float(seconds), packet
    if place != len(cut):
        raise RuntimeError(f"the chunks hold {place} frames, the delivery {len(cut)}")


def _copied(
    source: av.container.InputContainer,
    sounds: Sequence[av.AudioStream],
    copies: dict[int, av.AudioStream],
    start: Fraction,
    priming: dict[int, Fraction],
) -> _Timed:
    """Sound packets untouched, their time counted from the first picture."""
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
