"""Which frames of a reel repeat others, and sources that treat each moment once."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from dataclasses import dataclass, replace
from fractions import Fraction
from itertools import pairwise
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from ..base.files import atomic_write
from .frames import Frame, FrameSource

# Share of frames with one repeated field from which a reel is pulled-down film.
_PULLED_DOWN = 0.25


@dataclass(frozen=True)
class Repeats:
    """Which frames of a reel show the same moment as the one before.

    Attributes
    ----------
    repeated : ndarray, bool, (frames,)
        The frame repeats the one before it.
    period : tuple of int
        So many distinct frames are carried as so many, such as (4, 5); (0, 0) without a cadence.
    fields : ndarray, int8, (frames,)
        1 where the frame's second field, 2 where its first field, repeats that of the frame before while the rest
        does not: pulled-down film. 0 elsewhere.
    """

    repeated: NDArray[np.bool_]
    period: tuple[int, int]
    fields: NDArray[np.int8]

    @property
    def pulled_down(self) -> float:
        """Share of the frames that are pulled-down film, 0 to 1; 0 where that is no more than chance."""
        share = float((self.fields > 0).mean()) if len(self.fields) else 0.0
        return share if share > _PULLED_DOWN else 0.0

    @property
    def representative(self) -> NDArray[np.int64]:
        """For each frame, the number of the first that shows its moment."""
        numbers = np.arange(len(self.repeated))
        return np.maximum.accumulate(np.where(self.repeated, 0, numbers)).astype(np.int64)

    def within(self, ranges: Iterable[tuple[int, int]]) -> NDArray[np.int64]:
        """The same, but no frame of a range (first, stop) is represented by one outside it: what is treated there is."""
        first_of = self.representative
        for first, stop in ranges:
            first_of[first:stop] = np.maximum(first_of[first:stop], first)
        return first_of

    @property
    def distinct(self) -> NDArray[np.int64]:
        """Numbers of the frames that repeat none."""
        return np.flatnonzero(~self.repeated).astype(np.int64)

    @property
    def still_runs(self) -> list[tuple[int, int]]:
        """First and last frames of stretches of six and more that show one moment."""
        runs = []
        starts = [*self.distinct.tolist(), len(self.repeated)]
        for first, stop in pairwise(starts):
            if stop - first >= _STILL:
                runs.append((int(first), int(stop) - 1))
        return runs

    def save(self, path: Path) -> None:
        """Write it to `path`, whole or not at all."""
        with atomic_write(path) as stream:
            np.savez(stream, repeated=self.repeated, fields=self.fields, period=np.array(self.period))

    @classmethod
    def load(cls, path: Path) -> Repeats:
        """Read one written by `save`."""
        with np.load(path) as stored:
            distinct, carried = (int(v) for v in stored["period"])
            return cls(stored["repeated"], (distinct, carried), stored["fields"])

    def true_rate(self, rate: Fraction) -> Fraction | None:
        """Frames a second without the repeated ones, where they come in a steady cadence."""
        return rate * self.period[0] / self.period[1] if self.period[1] else None


# So many frames of one moment are a still run, not a cadence.
_STILL = 6


class Passing:
    """A source whose frames can be had again as they pass, so that what is made of them can be held against them.

    Only frames behind the last one taken are kept; none is decoded twice.
    """

    def __init__(self, source: FrameSource) -> None:
        self.format, self.colour, self.rate = source.format, source.colour, source.rate
        self._source = source
        self._passed: dict[int, Frame] = {}

    def __len__(self) -> int:
        return len(self._source)

    def frame(self, number: int) -> Frame:
        """Frame `number`."""
        return self._source.frame(number)

    def frames(self, first: int, stop: int) -> Iterator[Frame]:
        """Frames `first` to `stop` - 1."""
        self._passed.clear()
        for frame in self._source.frames(first, stop):
            self._passed[frame.number] = frame
            yield frame

    def taken(self, number: int) -> Frame:
        """Frame `number`, which has passed; those before it are let go."""
        for passed in [n for n in self._passed if n < number]:
            del self._passed[passed]
        return self._passed.pop(number)


class RepairedOnce:
    """A treated source in which each distinct frame is treated once and its repair appears in every copy.

    Where the first copy was repaired, its samples go into the others; where it was not, each keeps its own.

    Parameters
    ----------
    treated : FrameSource
        With the steps on, over `source`.
    source : Passing
        As it came.
    representative : ndarray, int64, (frames,)
        For each frame, the first that shows its moment.
    """

    def __init__(self, treated: FrameSource, source: Passing, representative: NDArray[np.int64]) -> None:
        self.format, self.colour, self.rate = source.format, source.colour, source.rate
        self._treated, self._source, self._first = treated, source, representative
        self._kept: tuple[int, Frame, Frame] | None = None

    def __len__(self) -> int:
        return len(self._source)

    def frame(self, number: int) -> Frame:
        """Frame `number`, treated."""
        first = int(self._first[number])
        if first == number:
            return self._treated.frame(number)
        return self._copied(self._source.frame(number), self._source.frame(first), self._treated.frame(first))

    def frames(self, first: int, stop: int) -> Iterator[Frame]:
        """Frames `first` to `stop` - 1, treated."""
        for treated in self._treated.frames(first, stop):
            number = treated.number
            taken = self._source.taken(number)
            at = int(self._first[number])
            if at == number:
                self._kept = (at, taken, treated)
                yield treated
            elif self._kept is not None and self._kept[0] == at:
                yield self._copied(taken, self._kept[1], self._kept[2])
            else:
                yield self.frame(number)

    def _copied(self, taken: Frame, source: Frame, treated: Frame) -> Frame:
        planes = tuple(
            np.where(after != before, after, mine) for mine, before, after in zip(taken.planes, source.planes, treated.planes, strict=True)
        )
        return replace(taken, planes=planes)
