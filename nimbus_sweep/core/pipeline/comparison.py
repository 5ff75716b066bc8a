"""What changed between a reel and its treated copy, sample by sample."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from pathlib import Path
from typing import Literal

import av
import numpy as np
from numpy.typing import NDArray
from pydantic import BaseModel, ConfigDict, computed_field

from ..base.errors import SweepError
from ..media.formats import same_samples
from ..media.frames import Frame, Samples
from ..media.layout import to_kin
from ..media.opening import fingerprint
from ..media.reel import ReelReader
from ..media.remarks import runs_of
from ..media.sequence import is_sequence
from ..media.writer import REPORT_FILE, REPORT_TAG, sound_packets
from .report import Report, read_report

# Frames with differences outside the treated regions that are named.
_NAMED = 10


class Stray(BaseModel):
    """Samples that differ in a frame where nothing was to be touched.

    Attributes
    ----------
    frame : int
        Of the reel.
    samples : int
    x, y, width, height : int
        The box around them, in pixels.
    """

    model_config = ConfigDict(frozen=True, extra="ignore")

    frame: int
    samples: int
    x: int
    y: int
    width: int
    height: int


Fault = Literal["other-reel", "no-report", "coded-anew", "altered", "sound", ""]


class Comparison(BaseModel):
    """The difference of two reels.

    Attributes
    ----------
    frames : int
    samples, differing : int
        Samples compared, and those that differ, over all frames and components.
    outside : int
        Differing samples outside the treated regions of the report.
    changed_frames : tuple of tuple
        Runs of frames with a difference: first, last.
    box : tuple or None
        Left, top, right, bottom in pixels, the last two not included, of all differences.
    reported : bool
        Whether there was a report to hold them against.
    same_source : bool or None
        Whether the report was made of this very reel.
    sound_identical : bool or None
        Whether every sound packet is the source's; None where the sound was cut, turned, or is in files of its own.
    largest : float
        Largest difference in 8-bit display steps.
    strays : tuple of Stray
        Where samples differ outside the treated regions, of as many frames as are named.
    missing : tuple of tuple
        Runs of frames that the source lacks, first and last: there was nothing to compare them with.
    """

    model_config = ConfigDict(frozen=True, extra="ignore")

    frames: int
    samples: int
    differing: int
    outside: int
    changed_frames: tuple[tuple[int, int], ...]
    box: tuple[int, int, int, int] | None
    reported: bool
    same_source: bool | None
    sound_identical: bool | None
    largest: float
    strays: tuple[Stray, ...] = ()
    missing: tuple[tuple[int, int], ...] = ()

    @computed_field  # type: ignore[prop-decorator]
    @property
    def proven(self) -> bool:
        """Whether nothing but the treated regions differs."""
        return self.reported and self.same_source is not False and self.outside == 0 and self.sound_identical is not False

    @property
    def fault(self) -> Fault:
        """What is amiss when something else changed: the delivery is of an ``other-reel``, has ``no-report``, was most likely
        ``coded-anew`` as a whole or ``altered`` in places, or its ``sound`` is another; empty when nothing is."""
        if self.same_source is False:
            return "other-reel"
        if not self.reported:
            return "no-report"
        if self.outside:
            return "coded-anew" if len(self.strays) == _NAMED else "altered"
        return "sound" if self.sound_identical is False else ""


def merged(results: Sequence[Comparison]) -> Comparison:
    """The comparisons of a delivery's several files as one."""
    if len(results) == 1:
        return results[0]
    boxes = [r.box for r in results if r.box]
    sources = {r.same_source for r in results}
    sounds = {r.sound_identical for r in results}
    return Comparison(
        frames=sum(r.frames for r in results),
        samples=sum(r.samples for r in results),
        differing=sum(r.differing for r in results),
        outside=sum(r.outside for r in results),
        changed_frames=tuple(sorted(run for r in results for run in r.changed_frames)),
        box=(min(b[0] for b in boxes), min(b[1] for b in boxes), max(b[2] for b in boxes), max(b[3] for b in boxes)) if boxes else None,
        reported=all(r.reported for r in results),
        same_source=False if False in sources else None if None in sources else True,
        sound_identical=False if False in sounds else None if None in sounds else True,
        largest=max(r.largest for r in results),
        strays=tuple(sorted((s for r in results for s in r.strays), key=lambda s: s.frame)[:_NAMED]),
        missing=tuple(sorted(run for r in results for run in r.missing)),
    )


