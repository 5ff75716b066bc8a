"""Hand retouching: brush strokes, kept as data, put on frame by frame.

A stroke takes what it puts down from an offset on its frame, or from another frame of the shot, laid on this one along
the motion or by hand; as it is, or blended in: then it brings its texture alone, and takes brightness and grain from
what lies about it (a membrane over the difference at its rim: Perez, Gangnet and Blake 2003, by normalised
convolution). Strokes of a frame are put on in order, each over what the ones before have left.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import Literal

import cv2
import numpy as np
from numpy.typing import NDArray
from pydantic import BaseModel, ConfigDict, Field

from ..imaging.aligned_fill import Coarse, Lender, Looks, aligned, cells_box, cells_of, codes, shift_about
from ..imaging.box import Box
from ..imaging.grain import Grain, flattest
from ..imaging.motion import Plane, spread
from ..media.frames import Frame, FrameCache, FrameSource, PictureFormat, Window
from ..media.mark_ways import MarkWay
from ..media.per_frame import FrameByFrame
from ..model.kinds import StepKind
from ..model.regions import Masked
from ..model.shapes import Stroke
from .stored_settings import keep, kept

# Pixels about a stroke that tell how it fits; at least, and as a share of the brush.
_ROOM, _SHARE = 12, 1.0
# Share of a sample that must be covered before it is rewritten.
_LEAST = 0.004
# Bytes of frames of the reel that are kept for strokes that take from them.
_KEPT = 64 << 20


class Touch(BaseModel):
    """A brush stroke in a frame.

    Attributes
    ----------
    points : tuple
        Its line, in pixels.
    mode : str
        ``copy`` puts the source down as it is, ``blend`` its texture alone, ``original`` the reel's own picture.
    lends : int or None
        The frame it takes from; None is its own.
    aligned : bool
        That frame is laid on this one along the motion.
    across, down : float
        How far from the brush it takes; with `aligned`, added to the motion.
    """

    model_config = ConfigDict(frozen=True, extra="forbid")

    frame: int = Field(ge=0)
    points: tuple[tuple[float, float], ...] = Field(min_length=1, max_length=4000)
    size: float = Field(gt=0, le=1000)
    hardness: float = Field(default=0.8, ge=0, le=1)
    strength: float = Field(default=1.0, ge=0.01, le=1)
    mode: Literal["copy", "blend", "original"] = "copy"
    lends: int | None = Field(default=None, ge=0)
    aligned: bool = True
    across: float = Field(default=0.0, ge=-20_000, le=20_000)
    down: float = Field(default=0.0, ge=-20_000, le=20_000)

    def moved(self, frame: int, across: float, down: float) -> Touch:
        """The same stroke in another frame, so far along."""
        points = tuple((round(x + across, 2), round(y + down, 2)) for x, y in self.points)
        lends = None if self.lends is None else max(0, self.lends + frame - self.frame)
        return self.model_copy(update={"frame": frame, "points": points, "lends": lends})

    def place(self, layout: PictureFormat) -> Box | None:
        """The place it lies on, with what tells how it fits; None when it is off the picture."""
        points = np.array(self.points)
        half = self.size / 2 + 2
        left, top = np.floor(points.min(0) - half)
        right, bottom = np.ceil(points.max(0) + half) + 1
        if right <= 0 or bottom <= 0 or left >= layout.width or top >= layout.height:
            return None
        room = max(_ROOM, _SHARE * self.size)
        return cells_box(int(left - room), int(top - room), int(right + room), int(bottom + room), layout)

    def mask(self, box: Box) -> Plane:
        """How far it covers each pixel of a place: 0 to 1, (height, width), float32."""
        paint = np.zeros((box.height, box.width), np.float32)
        move = np.array([[1, 0, -box.left], [0, 1, -box.top], [0, 0, 1]], np.float64)
        Stroke(points=self.points, size=self.size, hardness=self.hardness).paint(paint, move)
        return paint * np.float32(self.strength)


class RetouchSettings(BaseModel):
    """The strokes."""

    model_config = ConfigDict(frozen=True, extra="forbid")

    strokes: tuple[Touch, ...] = Field(default=(), max_length=200_000)
    book: int = Field(default=0, ge=0, description="where an application keeps them instead; 0 for nowhere else")


# Strokes are no part of what is learned.
CHOOSES = frozenset(RetouchSettings.model_fields)
Frames = Callable[[int], Frame | None]


@dataclass(frozen=True)
class RetouchPlan:
    """The strokes of a shot, by frame.

    Attributes
    ----------
    layout : PictureFormat
    by_frame : dict
        For frames with strokes, these in order.
    original : FrameSource or None
        The reel as it came, before any step.
    """

    layout: PictureFormat
    by_frame: Mapping[int, tuple[Touch, ...]] = field(default_factory=dict)
    original: FrameSource | None = None

    def save(self, path: Path) -> None:
        """Write what is learned, which is the format alone, to `path`, whole or not at all."""
        keep(path, self.layout)

    @classmethod
    def load(cls, path: Path) -> RetouchPlan:
        """Read a plan written by `save`; without strokes."""
        return cls(kept(path)[0])

    def with_original(self, original: FrameSource) -> RetouchPlan:
        """The plan with the reel's own pictures at hand."""
        return replace(self, original=original)

    def with_strokes(self, settings: RetouchSettings) -> RetouchPlan:
        """The plan with the strokes of the settings."""
        found: dict[int, list[Touch]] = {}
        for touch in settings.strokes:
            found.setdefault(touch.frame, []).append(touch)
        return replace(self, by_frame={n: tuple(found[n]) for n in sorted(found)})

    def touched(self) -> list[NDArray[np.int64]]:
        """Samples rewritten in every frame alike: none."""
        return [np.zeros(0, np.int64) for _ in self.layout.components]

    def touched_in(self) -> Mapping[int, list[NDArray[np.int64]]]:
        """For frames with strokes, the samples of each component that lie under them."""
        return {
            n: [np.unique(np.concatenate(p)) for p in zip(*map(self._under, touches), strict=True)] for n, touches in self.by_frame.items()
        }

    def _under(self, touch: Touch) -> list[NDArray[np.int64]]:
        box = touch.place(self.layout)
        if box is None:
            return self.touched()
        mask = touch.mask(box)
        places = []
        for i, component in enumerate(self.layout.components):
            cells = cells_of(box, self.layout, i)
            share = _sized(mask, cells)
            rows, cols = np.nonzero(share > _LEAST) if component.name != "A" else (np.zeros(0, np.int64),) * 2
            places.append((rows + cells.top).astype(np.int64) * component.width + cols + cells.left)
        return places

    def ways(self, number: int) -> list[MarkWay]:
        """None: a stroke says itself what it is."""
        return []

    def needs(self, window: Window) -> Window:
        """The part of the source's pictures that a part of the treated ones is made of: strokes take from anywhere."""
        return Window.of(self.layout)

    def apply(self, source: FrameSource, first: int, stop: int, window: Window | None = None) -> FrameSource:
        """`source` with the strokes put on in frames `first` to `stop` - 1; no other frames are taken from."""
        held, looks, shot = FrameCache(_KEPT), Looks(), range(first, stop)

        def other(number: int) -> Frame | None:
            frame = held.get(number)
            if frame is None:
                try:
                    frame = source.frame(number)
                except (KeyError, IndexError):
                    # A shot laid open in time holds some of its frames alone.
                    return None
                held.put(frame)
            return frame

        return FrameByFrame(source, lambda frame: self.mend(frame, other, shot, looks), first, stop)

    def mend(self, frame: Frame, others: Frames, shot: range, looks: Looks | None = None) -> Frame:
        """A frame with its strokes.

        Parameters
        ----------
        frame : Frame
        others : callable
            Gives another frame of the source by its number; None for one that is not there.
        shot : range
            Frames that may be taken from; a stroke that asks for another one is left out.
        looks : Looks
            Kept between calls.
        """
        touches = self.by_frame.get(frame.number, ())
        if not touches:
            return frame
        mended = frame.copy()
        looks = looks or Looks()
        for touch in touches:
            box = touch.place(self.layout)
            if box is None:
                continue
            mask = touch.mask(box)
            made = self.source_of(touch, mended, others, shot, box, mask, looks)
            if made is not None:
                self._put(mended, box, mask, made)
        return mended

    def source_of(
        self, touch: Touch, frame: Frame, others: Frames, shot: range, box: Box, mask: Plane | None, looks: Looks
    ) -> tuple[Plane, ...] | None:
        """What a stroke puts down on a place, for each component in 8-bit codes; None when there is nothing to take."""
        layout = self.layout
        if touch.mode == "original":
            if self.original is None:
                return None
            reel = self.original.frame(frame.number)
            return tuple(codes(cells_of(box, layout, i).samples(reel.component(i)), c) for i, c in enumerate(layout.components))
        if touch.lends is None or touch.lends == frame.number:
            made = _shifted(frame, box, touch.across, touch.down)
        else:
            if touch.lends not in shot:
                return None
            other = others(touch.lends)
            if other is None or other.missing:
                return None
            if touch.aligned:
                made = aligned(frame, Lender(other, nudge=(touch.across, touch.down)), box, mask, looks)
            else:
                made = _shifted(other, box, touch.across, touch.down)
        return self._blended(frame, box, mask, made) if touch.mode == "blend" and mask is not None else made

    def _blended(self, frame: Frame, box: Box, mask: Plane, made: tuple[Plane, ...]) -> tuple[Plane, ...]:
        """A source that keeps its texture and takes level and grain from what lies about the stroke."""
        out = []
        for i, (component, plane) in enumerate(zip(self.layout.components, made, strict=True)):
            cells = cells_of(box, self.layout, i)
            light = codes(cells.samples(frame.component(i)), component)
            share = _sized(mask, cells)
            covered = (share > _LEAST).astype(np.uint8)
            reach = max(3, round(min(light.shape) / 12))
            ring = (cv2.dilate(covered, np.ones((2 * reach + 1, 2 * reach + 1), np.uint8)) > 0) & (covered == 0)
            if not ring.any():
                out.append(plane)
                continue
            scales = (1.5 * reach, 4.0 * reach, 10.0 * reach)
            gap, _ = spread((light - plane)[..., None], ring.astype(np.float32), scales=scales, step=1)
            level = plane + gap.reshape(light.shape)
            out.append(_grained(level, light, plane, ring, covered > 0, (frame.number, box.left, box.top, i)))
        return tuple(out)

    def _put(self, frame: Frame, box: Box, mask: Plane, made: tuple[Plane, ...]) -> None:
        for i, component in enumerate(self.layout.components):
            if component.name == "A":
                continue
            cells = cells_of(box, self.layout, i)
            share = _sized(mask, cells)
            rows, cols = np.nonzero(share > _LEAST)
            target = frame.component(i)
            samples = target[rows + cells.top, cols + cells.left]
            weight = share[rows, cols].astype(np.float64)
            zero = 128 if component.is_chroma else 0
            new = (made[i][rows, cols].astype(np.float64) + zero) * component.code
            target[rows + cells.top, cols + cells.left] = component.samples(samples * (1 - weight) + new * weight, target.dtype)


