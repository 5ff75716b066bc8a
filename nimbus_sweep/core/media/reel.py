"""What every reader of reels has in common: the facts, the corrections to how a reel is read, and the frames."""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, replace
from fractions import Fraction
from pathlib import Path
from typing import Literal

from pydantic import BaseModel, ConfigDict, Field, field_validator

from ..base.errors import ChangedReel, DamagedReel
from .frames import Colour, Frame, PictureFormat
from .remarks import Remark, runs_of, some_runs

MATRICES = {"601": 6, "709": 1, "2020": 9}
TRANSFERS = {"video": 1, "log": 9, "linear": 8}
FIELD_ORDERS = {"progressive": "progressive", "top": "interlaced, top field first", "bottom": "interlaced, bottom field first"}


class Reading(BaseModel):
    """How a reel is to be read where that differs from what its file tells or what is assumed; None leaves it.

    Attributes
    ----------
    rate : str
        Frames a second of a sequence, a whole number or a fraction such as ``24000/1001``.
    matrix, levels, transfer : str
        Of the colours.
    aspect : str
        Width to height of a pixel, such as ``16:15``.
    fields : str
        Whether a picture is one moment or two fields, and which field comes first.
    deinterlace : bool
        Make one moment of each picture with the media library's filter.
    """

    model_config = ConfigDict(frozen=True, extra="forbid")

    rate: str | None = Field(default=None, max_length=20)
    matrix: Literal["601", "709", "2020"] | None = None
    levels: Literal["limited", "full"] | None = None
    transfer: Literal["video", "log", "linear"] | None = None
    aspect: str | None = Field(default=None, max_length=20)
    fields: Literal["progressive", "top", "bottom"] | None = None
    deinterlace: bool = False

    @field_validator("rate")
    @classmethod
    def _rate(cls, value: str | None) -> str | None:
        if value is None:
            return None
        rate = _fraction(value, "/")
        if not 1 <= rate <= 1000:
            raise ValueError("a frame rate lies between 1 and 1000 frames a second")
        return str(rate)

    @field_validator("aspect")
    @classmethod
    def _aspect(cls, value: str | None) -> str | None:
        if value is None:
            return None
        aspect = _fraction(value, ":")
        if not Fraction(1, 4) <= aspect <= 4:
            raise ValueError("a pixel's aspect lies between 1:4 and 4:1")
        return f"{aspect.numerator}:{aspect.denominator}"

    @property
    def key(self) -> str:
        """What of it changes the computation, as text; empty when nothing does."""
        values = self.model_dump(include={"matrix", "levels", "transfer", "deinterlace"}, exclude_defaults=True)
        if self.deinterlace:
            values["fields"] = self.fields
        return ",".join(f"{k}={v}" for k, v in sorted(values.items()))


def _fraction(text: str, separator: str) -> Fraction:
    try:
        return Fraction(text.replace(separator, "/").replace(" ", ""))
    except (ValueError, ZeroDivisionError) as error:
        raise ValueError(f"write it as a number or as a fraction, such as 25 or 24000{separator}1001") from error


@dataclass(frozen=True)
class Sound:
    """One stream of sound, as the file describes it; `seconds` is how long it lasts."""

    index: int
    codec: str
    rate: int
    channels: int
    layout: str
    language: str
    seconds: float = 0.0


@dataclass(frozen=True)
class ReelFacts:
    """What was read of a reel; what was assumed is named in `assumptions`, what the user corrected in `corrections`.

    Attributes
    ----------
    container, codec : str
        For a sequence ``sequence`` and the kind of its pictures.
    frames : int
        Numbers from the first to the last picture; those in `absent` have none.
    promised : int
        Pictures the header or the duration promises; equal to `frames` when it promises nothing else.
    rate : Fraction
        Frames a second: exact for constant timing, the mean otherwise.
    constant_timing : bool
        Whether every frame lies where `rate` puts it, within the container's rounding.
    interval_range : tuple of float
        Shortest and longest time between two frames, in seconds.
    intervals : tuple of (float, int)
        The times between frames that occur, in seconds, and how often; at most 24, the most frequent first.
    sample_aspect : Fraction
        Width to height of a pixel.
    field_order : str
        ``progressive``, ``top``, ``bottom`` or empty when it is not told.
    time_code : str
        Of the first frame, as hours:minutes:seconds:frames, a semicolon before the frames when frames are dropped
        (SMPTE ST 12-1); empty when there is none.
    turned : int
        Quarter turns clockwise that the file asks for; they are made when it is read.
    first_number : int or None
        Number in the name of a sequence's first picture.
    absent : tuple of int
        Frames that have no picture, or one that cannot be read.
    """

    path: str
    container: str
    codec: str
    pixel_format: str
    bits: int
    width: int
    height: int
    frames: int
    promised: int
    rate: Fraction
    constant_timing: bool
    interval_range: tuple[float, float]
    start: Fraction
    duration: Fraction
    colour: Colour
    sample_aspect: Fraction
    sounds: tuple[Sound, ...]
    notes: tuple[Remark, ...]
    assumptions: tuple[str, ...]
    intervals: tuple[tuple[float, int], ...] = ()
    field_order: str = ""
    time_code: str = ""
    turned: int = 0
    first_number: int | None = None
    absent: tuple[int, ...] = ()
    corrections: tuple[str, ...] = ()