def report_of(path: Path) -> Report | None:
    """The report a delivery carries, if it carries one: in the file, or beside the pictures of a sequence."""
    if is_sequence(path):
        file = (path if path.is_dir() else path.parent) / REPORT_FILE
        return read_report(file.read_text(encoding="utf-8")) if file.is_file() else None
    with av.open(str(path), metadata_errors="replace") as container:
        text = container.metadata.get(REPORT_TAG) or container.metadata.get(REPORT_TAG.lower())
    return read_report(text) if text else None


def compare(
    source: ReelReader, treated: ReelReader, report: Report | None, on_progress: Callable[[float], None] | None = None
) -> Comparison:
    """Compare every sample of a delivery with the reel it was made of.

    Raises
    ------
    SweepError
        If the delivery cannot hold the source's samples, or has another number of frames than its report tells.
    """
    if not same_samples(source.format, treated.format):
        raise SweepError(
            f"{treated.path.name} is {treated.format.width} x {treated.format.height} {treated.format.name}, "
            f"{source.path.name} {source.format.width} x {source.format.height} {source.format.name}: "
            "they cannot be compared sample by sample. Deliver a lossless kind to prove it."
        )
    numbers = report.numbers() if report else np.arange(len(source), dtype=np.int64)
    if len(treated) != len(numbers) or (len(numbers) and numbers[-1] >= len(source)):
        raise SweepError(
            f"{treated.path.name} has {len(treated)} frames, {len(numbers)} were expected of {source.path.name}: they are not the same reel."
        )
    differences = _Differences(source, treated, report)
    first, stop = (int(numbers[0]), int(numbers[-1]) + 1) if len(numbers) else (0, 0)
    wanted = set(numbers.tolist()) if len(numbers) != stop - first else None
    ones = (f for f in source.frames(first, stop) if wanted is None or f.number in wanted)
    for done, (one, other) in enumerate(zip(ones, treated.frames(0, len(treated)), strict=True), start=1):
        differences.add(one, other)
        if on_progress:
            on_progress(done / max(1, len(numbers)))
    return differences.finish(
        same_source=report.fingerprint.split(":")[0] == fingerprint(source.path) if report else None,
        sound_identical=_same_sound(source, treated, report),
    )


class _Differences:
    """What differs between a reel and its delivery, frame after frame, and how much of it no step may have changed."""

    def __init__(self, source: ReelReader, treated: ReelReader, report: Report | None) -> None:
        self._held, self._allowed, self._reported = treated.format, _Allowed(source, report), report is not None
        self._differing = self._outside = 0
        self._largest = 0.0
        self._frames = 0
        self._changed: list[int] = []
        self._missing: list[int] = []
        self._strays: list[Stray] = []
        self._box: tuple[int, int, int, int] | None = None

    def add(self, one: Frame, other: Frame) -> None:
        """Take in a frame of the reel, and the same of the delivery."""
        self._frames += 1
        if one.missing:
            self._missing.append(one.number)
            return
        mine = to_kin(one, self._held)
        if all(np.array_equal(a, b) for a, b in zip(mine.planes, other.planes, strict=True)):
            return
        beyond: list[tuple[int, int, int, int, int]] = []
        for i, component in enumerate(self._held.components):
            where = unlike(mine.component(i), other.component(i))
            count = int(where.sum())
            if not count:
                continue
            cell = self._held.subsampling(i)
            self._differing += count
            may = self._allowed.at(one.number, component.name)
            stray = where if may is None else where & ~may
            if stray.any():
                beyond.append((int(stray.sum()), *_box(stray, cell)))
            self._largest = max(self._largest, _largest(mine, other, i, where))
            self._widen(_box(where, cell))
            if not self._changed or self._changed[-1] != one.number:
                self._changed.append(one.number)
        if beyond:
            self._stray(one.number, beyond)

    def _widen(self, box: tuple[int, int, int, int]) -> None:
        left, top, right, bottom = self._box or (self._held.width, self._held.height, 0, 0)
        right, bottom = max(right, min(self._held.width, box[2])), max(bottom, min(self._held.height, box[3]))
        self._box = (min(left, box[0]), min(top, box[1]), right, bottom)

    def _stray(self, number: int, beyond: list[tuple[int, int, int, int, int]]) -> None:
        count = sum(b[0] for b in beyond)
        self._outside += count
        if len(self._strays) < _NAMED:
            x, y = min(b[1] for b in beyond), min(b[2] for b in beyond)
            right, bottom = min(self._held.width, max(b[3] for b in beyond)), min(self._held.height, max(b[4] for b in beyond))
            self._strays.append(Stray(frame=number, samples=count, x=x, y=y, width=right - x, height=bottom - y))

    def finish(self, same_source: bool | None, sound_identical: bool | None) -> Comparison:
        """The comparison of all frames taken in."""
        return Comparison(
            frames=self._frames,
            samples=(self._frames - len(self._missing)) * sum(c.width * c.height for c in self._held.components),
            differing=self._differing,
            outside=self._outside,
            changed_frames=tuple(runs_of(self._changed)),
            box=self._box,
            reported=self._reported,
            same_source=same_source,
            sound_identical=sound_identical,
            largest=round(self._largest, 2),
            strays=tuple(self._strays),
            missing=tuple(runs_of(self._missing)),
        )


