"""The light record: every frame of a shot, small, so that its light can be read without decoding again."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager, suppress
from dataclasses import asdict, dataclass
from fractions import Fraction
from pathlib import Path

import cv2
import numpy as np
from numpy.typing import NDArray

from ..base.files import Summed, atomic_write, describe, description, kept, require_unaltered
from ..base.parallel import buffered_map
from ..imaging.light import is_logarithmic, light_of
from ..imaging.motion import Plane
from ..media.frames import Colour, Frame, FrameSource, PictureFormat, as_numbers

# Pixels of the longer side of the small pictures, and of those of the other components.
SIZE, COLOUR_SIZE = 192, 48
_HALF = NDArray[np.float16]


@dataclass(frozen=True)
class SmallFrame:
    """One frame, small.

    Attributes
    ----------
    light : ndarray, float16, (height, width)
        Luma, or its weighted sum of R, G and B, in 8-bit codes above black.
    colours : ndarray, float16, (components, height, width)
        Every component by itself about its zero, smaller still.
    """

    light: _HALF
    colours: _HALF


def size_of(layout: PictureFormat, most: int = SIZE) -> tuple[int, int]:
    """Width and height of the small pictures of a layout."""
    scale = min(1.0, most / max(layout.width, layout.height))
    return max(1, round(layout.width * scale)), max(1, round(layout.height * scale))


def small(frame: Frame) -> SmallFrame:
    """Make a frame small; floats that are no numbers count as black."""
    layout, colour = frame.format, frame.colour
    size, least = size_of(layout), size_of(layout, COLOUR_SIZE)
    logarithmic = is_logarithmic(colour)
    planes: list[Plane] = []
    for index, component in enumerate(layout.components):
        samples = frame.component(index)
        if samples.dtype.kind == "f":
            samples = as_numbers(samples)
        if logarithmic:
            samples = light_of(samples, component, colour)
        wanted = (min(size[0], component.width), min(size[1], component.height))
        reduced = cv2.resize(np.ascontiguousarray(samples), wanted, interpolation=cv2.INTER_AREA)
        planes.append(reduced if logarithmic else light_of(reduced.astype(np.float32), component, colour))
    names = [c.name for c in layout.components]
    if "G" in names:
        light = sum(np.float32(w) * planes[names.index(n)] for n, w in (("R", 0.2126), ("G", 0.7152), ("B", 0.0722)))
    else:
        light = planes[0]
    colours = np.stack([cv2.resize(p, least, interpolation=cv2.INTER_AREA) for p in planes])
    top = np.float32(60_000)
    return SmallFrame(np.clip(light, -top, top).astype(np.float16), np.clip(colours, -top, top).astype(np.float16))


def described(path: Path) -> Path:
    """Where the description of a record at `path` lies."""
    return path.with_name(path.name + ".json")


class LightRecord:
    """The small pictures of a shot.

    Parameters
    ----------
    path : Path
        Written by `record`; its description lies beside it (`described`).
    """

    def __init__(self, path: Path) -> None:
        header = description(described(path))
        require_unaltered(path, header.get("sum"))
        self.format = PictureFormat.from_json(header["format"])
        self.colour = Colour(**header["colour"])
        self.rate = Fraction(header["rate"])
        self.first: int = header["first"]
        self.count: int = header["count"]
        self.absent = frozenset(header["absent"])
        width, height = size_of(self.format)
        across, down = size_of(self.format, COLOUR_SIZE)
        shapes = (height, width), (len(self.format.components), down, across)
        cut = height * width
        data = np.memmap(path, np.float16, "r").reshape(self.count, cut + int(np.prod(shapes[1])))
        self._light = data[:, :cut].reshape(self.count, *shapes[0])
        self._colours = data[:, cut:].reshape(self.count, *shapes[1])

    def __len__(self) -> int:
        return self.count

    @property
    def shape(self) -> tuple[int, int]:
        """Height and width of the small pictures."""
        return self._light.shape[1], self._light.shape[2]

    def light(self, at: int) -> Plane:
        """Light of frame `first` + `at`: (height, width), float32, in 8-bit codes above black."""
        return np.asarray(self._light[at].astype(np.float32))

    def colours(self, at: int) -> Plane:
        """Its components, each about its zero: (components, height, width), float32."""
        return np.asarray(self._colours[at].astype(np.float32))

    def between(self, first: int, stop: int) -> LightRecord:
        """The same of frames `first` to `stop` - 1 alone; they lie in it."""
        part = object.__new__(LightRecord)
        part.__dict__.update(self.__dict__)
        part.first, part.count = first, stop - first
        part._light = self._light[first - self.first : stop - self.first]
        part._colours = self._colours[first - self.first : stop - self.first]
        return part


def kept_record(path: Path) -> LightRecord | None:
    """The record that was kept at a path; None where there is none. One that is damaged is dropped, to be made again."""
    return kept((path, described(path)), lambda: LightRecord(path))


def record(path: Path, source: FrameSource, first: int = 0, stop: int | None = None) -> LightRecord:
    """Read frames `first` to `stop` - 1 of a source once and keep their light at `path`; it is whole or not there."""
    stop = len(source) if stop is None else stop
    with recorded(path, source, first) as writer:
        for frame, made in buffered_map(small, source.frames(first, stop)):
            writer.add(frame, made)
    return LightRecord(path)


@contextmanager
def recorded(path: Path, source: FrameSource, first: int) -> Iterator[RecordWriter]:
    """A writer that frames are given to as they go by; the record is whole afterwards, or not there."""
    writer = RecordWriter(path, source, first)
    try:
        yield writer
    except BaseException as error:
        writer.drop(error)
        raise
    writer.finish()


class RecordWriter:
    """Collects the small pictures as frames go by."""

    def __init__(self, path: Path, source: FrameSource, first: int) -> None:
        self._path, self._first, self._count = path, first, 0
        self._header = {"format": source.format.as_json(), "colour": asdict(source.colour), "rate": str(source.rate)}
        self._absent: list[int] = []
        self._before: SmallFrame | None = None
        self._aside = atomic_write(path, durable=False)
        self._stream = Summed(self._aside.__enter__())

    def add(self, frame: Frame, made: SmallFrame | None = None) -> None:
        """Keep the next frame, made small here unless it is already; a missing one looks like the one before."""
        made = made or small(frame)
        if frame.missing:
            self._absent.append(frame.number)
            made = self._before or made
        self._before = made
        self._count += 1
        try:
            self._stream.write(np.ascontiguousarray(made.light).data)
            self._stream.write(np.ascontiguousarray(made.colours).data)
        except OSError as error:
            # A full disk is raised as such.
            self._aside.__exit__(type(error), error, error.__traceback__)
            raise

    def finish(self) -> None:
        """Close the file."""
        header = {**self._header, "first": self._first, "count": self._count, "absent": self._absent, "sum": self._stream.sum}
        describe(described(self._path), header)
        self._aside.__exit__(None, None, None)

    def drop(self, error: BaseException) -> None:
        """Drop what was written because of `error`."""
        with suppress(BaseException):
            self._aside.__exit__(type(error), error, error.__traceback__)


__all__ = ["LightRecord", "RecordWriter", "described", "SmallFrame", "record", "size_of", "small"]
