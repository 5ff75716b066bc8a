"""The time volume: frames of a shot laid behind one another, so that time can be read like a third axis.

It holds up to `MAX_FRAMES` frames, spread evenly over the shot, on their native planes in one file that is
mapped into memory. Slices, medians over time and the learning of a repair all read it; none decodes again.
"""

from __future__ import annotations

import contextlib
import copy
from collections.abc import Callable, Iterator
from dataclasses import asdict, dataclass, replace
from fractions import Fraction
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from ..base.errors import DiskFull
from ..base.files import Summed, atomic_write, describe, description, kept, require_room, require_unaltered
from ..media.frames import Colour, Frame, FrameSource, PictureFormat, Samples

MAX_FRAMES = 160
MAX_BYTES = 600 << 20


def sample_numbers(first: int, stop: int, frame_bytes: int, most: int = MAX_FRAMES) -> NDArray[np.int64]:
    """Frame numbers spread evenly over ``first:stop``: as many as `most` and the byte bound allow, at least 8."""
    count = max(1, min(stop - first, most, max(8, MAX_BYTES // max(1, frame_bytes))))
    return np.unique(np.linspace(first, stop - 1, count).round().astype(np.int64))


class TimeVolume:
    """Frames `numbers` of a shot; ``plane_stack`` gives a plane over time, ``frame`` one of the frames.

    Parameters
    ----------
    path : Path
        The file written by `VolumeWriter`; its description lies beside it with the suffix ``.json``.
    """

    def __init__(self, path: Path) -> None:
        header = description(path.with_suffix(".json"))
        require_unaltered(path, header.get("sum"))
        self.format = PictureFormat.from_json(header["format"])
        self.colour = Colour(**header["colour"])
        self.rate = Fraction(header["rate"])
        self.shot_frames: int = header["shot_frames"]
        self.numbers = np.asarray(header["numbers"], np.int64)
        self._places = {int(n): i for i, n in enumerate(self.numbers)}
        mapped = np.memmap(path, self.format.dtype, "r")
        self._ends = np.cumsum([0] + [r * c for r, c in self.format.plane_shapes])
        self._data: Samples = mapped[: len(self.numbers) * self._ends[-1]].reshape(len(self.numbers), self._ends[-1])

    def __len__(self) -> int:
        return self.shot_frames

    def plane_stack(self, plane: int) -> Samples:
        """Plane `plane` of all held frames, (held, rows, samples a row), mapped read-only."""
        rows, cols = self.format.plane_shapes[plane]
        return self._data[:, self._ends[plane] : self._ends[plane + 1]].reshape(len(self.numbers), rows, cols)

    def component_stack(self, index: int) -> Samples:
        """Component `index` of all held frames, (held, height, width), mapped read-only."""
        c = self.format.components[index]
        stack = self.plane_stack(c.plane)[:, : c.height]
        return stack[:, :, c.offset : c.offset + c.step * (c.width - 1) + 1 : c.step]

    def average(self) -> Frame:
        """The mean of the held frames, numbered as the first: what keeps its place stands out, the scene blurs."""
        planes = []
        for p, (rows, cols) in enumerate(self.format.plane_shapes):
            total = np.zeros((rows, cols), np.float64)
            for picture in self.plane_stack(p):
                total += picture
            mean = total / len(self.numbers)
            planes.append((mean if self.format.dtype.kind == "f" else np.rint(mean)).astype(self.format.dtype))
        return Frame(int(self.numbers[0]), tuple(planes), self.format, self.colour)

    def between(self, first: int, stop: int) -> TimeVolume:
        """The same with only the held frames from `first` to `stop` - 1; all of them if that would leave none."""
        inside = np.flatnonzero((self.numbers >= first) & (self.numbers < stop))
        if len(inside) in (0, len(self.numbers)):
            return self
        part = copy.copy(self)
        part.numbers = self.numbers[inside]
        part._places = {int(n): i for i, n in enumerate(part.numbers)}
        part._data = self._data[inside[0] : inside[-1] + 1]
        return part

    def window(self, x: int, y: int, reach: int) -> VolumeWindow:
        """The part of the volume within `reach` pixels of a place, edges on multiples of 16 pixels."""
        left, top = max(0, x - reach) // 16 * 16, max(0, y - reach) // 16 * 16
        right, bottom = min(self.format.width, x + reach), min(self.format.height, y + reach)
        return VolumeWindow(_PartOfVolume(self, left, top, right, bottom), left, top)

    def frame(self, number: int) -> Frame:
        """The held frame of that number; raises KeyError for one not held."""
        at = self._places[number]
        planes = tuple(self.plane_stack(p)[at] for p in range(len(self.format.plane_shapes)))
        return Frame(number, planes, self.format, self.colour)

    def frames(self, first: int, stop: int) -> Iterator[Frame]:
        """The held frames with numbers from `first` to `stop` - 1."""
        for number in self.numbers:
            if first <= number < stop:
                yield self.frame(int(number))


def kept_volume(path: Path) -> TimeVolume | None:
    """The volume that was kept at a path; None where there is none. One that is damaged is dropped, to be made again."""
    return kept((path, path.with_suffix(".json")), lambda: TimeVolume(path))


class _PartOfVolume(TimeVolume):
    """A rectangle of a volume, as a volume; planar or interleaved, its components are sliced where they lie."""

    def __init__(self, whole: TimeVolume, left: int, top: int, right: int, bottom: int) -> None:
        self._volume = whole
        self.colour, self.rate, self.shot_frames, self.numbers = whole.colour, whole.rate, whole.shot_frames, whole.numbers
        self._boxes = []
        components = []
        for i, c in enumerate(whole.format.components):
            across, down = whole.format.subsampling(i)
            box = (slice(top // down, -(-bottom // down)), slice(left // across, -(-right // across)))
            self._boxes.append(box)
            components.append(replace(c, height=box[0].stop - box[0].start, width=box[1].stop - box[1].start))
        self.format = replace(whole.format, width=right - left, height=bottom - top, components=tuple(components))

    def component_stack(self, index: int) -> Samples:
        """Component `index` of all held frames, (held, height, width)."""
        rows, cols = self._boxes[index]
        return self._volume.component_stack(index)[:, rows, cols]


@dataclass(frozen=True)
class VolumeWindow:
    """A part of a volume and where its left upper pixel lies."""

    volume: TimeVolume
    left: int
    top: int


class VolumeWriter:
    """Collects the frames of a time volume as they are decoded; whole only after ``finish``."""

    def __init__(self, path: Path, source: FrameSource, numbers: NDArray[np.int64]) -> None:
        self._path = path
        self._wanted = {int(n) for n in numbers}
        # A decoder may give fewer frames than it gave before.
        self._written: list[int] = []
        self._header = {
            "format": source.format.as_json(),
            "colour": asdict(source.colour),
            "rate": str(source.rate),
            "shot_frames": len(source),
        }
        require_room(path, len(self._wanted) * source.format.frame_bytes)
        self._aside = atomic_write(path, durable=False)
        self._stream = Summed(self._aside.__enter__())

    def add(self, frame: Frame) -> None:
        """Keep `frame` if it is one of the wanted; frames come in order."""
        if frame.number in self._wanted:
            self._written.append(frame.number)
            try:
                for plane in frame.planes:
                    self._stream.write(np.ascontiguousarray(plane).data)
            except OSError as error:
                self.abandon(error)

    def finish(self) -> TimeVolume:
        """Close the file and open it as a volume."""
        describe(self._path.with_suffix(".json"), {**self._header, "numbers": self._written, "sum": self._stream.sum})
        self._aside.__exit__(None, None, None)
        return TimeVolume(self._path)

    def abandon(self, error: BaseException) -> None:
        """Drop what was written and raise `error`, a full disk as such."""
        self._aside.__exit__(type(error), error, error.__traceback__)
        raise error

    def drop(self, error: BaseException) -> None:
        """Drop what was written because of `error`, which is raised elsewhere."""
        with contextlib.suppress(BaseException):
            self.abandon(error)


def build_volume(
    path: Path,
    source: FrameSource,
    on_frame: Callable[[Frame], None] | None = None,
    most: int = MAX_FRAMES,
    first: int = 0,
    stop: int | None = None,
    usable: NDArray[np.int64] | None = None,
) -> TimeVolume:
    """Read a shot of `source` once and keep its time volume at `path`.

    Parameters
    ----------
    first, stop : int
        The shot's frames; all when `stop` is None.
    on_frame : callable
        Sees every frame on the way, so that other summaries need no second decode; may raise to stop.
    usable : ndarray, int64
        Frames that may be held: those that are there and repeat no other. All when None.
    """
    stop = len(source) if stop is None else stop
    numbers = sample_numbers(first, stop, source.format.frame_bytes, most)
    if usable is not None:
        inside = usable[(usable >= first) & (usable < stop)]
        if len(inside):
            numbers = inside[np.unique(sample_numbers(0, len(inside), source.format.frame_bytes, most))]
    writer = VolumeWriter(path, source, numbers)
    try:
        for frame in source.frames(first, stop):
            writer.add(frame)
            if on_frame:
                on_frame(frame)
    except DiskFull:
        raise
    except BaseException as error:
        writer.abandon(error)
    return writer.finish()