def _box(where: NDArray[np.bool_], cell: tuple[int, int]) -> tuple[int, int, int, int]:
    """Left, top, right and bottom of what is marked, in pixels of the picture, of samples that are `cell` pixels each."""
    rows, cols = np.flatnonzero(where.any(1)), np.flatnonzero(where.any(0))
    return int(cols[0]) * cell[0], int(rows[0]) * cell[1], (int(cols[-1]) + 1) * cell[0], (int(rows[-1]) + 1) * cell[1]


def unlike(one: Samples, other: Samples) -> NDArray[np.bool_]:
    """Which samples differ; two that are no number are alike."""
    differs = one != other
    return differs & ~(np.isnan(one) & np.isnan(other)) if one.dtype.kind == "f" else differs


def _same_sound(source: ReelReader, treated: ReelReader, report: Report | None) -> bool | None:
    """Whether every sound packet is the source's; None where the sound was cut or turned, or is in files of its own."""
    if source.facts.container == "sequence":
        return True
    part = report is not None and (report.first, report.stop) != (0, len(source))
    if part or treated.facts.container == "sequence":
        return None
    return sound_packets(source.path) == sound_packets(treated.path)


class _Allowed:
    """The samples a report allows to differ, frame by frame."""

    def __init__(self, source: ReelReader, report: Report | None) -> None:
        self._source, self._report = source, report
        self._held: tuple[tuple[int, ...], dict[str, NDArray[np.bool_]]] = ((), {})
        self._patches = [(p, p.unpacked()) for p in report.patches] if report else []

    def at(self, number: int, component: str) -> NDArray[np.bool_] | None:
        """The mask of one component in frame `number`; None where nothing may differ."""
        regions = self._report.regions if self._report else ()
        inside = tuple(i for i, r in enumerate(regions) if r.first <= number < r.stop)
        if inside != self._held[0]:
            masks: dict[str, NDArray[np.bool_]] = {}
            for i in inside:
                told = self._source.format.components[self._source.format.index(regions[i].component)]
                mask = masks.setdefault(regions[i].component, np.zeros((told.height, told.width), bool))
                mask.ravel()[regions[i].unpacked()] = True
            self._held = (inside, masks)
        allowed = self._held[1].get(component)
        for patches, places in self._patches:
            if patches.component != component or not patches.first <= number < patches.stop:
                continue
            begin = (number - patches.first) * patches.of
            inside_frame = places[np.searchsorted(places, begin) : np.searchsorted(places, begin + patches.of)] - begin
            if len(inside_frame):
                size = self._source.format.components[self._source.format.index(component)]
                allowed = np.zeros((size.height, size.width), bool) if allowed is None else allowed.copy()
                allowed.ravel()[inside_frame] = True
        return allowed


def _largest(one: Frame, other: Frame, index: int, where: NDArray[np.bool_]) -> float:
    a, b = one.component(index)[where].astype(np.float64), other.component(index)[where].astype(np.float64)
    return float(np.abs(a - b).max() / one.format.components[index].code)
