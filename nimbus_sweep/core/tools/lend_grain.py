"""Gives the picture, or a region of it, the grain of another place: what lacks is added, what is too much is calmed.

Independent grains add by their squares, so that what is added has the deviation that the square of the wanted one
lacks; what stands out of the grain is kept when it is calmed.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from functools import lru_cache, partial
from pathlib import Path
from typing import Any

import cv2
import numpy as np
from numpy.typing import NDArray
from pydantic import BaseModel, ConfigDict, Field

from ..evidence.frames_at_hand import Span, frames_of
from ..imaging.aligned_fill import codes
from ..imaging.grain import Grain, measure
from ..imaging.motion import Plane
from ..media.frames import Frame, FrameSource, PictureFormat, Window
from ..media.mark_ways import InEveryFrame, MarkWay
from ..media.per_frame import FrameByFrame
from ..model.kinds import StepKind
from ..model.regions import Masked
from .stored_settings import keep, kept

# Share of the deviation by which grain may differ and is the same.
_SAME = 0.05
# Pixels about a part that its grain is told by.
_ABOUT = 24
# Seeds of grain that is added, apart from that of fills.
_OWN = 7919


class GrainOf(BaseModel):
    """The grain of a component: its deviation at each brightness, in 8-bit codes, and how far it hangs together."""

    model_config = ConfigDict(frozen=True, extra="forbid")

    name: str = Field(max_length=8)
    levels: tuple[float, ...] = Field(min_length=1, max_length=64)
    sigma: tuple[float, ...] = Field(min_length=1, max_length=64)
    width: float = Field(ge=0, le=10, description="of the blur that makes white noise hang together as it does, in samples")

    @classmethod
    def of(cls, name: str, grain: Grain) -> GrainOf:
        """What was measured."""
        return cls(
            name=name,
            levels=tuple(round(float(v), 2) for v in grain.levels),
            sigma=tuple(round(float(v), 4) for v in grain.sigma),
            width=round(grain.width, 3),
        )

    @property
    def grain(self) -> Grain:
        """As it is used."""
        count = min(len(self.levels), len(self.sigma))
        return Grain(np.array(self.levels[:count]), np.array(self.sigma[:count]), self.width)


class LendGrainSettings(BaseModel):
    """Whose grain is given, and how far."""

    model_config = ConfigDict(frozen=True, extra="forbid")

    like: tuple[GrainOf, ...] = Field(default=(), max_length=4, description="for each component by its name; none leaves it as it is")
    taken_from: str = Field(default="", max_length=200, description="where that was measured, in words")
    amount: float = Field(default=1.0, ge=0, le=1, description="how far it is gone towards it")


@dataclass(frozen=True)
class GrainPlan(InEveryFrame):
    """The grain that is there, and the one that is wanted.

    Attributes
    ----------
    layout : PictureFormat
    own, like : tuple of Grain or None
        For each component; None leaves it alone.
    """

    layout: PictureFormat
    own: tuple[Grain | None, ...]
    like: tuple[Grain | None, ...]

    def save(self, path: Path) -> None:
        """Write the plan to `path`, whole or not at all."""
        keep(path, self.layout, own=[_plain(g) for g in self.own], like=[_plain(g) for g in self.like])

    @classmethod
    def load(cls, path: Path) -> GrainPlan:
        """Read a plan written by `save`."""
        layout, values = kept(path)
        grains, like = (tuple(None if g is None else GrainOf(**g).grain for g in values[name]) for name in ("own", "like"))
        return cls(layout, grains, like)

    def touched(self) -> list[NDArray[np.int64]]:
        """For each component, the samples the step may rewrite: all, until a region narrows them."""
        pairs = zip(self.layout.components, self.own, self.like, strict=True)
        return [np.arange(0 if a is None or b is None else c.height * c.width, dtype=np.int64) for c, a, b in pairs]

    def ways(self, number: int) -> list[MarkWay]:
        """It is the same everywhere."""
        return []

    def needs(self, window: Window) -> Window:
        """The part of the source's pictures that a part of the treated ones is made of."""
        return window.grown(_ABOUT, self.layout)

    def apply(self, source: FrameSource, first: int, stop: int, window: Window | None = None) -> FrameSource:
        """`source` with frames `first` to `stop` - 1 given the grain, at least within `window`."""
        return FrameByFrame(source, partial(self.mend, window=window), first, stop)

    def mend(self, frame: Frame, window: Window | None = None) -> Frame:
        """A frame with the grain that is wanted, at least within a part of it."""
        if window is not None and (window.right <= window.left or window.bottom <= window.top):
            return frame
        mended = frame.copy()
        wide = Window.of(self.layout) if window is None else window.grown(_ABOUT, self.layout)
        for i, (component, own, like) in enumerate(zip(self.layout.components, self.own, self.like, strict=True)):
            if own is None or like is None:
                continue
            part = wide.cells(self.layout, i)
            plane = mended.component(i)
            # The same grain whatever part of the frame is asked for.
            fresh = like.even(plane.shape, (_OWN, frame.number, i))[part]
            made = given(codes(plane[part], component), own, like, fresh)
            if made is not None:
                zero = 128 if component.is_chroma else 0
                plane[part] = component.samples((made.astype(np.float64) + zero) * component.code, plane.dtype)
        return mended


