"""The weighted average of shifted frames: exact, within the shot, and honest about what it costs."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass
from fractions import Fraction
from pathlib import Path
from typing import Any

import cv2
import numpy as np
from numpy.typing import NDArray
from pydantic import BaseModel, ConfigDict, Field, model_validator

from ..imaging.motion import Field as Motion
from ..imaging.motion import carried, flow, look
from ..media.frames import Component, Frame, FrameSource, PictureFormat, Samples, Window, as_numbers
from ..media.mark_ways import InEveryFrame, MarkWay
from ..model.kinds import StepKind
from ..model.regions import Masked
from .stored_settings import keep, kept

# Motion is told on a picture no wider than this.
_WIDTH = 960


class FrameBlendSettings(BaseModel):
    """Which frames are averaged, and how much each counts."""

    model_config = ConfigDict(frozen=True, extra="forbid")

    offsets: tuple[int, ...] = Field(default=(-1, 0, 1), min_length=1, max_length=7, description="frames, from the one made")
    weights: tuple[float, ...] = Field(default=(), description="of each; all alike when none are named")
    aligned: bool = Field(default=False, description="move the others along with the scene first")
    amount: float = Field(default=1.0, ge=0, le=1, description="share of the average that is put on")

    @model_validator(mode="before")
    @classmethod
    def _named(cls, stored: Any) -> Any:
        """Weights may be told by their offsets, as ``shares``; those of 0 are left out."""
        if not isinstance(stored, dict) or "shares" not in stored:
            return stored
        shares = {int(k): float(w or 0) for k, w in sorted(dict(stored["shares"]).items(), key=lambda s: int(s[0]))}
        kept = {k: w for k, w in shares.items() if w}
        rest = {k: v for k, v in stored.items() if k != "shares"}
        return {**rest, "offsets": tuple(kept), "weights": tuple(kept.values())}

    @model_validator(mode="after")
    def _fits(self) -> FrameBlendSettings:
        if len(set(self.offsets)) != len(self.offsets) or any(abs(k) > 3 for k in self.offsets):
            raise ValueError("frames from 3 earlier to 3 later may be averaged, each once")
        if self.weights and (len(self.weights) != len(self.offsets) or min(self.weights) < 0 or not sum(self.weights)):
            raise ValueError("each frame has one weight, of at least 0, and not all are 0")
        return self

    @property
    def shares(self) -> dict[int, float]:
        """How much of the average each offset is."""
        weights = self.weights or (1.0,) * len(self.offsets)
        return {k: w / sum(weights) for k, w in zip(self.offsets, weights, strict=True)}


def opacities(layers: int) -> list[Fraction]:
    """Opacities, the lowest first, at which layers laid one over the other count alike: the k-th has 1/k."""
    return [Fraction(1, k) for k in range(1, layers + 1)]


@dataclass(frozen=True)
class BlendPlan(InEveryFrame):
    """All there is to know: the settings, and the pictures they are for."""

    layout: PictureFormat
    settings: FrameBlendSettings

    def save(self, path: Path) -> None:
        """Write the plan to `path`, whole or not at all."""
        keep(path, self.layout, settings=self.settings.model_dump(mode="json"))

    @classmethod
    def load(cls, path: Path) -> BlendPlan:
        """Read a plan written by `save`."""
        layout, values = kept(path)
        return cls(layout, FrameBlendSettings.model_validate(values["settings"]))

    def touched(self) -> list[NDArray[np.int64]]:
        """For each component, the samples the step may rewrite: all."""
        return [np.arange(0 if c.name == "A" else c.height * c.width, dtype=np.int64) for c in self.layout.components]

    def needs(self, window: Window) -> Window:
        """The part of the source's pictures that a part of the treated ones is made of; all of them where the scene is followed."""
        return Window.of(self.layout) if self.settings.aligned else window

    def ways(self, number: int) -> list[MarkWay]:
        """It is put on the whole picture alike."""
        return []

    def apply(self, source: FrameSource, first: int, stop: int, window: Window | None = None) -> FrameSource:
        """`source` with frames `first` to `stop` - 1 averaged with their neighbours in the shot."""
        return Blended(source, self, range(first, stop))

    def blend(self, frame: Frame, neighbour: Callable[[int], Frame], shot: range) -> Frame:
        """A frame averaged with those that `neighbour` gives; what lies outside the shot, or is missing, does not count."""
        shares = {k: w for k, w in self.settings.shares.items() if w > 0 and frame.number + k in shot}
        frames = {k: frame if not k else neighbour(frame.number + k) for k in shares}
        shares = {k: w for k, w in shares.items() if not frames[k].missing}
        total = sum(shares.values())
        if not total or not self.settings.amount or list(shares) == [0]:
            return frame
        motions = {k: _motion(frame, frames[k]) for k in shares if k} if self.settings.aligned else {}
        made = frame.copy()
        amount = self.settings.amount
        for i, component in enumerate(self.layout.components):
            if component.name == "A":
                continue
            mean = np.zeros((component.height, component.width), np.float64)
            for k, share in shares.items():
                samples = frames[k].component(i)
                mean += share / total * (_moved(samples, motions[k]) if k in motions else samples.astype(np.float64))
            own = frame.component(i)
            made.component(i)[:] = component.samples(own + amount * (mean - own), own.dtype)
        return made