class ReelReader(ABC):
    """A reel as a `FrameSource`: movie file or image sequence.

    Attributes
    ----------
    path : Path
        Of the file, or of the sequence's folder or pattern.
    format : PictureFormat
    colour : Colour
    rate : Fraction
    facts : ReelFacts
    """

    path: Path
    format: PictureFormat
    colour: Colour
    rate: Fraction
    facts: ReelFacts
    # Why the index could not be read to its end, if it could not.
    index_error: str = ""
    # Asked between pictures on the way to a distant one; True gives it up with Overtaken.
    overtaken: Callable[[], bool] | None = None

    @abstractmethod
    def __len__(self) -> int: ...

    @abstractmethod
    def frame(self, number: int) -> Frame:
        """Frame `number` on its native planes; read-only use, as it may be shared from the cache.

        Raises
        ------
        IndexError
            Outside the reel.
        DamagedReel
            If this picture cannot be decoded.
        """

    @abstractmethod
    def frames(self, first: int, stop: int) -> Iterator[Frame]:
        """Frames `first` to `stop` - 1 in order."""

    @abstractmethod
    def time_of(self, number: int) -> Fraction:
        """Seconds from the first frame to frame `number`, exact."""

    @abstractmethod
    def check_unchanged(self) -> None:
        """Refuse to go on when the reel was replaced, altered or removed since it was opened.

        Raises
        ------
        ChangedReel
        """

    @abstractmethod
    def close(self) -> None:
        """Let go of files; the reader opens them again when needed."""

    @property
    def key_frames(self) -> list[int]:
        """Numbers of the frames that are coded on their own."""
        return list(range(len(self)))

    @property
    def missing(self) -> int:
        """How many promised pictures are not there."""
        return max(0, self.facts.promised - len(self)) + len(self.facts.absent)

    def require_whole(self) -> None:
        """Refuse a reel that lacks pictures.

        Raises
        ------
        DamagedReel
            If pictures are missing.
        """
        lost, there = self.missing, len(self) - len(self.facts.absent)
        if lost > 0:
            raise DamagedReel(f"{self.path.name}: {missing_words(lost, there, self.facts.absent, self.index_error)}", lost, there)

    def correct(self, reading: Reading) -> None:
        """Read on with the user's corrections; those that ask for other samples are wrapped around by `open_reel`."""
        colour, facts = self.colour, self.facts
        corrected = []
        if reading.matrix:
            colour = replace(colour, matrix=MATRICES[reading.matrix], assumed=False)
            corrected.append("matrix")
        if reading.levels:
            colour = replace(colour, full_range=reading.levels == "full", range_code=2 if reading.levels == "full" else 1)
            corrected.append("range")
        if reading.transfer:
            colour = replace(colour, transfer=TRANSFERS[reading.transfer])
            corrected.append("transfer")
        if reading.rate and facts.container == "sequence":
            rate = Fraction(reading.rate)
            facts = replace(facts, rate=rate, duration=len(self) / rate, interval_range=(1 / float(rate), 1 / float(rate)))
            corrected.append("rate")
        if reading.aspect:
            across, _, down = reading.aspect.partition(":")
            facts = replace(facts, sample_aspect=Fraction(int(across), int(down or 1)))
            corrected.append("pixel aspect")
        if reading.fields:
            facts = replace(facts, field_order=reading.fields)
            corrected.append("field order")
        kept = tuple(a for a in facts.assumptions if a not in corrected)
        self.facts = replace(facts, colour=colour, assumptions=kept, corrections=tuple(corrected))
        self.colour, self.rate = colour, self.facts.rate
        self.close()


class WrappedReel(ReelReader):
    """A reader over a reader, whose frames it makes into others of the same number."""

    def __init__(self, inner: ReelReader) -> None:
        self.inner = inner
        self.path, self.format, self.colour, self.rate, self.facts = inner.path, inner.format, inner.colour, inner.rate, inner.facts

    def __len__(self) -> int:
        return len(self.inner)

    @property
    def key_frames(self) -> list[int]:
        """Numbers of the frames that are coded on their own."""
        return self.inner.key_frames

    def time_of(self, number: int) -> Fraction:
        """Seconds from the first frame to frame `number`, exact."""
        return self.inner.time_of(number)

    def check_unchanged(self) -> None:
        """Refuse to go on when the reel was replaced, altered or removed since it was opened."""
        self.inner.check_unchanged()

    def close(self) -> None:
        """Let go of files."""
        self.inner.close()

    def innermost(self) -> ReelReader:
        """The reader that reads the file itself."""
        inner = self.inner
        while isinstance(inner, WrappedReel):
            inner = inner.inner
        return inner


def missing_words(missing: int, readable: int, absent: Sequence[int] = (), error: str = "") -> str:
    """How many pictures are missing, which as far as they have numbers, and what to do."""
    why = f" (reading stopped: {error})" if error else f" ({some_runs(runs_of(absent))})" if absent else ""
    frames = "1 frame is" if missing == 1 else f"{missing} frames are"
    return f"{frames} missing{why}; {readable} can be read. Copy the file again, or accept the missing frames to mend what is there."


def altered_words(first: int, last: int) -> str:
    """Which frames lie where a file is not what was written."""
    return f"by its own checks the file is not what was written where frames {first} to {last} lie; they may show what is wrong."


def gone(path: Path) -> ChangedReel:
    """The error to raise when a reel's file is not where it was."""
    return ChangedReel(f"{path.name} is gone from {path.parent}. Put it back, or take the reel in again.")
