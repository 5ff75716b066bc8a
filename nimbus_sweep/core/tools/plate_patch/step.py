"""Puts a plate on a flat part of the scene: over a reflection, a tripod, a stain, along the track that the region rides on."""

from __future__ import annotations

import base64
from collections.abc import Callable, Sequence
from typing import Any

import cv2
import numpy as np

from ...base.errors import SweepError
from ...evidence.frames_at_hand import Span, frames_of
from ...imaging.box import Box
from ...imaging.levels import grain_of
from ...imaging.motion import Plane
from ...media.frames import Frame
from ...model.planes import Matrix, moved
from ...model.regions import Masked, Outside, Part, Region
from ...model.tracks import Riding, track_named
from .canvas import Canvas, Picture, rgb_of
from .light import Areas, LightMatch, measured, smooth_lights
from .pictures import Take, common, disturbance
from .plate_plan import Fit, PlatePlan
from .settings import PlateOf, PlatePatchSettings
from .softness import Blur, softness

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
        return PlatePlan(layout, Canvas(0, 0, 1, 1), (), (), Areas(np.zeros((1, 1), np.int16), np.zeros((0, 2))), {}, figures={"frames": 0})
    return _Maker(span, settings, outside, on_progress or (lambda _: None)).plan()


# A frame's number, its picture of the plane, and what of it is seen.
_Looked = tuple[int, tuple[Picture, Plane]]


class _Maker:
    """Makes a plan; what all parts of that need."""

    def __init__(self, span: Span, settings: PlatePatchSettings, outside: Outside, progress: Callable[[float], None]) -> None:
        self.span, self.settings, self.progress = span, settings, progress
        self.commons: dict[tuple[int | None, int | None, Take], tuple[Picture, Plane]] = {}
        self.layout = span.source.format
        self.size = (self.layout.height, self.layout.width)
        self.held_out = outside.hold_out
        riding = outside.region
        name = next((p.track for p in riding.parts if p.track), "")
        self.track = track_named(riding.tracks, name) if name and isinstance(riding, Riding) else None
        region = riding.region if isinstance(riding, Riding) else Region(parts=riding.parts)
        plane_mask = self._plane_mask(region)
        if not plane_mask.any():
            raise SweepError("The region of the plate is empty. Draw it over what is to go.")
        extent = int(max(np.ptp(np.flatnonzero(plane_mask.any(1))), np.ptp(np.flatnonzero(plane_mask.any(0)))) + 1)
        self.ring = int(np.clip(_SHARE * extent, _NARROW, _WIDE))
        self.canvas = Canvas.about(plane_mask, self.ring + 6, -_BEYOND, -_BEYOND)
        inside = Box(self.canvas.left + _BEYOND, self.canvas.top + _BEYOND, self.canvas.width, self.canvas.height)
        self.region = inside.samples(plane_mask).astype(np.float32)
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
        self.progress(0.1)
        # What all frames show stands for the plate of all frames as well.
        like, known = self._in_common(None, None, "middle", looked)
        figures: dict[str, Any] = {}
        scored = looked[:: max(1, -(-len(looked) // _LOOKED))]
        scores = {n: round(disturbance(*p, like, known, self.region, self.areas), 2) for n, p in scored}
        figures["disturbed"] = sorted(scores.items(), key=lambda one: one[1])
        plates, there = [], []
        for plate in self.settings.plates:
            picture, seen = self._made(plate, figures["disturbed"], looked)
            lacks = (seen == 0) & (known > 0)
            if self.settings.also and plate.kind != "picture" and lacks.any():
                light = measured(picture, like, seen * known, self.areas, "gain")
                picture = np.where(lacks[..., None], light.on(self.areas, like), picture).astype(np.float32)
                seen = np.maximum(seen, known)
            plates.append(picture)
            there.append(seen)
        inside = self.region > 0.5
        figures["unknown"] = [round(float((s[inside] == 0).mean()), 4) if inside.any() else 0.0 for s in there]
        self.progress(0.4)
        fits = self._fits(plates, there)
        figures["frames"] = len(fits)
        figures["unserved"] = [int(n) for n in self.span.numbers if int(n) not in fits]
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
        return PlatePlan(self.layout, canvas, pictures, shown, areas, fits, grain, figures)

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
        found: list[tuple[int, int, LightMatch, Blur]] = []
        for done, frame in enumerate(self.span.frames()):
            number = frame.number
            which = next((n for n, p in enumerate(self.settings.plates) if p.serves(number)), None)
            if which is not None and self.canvas.place(self.way(number), self.layout) is not None:
                picture, seen = self.taken(frame)
                use = seen * known[which] * (self.region < 0.01)
                none = LightMatch(np.ones((len(self.areas), 3)), np.zeros((len(self.areas), 3)))
                light = none if how == "off" else measured(picture, plates[which], use, self.areas, how, self.settings.robust)
                blur = self._softness(frame, plates[which], light, known[which]) if self.settings.sharpness else Blur()
                found.append((number, which, light, blur))
            self.progress(0.4 + 0.6 * (done + 1) / len(self.span))
        fits: dict[int, Fit] = {}
        for n in range(len(plates)):
            of_plate = [one for one in found if one[1] == n]
            lights = smooth_lights([one[2] for one in of_plate], self.settings.smooth)
            fits |= {number: Fit(n, self.way(number), light, blur) for (number, _, _, blur), light in zip(of_plate, lights, strict=True)}
        return fits

    def _softness(self, frame: Frame, plate: Picture, light: LightMatch, known: Plane) -> Blur:
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
        # At the end of a shot, beside a repeated frame, there may be none to tell the pace by.
        ends = near if len(near) == 2 else [*near, frame.number]
        places = [moved(middle, self.way(n))[0] for n in ends]
        pace = (places[-1] - places[0]) / max(1, len(near))
        return softness(rgb_of(frame, box), laid, use, (float(pace[0]), float(pace[1])))
