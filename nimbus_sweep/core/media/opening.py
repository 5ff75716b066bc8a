"""Opening a reel, whatever it is, the way the user wants it read."""

from __future__ import annotations

import hashlib
import threading
from collections.abc import Callable, Iterator
from dataclasses import replace
from fractions import Fraction
from pathlib import Path

import av
import numpy as np

from ..base.errors import DamagedReel, UnreadableReel
from .frames import Frame, FrameCache, PictureFormat
from .layout import EXACT_KIN, picture_format, planes_of, to_kin, to_picture
from .reader import MovieReader
from .reel import Reading, ReelReader, WrappedReel, gone, missing_words
from .sequence import SequenceReader, is_sequence, list_sequence

_TICK = Fraction(1, 24)
# Blocks of a reel by which another is told from it, and bytes of each.
_SAMPLES, _SAMPLE = 64, 1 << 16


def open_reel(path: str | Path, reading: Reading | None = None, accept_missing: bool = False) -> ReelReader:
    """Open a movie file, or an image sequence by its folder or pattern.

    Parameters
    ----------
    path : path-like
    reading : Reading
        What the user corrected.
    accept_missing : bool
        Take what cannot be decoded for missing instead of refusing the reel.

    Raises
    ------
    UnreadableReel
        If it cannot be read at all.
    """
    reel: ReelReader = SequenceReader(path, accept_missing) if is_sequence(path) else MovieReader(path, accept_missing)
    if reading is not None:
        reel.correct(reading)
        if reading.deinterlace:
            reel = Deinterlaced(reel)
    return Turned(reel) if reel.facts.turned else reel


def damage_of(path: str | Path, reading: Reading | None = None) -> DamagedReel | None:
    """What cannot be read of a reel, all of it; this decodes it once.

    Parameters
    ----------
    path : path-like
    reading : Reading

    Returns
    -------
    damage : DamagedReel or None
        To be raised; None where all can be read.
    """
    source = open_reel(path, reading, accept_missing=True)
    if source.missing <= 0:
        return None
    there = len(source) - len(source.facts.absent)
    return DamagedReel(f"{source.path.name}: {missing_words(source.missing, there, source.facts.absent)}", source.missing, there)


def stamp_of(path: str | Path) -> tuple[int, int]:
    """Size in bytes of a reel and when it was last written, in nanoseconds; of a sequence, of all its pictures.

    Raises
    ------
    ChangedReel
        If it is gone.
    """
    path = Path(path)
    try:
        if is_sequence(path):
            return list_sequence(path).stamp
        found = path.stat()
    except (OSError, UnreadableReel) as error:
        raise gone(path) from error
    return found.st_size, found.st_mtime_ns


