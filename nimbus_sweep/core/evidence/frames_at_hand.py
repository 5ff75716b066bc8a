"""The frames of a shot, each moment once, to be looked at one after the other."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from ..media.frames import Frame, FrameSource
from .time_volume import TimeVolume

# Frames that noise and grain are told by.
_SAMPLES = 8


@dataclass(frozen=True)
class Span:
    """Some frames of a source.

    Attributes
    ----------
    source : FrameSource
    numbers : ndarray, int64, (frames,)
        Those that are there and repeat none, in order.
    """

    source: FrameSource
    numbers: NDArray[np.int64]

    @classmethod
    def of(
        cls, source: FrameSource, first: int, stop: int, usable: NDArray[np.int64] | None = None, held: TimeVolume | None = None
    ) -> Span:
        """Frames `first` to `stop` - 1 of a source, of the `usable` ones; all when None.

        They are read from the volume `held` of the shot where it has all of them: a shot is looked at many times, and decoded once.
        """
        numbers = np.arange(first, stop, dtype=np.int64)
        if usable is not None:
            numbers = np.intersect1d(numbers, usable)
        whole = held is not None and bool(np.isin(numbers, held.numbers).all())
        return cls(held if held is not None and whole else source, numbers)

    def __len__(self) -> int:
        return len(self.numbers)

    def frames(self, first: int = 0, stop: int | None = None) -> Iterator[Frame]:
        """The frames at places `first` to `stop` - 1; those without a picture are left out."""
        wanted = self.numbers[first:stop]
        if not len(wanted):
            return
        kept = frozenset(wanted.tolist())
        for frame in self.source.frames(int(wanted[0]), int(wanted[-1]) + 1):
            if frame.number in kept and not frame.missing:
                yield frame


def frames_of(span: Span) -> list[Frame]:
    """Some frames spread over the shot, to tell noise and grain by."""
    places = np.unique(np.linspace(0, len(span) - 1, min(len(span), _SAMPLES)).round().astype(int))
    return [f for k in places for f in span.frames(int(k), int(k) + 1)]