def _motion(frame: Frame, other: Frame) -> Motion:
    here, there = (look(_luma(f, frame.format.components[0]), 1.0).gray for f in (frame, other))
    return flow(here, there)


def _luma(frame: Frame, component: Component) -> NDArray[np.float32]:
    scale = min(1.0, _WIDTH / component.width)
    size = (round(component.width * scale), round(component.height * scale))
    return cv2.resize(as_numbers(frame.component(0)) / np.float32(component.code), size, interpolation=cv2.INTER_AREA)


def _moved(samples: Samples, motion: Motion) -> NDArray[np.float64]:
    scale = np.float32(samples.shape[1] / motion.shape[1])
    at = cv2.resize(motion, samples.shape[::-1], interpolation=cv2.INTER_LINEAR) * scale
    return carried(samples.astype(np.float32), at).astype(np.float64)


class Blended:
    """A source averaged over neighbouring frames, which are kept at hand while frames are asked for in order."""

    def __init__(self, source: FrameSource, plan: BlendPlan, numbers: range) -> None:
        self.format, self.colour, self.rate = source.format, source.colour, source.rate
        self._source, self._plan, self._range = source, plan, numbers

    def __len__(self) -> int:
        return len(self._source)

    def frame(self, number: int) -> Frame:
        """Frame `number`, averaged."""
        return self._made(self._source.frame(number), self._source.frame)

    def frames(self, first: int, stop: int) -> Iterator[Frame]:
        """Frames `first` to `stop` - 1, averaged."""
        ahead = max(0, *self._plan.settings.offsets)
        behind = -min(0, *self._plan.settings.offsets)
        begin, end = max(0, first - behind), min(len(self._source), stop + ahead)
        held: dict[int, Frame] = {}
        coming = self._source.frames(begin, end)
        for number in range(first, stop):
            while number + ahead not in held and (frame := next(coming, None)) is not None:
                held[frame.number] = frame
            held.pop(number - behind - 1, None)
            yield self._made(held[number], lambda n: held[n] if n in held else self._source.frame(n))

    def _made(self, frame: Frame, neighbour: Callable[[int], Frame]) -> Frame:
        return frame if frame.missing or frame.number not in self._range else self._plan.blend(frame, neighbour, self._range)


def analyse(
    source: FrameSource,
    settings: FrameBlendSettings,
    on_progress: Callable[[float], None] | None = None,
    hold_out: Masked | None = None,
) -> BlendPlan:
    """Keep the settings: the average needs nothing learned."""
    return BlendPlan(source.format, settings)


STEPS = (
    StepKind(
        kind="frame-blend",
        title="Frame blend",
        summary="Averages each frame with its neighbours. It hides flicker but ghosts moving things: try the steps above first.",
        version=1,
        settings=FrameBlendSettings,
        analyse=analyse,
        load=BlendPlan.load,
        learns_from="nothing",
    ),
)
