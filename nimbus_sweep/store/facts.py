"""What intake read of a reel, as it is kept."""

from __future__ import annotations

from fractions import Fraction

from pydantic import BaseModel, ConfigDict

from ..core.media.remarks import Remark


class SoundFacts(BaseModel):
    """One stream of sound, as the file describes it."""

    model_config = ConfigDict(frozen=True, extra="ignore")

    codec: str
    rate: int
    channels: int
    layout: str = ""
    language: str = ""
    seconds: float = 0.0


class StoredFacts(BaseModel):
    """What is shown of a reel without opening it.

    Attributes
    ----------
    frames, promised : int
        Pictures from the first to the last, and as many as the header promises.
    rate, aspect : str
        Frames a second, and width to height of a pixel, as fractions.
    constant : bool
        Whether frames lie evenly in time.
    intervals : tuple of float
        Shortest and longest time between two frames, in seconds.
    often : tuple of (float, int)
        The times between frames that occur, in seconds, and how often.
    duration, start : float
        In seconds.
    fields : str
        ``progressive``, ``top``, ``bottom`` or empty.
    turned : int
        Quarter turns clockwise.
    absent : tuple of int
        Frames that have no picture, or one that cannot be read.
    repeated : int
        Frames that repeat the one before.
    period : tuple of int
        The rhythm of repeats as `Repeats.period` has it.
    pulled_down : float
        Share of the frames that are pulled-down film.
    cadence : str
        The words for the rhythm that an earlier version stored.
    still_runs : tuple of (int, int)
        First and last frame of long stretches of one picture.
    """

    model_config = ConfigDict(frozen=True, extra="ignore")

    frames: int
    rate: str = "24"
    constant: bool = True
    intervals: tuple[float, float] = (0.0, 0.0)
    often: tuple[tuple[float, int], ...] = ()
    width: int = 0
    height: int = 0
    container: str = ""
    codec: str = ""
    pixel_format: str = ""
    bits: int = 8
    duration: float = 0.0
    start: float = 0.0
    aspect: str = "1"
    matrix: str = ""
    transfer: str = ""
    full_range: bool = False
    fields: str = ""
    time_code: str = ""
    turned: int = 0
    first_number: int | None = None
    absent: tuple[int, ...] = ()
    sounds: tuple[SoundFacts, ...] = ()
    notes: tuple[Remark, ...] = ()
    assumptions: tuple[str, ...] = ()
    corrections: tuple[str, ...] = ()
    promised: int = 0
    cadence: str = ""
    pulled_down: float = 0.0
    repeated: int = 0
    period: tuple[int, int] = (0, 0)
    still_runs: tuple[tuple[int, int], ...] = ()

    @property
    def size(self) -> tuple[int, int]:
        """Width and height of the pictures."""
        return self.width, self.height

    @property
    def frames_a_second(self) -> Fraction:
        """The rate as a number."""
        return Fraction(self.rate)
