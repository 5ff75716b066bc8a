"""What a cue mark is told by."""

from __future__ import annotations

from ...model.findings import Evidence


class CueEvidence(Evidence):
    """Evidence of a cue mark.

    Attributes
    ----------
    outline : tuple of (x, y)
        Corners of the line around it, in pixels.
    frames : tuple of int
        The frames it is in.
    right : bool
        It sits in the right corner.
    contrast : float
        How far it stands out, in 8-bit codes.
    ratio : float
        The same over what such a fill leaves of clean frames.
    alike : float
        Correlation of its frames with one another.
    partner : int or None
        First frame of the other of its pair.
    apart : int
        Clear frames between the two.
    """

    outline: tuple[tuple[int, int], ...] = ()
    frames: tuple[int, ...] = ()
    right: bool = False
    contrast: float = 0.0
    ratio: float = 0.0
    alike: float = 0.0
    partner: int | None = None
    apart: int = 0
