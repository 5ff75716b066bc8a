"""One module for each kind of step; the registry below lists them in the order that works."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from dataclasses import dataclass
from pathlib import Path
from typing import Any, Literal, Protocol

import numpy as np
from numpy.typing import NDArray
from pydantic import BaseModel

from ..frames import FrameSource, Window
from ..regions import Masked
from ..survey.findings import Finding
from . import frame_blend, pixel_mend, region_median, steady, unshade
from .light_plan import LightPlan
from .ways import MarkWay


class Knowledge(Protocol):
    """What a step's analysis learned of a shot."""

    def save(self, path: Path) -> None:
        """Write it to `path`, whole or not at all."""
        ...

    def touched(self) -> list[NDArray[np.int64]]:
        """For each component of the format, the samples the step rewrites, numbered in row order."""
        ...

    def needs(self, window: Window) -> Window:
        """The part of the source's pictures that a part of the treated ones is made of."""
        ...

    def ways(self, number: int) -> list[MarkWay]:
        """How each mark the step mends is mended in a frame; none for a step that knows of no marks."""
        ...

    def apply(self, source: FrameSource, first: int, stop: int, window: Window | None = None) -> FrameSource:
        """`source` with the step put on frames `first` to `stop` - 1; outside `window` it need not be."""
        ...


def _as_they_are(settings: BaseModel, findings: Iterable[Finding]) -> BaseModel:
    """Settings that leave nothing to the survey."""
    return settings


@dataclass(frozen=True)
class StepKind:
    """A kind of step.

    Attributes
    ----------
    kind : str
        Its name in recipes and on the command line.
    title : str
        Its name on the screens.
    summary : str
        What it does, in one sentence.
    version : int
        Raised when its analysis changes, so that older analyses are not used again.
    settings : type
        The pydantic model that validates its settings everywhere.
    analyse : callable
        ``(material, settings, on_progress, hold_out)`` gives the knowledge.
    load : callable
        Reads knowledge back.
    settle : callable
        ``(settings, findings)`` fills in what was left to the survey.
    learns_from : str
        Its material: the time ``volume`` of the shot, the record of its ``light``; or ``nothing``: it is given the
        source, of which it reads no frame.
    needs_region : bool
        It acts nowhere until it has a region; others act on the whole picture without one.
    learns_within : bool
        It learns from its region alone, where it has one.
    repeats : bool
        It may be put on more than once: the second finds what the first leaves.
    """

    kind: str
    title: str
    summary: str
    version: int
    settings: type[BaseModel]
    analyse: Callable[[Any, Any, Callable[[float], None] | None, Masked | None], Knowledge]
    load: Callable[[Path], Knowledge]
    settle: Callable[[Any, Iterable[Finding]], BaseModel] = _as_they_are
    learns_from: Literal["volume", "light", "nothing"] = "volume"
    needs_region: bool = False
    learns_within: bool = False
    repeats: bool = False


STEPS: dict[str, StepKind] = {
    "steady-bands": StepKind(
        kind="steady-bands",
        title="Steady bands",
        summary="Divides out bands that roll through the picture: their spacing, their climb and their profile are measured.",
        version=2,
        settings=steady.SteadyBandsSettings,
        analyse=steady.analyse_bands,
        load=LightPlan.load,
        learns_from="light",
        learns_within=True,
        repeats=True,
    ),
    "steady-patches": StepKind(
        kind="steady-patches",
        title="Steady patches",
        summary="Divides out light that flickers in parts of the picture, as a coarse and smooth field of gains.",
        version=2,
        settings=steady.SteadyPatchesSettings,
        analyse=steady.analyse_patches,
        load=LightPlan.load,
        learns_from="light",
        learns_within=True,
        repeats=True,
    ),
    "steady-frame": StepKind(
        kind="steady-frame",
        title="Steady frame",
        summary="Divides out what makes the whole frame breathe, jump or go on and off; fades and lamps switched on stay.",
        version=2,
        settings=steady.SteadyFrameSettings,
        analyse=steady.analyse_frame,
        load=LightPlan.load,
        learns_from="light",
        learns_within=True,
        repeats=True,
    ),
    "frame-blend": StepKind(
        kind="frame-blend",
        title="Frame blend",
        summary="Averages each frame with its neighbours. It hides flicker and ghosts what moves: try the steps above first.",
        version=1,
        settings=frame_blend.FrameBlendSettings,
        analyse=frame_blend.analyse,
        load=frame_blend.BlendPlan.load,
        learns_from="nothing",
    ),
    "pixel-mend": StepKind(
        kind="pixel-mend",
        title="Pixel mend",
        summary="Makes up stuck and dead pixels from their surroundings, the same way in every frame.",
        version=1,
        settings=pixel_mend.PixelMendSettings,
        analyse=pixel_mend.analyse,
        load=pixel_mend.MendPlan.load,
        settle=pixel_mend.settle,
    ),
    "unshade": StepKind(
        kind="unshade",
        title="Unshade",
        summary="Takes sensor dust, hairs and lens dirt off: gives back the light they dim, borrows from other frames what they hide.",
        version=3,
        settings=unshade.UnshadeSettings,
        analyse=unshade.analyse,
        load=unshade.ShadePlan.load,
        settle=unshade.settle,
    ),
    "region-median": StepKind(
        kind="region-median",
        title="Region median",
        summary="A speck filter for a region: what departs from the median of its surroundings gives way to it, in every frame alike.",
        version=1,
        settings=region_median.RegionMedianSettings,
        analyse=region_median.analyse,
        load=region_median.MedianPlan.load,
        learns_from="nothing",
        needs_region=True,
    ),
}
