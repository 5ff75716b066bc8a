"""A scratch by where it is, and what it does to the picture, measured there."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
from pydantic import BaseModel, ConfigDict, Field

from ...evidence.frames_at_hand import Span
from ...imaging.levels import luma
from ...imaging.motion import Plane
from ...media.frames import Frame, as_numbers
from .lines import BANDS, Array, band_edges, band_means, band_middles, scores
from .presence import Steadiness, ends, steadiness
from .profiles import Profile, measured, placed, profile_of, rows_of

# Frames a scratch is measured in; pixels that it may lie beside where it was found, and bands that its ends may.
_MEASURED, BESIDE, _ROOM = 10, 1, 2.0


class Seed(BaseModel):
    """A scratch, by where it crosses the top and the bottom of some frames, and the rows it is in; all rows when None."""

    model_config = ConfigDict(frozen=True, extra="forbid")

    bright: bool
    track: tuple[tuple[int, float, float], ...] = Field(min_length=1, max_length=400, description="frame, x at the top, x at the bottom")
    rows: tuple[int, int] | None = Field(default=None, description="first row, row after the last")

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


def known(span: Span, seed: Seed) -> Known | None:
    """What a scratch does to each component, measured over some of its frames; None where there is nothing to measure."""
    layout = span.source.format
    inside = [n for n in span.numbers.tolist() if seed.track[0][0] <= n <= seed.track[-1][0]]
    bands = seed.bands(layout.height)
    if not inside or bands.stop - bands.start < 2:
        return None
    chosen = [inside[k] for k in np.unique(np.linspace(0, len(inside) - 1, min(_MEASURED, len(inside))).round().astype(int))]
    frames = [span.source.frame(n) for n in chosen]
    samples = [(light := luma(f), scores(band_means(light)), seed.expected(f.number, layout.height)) for f in frames]
    profile = measured(samples, seed.bright, bands, BESIDE)
    if profile is None:
        return None
    ways = [rows_of(placed(light, scored, xs, seed.bright, profile, bands, BESIDE), layout.height) for light, scored, xs in samples]
    lit = [(light, way) for (light, *_), way in zip(samples, ways, strict=True)]
    own = ends(lit, profile, slice(*seed.reach(layout.height)), round(_ROOM * layout.height / BANDS))
    profiles: list[Profile | None] = []
    for i, c in enumerate(layout.components):
        across, down = layout.subsampling(i)
        if c.name == "A":
            profiles.append(None)
        elif i == 0 and c.name == "Y":
            profiles.append(profile)
        else:
            rows = slice(own.start // down, -(-own.stop // down))
            at = [(codes(f, i)[rows], at_cells(way, across, down, c.height)[rows]) for f, way in zip(frames, ways, strict=True)]
            profiles.append(profile_of(at, max(0.45, profile.width / across)))
    return Known(seed, own, profile, tuple(profiles), steadiness(lit, profile, own))


def codes(frame: Frame, index: int) -> Plane:
    """A component in 8-bit codes."""
    return as_numbers(frame.component(index)) / np.float32(frame.format.components[index].code)


def at_cells(at: Array, across: int, down: int, height: int) -> Array:
    """Where a line crosses the rows of a component whose samples stand for several pixels."""
    rows = np.minimum(np.arange(height) * down + (down - 1) / 2, len(at) - 1)
    return np.asarray((np.interp(rows, np.arange(len(at)), at) - (across - 1) / 2) / across)