def _sized(mask: Plane, cells: Box) -> Plane:
    shape = (cells.height, cells.width)
    return mask if mask.shape == shape else cv2.resize(mask, shape[::-1], interpolation=cv2.INTER_AREA)


def _shifted(frame: Frame, box: Box, across: float, down: float) -> tuple[Plane, ...]:
    """A place of a frame taken from so far away: exact for whole samples, bicubic between them; edge samples go on outside."""
    layout = frame.format
    made = []
    for i, component in enumerate(layout.components):
        cells, by = cells_of(box, layout, i), layout.subsampling(i)
        x, y = across / by[0], down / by[1]
        whole = (round(x), round(y))
        if abs(x - whole[0]) < 1e-6 and abs(y - whole[1]) < 1e-6:
            made.append(codes(cells.moved(*whole).samples(frame.component(i)), component))
            continue
        room = 3
        wide = Box(
            cells.left + int(np.floor(x)) - room,
            cells.top + int(np.floor(y)) - room,
            cells.width + 2 * room + 1,
            cells.height + 2 * room + 1,
        )
        plane = codes(wide.samples(frame.component(i)), component)
        move = np.array([[1, 0, x - np.floor(x) + room], [0, 1, y - np.floor(y) + room]], np.float32)
        way = cv2.INTER_CUBIC | cv2.WARP_INVERSE_MAP
        made.append(cv2.warpAffine(plane, move, (cells.width, cells.height), flags=way, borderMode=cv2.BORDER_REPLICATE))
    return tuple(made)


