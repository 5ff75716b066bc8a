"""What a static mark is told by."""

from __future__ import annotations

from typing import Literal

from ...model.findings import Evidence
from .shade_map import ShadeMap


class ShadeEvidence(Evidence):
    """Evidence of sensor dust, a hair or a veil.

    Attributes
    ----------
    shade : str
        ``dust``, ``hair`` or ``veil``; ``any`` for one drawn by hand.
    outline : tuple of (x, y)
        Corners of the line around it, in pixels.
    least, mean : float
        Transmission at its deepest, and over it, 0 to 1.
    doubt : float
        How far the two halves of the evidence lie from that mean, 0 to 1; 0 where it is not known.
    level, towards : float
        Light that a veil lays over, and the level it draws the picture towards, in 8-bit codes.
    travel, needed : float
        How far the scene was seen to move behind it, and how far it must move to come clear of it, in pixels.
    looked, held : int
        Pairs of frames in which the scene came clear of it, and frames looked at.
    way : str
        ``undo``, ``borrow`` or ``surround``: what mends it.
    map : ShadeMap or None
        What it does to the light, for other shots of the same camera.
    depth, stands_out : float
        Of a shared mark: share of its depth that this shot shows, and how many times that stands out from chance.
    mended_by : str
        How the user wants it mended: ``auto``, or a way.
    by_looks : bool
        Told by how it looks in the mean of all frames, not by what passes behind it.
    """

    shade: Literal["dust", "hair", "veil", "any"] = "any"
    outline: tuple[tuple[int, int], ...] = ()
    least: float = 0.0
    mean: float = 0.0
    doubt: float = 0.0
    level: float = 0.0
    towards: float = 0.0
    travel: float = 0.0
    needed: float = 0.0
    looked: int = 0
    held: int = 0
    way: str = ""
    map: ShadeMap | None = None
    depth: float = 0.0
    stands_out: float = 0.0
    mended_by: Literal["auto", "undo", "borrow", "surround"] = "auto"
    by_looks: bool = False
