"""Which of the specks that were found are swept off: by how sure they are, size and sign, and by what the user said of some."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Literal

import numpy as np
from numpy.typing import NDArray
from pydantic import BaseModel, ConfigDict, Field

from ...imaging.patches import PatchTable
from .likeness import judged_alike

Chosen = NDArray[np.bool_]
# A stroke is put on a speck that it covers by this share, and that is no smaller than this share of it.
_COVERED, _SMALL = 0.5, 0.2
# Swept off; left alone by the user; because it is not sure enough, or what moves there cannot be followed; by size or sign.
Judged = Literal["swept", "left", "unsure", "fast", "other"]


class LeftAlone(BaseModel):
    """Where and when specks are left alone: in one frame, in a range of frames, in an area."""

    model_config = ConfigDict(frozen=True, extra="forbid")

    first: int = Field(ge=0)
    stop: int = Field(ge=1)
    box: tuple[int, int, int, int] | None = Field(default=None, description="left, top, width, height; everywhere when not named")

    @property
    def is_one(self) -> bool:
        """Whether it says something of one place in one frame."""
        return self.box is not None and self.stop == self.first + 1

    def holds(self, table: PatchTable) -> Chosen:
        """Which patches have their middle where and when it says."""
        here = (table.frames >= self.first) & (table.frames < self.stop)
        return here if self.box is None else here & _within(table, self.box)


class OneSpeck(BaseModel):
    """A place in a frame where there is a speck, as the user says."""

    model_config = ConfigDict(frozen=True, extra="forbid")

    frame: int = Field(ge=0)
    box: tuple[int, int, int, int] = Field(description="left, top, width, height")

    def holds(self, table: PatchTable) -> Chosen:
        """Which patches have their middle there."""
        return np.asarray((table.frames == self.frame) & _within(table, self.box))


class SpeckSweepSettings(BaseModel):
    """Which of the specks that are found are swept off."""

    model_config = ConfigDict(frozen=True, extra="forbid")

    sure: float = Field(default=0.3, ge=0.2, le=0.99, description="how sure it must be that it is a speck")
    takes: Literal["both", "bright", "dark"] = Field(default="both", description="bright ones, dark ones or both")
    smallest: int = Field(default=1, ge=1, le=1_000_000, description="pixels; smaller ones stay")
    largest: int = Field(default=0, ge=0, le=100_000_000, description="pixels; larger ones stay; 0 for no limit")
    left: tuple[LeftAlone, ...] = Field(default=(), max_length=10_000, description="what is left alone")
    swept: tuple[OneSpeck, ...] = Field(default=(), max_length=10_000, description="what is swept off however sure it is")
    alike: bool = Field(default=True, description="what was said of single specks counts for those like them")

    def chosen(self, table: PatchTable) -> Chosen:
        """Which of the patches are put on."""
        return self._chosen(table, self.judged_sure(table))

    def _chosen(self, table: PatchTable, sure: NDArray[np.float64]) -> Chosen:
        chosen = (sure >= self.sure) & (table.areas >= self.smallest)
        if self.largest:
            chosen &= table.areas <= self.largest
        if self.takes != "both":
            chosen &= (table.contrast > 0) == (self.takes == "bright")
        return (chosen | self.named(table)) & ~self.dismissed(table)

    def judged(self, table: PatchTable, rows: NDArray[np.int64] | None = None) -> list[Judged]:
        """What becomes of each of some rows, of all when None, and why; `table` holds all of the shot."""
        sure = self.judged_sure(table)
        swept, gone = self._chosen(table, sure), self.dismissed(table)
        found: list[Judged] = []
        for n in range(len(table)) if rows is None else rows.tolist():
            if swept[n] or gone[n]:
                found.append("swept" if swept[n] else "left")
            elif sure[n] < self.sure:
                found.append("fast" if table.fast[n] else "unsure")
            else:
                found.append("other")
        return found

    def judged_sure(self, table: PatchTable) -> NDArray[np.float64]:
        """How sure each is, with what was said of those like it; `table` holds all of the shot."""
        if not self.alike or table.looks.shape[1] == 0:
            return table.sure
        none, some = self._ones(table, [r for r in self.left if r.is_one]), self._ones(table, self.swept)
        rows = np.flatnonzero(none ^ some)
        return judged_alike(table.sure, table.looks, rows, some[rows])

    def dismissed(self, table: PatchTable) -> Chosen:
        """Which are left alone because the user said so."""
        return self._ones(table, self.left)

    def named(self, table: PatchTable) -> Chosen:
        """Which are swept off because the user said so."""
        return self._ones(table, self.swept)

    def _ones(self, table: PatchTable, rules: Sequence[LeftAlone | OneSpeck]) -> Chosen:
        found = np.zeros(len(table), bool)
        for rule in rules:
            found |= rule.holds(table)
        return found

    def missed(self, table: PatchTable, frame: int, brushed: NDArray[np.float32], corner: tuple[int, int]) -> list[OneSpeck]:
        """The surest speck under a brush stroke of those that are doubted and about as large as the brush; none, or one.

        Parameters
        ----------
        table : PatchTable
            Of the shot.
        frame : int
        brushed : ndarray, float32, (height, width)
            How far the stroke covers each pixel of a place, 0 to 1.
        corner : tuple of int
            Left and top of that place on the picture.
        """
        sure, rows = self.judged_sure(table), np.flatnonzero(table.frames == frame)
        size = np.sqrt((brushed > 0).sum())
        under: list[tuple[float, OneSpeck]] = []
        for n, state in zip(rows, self.judged(table, rows), strict=True):
            left, top, width, height = (int(v) for v in table.boxes[n])
            y, x = max(0, top - corner[1]), max(0, left - corner[0])
            covered = brushed[y : max(0, top + height - corner[1]), x : max(0, left + width - corner[0])]
            if state not in ("unsure", "fast") or max(width, height) < _SMALL * size or covered.sum() < _COVERED * width * height:
                continue
            under.append((float(sure[n]), OneSpeck(frame=frame, box=(left, top, width, height))))
        return [max(under, key=lambda one: one[0])[1]] if under else []

    def expected_false(self, table: PatchTable) -> float:
        """How many of those that are swept off are expected to be no specks, as far as the model tells; those the user named are."""
        sure = self.judged_sure(table)
        return float((1 - sure)[self._chosen(table, sure) & ~self.named(table)].sum())


def _within(table: PatchTable, box: tuple[int, int, int, int]) -> Chosen:
    left, top, width, height = box
    x, y = (table.boxes[:, :2] + table.boxes[:, 2:] / 2).T
    return np.asarray((x >= left) & (x < left + width) & (y >= top) & (y < top + height))


# Settings that only choose among what was found.
CHOOSES = frozenset(SpeckSweepSettings.model_fields)
