"""Tracks: how a flat part of the scene moves through a shot, as it is kept, put right by hand, and ridden on by regions."""

from __future__ import annotations

import base64
import hashlib
import zlib
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from functools import lru_cache
from itertools import pairwise

import numpy as np
from numpy.typing import NDArray
from pydantic import BaseModel, ConfigDict, Field, model_validator

from ..base.errors import SweepError
from .kept import Kept
from .planes import Followed, Matrix, Model, Points, State, box_corners, from_corners, moved, nudged, smoothed
from .regions import Part, Region
from .shapes import Mask

# Numbers kept of a frame: four corners, how far it misses, how sure it is.
_KEPT = 10


class CornerNudge(BaseModel):
    """How far the corners of a plane were moved by hand in a frame: x and y for each, clockwise from the left upper one."""

    model_config = ConfigDict(frozen=True, extra="forbid")

    frame: int = Field(ge=0)
    corners: tuple[tuple[float, float], tuple[float, float], tuple[float, float], tuple[float, float]]


@dataclass(frozen=True)
class TrackSummary:
    """How well a track holds.

    Attributes
    ----------
    frames, held : int
        Frames that were followed, and those of them that hold.
    loose : float
        Standard deviation of a corner, in pixels, that 95 of 100 held frames stay under.
    bad : tuple of (int, int, State)
        First and last frame of each stretch that does not hold, and its state.
    """

    frames: int = 0
    held: int = 0
    loose: float = 0.0
    bad: tuple[tuple[int, int, State], ...] = ()


