"""What the reel log draws, computed once at intake: the light curve and the row profile of every frame."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

import cv2
import numpy as np
from numpy.typing import NDArray

from ..base.files import atomic_write
from ..media.frames import Frame, as_numbers

ROWS = 64


@dataclass(frozen=True)
class Summary:
    """Light of a reel over time.

    Attributes
    ----------
    light : ndarray, float32, (frames,)
        Mean of the first component (luma, or green), 0 to 1 of its range.
    rows : ndarray, float32, (frames, ROWS)
        The same for each of `ROWS` bands of rows.
    """

    light: NDArray[np.float32]
    rows: NDArray[np.float32]

    def save(self, path: Path) -> None:
        """Write it to `path`, whole or not at all."""
        with atomic_write(path) as stream:
            np.savez(stream, light=self.light, rows=self.rows)

    @classmethod
    def load(cls, path: Path) -> Summary:
        """Read one written by `save`."""
        with np.load(path) as stored:
            return cls(stored["light"], stored["rows"])


class SummaryMaker:
    """Collects the summary as frames go by."""

    def __init__(self) -> None:
        self._rows: list[NDArray[np.float32]] = []

    def add(self, frame: Frame) -> None:
        """Take in the next frame; a missing one has the light of the one before."""
        if frame.missing and self._rows:
            self._rows.append(self._rows[-1])
            return
        peak = np.float32(frame.format.components[0].peak)
        samples = frame.component(0)
        if samples.dtype.kind == "f":
            samples = as_numbers(samples)
        means = cv2.reduce(samples, 1, cv2.REDUCE_AVG, dtype=cv2.CV_32F) / peak
        self._rows.append(cv2.resize(means, (1, ROWS), interpolation=cv2.INTER_AREA)[:, 0])

    def finish(self) -> Summary:
        """The summary of all frames taken in."""
        rows = np.stack(self._rows) if self._rows else np.zeros((0, ROWS), np.float32)
        return Summary(rows.mean(1), rows)
