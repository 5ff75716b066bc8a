"""Takes static shade off: gives back the light a mark dims, borrows from other frames what it hides.

Each mark is measured over the whole shot (`survey.shade_fit`); what it only dims is undone (`shade`), what it hides
is filled from other frames or from its surroundings (`borrow`). Between the two lies a blend by trust: the less
light a pixel passes, the less of it is believed.
"""

from __future__ import annotations

import json
from collections.abc import Callable, Iterable, Iterator
from dataclasses import asdict, dataclass, field, replace
from functools import cached_property, lru_cache, partial
from pathlib import Path
from typing import Any, Literal

import cv2
import numpy as np
from numpy.typing import NDArray
from pydantic import BaseModel, ConfigDict, Field

from ..base.files import written_aside
from ..base.parallel import mapped
from ..defects.static_shade.veils import Veil, undone
from ..evidence.time_volume import TimeVolume
from ..evidence.travel import Travel
from ..imaging.borrowing import Hole, Lent, nearest
from ..imaging.box import Box
from ..imaging.grain import Grain, calmed, measure
from ..imaging.light import light_of, samples_of
from ..imaging.motion import Plane, blur
from ..media.frames import Colour, Frame, FrameSource, PictureFormat, Samples, Window
from ..media.mark_ways import InEveryFrame, MarkWay
from ..media.per_frame import FrameByFrame
from ..regions import Masked
from ..survey.findings import Finding
from ..survey.light import Light, way_of
from ..survey.shade_fit import LossFit, Sights, blurred, detail_through, fit_loss, fit_veil, sights
from ..survey.shared_marks import ShadeMap

Way = Literal["auto", "undo", "borrow", "surround"]
Kind = Literal["dust", "hair", "veil", "any"]

_PAIRS = 60
# Pixels of a box up to which all of them are looked at.
_AREA = 30_000
_ROOM = 6
# Wider marks, in pixels, are seldom opaque: no more room is kept to borrow from.
_WIDE = 80
# Of the light, below which nothing and above which all of an undone sample is believed.
_LOST, _KEPT = 0.1, 0.22
# Share of the disagreement with the scene above which an undone mark is little to be trusted.
_DOUBTFUL = 0.6
# A share of light below this is left alone: it changes no sample by more than rounding does.
_LEAST = 0.006
# Light, in codes above black, below which what a mark leaves is not given back.
_NIGHT = 3.0
# Largest light a picture can have, in codes, with room to spare.
_TOP = 400.0
# Pictures made ready to be borrowed from that are kept at hand.
_AT_HAND = 24


class Mark(BaseModel):
    """One static mark, by the line around it."""

    model_config = ConfigDict(frozen=True, extra="forbid")

    outline: tuple[tuple[int, int], ...] = Field(min_length=3, max_length=2000, description="corners, in pixels")
    kind: Kind = "dust"
    way: Way = "auto"
    known: ShadeMap | None = Field(default=None, description="as another shot measured it, where this one cannot")

    def box(self) -> tuple[int, int, int, int]:
        """Left, top, right, bottom, the last two not included."""
        xs, ys = zip(*self.outline, strict=True)
        return min(xs), min(ys), max(xs) + 1, max(ys) + 1


