"""What a kind of step and a kind of defect are: all that the rest of the application knows of one."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Any, Literal, Protocol, runtime_checkable

import numpy as np
from numpy.typing import NDArray
from pydantic import BaseModel

if TYPE_CHECKING:
    from ..evidence.moments import Watch
    from ..evidence.shot_evidence import ShotEvidence
    from ..evidence.time_volume import TimeVolume
    from ..media.frames import FrameSource, Window
    from ..media.mark_ways import MarkWay
    from .findings import Evidence, Finding, Surveyed
    from .regions import Masked
    from .shapes import Shape
    from .tracks import Track

Progress = Callable[[float], None]


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


@runtime_checkable
class SeesOriginal(Protocol):
    """Knowledge that also takes from the reel's own pictures, as they were before any step."""

    def with_original(self, original: FrameSource) -> Knowledge:
        """The knowledge with those pictures at hand."""
        ...


def _as_given(settings: BaseModel, findings: Iterable[Finding]) -> BaseModel:
    """Settings that leave nothing to the survey."""
    return settings


def _all_of_it(knowledge: Knowledge, _settings: BaseModel, _tracks: tuple[Track, ...]) -> Knowledge:
    """Knowledge of which nothing is left to select."""
    return knowledge


def _any_of_its_step(_settings: Any, _finding: Finding) -> bool:
    """A step that names no findings acts on all that it is for."""
    return True


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
    resolve : callable
        ``(settings, findings)`` names the findings that were left to the survey.
    acts_on : callable
        ``(settings, finding)`` tells whether resolved settings, as plain values, name a finding of this step.
    learns_from : str
        Its material: the time ``volume`` of the shot, the record of its ``light``, its ``frames`` one after the other
        (`evidence.frames_at_hand.Span`); or ``nothing``: it is given the source, of which it reads no frame.
    needs_region : bool
        It acts nowhere until it has a region; others act on the whole picture without one.
    learns_within : bool
        It learns from its region alone, where it has one.
    select : callable
        ``(knowledge, settings, tracks)`` gives the part of the knowledge that the selecting settings, and the shot's tracks, ask for.
    selection_settings : frozenset of str
        Those settings: no analysis depends on them.
    selection_is_negligible : bool
        What they change is too little for the analyses of later steps to depend on.
    asked_for : bool
        The survey names what it is for, but never suggests it: the user has to ask for it.
    whole_picture : bool
        It acts on the whole picture; a region has no meaning for it.
    repeats : bool
        It may be put on more than once: the second finds what the first leaves.
    shot_settings : tuple of str
        Settings that belong to the shot's own frames: on another shot they have to be chosen, or found, anew.
    make_portable : callable or None
        ``(settings)`` gives settings for any shot, where resetting `shot_settings` is not enough.
    stays : bool
        It belongs to the shot's own frames altogether: it is neither saved in a recipe for others nor replaced by one.
    hidden_settings : frozenset of str
        Settings that say nothing to a reader.
    old_names : tuple of str
        Its names in earlier versions.
    """

    kind: str
    title: str
    summary: str
    version: int
    settings: type[BaseModel]
    analyse: Callable[[Any, Any, Progress | None, Masked | None], Knowledge]
    load: Callable[[Path], Knowledge]
    resolve: Callable[[Any, Iterable[Finding]], BaseModel] = _as_given
    acts_on: Callable[[Any, Finding], bool] = _any_of_its_step
    learns_from: Literal["volume", "light", "frames", "nothing"] = "volume"
    needs_region: bool = False
    learns_within: bool = False
    select: Callable[[Any, Any, tuple[Track, ...]], Knowledge] = _all_of_it
    selection_settings: frozenset[str] = frozenset()
    selection_is_negligible: bool = False
    asked_for: bool = False
    whole_picture: bool = False
    repeats: bool = False
    shot_settings: tuple[str, ...] = ()
    make_portable: Callable[[Any], BaseModel] | None = None
    stays: bool = False
    hidden_settings: frozenset[str] = frozenset()
    old_names: tuple[str, ...] = ()

    @property
    def needs_findings(self) -> bool:
        """Whether its settings may leave to the survey what it acts on."""
        return self.resolve is not _as_given

    def portable(self, settings: BaseModel) -> BaseModel:
        """Settings as they may be put on any shot: what belongs to the shot's own frames is as it was before it was chosen."""
        if self.make_portable is not None:
            return self.make_portable(settings)
        fields = self.settings.model_fields
        return settings.model_copy(update={name: fields[name].get_default() for name in self.shot_settings})

    def for_other_shot(self, settings: BaseModel) -> BaseModel | None:
        """Settings for another shot that gets this treatment; None when the step stays where it is."""
        return None if self.stays else self.portable(settings)

    def describe(self, settings: BaseModel) -> list[tuple[str, Any]]:
        """What each setting means, beside its value; those that are not set are left out."""
        described = []
        for name, field in self.settings.model_fields.items():
            value = getattr(settings, name)
            if name not in self.hidden_settings and value is not None and value != [] and value != ():
                described.append((field.description or name.replace("_", " "), value))
        return described


