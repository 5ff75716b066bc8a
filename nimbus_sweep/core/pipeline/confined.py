"""A step kept to a region: what it makes of a frame is taken inside, the frame as it was outside."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass, field
from functools import lru_cache
from pathlib import Path

import cv2
import numpy as np
from numpy.typing import NDArray

from ..media.frames import Frame, FrameSource, PictureFormat, Window
from ..media.mark_ways import MarkWay
from ..media.repeats import Passing
from ..model.kinds import Knowledge
from ..model.regions import Masked
from ..model.shapes import Mask

# In place of a component: the picture itself.
_WHOLE = -1


@dataclass(frozen=True)
class Confined:
    """What a step knows, put on only inside a region and outside what is held out.

    Attributes
    ----------
    inner : Knowledge
    layout : PictureFormat
    region, hold_out : Masked or None
        None is the whole picture, and nothing.
    """

    inner: Knowledge
    layout: PictureFormat
    region: Masked | None
    hold_out: Masked | None
    _masks: Callable[[int, int], Mask] = field(init=False, compare=False, repr=False)

    def __post_init__(self) -> None:
        object.__setattr__(self, "_masks", lru_cache(maxsize=8)(self._made))

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

    def touched_in(self) -> Mapping[int, list[NDArray[np.int64]]]:
        """For single frames, the samples the step may rewrite in them besides."""
        return {
            n: [named[self.mask(i, n).ravel()[named] > 0] for i, named in enumerate(places)]
            for n, places in self.inner.touched_in().items()
        }

    def mask(self, index: int, frame: int) -> Mask:
        """Where the step acts on a component in a frame: 0 to 1, (height, width)."""
        return self._masks(index, frame if self._changes else 0)

    def _made(self, index: int, frame: int) -> Mask:
        size = (self.layout.height, self.layout.width)
        component = self.layout.components[max(0, index)]
        if (component.height, component.width) != size:
            return cv2.resize(self._masks(_WHOLE, frame), (component.width, component.height), interpolation=cv2.INTER_AREA)
        if index != _WHOLE:
            return self._masks(_WHOLE, frame)
        whole = np.ones(size, np.float32) if self.region is None else self.region.mask(size, frame)
        return whole if self.hold_out is None else whole * (1 - self.hold_out.mask(size, frame))

    def ways(self, number: int) -> list[MarkWay]:
        """How each mark in the region is mended in a frame."""
        mask = self.mask(0, number)
        cells = ((w, w.window.cells(self.layout, 0)) for w in self.inner.ways(number))
        return [w for w, (rows, cols) in cells if mask[rows, cols].any()]

    def needs(self, window: Window) -> Window:
        """The part of the source's pictures that a part of the treated ones is made of."""
        return self.inner.needs(window)

    def apply(self, source: FrameSource, first: int, stop: int, window: Window | None = None) -> FrameSource:
        """`source` with the step put on inside the region, in frames `first` to `stop` - 1, at least within `window`."""
        passing = Passing(source)
        return ConfinedSource(passing, self.inner.apply(passing, first, stop, self._reached(window)), self)

    def _reached(self, window: Window | None) -> Window | None:
        """The part of the picture that the region takes up, of `window`; all of that for a region that changes."""
        if self._changes or self.region is None:
            return window
        everywhere = Window.of(self.layout) if window is None else window
        acts = self.region.mask((self.layout.height, self.layout.width)) > 0
        rows, cols = np.flatnonzero(acts.any(1)), np.flatnonzero(acts.any(0))
        if not len(rows):
            return Window(0, 0, 0, 0)
        left, top = max(everywhere.left, int(cols[0])), max(everywhere.top, int(rows[0]))
        right, bottom = min(everywhere.right, int(cols[-1]) + 1), min(everywhere.bottom, int(rows[-1]) + 1)
        return Window(left, top, max(left, right), max(top, bottom))


def unconfined(known: Knowledge | None) -> Knowledge | None:
    """What a step knows, whether it is kept to a region or not; None while it knows nothing."""
    return known.inner if isinstance(known, Confined) else known


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
            left, top, wide, tall = cv2.boundingRect((mask > 0).astype(np.uint8))
            part = np.s_[top : top + tall, left : left + wide]
            mask, one, other, target = mask[part], before.component(i)[part], after.component(i)[part], joined.component(i)[part]
            rows, cols = np.nonzero((mask > 0) & (one != other))
            share = mask[rows, cols].astype(np.float64)
            blended = (1 - share) * one[rows, cols] + share * other[rows, cols]
            target[rows, cols] = component.samples(blended, target.dtype)
        return joined
