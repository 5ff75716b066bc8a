"""What the steps that steady the light know of a shot, and how they divide it out."""

from __future__ import annotations

import json
from collections.abc import Callable
from dataclasses import asdict, dataclass, field, replace
from functools import cached_property, partial
from pathlib import Path
from typing import Any

import cv2
import numpy as np
from numpy.typing import NDArray

from ...base.files import atomic_write
from ...evidence.light_record import LightRecord
from ...imaging.light import is_logarithmic, light_of, samples_of, zero_of
from ...imaging.motion import Plane
from ...media.frames import Colour, Component, Frame, FrameSource, PictureFormat, Samples, Window
from ...media.mark_ways import InEveryFrame, MarkWay
from ...media.per_frame import FrameByFrame
from ...model.regions import Masked
from .bands import BandModel
from .channels import mixing
from .pairs import WHITE
from .reading import Bands

# Float64 throughout; arithmetic hides that from the type checker.
Course = NDArray[Any]
# Log light, and departure of an exponent from 1, below which a frame is right as it is.
_RIGHT, _EVEN = 0.0015, 0.003
# Weights of red, green and blue in luma (ITU-R BT.709).
_LUMA = np.array([0.2126, 0.7152, 0.0722])


@dataclass(frozen=True)
class LightPlan(InEveryFrame):
    """The light of a shot that is to be divided out, frame by frame.

    Attributes
    ----------
    layout, colour
        Of the frames.
    first : int
        The frame that the courses begin with.
    offset, power : ndarray, float64, (frames,)
        Light over white is taken to ``(light / exp(offset)) ** (1 / power)``.
    level : ndarray, float64, (frames,)
        Log light that is put back on: where whole frames are to lie.
    bands : Bands or None
    patches : ndarray, float64, (frames, rows, cols)
        Log light over the picture; (frames, 0, 0) for none.
    amount : float
        How much of all that is done, 0 to 1.
    channels : ndarray, float64, (frames, 3)
        Log light of red, green and blue to be divided out of each; (frames, 0) for none.
    grain : float
        Log light by which a whole frame has to be out to be changed at all.
    """

    layout: PictureFormat
    colour: Colour
    first: int
    offset: Course
    power: Course
    level: Course
    bands: Bands | None
    patches: Course
    amount: float = 1.0
    channels: Course = field(default_factory=lambda: np.zeros((0, 0)))
    grain: float = 0.0

    @classmethod
    def nothing(cls, record: LightRecord, amount: float = 1.0, grain: float = 0.0) -> LightPlan:
        """The plan that leaves every frame as it is."""
        count = len(record)
        flat = np.zeros(count)
        nowhere = np.zeros((count, 0, 0))
        return cls(record.format, record.colour, record.first, flat, np.ones(count), flat, None, nowhere, amount, grain=grain)

    def with_(self, **values: Any) -> LightPlan:
        """The same with other values."""
        return replace(self, **values)

    def save(self, path: Path) -> None:
        """Write the plan to `path`, whole or not at all."""
        header = {
            "format": self.layout.as_json(),
            "colour": asdict(self.colour),
            "first": self.first,
            "amount": self.amount,
            "grain": self.grain,
        }
        arrays: dict[str, Any] = {
            "offset": self.offset,
            "power": self.power,
            "level": self.level,
            "patches": self.patches,
            "channels": self.channels,
        }
        if self.bands is not None:
            model = self.bands.model
            arrays |= {"phase": model.phase, "profile": model.profile, "rest": model.rest}
            header |= {"spacing": model.spacing, "explained": model.explained, "lean": self.bands.lean}
        with atomic_write(path) as stream:
            np.savez(stream, told=np.array(json.dumps(header)), **arrays)

    @classmethod
    def load(cls, path: Path) -> LightPlan:
        """Read a plan written by `save`."""
        with np.load(path) as stored:
            header = json.loads(str(stored["told"]))
            bands = None
            if "phase" in stored:
                bands = Bands(
                    BandModel(header["spacing"], stored["phase"], stored["profile"], header["explained"], stored["rest"]), header["lean"]
                )
            offset, power, level, patches, channels = (stored[n] for n in ("offset", "power", "level", "patches", "channels"))
            layout, colour = PictureFormat.from_json(header["format"]), Colour(**header["colour"])
            return cls(layout, colour, header["first"], offset, power, level, bands, patches, header["amount"], channels, header["grain"])

    @property
    def changes(self) -> bool:
        """Whether it changes any frame at all."""
        return self.bands is not None or self.patches.size > 0 or any(self._alters(n) for n in range(len(self.offset)))

    def _alters(self, at: int) -> bool:
        least = max(_RIGHT, self.grain)
        tints = self.channels.size > 0 and float(np.abs(self.channels[at]).max()) > least
        # An exponent below the grain is out by less than that wherever there is light to see it by.
        return bool(tints or abs(self.level[at] - self.offset[at]) > least or abs(self.power[at] - 1) > max(_EVEN, self.grain))

    def touched(self) -> list[NDArray[np.int64]]:
        """For each component, the samples the step may rewrite: all, or none where the light is steady."""
        return [np.arange(c.height * c.width if self.changes and c.name != "A" else 0, dtype=np.int64) for c in self.layout.components]

    def needs(self, window: Window) -> Window:
        """The part of the source's pictures that a part of the treated ones is made of."""
        return window

    def ways(self, number: int) -> list[MarkWay]:
        """It is put on the whole picture alike."""
        return []

    def apply(self, source: FrameSource, first: int, stop: int, window: Window | None = None) -> FrameSource:
        """`source` with the light of frames `first` to `stop` - 1 steadied, at least within `window`."""
        return FrameByFrame(source, partial(self.mend, window=window), first, stop)

    def mend(self, frame: Frame, window: Window | None = None) -> Frame:
        """A frame in the light it should have."""
        at = frame.number - self.first
        if not 0 <= at < len(self.offset) or not self.amount:
            return frame
        gains = self.gains(at)
        if gains is None and not self._alters(at):
            return frame
        if self.channels.size:
            return self._tinted(frame, at)
        mended = frame.copy()
        part = window or Window.of(self.layout)
        light = None
        for i, component in enumerate(self.layout.components):
            if component.name == "A":
                continue
            rows, cols = part.cells(self.layout, i)
            samples = mended.component(i)
            here = samples[rows, cols]
            if component.is_chroma:
                if light is None and self._power(at) != 1:
                    light = self._luma(frame)
                factor = self._factor(at, component, (rows, cols), gains, light)
                samples[rows, cols] = self._scaled(here, component, factor)
            else:
                gain = None if gains is None else _sized(gains, (component.height, component.width))[rows, cols]
                samples[rows, cols] = self._relit(here, component, at, gain)
        return mended

    def on_light(self, light: Plane, at: int) -> Plane:
        """Light of a small picture as it would be: (height, width), 8-bit codes above black."""
        if not 0 <= at < len(self.offset) or not self.amount:
            return light
        lit = light
        if self._alters(at) and not self.channels.size:
            over = np.maximum(light, 0) / np.float32(WHITE)
            lit = np.float32(self._gain(at) * WHITE) * over ** np.float32(self._power(at))
        elif self.channels.size:
            lit = light * np.float32(np.exp(-self.amount * float(self.channels[at] @ _LUMA)))
        gains = self.gains(at)
        return lit if gains is None else lit * _sized(gains, light.shape)

    def _tinted(self, frame: Frame, at: int) -> Frame:
        """A frame with each colour in the light it should have."""
        mended, layout = frame.copy(), self.layout
        matrix = mixing(layout, self.colour)
        if matrix is None:
            return frame
        factors = np.exp(-self.amount * self.channels[at])
        # What a factor for each colour does to the components, whatever these are.
        whole = np.linalg.inv(matrix) @ np.diag(factors) @ matrix
        used = [i for i, c in enumerate(layout.components) if c.name != "A"]
        lights = [light_of(frame.component(i), layout.components[i], self.colour) for i in used]
        for row, i in enumerate(used):
            component = layout.components[i]
            size = (component.width, component.height)
            total = np.zeros(size[::-1], np.float32)
            for weight, light in zip(whole[row], lights, strict=True):
                if abs(weight) > 1e-6:
                    way = cv2.INTER_AREA if light.shape[1] > size[0] else cv2.INTER_LINEAR
                    total += np.float32(weight) * (light if light.shape == size[::-1] else cv2.resize(light, size, interpolation=way))
            mended.component(i)[:] = samples_of(total, component, self.colour, frame.component(i).dtype)
        return mended

    def _power(self, at: int) -> float:
        """The exponent that is put on."""
        return 1 + (1 / float(self.power[at]) - 1) * self.amount

    def _gain(self, at: int) -> float:
        """The factor that goes with it, on light over white."""
        return float(np.exp(self.amount * (self.level[at] - self.offset[at] / self.power[at])))

    def gains(self, at: int) -> Plane | None:
        """Factors over the picture, (height, width) or broadcast to it; None where there are none."""
        if self.bands is None and not self.patches.size:
            return None
        height, width = self.layout.height, self.layout.width
        log = np.zeros((1, 1))
        if self.bands is not None:
            log = self._band_light(at)
        if self.patches.size:
            soft = cv2.resize(self.patches[at].astype(np.float32), (width, height), interpolation=cv2.INTER_CUBIC)
            log = log + soft
        return np.exp(-self.amount * log).astype(np.float32)

    def _band_light(self, at: int) -> Course:
        assert self.bands is not None
        height, width, bands = self.layout.height, self.layout.width, self.bands
        one = bands.model.in_frame(at)
        if not bands.lean:
            return np.asarray(one.at((np.arange(height) + 0.5) / height)[0][:, None])
        table = np.linspace(0, 1, 4 * max(height, width))
        wave = one.at(table)[0]
        return np.asarray(np.interp(self._lying, table, wave))

    @cached_property
    def _lying(self) -> Course:
        """How far each pixel lies along the bands' direction, 0 to 1: (height, width), or one row of it."""
        assert self.bands is not None
        height, width = self.layout.height, self.layout.width
        y, x = (np.arange(height)[:, None] + 0.5) / height, (np.arange(width)[None] + 0.5) / width
        if abs(abs(self.bands.lean) - np.pi / 2) < 1e-9:
            y = np.full((1, 1), 0.5)
        return self.bands.places(y, x, width / height)

    def _luma(self, frame: Frame) -> Plane:
        return light_of(frame.component(0), self.layout.components[0], self.colour)

    def _factor(self, at: int, component: Component, cells: tuple[slice, slice], gains: Plane | None, light: Plane | None) -> Plane | float:
        """What colour differences are multiplied by: what brightness is, there."""
        factor: Any = self._gain(at)
        shape = (component.height, component.width)
        if light is not None:
            over = np.maximum(cv2.resize(light, shape[::-1], interpolation=cv2.INTER_AREA), 2.0) / np.float32(WHITE)
            factor = (factor * over ** (self._power(at) - 1))[cells]
        if gains is not None:
            factor = factor * _sized(gains, shape)[cells]
        return np.asarray(factor)

    def _scaled(self, samples: Samples, component: Component, factor: Plane | float) -> Samples:
        zero = np.float32(zero_of(component, self.colour))
        return _rounded((samples.astype(np.float32) - zero) * np.float32(factor) + zero, component, samples.dtype)

    def _relit(self, samples: Samples, component: Component, at: int, gain: Plane | None) -> Samples:
        """Samples of brightness, or of a colour, in the light they should have."""
        if gain is None and samples.dtype.kind == "u":
            codes = np.minimum(np.arange(np.iinfo(samples.dtype).max + 1), component.peak).astype(samples.dtype)
            table = self._plain(codes, component, at, None)
            return cv2.LUT(samples, table) if samples.dtype == np.uint8 else np.take(table, samples)
        return self._plain(samples, component, at, gain)

    def _plain(self, samples: Samples, component: Component, at: int, gain: Plane | None) -> Samples:
        factor, power = np.float32(self._gain(at)), self._power(at)
        if is_logarithmic(self.colour) or power != 1:
            light = light_of(samples, component, self.colour)
            over = np.maximum(light, 0) / np.float32(WHITE)
            bright = factor * (over if power == 1 else over ** np.float32(power)) * np.float32(WHITE)
            # Below black there is nothing to take a power of.
            lit = np.where(light > 0, bright, light * factor)
            return samples_of(lit if gain is None else lit * gain, component, self.colour, samples.dtype)
        zero = np.float32(zero_of(component, self.colour))
        value = samples.astype(np.float32) - zero
        value *= factor if gain is None else factor * gain
        value += zero
        return _rounded(value, component, samples.dtype)


