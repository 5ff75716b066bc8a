"""Pictures of reels for the pages: source, treated and the difference, whole, cut out and along time."""

from __future__ import annotations

import threading
from collections import OrderedDict
from collections.abc import Callable
from typing import Any, TypeVar

import numpy as np

from ..core.errors import SweepError
from ..core.frames import Frame, FrameSource
from ..core.media.reader import MovieReader
from ..core.media.view import Picture, Proxy, difference, to_bgr
from ..core.render import open_unchanged
from ..core.summary import Summary
from ..core.treatment import Analyses, Recipe, chain
from ..core.volume import TimeVolume
from ..jobs.work import spec_of
from ..store import edits
from ..store.data import DataFolder
from ..store.models import Reel

VIEWS = ("source", "treated", "difference")
_Held = TypeVar("_Held")


class NotReady(SweepError):
    """The treated picture waits for its analysis."""


class Viewing:
    """Opens what is looked at once and keeps the last few open."""

    def __init__(self, data: DataFolder, most: int = 4) -> None:
        self._data, self._most = data, most
        self._held: OrderedDict[tuple[Any, ...], Any] = OrderedDict()
        self._lock = threading.Lock()

    def _keep(self, key: tuple[Any, ...], make: Callable[[], _Held]) -> _Held:
        with self._lock:
            if key in self._held:
                self._held.move_to_end(key)
                return self._held[key]
        made = make()
        with self._lock:
            self._held[key] = made
            while len(self._held) > 5 * self._most:
                self._held.popitem(last=False)
        return made

    def reader(self, reel: Reel) -> MovieReader:
        """The reel's frames; raises ChangedReel if the file is not the one that was taken in."""
        reader = self._keep(("reader", reel.id, reel.fingerprint), lambda: open_unchanged(spec_of(self._data, reel, 0, "{}")))
        reader.check_unchanged()
        return reader

    def volume(self, reel: Reel) -> TimeVolume:
        """The reel's time volume."""
        return self._keep(("volume", reel.id, reel.fingerprint), lambda: TimeVolume(self._data.of_reel(reel.id) / "volume.bin"))

    def proxy(self, reel: Reel) -> Proxy:
        """The reel's small pictures."""
        return self._keep(("proxy", reel.id, reel.fingerprint), lambda: Proxy.load(self._data.of_reel(reel.id) / "proxy.jpegs"))

    def summary(self, reel: Reel) -> Summary:
        """The reel's light over time."""
        return self._keep(("summary", reel.id, reel.fingerprint), lambda: Summary.load(self._data.of_reel(reel.id) / "summary.npz"))

    def analyses(self, reel: Reel) -> Analyses:
        """Where the reel's analyses are kept."""
        return Analyses(self._data.analyses, reel.fingerprint, 0, reel.facts["frames"])

    def settled(self, reel: Reel) -> Recipe:
        """The reel's treatment with its sites named."""
        return edits.settled(edits.current(reel))

    def ready(self, reel: Reel) -> bool:
        """Whether the treated picture can be shown at once."""
        return self.analyses(reel).ready(self.settled(reel))

    def treated(self, reel: Reel, source: FrameSource) -> FrameSource:
        """`source`, the reel or its volume, with the treatment on; raises NotReady while an analysis is missing."""
        recipe, analyses = self.settled(reel), self.analyses(reel)
        if not analyses.ready(recipe):
            raise NotReady("The repair is still being learned; the treated picture follows in a moment.")
        known = self._keep(("known", reel.id, recipe.model_dump_json()), lambda: analyses.load(recipe))
        return chain(source, known, analyses.first, analyses.stop)

    def frame(self, reel: Reel, number: int, treated: bool) -> Frame:
        """A native frame."""
        reader = self.reader(reel)
        return (self.treated(reel, reader) if treated else reader).frame(number)

    def picture(self, reel: Reel, number: int, view: str, width: int | None = None, gain: float = 8) -> Picture:
        """A frame as a picture, (height, width, 3), blue, green, red."""
        if view == "difference":
            return difference(to_bgr(self.frame(reel, number, False), width), to_bgr(self.frame(reel, number, True), width), gain)
        return to_bgr(self.frame(reel, number, view == "treated"), width)

    def row_slice(self, reel: Reel, y: int, view: str, gain: float = 8) -> Picture:
        """Row `y` of every held frame, time running down: (held, width, 3)."""
        return self._slice(reel, view, gain, lambda frame: _cut(frame, 0, frame.format.width, y, y + 1)[0])

    def column_slice(self, reel: Reel, x: int, view: str, gain: float = 8) -> Picture:
        """Column `x` of every held frame, time running right: (height, held, 3)."""
        strips = self._slice(reel, view, gain, lambda frame: _cut(frame, x, x + 1, 0, frame.format.height)[:, 0])
        return np.ascontiguousarray(strips.transpose(1, 0, 2))

    def _slice(self, reel: Reel, view: str, gain: float, cut: Callable[[Frame], Picture]) -> Picture:
        volume = self.volume(reel)
        numbers = [int(n) for n in volume.numbers]
        if view == "source":
            return np.stack([cut(volume.frame(n)) for n in numbers])
        treated = self.treated(reel, volume)
        after = np.stack([cut(treated.frame(n)) for n in numbers])
        if view == "treated":
            return after
        return difference(np.stack([cut(volume.frame(n)) for n in numbers]), after, gain)


def _cut(frame: Frame, left: int, right: int, top: int, bottom: int) -> Picture:
    """A part of a frame as a picture, converting no more of it than its chroma cells ask for."""
    cells = [frame.format.subsampling(i) for i in range(len(frame.format.components))]
    if any(c.step != 1 or c.offset for c in frame.format.components):
        return to_bgr(frame)[top:bottom, left:right]
    wide, tall = 8 * max(c[0] for c in cells), 8 * max(c[1] for c in cells)
    x0, y0 = left // wide * wide, top // tall * tall
    x1, y1 = min(-(-right // wide) * wide, frame.format.width), min(-(-bottom // tall) * tall, frame.format.height)
    part = frame.part(x0, y0, x1, y1)
    return to_bgr(part)[top - y0 : bottom - y0, left - x0 : right - x0]


def crop(frame: Frame, left: int, top: int, width: int, height: int) -> Picture:
    """A part of a frame at 1:1, kept inside the picture."""
    left, top = max(0, min(left, frame.format.width - 1)), max(0, min(top, frame.format.height - 1))
    return _cut(frame, left, min(frame.format.width, left + width), top, min(frame.format.height, top + height))
