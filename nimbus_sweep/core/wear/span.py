"""The frames of a shot, each moment once, to be looked at one after the other."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from ..frames import Frame, FrameSource
from ..grain import Grain, flattest, measure
from ..motion import Plane
from ..volume import TimeVolume

# Frames that noise and grain are told by.
_SAMPLES = 8
# Grain is no stronger than so many times what the flattest tenth of the windows shows: white noise is 1.2 times (measured).
_FLATTEST = 1.5
# Luma of a red, green and blue picture (ITU-R BT.709).
MIXED = {"R": 0.2126, "G": 0.7152, "B": 0.0722}


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


def luma(frame: Frame) -> Plane:
    """Luma of a frame: (height, width), float32, in 8-bit codes."""
    components = frame.format.components
    names = [c.name for c in components]
    if "G" not in names:
        return frame.component(0).astype(np.float32) / np.float32(components[0].code)
    parts = [frame.component(names.index(n)).astype(np.float32) * np.float32(w / components[names.index(n)].code) for n, w in MIXED.items()]
    return np.asarray(parts[0] + parts[1] + parts[2])


def noise_of(lights: list[Plane]) -> float:
    """Standard deviation of the noise of some pictures, on their flattest parts, in codes."""
    return float(np.median([flattest(light, 9) for light in lights])) if lights else 0.0


def frames_of(span: Span) -> list[Frame]:
    """Some frames spread over the shot, to tell noise and grain by."""
    places = np.unique(np.linspace(0, len(span) - 1, min(len(span), _SAMPLES)).round().astype(int))
    return [f for k in places for f in span.frames(int(k), int(k) + 1)]


def grain_of(frames: list[Frame]) -> tuple[Grain, ...]:
    """The grain of each component of some frames, at least one."""
    grain = []
    for i, c in enumerate(frames[0].format.components):
        if c.name == "A":
            grain.append(Grain(np.zeros(1), np.zeros(1), 0.0))
            continue
        pictures = [f.component(i).astype(np.float32) / np.float32(c.code) - (128 if c.is_chroma else 0) for f in frames]
        grain.append(measure(pictures).capped(_FLATTEST * noise_of(pictures)))
    return tuple(grain)