class Track(Kept):
    """A track of a shot.

    Attributes
    ----------
    name : str
        What regions ride on it by.
    model : str
        ``translation``, ``similarity``, ``affine`` or ``perspective``.
    reference : int
        The frame in which the region was drawn: the plane's own place is its place there.
    region : Region
        The plane, as it lies in the reference frame; its keys tell where it is wider, or cut, in other frames.
    hold_out : Region or None
        What is kept out of the track, where it is in each frame.
    first : int
        The first frame that was followed.
    path : str
        For each frame followed, corners, misfit, looseness and state, packed by `pack`; empty before.
    nudges : tuple of Nudge
        In order of frames.
    smooth : float
        Standard deviation of the smoothing in time, in frames.
    size : tuple of int
        Height and width of the pictures.
    box : tuple of float or None
        Left, top, right and bottom of the rectangle that the path tells the corners of: that of the region when it was
        first followed, so that the shape can be changed on the way.
    """

    model_config = ConfigDict(frozen=True, extra="forbid")

    name: str = Field(min_length=1, max_length=60)
    model: Model = "perspective"
    reference: int = Field(ge=0)
    region: Region
    hold_out: Region | None = None
    first: int = Field(default=0, ge=0)
    path: str = ""
    nudges: tuple[CornerNudge, ...] = Field(default=(), max_length=2000)
    smooth: float = Field(default=0.0, ge=0, le=50)
    size: tuple[int, int] = (0, 0)
    box: tuple[float, float, float, float] | None = None

    @model_validator(mode="after")
    def _consistent(self) -> Track:
        if self.path:
            try:
                count = len(zlib.decompress(base64.b64decode(self.path, validate=True)))
            except (ValueError, zlib.error) as error:
                raise ValueError("the path of the track cannot be unpacked") from error
            if count % (4 * _KEPT + 1):
                raise ValueError("the path of the track is cut short")
        frames = [n.frame for n in self.nudges]
        if frames != sorted(set(frames)):
            raise ValueError("the nudges of a track lie at frames of their own, in order")
        return self

    @property
    def digest(self) -> str:
        """What the way depends on, in short: whatever rides on the track is made anew when it changes."""
        text = self.model_dump_json(include={"model", "region", "first", "path", "nudges", "smooth", "reference", "box"})
        return hashlib.sha256(text.encode()).hexdigest()[:24]

    def corners(self) -> Points:
        """The corners of the plane's rectangle in the reference frame: (4, 2)."""
        if self.box is None:
            return _corners(self.region, self.size, self.reference)
        left, top, right, bottom = self.box
        return np.array([[left, top], [right, top], [right, bottom], [left, bottom]], np.float64)

    def unfollowed(self) -> Track:
        """The track as it was before it was followed."""
        return self.model_copy(update={"path": "", "first": 0, "nudges": (), "box": None})

    def followed(self) -> Followed | None:
        """What was followed, as it was; None before."""
        return _unpacked(self) if self.path else None

    def way(self, frame: int) -> Matrix:
        """From the plane's own place to a frame: (3, 3), with what was put right by hand; outside what was followed as at its end.

        Raises
        ------
        SweepError
            If it was not followed yet.
        """
        ways = _ways(self)
        if ways is None:
            raise SweepError(f"The track {self.name!r} has not been followed yet: track it first, under Tracks.")
        return np.asarray(ways[int(np.clip(frame - self.first, 0, len(ways) - 1))])

    def ridden(self) -> Region:
        """Its region, riding on itself; fixed before it was followed."""
        track = self.name if self.path else ""
        return self.region.model_copy(update={"parts": tuple(p.model_copy(update={"track": track}) for p in self.region.parts)})

    def summary(self) -> TrackSummary:
        """How well it holds."""
        followed = self.followed()
        if followed is None:
            return TrackSummary()
        held = followed.states == State.HELD
        loose = round(float(np.percentile(followed.loose[held], 95)), 2) if held.any() else 0.0
        return TrackSummary(len(held), int(held.sum()), loose, _stretches(followed))

    def with_path(self, followed: Followed) -> Track:
        """The track with what was followed, joined to what was known before; frames followed anew take its place."""
        known = self.followed()
        rows: dict[int, tuple[NDArray[np.float64], float, float, int]] = {}
        corners = self.corners()
        for one in (known, followed):
            if one is not None:
                for n, way, misfit, loose, state in zip(one.numbers, one.matrices, one.misfit, one.loose, one.states, strict=True):
                    rows[int(n)] = (moved(corners, way).ravel(), float(misfit), float(loose), int(state))
        numbers = sorted(rows)
        # A gap between two stretches ends the older one: a path is one stretch of frames.
        at = numbers.index(int(followed.numbers[0]))
        low = high = at
        while low and numbers[low - 1] == numbers[low] - 1:
            low -= 1
        while high + 1 < len(numbers) and numbers[high + 1] == numbers[high] + 1:
            high += 1
        kept = [rows[n] for n in numbers[low : high + 1]]
        box = (*corners[0].tolist(), *corners[2].tolist())
        return self.model_copy(update={"first": numbers[low], "path": pack(kept), "box": box})

    def adjusted(self, frame: int, corners: Points) -> Track:
        """The track with its corners put at some places in a frame: (4, 2), in pixels of that frame."""
        base = _ways(self.model_copy(update={"nudges": (), "smooth": 0.0}))
        if base is None:
            raise SweepError("Track the plane first; then its corners can be put right.")
        at = moved(self.corners(), base[int(np.clip(frame - self.first, 0, len(base) - 1))])
        by = tuple((round(float(x), 3), round(float(y), 3)) for x, y in corners - at)
        kept = {n.frame: n for n in self.nudges} | {frame: CornerNudge(frame=frame, corners=by)}  # type: ignore[arg-type]
        return self.model_copy(update={"nudges": tuple(kept[n] for n in sorted(kept))})

    def unnudged(self, frame: int) -> Track:
        """The track without what was put right by hand in a frame."""
        return self.model_copy(update={"nudges": tuple(n for n in self.nudges if n.frame != frame)})

    def settled_to(self, frame: int) -> Track:
        """The track with what was put right by hand made part of its path, so that it can be followed on from a frame."""
        followed, ways = self.followed(), _ways(self)
        if followed is None or ways is None:
            return self
        corners = self.corners()
        rows = [
            (moved(corners, way).ravel(), float(m), float(s), int(t))
            for way, m, s, t in zip(ways, followed.misfit, followed.loose, followed.states, strict=True)
        ]
        return self.model_copy(update={"path": pack(rows), "nudges": (), "smooth": 0.0})


