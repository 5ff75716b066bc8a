"""The papers of a reel as plain values: what its condition was, and what was done, with settings, figures and fingerprints."""

from __future__ import annotations

import platform
from datetime import UTC, datetime
from importlib.metadata import version
from typing import Literal

import av
from pydantic import BaseModel, ConfigDict, Field

from ... import __version__
from ..model.recipes import Recipe
from ..pipeline.comparison import Comparison
from ..pipeline.known_truth import MarkTruth

_LIBRARIES = ("numpy", "opencv-python-headless", "scipy", "av")


class _Plain(BaseModel):
    model_config = ConfigDict(frozen=True)


class Head(_Plain):
    """What both papers begin with."""

    made_at: str
    made_by: str
    versions: dict[str, str]
    job: str
    reference: str = ""
    reel: str
    file: str
    sha256: str
    bytes: int
    frames: int
    missing: int = 0
    facts: dict[str, str]


class ReportedFinding(_Plain):
    """A finding as the papers tell it."""

    number: int
    kind: str
    title: str
    sentence: str
    x: int
    y: int
    width: int
    height: int
    first: int
    last: int
    confidence: float
    by_hand: bool
    state: str
    step: str


class ShotCondition(_Plain):
    """The condition of a shot."""

    number: int
    name: str
    first: int
    last: int
    enter: int
    leave: int
    use: str
    surveyed: float | None
    notes: tuple[str, ...] = ()
    findings: tuple[ReportedFinding, ...] = ()


class ConditionReport(_Plain):
    """What was found on a reel."""

    format: Literal["nimbus-sweep condition report"] = "nimbus-sweep condition report"
    version: Literal[1] = 1
    head: Head
    shots: tuple[ShotCondition, ...] = ()


class TreatedStep(_Plain):
    """A step as it was put on."""

    number: int
    kind: str
    title: str
    summary: str
    on: bool
    settings: dict[str, str]
    where: str
    kept_out: str
    acts_on: int | None = None
    could_not: tuple[str, ...] = ()


class ReportedPlace(_Plain):
    """A repaired place that departs from its surroundings, and why it is named."""

    frame: int
    x: int
    y: int
    width: int
    height: int
    why: str


class ReportedOutcome(_Plain):
    """What became of a finding, in words."""

    outcome: str
    title: str
    before: str
    now: str
    x: int
    y: int
    width: int
    height: int


class ReportedCheck(_Plain):
    """A check of a treated shot in words; `stale` for one of a treatment that was changed since."""

    frames: int
    changed_frames: int
    samples: int
    changed: int
    outside: int
    detail: float | None
    steadiness: float | None
    kept: float
    worst: tuple[ReportedPlace, ...] = ()
    left: tuple[ReportedOutcome, ...] = ()
    brought: tuple[ReportedOutcome, ...] = ()
    without: tuple[str, ...] = ()
    stale: bool = False
    ended: str = ""


class Proof(Comparison):
    """The delivery held against its source, and against the truth where that is known; `why_not` says in words what is amiss."""

    truth: tuple[MarkTruth, ...] = ()
    why_not: str = ""


class ShotTreatment(_Plain):
    """What was done to a shot."""

    number: int
    name: str
    enter: int
    leave: int
    use: str
    steps: tuple[TreatedStep, ...] = ()
    tracks: tuple[str, ...] = ()
    check: ReportedCheck | None = None
    verdict: str = ""
    judged_by: str = ""
    remark: str = ""
    could_not: tuple[str, ...] = ()


class DeliveredFile(_Plain):
    """A file of the delivery."""

    name: str
    sha256: str
    bytes: int
    frames: int


class TreatmentReport(_Plain):
    """What was done to a reel, and what came out."""

    format: Literal["nimbus-sweep treatment report"] = "nimbus-sweep treatment report"
    version: Literal[1] = 1
    head: Head
    shots: tuple[ShotTreatment, ...] = ()
    delivery: str = ""
    files: tuple[DeliveredFile, ...] = ()
    proof: Proof | None = None
    recipes: tuple[Recipe, ...] = Field(default=(), description="of the treated shots, as they were put on")


def versions() -> dict[str, str]:
    """What computed: the application, the language and the libraries that figures may depend on."""
    media = {name: ".".join(map(str, numbers)) for name, numbers in sorted(av.library_versions.items())}
    return {"nimbus-sweep": __version__, "python": platform.python_version()} | {name: version(name) for name in _LIBRARIES} | media


def now() -> str:
    """The time as the papers tell it."""
    return datetime.now(UTC).isoformat(timespec="seconds")
