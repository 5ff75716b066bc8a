"""Movie files read with exact frame numbers.

The index is made from the packets, never from what the header claims: frame *n* is the *n*-th picture in
order of presentation. A frame is found by decoding from the key frame before it until its time stamp comes up.
"""

from __future__ import annotations

import bisect
import re
import threading
from collections.abc import Iterator
from dataclasses import replace
from fractions import Fraction
from pathlib import Path

import av
import numpy as np

from ..base.errors import ChangedReel, DamagedReel, Overtaken, UnreadableReel
from .damage import altered_stretches, has_parity, packet_check
from .decoding import pictures
from .frames import Colour, Frame, FrameCache, PictureFormat, blank
from .holes import Place, lost_stamps, segment_is_cut_short
from .layout import native_name, picture_format, planes_of
from .reel import ReelFacts, ReelReader, Sound, altered_words, gone
from .remarks import Remark

# Packets by which it is told whether a stream carries parities.
_PARITIES = 16
# A picture further ahead than this many frames is reached by seeking when a key frame lies between.
_DECODE_AHEAD = 24
MAX_PIXELS = 16384 * 16384
# Rates of film and video (common practice, no source).
_USUAL_RATES = [Fraction(n) for n in (12, 15, 16, 18, 24, 25, 30, 48, 50, 60, 96, 100, 120)] + [
    Fraction(n * 1000, 1001) for n in (24, 30, 48, 60, 120)
]
ASPECT_TAG = "SAMPLE_ASPECT_RATIO"
# Codes of the media library: progressive; then which field is shown first.
_FIELD_ORDERS = {1: "progressive", 2: "top", 3: "bottom", 4: "bottom", 5: "top"}


def usual_rate(rate: Fraction) -> Fraction:
    """The usual rate within a thousandth of `rate`, or itself."""
    near = min(_USUAL_RATES, key=lambda usual: abs(usual - rate))
    return near if abs(near - rate) < rate / 2000 else rate


