"""What changed between a reel and its treated copy, sample by sample."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import asdict, dataclass
from pathlib import Path
from typing import Any

import av
import numpy as np
from numpy.typing import NDArray

from .errors import SweepError
from .frames import Frame
from .media.layout import to_kin
from .media.reader import MovieReader, fingerprint
from .media.writer import REPORT_TAG, lossless_format, sound_packets
from .report import Report, read_report


@dataclass(frozen=True)
class Comparison:
    """The difference of two reels.

    Attributes
    ----------
    frames : int
    samples, differing : int
        Samples compared, and those that differ, over all frames and components.
    outside : int
        Differing samples outside the treated regions of the report.
    changed_frames : list of tuple
        Runs of frames with a difference: first, last.
    box : tuple or None
        Left, top, right, bottom in pixels, the last two not included, of all differences.
    reported : bool
        Whether there was a report to hold them against.
    same_source : bool or None
        Whether the report was made of this very reel.
    sound_identical : bool
        Whether every sound packet is the source's.
    largest : float
        Largest difference in 8-bit display steps.
    """

    frames: int
    samples: int
    differing: int
    outside: int
    changed_frames: list[tuple[int, int]]
    box: tuple[int, int, int, int] | None
    reported: bool
    same_source: bool | None
    sound_identical: bool
    largest: float

    @property
    def proven(self) -> bool:
        """Whether nothing but the treated regions differs."""
        return self.reported and self.same_source is not False and self.outside == 0 and self.sound_identical

    def as_json(self) -> dict[str, Any]:
        """Plain values for a JSON file."""
        return {**asdict(self), "proven": self.proven}


def report_of(path: Path) -> Report | None:
    """The report a delivery carries, if it carries one."""
    with av.open(str(path), metadata_errors="replace") as container:
        text = container.metadata.get(REPORT_TAG)
    return read_report(text) if text else None


def compare(
    source: MovieReader, treated: MovieReader, report: Report | None, on_progress: Callable[[float], None] | None = None
) -> Comparison:
    """Compare every sample of two reels.

    Raises
    ------
    SweepError
        If they differ in size, pixel format or number of frames.
    """
    held = lossless_format(source.format)
    if treated.format != held:
        raise SweepError(
            f"{treated.path.name} is {treated.format.width} x {treated.format.height} {treated.format.name}, "
            f"{source.path.name} {source.format.width} x {source.format.height} {source.format.name}: "
            "they cannot be compared sample by sample."
        )
    if len(treated) != len(source):
        raise SweepError(f"{treated.path.name} has {len(treated)} frames, {source.path.name} {len(source)}: they are not the same reel.")
    allowed = _allowed(source, report)
    differing = outside = 0
    largest = 0.0
    changed: list[int] = []
    left, top, right, bottom = source.format.width, source.format.height, 0, 0
    for one, other in zip(source.frames(0, len(source)), treated.frames(0, len(source)), strict=True):
        mine = to_kin(one, held)
        if all(np.array_equal(a, b) for a, b in zip(mine.planes, other.planes, strict=True)):
            differs = None
        else:
            differs = [mine.component(i) != other.component(i) for i in range(len(held.components))]
        for i, where in enumerate(differs or ()):
            count = int(where.sum())
            if not count:
                continue
            differing += count
            may = allowed.get(held.components[i].name) if report and report.first <= one.number < report.stop else None
            outside += count if may is None else int((where & ~may).sum())
            largest = max(largest, _largest(mine, other, i, where))
            rows, cols = np.nonzero(where)
            across, down = held.subsampling(i)
            left, top = min(left, int(cols.min()) * across), min(top, int(rows.min()) * down)
            right = max(right, min(held.width, (int(cols.max()) + 1) * across))
            bottom = max(bottom, min(held.height, (int(rows.max()) + 1) * down))
            if not changed or changed[-1] != one.number:
                changed.append(one.number)
        if on_progress:
            on_progress((one.number + 1) / len(source))
    per_frame = sum(c.width * c.height for c in held.components)
    return Comparison(
        frames=len(source),
        samples=per_frame * len(source),
        differing=differing,
        outside=outside,
        changed_frames=_runs(changed),
        box=(left, top, right, bottom) if differing else None,
        reported=report is not None,
        same_source=report.fingerprint.split(":")[0] == fingerprint(source.path) if report else None,
        sound_identical=sound_packets(source.path) == sound_packets(treated.path),
        largest=round(largest, 2),
    )


def _allowed(source: MovieReader, report: Report | None) -> dict[str, NDArray[np.bool_]]:
    masks = {}
    for region in report.regions if report else ():
        component = source.format.components[source.format.index(region.component)]
        mask = np.zeros(component.height * component.width, bool)
        mask[region.unpacked()] = True
        masks[region.component] = mask.reshape(component.height, component.width)
    return masks


def _largest(one: Frame, other: Frame, index: int, where: NDArray[np.bool_]) -> float:
    a, b = one.component(index)[where].astype(np.int64), other.component(index)[where].astype(np.int64)
    return float(np.abs(a - b).max() / one.format.components[index].code)


def _runs(numbers: list[int]) -> list[tuple[int, int]]:
    runs: list[tuple[int, int]] = []
    for n in numbers:
        if runs and runs[-1][1] == n - 1:
            runs[-1] = (runs[-1][0], n)
        else:
            runs.append((n, n))
    return runs
