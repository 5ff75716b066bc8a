"""What is known of a shot when it is looked at for defects."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property
from pathlib import Path

from .frames_at_hand import Span
from .light_record import LightRecord
from .moments import noise_at_hand
from .time_volume import TimeVolume


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

    @cached_property
    def noise(self) -> float:
        """Standard deviation of the noise of its luma, in 8-bit codes."""
        return self.noise_at(1)

    def noise_at(self, factor: int) -> float:
        """The same of pictures so many times smaller."""
        return noise_at_hand(Span(self.volume, self.volume.numbers), factor)