def _grained(
    level: Plane, light: Plane, source: Plane, ring: NDArray[np.bool_], covered: NDArray[np.bool_], seed: tuple[int, ...]
) -> Plane:
    """A source with the grain that it lacks beside what lies about it."""
    if min(light.shape) < 12:
        return level
    has, wants = (_noise(p, where) for p, where in ((source, covered), (light, ring)))
    lacking = np.sqrt(max(0.0, wants * wants - has * has))
    if lacking < 0.15:
        return level
    return level + Grain(np.array([0.0]), np.array([lacking]), 0.5).fresh(level, seed)


def _noise(plane: Plane, where: NDArray[np.bool_]) -> float:
    """Standard deviation of the noise on a part of a picture (Immerkaer 1996, by the median)."""
    kernel = np.array([[1, -2, 1], [-2, 4, -2], [1, -2, 1]], np.float32)
    rough = np.abs(cv2.filter2D(plane, -1, kernel))[where]
    return float(np.median(rough) / 0.6745 / 6) if rough.size >= 20 else flattest(plane, 5)


def repeated(touch: Touch, frames: Iterable[Frame], first: Frame) -> list[Touch]:
    """The same stroke in the frames that follow, along the motion of what lies under it.

    Parameters
    ----------
    touch : Touch
        In frame `first`.
    frames : iterable of Frame
        That follow, one after the other.
    first : Frame
    """
    box = touch.place(first.format)
    if box is None:
        return []
    found = []
    last, now = Coarse.of(first), touch
    for frame in frames:
        coarse = Coarse.of(frame)
        place = now.place(first.format)
        if place is None:
            break
        across, down = shift_about(last, coarse, place)
        now = now.moved(frame.number, across, down)
        found.append(now)
        last = coarse
    return found


def analyse(
    source: FrameSource,
    settings: RetouchSettings,
    on_progress: Callable[[float], None] | None = None,
    hold_out: Masked | None = None,
) -> RetouchPlan:
    """Keep the format: strokes are put on as they are."""
    return RetouchPlan(source.format)


STEPS = (
    StepKind(
        kind="retouch",
        title="Retouch",
        summary="Brush strokes by hand, frame by frame: from an offset, or from another frame aligned along the motion.",
        version=1,
        settings=RetouchSettings,
        analyse=analyse,
        load=RetouchPlan.load,
        learns_from="nothing",
        select=lambda plan, settings, _tracks: plan.with_strokes(settings),
        selection_settings=CHOOSES,
        selection_is_negligible=True,
        stays=True,
        hidden_settings=frozenset({"book"}),
    ),
)
