"""A reel as it was taken in, and what is kept of its shots: laid open in time, their light, their analyses."""

from __future__ import annotations

import os
import time
from collections.abc import Callable
from functools import partial
from pathlib import Path

import numpy as np
from numpy.typing import NDArray
from pydantic import BaseModel, ConfigDict

from ..base.errors import ChangedReel
from ..base.files import kept
from ..evidence.light_record import LightRecord, described, kept_record, record, recorded
from ..evidence.time_volume import TimeVolume, build_volume, kept_volume
from ..media.frames import Frame
from ..media.opening import open_reel, sample_of, stamp_of
from ..media.reel import Reading, ReelReader
from ..media.repeats import Repeats
from ..model.kinds import Knowledge
from ..model.recipes import Recipe
from ..model.shots import Shot
from .analyses import Analyses


class TakenIn(BaseModel):
    """A source as it was taken in; plain values, so that it can be sent anywhere.

    Attributes
    ----------
    reel : str
        Path of the source.
    reading : Reading
        How it is read.
    accept_missing : bool
        Take pictures that cannot be decoded for missing.
    fingerprint : str
        Under which the analyses are kept.
    size, modified : int
        Of the source when it was taken in; another is refused.
    sample : str
        Of the same, see `core.media.opening.sample_of`; empty where it is not known.
    repeats : str
        File of the map of repeated frames; empty to treat each frame for itself.
    analyses : str
        Folder.
    """

    model_config = ConfigDict(frozen=True)

    reel: str
    reading: Reading = Reading()
    accept_missing: bool = False
    fingerprint: str
    size: int
    modified: int
    sample: str = ""
    repeats: str = ""
    analyses: str

    def open_unchanged(self) -> ReelReader:
        """Open the source; raises ChangedReel if it is not the reel that was taken in."""
        self.require_unchanged()
        return open_reel(Path(self.reel), self.reading, self.accept_missing)

    def require_unchanged(self) -> None:
        """Raise ChangedReel if the source is not the reel that was taken in."""
        path = Path(self.reel)
        if stamp_of(path) != (self.size, self.modified) or (self.sample and sample_of(path) != self.sample):
            raise ChangedReel(f"{path.name} has changed since it was taken in. Nothing was computed. Take the reel in again.")


class ReelAtHand(TakenIn):
    """A reel, and where what is worked out of its shots is kept.

    Attributes
    ----------
    frames : int
    absent : tuple of int
        Frames that are missing.
    folder : str
        What intake made of it lies there, and its volumes.
    most_volumes : int
        How many shots are kept laid open in time.
    """

    frames: int
    absent: tuple[int, ...] = ()
    folder: str
    most_volumes: int = 8

    def volume_path(self, first: int, stop: int) -> Path:
        """Where a shot laid open in time is kept, by the frames it holds and how they are read."""
        way = f"-{self.reading.fields or 'top'}-fields" if self.reading.deinterlace else ""
        return Path(self.folder) / "volumes" / f"{first:08d}-{stop:08d}{way}.bin"

    def repeated(self) -> Repeats | None:
        """Which frames repeat others; None when that is not known, or was damaged."""
        known = Path(self.folder) / "repeats.npz"
        return kept((known,), lambda: Repeats.load(known))

    def usable(self) -> NDArray[np.int64]:
        """The frames that are there and repeat no other."""
        repeats = self.repeated()
        usable = np.arange(self.frames, dtype=np.int64) if repeats is None else repeats.distinct
        return np.setdiff1d(usable, np.asarray(self.absent, np.int64))

    def volume(self, shot: Shot, source: ReelReader, on_progress: Callable[[float], None] | None = None) -> TimeVolume:
        """A shot's time volume, made when it is not there."""
        path = self.volume_path(shot.first, shot.stop)
        found = kept_volume(path)
        if found is not None:
            os.utime(path, ns=(time.time_ns(), path.stat().st_mtime_ns))
            volume = found
        else:
            path.parent.mkdir(parents=True, exist_ok=True)
            count = shot.stop - shot.first
            share = (lambda frame: on_progress((frame.number - shot.first + 1) / count)) if on_progress else None
            with recorded(light_path(path), source, shot.first) as writer:

                def seen(frame: Frame) -> None:
                    writer.add(frame)
                    if share:
                        share(frame)

                volume = build_volume(path, source, seen, first=shot.first, stop=shot.stop, usable=self.usable())
            self._free_volumes(path.parent, keep=path)
        volume.colour = source.colour
        return volume

    def kept_volume(self, shot: Shot, source: ReelReader) -> TimeVolume | None:
        """The time volume of the frames a shot's analyses rest on, where it is there."""
        there = kept_volume(self.volume_path(shot.first, shot.stop)) is not None
        return self.span_volume(shot, source) if there else None

    def span_volume(self, shot: Shot, source: ReelReader) -> TimeVolume:
        """The time volume of the frames a shot's analyses rest on."""
        return self.volume(shot, source).between(*shot.span)

    def light(self, shot: Shot, source: ReelReader) -> LightRecord:
        """The record of a shot's light, made when it is not there."""
        path = light_path(self.volume_path(shot.first, shot.stop))
        light = kept_record(path)
        # Light above black depends on how the samples are read, which may have been corrected since.
        if light is None or light.colour != source.colour:
            path.parent.mkdir(parents=True, exist_ok=True)
            light = record(path, source, shot.first, shot.stop)
        light.rate = source.rate
        return light

    def span_light(self, shot: Shot, source: ReelReader) -> LightRecord:
        """The record of the light of the frames a shot's analyses rest on."""
        return self.light(shot, source).between(*shot.span)

    def analyses_of(self, shot: Shot) -> Analyses:
        """Where a shot's analyses are kept."""
        return Analyses(Path(self.analyses), self.fingerprint, *shot.span)

    def knowledge(self, shot: Shot, recipe: Recipe, source: ReelReader, progress: Callable[[float], None]) -> list[Knowledge]:
        """What the steps of a resolved recipe know of a shot; what is missing is made."""
        return self.analyses_of(shot).make(
            recipe,
            source,
            partial(self.span_volume, shot, source),
            progress,
            partial(self.span_light, shot, source),
            self.usable(),
            partial(self.kept_volume, shot, source),
        )

    def _free_volumes(self, folder: Path, keep: Path) -> None:
        """Let go of the volumes that were used longest ago."""
        held = sorted(folder.glob("*.bin"), key=_last_used, reverse=True)
        for path in held[self.most_volumes :]:
            if path != keep:
                for gone in (path, path.with_suffix(".json"), light_path(path), described(light_path(path))):
                    gone.unlink(missing_ok=True)


def light_path(volume: Path) -> Path:
    """Where the record of a shot's light is kept, beside its volume."""
    return volume.with_suffix(".light")


def _last_used(path: Path) -> float:
    # Another process may have let go of it just now.
    return path.stat().st_atime if path.exists() else 0.0
