"""The report of a treatment: what was read, what was done, and which samples it was allowed to touch."""

from __future__ import annotations

import base64
import zlib
from collections.abc import Sequence
from datetime import UTC, datetime
from typing import Any, Literal

import numpy as np
from numpy.typing import NDArray
from pydantic import BaseModel, ConfigDict, ValidationError

from .. import __version__
from .errors import SweepError
from .frames import PictureFormat
from .steps import Knowledge
from .treatment import Recipe


class ReportedRegion(BaseModel):
    """The samples of one component that the treatment may touch, in frames `first` to `stop` - 1."""

    model_config = ConfigDict(frozen=True)

    component: str
    first: int
    stop: int
    samples: int
    places: str

    @classmethod
    def of(cls, component: str, first: int, stop: int, places: NDArray[np.int64]) -> ReportedRegion:
        """Pack sample numbers in row order as differences, deflated, in base 64."""
        packed = zlib.compress(np.diff(places, prepend=0).astype("<i8").tobytes(), 9)
        return cls(component=component, first=first, stop=stop, samples=len(places), places=base64.b64encode(packed).decode())

    def unpacked(self) -> NDArray[np.int64]:
        """The sample numbers."""
        return np.cumsum(np.frombuffer(zlib.decompress(base64.b64decode(self.places)), "<i8")).astype(np.int64)


class Report(BaseModel):
    """What was done to a reel."""

    model_config = ConfigDict(frozen=True)

    format: Literal["nimbus-sweep report"] = "nimbus-sweep report"
    version: Literal[1] = 1
    made_by: str = f"Nimbus Sweep {__version__}"
    made_at: str
    reel: str
    fingerprint: str
    frames: int
    missing: int = 0
    first: int
    stop: int
    recipe: Recipe
    findings: tuple[dict[str, Any], ...] = ()
    regions: tuple[ReportedRegion, ...] = ()


def make_report(
    reel: str,
    fingerprint: str,
    frames: int,
    missing: int,
    shot: tuple[int, int],
    recipe: Recipe,
    findings: Sequence[dict[str, Any]],
    layout: PictureFormat,
    knowledge: Sequence[Knowledge],
) -> Report:
    """The report of a treatment that is about to be rendered."""
    regions = []
    for i, component in enumerate(layout.components):
        touched = [known.touched()[i] for known in knowledge]
        places = np.unique(np.concatenate(touched)) if touched else np.zeros(0, np.int64)
        if len(places):
            regions.append(ReportedRegion.of(component.name, *shot, places))
    return Report(
        made_at=datetime.now(UTC).isoformat(timespec="seconds"),
        reel=reel,
        fingerprint=fingerprint,
        frames=frames,
        missing=missing,
        first=shot[0],
        stop=shot[1],
        recipe=recipe,
        findings=tuple(findings),
        regions=tuple(regions),
    )


def read_report(text: str) -> Report:
    """Read a report's JSON; raises SweepError if it is none."""
    try:
        return Report.model_validate_json(text)
    except ValidationError as error:
        raise SweepError("The report that came with the file cannot be read. Give the report file by hand.") from error
