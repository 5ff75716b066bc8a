"""The toy in the registry: finding white squares, and filling them from their left and right."""

from __future__ import annotations

import json
from collections.abc import Iterable
from dataclasses import dataclass
from functools import partial
from pathlib import Path

import numpy as np
from numpy.typing import NDArray
from pydantic import BaseModel, ConfigDict

from nimbus_sweep.core.base.files import atomic_write
from nimbus_sweep.core.evidence.shot_evidence import ShotEvidence
from nimbus_sweep.core.evidence.time_volume import TimeVolume
from nimbus_sweep.core.media.frames import Frame, FrameSource, PictureFormat, Window
from nimbus_sweep.core.media.mark_ways import InEveryFrame, MarkWay
from nimbus_sweep.core.media.per_frame import FrameByFrame
from nimbus_sweep.core.model.findings import Evidence, Finding, Surveyed
from nimbus_sweep.core.model.kinds import DefectKind, Progress, StepKind
from nimbus_sweep.core.model.regions import Masked

Box = tuple[int, int, int, int]


class SquareEvidence(Evidence):
    """Evidence of a white square: its mean level over all frames, in 8-bit codes."""

    level: float = 0.0


def detect(evidence: ShotEvidence, on_progress: Progress | None, hold_out: Masked | None) -> Surveyed:
    """Find the square that is white in every frame."""
    luma = evidence.volume.component_stack(0).astype(np.float32) / evidence.volume.format.components[0].code
    white = (luma > 230).all(0)
    if hold_out is not None:
        white &= hold_out.mask(white.shape) < 0.5
    if on_progress:
        on_progress(1.0)
    rows, cols = np.flatnonzero(white.any(1)), np.flatnonzero(white.any(0))
    if white.sum() < 9:
        return Surveyed([])
    x, y, width, height = int(cols[0]), int(rows[0]), int(np.ptp(cols)) + 1, int(np.ptp(rows)) + 1
    told = SquareEvidence(level=round(float(luma[:, white].mean()), 1))
    place = {"x": x, "y": y, "width": width, "height": height, "first": evidence.first, "stop": evidence.stop}
    return Surveyed([Finding(kind="white-square", step="square-fill", **place, confidence=0.9, evidence=told)])


class SquareFillSettings(BaseModel):
    """Which squares are filled; none named means those that the survey of the shot finds."""

    model_config = ConfigDict(frozen=True, extra="forbid")

    boxes: tuple[Box, ...] | None = None


def resolve(settings: SquareFillSettings, findings: Iterable[Finding]) -> SquareFillSettings:
    """Name the squares that were found, if none are named."""
    if settings.boxes is not None:
        return settings
    return SquareFillSettings(boxes=tuple((f.x, f.y, f.width, f.height) for f in findings if f.step == "square-fill"))


def acts_on(settings: SquareFillSettings, finding: Finding) -> bool:
    """Whether settings name a finding's square."""
    return (finding.x, finding.y, finding.width, finding.height) in (settings.boxes or ())


@dataclass(frozen=True)
class SquarePlan(InEveryFrame):
    """The squares of a shot, and the pictures they are on."""

    layout: PictureFormat
    boxes: tuple[Box, ...]

    def save(self, path: Path) -> None:
        """Write it whole or not at all."""
        with atomic_write(path) as stream:
            stream.write(json.dumps({"layout": self.layout.as_json(), "boxes": self.boxes}).encode())

    @classmethod
    def load(cls, path: Path) -> SquarePlan:
        """Read one written by `save`."""
        told = json.loads(path.read_bytes())
        return cls(PictureFormat.from_json(told["layout"]), tuple(tuple(box) for box in told["boxes"]))

    def touched(self) -> list[NDArray[np.int64]]:
        """The samples inside, of the first component alone."""
        first = self.layout.components[0]
        mask = np.zeros((first.height, first.width), bool)
        for x, y, width, height in self.boxes:
            mask[y : y + height, x : x + width] = True
        return [np.flatnonzero(mask), *(np.zeros(0, np.int64) for _ in self.layout.components[1:])]

    def needs(self, window: Window) -> Window:
        """Whole pictures."""
        return Window.of(self.layout)

    def ways(self, number: int) -> list[MarkWay]:
        """Every square is made up from its surroundings."""
        return [MarkWay(Window(x, y, x + w, y + h), "surround", (), "") for x, y, w, h in self.boxes]

    def apply(self, source: FrameSource, first: int, stop: int, window: Window | None = None) -> FrameSource:
        """`source` with the squares filled."""
        return FrameByFrame(source, self.mend, first, stop)

    def mend(self, frame: Frame) -> Frame:
        """A frame with the squares filled from left to right."""
        mended = frame.copy()
        luma = mended.component(0)
        for x, y, width, height in self.boxes:
            left, right = luma[y : y + height, max(0, x - 1)], luma[y : y + height, min(luma.shape[1] - 1, x + width)]
            share = (np.arange(width) + 1) / (width + 1)
            luma[y : y + height, x : x + width] = np.rint(left[:, None] * (1 - share) + right[:, None] * share).astype(luma.dtype)
        return mended


def analyse(volume: TimeVolume, settings: SquareFillSettings, on_progress: Progress | None, hold_out: Masked | None) -> SquarePlan:
    """Keep the squares."""
    return SquarePlan(volume.format, settings.boxes or ())


STEPS = (
    StepKind(
        kind="square-fill",
        title="Square fill",
        summary="Fills white squares from their left and right.",
        version=1,
        settings=SquareFillSettings,
        analyse=analyse,
        load=SquarePlan.load,
        resolve=resolve,
        acts_on=acts_on,
        shot_settings=("boxes",),
    ),
)
DEFECTS = (
    DefectKind(
        kind="white-square",
        title="White squares",
        steps=("square-fill",),
        detect=partial(detect),
        evidence=SquareEvidence,
        drawn="box",
    ),
)
