"""Frames on their native planes, and the one interface every part pulls them through."""

from __future__ import annotations

import threading
from collections.abc import Iterator
from dataclasses import asdict, dataclass, field, replace
from fractions import Fraction
from typing import Any, Protocol

import numpy as np
from cachetools import LRUCache
from numpy.typing import NDArray

# Unsigned integers, or floats in pictures that carry light itself.
Samples = NDArray[Any]


@dataclass(frozen=True)
class Colour:
    """How samples relate to light, as the code points of ITU-T H.273.

    ``assumed`` says that the file named no matrix and it was chosen by picture size,
    as video practice does (common practice, no source): 601 below 720 lines, 709 from there on.
    ``transfer`` 8 is linear light, 9 a logarithmic film scan.
    """

    matrix: int = 2
    primaries: int = 2
    transfer: int = 2
    full_range: bool = False
    range_code: int = 0
    assumed: bool = False

    @property
    def matrix_name(self) -> str:
        """The matrix in words."""
        return {0: "RGB", 1: "BT.709", 2: "not told", 5: "BT.601", 6: "BT.601", 9: "BT.2020"}.get(self.matrix, f"code {self.matrix}")

    @property
    def luma_range(self) -> tuple[float, float]:
        """Black and white of luma, in 8-bit codes."""
        return (0.0, 255.0) if self.full_range else (16.0, 235.0)

    @property
    def transfer_name(self) -> str:
        """What the samples are of light, in words."""
        return {1: "BT.709", 2: "not told", 6: "BT.601", 8: "linear", 9: "log", 13: "sRGB", 14: "BT.2020", 16: "PQ", 18: "HLG"}.get(
            self.transfer, f"code {self.transfer}"
        )


def as_numbers(samples: Samples) -> NDArray[np.float32]:
    """Samples as float32 to be computed with: of floats, what is no number counts as black, and what is infinite as black or white."""
    numbers = samples.astype(np.float32)
    return np.nan_to_num(numbers, copy=False, nan=0.0, posinf=1.0, neginf=0.0) if samples.dtype.kind == "f" else numbers


@dataclass(frozen=True)
class Component:
    """One kind of sample of a picture: where it lies in the planes and how large it is."""

    name: str
    plane: int
    offset: int
    step: int
    width: int
    height: int
    bits: int
    shift: int = 0
    floating: bool = False

    @property
    def code(self) -> float:
        """One step of an 8-bit display, in this component's sample values."""
        return 1 / 255 if self.floating else float(1 << self.shift << self.bits) / 256

    @property
    def peak(self) -> float:
        """The largest sample value; of floats, that of white."""
        return 1.0 if self.floating else float(((1 << self.bits) - 1) << self.shift)

    def samples(self, values: NDArray[np.float64], dtype: np.dtype[Any]) -> Samples:
        """`values` as samples: the nearest that can be held."""
        return values.astype(dtype) if self.floating else np.clip(np.rint(values), 0, self.peak).astype(dtype)

    @property
    def is_chroma(self) -> bool:
        """Whether the samples are colour differences about a zero in the middle."""
        return self.name in ("Cb", "Cr")


