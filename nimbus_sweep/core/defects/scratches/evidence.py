"""What a scratch is told by."""

from __future__ import annotations

from ...model.findings import Evidence


class ScratchEvidence(Evidence):
    """Evidence of a scratch.

    Attributes
    ----------
    track : tuple of (frame, x at the top, x at the bottom)
        Where it is in some of its frames.
    rows : (first, stop) or None
        Rows it is in; all when None.
    bright : bool
        It is lighter than what it lies over.
    seen : int
        Frames it was followed through.
    width : float
        Standard deviation of its profile, in pixels.
    cover : float
        Share of the picture that it hides, 0 to 1.
    hides : bool
        So much that nothing of the picture can be given back.
    there : float
        Share of its rows that show it, 0 to 1.
    level : float
        Its own light, in 8-bit codes.
    lean, wander : float
        How far it leans from top to bottom, and moves from side to side, in pixels.
    travel : float
        How far the scene moves behind it, in pixels.
    """

    track: tuple[tuple[int, float, float], ...] = ()
    rows: tuple[int, int] | None = None
    bright: bool = False
    seen: int = 0
    width: float = 0.0
    cover: float = 0.0
    hides: bool = False
    there: float = 0.0
    level: float = 0.0
    lean: float = 0.0
    wander: float = 0.0
    travel: float = 0.0
