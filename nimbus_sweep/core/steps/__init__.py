"""One module for each kind of step; the registry below lists them in the order that works."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping
from dataclasses import dataclass
from pathlib import Path
from typing import Any, Literal, Protocol

import numpy as np
from numpy.typing import NDArray
from pydantic import BaseModel

from ..defects.cue_marks import repair as cue_lift
from ..defects.film_dirt import repair as speck_sweep
from ..defects.scratches import repair as line_lift
from ..defects.static_shade import repair as unshade
from ..defects.static_shade.shade_plan import ShadePlan, UnshadeSettings
from ..defects.stuck_pixels import repair as pixel_mend
from ..defects.transients import repair as fleeting
from ..defects.unsteady_light import repair as steady
from ..defects.unsteady_light.light_plan import LightPlan
from ..imaging.patches import PatchPlan
from ..media.frames import FrameSource, Window
from ..media.mark_ways import MarkWay
from ..regions import Masked
from ..survey.findings import Finding
from ..tools import borrow_fill, frame_blend, reframe, region_median, retouch
from ..tools import lend_grain as match_grain
from ..tools.plate_patch import settings as plate_settings
from ..tools.plate_patch import step as plate_patch
from ..tools.plate_patch.plate_plan import PlatePlan
from ..tracks import Track


class Knowledge(Protocol):
    """What a step's analysis learned of a shot."""

    def save(self, path: Path) -> None:
        """Write it to `path`, whole or not at all."""
        ...

    def touched(self) -> list[NDArray[np.int64]]:
        """For each component of the format, the samples the step rewrites, numbered in row order."""
        ...

    def touched_in(self) -> Mapping[int, list[NDArray[np.int64]]]:
        """For single frames, the samples of each component that are rewritten in them besides."""
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


