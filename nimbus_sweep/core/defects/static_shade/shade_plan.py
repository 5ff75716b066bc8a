"""What is known of the marks of a shot, and taking them off frame by frame."""

from __future__ import annotations

import json
from collections.abc import Callable
from dataclasses import asdict, dataclass, field
from functools import cached_property, lru_cache, partial
from pathlib import Path
from typing import Any, Literal

import cv2
import numpy as np
from numpy.typing import NDArray
from pydantic import BaseModel, ConfigDict, Field

from ...base.files import atomic_write
from ...imaging.borrowing import Hole, Lent, nearest
from ...imaging.grain import Grain, calmed
from ...imaging.light import light_of, samples_of
from ...imaging.motion import Plane
from ...media.frames import Colour, Frame, FrameSource, PictureFormat, Samples, Window
from ...media.mark_ways import InEveryFrame, MarkWay
from ...media.per_frame import FrameByFrame
from ...media.remarks import Remark
from ...model.findings import CONVINCES
from .shade_map import ShadeMap
from .veils import Veil, raised_by, undone

Way = Literal["auto", "undo", "borrow", "surround"]
Kind = Literal["dust", "hair", "veil", "any"]
# Of the light, below which nothing and above which all of an undone sample is believed.
LOST, KEPT = 0.1, 0.22
# Share of the disagreement with the scene above which an undone mark is little to be trusted.
_DOUBTFUL = 0.6
# A share of light below this is left alone: it changes no sample by more than rounding does.
LEAST = 0.006
# Largest light a picture can have, in codes, with room to spare.
_TOP = 400.0
# Pictures made ready to be borrowed from that are kept at hand.
_AT_HAND = 24


class ShadeSeed(BaseModel):
    """One static mark, by the line around it."""

    model_config = ConfigDict(frozen=True, extra="forbid")

    outline: tuple[tuple[int, int], ...] = Field(min_length=3, max_length=2000, description="corners, in pixels")
    kind: Kind = "dust"
    way: Way = "auto"
    known: ShadeMap | None = Field(default=None, description="as it was measured before")
    by_looks: bool = Field(default=False, description="told by how it looks: what moves behind it says nothing of it")

    def box(self) -> tuple[int, int, int, int]:
        """Left, top, right, bottom, the last two not included."""
        xs, ys = zip(*self.outline, strict=True)
        return min(xs), min(ys), max(xs) + 1, max(ys) + 1


class UnshadeSettings(BaseModel):
    """Which marks are taken off and how; none named means those that the survey of the shot finds."""

    model_config = ConfigDict(frozen=True, extra="forbid")

    marks: tuple[ShadeSeed, ...] | None = None
    sure: float = Field(default=CONVINCES, ge=0.3, le=1, description="least confidence of a found mark")
    way: Way = Field(default="auto", description="for marks that do not name their own")
    reach: int = Field(default=0, ge=0, le=60, description="frames each side that may be borrowed from; 0 for as few as needed")
    grain: bool = Field(default=True, description="match the grain")


@dataclass(frozen=True)
class MarkPlan:
    """How one mark is taken off; maps are of the box, at the picture's full size.

    Attributes
    ----------
    left, top : int
        Of the box, on whole chroma cells.
    share : ndarray, float32, (height, width)
        `a` of the model of shade.
    hidden : ndarray, float32, (height, width)
        How far the undone sample is not believed, 0 to 1.
    veil : Veil
    needed : float
        How far, in pixels, the scene must move to show what is behind.
    borrows : bool
        Whether hidden samples are filled from other frames, too.
    lent : tuple of ndarray
        For each component, the box in the frames that may be borrowed from, (frames, height, width); empty when
        nothing is hidden.
    left_over : float
        Share of the disagreement with the scene that undoing leaves, 0 to 1.
    dark : bool
        Filled because the picture is nearly black there.
    """

    left: int
    top: int
    share: Plane
    hidden: Plane
    veil: Veil
    needed: float
    borrows: bool
    lent: tuple[Samples, ...]
    left_over: float = 0.0
    dark: bool = False
    _made: dict[tuple[str, tuple[int, int]], Plane] = field(default_factory=dict, compare=False, repr=False)

    def at_cells(self, name: Literal["share", "hidden"], cells: tuple[int, int]) -> Plane:
        """A map at the size of a component whose samples stand for so many pixels."""
        if (name, cells) not in self._made:
            self._made[name, cells] = scaled(getattr(self, name), cells)
        return self._made[name, cells]

    @property
    def window(self) -> Window:
        """The box."""
        return Window(self.left, self.top, self.left + self.share.shape[1], self.top + self.share.shape[0])

    @property
    def way(self) -> str:
        """``undo`` for what is only dimmed; what mends the part that is hidden, ``borrow`` or ``surround``, for all else."""
        if float(self.hidden.max(initial=0)) < 0.5:
            return "undo"
        return "borrow" if self.borrows else "surround"


