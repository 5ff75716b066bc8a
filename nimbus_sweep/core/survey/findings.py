"""What a survey says: findings, each with where, when, how sure, and the numbers it rests on."""

from __future__ import annotations

from dataclasses import asdict, dataclass, field
from typing import Any

# Below this a finding is shown as doubtful and no step is suggested for it.
CONVINCES = 0.5


@dataclass(frozen=True)
class Finding:
    """One defect.

    Attributes
    ----------
    kind : str
        The kind of defect, such as ``stuck-pixel``.
    step : str
        The kind of step that mends it.
    x, y, width, height : int
        Box in pixels of the picture.
    first, stop : int
        Frames it is in: `first` up to, not including, `stop`.
    confidence : float
        0 to 1; `CONVINCES` and above is suggested for mending.
    title, sentence : str
        What it is, and the evidence in words with its numbers.
    numbers : dict
        The numbers themselves.
    by_hand : bool
        Placed by the user.
    """

    kind: str
    step: str
    x: int
    y: int
    width: int
    height: int
    first: int
    stop: int
    confidence: float
    title: str
    sentence: str
    numbers: dict[str, Any] = field(default_factory=dict)
    by_hand: bool = False

    @property
    def convinces(self) -> bool:
        """Whether a step is suggested for it."""
        return self.by_hand or self.confidence >= CONVINCES

    def as_json(self) -> dict[str, Any]:
        """Plain values for a JSON file."""
        return {**asdict(self), "suggested": self.convinces}


@dataclass(frozen=True)
class Surveyed:
    """What a survey of a shot says.

    Attributes
    ----------
    findings : list of Finding
        Of each kind surest first.
    notes : tuple of str
        What could not be told, and why, in words with numbers.
    """

    findings: list[Finding]
    notes: tuple[str, ...] = ()
