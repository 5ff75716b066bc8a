"""Puts a plate on a flat part of the scene: over a reflection, a tripod, a stain, along the track that the region rides on."""

from __future__ import annotations

import base64
import json
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import Any, Literal

import cv2
import numpy as np
from numpy.typing import NDArray
from pydantic import BaseModel, ConfigDict, Field, model_validator

from ..base.errors import SweepError
from ..base.files import written_aside
from ..evidence.frames_at_hand import Span, frames_of
from ..imaging.box import Box
from ..imaging.grain import Grain
from ..imaging.levels import grain_of
from ..imaging.motion import Plane
from ..media.frames import Alone, Colour, Component, Frame, FrameSource, PictureFormat, Window
from ..media.mark_ways import MarkWay
from ..media.per_frame import FrameByFrame
from ..planar import Matrix, moved
from ..plates import (
    Areas,
    Blur,
    Canvas,
    Light,
    Picture,
    Take,
    common,
    disturbance,
    in_front,
    measured,
    put_rgb,
    rgb_of,
    smooth_lights,
    softness,
)
from ..regions import Masked, Outside, Part, Region
from ..tracks import Riding, track_named
from .retouch import RetouchPlan, Touch

# Frames a plate is made of, at most, and the bytes they may take.
_MOST, _BYTES = 40, 400 << 20
# Frames whose disturbance is told.
_LOOKED = 24
# Pixels of the ring that the light is measured in, at least, at most, and as a share of the region.
_NARROW, _WIDE, _SHARE = 8, 60, 0.08
# Pixels beyond the picture that a region may reach on its plane.
_BEYOND = 400
# Pixels about the region that are put on a frame, where its soft edge asks for them, and that are kept of a plate for the brush.
_RIM, _KEPT = 8, 64
# Share of the region below which a plate that does not know it is told of.
_UNKNOWN = 0.002


class PlateOf(BaseModel):
    """Where a plate comes from, and which frames it serves.

    Attributes
    ----------
    kind : str
        ``frame``: a frame of the shot; ``middle``, ``darker``, ``lighter``: what many frames laid on the plane have in
        common; ``picture``: a picture from outside, laid on the plane as it lies in the reference frame.
    frame : int or None
        For ``frame``; the one that is least disturbed when not named.
    first, stop : int or None
        The frames it is made of; all of the shot when not named.
    picture : str
        PNG, in base 64.
    serves_from, serves_to : int or None
        The frames it is put on; all when not named.
    """

    model_config = ConfigDict(frozen=True, extra="forbid")

    kind: Literal["frame", "middle", "darker", "lighter", "picture"] = "middle"
    frame: int | None = Field(default=None, ge=0)
    first: int | None = Field(default=None, ge=0)
    stop: int | None = Field(default=None, ge=1)
    picture: str = Field(default="", max_length=80_000_000)
    serves_from: int | None = Field(default=None, ge=0)
    serves_to: int | None = Field(default=None, ge=0)

    @model_validator(mode="after")
    def _whole(self) -> PlateOf:
        if self.kind == "picture" and not self.picture:
            raise ValueError("a plate from a picture needs the picture")
        return self

    def serves(self, frame: int) -> bool:
        """Whether it is put on a frame."""
        return (self.serves_from is None or frame >= self.serves_from) and (self.serves_to is None or frame <= self.serves_to)


class SampleArea(BaseModel):
    """A rectangle that the light is measured in, in the pixels of the reference frame."""

    model_config = ConfigDict(frozen=True, extra="forbid")

    x: float
    y: float
    width: float = Field(gt=1)
    height: float = Field(gt=1)


class PlateTouch(BaseModel):
    """A brush stroke on a plate, in the pixels of the reference frame; what it lends is a frame laid on the plane, in the plate's light."""

    model_config = ConfigDict(frozen=True, extra="forbid")

    plate: int = Field(default=0, ge=0)
    touch: Touch


Front = Literal["nothing", "darker", "lighter"]