def sample_of(path: str | Path) -> str:
    """SHA-256 of blocks here and there, first and last among them: tells another file of the same size and time stamp at once.

    Parameters
    ----------
    path : path-like
        A movie file, or a sequence.

    Returns
    -------
    str
        Hexadecimal digits.

    Raises
    ------
    ChangedReel
        If it is gone.
    """
    path = Path(path)
    digest = hashlib.sha256()
    try:
        files = list(list_sequence(path).pictures.values()) if is_sequence(path) else [path]
        chosen = [files[n] for n in np.unique(np.linspace(0, len(files) - 1, _SAMPLES).round().astype(int))]
        for file in chosen:
            with open(file, "rb") as stream:
                last = max(0, file.stat().st_size - _SAMPLE)
                for begin in np.unique(np.linspace(0, last, max(1, _SAMPLES // len(chosen))).round().astype(np.int64)).tolist():
                    stream.seek(begin)
                    digest.update(stream.read(_SAMPLE))
    except (OSError, UnreadableReel) as error:
        raise gone(path) from error
    return digest.hexdigest()


def fingerprint(path: str | Path, on_progress: Callable[[float], None] | None = None) -> str:
    """SHA-256 of the whole file, as hexadecimal digits; of a sequence, of its pictures' names and bytes in order."""
    path = Path(path)
    digest = hashlib.sha256()
    files = list(list_sequence(path).pictures.values()) if is_sequence(path) else [path]
    size = max(1, sum(f.stat().st_size for f in files))
    done = 0
    for file in files:
        if len(files) > 1:
            digest.update(file.name.encode())
        with open(file, "rb") as stream:
            while block := stream.read(1 << 22):
                digest.update(block)
                done += len(block)
                if on_progress:
                    on_progress(done / size)
    return digest.hexdigest()


def planar(layout: PictureFormat) -> PictureFormat:
    """The layout itself if each component has a plane of its own, else that of its exact kin which does."""
    if all(c.step == 1 and c.offset == 0 and c.shift == 0 for c in layout.components):
        return layout
    names = {"rgb24": "gbrp", "bgr24": "gbrp", "rgba": "gbrap", "bgra": "gbrap"}
    name = names.get(layout.name) or EXACT_KIN.get(layout.name, "")
    names = {"bgr0": "gbrp", "bgra": "gbrap"}
    name = names.get(name, name)
    if not name:
        raise UnreadableReel(f"Pictures of {layout.name} cannot be turned or de-interlaced. Convert the reel to yuv422p10le first.")
    return picture_format(name, layout.width, layout.height)


class Turned(WrappedReel):
    """A reel whose file asks for quarter turns, with them made: every sample moved, none changed."""

    def __init__(self, inner: ReelReader) -> None:
        super().__init__(inner)
        self._turns = inner.facts.turned
        self._planar = planar(inner.format)
        layout = self._planar
        if self._turns % 2:
            across, down = layout.subsampling(1) if len(layout.components) > 1 else (1, 1)
            swapped = layout.name
            if across != down:
                swapped = layout.name.replace("422", "440") if "422" in layout.name else layout.name.replace("440", "422")
            self.format = _turned_format(layout, swapped)
        else:
            self.format = layout
        aspect = inner.facts.sample_aspect
        self.facts = replace(
            inner.facts,
            pixel_format=self.format.name,
            width=self.format.width,
            height=self.format.height,
            sample_aspect=1 / aspect if self._turns % 2 else aspect,
        )

    def frame(self, number: int) -> Frame:
        """Frame `number`, turned."""
        return self._made(self.inner.frame(number))

    def frames(self, first: int, stop: int) -> Iterator[Frame]:
        """Frames `first` to `stop` - 1, turned."""
        return map(self._made, self.inner.frames(first, stop))

    def _made(self, frame: Frame) -> Frame:
        held = to_kin(frame, self._planar)
        planes = tuple(np.ascontiguousarray(np.rot90(plane, -self._turns)) for plane in held.planes)
        return Frame(frame.number, planes, self.format, frame.colour, frame.missing)


def _turned_format(layout: PictureFormat, name: str) -> PictureFormat:
    if layout.components[0].floating:
        components = tuple(replace(c, width=c.height, height=c.width) for c in layout.components)
        return replace(
            layout,
            width=layout.height,
            height=layout.width,
            components=components,
            plane_shapes=tuple((b, a) for a, b in layout.plane_shapes),
        )
    return picture_format(name, layout.height, layout.width)


class Deinterlaced(WrappedReel):
    """A reel of two fields a picture, each picture made one moment by the media library's filter (bwdif).

    The filter looks at the frame before and the one after, so a frame comes out the same wherever reading begins.
    """

    def __init__(self, inner: ReelReader, cache_bytes: int = 96 << 20) -> None:
        super().__init__(inner)
        self.format = planar(inner.format)
        if self.format.components[0].floating:
            raise UnreadableReel("Pictures of floats cannot be de-interlaced.")
        self.facts = replace(inner.facts, pixel_format=self.format.name, field_order="progressive")
        self._parity = "bff" if inner.facts.field_order == "bottom" else "tff"
        self._cache = FrameCache(cache_bytes)
        self._lock = threading.Lock()

    def frame(self, number: int) -> Frame:
        """Frame `number`, de-interlaced."""
        with self._lock:
            held = self._cache.get(number)
            if held is None:
                held = next(self.frames(number, number + 1))
                self._cache.put(held)
            return held

    def frames(self, first: int, stop: int) -> Iterator[Frame]:
        """Frames `first` to `stop` - 1, de-interlaced."""
        if not 0 <= first <= stop <= len(self):
            raise IndexError((first, stop))
        begin, end = max(0, first - 2), min(len(self), stop + 2)
        graph = av.filter.Graph()
        layout = self.format
        entry = graph.add_buffer(
            width=layout.width,
            height=layout.height,
            format=av.VideoFormat(layout.name, layout.width, layout.height),
            time_base=_TICK,
        )
        made = graph.add("bwdif", f"mode=send_frame:parity={self._parity}:deint=all")
        out = graph.add("buffersink")
        entry.link_to(made)
        made.link_to(out)
        graph.configure()
        missing: dict[int, bool] = {}
        source = self.inner.frames(begin, end)
        for picture in _filtered(graph, source, layout, missing):
            number = round((picture.pts or 0) * (picture.time_base or _TICK) / _TICK)
            if number >= stop:
                break
            if number >= first:
                yield Frame(number, planes_of(picture, layout), layout, self.colour, missing.get(number, False))


def _filtered(graph: av.filter.Graph, frames: Iterator[Frame], layout: PictureFormat, missing: dict[int, bool]) -> Iterator[av.VideoFrame]:
    for frame in frames:
        missing[frame.number] = frame.missing
        picture = to_picture(to_kin(frame, layout))
        picture.pts, picture.time_base = frame.number, _TICK
        graph.push(picture)
        yield from _pulled(graph)
    graph.push(None)
    yield from _pulled(graph)


def _pulled(graph: av.filter.Graph) -> Iterator[av.VideoFrame]:
    while True:
        try:
            picture = graph.pull()
            assert isinstance(picture, av.VideoFrame)
            yield picture
        except (av.error.BlockingIOError, av.error.EOFError):
            return
