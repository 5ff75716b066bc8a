"""All specks of a frame, held against the frames beside it, and those that stay for two frames."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, replace

import cv2
import numpy as np
from numpy.typing import NDArray

from ...evidence.moments import Moment
from ...imaging.neighbours import LEAST, SEED, Box, Neighbour, disc, outside, stays
from ...imaging.patches import Patch
from .appearance import appearance
from .shot_odds import Candidate
from .specks import SURE, Speck, apart, around, candidates, overlapping

# What stays for two frames departs from the frame beside it by no more than this share; where more of the picture does
# so than this, it moves.
_STAYS, _CROWDED = 0.35, 0.03
# Pixels each way of what is looked at together, and the share of the picture from which all of it is.
_CELL, _MOST_OF_IT = 16, 0.6


# Makes a patch of a speck: of the moment it is seen in, where the frames that fill it lie about it, and those frames laid on it.
Patching = Callable[[Moment, Speck, tuple[int, ...], Sequence[Neighbour]], Patch]


@dataclass(frozen=True)
class Found:
    """A speck, what it looks like (see `appearance.APPEARANCE`), and what mends it, where that was asked for."""

    speck: Speck
    appearance: tuple[float, ...]
    patch: Patch | None

    def candidate(self, at: Moment) -> Candidate:
        """What is kept of it, found at a moment."""
        rows, cols = np.nonzero(self.speck.mask)
        y, x = self.speck.box[0].start + int(rows.mean()), self.speck.box[1].start + int(cols.mean())
        speck = self.speck
        return Candidate(at.frame.number, y, x, speck.bright, at.noise, at.marked_share, speck.evidence, speck.sure, self.appearance)


@dataclass(frozen=True)
class Looked:
    """What was found in a frame.

    Attributes
    ----------
    specks : list of Found
    lasting : dict
        What departs from the frame on one side and from the second on the other, but not from the next there: by the direction of that,
        1 or -1. It is a speck where that frame shows it as well.
    marked : float
        Share of the picture that comes and goes, by a first look.
    """

    specks: list[Found]
    lasting: dict[int, list[Found]]
    marked: float


def look_over(at: Moment, patch_of: Patching | None = None) -> Looked:
    """Find the specks of a frame; nothing in one that has fewer than two frames beside it."""
    if len(at.beside) < 2:
        return Looked([], {}, 0.0)

    def found(offsets: tuple[int, ...], specks: list[Speck]) -> list[Found]:
        made = []
        for speck in specks:
            near = [at.neighbour(k, speck.box) for k in offsets]
            patch = None if patch_of is None else patch_of(at, speck, offsets, near)
            made.append(Found(speck, appearance(at, speck, offsets, near), patch))
        return made

    near = [at.neighbour(k) for k in at.beside]
    specks = found(at.beside, _of_one_frame(at, near))
    # What stayed for two frames: this one, and the next in a direction. It is filled from the frames around the two.
    lasting = {step: found((-step, 2 * step), _lasting(at, step)) for step in (1, -1)}
    return Looked(specks, lasting, at.marked_share)


def _of_one_frame(at: Moment, near: Sequence[Neighbour]) -> list[Speck]:
    """What is outside of what both neighbours hold, looked at where there is such a thing alone."""
    specks: list[Speck] = []
    for box in _windows(outside(at.light, near[0], near[1], max(SEED * at.noise, LEAST))):
        here, marked = (np.ascontiguousarray(p[box]) for p in (at.light, at.marked))
        parts = [n.part(box) for n in near]
        specks += [s.moved(box) for s in candidates(here, parts, at.noise, marked, one_sided=at.is_one_sided)]
    return apart(specks)


def _lasting(at: Moment, step: int) -> list[Speck]:
    if any(k not in at.offsets for k in (-step, step, 2 * step)):
        return []
    back, ahead = at.neighbour(-step), at.neighbour(step)
    least = max(SEED * at.noise, LEAST)
    stayed = stays(at.light, back.light, ahead.light, least, _STAYS)
    if not 0 < cv2.countNonZero(stayed) <= _CROWDED * stayed.size:
        return []
    cols, rows = cv2.findNonZero(stayed).reshape(-1, 2).T
    # What the second frame on shows as well is of the scene.
    here = at.light[rows, cols]
    before, gone = here - back.light[rows, cols], here - at.light_at(2 * step, rows, cols)
    departs = (before * gone > 0) & (np.abs(gone) > least)
    if not departs.any():
        return []
    stayed[rows[~departs], cols[~departs]] = 0
    allowed = cv2.dilate(stayed, disc(1)) > 0
    specks: list[Speck] = []
    for box in _windows(_seeds(at, back, step, rows[departs], cols[departs], least)):
        here, marked, inside = (np.ascontiguousarray(p[box]) for p in (at.light, at.marked, allowed))
        near = (at.neighbour(-step, box), at.neighbour(2 * step, box))
        specks += [s.moved(box) for s in candidates(here, near, at.noise, marked, inside)]
    return apart(specks)


def _seeds(at: Moment, back: Neighbour, step: int, rows: NDArray[np.int64], cols: NDArray[np.int64], least: float) -> NDArray[np.uint8]:
    """Of some pixels, those outside of what the frame behind and the second ahead hold about them: 1 there."""
    height, width = at.light.shape
    about = [(y, x) for y in (-1, 0, 1) for x in (-1, 0, 1)]

    def near(y: int, x: int) -> tuple[NDArray[np.int64], NDArray[np.int64]]:
        return np.clip(rows + y, 0, height - 1), np.clip(cols + x, 0, width - 1)

    here = at.light[rows, cols]
    held = np.stack([back.light[near(y, x)] for y, x in about])
    bright, dark = here - held.max(0) > least, held.min(0) - here > least
    rows, cols, here, bright, dark = (v[bright | dark] for v in (rows, cols, here, bright, dark))
    seeds = np.zeros(at.light.shape, np.uint8)
    if len(rows):
        held = np.stack([at.light_at(2 * step, *near(y, x)) for y, x in about])
        out = (bright & (here - held.max(0) > least)) | (dark & (held.min(0) - here > least))
        seeds[rows[out], cols[out]] = 1
    return seeds


def _windows(seeds: NDArray[np.uint8]) -> list[Box]:
    """Parts of the picture that hold seeds, with what is told by about them; all of it where they are most of it."""
    height, width = seeds.shape
    found = cv2.findNonZero(seeds)
    if found is None:
        return []
    cols, rows = found.reshape(-1, 2).T
    cells = np.zeros((-(-height // _CELL), -(-width // _CELL)), np.uint8)
    cells[rows // _CELL, cols // _CELL] = 1
    reach = -(-around(seeds.shape) // _CELL)
    count, _, stats, _ = cv2.connectedComponentsWithStats(cv2.dilate(cells, np.ones((2 * reach + 1, 2 * reach + 1), np.uint8)))
    boxes = [
        np.s_[_CELL * top : min(height, _CELL * (top + tall)), _CELL * left : min(width, _CELL * (left + wide))]
        for left, top, wide, tall, _ in stats[1:count].tolist()
    ]
    covered = sum((b[0].stop - b[0].start) * (b[1].stop - b[1].start) for b in boxes)
    return boxes if covered < _MOST_OF_IT * height * width else [np.s_[0:height, 0:width]]


class LastingSpecks:
    """Adds to what is found frame by frame what stays for two frames; each frame is told of when the next has been seen."""

    def __init__(self) -> None:
        self._before: Looked | None = None
        self._held: tuple[Moment, Looked] | None = None

    def take(self, at: Moment, looked: Looked) -> Iterator[tuple[Moment, list[Found]]]:
        """Take in the next frame; gives the one before it."""
        yield from self._told(looked)
        self._before, self._held = (self._held[1] if self._held else None), (at, looked)

    def finish(self) -> Iterator[tuple[Moment, list[Found]]]:
        """Gives the last frame."""
        yield from self._told(None)

    def _told(self, behind: Looked | None) -> Iterator[tuple[Moment, list[Found]]]:
        if self._held is None:
            return
        at, here = self._held
        sure = [one.speck for one in here.specks if one.speck.sure >= SURE]
        specks = list(here.specks)
        for step, other in ((1, behind), (-1, self._before)):
            for one in here.lasting.get(step, []):
                partners = [p.speck for p in (other.lasting.get(-step, []) if other else []) if _same(one.speck, p.speck)]
                if partners and not any(overlapping(one.speck, s) for s in sure):
                    least = min(one.speck.sure, max(p.sure for p in partners))
                    patch = None if one.patch is None else replace(one.patch, sure=least)
                    specks.append(replace(one, speck=replace(one.speck, sure=least), patch=patch))
        yield at, specks


def _same(one: Speck, other: Speck) -> bool:
    """Whether two specks of neighbouring frames may be one."""
    (a, b), (c, d) = ((s.box[0].start + s.box[0].stop, s.box[1].start + s.box[1].stop) for s in (one, other))
    size = max(one.box[0].stop - one.box[0].start, one.box[1].stop - one.box[1].start)
    ratio = float(one.mask.sum()) / max(1.0, float(other.mask.sum()))
    return one.bright == other.bright and max(abs(a - c), abs(b - d)) <= size and 0.4 < ratio < 2.5
