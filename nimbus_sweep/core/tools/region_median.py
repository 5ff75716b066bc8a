"""A speck filter for a region: what departs from the median of its surroundings gives way to it.

The median of a square window (Tukey 1977); only samples that depart from it by more than the threshold are
replaced, so that all others stay the source's own.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from functools import partial
from pathlib import Path
from typing import Literal

import cv2
import numpy as np
from numpy.lib.stride_tricks import sliding_window_view
from numpy.typing import NDArray
from pydantic import BaseModel, ConfigDict, Field

from ..media.frames import Component, Frame, FrameSource, PictureFormat, Samples, Window, as_numbers
from ..media.mark_ways import InEveryFrame, MarkWay
from ..media.per_frame import FrameByFrame
from ..model.kinds import StepKind
from ..model.regions import Masked
from .stored_settings import keep, kept

# Samples whose windows are sorted at a time.
_AT_ONCE = 4_000_000


class RegionMedianSettings(BaseModel):
    """How large specks are, and how far they must stand out."""

    model_config = ConfigDict(frozen=True, extra="forbid")

    radius: int = Field(default=3, ge=1, le=25, description="of the window, in pixels: specks narrower than it go")
    threshold: float = Field(default=0.04, ge=0, le=1, description="departure from the median, of full range, that is replaced")
    takes: Literal["both", "dark", "light"] = Field(default="both", description="which departures are replaced")


@dataclass(frozen=True)
class MedianPlan(InEveryFrame):
    """All there is to know: the settings, and the pictures they are for."""

    layout: PictureFormat
    settings: RegionMedianSettings

    def save(self, path: Path) -> None:
        """Write the plan to `path`, whole or not at all."""
        keep(path, self.layout, settings=self.settings.model_dump(mode="json"))

    @classmethod
    def load(cls, path: Path) -> MedianPlan:
        """Read a plan written by `save`."""
        layout, values = kept(path)
        return cls(layout, RegionMedianSettings.model_validate(values["settings"]))

    def touched(self) -> list[NDArray[np.int64]]:
        """For each component, the samples the step may rewrite: all, until a region narrows them."""
        return [np.arange(0 if c.name == "A" else c.height * c.width, dtype=np.int64) for c in self.layout.components]

    def ways(self, number: int) -> list[MarkWay]:
        """It is mended the same way everywhere."""
        return []

    def needs(self, window: Window) -> Window:
        """The part of the source's pictures that a part of the treated ones is made of."""
        room = max(self.layout.subsampling(i)[k] for i in range(len(self.layout.components)) for k in (0, 1))
        return window.grown(room * self.settings.radius, self.layout)

    def apply(self, source: FrameSource, first: int, stop: int, window: Window | None = None) -> FrameSource:
        """`source` with frames `first` to `stop` - 1 filtered, at least within `window`."""
        return FrameByFrame(source, partial(self.mend, window=window), first, stop)

    def mend(self, frame: Frame, window: Window | None = None) -> Frame:
        """A frame with what departs replaced."""
        if window is not None and (window.right <= window.left or window.bottom <= window.top):
            return frame
        mended = frame.copy()
        radius = self.settings.radius
        for i, component in enumerate(self.layout.components):
            if component.name == "A":
                continue
            whole = frame.component(i)
            rows, cols = (window or Window.of(self.layout)).cells(self.layout, i)
            top, left = max(0, rows.start - radius), max(0, cols.start - radius)
            part = whole[top : rows.stop + radius, left : cols.stop + radius]
            kept = _despecked(part, component, self.settings)
            mended.component(i)[rows, cols] = kept[rows.start - top :, cols.start - left :][
                : rows.stop - rows.start, : cols.stop - cols.start
            ]
        return mended


def _despecked(part: Samples, component: Component, settings: RegionMedianSettings) -> Samples:
    size = 2 * settings.radius + 1
    values = as_numbers(part)
    span = 1.0 if component.floating else float((1 << component.bits) - 1 << component.shift)
    # A coarse median in 8 bits leaves only few samples whose exact one has to be found.
    low, high = float(values.min()), float(values.max())
    step = max((high - low) / 255, 1e-12)
    coarse = np.rint((values - low) / step).astype(np.uint8)
    least = settings.threshold * span
    near = np.abs(coarse.astype(np.int16) - cv2.medianBlur(coarse, size)) + 2.0 >= least / step
    rows, cols = np.nonzero(near)
    result = part.copy()
    padded = np.pad(part, settings.radius, mode="edge")
    windows = sliding_window_view(padded, (size, size))
    for start in range(0, len(rows), max(1, _AT_ONCE // size**2)):
        at = rows[start : start + _AT_ONCE // size**2], cols[start : start + _AT_ONCE // size**2]
        around = windows[at].reshape(len(at[0]), -1)
        middle = np.partition(around, size * size // 2, axis=1)[:, size * size // 2]
        departs = part[at].astype(np.float64) - middle.astype(np.float64)
        gives_way = {"both": np.abs(departs), "dark": -departs, "light": departs}[settings.takes] > least
        result[at] = np.where(gives_way, middle, part[at])
    return result


def analyse(
    source: FrameSource,
    settings: RegionMedianSettings,
    on_progress: Callable[[float], None] | None = None,
    hold_out: Masked | None = None,
) -> MedianPlan:
    """Keep the settings: the filter looks at one frame at a time."""
    return MedianPlan(source.format, settings)


STEPS = (
    StepKind(
        kind="region-median",
        title="Region median",
        summary="A speck filter for a region: what differs from the median of its surroundings is replaced by it, in every frame.",
        version=1,
        settings=RegionMedianSettings,
        analyse=analyse,
        load=MedianPlan.load,
        learns_from="nothing",
        needs_region=True,
    ),
)
