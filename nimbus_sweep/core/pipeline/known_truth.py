"""Holds a repair against the truth, where a reel comes with it: reels that were spoiled on purpose."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import numpy as np
from pydantic import BaseModel, ConfigDict

from ..media.frames import FrameSource


class MarkTruth(BaseModel):
    """How near a mark's place is to what lay under it.

    Attributes
    ----------
    x, y : int
        Its middle, in pixels.
    before, after : float
        Peak signal-to-noise ratio over all samples of the mark, of the source and of the delivery, in dB against full range.
    """

    model_config = ConfigDict(frozen=True, extra="ignore")

    x: int
    y: int
    before: float
    after: float


def truth_file(reel: Path) -> Path | None:
    """The truth that lies beside a reel, if there is one."""
    path = reel.with_suffix(".truth.npz")
    return path if path.exists() else None


def held_against(truth: Path, source: FrameSource, delivered: FrameSource, place: Callable[[int], int | None]) -> list[MarkTruth]:
    """Hold a delivery against the truth, mark by mark.

    Parameters
    ----------
    truth : Path
        A file of ``numpy.savez``: `numbers` of frames, `count` of marks, and for each mark and component ``places`` in
        row order and their true ``samples``, (frames, places).
    source, delivered : FrameSource
    place : callable
        Gives a frame's place in the delivery, None when it is not in it.
    """
    marks = []
    with np.load(truth) as kept:
        frames = [(k, int(n), at) for k, n in enumerate(kept["numbers"]) if (at := place(int(n))) is not None]
        count = int(kept["count"])
        errors, samples = np.zeros((count, 2)), np.zeros(count)
        middles = [(0, 0)] * count
        truths = {name: kept[name] for name in kept.files if name not in ("numbers", "count")}
    for k, number, at in frames:
        one, other = source.frame(number), delivered.frame(at)
        for i, component in enumerate(source.format.components):
            pair = (one.component(i).ravel(), other.component(i).ravel())
            for m in range(count):
                places, true = truths[f"{m}.{i}.places"], truths[f"{m}.{i}.samples"][k].astype(np.float64)
                errors[m] += [float(((plane[places] - true) ** 2).sum()) / component.code**2 for plane in pair]
                samples[m] += len(places)
                if i == 0:
                    rows, cols = np.divmod(places, component.width)
                    middles[m] = (round(float(cols.mean())), round(float(rows.mean())))
    if not frames:
        return []
    for m in range(count):
        before, after = (float(10 * np.log10(255**2 * samples[m] / max(e, 1e-9))) for e in errors[m])
        marks.append(MarkTruth(x=middles[m][0], y=middles[m][1], before=round(before, 1), after=round(after, 1)))
    return marks
