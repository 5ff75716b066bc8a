"""The papers of a reel as plain values: what its condition was, and what was done, with settings, figures and fingerprints."""

from __future__ import annotations

import platform
from datetime import UTC, datetime
from importlib.metadata import version
from typing import Any, Literal

import av
from pydantic import BaseModel, ConfigDict, Field

from ... import __version__

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


class ShotTreatment(_Plain):
    """What was done to a shot."""

    number: int
    name: str
    enter: int
    leave: int
    use: str
    steps: tuple[TreatedStep, ...] = ()
    tracks: tuple[str, ...] = ()
    check: dict[str, Any] | None = None
    verdict: str = ""
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
    proof: dict[str, Any] | None = None
    recipes: tuple[dict[str, Any], ...] = Field(default=(), description="of the treated shots, as they were put on")


def versions() -> dict[str, str]:
    """What computed: the application, the language and the libraries that figures may depend on."""
    media = {name: ".".join(map(str, numbers)) for name, numbers in sorted(av.library_versions.items())}
    return {"nimbus-sweep": __version__, "python": platform.python_version()} | {name: version(name) for name in _LIBRARIES} | media


def now() -> str:
    """The time as the papers tell it."""
    return datetime.now(UTC).isoformat(timespec="seconds")