@dataclass(frozen=True)
class PictureFormat:
    """The layout of a picture: pixel format name, size in pixels, and its components.

    ``plane_shapes`` are rows and samples a row of each plane, without padding.
    """

    name: str
    width: int
    height: int
    components: tuple[Component, ...]
    plane_shapes: tuple[tuple[int, int], ...]
    dtype: np.dtype[np.generic]

    def as_json(self) -> dict[str, Any]:
        """Plain values for a JSON file."""
        return {**asdict(replace(self, dtype=np.dtype(np.uint8))), "dtype": self.dtype.str}

    @classmethod
    def from_json(cls, values: dict[str, Any]) -> PictureFormat:
        """The inverse of `as_json`."""
        return cls(
            values["name"],
            values["width"],
            values["height"],
            tuple(Component(**c) for c in values["components"]),
            tuple((rows, cols) for rows, cols in values["plane_shapes"]),
            np.dtype(values["dtype"]),
        )

    @property
    def frame_bytes(self) -> int:
        """Bytes one frame takes without padding."""
        return sum(rows * cols for rows, cols in self.plane_shapes) * self.dtype.itemsize

    def index(self, name: str) -> int:
        """The position of the component called `name`.

        Raises
        ------
        KeyError
            If the format has none.
        """
        for i, component in enumerate(self.components):
            if component.name == name:
                return i
        raise KeyError(name)

    def subsampling(self, index: int) -> tuple[int, int]:
        """How many pixels across and down share one sample of component `index`."""
        component = self.components[index]
        return -(-self.width // component.width), -(-self.height // component.height)


@dataclass(frozen=True)
class Window:
    """A part of a picture, in pixels; `right` and `bottom` are not included."""

    left: int
    top: int
    right: int
    bottom: int

    @classmethod
    def of(cls, layout: PictureFormat) -> Window:
        """The whole picture."""
        return cls(0, 0, layout.width, layout.height)

    def grown(self, by: int, layout: PictureFormat) -> Window:
        """The part with so many pixels more on each side, kept on the picture."""
        return Window(
            max(0, self.left - by), max(0, self.top - by), min(layout.width, self.right + by), min(layout.height, self.bottom + by)
        )

    def joined(self, other: Window) -> Window:
        """The least part that holds both."""
        return Window(min(self.left, other.left), min(self.top, other.top), max(self.right, other.right), max(self.bottom, other.bottom))

    def meets(self, other: Window) -> bool:
        """Whether both share a pixel."""
        return max(self.left, other.left) < min(self.right, other.right) and max(self.top, other.top) < min(self.bottom, other.bottom)

    def cells(self, layout: PictureFormat, index: int) -> tuple[slice, slice]:
        """Rows and columns of a component that lie in it."""
        across, down = layout.subsampling(index)
        component = layout.components[index]
        return (
            slice(self.top // down, min(component.height, -(-self.bottom // down))),
            slice(self.left // across, min(component.width, -(-self.right // across))),
        )


@dataclass(frozen=True)
class Frame:
    """One picture of a reel on its native planes.

    Attributes
    ----------
    number : int
        Position in the reel, from 0.
    planes : tuple of ndarray
        Each of shape (rows, samples a row), dtype uint8, uint16, float16 or float32, as the source has them.
    format : PictureFormat
    colour : Colour
    missing : bool
        The reel has no such picture, or it cannot be read; the planes hold black in its place.
    """

    number: int
    planes: tuple[Samples, ...]
    format: PictureFormat
    colour: Colour = field(default_factory=Colour)
    missing: bool = False

    def component(self, index: int) -> Samples:
        """A view (height, width) of the samples of component `index`; writing to it writes the frame."""
        c = self.format.components[index]
        plane = self.planes[c.plane]
        if c.step == 1 and c.offset == 0:
            return plane[: c.height, : c.width]
        return plane[: c.height, c.offset : c.offset + c.step * (c.width - 1) + 1 : c.step]

    def copy(self) -> Frame:
        """The same frame on planes of its own, free to be written."""
        return replace(self, planes=tuple(plane.copy() for plane in self.planes))

    def part(self, left: int, top: int, right: int, bottom: int) -> Frame:
        """A rectangle of the frame, sharing its samples; planar formats only, edges on whole chroma cells."""
        layout = self.format
        components, planes = [], []
        for i, c in enumerate(layout.components):
            across, down = layout.subsampling(i)
            part = self.component(i)[top // down : -(-bottom // down), left // across : -(-right // across)]
            components.append(replace(c, plane=i, width=part.shape[1], height=part.shape[0]))
            planes.append(part)
        # Planes keep their order, which may differ from that of the components.
        by_plane = sorted(range(len(planes)), key=lambda i: layout.components[i].plane)
        components = [replace(c, plane=by_plane.index(i)) for i, c in enumerate(components)]
        shapes = tuple((planes[i].shape[0], planes[i].shape[1]) for i in by_plane)
        # The colour description still speaks of the whole picture: its height chose an unnamed matrix.
        colour = self.colour
        if colour.matrix == 2 and len(components) > 1 and components[0].name == "Y":
            colour = replace(colour, matrix=1 if layout.height >= 720 else 5)
        kept = PictureFormat(layout.name, right - left, bottom - top, tuple(components), shapes, layout.dtype)
        return Frame(self.number, tuple(planes[i] for i in by_plane), kept, colour, self.missing)

    @property
    def nbytes(self) -> int:
        """Bytes held by the planes."""
        return sum(plane.nbytes for plane in self.planes)


def blank(number: int, layout: PictureFormat, colour: Colour) -> Frame:
    """The black picture that stands for a missing one."""
    frame = Frame(number, tuple(np.zeros(shape, layout.dtype) for shape in layout.plane_shapes), layout, colour, missing=True)
    for i, component in enumerate(layout.components):
        if component.is_chroma:
            frame.component(i)[:] = (1 << component.bits >> 1) << component.shift
        elif component.name == "Y" and not colour.full_range and not component.floating:
            frame.component(i)[:] = (16 << component.bits >> 8) << component.shift
    return frame


class FrameSource(Protocol):
    """Anything that knows how many frames it has and gives frame *n*: a reel, or a step over one."""

    format: PictureFormat
    colour: Colour
    rate: Fraction

    def __len__(self) -> int: ...

    def frame(self, number: int) -> Frame:
        """Frame `number`; raises IndexError outside the source."""
        ...

    def frames(self, first: int, stop: int) -> Iterator[Frame]:
        """Frames `first` up to, not including, `stop`, in order."""
        ...


class Alone:
    """One frame as a source: whatever frame is asked for, it is that."""

    def __init__(self, only: Frame, rate: Fraction = Fraction(24)) -> None:
        self.format, self.colour, self.rate, self._only = only.format, only.colour, rate, only

    def __len__(self) -> int:
        return 1

    def frame(self, number: int) -> Frame:
        """The frame."""
        return self._only

    def frames(self, first: int, stop: int) -> Iterator[Frame]:
        """The frame, once."""
        yield self._only


class FrameCache:
    """Frames kept by number, oldest use dropped first, bounded in bytes. Safe between threads."""

    def __init__(self, max_bytes: int) -> None:
        self.max_bytes = max_bytes
        self._held: LRUCache[int, Frame] = LRUCache(max_bytes, getsizeof=lambda frame: frame.nbytes)
        self._lock = threading.Lock()

    @property
    def nbytes(self) -> int:
        """Bytes held now; never above `max_bytes`."""
        return int(self._held.currsize)

    def get(self, number: int) -> Frame | None:
        """The frame, or None when it is not held."""
        with self._lock:
            return self._held.get(number)

    def put(self, frame: Frame) -> None:
        """Keep `frame`; one larger than the bound is not kept."""
        with self._lock:
            self._held.pop(frame.number, None)
            if frame.nbytes <= self.max_bytes:
                self._held[frame.number] = frame
