"""What unsteady light is told by."""

from __future__ import annotations

from ...model.findings import Evidence


class LightEvidence(Evidence):
    """Evidence of light that is not steady.

    Attributes
    ----------
    light : str
        ``bands``, ``on-off``, ``jumps``, ``whole`` or ``patches``.
    strength : float
        Up and down, as a share of the light.
    rhythm : str
        ``beat`` where the whole frame goes up and down evenly.
    period : float
        Frames to one turn; 0 without a rhythm.
    pulse : float
        Periods from one frame to the next, for the likely cause; 0 without a rhythm.
    rate : str
        Frames a second, as a fraction.
    spacing, step, lean : float
        Of bands: how many lie over the picture, how far they move a frame in their own periods, and how they lean, in radians.
    explained : float
        Of bands: the share of what rows do that they explain, 0 to 1.
    contrast : float
        Of bands, in linear light: brightest less darkest over their sum, 0 to 1.
    tints : tuple of float
        Strength of red, green and blue, where the colours flicker each by itself.
    uneven : float
        Share of the change that is uneven over the picture.
    """

    light: str = "whole"
    strength: float = 0.0
    rhythm: str = ""
    period: float = 0.0
    pulse: float = 0.0
    rate: str = ""
    spacing: float = 0.0
    step: float = 0.0
    lean: float = 0.0
    explained: float = 0.0
    contrast: float = 0.0
    tints: tuple[float, ...] = ()
    uneven: float = 0.0