class MovieReader(ReelReader):
    """A movie file as a `FrameSource`.

    Parameters
    ----------
    path : path-like
    accept_missing : bool
        Take pictures that cannot be decoded for missing instead of refusing the file. This decodes it once.
    cache_bytes : int
        Bound of the frames kept in memory.

    Raises
    ------
    UnreadableReel
        If there is no file, it holds no moving pictures, or its pixel format cannot be treated.
    """

    def __init__(self, path: str | Path, accept_missing: bool = False, cache_bytes: int = 192 << 20) -> None:
        self.path = Path(path)
        self._lock = threading.RLock()
        self._cache = FrameCache(cache_bytes)
        self._container: av.container.InputContainer | None = None
        self._decoder: Iterator[Frame] | None = None
        self._next = -1
        self._absent: set[int] = set()
        self._has_parity = False
        self._stamp = self._file_stamp()
        self._scan()
        if accept_missing:
            self._find_undecodable()

    # -- opening -------------------------------------------------------------------------------------------

    def _file_stamp(self) -> tuple[int, int]:
        try:
            found = self.path.stat()
        except OSError as error:
            raise UnreadableReel(f"{self.path.name}: there is no such file, or it may not be read ({error.strerror}).") from error
        if not self.path.is_file():
            raise UnreadableReel(f"{self.path.name} is not a file. Name a movie file.")
        if found.st_size == 0:
            raise UnreadableReel(f"{self.path.name} is empty (0 bytes). Copy it from its source again.")
        return found.st_size, found.st_mtime_ns

    def _open(self) -> av.container.InputContainer:
        try:
            return av.open(str(self.path), metadata_errors="replace")
        except (av.FFmpegError, OSError, ValueError) as error:
            raise UnreadableReel(
                f"{self.path.name} cannot be read as a movie ({_words(error)}). "
                "If it should be one, its end or its index may be missing: copy it again."
            ) from error

    def _scan(self) -> None:
        with self._open() as container:
            if not container.streams.video:
                raise UnreadableReel(f"{self.path.name} holds no pictures, only {_kinds(container)}. Choose a file with a video stream.")
            stream = container.streams.video[0]
            if "image2" in container.format.name or container.format.name.endswith("_pipe"):
                raise UnreadableReel(f"{self.path.name} is a still picture. Defects are found by looking along time: choose a movie file.")
            context = stream.codec_context
            if context is None:
                raise UnreadableReel(f"{self.path.name}: how its pictures are coded is not known here, or the file is damaged.")
            if context.width <= 0 or context.height <= 0 or not context.pix_fmt:
                raise UnreadableReel(f"{self.path.name}: its pictures have no readable size or pixel format. The file is damaged.")
            if context.width * context.height > MAX_PIXELS:
                raise UnreadableReel(f"{self.path.name}: {context.width} x {context.height} pixels is beyond what can be treated.")
            self.format: PictureFormat = picture_format(context.pix_fmt, context.width, context.height)
            self.colour = _colour(context, self.format)
            sound_ends = self._read_packets(container, stream)
            self._describe(container, stream, sound_ends)

    def _read_packets(self, container: av.container.InputContainer, stream: av.VideoStream) -> dict[int, float]:
        stamps: list[int] = []
        keys: list[int] = []
        untimed = 0
        broken: set[int] = set()
        parities = _PARITIES if stream.codec_context.name == "ffv1" else 0
        places: list[Place] = []
        sound_ends: dict[int, float] = {}
        self.index_error = ""
        # AVI knows no presentation times, and those made up for these codecs are wrong where pictures are coded out of
        # order: pictures are counted, in the order they come out, from the key frame before them.
        self._in_order = container.format.name == "avi" and stream.codec_context.name in ("h264", "hevc")
        try:
            for packet in container.demux():
                if packet.stream.type == "audio" and packet.pts is not None and packet.time_base:
                    ends = float((packet.pts + (packet.duration or 0)) * packet.time_base)
                    sound_ends[packet.stream.index] = max(sound_ends.get(packet.stream.index, 0.0), ends)
                if packet.pos is not None and packet.pos >= 0 and packet.size:
                    places.append((packet.pos, packet.size, packet.pts if packet.stream.index == stream.index else None))
                if packet.stream.index != stream.index or packet.size == 0:
                    continue
                if packet.is_discard and not packet.is_corrupt:
                    continue
                if parities > 0:
                    self._has_parity = has_parity(bytes(packet))
                    parities = 0 if self._has_parity else parities - 1
                stamp = packet.dts if self._in_order else packet.pts
                if stamp is None:
                    untimed += not packet.is_corrupt
                    stamp = packet.dts
                if packet.is_corrupt:
                    broken.add(stamp if stamp is not None else -len(broken) - 1)
                elif stamp is not None:
                    stamps.append(stamp)
                    if packet.is_keyframe:
                        keys.append(stamp)
        except av.FFmpegError as error:
            self.index_error = _words(error)
        self._time_base = stream.time_base or Fraction(1, 1000)
        # Without presentation times on B-frame material only decoding tells the order.
        by_decoding = untimed > 0 or len(set(stamps)) != len(stamps) or not stamps
        self._untimed = by_decoding and all(p is None for p in (stream.start_time, stream.duration)) and untimed > 0
        if by_decoding:
            stamps = self._decode_stamps()
            keys = stamps[:1]
        if self._untimed:
            # A bare stream of pictures has no times: they are counted at the rate it names, or the usual one.
            named = next((Fraction(r) for r in (stream.guessed_rate, stream.average_rate) if r and 1 <= r <= 1000), Fraction(24))
            stamps = list(range(len(stamps)))
            keys = stamps[:1]
            self._time_base = 1 / named
        self._stamps = sorted(stamps)
        # What lay where the file cannot be read keeps its numbers; what is left of a picture that a broken end cut is none.
        lost = [] if by_decoding or self._in_order else [s for s in broken if stamps and self._stamps[0] < s < self._stamps[-1]]
        self._cut_short = len(broken) - len(lost)
        if not by_decoding and not self._in_order:
            lost += lost_stamps(sorted({*self._stamps, *lost}), places)
        self._stamps = sorted({*self._stamps, *lost})
        self._places = {stamp: (place, size) for place, size, stamp in places if stamp is not None}
        self._absent = {bisect.bisect_left(self._stamps, stamp) for stamp in lost}
        self._keys = sorted(keys) or self._stamps[:1]
        if not self._stamps:
            raise UnreadableReel(f"{self.path.name} promises pictures but not one of them can be read. Copy it from its source again.")
        return sound_ends

    def _decode_stamps(self) -> list[int]:
        stamps: list[int] = []
        with self._open() as container:
            for picture, _ in pictures(container):
                stamp = picture.pts if picture.pts is not None else picture.dts
                stamps.append(stamp if stamp is not None and (not stamps or stamp > stamps[-1]) else (stamps[-1] + 1 if stamps else 0))
        return stamps

    def _describe(self, container: av.container.InputContainer, stream: av.VideoStream, sound_ends: dict[int, float]) -> None:
        context = stream.codec_context
        count = len(self._stamps)
        self.rate, constant, interval, intervals = _timing(self._stamps, self._time_base, stream)
        turned, field_order = self._first_picture()
        start = self._stamps[0] * self._time_base
        end = self._stamps[-1] * self._time_base + 1 / self.rate
        promised = self._promised(container, stream, count, float(end), max(sound_ends.values(), default=0.0))
        aspect = stream.sample_aspect_ratio or _tagged_aspect(stream)
        assumptions = self._assumptions(bool(aspect))
        notes = self._notes(stream, constant, interval, intervals, promised)
        self.facts = ReelFacts(
            path=str(self.path),
            container=container.format.name.split(",")[0],
            codec=context.name,
            pixel_format=self.format.name,
            bits=self.format.components[0].bits,
            width=self.format.width,
            height=self.format.height,
            frames=count,
            promised=promised,
            rate=self.rate,
            constant_timing=constant,
            interval_range=interval,
            start=start,
            duration=end - start,
            colour=self.colour,
            sample_aspect=Fraction(aspect or 1),
            sounds=tuple(_sound(s, sound_ends.get(s.index, 0.0) - float(start)) for s in container.streams.audio),
            notes=tuple(notes),
            assumptions=tuple(assumptions),
            intervals=intervals,
            field_order=field_order,
            time_code=_time_code(container),
            turned=turned,
            absent=tuple(sorted(self._absent)),
        )

    def _notes(
        self,
        stream: av.VideoStream,
        constant: bool,
        interval: tuple[float, float],
        intervals: tuple[tuple[float, int], ...],
        promised: int,
    ) -> list[Remark]:
        """What of the file is out of the ordinary."""
        count, start = len(self._stamps), self._stamps[0] * self._time_base
        notes = []
        if stream.frames and stream.frames < count:
            notes.append(Remark.of("header-counts-fewer", counted=stream.frames, count=count))
        if start != 0:
            notes.append(Remark.of("starts-late", start=float(start)))
        if not constant:
            notes.append(Remark.of("timing-varies", shortest=interval[0] * 1000, longest=interval[1] * 1000))
        if dropped := _dropped(intervals, constant):
            notes.append(Remark.of("frames-dropped", count=dropped))
        if promised > count:
            notes.append(Remark.of("frames-missing", count=promised - count, readable=count, error=self.index_error))
        if self._absent:
            notes.append(Remark.of("frames-undecodable", count=len(self._absent)))
        if self._untimed:
            notes.append(Remark.of("no-times"))
        return notes

    def _assumptions(self, aspect_known: bool) -> list[str]:
        """What the file does not say, and is assumed."""
        assumed = {
            "matrix": self.colour.assumed,
            "range": self.colour.range_code == 0 and self.format.components[0].name == "Y",
            "rate": self._untimed,
            "transfer": self.colour.transfer == 2,
            "pixel aspect": not aspect_known,
        }
        return [name for name, is_so in assumed.items() if is_so]

    def _first_picture(self) -> tuple[int, str]:
        """Quarter turns clockwise the file asks for, and the order of its fields, as the first picture tells them."""
        with self._open() as container:
            stream = container.streams.video[0]
            picture = next((p for p, _ in pictures(container)), None)
            order = _FIELD_ORDERS.get(int(stream.codec_context.field_order or 0), "")
        if picture is None:
            return 0, ""
        turned = round(-picture.rotation / 90) % 4
        if picture.interlaced_frame and order not in ("top", "bottom"):
            order = "top"
        return turned, order or ("progressive" if not picture.interlaced_frame else "")

    def _promised(self, container: av.container.InputContainer, stream: av.VideoStream, count: int, end: float, sound_end: float) -> int:
        promised = count + self._cut_short
        if segment_is_cut_short(self.path):
            # Whatever the last second held is gone, though clocks of containers would allow for it.
            ends = (container.duration or 0) / av.time_base
            promised = max(promised + 1, round(ends * float(self.rate)))
        # A container keeps its own clock: a promise in seconds counts only beyond two frames and a tenth of a second.
        slack = max(0.1, 2 / float(self.rate))
        first = self._stamps[0] * float(self._time_base)
        if container.format.name == "mxf" and stream.duration:
            # Counted in pictures (SMPTE ST 377-1, 10.12).
            promised = max(promised, int(stream.duration))
        if stream.duration and stream.time_base:
            seconds = float(stream.duration * stream.time_base) + first
            if seconds > end + slack:
                promised = max(promised, round((seconds - first) * float(self.rate)))
        elif container.duration:
            seconds = container.duration / av.time_base + max(0.0, (container.start_time or 0) / av.time_base)
            if seconds > max(end, sound_end) + slack:
                promised = max(promised, round((seconds - first) * float(self.rate)))
        if stream.frames > count:
            promised = max(promised, stream.frames)
        return promised

    def _find_undecodable(self) -> None:
        """Decode the file once: what cannot be decoded keeps its number and counts as absent."""
        with self._open() as container:
            readable = {number for number, _, is_sound in self._numbered(container, 0) if is_sound}
        self._absent = set(range(len(self._stamps))) - readable
        if len(self._absent) == len(self._stamps):
            raise UnreadableReel(f"{self.path.name}: not one picture can be decoded. Copy it from its source again.")
        notes = self.facts.notes
        if self._absent:
            notes = (*(n for n in notes if n.code != "frames-undecodable"), Remark.of("frames-undecodable", count=len(self._absent)))
        if altered := self._altered():
            notes = (*notes, Remark.of("stretch-altered", first=altered[0], last=altered[1]))
        self.facts = replace(self.facts, absent=tuple(sorted(self._absent)), notes=notes)

    # -- frames --------------------------------------------------------------------------------------------

    def __len__(self) -> int:
        return len(self._stamps)

    @property
    def key_frames(self) -> list[int]:
        """Numbers of the frames that are coded on their own."""
        return [] if not self._stamps else [bisect.bisect_left(self._stamps, key) for key in self._keys]

    def time_of(self, number: int) -> Fraction:
        """Seconds from the first frame to frame `number`, exact."""
        return (self._stamps[number] - self._stamps[0]) * self._time_base

    def frame(self, number: int) -> Frame:
        """Frame `number` on its native planes; read-only use, as it may be shared from the cache.

        Raises
        ------
        IndexError
            Outside the reel.
        DamagedReel
            If this picture cannot be decoded.
        """
        if not 0 <= number < len(self._stamps):
            raise IndexError(number)
        if number in self._absent:
            return blank(number, self.format, self.colour)
        held = self._cache.get(number)
        if held is not None:
            return held
        with self._lock:
            for frame in self._from(number):
                self._cache.put(frame)
                if frame.number == number:
                    return frame
                if frame.number > number:
                    break
                if self.overtaken is not None and self.overtaken():
                    raise Overtaken
        raise self._undecodable(number)

    def frames(self, first: int, stop: int) -> Iterator[Frame]:
        """Frames `first` to `stop` - 1 in order, decoded on a container of their own."""
        if not 0 <= first <= stop <= len(self._stamps):
            raise IndexError((first, stop))
        wanted = first
        with self._open() as container:
            for frame in self._decode(container, first) if first < stop else ():
                if frame.number < wanted:
                    continue
                while wanted < min(frame.number, stop) and wanted in self._absent:
                    yield blank(wanted, self.format, self.colour)
                    wanted += 1
                if wanted >= stop:
                    return
                if frame.number != wanted:
                    raise self._undecodable(wanted)
                yield frame
                wanted += 1
                if wanted >= stop:
                    return
        while wanted < stop:
            if wanted not in self._absent:
                raise self._undecodable(wanted)
            yield blank(wanted, self.format, self.colour)
            wanted += 1

    def _undecodable(self, number: int) -> DamagedReel:
        return DamagedReel(
            f"{self.path.name}: frame {number} cannot be decoded; the file is damaged there. "
            "Copy it again, or take it in with the missing frames accepted.",
            1,
            len(self._stamps) - 1,
        )

    def _from(self, number: int) -> Iterator[Frame]:
        """Decoded frames from at or before `number`, going on where the last call stopped when that is nearer."""
        key = bisect.bisect_right(self._keys, self._stamps[number]) - 1
        key_frame = bisect.bisect_left(self._stamps, self._keys[max(0, key)])
        ahead = 0 <= number - self._next <= _DECODE_AHEAD or (self._next >= 0 and key_frame <= self._next <= number)
        if not ahead or self._decoder is None:
            self.close()
            self._container = self._open()
            self._decoder = self._decode(self._container, number, at_once=True)
        for frame in self._decoder:
            self._next = frame.number + 1
            yield frame
        self.close()

    def _decode(self, container: av.container.InputContainer, first: int, at_once: bool = False) -> Iterator[Frame]:
        """The sound frames from the key frame before `first` on; others are left out."""
        for number, picture, is_sound in self._numbered(container, first, at_once):
            if not is_sound:
                continue
            if (picture.width, picture.height, native_name(picture.format.name)) != (
                self.format.width,
                self.format.height,
                self.format.name,
            ):
                raise DamagedReel(
                    f"{self.path.name}: from frame {number} on the pictures are {picture.width} x {picture.height} "
                    f"{picture.format.name}, not {self.format.width} x {self.format.height} {self.format.name}. "
                    "Split the file where its size or format changes.",
                    len(self._stamps) - number,
                    number,
                )
            yield Frame(number, planes_of(picture, self.format), self.format, self.colour)

    def _numbered(
        self, container: av.container.InputContainer, first: int, at_once: bool = False
    ) -> Iterator[tuple[int, av.VideoFrame, bool]]:
        """Number, picture and whether it is sound, from the key frame before `first` on; `at_once` where somebody waits for one."""
        stream = container.streams.video[0]
        # In H.264 pictures leave frames' threads before these have told what is damaged: where all are gone through, that counts more.
        stream.thread_type = "AUTO" if at_once or stream.codec_context.name != "h264" else "SLICE"
        key = bisect.bisect_right(self._keys, self._stamps[first]) - 1
        if key > 0:
            container.seek(self._keys[key], stream=stream, backward=True)
        by_order = self._in_order or (key <= 0 and len(self._keys) == 1)
        start = bisect.bisect_left(self._stamps, self._keys[key]) if self._in_order and key > 0 else 0
        for order, (picture, is_sound) in enumerate(pictures(container, packet_check(stream, self._has_parity)), start=start):
            stamp = None if self._in_order or self._untimed else picture.pts
            number = None if stamp is None else self._number_of(stamp)
            if number is None and by_order and (self._in_order or self._untimed or not self._absent):
                number = order
            if number is not None and number < len(self._stamps):
                yield number, picture, is_sound

    def _number_of(self, stamp: int) -> int | None:
        at = bisect.bisect_left(self._stamps, stamp)
        return at if at < len(self._stamps) and self._stamps[at] == stamp else None

    def require_whole(self) -> None:
        """Refuse a file that lacks pictures, and one that says that a stretch of it is not what was written.

        Raises
        ------
        DamagedReel
        """
        super().require_whole()
        if altered := self._altered():
            doubtful = altered[1] - altered[0] + 1
            words = f"{self.path.name}: {altered_words(*altered)} Copy the file again, or accept it as it is."
            raise DamagedReel(words, doubtful, len(self) - doubtful)

    def _altered(self) -> tuple[int, int] | None:
        """First and last of the frames that lie in stretches whose check does not agree."""
        stretches = altered_stretches(self.path)
        if not stretches:
            return None
        at = np.array([self._places.get(stamp, (-1, 0)) for stamp in self._stamps])
        begin, end = at[:, 0], at.sum(axis=1)
        inside = [n for a, b in (stretches[0], stretches[-1]) for n in np.flatnonzero((begin < b) & (end > a)).tolist()]
        # Where nothing tells which, what is altered stands at the head of the file or between pictures.
        return (min(inside), max(inside)) if inside else (0, len(self._stamps) - 1)

    def check_unchanged(self) -> None:
        """Refuse to go on when the file was replaced, altered or removed since it was opened.

        Raises
        ------
        ChangedReel
        """
        try:
            found = self.path.stat()
        except OSError as error:
            raise gone(self.path) from error
        if (found.st_size, found.st_mtime_ns) != self._stamp:
            raise ChangedReel(f"{self.path.name} has changed while it was in use. Take the reel in again.")

    def close(self) -> None:
        """Let go of the file; the reader opens it again when needed."""
        with self._lock:
            if self._container is not None:
                self._container.close()
            self._container = None
            self._decoder = None
            self._next = -1


