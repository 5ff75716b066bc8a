"""What takes the place of samples in single frames: patches, each with what it mends, how sure, and where it is from."""

from __future__ import annotations

import json
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field, replace
from functools import cached_property
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from ..base.files import atomic_write
from ..media.frames import Frame, FrameSource, PictureFormat, Samples, Window
from ..media.mark_ways import MarkWay
from ..media.per_frame import FrameByFrame

Places = NDArray[np.int64]


@dataclass(frozen=True)
class Patch:
    """Samples to be put into one frame.

    Attributes
    ----------
    frame : int
    box : tuple of int
        Left, top, width and height of what it mends, in pixels.
    sure : float
        0 to 1.
    contrast : float
        What it mends is out by, in 8-bit codes: above 0 for bright, below for dark.
    area : int
        Pixels.
    lends : tuple of int
        The frames it is made of.
    samples : tuple of (ndarray, int64; ndarray)
        For each component of the picture, sample numbers in row order, and what is put there.
    thing : int
        Which lasting thing it is a part of; -1 for none.
    fast : bool
        What moves about it cannot be followed.
    looks : tuple of float
        By which those of a plan are told like or unlike, scaled to about one deviation; none where that is not asked.
    """

    frame: int
    box: tuple[int, int, int, int]
    sure: float
    contrast: float
    area: int
    lends: tuple[int, ...]
    samples: tuple[tuple[Places, Samples], ...]
    thing: int = -1
    fast: bool = False
    looks: tuple[float, ...] = ()


@dataclass(frozen=True)
class PatchTable:
    """Figures of all patches, a row each.

    Attributes
    ----------
    frames, areas, things : ndarray, int64, (patches,)
    boxes : ndarray, int64, (patches, 4)
        Left, top, width, height.
    sure, contrast : ndarray, float64, (patches,)
    lends : ndarray, int64, (patches, 2)
        -1 for none.
    fast : ndarray, bool, (patches,)
    looks : ndarray, float64, (patches, looks)
    """

    frames: NDArray[np.int64]
    boxes: NDArray[np.int64]
    sure: NDArray[np.float64]
    contrast: NDArray[np.float64]
    areas: NDArray[np.int64]
    lends: NDArray[np.int64]
    things: NDArray[np.int64]
    fast: NDArray[np.bool_]
    looks: NDArray[np.float64]

    def __len__(self) -> int:
        return len(self.frames)

    @classmethod
    def of(cls, patches: Sequence[Patch]) -> PatchTable:
        """The figures of some patches."""
        lends = [(*p.lends[:2], -1, -1)[:2] for p in patches]
        return cls(
            np.array([p.frame for p in patches], np.int64),
            np.array([p.box for p in patches], np.int64).reshape(-1, 4),
            np.array([p.sure for p in patches], np.float64),
            np.array([p.contrast for p in patches], np.float64),
            np.array([p.area for p in patches], np.int64),
            np.array(lends, np.int64).reshape(-1, 2),
            np.array([p.thing for p in patches], np.int64),
            np.array([p.fast for p in patches], bool),
            np.array([p.looks for p in patches], np.float64).reshape(len(patches), -1) if patches else np.zeros((0, 0)),
        )

    def taken(self, rows: NDArray[Any]) -> PatchTable:
        """Some of the rows."""
        return PatchTable(*(getattr(self, name)[rows] for name in self.__dataclass_fields__))


Chosen = Callable[[PatchTable], NDArray[np.bool_]]