def _overlap(one: Finding, other: Finding) -> bool:
    """Whether two findings may be of the same defect by where they lie."""
    across = min(one.x + one.width, other.x + other.width) - max(one.x, other.x)
    down = min(one.y + one.height, other.y + other.height) - max(one.y, other.y)
    return across > -_MOVED and down > -_MOVED


# Pixels that a place may have moved between two surveys.
_MOVED = 6


def _proves_nothing(_finding: Finding) -> bool:
    return False


def _claims_nothing(_finding: Finding, _other: Finding) -> bool:
    return False


@dataclass(frozen=True)
class DefectKind:
    """A kind of defect.

    Attributes
    ----------
    kind : str
        Its name in findings.
    title : str
        What its findings are called together.
    steps : tuple of str
        Kinds of step that mend it; a finding names the one that suits.
    evidence : type
        The model of what a finding rests on.
    detect : callable or None
        ``(evidence, on_progress, hold_out)`` finds it in a shot, all at once.
    watch : callable or None
        ``(evidence, hold_out)`` gives what finds it while the frames of the shot go by, one after the other: one pass serves all kinds
        that have one instead of `detect`.
    takes : float
        About how long `detect` takes, in frames of that pass, for a long shot as for a short one: progress is told by it.
    takes_a_frame : float
        The same for each frame of the shot, on top.
    needs : str
        Without this part of the evidence it is not looked for: the ``volume``, the ``light`` or the ``frames``.
    drawn : str
        How a finding is marked on the picture: as a ``point``, round its ``box``, along its ``outline``, as a ``path`` down the
        picture, or not at all, as it is of the whole ``frame``.
    on_camera : bool
        It lies on the sensor or the lens, at one place in all frames.
    place : callable or None
        ``(volume, x, y, radius, first, stop)`` makes a finding of what the user points at, snapped to the worst place so near.
    outline : callable or None
        ``(shape, size, frame, first, stop)`` makes a finding of what the user drew a line round in a frame, on pictures of a height and width.
    choices : frozenset of str
        Fields of the evidence that the user may set.
    share : callable or None
        ``(volume, others, known, first, stop)`` looks in a shot for what findings of other shots, each with its shot's name, are proven
        by: what lies on one camera is in all its shots. `known` is what was found in this shot.
    proves : callable
        ``(finding)`` tells whether other shots can be looked through for it.
    claims : callable
        ``(finding, other)`` tells whether a finding of this kind explains one of another kind, which is then left out.
    same : callable
        ``(one, other)`` tells whether two findings of this kind, of two surveys, may be of the same defect; they share some frames.
    old_names : tuple of str
        Its names in earlier versions.
    """

    kind: str
    title: str
    steps: tuple[str, ...]
    evidence: type[Evidence]
    detect: Callable[[ShotEvidence, Progress | None, Masked | None], Surveyed] | None = None
    watch: Callable[[ShotEvidence, Masked | None], Watch] | None = None
    takes: float = 10.0
    takes_a_frame: float = 0.0
    needs: Literal["volume", "light", "frames"] = "volume"
    drawn: Literal["point", "box", "outline", "path", "frame"] = "box"
    on_camera: bool = False
    place: Callable[[TimeVolume, int, int, int, int, int], Finding] | None = None
    outline: Callable[[Shape, tuple[int, int], int, int, int], Finding] | None = None
    choices: frozenset[str] = frozenset()
    share: Callable[[TimeVolume, Sequence[tuple[str, Finding]], Sequence[Finding], int, int], list[Finding]] | None = None
    proves: Callable[[Finding], bool] = _proves_nothing
    claims: Callable[[Finding, Finding], bool] = _claims_nothing
    same: Callable[[Finding, Finding], bool] = _overlap
    old_names: tuple[str, ...] = ()