_Timing = tuple[Fraction, bool, tuple[float, float], tuple[tuple[float, int], ...]]


def _timing(stamps: list[int], time_base: Fraction, stream: av.VideoStream) -> _Timing:
    named = [Fraction(r) for r in (stream.average_rate, stream.base_rate, stream.guessed_rate) if r and 0 < r <= 1000]
    if len(stamps) < 2:
        rate = named[0] if named else Fraction(24)
        return rate, True, (1 / float(rate), 1 / float(rate)), ()
    times = np.asarray(stamps, np.float64) - stamps[0]
    steps = np.diff(times) * float(time_base)
    interval = (float(steps.min()), float(steps.max()))
    lengths, counts = np.unique(np.round(steps, 3), return_counts=True)
    often = tuple((float(lengths[i]), int(counts[i])) for i in np.argsort(-counts)[:24])
    span = (stamps[-1] - stamps[0]) * time_base
    mean = Fraction(len(stamps) - 1) / span
    # Containers round to their clock (Matroska to 1 ms): within one tick of the grid is on the grid.
    tick = max(float(time_base), 0.001) * 1.01
    numbers = np.arange(len(stamps))
    # A usual rate that fits is meant, whatever the container made of it; one the file names comes first.
    usual = sorted(_USUAL_RATES, key=lambda rate: (rate not in named, abs(rate - mean)))
    for rate in [*usual, *named, mean.limit_denominator(1001)]:
        if np.abs(times * float(time_base) - numbers / float(rate)).max() <= tick:
            return rate, True, interval, often
    return (mean.limit_denominator(1001) or mean), False, interval, often


