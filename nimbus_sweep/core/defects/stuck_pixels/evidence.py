"""What a stuck pixel is told by."""

from __future__ import annotations

from ...model.findings import Evidence


class StuckPixelEvidence(Evidence):
    """Evidence of a stuck or dead pixel, or a group of them.

    Attributes
    ----------
    colour : str
        ``red``, ``green``, ``blue``, ``white``, ``black``, or ``cyan``, ``magenta``, ``yellow``.
    seen, looked : int
        Frames in which it departs as it usually does, of the frames looked at.
    share_of_frames : float
        The one over the other.
    departure : float
        How far its strongest component departs, in 8-bit display steps.
    scene_change : float
        How much the light around it changed over time, in 8-bit display steps.
    misfit, lens_misfit : float
        Share of the departure that the profile of a sensor site, and of a point drawn by a lens, leaves unexplained.
    still : bool
        The scene, or some of it, keeps its place: the site's profile had to decide.
    """

    colour: str = ""
    seen: int = 0
    looked: int = 0
    share_of_frames: float = 0.0
    departure: float = 0.0
    scene_change: float = 0.0
    misfit: float = 0.0
    lens_misfit: float = 0.0
    still: bool = False