def pack(rows: Sequence[tuple[NDArray[np.float64], float, float, int]]) -> str:
    """Corners (8 numbers), misfit, looseness and state of frames one behind the other, as text."""
    figures = np.array([[*corners, misfit, loose] for corners, misfit, loose, _ in rows], "<f4")
    states = np.array([state for *_, state in rows], np.uint8)
    return base64.b64encode(zlib.compress(figures.tobytes() + states.tobytes(), 9)).decode()


@lru_cache(maxsize=32)
def _corners(region: Region, size: tuple[int, int], frame: int) -> Points:
    return box_corners(region.mask(size, frame))


@lru_cache(maxsize=32)
def _unpacked(track: Track) -> Followed:
    data = zlib.decompress(base64.b64decode(track.path))
    count = len(data) // (4 * _KEPT + 1)
    figures = np.frombuffer(data, "<f4", count * _KEPT).reshape(count, _KEPT).astype(np.float64)
    states = np.frombuffer(data, np.uint8, count, 4 * count * _KEPT)
    corners = track.corners()
    matrices = np.stack([from_corners(corners, row[:8].reshape(4, 2), track.model) for row in figures])
    numbers = np.arange(track.first, track.first + count, dtype=np.int64)
    return Followed(numbers, matrices, figures[:, 8], figures[:, 9], states)


@lru_cache(maxsize=32)
def _ways(track: Track) -> NDArray[np.float64] | None:
    followed = track.followed()
    if followed is None:
        return None
    corners = track.corners()
    ways = smoothed(followed.matrices, corners, track.smooth, track.model)
    nudges = {n.frame: np.array(n.corners) for n in track.nudges}
    # A corner that is put right by hand may leave the model's own shapes.
    return nudged(ways, followed.numbers, corners, nudges, "perspective" if nudges else track.model)


def _stretches(followed: Followed) -> tuple[tuple[int, int, State], ...]:
    found: list[tuple[int, int, State]] = []
    edges = np.flatnonzero(np.diff(followed.states.astype(int), prepend=-1, append=-1))
    for a, b in pairwise(edges.tolist()):
        state = State(int(followed.states[a]))
        if state is not State.HELD:
            found.append((int(followed.numbers[a]), int(followed.numbers[b - 1]), state))
    return tuple(found)


@dataclass(frozen=True)
class Riding:
    """A region together with the tracks that its parts ride on."""

    region: Region
    tracks: tuple[Track, ...]

    @property
    def parts(self) -> tuple[Part, ...]:
        """Its shapes."""
        return self.region.parts

    @property
    def changes(self) -> bool:
        """Whether it differs from frame to frame."""
        return self.region.changes

    def mask(self, size: tuple[int, int], frame: int = 0) -> Mask:
        """0 to 1, (height, width), in a frame."""
        return self.region.mask(size, frame, ways_at(self.tracks, frame, self.region))


def ways_at(tracks: Sequence[Track], frame: int, region: Region) -> Mapping[str, Matrix]:
    """For each track that a region rides on its way to a frame."""
    used = {p.track for p in region.parts if p.track}
    return {t.name: t.way(frame) for t in tracks if t.name in used}


def track_named(tracks: Sequence[Track], name: str) -> Track:
    """A track by its name.

    Raises
    ------
    SweepError
        If there is none of that name.
    """
    for track in tracks:
        if track.name == name:
            return track
    raise SweepError(f"There is no track called {name!r} any more. Choose another one, or fix the region to the frame.")
