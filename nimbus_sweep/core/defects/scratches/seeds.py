"""A scratch by where it is, and what it does to the picture, measured there."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import Any, NamedTuple

import numpy as np
from pydantic import BaseModel, ConfigDict, Field

from ...evidence.frames_at_hand import Span
from ...imaging.levels import luma
from ...imaging.motion import Plane
from ...media.frames import Frame, as_numbers
from .lines import BANDS, Array, band_edges, band_means, band_middles, scores
from .presence import Steadiness, ends, presence, steadiness
from .profiles import Profile, Undone, lifted, measured, placed, profile_of, rows_of, without

# What has to be seen of a scratch, of what it usually is, in a frame it was found in.
THERE = 0.35
# Widths within which another one disturbs what is told of it, and how often they are measured again then.
_CLOSE, _ROUNDS = 8.0, 2
# Frames a scratch is measured in; pixels that it may lie beside where it was found, and bands that its ends may.
_MEASURED, BESIDE, _ROOM = 10, 1, 4.0
# How often it may be found to go on by so many bands; frames before those it was found in that it may not be seen in.
_GROWS, _MISSED = 8, 1


# Frames that a track names at most.
_LONGEST = 400


class Seed(BaseModel):
    """A scratch, by where it crosses the top and the bottom of some frames, and the rows it is in; all rows when None."""

    model_config = ConfigDict(frozen=True, extra="forbid")

    bright: bool
    track: tuple[tuple[int, float, float], ...] = Field(
        min_length=1, max_length=_LONGEST, description="frame, x at the top, x at the bottom"
    )
    rows: tuple[int, int] | None = Field(default=None, description="first row, row after the last")
    width: float | None = Field(default=None, gt=0, description="about how wide it is: standard deviation in pixels")

    def across(self, frame: int, row: Any, height: int) -> Any:
        """Where it is expected to cross a row, or rows, of a frame so high."""
        numbers = np.array([t[0] for t in self.track])
        top, bottom = (float(np.interp(frame, numbers, [t[k] for t in self.track])) for k in (1, 2))
        return top + (bottom - top) * row / max(1, height - 1)

    def expected(self, frame: int, height: int) -> Array:
        """Where it is expected to cross the bands of a frame so high."""
        return np.asarray(self.across(frame, band_middles(height), height))

    def reach(self, height: int) -> tuple[int, int]:
        """Its rows, of a frame so high."""
        return (0, height) if self.rows is None else self.rows

    def names(self, frame: int) -> bool:
        """Whether a frame lies within those it was found in."""
        return self.track[0][0] <= frame <= self.track[-1][0]

    def bands(self, height: int) -> slice:
        """The bands it is in."""
        first, stop = self.reach(height)
        inside = [n for n, (a, b) in enumerate(band_edges(height)) if a < stop and b > first]
        return slice(inside[0], inside[-1] + 1) if inside else slice(0, 0)


@dataclass(frozen=True)
class Known:
    """What is known of a scratch.

    Attributes
    ----------
    seed : Seed
    rows : slice
        Those it is in, nearer than they were found.
    profile : Profile
        What it does to luma.
    profiles : tuple of (Profile or None)
        And to each component: None where nothing can be told.
    steady : Steadiness
        Of what is seen of it on luma.
    """

    seed: Seed
    rows: slice
    profile: Profile
    profiles: tuple[Profile | None, ...]
    steady: Steadiness


class Cleared:
    """A frame in 8-bit codes, from which lines are taken off one after the other.

    Attributes
    ----------
    frame : Frame
    light : ndarray, float32, (height, width)
        Its luma.
    """

    def __init__(self, frame: Frame, light: Plane | None = None) -> None:
        self.frame, self.light = frame, luma(frame) if light is None else light
        self._planes: dict[int, Plane] = {}

    def plane(self, index: int) -> Plane:
        """A component."""
        if index not in self._planes:
            self._planes[index] = as_numbers(self.frame.component(index)) / np.float32(self.frame.format.components[index].code)
        return self._planes[index]

    def undone(self, one: Known, index: int, at: Array, there: Array) -> Undone | None:
        """A line undone in a component; None where nothing is known of it there."""
        profile, component = one.profiles[index], self.frame.format.components[index]
        if profile is None:
            return None
        across, down = self.frame.format.subsampling(index)
        cells_at = at if (across, down) == (1, 1) else at_cells(at, across, down, component.height)
        own_there = there if down == 1 else np.interp(np.arange(component.height) * down, np.arange(len(there)), there)
        return lifted(self.plane(index), cells_at, profile, own_there)

    def without(self, one: Known, at: Array, there: Array) -> Cleared:
        """The same frame with a line taken off."""
        left = Cleared(self.frame, without(self.light, lifted(self.light, at, one.profile, there)))
        for index in range(len(one.profiles)):
            undone = self.undone(one, index, at, there)
            left._planes[index] = self.plane(index) if undone is None else without(self.plane(index), undone)
        return left


def known(span: Span, seed: Seed, others: Sequence[Known] = ()) -> Known | None:
    """What a scratch does to each component, measured over some of its frames.

    Parameters
    ----------
    span : Span
        Of the shot.
    seed : Seed
    others : sequence of Known
        What lies close by is taken off before.

    Returns
    -------
    Known or None
        None where there is nothing to measure.
    """
    layout = span.source.format
    inside = [n for n in span.numbers.tolist() if seed.names(n)]
    bands = seed.bands(layout.height)
    if not inside or bands.stop - bands.start < 2:
        return None
    chosen = [inside[k] for k in np.unique(np.linspace(0, len(inside) - 1, min(_MEASURED, len(inside))).round().astype(int))]
    pictures = []
    for frame in (span.source.frame(n) for n in chosen):
        picture = Cleared(frame)
        for other in others:
            if other.seed.names(frame.number) and _close(seed, other, frame.number, layout.height):
                found = where(
                    other, picture.light, scores(band_means(picture.light)), other.seed.expected(frame.number, layout.height), BESIDE
                )
                if found.seen >= THERE:
                    picture = picture.without(other, found.at, found.there)
        pictures.append(picture)
    samples = [(p.light, scores(band_means(p.light)), seed.expected(p.frame.number, layout.height)) for p in pictures]
    profile = measured(samples, seed.bright, bands, BESIDE, seed.width, span.source.colour.luma_range)
    if profile is None:
        return None
    rows = slice(*seed.reach(layout.height))
    for _ in range(_GROWS):
        ways = [rows_of(placed(light, scored, xs, seed.bright, profile, bands, BESIDE), layout.height) for light, scored, xs in samples]
        lit = [(light, way) for (light, *_), way in zip(samples, ways, strict=True)]
        own = ends(lit, profile, rows, round(_ROOM * layout.height / BANDS))
        seed = seed.model_copy(update={"rows": (own.start, own.stop)})
        if seed.bands(layout.height) in (bands, slice(0, 0)) or own.stop - own.start <= rows.stop - rows.start:
            break
        # It goes on: where, is told anew, and whether it goes on still farther.
        bands, rows = seed.bands(layout.height), own
    profiles: list[Profile | None] = []
    for i, c in enumerate(layout.components):
        across, down = layout.subsampling(i)
        if c.name == "A":
            profiles.append(None)
        elif i == 0 and c.name == "Y":
            profiles.append(profile)
        else:
            rows = slice(own.start // down, -(-own.stop // down))
            at = [(p.plane(i)[rows], at_cells(way, across, down, c.height)[rows]) for p, way in zip(pictures, ways, strict=True)]
            within = (-np.inf, np.inf) if c.is_chroma else span.source.colour.luma_range
            profiles.append(profile_of(at, max(0.45, profile.width / across), within=within))
    return Known(seed, own, profile, tuple(profiles), steadiness(lit, profile, own))


def all_known(span: Span, seeds: Sequence[Seed]) -> list[Known]:
    """What is known of scratches, the surest first; those that disturb one another are measured again, each without the others."""
    first: list[Known] = []
    for seed in seeds:
        one = known(span, seed, first)
        first += [one] if one is not None else []
    height = span.source.format.height
    for _ in range(_ROUNDS):
        for n, one in enumerate(first):
            others = [other for other in first if other is not one]
            if any(_disturb(one, other, height) for other in others):
                first[n] = known(span, one.seed, others) or one
    return first


def _disturb(one: Known, other: Known, height: int) -> bool:
    return any(other.seed.names(frame) and _close(one.seed, other, frame, height) for frame, *_ in one.seed.track)


def _close(seed: Seed, other: Known, frame: int, height: int) -> bool:
    """Whether another scratch lies so close to where one is expected that it disturbs what is told of that."""
    rows = np.array([0, height - 1])
    apart = np.abs(seed.across(frame, rows, height) - other.seed.across(frame, rows, height))
    return bool(apart.min() < _CLOSE * (other.profile.width + (seed.width or other.profile.width)))


def begun(span: Span, one: Known, room: int, least: float) -> Known:
    """A scratch with the frames before those that it was found in, as far back as it is seen, a frame more or less.

    Parameters
    ----------
    span : Span
        Of the shot.
    one : Known
    room : int
        Pixels that it may move across from a frame to the next.
    least : float
        What has to be seen of it, of what it usually is.
    """
    track, missed, height = list(one.seed.track), 0, span.source.format.height
    for number in reversed([n for n in span.numbers.tolist() if n < one.seed.track[0][0]]):
        light = luma(span.source.frame(number))
        seed = one.seed.model_copy(update={"track": tuple(track)})
        found = where(one, light, scores(band_means(light)), seed.expected(number, height), room)
        if found.seen >= least:
            lean, top = np.polyfit(np.arange(height), found.at, 1)
            track.insert(0, (number, round(float(top), 2), round(float(top + lean * (height - 1)), 2)))
            missed = 0
        elif (missed := missed + 1) > _MISSED:
            break
        if len(track) == _LONGEST:
            break
    return one if len(track) == len(one.seed.track) else replace(one, seed=one.seed.model_copy(update={"track": tuple(track)}))


class Where(NamedTuple):
    """Where a scratch crosses each row of a frame, how far it is there, and what is seen of it, see `presence.presence`."""

    at: Array
    there: Array
    seen: float


def where(one: Known, light: Plane, scored: Array, expected: Array, room: int) -> Where:
    """Find a scratch in a frame.

    Parameters
    ----------
    one : Known
    light : ndarray, float32, (height, width)
        Luma, in codes.
    scored : ndarray, float32, (bands, width)
        See `lines.scores`.
    expected : ndarray, float64, (bands,)
    room : int
        Pixels that it may lie beside where it is expected.
    """
    height = light.shape[0]
    at = rows_of(placed(light, scored, expected, one.seed.bright, one.profile, one.seed.bands(height), room), height)
    return Where(at, *presence(light, at, one.profile, one.steady, one.rows))


def at_cells(at: Array, across: int, down: int, height: int) -> Array:
    """Where a line crosses the rows of a component whose samples stand for several pixels."""
    rows = np.minimum(np.arange(height) * down + (down - 1) / 2, len(at) - 1)
    return np.asarray((np.interp(rows, np.arange(len(at)), at) - (across - 1) / 2) / across)