def _dropped(intervals: tuple[tuple[float, int], ...], constant: bool) -> int:
    """How many frames a varying timing leaves out, where most times between frames are alike and the others multiples of them."""
    total = sum(count for _, count in intervals)
    if constant or not total:
        return 0
    lengths = np.repeat([length for length, _ in intervals], [count for _, count in intervals])
    usual = float(np.median(lengths))
    if usual <= 0:
        return 0
    many = np.rint(lengths / usual)
    if np.mean(many == 1) < 0.6 or np.mean(np.abs(lengths / usual - many) < 0.2) < 0.9:
        return 0
    return int((many - 1)[many > 1].sum())


def _colour(context: av.VideoCodecContext, layout: PictureFormat) -> Colour:
    matrix = int(context.colorspace)
    is_rgb = layout.components[0].name in "RGB"
    range_code = int(context.color_range)
    assumed = matrix == 2 and not is_rgb and len(layout.components) > 1
    return Colour(
        matrix=matrix,
        primaries=int(context.color_primaries),
        transfer=int(context.color_trc),
        full_range=range_code == 2 or is_rgb or layout.name.startswith("yuvj"),
        range_code=2 if layout.name.startswith("yuvj") and range_code == 0 else range_code,
        assumed=assumed,
    )


def _sound(stream: av.AudioStream, seconds: float) -> Sound:
    return Sound(
        stream.index,
        stream.codec_context.name,
        stream.rate or 0,
        stream.channels or 0,
        stream.layout.name if stream.layout else "",
        stream.language or "",
        round(max(0.0, seconds), 3),
    )


def _time_code(container: av.container.InputContainer) -> str:
    """Time code of the first frame, from wherever the container keeps it; its form is checked."""
    for metadata in (container.metadata, *(s.metadata for s in container.streams)):
        code = metadata.get("timecode") or metadata.get("TIMECODE") or ""
        if re.fullmatch(r"\d\d:\d\d:\d\d[:;.]\d\d", code):
            return code.replace(".", ";")
    return ""


def _tagged_aspect(stream: av.VideoStream) -> Fraction | None:
    """The pixel aspect our own deliveries carry as a tag, as the Matroska writer of the media library has no field for it."""
    across, _, down = stream.metadata.get(ASPECT_TAG, "").partition(":")
    return Fraction(int(across), int(down)) if across.isdigit() and down.isdigit() and int(down) else None


def _kinds(container: av.container.InputContainer) -> str:
    kinds = sorted({str(s.type) for s in container.streams})
    return " and ".join({"audio": "sound", "subtitle": "titles"}.get(k, k) for k in kinds) or "nothing"


def _words(error: BaseException) -> str:
    text = getattr(error, "strerror", None) or str(error)
    return text.splitlines()[0][:160].rstrip(".") if text else type(error).__name__