class UnshadeSettings(BaseModel):
    """Which marks are taken off and how; none named means those that the survey of the shot finds."""

    model_config = ConfigDict(frozen=True, extra="forbid")

    marks: tuple[Mark, ...] | None = None
    sure: float = Field(default=0.5, ge=0.3, le=1, description="least confidence of a found mark")
    way: Way = Field(default="auto", description="for marks that do not name their own")
    reach: int = Field(default=0, ge=0, le=60, description="frames each side that may be borrowed from; 0 for as few as will do")
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
            self._made[name, cells] = _scaled(getattr(self, name), cells)
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
        told = json.dumps({"format": self.layout.as_json(), "colour": asdict(self.colour)})
        arrays: dict[str, Any] = {"numbers": self.numbers, "moves": self.moves, "told": np.array(told)}
        for n, mark in enumerate(self.marks):
            arrays |= {f"{n}.share": mark.share, f"{n}.hidden": mark.hidden}
            veil = (mark.veil.gain, mark.veil.blur, mark.veil.level, *mark.veil.tint)
            arrays[f"{n}.numbers"] = np.array([mark.left, mark.top, mark.needed, mark.borrows, mark.left_over, mark.dark, *veil])
            arrays |= {f"{n}.lent.{i}": planes for i, planes in enumerate(mark.lent)}
        for i, grain in enumerate(self.grain):
            arrays[f"grain.{i}"] = np.vstack([grain.levels, grain.sigma, np.full(len(grain.levels), grain.width)])
        with written_aside(path) as stream:
            np.savez(stream, count=len(self.marks), reach=self.reach, match=self.match_grain, **arrays)

    @classmethod
    def load(cls, path: Path) -> ShadePlan:
        """Read a plan written by `save`."""
        marks = []
        with np.load(path) as stored:
            told = json.loads(str(stored["told"]))
            layout, colour = PictureFormat.from_json(told["format"]), Colour(**told["colour"])
            for n in range(int(stored["count"])):
                left, top, needed, borrows, left_over, dark, gain, spread, level, *tint = stored[f"{n}.numbers"].tolist()
                lent = tuple(stored[f"{n}.lent.{i}"] for i in range(len(layout.components)) if f"{n}.lent.{i}" in stored)
                veil = Veil(gain, spread, level, tuple(tint))
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
        given = {i: self._given_back(mark, light[i], i) for i in colours}
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
                raised = 1 / np.maximum(1 - share, 0.1)
                still = share < _LEAST
                picture = np.where(still, picture, calmed(picture, raised, self.grain[i].at(picture)))
            if fill is not None:
                hidden = mark.at_cells("hidden", cells)
                made = fill.planes[place]
                if self.match_grain:
                    same = _scaled(fill.same, cells)
                    made = made + np.sqrt(np.maximum(1 - same * same, 0)) * self.grain[i].fresh(made, (frame.number, number, i))
                picture = picture + hidden * (made - picture)
            touch = (share > 0) if fill is None else (share > 0) | (mark.at_cells("hidden", cells) > 0)
            samples = samples_of(picture, component, self.colour, views[i].dtype)
            views[i][touch] = samples[touch]

    def _given_back(self, mark: MarkPlan, light: Plane, index: int) -> Plane:
        """Light of a component with what the mark dims, or lays over it, undone."""
        cells = self.layout.subsampling(index)
        return undone(light, mark.at_cells("share", cells), mark.veil.of(index, self.layout.components[index]), cells[0], _TOP)

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
        planes = tuple(self._given_back(mark, light_of(mark.lent[i][k], self.layout.components[i], self.colour), i) for i in self._colours)
        return self._hole(number).lent(planes[self._lightest], planes)

    def ways(self, number: int) -> list[MarkWay]:
        """How each mark is mended in a frame."""
        told = []
        for mark in self.marks:
            window, way, low, frames = mark.window, mark.way, "", tuple(int(self.numbers[k]) for k, _ in self._lenders(mark, number))
            if mark.dark:
                low = "the picture is nearly black here: giving the light back would bring up noise, so it is filled"
            if way == "borrow" and not frames:
                way = "surround"
                low = "no frame within reach shows what is behind it"
            elif way == "surround":
                low = "nothing shows what is behind it"
            elif way == "undo" and mark.left_over > _DOUBTFUL:
                low = f"undoing explains only {100 * (1 - mark.left_over):.0f} % of what it does"
            elif way == "undo" and float(mark.share.max()) > 1 - _KEPT and not mark.hidden.any():
                low = f"only {100 * (1 - float(mark.share.max())):.0f} % of the light is left at its darkest"
            rows, cols = (np.flatnonzero((np.maximum(mark.share, mark.hidden) > 0.02).any(k)) for k in (1, 0))
            if len(rows):
                window = Window(
                    mark.left + int(cols[0]), mark.top + int(rows[0]), mark.left + int(cols[-1]) + 1, mark.top + int(rows[-1]) + 1
                )
            told.append(MarkWay(window, way, frames if way == "borrow" else (), low))
        return told


