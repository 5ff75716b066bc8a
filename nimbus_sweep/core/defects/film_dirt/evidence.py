"""What film dirt is told by."""

from __future__ import annotations

from ...model.findings import Evidence


class DirtEvidence(Evidence):
    """Evidence of specks and hairs, told of as one family.

    Attributes
    ----------
    seen, frames, looked : int
        Specks, the frames they are in, and the frames looked at.
    each : float
        Specks in a frame.
    in_shot : int
        Specks in the whole shot, by that.
    bright : float
        Share of them that is bright, 0 to 1.
    contrast : float
        How far they stand out, in 8-bit codes.
    largest : int
        Pixels of the largest.
    crowded : int
        Frames in which so much comes and goes that it may be part of the scene.
    passing : bool
        There are so many of them that it may be snow or rain.
    again : float
        How many times as often they come at the same places again as by chance.
    uneven : float
        Variance of their number a frame over its mean; dirt has 1.
    """

    seen: int = 0
    frames: int = 0
    looked: int = 0
    each: float = 0.0
    in_shot: int = 0
    bright: float = 0.0
    contrast: float = 0.0
    largest: int = 0
    crowded: int = 0
    passing: bool = False
    again: float = 1.0
    uneven: float = 1.0