@dataclass(frozen=True)
class ShadePlan(InEveryFrame):
    """What `analyse` learned of a shot.

    Attributes
    ----------
    layout, colour
        Of the frames.
    marks : tuple of MarkPlan
    grain : tuple of Grain
        For each component.
    numbers : ndarray, int64, (frames,)
        The frames that lend.
    moves : ndarray, float64, (frames, 3, 3)
        The camera's way through them.
    reach : int
    match_grain : bool
    """

    layout: PictureFormat
    colour: Colour
    marks: tuple[MarkPlan, ...]
    grain: tuple[Grain, ...]
    numbers: NDArray[np.int64]
    moves: NDArray[np.float64]
    reach: int
    match_grain: bool

    def save(self, path: Path) -> None:
        """Write the plan to `path`, whole or not at all."""
        header = json.dumps({"format": self.layout.as_json(), "colour": asdict(self.colour)})
        arrays: dict[str, Any] = {"numbers": self.numbers, "moves": self.moves, "told": np.array(header)}
        for n, mark in enumerate(self.marks):
            arrays |= {f"{n}.share": mark.share, f"{n}.hidden": mark.hidden}
            veil = (mark.veil.gain, mark.veil.blur, mark.veil.level, mark.veil.power, *mark.veil.tint)
            arrays[f"{n}.numbers"] = np.array([mark.left, mark.top, mark.needed, mark.borrows, mark.left_over, mark.dark, *veil])
            arrays |= {f"{n}.lent.{i}": planes for i, planes in enumerate(mark.lent)}
        for i, grain in enumerate(self.grain):
            arrays[f"grain.{i}"] = np.vstack([grain.levels, grain.sigma, np.full(len(grain.levels), grain.width)])
        with atomic_write(path) as stream:
            np.savez(stream, count=len(self.marks), reach=self.reach, match=self.match_grain, **arrays)

    @classmethod
    def load(cls, path: Path) -> ShadePlan:
        """Read a plan written by `save`."""
        marks = []
        with np.load(path) as stored:
            header = json.loads(str(stored["told"]))
            layout, colour = PictureFormat.from_json(header["format"]), Colour(**header["colour"])
            for n in range(int(stored["count"])):
                left, top, needed, borrows, left_over, dark, gain, spread, level, power, *tint = stored[f"{n}.numbers"].tolist()
                lent = tuple(stored[f"{n}.lent.{i}"] for i in range(len(layout.components)) if f"{n}.lent.{i}" in stored)
                veil = Veil(gain, spread, level, tuple(tint), power)
                maps = stored[f"{n}.share"], stored[f"{n}.hidden"]
                marks.append(MarkPlan(int(left), int(top), *maps, veil, needed, bool(borrows), lent, left_over, bool(dark)))
            grain = [stored[f"grain.{i}"] for i in range(len(layout.components))]
            return cls(
                layout,
                colour,
                tuple(marks),
                tuple(Grain(g[0], g[1], float(g[2, 0])) for g in grain),
                stored["numbers"],
                stored["moves"],
                int(stored["reach"]),
                bool(stored["match"]),
            )

    def touched(self) -> list[NDArray[np.int64]]:
        """For each component, the samples the step may rewrite, numbered in row order."""
        places = []
        for i, component in enumerate(self.layout.components):
            mask = np.zeros((component.height, component.width), bool)
            if component.name != "A":
                for mark in self.marks:
                    rows, cols = mark.window.cells(self.layout, i)
                    mask[rows, cols] |= (mark.at_cells("share", self.layout.subsampling(i)) > 0) | (
                        mark.at_cells("hidden", self.layout.subsampling(i)) > 0
                    )
            places.append(np.flatnonzero(mask))
        return places

    def needs(self, window: Window) -> Window:
        """The part of the source's pictures that a part of the treated ones is made of: all of the marks it meets."""
        for n in reversed(self._met(window)):
            window = window.joined(self.marks[n].window)
        return window

    def _met(self, window: Window | None) -> list[int]:
        """The marks that have to be taken off for a part of the picture; a mark builds upon those before it."""
        if window is None:
            return list(range(len(self.marks)))
        wanted = [window]
        met = []
        for n in reversed(range(len(self.marks))):
            if any(self.marks[n].window.meets(w) for w in wanted):
                wanted.append(self.marks[n].window)
                met.append(n)
        return met[::-1]

    def apply(self, source: FrameSource, first: int, stop: int, window: Window | None = None) -> FrameSource:
        """`source` with the marks taken off frames `first` to `stop` - 1, at least within `window`."""
        return FrameByFrame(source, partial(self.mend, window=window), first, stop)

    def mend(self, frame: Frame, window: Window | None = None) -> Frame:
        """A frame with its marks taken off, at least within `window`."""
        met = self._met(window)
        if not met:
            return frame
        mended = frame.copy()
        for n in met:
            self._mend(frame, mended, self.marks[n], n)
        return mended

    def _mend(self, frame: Frame, mended: Frame, mark: MarkPlan, number: int) -> None:
        colours = self._colours
        # What another mark has given back already is built upon.
        views = {i: mended.component(i)[mark.window.cells(self.layout, i)] for i in colours}
        light = {i: light_of(views[i], self.layout.components[i], self.colour) for i in colours}
        given, raised = self._given_back(mark, light)
        fill = None
        if mark.hidden.any():
            planes = tuple(given[i] for i in colours)
            lenders = [(self._lent(number, k), shift) for k, shift in self._lenders(mark, frame.number)]
            fill = self._hole(number).filled(planes[self._lightest], planes, lenders)
        for place, i in enumerate(colours):
            component, cells = self.layout.components[i], self.layout.subsampling(i)
            share = mark.at_cells("share", cells)
            picture = given[i]
            if self.match_grain:
                still = share < LEAST
                picture = np.where(still, picture, calmed(picture, raised[i], self.grain[i].at(picture)))
            if fill is not None:
                hidden = mark.at_cells("hidden", cells)
                made = fill.planes[place]
                if self.match_grain:
                    same = scaled(fill.same, cells)
                    made = made + np.sqrt(np.maximum(1 - same * same, 0)) * self.grain[i].fresh(made, (frame.number, number, i))
                picture = picture + hidden * (made - picture)
            touch = (share > 0) if fill is None else (share > 0) | (mark.at_cells("hidden", cells) > 0)
            samples = samples_of(picture, component, self.colour, views[i].dtype)
            views[i][touch] = samples[touch]

    def _given_back(self, mark: MarkPlan, light: dict[int, Plane]) -> tuple[dict[int, Plane], dict[int, Plane]]:
        """Light of the components with what the mark dims, or lays over it, undone; and by how much differences in them grew."""
        given: dict[int, Plane] = {}
        raised: dict[int, Plane] = {}
        for index in light:
            component, cells = self.layout.components[index], self.layout.subsampling(index)
            share = mark.at_cells("share", cells)
            if component.is_chroma and mark.veil.power != 1:
                bright = self._colours[0]
                raised[index] = scaled(raised[bright], cells)
                given[index] = (light[index] - share * mark.veil.of(index, component).level) * raised[index]
                continue
            given[index] = undone(light[index], share, mark.veil.of(index, component), cells[0], _TOP)
            raised[index] = raised_by(light[index], given[index], share, mark.veil)
        return given, raised

    @cached_property
    def _colours(self) -> list[int]:
        """The components that a mark changes."""
        return [i for i, c in enumerate(self.layout.components) if c.name != "A"]

    @cached_property
    def _lightest(self) -> int:
        """The place, among the colours, of the component that is looked at for motion: luma, or green."""
        names = [self.layout.components[i].name for i in self._colours]
        return names.index("G") if "G" in names else 0

    def _lenders(self, mark: MarkPlan, number: int) -> list[tuple[int, tuple[float, float]]]:
        """The held frames that lend to a frame: their places, and how far the camera has carried the scene."""
        if not mark.borrows:
            return []
        middle = np.array([mark.left + mark.share.shape[1] / 2, mark.top + mark.share.shape[0] / 2, 1.0])
        here = np.linalg.solve(_between(self.numbers, self.moves, number), middle)
        shifts = (self.moves @ here)[:, :2] - middle[:2]
        far = np.hypot(*shifts.T)
        # From further away hardly anything of the place is left in the picture.
        far[far > max(0.45 * min(mark.share.shape), 1.5 * mark.needed)] = 0
        return [(k, (float(shifts[k, 0]), float(shifts[k, 1]))) for k in nearest(self.numbers, far, number, mark.needed, self.reach)]

    @cached_property
    def _hole(self) -> Callable[[int], Hole]:
        """``(mark)`` gives its hole."""
        return lru_cache(maxsize=None)(
            lambda n: Hole((self.marks[n].hidden > 0.02).astype(np.float32), float(self.grain[self._colours[0]].sigma.mean()))
        )

    @cached_property
    def _lent(self) -> Callable[[int, int], Lent]:
        """``(mark, held frame)`` gives what the frame lends; frames that follow one another borrow from the same."""
        return lru_cache(maxsize=_AT_HAND)(self._made_ready)

    def _made_ready(self, number: int, k: int) -> Lent:
        mark = self.marks[number]
        given, _ = self._given_back(mark, {i: light_of(mark.lent[i][k], self.layout.components[i], self.colour) for i in self._colours})
        planes = tuple(given[i] for i in self._colours)
        return self._hole(number).lent(planes[self._lightest], planes)

    def ways(self, number: int) -> list[MarkWay]:
        """How each mark is mended in a frame."""
        mended = []
        for mark in self.marks:
            window, way, frames = mark.window, mark.way, tuple(int(self.numbers[k]) for k, _ in self._lenders(mark, number))
            doubt = Remark.of("nearly-black") if mark.dark else None
            if way == "borrow" and not frames:
                way = "surround"
                doubt = Remark.of("no-lender")
            elif way == "surround":
                doubt = Remark.of("never-shown")
            elif way == "undo" and mark.left_over > _DOUBTFUL:
                doubt = Remark.of("explains-little", percent=100 * (1 - mark.left_over))
            elif way == "undo" and float(mark.share.max()) > 1 - KEPT and not mark.hidden.any():
                doubt = Remark.of("little-light", percent=100 * (1 - float(mark.share.max())))
            rows, cols = (np.flatnonzero((np.maximum(mark.share, mark.hidden) > 0.02).any(k)) for k in (1, 0))
            if len(rows):
                window = Window(
                    mark.left + int(cols[0]), mark.top + int(rows[0]), mark.left + int(cols[-1]) + 1, mark.top + int(rows[-1]) + 1
                )
            mended.append(MarkWay(window, way, frames if way == "borrow" else (), doubt))
        return mended


def _between(numbers: NDArray[np.int64], moves: NDArray[np.float64], number: int) -> NDArray[np.float64]:
    """The camera's place in a frame, from those held before and behind it."""
    at = int(np.clip(np.searchsorted(numbers, number), 1, max(1, len(numbers) - 1)))
    if len(numbers) < 2:
        return np.asarray(moves[0])
    before, behind = int(numbers[at - 1]), int(numbers[at])
    part = float(np.clip((number - before) / max(1, behind - before), 0, 1))
    return np.asarray((1 - part) * moves[at - 1] + part * moves[at])


def scaled(plane: Plane, cells: tuple[int, int]) -> Plane:
    """A map of the picture's pixels at the size of a component: the mean over its cells."""
    if cells == (1, 1):
        return plane
    size = (-(-plane.shape[1] // cells[0]), -(-plane.shape[0] // cells[1]))
    return np.asarray(cv2.resize(plane, size, interpolation=cv2.INTER_AREA))
