"""What is known of the plates of a shot, and putting them on frame by frame."""

from __future__ import annotations

import json
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import Any

import cv2
import numpy as np
from numpy.typing import NDArray

from ...base.files import atomic_write
from ...imaging.box import Box
from ...imaging.grain import Grain
from ...imaging.motion import Plane
from ...media.frames import Alone, Colour, Component, Frame, FrameSource, PictureFormat, Window, as_numbers
from ...media.mark_ways import MarkWay
from ...media.per_frame import FrameByFrame
from ...model.planes import Matrix
from ..retouch import RetouchPlan, Touch
from .canvas import Canvas, Picture, put_rgb, rgb_of
from .light import Areas, LightMatch
from .pictures import in_front
from .settings import Front, PlatePatchSettings, PlateTouch
from .softness import Blur

# The number of a plate among frames: none of a reel.
_PLATE = 10**9


@dataclass(frozen=True)
class Fit:
    """How a plate is fitted into a frame: which, where, in what light, how soft."""

    plate: int
    way: Matrix
    light: LightMatch
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
    figures : dict
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
    figures: dict[str, Any] = field(default_factory=dict)
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
        strokes = [t.touch for t in touches if t.plate == n]
        moved_ = [t.moved(_PLATE, -self.canvas.left, -self.canvas.top) for t in strokes]
        return [m.model_copy(update={"lends": t.lends, "aligned": False}) for m, t in zip(moved_, strokes, strict=True)]

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
        header = {
            "format": self.layout.as_json(),
            "canvas": canvas,
            "plates": len(self.plates),
            "grain": self.grain is not None,
            "told": self.figures,
        }
        with atomic_write(path) as stream:
            np.savez_compressed(stream, description=np.array(json.dumps(header)), **arrays)

    @classmethod
    def load(cls, path: Path) -> PlatePlan:
        """Read a plan written by `save`."""
        with np.load(path) as stored:
            header = json.loads(str(stored["description"]))
            layout = PictureFormat.from_json(header["format"])
            count = range(header["plates"])
            fits = {
                int(n): Fit(int(which), way, LightMatch(gains, offsets), Blur(*map(float, blur)))
                for n, which, way, gains, offsets, blur in zip(
                    *(stored[name] for name in ("numbers", "which", "ways", "gains", "offsets", "blurs")), strict=True
                )
            }
            grain = None
            if header["grain"]:
                parts = range(len(layout.components))
                grain = tuple(Grain(stored[f"levels.{n}"], stored[f"sigma.{n}"], float(stored[f"width.{n}"])) for n in parts)
            return cls(
                layout,
                Canvas(*header["canvas"]),
                tuple(stored[f"plate.{n}"] for n in count),
                tuple(stored[f"known.{n}"].astype(np.float32) for n in count),
                Areas(np.zeros((header["canvas"][3], header["canvas"][2]), np.int16), stored["centres"]),
                fits,
                grain,
                header["told"],
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
        none = LightMatch(np.ones((len(self.areas), 3)), np.zeros((len(self.areas), 3)))
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
            light = as_numbers(target) / np.float32(component.code) - np.float32(128 if component.is_chroma else 0)
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
