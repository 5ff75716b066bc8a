"""Crops and enlarges to hide ragged edges, and lets a track stand still: always last, for it makes every sample anew."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, field, replace
from pathlib import Path

import cv2
import numpy as np
from numpy.typing import NDArray
from pydantic import BaseModel, ConfigDict, Field

from ..base.errors import SweepError
from ..media.frames import Frame, FrameSource, PictureFormat, Window
from ..media.mark_ways import MarkWay
from ..media.per_frame import FrameByFrame
from ..model.kinds import StepKind
from ..model.planes import Matrix
from ..model.regions import Masked
from ..model.tracks import Track, track_named
from .stored_settings import keep, kept

# Least share of the picture that must be left each way.
_LEAST = 0.1


class ReframeSettings(BaseModel):
    """What is cut off, in pixels of the picture, and which track stands still."""

    model_config = ConfigDict(frozen=True, extra="forbid")

    left: float = Field(default=0.0, ge=0, le=20_000)
    top: float = Field(default=0.0, ge=0, le=20_000)
    right: float = Field(default=0.0, ge=0, le=20_000)
    bottom: float = Field(default=0.0, ge=0, le=20_000)
    track: str = Field(default="", max_length=60, description="the track that is made to stand still")


@dataclass(frozen=True)
class ReframePlan:
    """How pictures are cut and enlarged.

    Attributes
    ----------
    layout : PictureFormat
    settings : ReframeSettings
    tracks : tuple of Track
        Those of the shot.
    """

    layout: PictureFormat
    settings: ReframeSettings = field(default_factory=ReframeSettings)
    tracks: tuple[Track, ...] = ()

    def save(self, path: Path) -> None:
        """Write the plan to `path`, whole or not at all; the tracks are no part of it."""
        keep(path, self.layout, settings=self.settings.model_dump(mode="json"))

    @classmethod
    def load(cls, path: Path) -> ReframePlan:
        """Read a plan written by `save`."""
        layout, values = kept(path)
        return cls(layout, ReframeSettings.model_validate(values["settings"]))

    def on(self, tracks: tuple[Track, ...]) -> ReframePlan:
        """The plan with the tracks of the shot."""
        return replace(self, tracks=tracks)

    @property
    def changes_nothing(self) -> bool:
        """Whether every picture stays as it is."""
        s = self.settings
        return not (s.left or s.top or s.right or s.bottom or s.track)

    def cut(self) -> Matrix:
        """From a place on the new picture to its place on the old one: what is left, enlarged evenly until it fills the picture.

        Raises
        ------
        SweepError
            If nothing worth showing would be left.
        """
        s, width, height = self.settings, self.layout.width, self.layout.height
        wide, tall = width - s.left - s.right, height - s.top - s.bottom
        if wide < _LEAST * width or tall < _LEAST * height:
            raise SweepError("Too little of the picture would be left. Cut off less on one of the sides.")
        scale = min(wide / width, tall / height)
        # Of what is left, the middle: the shape of the picture stays.
        left, top = s.left + (wide - scale * width) / 2, s.top + (tall - scale * height) / 2
        return np.array([[scale, 0, left + (scale - 1) / 2], [0, scale, top + (scale - 1) / 2], [0, 0, 1]], np.float64)

    def touched(self) -> list[NDArray[np.int64]]:
        """Every sample, unless nothing is cut."""
        if self.changes_nothing:
            return [np.zeros(0, np.int64) for _ in self.layout.components]
        return [np.arange(c.width * c.height, dtype=np.int64) for c in self.layout.components]

    def touched_in(self) -> Mapping[int, list[NDArray[np.int64]]]:
        """None besides."""
        return {}

    def ways(self, number: int) -> list[MarkWay]:
        """None: it mends no mark."""
        return []

    def needs(self, window: Window) -> Window:
        """The part of the source's pictures that a part of the treated ones is made of: any."""
        return Window.of(self.layout)

    def apply(self, source: FrameSource, first: int, stop: int, window: Window | None = None) -> FrameSource:
        """`source` cut and enlarged in frames `first` to `stop` - 1."""
        return FrameByFrame(source, self.mend, first, stop)

    def mend(self, frame: Frame) -> Frame:
        """A frame, cut and enlarged (Lanczos over eight samples, after Lanczos 1956; Duchon 1979)."""
        if self.changes_nothing:
            return frame
        way = self.cut()
        if self.settings.track:
            way = track_named(self.tracks, self.settings.track).way(frame.number) @ way
        made = frame.copy()
        for i, component in enumerate(self.layout.components):
            across, down = self.layout.subsampling(i)
            # Middles of samples lie between pixels where several pixels share one.
            to_pixels = np.array([[across, 0, (across - 1) / 2], [0, down, (down - 1) / 2], [0, 0, 1]], np.float64)
            to_samples = np.linalg.inv(to_pixels) @ way @ to_pixels
            plane = frame.component(i).astype(np.float32)
            how = cv2.INTER_LANCZOS4 | cv2.WARP_INVERSE_MAP
            warped = cv2.warpPerspective(plane, to_samples, (component.width, component.height), flags=how, borderMode=cv2.BORDER_REPLICATE)
            target = made.component(i)
            target[:] = component.samples(warped.astype(np.float64), target.dtype)
        return made


def analyse(
    source: FrameSource,
    settings: ReframeSettings,
    on_progress: Callable[[float], None] | None = None,
    hold_out: Masked | None = None,
) -> ReframePlan:
    """Nothing has to be learned but the layout of the pictures.

    Raises
    ------
    SweepError
        If too little of the picture would be left.
    """
    plan = ReframePlan(source.format, settings)
    plan.cut()
    return plan


STEPS = (
    StepKind(
        kind="reframe",
        title="Reframe",
        summary="Crops ragged edges and enlarges what is left; can stabilise on a track. It resamples the whole picture.",
        version=1,
        settings=ReframeSettings,
        analyse=analyse,
        load=ReframePlan.load,
        learns_from="nothing",
        select=lambda plan, _settings, tracks: plan.on(tracks),
        whole_picture=True,
    ),
)
