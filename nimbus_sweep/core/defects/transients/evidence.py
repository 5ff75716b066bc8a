"""What something that crosses is told by."""

from __future__ import annotations

from ...model.findings import Evidence


class CrossingEvidence(Evidence):
    """Evidence of things that cross, told of as one family.

    Attributes
    ----------
    seen, frames_seen, looked : int
        Things, places in the shot where something crosses, and places looked at.
    dark : int
        How many are dark.
    pace : float
        Pixels a frame.
    keeps : str
        What of neighbouring frames is to be kept to remove them: ``lighter``, ``darker`` or ``middle``.
    """

    seen: int = 0
    frames_seen: int = 0
    looked: int = 0
    dark: int = 0
    pace: float = 0.0
    keeps: str = "middle"