def _between(numbers: NDArray[np.int64], moves: NDArray[np.float64], number: int) -> NDArray[np.float64]:
    """The camera's place in a frame, from those held before and behind it."""
    at = int(np.clip(np.searchsorted(numbers, number), 1, max(1, len(numbers) - 1)))
    if len(numbers) < 2:
        return moves[0]
    before, behind = int(numbers[at - 1]), int(numbers[at])
    part = float(np.clip((number - before) / max(1, behind - before), 0, 1))
    return (1 - part) * moves[at - 1] + part * moves[at]


def _scaled(plane: Plane, cells: tuple[int, int]) -> Plane:
    """A map of the picture's pixels at the size of a component: the mean over its cells."""
    if cells == (1, 1):
        return plane
    size = (-(-plane.shape[1] // cells[0]), -(-plane.shape[0] // cells[1]))
    return cv2.resize(plane, size, interpolation=cv2.INTER_AREA)


def settle(settings: UnshadeSettings, findings: Iterable[Finding]) -> UnshadeSettings:
    """Name the marks: those of `settings`, or the findings that are sure enough."""
    if settings.marks is not None:
        return settings
    sure = [f for f in findings if f.step == "unshade" and (f.by_hand or f.confidence >= settings.sure)]
    marks = []
    for f in sorted(sure, key=lambda f: (f.y, f.x)):
        outline = tuple((int(x), int(y)) for x, y in f.numbers["outline"])
        known = f.numbers.get("map") if "shared" in f.numbers else None
        marks.append(Mark(outline=outline, kind=f.numbers["shade"], way=f.numbers.get("mended_by", "auto"), known=known))
    return settings.model_copy(update={"marks": tuple(marks)})


def analyse(
    volume: TimeVolume,
    settings: UnshadeSettings,
    on_progress: Callable[[float], None] | None = None,
    hold_out: Masked | None = None,
) -> ShadePlan:
    """Measure the marks of a shot over all its frames.

    Parameters
    ----------
    volume : TimeVolume
    settings : UnshadeSettings
        With its marks named (see `settle`); those off the picture are left out.
    on_progress : callable
        Told the share done, 0 to 1; may raise to stop.
    hold_out : Region
        What is not to be looked at.

    Returns
    -------
    ShadePlan
    """
    told = on_progress or (lambda share: None)
    light = Light(volume, hold_out)
    layout, colour = volume.format, volume.colour
    grain = tuple(_grain(volume, i) for i in range(len(layout.components)))
    named = [m for m in settings.marks or () if _on(m, layout)]
    if not named:
        return ShadePlan(
            layout, colour, (), grain, volume.numbers, np.repeat(np.eye(3)[None], len(light), 0), settings.reach, settings.grain
        )
    noise = light.noise
    way = way_of(light, noise)
    told(0.1)
    marked = np.zeros(light.shape, np.float32)
    for mark in named:
        cv2.fillPoly(marked, [np.array(mark.outline, np.int32)], 1.0)
    marked = cv2.dilate(marked, cv2.getStructuringElement(cv2.MORPH_ELLIPSE, (2 * _ROOM + 1, 2 * _ROOM + 1)))
    plans: list[MarkPlan] = []
    rests: list[float] = []

    def planned(mark: Mark) -> tuple[MarkPlan | None, float]:
        way_chosen = mark.way if mark.way != "auto" else settings.way
        return _plan(volume, light, way, noise, marked, mark, way_chosen)

    for done, (plan, rest) in enumerate(mapped(planned, named)):
        told(0.1 + 0.9 * (done + 1) / len(named))
        rests.append(rest)
        if plan is not None:
            plans.append(plan)
    grain = tuple(g.at_most(1.1 * min(rests) * (0.7 if layout.components[i].is_chroma else 1.0)) for i, g in enumerate(grain))
    return ShadePlan(layout, colour, tuple(plans), grain, volume.numbers, way.moves, settings.reach, settings.grain)


def _grain(volume: TimeVolume, index: int) -> Grain:
    component = volume.format.components[index]
    stack = volume.component_stack(index)
    return measure([light_of(stack[n], component, volume.colour) for n in range(0, len(stack), max(1, len(stack) // 5))])


def _on(mark: Mark, layout: PictureFormat) -> bool:
    left, top, right, bottom = mark.box()
    return right > 0 and bottom > 0 and left < layout.width and top < layout.height


def _plan(
    volume: TimeVolume, light: Light, way: Travel, noise: float, marked: Plane, mark: Mark, wanted: Way
) -> tuple[MarkPlan | None, float]:
    left, top, right, bottom = mark.box()
    own = np.zeros(light.shape, np.float32)
    cv2.fillPoly(own, [np.array(mark.outline, np.int32)], 1.0)
    narrow = 2 * float(cv2.distanceTransform(own.astype(np.uint8), cv2.DIST_L2, 3).max()) + 2
    room = int(max(32, min(max(right - left, bottom - top) // 2, 48), 1.6 * narrow if mark.kind != "veil" and narrow <= _WIDE else 0)) + 16
    box = _inside(left - room, top - room, right + room, bottom + room, volume.format)
    inner = box.cut(cv2.dilate(own, cv2.getStructuringElement(cv2.MORPH_ELLIPSE, (2 * _ROOM + 1, 2 * _ROOM + 1))))
    share, veil, hidden, left_over, dark = np.zeros(box.shape, np.float32), Veil(), box.cut(own), 0.0, False
    # Large marks are soft: what fewer pairs leave of noise is smoothed away.
    most = max(_PAIRS // 3, round(_PAIRS * min(1.0, _AREA / (box.width * box.height)))) if wanted in ("auto", "undo") else _PAIRS // 6
    seen = sights(light, way, box, marked, noise, most, narrow + 2 * _ROOM)
    rest = seen.rest if seen is not None else np.inf
    if wanted in ("auto", "undo"):
        measured = _measured(seen, inner, light, box, mark.kind) if seen is not None else None
        if measured is None and mark.known is not None:
            share, veil = box.cut(mark.known.on(light.shape)), mark.known.veil
            share = np.where(share > _LEAST, share, 0).astype(np.float32)
            hidden = np.clip((_KEPT - 1 + share) / (_KEPT - _LOST), 0, 1).astype(np.float32)
        elif measured is not None and seen is not None:
            share, veil = measured
            if veil.level:
                veil = replace(veil, tint=_tint(volume, seen, box, share, veil))
            # Noise would be left by the best of repairs: the mean distance of two frames of it.
            noisy = 2 / np.sqrt(np.pi) * min(rest, 1e3)
            left_over = max(0.0, _error(seen, share, veil) - noisy) / max(_error_as_is(seen, share) - noisy, 0.5)
            hidden = np.clip((_KEPT - 1 + share) / (_KEPT - _LOST), 0, 1).astype(np.float32)
            # Soft to the outside only: what is hidden stays hidden, however thin it is.
            hidden = np.maximum(hidden, blurred(hidden, 0.7))
            # So little is left of so little light that giving it back would bring up steps and noise.
            behind = float(np.median(seen.scene[:, share > 0.5 * share.max()]))
            dark = wanted == "auto" and veil == Veil() and behind * max(_KEPT, 1 - float(share.max())) < _NIGHT
            if dark:
                hidden = np.clip(share / (4 * _LEAST), 0, 1).astype(np.float32)
        elif wanted == "undo" or mark.kind == "veil":
            # What cannot be measured is left alone rather than guessed at.
            return None, rest
    else:
        hidden = np.maximum(hidden, blurred(hidden, 1.0))
    if wanted == "undo":
        hidden = np.zeros_like(share)
    if not (share.any() or hidden.any()):
        return None, rest
    middle = (box.left + box.width / 2, box.top + box.height / 2)
    moved = float(way.from_frame(0, middle).max())
    borrows = bool(hidden.any()) and wanted != "surround" and moved >= narrow
    lent = tuple(_lent_planes(volume, box)) if borrows else ()
    if not hidden.any():
        box, share = _trimmed_to(box, share, 8 + round(3 * veil.blur), volume.format)
        hidden = np.zeros_like(share)
    return MarkPlan(box.left, box.top, share, hidden.astype(np.float32), veil, narrow, borrows, lent, left_over, dark), rest


def _inside(left: int, top: int, right: int, bottom: int, layout: PictureFormat) -> Box:
    """A box on the picture whose edges lie on whole chroma cells."""
    across = max(layout.subsampling(i)[0] for i in range(len(layout.components)))
    down = max(layout.subsampling(i)[1] for i in range(len(layout.components)))
    left, top = max(0, left) // across * across, max(0, top) // down * down
    right, bottom = min(layout.width, -(-right // across) * across), min(layout.height, -(-bottom // down) * down)
    return Box(left, top, right - left, bottom - top)


def _trimmed_to(box: Box, share: Plane, room: int, layout: PictureFormat) -> tuple[Box, Plane]:
    """The part of the box that the mark and what its undoing looks at take up."""
    rows, cols = np.flatnonzero(share.any(1)), np.flatnonzero(share.any(0))
    left, top = box.left + int(cols[0]), box.top + int(rows[0])
    small = _inside(left - room, top - room, box.left + int(cols[-1]) + 1 + room, box.top + int(rows[-1]) + 1 + room, layout)
    part = share[small.top - box.top : small.top - box.top + small.height, small.left - box.left : small.left - box.left + small.width]
    if part.shape != (small.height, small.width):
        return box, share
    return small, np.ascontiguousarray(part)


def _lent_planes(volume: TimeVolume, box: Box) -> Iterator[Samples]:
    for i, component in enumerate(volume.format.components):
        across, down = volume.format.subsampling(i)
        rows = slice(box.top // down, min(component.height, -(-(box.top + box.height) // down)))
        cols = slice(box.left // across, min(component.width, -(-(box.left + box.width) // across)))
        yield np.ascontiguousarray(volume.component_stack(i)[:, rows, cols])


def _measured(seen: Sights, inner: Plane, light: Light, box: Box, kind: Kind) -> tuple[Plane, Veil] | None:
    """The share of light a mark takes and what it lays over it; of a mark of any kind, what explains it best."""
    made = [_dust(seen, inner)] if kind != "veil" else []
    if kind in ("veil", "any"):
        made.append(_veil(seen, inner, light, box))
    fits = [m for m in made if m is not None]
    return min(fits, key=lambda m: _error(seen, *m)) if fits else None


def _dust(seen: Sights, inner: Plane) -> tuple[Plane, Veil] | None:
    fit = fit_loss(seen, inner)
    share = _trimmed(1 - np.exp(np.minimum(fit.loss, 0)), _doubt(fit), inner)
    if not share.any() or not _helps(seen, share, Veil()):
        return None
    return share, Veil()


def _doubt(fit: LossFit) -> Plane:
    """Standard deviation of the smoothed loss, from how far its halves differ."""
    first, second = (blurred(h, fit.smooth) for h in fit.halves)
    return np.sqrt(blur((first - second) ** 2 / 4, 3.0)) + np.float32(1e-4)


def _trimmed(share: Plane, doubt: Plane, inner: Plane, least: float = _LEAST) -> Plane:
    """The share of light lost where it is surely a loss: above what its doubt may feign, and part of the mark."""
    sure = (share > np.maximum(least, 2 * doubt)) & (inner > 0)
    count, labels = cv2.connectedComponents(sure.astype(np.uint8), connectivity=8)
    weights = np.bincount(labels.ravel(), share.ravel(), count)
    weights[0] = 0
    kept = np.isin(labels, np.flatnonzero(weights > 0.15 * weights.max())) & sure
    return np.where(kept, share, 0).clip(0, 1).astype(np.float32)


def _veil(seen: Sights, inner: Plane, light: Light, box: Box) -> tuple[Plane, Veil] | None:
    fit = fit_veil(seen, inner)
    if fit is None or not 0 < fit.level < 300:
        return None
    first, second = (blurred(h, max(fit.smooth, 1.5)) for h in fit.halves)
    doubt = np.sqrt(blur((first - second) ** 2 / 4, 4.0)) + np.float32(1e-4)
    share = _trimmed(fit.share, doubt, inner, 3 * _LEAST)
    if not share.any():
        return None
    plain = Veil(0.0, 0.0, fit.level)
    best, left = (share, plain), _error(seen, share, plain)
    around = (cv2.dilate(inner, np.ones((31, 31), np.uint8)) > 0.5) & (inner < 0.5)
    gain, spread = detail_through(seen, fit, around.astype(np.float32) * box.on(light.shape))
    tried = {(gain, spread)} | {(g, b) for g in (0.2, 0.4, 0.6) for b in (2.5, 6.0)}
    for g, b in tried:
        a = share / (1 - g)
        if b and g and float(a.max()) < 0.85:
            veil = Veil(g, b, fit.level * (1 - g))
            error = _error(seen, a, veil)
            if error < 0.97 * left:
                best, left = (a, veil), error
    return best if _helps(seen, *best) else None


def _tint(volume: TimeVolume, seen: Sights, box: Box, share: Plane, veil: Veil) -> tuple[float, ...]:
    """The light a veil lays over each component: what a robust fit of its own samples on the scene's leaves over."""
    levels = []
    for index, component in enumerate(volume.format.components):
        if component.name in ("Y", "A"):
            levels.append(veil.level)
            continue
        cells = volume.format.subsampling(index)
        stack = volume.component_stack(index)
        rows, cols = (
            slice(at // c, -(-(at + size) // c)) for at, size, c in ((box.top, box.height, cells[1]), (box.left, box.width, cells[0]))
        )
        a = _scaled(share, cells)
        core = a > 0.3 * a.max()
        misses, weights, drawn = [], [], []
        for n in range(0, len(seen), max(1, len(seen) // 24)):
            one, other = (light_of(stack[k], component, volume.colour) for k in seen.frames[n])
            corner = np.array([box.left + 0.5, box.top + 0.5])
            at = (cv2.resize(seen.at[n], a.shape[::-1], interpolation=cv2.INTER_AREA) + corner) / cells - 0.5
            scene = cv2.remap(other, at.astype(np.float32), None, cv2.INTER_LINEAR, borderMode=cv2.BORDER_REPLICATE)
            covered = cv2.remap(share, seen.at[n], None, cv2.INTER_LINEAR, borderMode=cv2.BORDER_CONSTANT)
            misses.append((one[rows, cols] - scene * (1 - a * (1 - veil.gain)))[core])
            weights.append(_scaled(seen.weight[n] * (covered < 0.02), cells)[core])
            drawn.append(a[core])
        miss, weight, lever = (np.concatenate(v) for v in (misses, weights, drawn))
        level = 0.0
        for _ in range(8):
            left = np.abs(miss - lever * level)
            scale = 1.4826 * float(np.median(left)) + 0.2
            kept = weight / (1 + (left / (2 * scale)) ** 2) ** 2
            level = float((kept * lever * miss).sum() / max(float((kept * lever * lever).sum()), 1e-9))
        levels.append(level)
    return tuple(levels)


def _error(seen: Sights, share: Plane, veil: Veil) -> float:
    """How far the undone light of the mark is from the scene's, over pairs in which the scene came clear of it."""
    core = share > 0.2 * share.max()
    total, mass = 0.0, 1e-9
    for n in range(0, len(seen), max(1, len(seen) // 24)):
        covered = cv2.remap(share, seen.at[n], None, cv2.INTER_LINEAR, borderMode=cv2.BORDER_CONSTANT)
        weight = seen.weight[n] * (covered < 0.02) * core
        miss = np.minimum(np.abs(undone(seen.own[n], share, veil, top=400.0) - seen.scene[n]), 60)
        total += float((weight * miss).sum())
        mass += float(weight.sum())
    return total / mass


def _helps(seen: Sights, share: Plane, veil: Veil) -> bool:
    """Whether undoing brings the mark nearer to the scene than leaving it alone."""
    return _error(seen, share, veil) < 0.9 * _error_as_is(seen, share)


def _error_as_is(seen: Sights, share: Plane) -> float:
    core = share > 0.2 * share.max()
    weight = seen.weight * (seen.there(share) < 0.02) * core
    return float((weight * np.minimum(np.abs(seen.own - seen.scene), 60)).sum() / max(float(weight.sum()), 1e-9))