class PlatePatchSettings(BaseModel):
    """The plates, and how they are fitted in."""

    model_config = ConfigDict(frozen=True, extra="forbid")

    plates: tuple[PlateOf, ...] = Field(default=(PlateOf(),), min_length=1, max_length=20, description="where the plates come from")
    also: bool = Field(default=True, description="take what a plate lacks from other frames laid on the plane")
    light: Literal["auto", "gain", "offset", "both", "off"] = Field(
        default="auto", description="how the light beside it is given to the plate; auto: as gain, of log scans as offset"
    )
    areas: tuple[SampleArea, ...] = Field(default=(), max_length=24, description="where the light is measured; a ring when none are named")
    robust: bool = Field(default=True, description="samples that stray do not count")
    smooth: float = Field(default=0.0, ge=0, le=50, description="the light made even over so many frames")
    sharpness: bool = Field(default=True, description="blur the plate as the frame is")
    grain: bool = Field(default=True, description="give it fresh grain")
    front: Front = Field(default="nothing", description="what stays in front of the patch, by how it differs from it")
    touches: tuple[PlateTouch, ...] = Field(default=(), max_length=4000, description="brush strokes on the plates")


# Strokes are put on plates that are made, and what is in front is told from each frame: no part of what is learned.
CHOOSES = frozenset({"touches", "front"})
# The number of a plate among frames: none of a reel.
_PLATE = 10**9


@dataclass(frozen=True)
class Fit:
    """How a plate is fitted into a frame: which, where, in what light, how soft."""

    plate: int
    way: Matrix
    light: Light
    blur: Blur


