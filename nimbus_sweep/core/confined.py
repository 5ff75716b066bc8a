"""A step kept to a region: what it makes of a frame is taken inside, the frame as it was outside."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, field
from pathlib import Path

import cv2
import numpy as np
from numpy.typing import NDArray

from .frames import Frame, FrameSource, PictureFormat
from .regions import Mask, Region
from .shots import Passing
from .steps import Knowledge


@dataclass(frozen=True)
class Confined:
    """What a step knows, put on only inside a region and outside what is held out.

    Attributes
    ----------
    inner : Knowledge
    layout : PictureFormat
    region, hold_out : Region or None
        None is the whole picture, and nothing.
    """

    inner: Knowledge
    layout: PictureFormat
    region: Region | None
    hold_out: Region | None
    _kept: dict[tuple[int, int], Mask] = field(default_factory=dict, compare=False, repr=False)

    @property
    def _changes(self) -> bool:
        return any(r is not None and r.changes for r in (self.region, self.hold_out))

    def save(self, path: Path) -> None:
        """Write what the step knows; the region is no part of it."""
        self.inner.save(path)

    def touched(self) -> list[NDArray[np.int64]]:
        """For each component, the samples the step may rewrite; with a region that changes, all the step itself names."""
        places = self.inner.touched()
        if self._changes:
            return places
        return [named[self.mask(i, 0).ravel()[named] > 0] for i, named in enumerate(places)]

    def mask(self, index: int, frame: int) -> Mask:
        """Where the step acts on a component in a frame: 0 to 1, (height, width)."""
        key = (index, frame if self._changes else 0)
        if key not in self._kept:
            size = (self.layout.height, self.layout.width)
            whole = np.ones(size, np.float32) if self.region is None else self.region.mask(size, frame)
            if self.hold_out is not None:
                whole = whole * (1 - self.hold_out.mask(size, frame))
            component = self.layout.components[index]
            shape = (component.height, component.width)
            while len(self._kept) > 8:
                self._kept.pop(next(iter(self._kept)))
            self._kept[key] = whole if shape == size else cv2.resize(whole, shape[::-1], interpolation=cv2.INTER_AREA)
        return self._kept[key]

    def apply(self, source: FrameSource, first: int, stop: int) -> FrameSource:
        """`source` with the step put on inside the region, in frames `first` to `stop` - 1."""
        passing = Passing(source)
        return ConfinedSource(passing, self.inner.apply(passing, first, stop), self)


class ConfinedSource:
    """A treated source inside a region, and the source itself outside it."""

    def __init__(self, source: Passing, treated: FrameSource, confined: Confined) -> None:
        self.format, self.colour, self.rate = source.format, source.colour, source.rate
        self._source, self._treated, self._confined = source, treated, confined

    def __len__(self) -> int:
        return len(self._source)

    def frame(self, number: int) -> Frame:
        """Frame `number`."""
        return self._joined(self._source.frame(number), self._treated.frame(number))

    def frames(self, first: int, stop: int) -> Iterator[Frame]:
        """Frames `first` to `stop` - 1."""
        for treated in self._treated.frames(first, stop):
            yield self._joined(self._source.taken(treated.number), treated)

    def _joined(self, before: Frame, after: Frame) -> Frame:
        if all(a is b for a, b in zip(before.planes, after.planes, strict=True)):
            return before
        joined = before.copy()
        for i, component in enumerate(before.format.components):
            mask = self._confined.mask(i, before.number)
            one, other, target = before.component(i), after.component(i), joined.component(i)
            rows, cols = np.nonzero((mask > 0) & (one != other))
            share = mask[rows, cols].astype(np.float64)
            blended = (1 - share) * one[rows, cols] + share * other[rows, cols]
            target[rows, cols] = component.samples(blended, target.dtype)
        return joined