@dataclass(frozen=True)
class PatchPlan:
    """The patches of a shot, sorted by frame.

    Attributes
    ----------
    layout : PictureFormat
    table : PatchTable
        Of all that were found.
    starts : ndarray, int64, (components, patches + 1)
        Where each patch's samples begin.
    places : tuple of ndarray, int64
        For each component, sample numbers of all patches.
    values : tuple of ndarray
        What is put there.
    figures : dict
        What else the analysis has to tell; plain values.
    used : ndarray, bool, (patches,) or None
        Those that are put on; all when None.
    """

    layout: PictureFormat
    table: PatchTable
    starts: NDArray[np.int64]
    places: tuple[Places, ...]
    values: tuple[Samples, ...]
    figures: dict[str, Any] = field(default_factory=dict)
    used: NDArray[np.bool_] | None = None

    @classmethod
    def of(cls, layout: PictureFormat, patches: Sequence[Patch], figures: dict[str, Any] | None = None) -> PatchPlan:
        """The patches, as a plan."""
        ordered = sorted(patches, key=lambda p: (p.frame, p.box[1], p.box[0]))
        count = len(layout.components)
        starts = np.zeros((count, len(ordered) + 1), np.int64)
        places, values = [], []
        for i in range(count):
            starts[i, 1:] = np.cumsum([len(p.samples[i][0]) for p in ordered])
            places.append(np.concatenate([p.samples[i][0] for p in ordered]) if ordered else np.zeros(0, np.int64))
            values.append(np.concatenate([p.samples[i][1] for p in ordered]) if ordered else np.zeros(0, layout.dtype))
        return cls(layout, PatchTable.of(ordered), starts, tuple(places), tuple(values), figures or {})

    def chosen(self, choose: Chosen) -> PatchPlan:
        """The same with only those patches that `choose` says are put on."""
        return replace(self, used=choose(self.table))

    def save(self, path: Path) -> None:
        """Write the plan to `path`, whole or not at all."""
        arrays: dict[str, Any] = {f"table.{name}": getattr(self.table, name) for name in self.table.__dataclass_fields__}
        for i, (places, values) in enumerate(zip(self.places, self.values, strict=True)):
            arrays |= {f"places.{i}": places, f"values.{i}": values}
        header = json.dumps({"format": self.layout.as_json(), "told": self.figures})
        with atomic_write(path) as stream:
            np.savez_compressed(stream, starts=self.starts, description=np.array(header), **arrays)

    @classmethod
    def load(cls, path: Path) -> PatchPlan:
        """Read a plan written by `save`."""
        with np.load(path) as stored:
            header = json.loads(str(stored["description"]))
            layout = PictureFormat.from_json(header["format"])
            figures = {name: stored[f"table.{name}"] for name in PatchTable.__dataclass_fields__ if f"table.{name}" in stored}
            # Plans of earlier versions tell no looks.
            table = PatchTable(**{"looks": np.zeros((len(figures["frames"]), 0)), **figures})
            count = range(len(layout.components))
            places, values = (tuple(stored[f"{kind}.{i}"] for i in count) for kind in ("places", "values"))
            return cls(layout, table, stored["starts"], places, values, header["told"])

    @cached_property
    def _used(self) -> NDArray[np.int64]:
        return np.arange(len(self.table)) if self.used is None else np.flatnonzero(self.used)

    def found_in(self, number: int) -> NDArray[np.int64]:
        """All patches of a frame, put on or not."""
        frames = self.table.frames
        return np.arange(np.searchsorted(frames, number), np.searchsorted(frames, number, "right"))

    @property
    def chosen_rows(self) -> NDArray[np.int64]:
        """The patches that are put on."""
        return self._used

    def rows(self, number: int) -> NDArray[np.int64]:
        """The patches that are put into a frame."""
        frames = self.table.frames[self._used]
        return self._used[np.searchsorted(frames, number) : np.searchsorted(frames, number, "right")]

    def touched(self) -> list[NDArray[np.int64]]:
        """Samples rewritten in every frame alike: none."""
        return [np.zeros(0, np.int64) for _ in self.layout.components]

    def touched_in(self) -> Mapping[int, list[NDArray[np.int64]]]:
        """For frames with a patch, the samples of each component that are rewritten."""
        return {
            int(n): [np.unique(np.concatenate([p for p, _ in of])) for of in self._samples(n)]
            for n in np.unique(self.table.frames[self._used])
        }

    def _samples(self, number: int) -> Iterator[list[tuple[Places, Samples]]]:
        """For each component, places and values of the patches of a frame."""
        rows = self.rows(number)
        for i, (places, values) in enumerate(zip(self.places, self.values, strict=True)):
            ends = [(self.starts[i, n], self.starts[i, n + 1]) for n in rows]
            yield [(places[a:b], values[a:b]) for a, b in ends]

    def needs(self, window: Window) -> Window:
        """The part of the source's pictures that a part of the treated ones is made of."""
        return window

    def ways(self, number: int) -> list[MarkWay]:
        """None: there are too many to be told of one by one."""
        return []

    def apply(self, source: FrameSource, first: int, stop: int, window: Window | None = None) -> FrameSource:
        """`source` with the patches put into frames `first` to `stop` - 1."""
        return FrameByFrame(source, self.mend, first, stop)

    def mend(self, frame: Frame) -> Frame:
        """A frame with its patches."""
        if not len(self.rows(frame.number)):
            return frame
        mended = frame.copy()
        for i, found in enumerate(self._samples(frame.number)):
            target = mended.component(i)
            for places, values in found:
                target[np.unravel_index(places, target.shape)] = values
        return mended