def _plain(grain: Grain | None) -> dict[str, Any] | None:
    return None if grain is None else {"name": "", "levels": grain.levels.tolist(), "sigma": grain.sigma.tolist(), "width": grain.width}


def given(light: Plane, grain: Grain, like: Grain, fresh: Plane) -> Plane | None:
    """A picture with another grain.

    Parameters
    ----------
    light : ndarray, float32, (height, width)
        In 8-bit codes above zero.
    own, like : Grain
        The grain it has, and the one it is to have.
    fresh : ndarray, float32, (height, width)
        Grain of a deviation of 1 that hangs together as the wanted one does.

    Returns
    -------
    ndarray, float32, (height, width)
        None when both are the same.
    """
    broad = cv2.GaussianBlur(light, (0, 0), 2.0, borderType=cv2.BORDER_REFLECT_101)
    has, wants = grain.at(broad), like.at(broad)
    if bool((np.abs(wants - has) <= _SAME * np.maximum(has, 0.05)).all()):
        return None
    # What is too strong is calmed first, what is too weak filled up.
    strong = has > wants
    made = _calmed(light, has, np.minimum(has, wants), grain.width) if strong.any() else light
    lacking = np.sqrt(np.maximum(0, wants * wants - has * has))
    return np.where(strong, made, light) + lacking * fresh


# Widths of the bands that grain is calmed in, in samples.
_BANDS = (0.8, 1.6, 3.2, 6.4)


def _calmed(light: Plane, has: Plane, wants: Plane, width: float) -> Plane:
    """A picture with its grain calmed, band by band: what stands out of the grain there stays (Wiener; see `grain.calmed`)."""
    rest = light
    made = np.zeros_like(light)
    least = wants / np.maximum(has, 1e-3)
    for band, share in zip(_BANDS, _shares(round(width, 1)), strict=True):
        broad = cv2.GaussianBlur(rest, (0, 0), band, borderType=cv2.BORDER_REFLECT_101)
        fine = rest - broad
        noise = share * has * has
        reach = 2 * round(3 * band) + 1
        power = cv2.blur(fine * fine, (reach, reach), borderType=cv2.BORDER_REFLECT_101)
        stands = np.clip(power / np.maximum(noise, 1e-6) - 1.6, 0, 1)
        made += fine * (least + (1 - least) * stands)
        rest = broad
    return made + rest


@lru_cache(maxsize=32)
def _shares(width: float) -> tuple[float, ...]:
    """Share of the power of white noise blurred by `width` that lies in each band."""
    reach = 48
    rest = np.zeros((2 * reach + 1, 2 * reach + 1), np.float32)
    rest[reach, reach] = 1
    if width > 0.2:
        rest = cv2.GaussianBlur(rest, (0, 0), width)
    whole = float((rest * rest).sum())
    shares = []
    for band in _BANDS:
        broad = cv2.GaussianBlur(rest, (0, 0), band)
        shares.append(float(((rest - broad) ** 2).sum()) / whole)
        rest = broad
    return tuple(shares)


def measured(frames: Sequence[Frame], where: Sequence[Plane] | None = None) -> tuple[Grain | None, ...]:
    """The grain of each component of some frames; of a part of them where masks, (height, width), 0 to 1, are given."""
    found: list[Grain | None] = []
    for i, c in enumerate(frames[0].format.components):
        if c.name == "A":
            found.append(None)
            continue
        pictures = [codes(f.component(i), c) for f in frames]
        masks = None
        if where is not None:
            masks = [cv2.resize(m, (c.width, c.height), interpolation=cv2.INTER_AREA) for m in where]
        found.append(measure(pictures, masks))
    return tuple(found)


def analyse(
    span: Span, settings: LendGrainSettings, on_progress: Callable[[float], None] | None = None, outside: Masked | None = None
) -> GrainPlan:
    """Measure the grain of the shot, or of the region drawn in it."""
    layout = span.source.format
    nothing: tuple[Grain | None, ...] = (None,) * len(layout.components)
    if not settings.like or not settings.amount or not len(span):
        return GrainPlan(layout, nothing, nothing)
    frames = frames_of(span)
    size = (layout.height, layout.width)
    where = None if outside is None else [(1 - outside.mask(size, f.number)).astype(np.float32) for f in frames]
    grains = measured(frames, where)
    wanted = {g.name: g.grain for g in settings.like}
    like = tuple(
        None if a is None or c.name not in wanted else _between(a, wanted[c.name], settings.amount)
        for a, c in zip(grains, layout.components, strict=True)
    )
    if on_progress:
        on_progress(1.0)
    return GrainPlan(layout, grains, like)


def _between(grain: Grain, like: Grain, amount: float) -> Grain:
    """The grain so far on the way from one to the other."""
    wants = np.interp(grain.levels, like.levels, like.sigma)
    return Grain(grain.levels, (1 - amount) * grain.sigma + amount * wants, like.width)


STEPS = (
    StepKind(
        kind="lend-grain",
        title="Lend grain",
        summary="Gives the shot, or a region of it, the grain of another place: adds what is missing, reduces what is too much.",
        version=1,
        settings=LendGrainSettings,
        analyse=analyse,
        load=GrainPlan.load,
        learns_from="frames",
        learns_within=True,
        repeats=True,
        old_names=("match-grain",),
    ),
)