@dataclass(frozen=True)
class PlatePlan:
    """Plates of a plane, and how they are fitted into each frame.

    Attributes
    ----------
    layout : PictureFormat
    canvas : Canvas
    plates : tuple of ndarray, float32, (height, width, 3)
        In codes, on the canvas.
    known : tuple of ndarray, float32, (height, width)
        1 where a plate shows the plane.
    areas : Areas
    fits : dict
        By frame.
    grain : tuple of Grain or None
        Of each component.
    told : dict
        What else there is to tell; plain values.
    touches : tuple of PlateTouch
        Brush strokes on the plates.
    front : str
        What stays in front: ``darker`` or ``lighter`` than the patch, or ``nothing``.
    """

    layout: PictureFormat
    canvas: Canvas
    plates: tuple[Picture, ...]
    known: tuple[Plane, ...]
    areas: Areas
    fits: Mapping[int, Fit]
    grain: tuple[Grain, ...] | None = None
    told: dict[str, Any] = field(default_factory=dict)
    touches: tuple[PlateTouch, ...] = ()
    front: Front = "nothing"
    _made: dict[tuple[int, int], PlatePlan] = field(init=False, default_factory=dict, compare=False, repr=False)

    def with_touches(self, settings: PlatePatchSettings) -> PlatePlan:
        """The plan with the brush strokes of the settings, what they paint known from then on, and with what stays in front."""
        known = [k.copy() for k in self.known]
        for n in range(len(known)):
            for touch in self._on_canvas(settings.touches, n):
                box = touch.place(_plane_format(self.canvas))
                if box is not None:
                    part = known[n][box.top : box.top + box.height, box.left : box.left + box.width]
                    part[touch.mask(box) > 0.5] = 1
        return replace(self, touches=settings.touches, known=tuple(known), front=settings.front)

    def _on_canvas(self, touches: Sequence[PlateTouch], n: int) -> list[Touch]:
        """The strokes of a plate in samples of the canvas; what they lend stays the frame it is."""
        own = [t.touch for t in touches if t.plate == n]
        moved_ = [t.moved(_PLATE, -self.canvas.left, -self.canvas.top) for t in own]
        return [m.model_copy(update={"lends": t.lends, "aligned": False}) for m, t in zip(moved_, own, strict=True)]

    def painted(self, source: FrameSource, first: int, stop: int) -> PlatePlan:
        """The plan with its strokes on its plates; those that lend take from frames `first` to `stop` - 1 of `source`."""
        if not self.touches:
            return self
        if (first, stop) in self._made:
            return self._made[first, stop]
        plates, lacking = list(self.plates), set[int]()
        for n in {t.plate for t in self.touches if t.plate < len(plates)}:
            plates[n] = self._painted(n, source, range(first, stop), lacking)
        made = replace(self, plates=tuple(plates), touches=())
        if not lacking:
            # One picture after another is asked for: strokes, and the frames they take from, are worked out once.
            self._made[first, stop] = made
        return made

    def narrowed(self) -> PlatePlan:
        """The plan without the parts of its plates that are never put on."""
        there = np.max(self.known, 0) > 0 if self.known else np.zeros((0, 0), bool)
        rows, cols = np.flatnonzero(there.any(1)), np.flatnonzero(there.any(0))
        if not len(rows):
            return self
        left, top = int(cols[0]), int(rows[0])
        width, height = int(cols[-1]) + 1 - left, int(rows[-1]) + 1 - top
        part = np.s_[top : top + height, left : left + width]
        return replace(
            self,
            canvas=Canvas(self.canvas.left + left, self.canvas.top + top, width, height),
            plates=tuple(np.ascontiguousarray(p[part]) for p in self.plates),
            known=tuple(np.ascontiguousarray(k[part]) for k in self.known),
            areas=self.areas.cut(left, top, width, height),
        )

    def _painted(self, n: int, source: FrameSource, shot: range, lacking: set[int]) -> Picture:
        """A plate with its strokes; frames that `source` does not hold are noted in `lacking`."""
        layout = _plane_format(self.canvas)
        plate = _as_frame(self.plates[n], layout)

        def lent(number: int) -> Frame | None:
            fit = self.fits.get(number)
            if fit is None:
                return None
            try:
                picture, _ = self.canvas.taken(source.frame(number), fit.way)
            except (KeyError, IndexError):
                # A shot laid open in time holds some of its frames alone.
                lacking.add(number)
                return None
            return _as_frame(fit.light.undone().on(self.areas, picture), layout)

        strokes = RetouchPlan(layout, {_PLATE: tuple(self._on_canvas(self.touches, n))}, Alone(plate))
        return np.stack(strokes.mend(plate, lent, shot).planes, -1) * np.float32(255)

    def save(self, path: Path) -> None:
        """Write the plan to `path`, whole or not at all."""
        numbers = sorted(self.fits)
        fits = [self.fits[n] for n in numbers]
        arrays: dict[str, Any] = {
            "numbers": np.array(numbers, np.int64),
            "which": np.array([f.plate for f in fits], np.int64),
            "ways": np.array([f.way for f in fits], np.float64).reshape(-1, 3, 3),
            "gains": np.array([f.light.gains for f in fits], np.float64).reshape(len(fits), len(self.areas), 3),
            "offsets": np.array([f.light.offsets for f in fits], np.float64).reshape(len(fits), len(self.areas), 3),
            "blurs": np.array([(f.blur.sigma, f.blur.across, f.blur.down) for f in fits], np.float64).reshape(-1, 3),
            "centres": self.areas.centres,
        }
        for n, (plate, known) in enumerate(zip(self.plates, self.known, strict=True)):
            arrays |= {f"plate.{n}": plate.astype(np.float32), f"known.{n}": known > 0}
        for n, grain in enumerate(self.grain or ()):
            arrays |= {f"levels.{n}": grain.levels, f"sigma.{n}": grain.sigma, f"width.{n}": np.array(grain.width)}
        canvas = [self.canvas.left, self.canvas.top, self.canvas.width, self.canvas.height]
        told = {
            "format": self.layout.as_json(),
            "canvas": canvas,
            "plates": len(self.plates),
            "grain": self.grain is not None,
            "told": self.told,
        }
        with written_aside(path) as stream:
            np.savez_compressed(stream, description=np.array(json.dumps(told)), **arrays)

    @classmethod
    def load(cls, path: Path) -> PlatePlan:
        """Read a plan written by `save`."""
        with np.load(path) as stored:
            told = json.loads(str(stored["description"]))
            layout = PictureFormat.from_json(told["format"])
            count = range(told["plates"])
            fits = {
                int(n): Fit(int(which), way, Light(gains, offsets), Blur(*map(float, blur)))
                for n, which, way, gains, offsets, blur in zip(
                    *(stored[name] for name in ("numbers", "which", "ways", "gains", "offsets", "blurs")), strict=True
                )
            }
            grain = None
            if told["grain"]:
                parts = range(len(layout.components))
                grain = tuple(Grain(stored[f"levels.{n}"], stored[f"sigma.{n}"], float(stored[f"width.{n}"])) for n in parts)
            return cls(
                layout,
                Canvas(*told["canvas"]),
                tuple(stored[f"plate.{n}"] for n in count),
                tuple(stored[f"known.{n}"].astype(np.float32) for n in count),
                Areas(np.zeros((told["canvas"][3], told["canvas"][2]), np.int16), stored["centres"]),
                fits,
                grain,
                told["told"],
            )

    def touched(self) -> list[NDArray[np.int64]]:
        """Samples rewritten in every frame alike: none."""
        return [np.zeros(0, np.int64) for _ in self.layout.components]

    def touched_in(self) -> Mapping[int, list[NDArray[np.int64]]]:
        """For each frame with a patch, the samples of each component that lie under it."""
        found = {}
        for number in self.fits:
            box, known = self._known(number)
            if box is not None:
                found[number] = self._places(box, known)
        return found

    def _places(self, box: Box, known: Plane) -> list[NDArray[np.int64]]:
        places = []
        for i, component in enumerate(self.layout.components):
            across, down = self.layout.subsampling(i)
            shape = (-(-box.height // down), -(-box.width // across))
            share = known if known.shape == shape else cv2.resize(known, shape[::-1], interpolation=cv2.INTER_AREA)
            rows, cols = np.nonzero(share > 0) if component.name != "A" else (np.zeros(0, np.int64),) * 2
            places.append((rows + box.top // down).astype(np.int64) * component.width + cols + box.left // across)
        return places

    def _known(self, number: int) -> tuple[Box | None, Plane]:
        """Where a frame's plate is known, on the place it takes up."""
        fit = self.fits[number]
        box = self.canvas.place(fit.way, self.layout)
        if box is None:
            return None, np.zeros((0, 0), np.float32)
        known = self.canvas.on_frame(self.known[fit.plate], fit.way, box, smooth=False)
        return box, (known > 0.999).astype(np.float32)

    def ways(self, number: int) -> list[MarkWay]:
        """None: it is one patch."""
        return []

    def needs(self, window: Window) -> Window:
        """The part of the source's pictures that a part of the treated ones is made of."""
        return window

    def apply(self, source: FrameSource, first: int, stop: int, window: Window | None = None) -> FrameSource:
        """`source` with the plates put on in frames `first` to `stop` - 1."""
        painted: list[PlatePlan] = []

        def mend(frame: Frame) -> Frame:
            if not painted:
                painted.append(self.painted(source, first, stop).narrowed())
            return painted[0].mend(frame)

        return FrameByFrame(source, mend, first, stop)

    def shown(self, plate: int, frame: Frame) -> Frame:
        """A frame in which the plane lies in its own place, with a plate as it is over it."""
        none = Light(np.ones((len(self.areas), 3)), np.zeros((len(self.areas), 3)))
        fit = Fit(plate, np.eye(3), none, Blur())
        return replace(self, fits={frame.number: fit}, grain=None).mend(frame)

    def made(self, number: int) -> tuple[Box | None, Picture, Plane]:
        """The plate as it is fitted into a frame: where, its picture in codes, and where it is known."""
        fit = self.fits[number]
        box, known = self._known(number)
        if box is None:
            return None, np.zeros((0, 0, 3), np.float32), known
        lit = fit.light.on(self.areas, self.plates[fit.plate])
        return box, fit.blur.on(self.canvas.on_frame(lit, fit.way, box)), known

    def mend(self, frame: Frame) -> Frame:
        """A frame with its patch."""
        if frame.number not in self.fits:
            return frame
        box, picture, known = self.made(frame.number)
        if box is None or not known.any():
            return frame
        mended = frame.copy()
        if self.front != "nothing":
            known = known * (1 - in_front(rgb_of(frame, box), picture, known, self.front, self._noise()))
        put_rgb(mended, box, picture, known)
        if self.grain is not None:
            self._grained(mended, box, known)
        return mended

    def _noise(self) -> float:
        """Standard deviation of the shot's grain on its first component, in codes."""
        return float(np.median(self.grain[0].sigma)) if self.grain is not None else 2.0

    def _grained(self, frame: Frame, box: Box, known: Plane) -> None:
        """Grain that is new in each frame, as strong and as coarse as the shot's."""
        assert self.grain is not None
        for i, component in enumerate(self.layout.components):
            grain = self.grain[i]
            if component.name == "A" or not float(grain.sigma.max()) > 0.15:
                continue
            across, down = self.layout.subsampling(i)
            target = frame.component(i)[
                box.top // down : -(-(box.top + box.height) // down), box.left // across : -(-(box.left + box.width) // across)
            ]
            share = known if known.shape == target.shape else cv2.resize(known, target.shape[::-1], interpolation=cv2.INTER_AREA)
            light = target.astype(np.float32) / np.float32(component.code) - np.float32(128 if component.is_chroma else 0)
            fresh = grain.fresh(light, (frame.number, box.left, box.top, i)) * np.float32(component.code)
            rows, cols = np.nonzero(share > 0)
            target[rows, cols] = component.samples(target[rows, cols] + (share * fresh)[rows, cols].astype(np.float64), target.dtype)


def _plane_format(canvas: Canvas) -> PictureFormat:
    """Red, green and blue in floats, of the size of a canvas."""
    shape = (canvas.height, canvas.width)
    components = tuple(Component(name, n, 0, 1, canvas.width, canvas.height, 32, floating=True) for n, name in enumerate("RGB"))
    return PictureFormat("plate", canvas.width, canvas.height, components, (shape,) * 3, np.dtype(np.float32))


def _as_frame(picture: Picture, layout: PictureFormat) -> Frame:
    planes = tuple(np.ascontiguousarray(picture[..., k] / np.float32(255), np.float32) for k in range(3))
    return Frame(_PLATE, planes, layout, Colour())


def analyse(
    span: Span, settings: PlatePatchSettings, on_progress: Callable[[float], None] | None = None, outside: Masked | None = None
) -> PlatePlan:
    """Make the plates and fit them in.

    Parameters
    ----------
    span : Span
        Of the shot.
    settings : PlatePatchSettings
    on_progress : callable
        Told the share done, 0 to 1; may raise to stop.
    outside : Masked
        All that is not to be patched; without it nothing is. The track that its first shape rides on is the plate's.

    Raises
    ------
    SweepError
        If a picture cannot be read, or no frame shows the plane.
    """
    layout = span.source.format
    if not isinstance(outside, Outside) or not len(span):
        return PlatePlan(layout, Canvas(0, 0, 1, 1), (), (), Areas(np.zeros((1, 1), np.int16), np.zeros((0, 2))), {}, told={"frames": 0})
    return _Maker(span, settings, outside, on_progress or (lambda _: None)).plan()


# A frame's number, its picture of the plane, and what of it is seen.
_Looked = tuple[int, tuple[Picture, Plane]]


class _Maker:
    """Makes a plan; what all parts of that need."""

    def __init__(self, span: Span, settings: PlatePatchSettings, outside: Outside, told: Callable[[float], None]) -> None:
        self.span, self.settings, self.told = span, settings, told
        self.commons: dict[tuple[int | None, int | None, Take], tuple[Picture, Plane]] = {}
        self.layout = span.source.format
        self.size = (self.layout.height, self.layout.width)
        self.held_out = outside.hold_out
        riding = outside.region
        name = next((p.track for p in riding.parts if p.track), "")
        self.track = track_named(riding.tracks, name) if name and isinstance(riding, Riding) else None
        region = riding.region if isinstance(riding, Riding) else Region(parts=riding.parts)
        own = self._plane_mask(region)
        if not own.any():
            raise SweepError("The region of the plate is empty. Draw it over what is to go.")
        extent = int(max(np.ptp(np.flatnonzero(own.any(1))), np.ptp(np.flatnonzero(own.any(0)))) + 1)
        self.ring = int(np.clip(_SHARE * extent, _NARROW, _WIDE))
        self.canvas = Canvas.about(own, self.ring + 6, -_BEYOND, -_BEYOND)
        inside = Box(self.canvas.left + _BEYOND, self.canvas.top + _BEYOND, self.canvas.width, self.canvas.height)
        self.region = inside.samples(own).astype(np.float32)
        self.areas = self._areas()

    def _plane_mask(self, region: Region) -> Plane:
        """The region as it lies on the plane, whatever frame its keys are of, with room beyond the picture."""
        height, width = self.size
        shift = np.array([[1, 0, _BEYOND], [0, 1, _BEYOND], [0, 0, 1]], np.float64)
        shape = (height + 2 * _BEYOND, width + 2 * _BEYOND)
        total = np.zeros(shape, np.float32)
        for key in sorted({k.frame for p in region.parts for k in p.keys}):
            parts = tuple(Part(keys=p.keys, takes=p.takes, track="plane") for p in region.parts)
            total = np.maximum(total, region.model_copy(update={"parts": parts}).mask(shape, key, {"plane": shift}))
        return total

    def _areas(self) -> Areas:
        if not self.settings.areas:
            return Areas.ring(self.region, self.ring)
        # The canvas has to hold them.
        left = min(self.canvas.left, *(int(a.x) for a in self.settings.areas))
        top = min(self.canvas.top, *(int(a.y) for a in self.settings.areas))
        right = max(self.canvas.left + self.canvas.width, *(int(np.ceil(a.x + a.width)) for a in self.settings.areas))
        bottom = max(self.canvas.top + self.canvas.height, *(int(np.ceil(a.y + a.height)) for a in self.settings.areas))
        old, self.canvas = self.canvas, Canvas(left, top, right - left, bottom - top)
        region = np.zeros(self.canvas.shape, np.float32)
        region[old.top - top : old.top - top + old.height, old.left - left : old.left - left + old.width] = self.region
        self.region = region
        labels = np.zeros(self.canvas.shape, np.int16)
        for n, area in enumerate(self.settings.areas, start=1):
            x, y = round(area.x) - left, round(area.y) - top
            labels[y : y + round(area.height), x : x + round(area.width)] = n
        return Areas.of(labels)

    def way(self, number: int) -> Matrix:
        return np.eye(3) if self.track is None else self.track.way(number)

    def held(self, number: int) -> Plane | None:
        return None if self.held_out is None else self.held_out.mask(self.size, number)

    def taken(self, frame: Frame) -> tuple[Picture, Plane]:
        return self.canvas.taken(frame, self.way(frame.number), self.held(frame.number))

    def _looked_at(self, first: int | None, stop: int | None) -> list[_Looked]:
        numbers = self.span.numbers
        numbers = numbers[(numbers >= (first or 0)) & (numbers < (stop if stop is not None else numbers[-1] + 1))]
        most = max(5, min(_MOST, _BYTES // max(1, self.canvas.width * self.canvas.height * 12)))
        wanted = numbers[np.unique(np.linspace(0, len(numbers) - 1, min(len(numbers), most)).round().astype(int))] if len(numbers) else []
        found = []
        for number in wanted:
            frame = self.span.source.frame(int(number))
            if not frame.missing:
                picture = self.taken(frame)
                if picture[1].any():
                    found.append((int(number), picture))
        return found

    def plan(self) -> PlatePlan:
        looked = self._looked_at(None, None)
        if not looked:
            raise SweepError("No frame shows the plane of this region. Look at its track, and at what is held out.")
        self.told(0.1)
        # What all frames show stands for the plate of all frames as well.
        like, known = self._in_common(None, None, "middle", looked)
        told: dict[str, Any] = {}
        scored = looked[:: max(1, -(-len(looked) // _LOOKED))]
        scores = {n: round(disturbance(*p, like, known, self.region, self.areas), 2) for n, p in scored}
        told["disturbed"] = sorted(scores.items(), key=lambda one: one[1])
        plates, there = [], []
        for plate in self.settings.plates:
            picture, seen = self._made(plate, told["disturbed"], looked)
            lacks = (seen == 0) & (known > 0)
            if self.settings.also and plate.kind != "picture" and lacks.any():
                light = measured(picture, like, seen * known, self.areas, "gain")
                picture = np.where(lacks[..., None], light.on(self.areas, like), picture).astype(np.float32)
                seen = np.maximum(seen, known)
            plates.append(picture)
            there.append(seen)
        inside = self.region > 0.5
        told["unknown"] = [round(float((s[inside] == 0).mean()), 4) if inside.any() else 0.0 for s in there]
        self.told(0.4)
        fits = self._fits(plates, there)
        told["frames"] = len(fits)
        told["unserved"] = [int(n) for n in self.span.numbers if int(n) not in fits]
        grain = grain_of(frames_of(self.span)) if self.settings.grain else None
        # What is put on needs no ring.
        rows, cols = (np.flatnonzero((self.region > 0).any(axis)) for axis in (1, 0))
        left, top = max(0, int(cols[0]) - _KEPT), max(0, int(rows[0]) - _KEPT)
        width, height = (
            min(n, int(v[-1]) + 1 + _KEPT) - at for n, v, at in zip(self.region.shape[::-1], (cols, rows), (left, top), strict=True)
        )
        near = np.zeros(self.region.shape, np.float32)
        near[max(0, int(rows[0]) - _RIM) : int(rows[-1]) + 1 + _RIM, max(0, int(cols[0]) - _RIM) : int(cols[-1]) + 1 + _RIM] = 1
        part = np.s_[top : top + height, left : left + width]
        canvas = Canvas(self.canvas.left + left, self.canvas.top + top, width, height)
        pictures = tuple(np.ascontiguousarray(p[part]) for p in plates)
        shown = tuple(np.ascontiguousarray((p * near)[part]) for p in there)
        areas = self.areas.cut(left, top, width, height)
        return PlatePlan(self.layout, canvas, pictures, shown, areas, fits, grain, told)

    def _made(self, plate: PlateOf, scores: Sequence[tuple[int, float]], looked: Sequence[_Looked]) -> tuple[Picture, Plane]:
        if plate.kind == "picture":
            return self._from_outside(plate)
        if plate.kind == "frame":
            inside = [n for n, _ in scores if (plate.first is None or n >= plate.first) and (plate.stop is None or n < plate.stop)]
            number = plate.frame if plate.frame is not None else (inside or [scores[0][0]])[0]
            if number not in self.span.numbers:
                raise SweepError(f"Frame {number} is not a frame of this shot that can be a plate. Choose another one.")
            return self.taken(self.span.source.frame(number))
        if plate.first is not None or plate.stop is not None:
            looked = self._looked_at(plate.first, plate.stop)
        if not looked:
            raise SweepError("None of the frames named for the plate shows the plane. Choose other ones.")
        return self._in_common(plate.first, plate.stop, plate.kind, looked)

    def _in_common(self, first: int | None, stop: int | None, take: Take, looked: Sequence[_Looked]) -> tuple[Picture, Plane]:
        key = (first, stop, take)
        if key not in self.commons:
            self.commons[key] = common([p for _, p in looked], self.areas, take)
        return self.commons[key]

    def _from_outside(self, plate: PlateOf) -> tuple[Picture, Plane]:
        data = np.frombuffer(base64.b64decode(plate.picture), np.uint8)
        picture = cv2.imdecode(data, cv2.IMREAD_UNCHANGED)
        if picture is None:
            raise SweepError("The picture of the plate cannot be read. Save it as PNG and take it in again.")
        scale = 255 / (65535 if picture.dtype == np.uint16 else 255)
        if picture.ndim == 2:
            picture = cv2.cvtColor(picture, cv2.COLOR_GRAY2BGR)
        alpha = (
            picture[..., 3].astype(np.float32) * np.float32(scale / 255)
            if picture.shape[2] == 4
            else np.ones(picture.shape[:2], np.float32)
        )
        rgb = np.ascontiguousarray(picture[..., 2::-1]).astype(np.float32) * np.float32(scale)
        # Of another size it is laid over the whole picture all the same.
        height, width = self.size
        fit = np.diag([width / picture.shape[1], height / picture.shape[0], 1.0])
        fit[:2, 2] = [(fit[0, 0] - 1) / 2, (fit[1, 1] - 1) / 2]
        there = np.linalg.inv(self.canvas.from_it) @ fit
        size = (self.canvas.width, self.canvas.height)
        laid = np.stack([cv2.warpPerspective(np.ascontiguousarray(rgb[..., k]), there, size, flags=cv2.INTER_CUBIC) for k in range(3)], -1)
        return laid, (cv2.warpPerspective(alpha, there, size, flags=cv2.INTER_LINEAR) > 0.99).astype(np.float32)

    def _fits(self, plates: Sequence[Picture], known: Sequence[Plane]) -> dict[int, Fit]:
        how = self.settings.light
        if how == "auto":
            how = "offset" if self.span.source.colour.transfer == 9 else "gain"
        found: list[tuple[int, int, Light, Blur]] = []
        for done, frame in enumerate(self.span.frames()):
            number = frame.number
            which = next((n for n, p in enumerate(self.settings.plates) if p.serves(number)), None)
            if which is not None and self.canvas.place(self.way(number), self.layout) is not None:
                picture, seen = self.taken(frame)
                use = seen * known[which] * (self.region < 0.01)
                none = Light(np.ones((len(self.areas), 3)), np.zeros((len(self.areas), 3)))
                light = none if how == "off" else measured(picture, plates[which], use, self.areas, how, self.settings.robust)
                blur = self._softness(frame, plates[which], light, known[which]) if self.settings.sharpness else Blur()
                found.append((number, which, light, blur))
            self.told(0.4 + 0.6 * (done + 1) / len(self.span))
        fits: dict[int, Fit] = {}
        for n in range(len(plates)):
            own = [one for one in found if one[1] == n]
            lights = smooth_lights([one[2] for one in own], self.settings.smooth)
            fits |= {number: Fit(n, self.way(number), light, blur) for (number, _, _, blur), light in zip(own, lights, strict=True)}
        return fits

    def _softness(self, frame: Frame, plate: Picture, light: Light, known: Plane) -> Blur:
        way = self.way(frame.number)
        box = self.canvas.place(way, self.layout)
        assert box is not None
        lit = light.on(self.areas, plate)
        laid = self.canvas.on_frame(lit, way, box)
        beside = known * (self.region < 0.01)
        use = (self.canvas.on_frame(beside, way, box, smooth=False) > 0.99).astype(np.float32)
        held = self.held(frame.number)
        if held is not None:
            use = use * (box.samples(held) < 0.02)
        middle = np.array([[self.canvas.left + self.canvas.width / 2, self.canvas.top + self.canvas.height / 2]])
        near = [n for n in (frame.number - 1, frame.number + 1) if n in self.span.numbers]
        one, other = (moved(middle, self.way(n))[0] for n in ([*near, frame.number][:2] if len(near) < 2 else near))
        pace = (other - one) / max(1, len(near))
        return softness(rgb_of(frame, box), laid, use, (float(pace[0]), float(pace[1])))
