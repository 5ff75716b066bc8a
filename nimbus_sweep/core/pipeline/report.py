"""The report of a treatment: what was read, what was done, and which samples it was allowed to touch."""

from __future__ import annotations

import base64
import zlib
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import UTC, datetime
from typing import Any, Literal

import numpy as np
from numpy.typing import NDArray
from pydantic import BaseModel, ConfigDict, ValidationError

from ... import __version__
from ..base.errors import SweepError
from ..media.reel import Reading, ReelReader
from ..media.repeats import Repeats
from ..media.writer import Cut
from ..model.kinds import Knowledge
from ..model.recipes import Recipe


def _packed(places: NDArray[np.int64]) -> str:
    return base64.b64encode(zlib.compress(np.diff(places, prepend=0).astype("<i8").tobytes(), 9)).decode()


def _unpacked(packed: str) -> NDArray[np.int64]:
    return np.cumsum(np.frombuffer(zlib.decompress(base64.b64decode(packed)), "<i8")).astype(np.int64)


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
        return cls(component=component, first=first, stop=stop, samples=len(places), places=_packed(places))

    def unpacked(self) -> NDArray[np.int64]:
        """The sample numbers."""
        return _unpacked(self.places)


class ReportedPatches(BaseModel):
    """The samples of one component that the treatment may touch in single frames, `first` to `stop` - 1.

    Sample `p` of frame `n`, of `of` samples a frame, is numbered ``(n - first) * of + p``.
    """

    model_config = ConfigDict(frozen=True)

    component: str
    first: int
    stop: int
    of: int
    samples: int
    places: str

    @classmethod
    def over(cls, component: str, first: int, stop: int, of: int, frames: Mapping[int, NDArray[np.int64]]) -> ReportedPatches:
        """Pack the samples of some frames."""
        inside = sorted(n for n in frames if first <= n < stop)
        places = np.concatenate([frames[n] + (n - first) * of for n in inside]) if inside else np.zeros(0, np.int64)
        return cls(component=component, first=first, stop=stop, of=of, samples=len(places), places=_packed(places))

    def unpacked(self) -> NDArray[np.int64]:
        """The numbers."""
        return _unpacked(self.places)


class ReportedShot(BaseModel):
    """What was done to one shot."""

    model_config = ConfigDict(frozen=True)

    name: str = ""
    first: int
    stop: int
    recipe: Recipe
    findings: tuple[dict[str, Any], ...] = ()


class Report(BaseModel):
    """What was done to a reel.

    Attributes
    ----------
    first, stop : int
        Frames of the reel that the delivery holds.
    left_out : str
        Repeated frames in that range which it leaves out, packed as the places of a region; empty when there are none.
    rate : str
        Frames a second of the delivery.
    """

    model_config = ConfigDict(frozen=True)

    format: Literal["nimbus-sweep report"] = "nimbus-sweep report"
    version: Literal[2, 3] = 3
    made_by: str = f"Nimbus Sweep {__version__}"
    made_at: str = ""
    reel: str
    fingerprint: str
    reading: Reading = Reading()
    time_code: str = ""
    frames: int
    missing: int = 0
    first: int
    stop: int
    left_out: str = ""
    rate: str = ""
    delivery: str = "ffv1"
    shots: tuple[ReportedShot, ...] = ()
    regions: tuple[ReportedRegion, ...] = ()
    patches: tuple[ReportedPatches, ...] = ()

    def numbers(self) -> NDArray[np.int64]:
        """The reel's numbers of the frames in the delivery."""
        numbers = np.arange(self.first, self.stop, dtype=np.int64)
        return np.setdiff1d(numbers, _unpacked(self.left_out)) if self.left_out else numbers


@dataclass(frozen=True)
class TreatedShot:
    """A shot as it is rendered: what it is called, the frames treated, its resolved recipe and what its steps know."""

    name: str
    first: int
    stop: int
    recipe: Recipe
    findings: Sequence[dict[str, Any]]
    knowledge: Sequence[Knowledge]


def make_report(
    reel: ReelReader,
    fingerprint: str,
    reading: Reading,
    cut: Cut,
    kind: str,
    shots: Sequence[TreatedShot],
    repeats: Repeats | None = None,
) -> Report:
    """The report of a treatment that is about to be rendered; what is done to a frame is done to those that repeat it."""
    representative = None if repeats is None else repeats.within((s.first, s.stop) for s in shots)
    regions, patches = [], []
    for shot in shots:
        single = [known.touched_in() for known in shot.knowledge]
        rewritten = sorted({n for told in single for n in told})
        for i, component in enumerate(reel.format.components):
            touched = [known.touched()[i] for known in shot.knowledge]
            places = np.unique(np.concatenate(touched)) if touched else np.zeros(0, np.int64)
            if len(places):
                regions.append(ReportedRegion.of(component.name, shot.first, shot.stop, places))
            once = {n: np.unique(np.concatenate([told[n][i] for told in single if n in told])) for n in rewritten}
            if any(len(p) for p in once.values()):
                first_of = range(len(reel)) if representative is None else representative
                frames = {n: once[int(first_of[n])] for n in range(shot.first, shot.stop) if int(first_of[n]) in once}
                patches.append(ReportedPatches.over(component.name, shot.first, shot.stop, component.width * component.height, frames))
    left_out = np.setdiff1d(np.arange(cut.first, cut.stop), np.asarray(cut.numbers)) if cut.numbers is not None else np.zeros(0, np.int64)
    return Report(
        made_at=datetime.now(UTC).isoformat(timespec="seconds"),
        reel=reel.path.name,
        fingerprint=fingerprint,
        reading=reading,
        time_code=reel.facts.time_code,
        frames=len(reel),
        missing=reel.missing,
        first=cut.first,
        stop=cut.stop,
        left_out=_packed(left_out.astype(np.int64)) if len(left_out) else "",
        rate=str(cut.rate or reel.rate),
        delivery=kind,
        shots=tuple(ReportedShot(name=s.name, first=s.first, stop=s.stop, recipe=s.recipe, findings=tuple(s.findings)) for s in shots),
        regions=tuple(regions),
        patches=tuple(patches),
    )


def read_report(text: str) -> Report:
    """Read a report's JSON; raises SweepError if it is none."""
    try:
        return Report.model_validate_json(text)
    except ValidationError as error:
        raise SweepError("The report that came with the file cannot be read. Give the report file by hand.") from error