def _whatever(knowledge: Knowledge, _settings: BaseModel, _tracks: tuple[Track, ...]) -> Knowledge:
    """Knowledge of which nothing is left to choose."""
    return knowledge


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
        Its material: the time ``volume`` of the shot, the record of its ``light``, its ``frames`` one after the other
        (`wear.span.Span`); or ``nothing``: it is given the source, of which it reads no frame.
    needs_region : bool
        It acts nowhere until it has a region; others act on the whole picture without one.
    learns_within : bool
        It learns from its region alone, where it has one.
    choose : callable
        ``(knowledge, settings, tracks)`` gives the knowledge as the settings that only choose, and the shot's tracks, want it.
    chooses : frozenset of str
        Those settings: no analysis depends on them.
    slight : bool
        What its choosing settings change is too little for the analyses of later steps to depend on.
    asked_for : bool
        The survey names what it is for, but never suggests it: the user has to ask for it.
    whole : bool
        It acts on the whole picture; a region has no meaning for it.
    repeats : bool
        It may be put on more than once: the second finds what the first leaves.
    own : tuple of str
        Settings that are of the shot's own frames: on another shot they have to be chosen, or found, anew.
    """

    kind: str
    title: str
    summary: str
    version: int
    settings: type[BaseModel]
    analyse: Callable[[Any, Any, Callable[[float], None] | None, Masked | None], Knowledge]
    load: Callable[[Path], Knowledge]
    settle: Callable[[Any, Iterable[Finding]], BaseModel] = _as_they_are
    learns_from: Literal["volume", "light", "frames", "nothing"] = "volume"
    needs_region: bool = False
    learns_within: bool = False
    choose: Callable[[Any, Any, tuple[Track, ...]], Knowledge] = _whatever
    chooses: frozenset[str] = frozenset()
    slight: bool = False
    asked_for: bool = False
    whole: bool = False
    repeats: bool = False
    own: tuple[str, ...] = ()

    @property
    def leaves_nothing(self) -> bool:
        """Whether its settings leave nothing to the survey."""
        return self.settle is _as_they_are


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
        own=("sites",),
    ),
    "unshade": StepKind(
        kind="unshade",
        title="Unshade",
        summary="Takes sensor dust, hairs and lens dirt off: gives back the light they dim, borrows from other frames what they hide.",
        version=3,
        settings=UnshadeSettings,
        analyse=unshade.analyse,
        load=ShadePlan.load,
        settle=unshade.settle,
        own=("marks",),
    ),
    "speck-sweep": StepKind(
        kind="speck-sweep",
        title="Speck sweep",
        summary="Takes off specks and hairs that live for a frame or two: each is filled from the frames beside it, along the motion.",
        version=1,
        settings=speck_sweep.SpeckSweepSettings,
        analyse=speck_sweep.analyse,
        load=PatchPlan.load,
        learns_from="frames",
        choose=lambda plan, settings, _tracks: plan.chosen(settings.chosen),
        chooses=speck_sweep.CHOOSES,
        own=("left",),
    ),
    "line-lift": StepKind(
        kind="line-lift",
        title="Line lift",
        summary="Takes scratches off: follows each through its frames and undoes what it lays over the picture; fills across what it hides.",
        version=1,
        settings=line_lift.LineLiftSettings,
        analyse=line_lift.analyse,
        load=PatchPlan.load,
        settle=line_lift.settle,
        own=("lines",),
        learns_from="frames",
    ),
    "cue-lift": StepKind(
        kind="cue-lift",
        title="Cue lift",
        summary="Takes cue marks off: each frame that has one is aligned by itself to the clean frames beside, and only the mark is replaced.",
        version=1,
        settings=cue_lift.CueLiftSettings,
        analyse=cue_lift.analyse,
        load=PatchPlan.load,
        settle=cue_lift.settle,
        own=("marks", "nudges"),
        learns_from="frames",
    ),
    "fleeting": StepKind(
        kind="fleeting",
        title="Fleeting",
        summary="Takes off what crosses in a few frames, such as birds: keeps the lighter, the darker or the middle of the frames beside.",
        version=1,
        settings=fleeting.FleetingSettings,
        analyse=fleeting.analyse,
        load=PatchPlan.load,
        learns_from="frames",
        learns_within=True,
        asked_for=True,
        repeats=True,
        own=("first", "stop"),
    ),
    "borrow-fill": StepKind(
        kind="borrow-fill",
        title="Borrow fill",
        summary="Fills a drawn region, frame by frame, from the frames before and behind: burns, holes and splices that grow and move.",
        version=1,
        settings=borrow_fill.BorrowFillSettings,
        analyse=borrow_fill.analyse,
        load=PatchPlan.load,
        learns_from="frames",
        needs_region=True,
        learns_within=True,
        repeats=True,
        own=("first", "stop"),
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
    "plate-patch": StepKind(
        kind="plate-patch",
        title="Plate patch",
        summary="Puts a clean picture of a flat part of the scene over what disturbs it, along its track, in the light of each frame.",
        version=2,
        settings=plate_settings.PlatePatchSettings,
        analyse=plate_patch.analyse,
        load=PlatePlan.load,
        own=("plates", "touches"),
        choose=lambda plan, settings, _tracks: plan.with_touches(settings),
        chooses=plate_settings.CHOOSES,
        learns_from="frames",
        needs_region=True,
        learns_within=True,
        repeats=True,
    ),
    "retouch": StepKind(
        kind="retouch",
        title="Retouch",
        summary="Brush strokes by hand, frame by frame: from an offset, or from another frame laid on this one along the motion.",
        version=1,
        settings=retouch.RetouchSettings,
        analyse=retouch.analyse,
        load=retouch.RetouchPlan.load,
        learns_from="nothing",
        choose=lambda plan, settings, _tracks: plan.with_strokes(settings),
        chooses=retouch.CHOOSES,
        slight=True,
    ),
    "match-grain": StepKind(
        kind="match-grain",
        title="Match grain",
        summary="Gives the shot, or a region of it, the grain of another place: adds what lacks, calms what is too much.",
        version=1,
        settings=match_grain.MatchGrainSettings,
        analyse=match_grain.analyse,
        load=match_grain.GrainPlan.load,
        learns_from="frames",
        learns_within=True,
        repeats=True,
    ),
    "reframe": StepKind(
        kind="reframe",
        title="Reframe",
        summary="Cuts ragged edges off and enlarges what is left; lets a track stand still. It makes every sample anew.",
        version=1,
        settings=reframe.ReframeSettings,
        analyse=reframe.analyse,
        load=reframe.ReframePlan.load,
        learns_from="nothing",
        choose=lambda plan, _settings, tracks: plan.on(tracks),
        whole=True,
    ),
}