def _rounded(value: Plane, component: Component, dtype: np.dtype[Any]) -> Samples:
    """The nearest samples that can be held; in single precision, which is exact for those of 16 bits."""
    if component.floating:
        return value.astype(dtype)
    np.rint(value, out=value)
    return np.clip(value, 0, np.float32(component.peak), out=value).astype(dtype)


def _sized(gains: Plane, shape: tuple[int, int]) -> Plane:
    """Factors at the size of a component; those of whole rows or columns stay so."""
    if gains.shape[0] == 1 or gains.shape[1] == 1:
        wanted = (shape[0] if gains.shape[0] > 1 else 1, shape[1] if gains.shape[1] > 1 else 1)
        made = gains if gains.shape == wanted else cv2.resize(gains, wanted[::-1], interpolation=cv2.INTER_AREA).reshape(wanted)
        return np.broadcast_to(made, shape)
    return gains if gains.shape == shape else cv2.resize(gains, shape[::-1], interpolation=cv2.INTER_AREA)


def usable_of(record: LightRecord, hold_out: Masked | None) -> Callable[[int], Plane | None] | None:
    """Where the light of a frame may be looked at, as `measure` asks for it."""
    if hold_out is None or not hold_out.parts:
        return None
    size = (record.format.height, record.format.width)

    def usable(at: int) -> Plane:
        mask = hold_out.mask(size, record.first + at if hold_out.changes else 0)
        return np.asarray((cv2.resize(mask, record.shape[::-1], interpolation=cv2.INTER_AREA) < 0.01).astype(np.float32))

    return usable
