"""What is known of a shot when it is looked at for defects."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field
from functools import cached_property
from pathlib import Path

from .frames_at_hand import Span
from .light_record import LightRecord
from .moments import noise_at_hand
from .moved_pairs import MovedPairs, moved_pairs
from .shot_light import ShotLight, way_of
from .time_volume import TimeVolume
from .travel import Travel


@dataclass(frozen=True)
class ShotEvidence:
    """What every detector is given.

    Attributes
    ----------
    volume : TimeVolume
        Of the shot.
    first, stop : int
        The shot: frames `first` up to, not including, `stop`.
    light : LightRecord or None
        Of the shot; without one its light is not looked at.
    frames : Span or None
        The shot's frames, each moment once; without them nothing is looked for that is told by neighbouring frames.
    scratch : Path or None
        A file that may be written.
    """

    volume: TimeVolume
    first: int
    stop: int
    light: LightRecord | None = None
    frames: Span | None = None
    scratch: Path | None = None
    _way: list[Travel] = field(default_factory=list, compare=False, repr=False)
    _pairs: list[MovedPairs | None] = field(default_factory=list, compare=False, repr=False)

    @cached_property
    def noise(self) -> float:
        """Standard deviation of the noise of its luma, in 8-bit codes."""
        return self.noise_at(1)

    def noise_at(self, factor: int) -> float:
        """The same of pictures so many times smaller."""
        return noise_at_hand(Span(self.volume, self.volume.numbers), factor)

    @cached_property
    def shot_light(self) -> ShotLight:
        """The light of its held frames."""
        return ShotLight(self.volume)

    def way(self, on_progress: Callable[[float], None] | None = None) -> Travel:
        """The camera's way through them, measured once."""
        if not self._way:
            self._way.append(way_of(self.shot_light, self.shot_light.noise, self.light, on_progress))
        return self._way[0]

    def moved_pairs(self, on_progress: Callable[[float], None]) -> MovedPairs | None:
        """Its frames held against others in which the camera has moved on, measured once; None where it does not."""
        if not self._pairs:
            way = self.way(lambda share: on_progress(0.15 * share))
            told = moved_pairs(self.shot_light, way, self.shot_light.noise, lambda share: on_progress(0.15 + 0.85 * share))
            self._pairs.append(told)
        return self._pairs[0]

    def forget_pairs(self) -> None:
        """Let go of those: they take much room, and nobody asks for them any more."""
        self._pairs.clear()
