"""What is to be said about a reel or a delivery: codes and numbers, whose words stand in `nimbus_sweep.wording.reels`."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from typing import Any

from pydantic import BaseModel, ConfigDict, Field, model_validator


class Remark(BaseModel):
    """Something out of the ordinary.

    Attributes
    ----------
    code : str
        What it is, of the codes that the wording knows.
    values : dict
        The numbers and names that belong to it.
    said : str
        The words for it that an earlier version stored; empty for what is found today.
    """

    model_config = ConfigDict(frozen=True, extra="ignore")

    code: str = ""
    values: dict[str, str | int | float] = Field(default_factory=dict)
    said: str = ""

    @classmethod
    def of(cls, code: str, **values: str | int | float) -> Remark:
        """A remark with its numbers and names."""
        return cls(code=code, values=values)

    @model_validator(mode="before")
    @classmethod
    def _from_words(cls, stored: Any) -> Any:
        return {"said": stored} if isinstance(stored, str) else stored


def runs_of(numbers: Iterable[int]) -> list[tuple[int, int]]:
    """Numbers that rise, as runs without a gap: the first and the last of each."""
    runs: list[tuple[int, int]] = []
    for n in numbers:
        if runs and runs[-1][1] == n - 1:
            runs[-1] = (runs[-1][0], n)
        else:
            runs.append((n, n))
    return runs


def some_runs(runs: Sequence[tuple[int, int]], most: int = 8) -> str:
    """The first of some runs of numbers, as they are shown."""
    return ", ".join(f"{a}-{b}" if a != b else str(a) for a, b in runs[:most]) + (" ..." if len(runs) > most else "")


def some_of(numbers: list[int], most: int = 8) -> str:
    """The first of some numbers, as they are shown."""
    return ", ".join(map(str, numbers[:most])) + (" ..." if len(numbers) > most else "")
