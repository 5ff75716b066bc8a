"""Marks as they are told of: found by the survey or drawn by hand."""

from __future__ import annotations

from dataclasses import dataclass, field

import cv2
import numpy as np

from ...imaging.box import Box
from ...imaging.outlines import line_round
from ...regions import Shape
from ...survey.findings import CONVINCES, Finding
from .shared_marks import ShadeMap
from .veils import Veil

# Travel of the scene, in pixels, with which nothing, small marks, and the largest can be told.
_TOO_LITTLE, _ENOUGH, _LARGEST = 8, 20, 150


@dataclass(frozen=True)
class ShadeMark:
    """One static mark.

    Attributes
    ----------
    x, y, width, height : int
        Box in pixels of the picture.
    outline : tuple of (x, y)
        Corners of the line around it, in pixels.
    kind : str
        ``dust``, ``hair`` or ``veil``.
    least, mean : float
        Transmission at its deepest, and over it, 0 to 1.
    veil : Veil
        The light it lays over; none for dust.
    confidence : float
    travel : float
        How far the scene was seen to move behind it, in pixels.
    needed : float
        How far it must move to come clear of it.
    looked, held : int
        Pairs of frames in which the scene came clear of it, frames looked at.
    way : str
        ``undo``, ``borrow`` or ``surround``: what mends it.
    map : ShadeMap or None
        What it does to the light, for other shots of the same camera.
    """

    x: int
    y: int
    width: int
    height: int
    outline: tuple[tuple[int, int], ...]
    kind: str
    least: float
    mean: float
    veil: Veil
    confidence: float
    travel: float
    needed: float
    looked: int
    held: int
    way: str
    map: ShadeMap | None = None

    @property
    def sentence(self) -> str:
        """The evidence in words, with its numbers."""
        size = f"{self.width} x {self.height} px"
        passes = f"passes {100 * self.least:.0f} to {100 * min(1.0, 2 * self.mean - self.least):.0f} % of the light"
        if self.kind == "veil":
            passes = f"draws the light towards {self.veil.level / max(1 - self.veil.gain, 0.05):.0f} of 255, up to {100 * (1 - self.least):.0f} % of the way"
        ends = {
            "undo": "can be undone",
            "borrow": "hides the scene: must be filled from other frames",
            "surround": "hides the scene, which moves too little to see behind it: can only be filled from its surroundings",
        }
        return f"Stays put in {self.held} frames while the scene moves {self.travel:.0f} px behind it; {size}, {passes}: {ends[self.way]}."


@dataclass(frozen=True)
class ShadeSurvey:
    """What a shot shows of static shade.

    Attributes
    ----------
    marks : tuple of ShadeMark
        Surest first.
    travel : float
        How far the scene moves through the shot, in pixels.
    noise : float
        Standard deviation of the noise, in 8-bit codes.
    """

    marks: tuple[ShadeMark, ...] = field(default=())
    travel: float = 0.0
    noise: float = 0.0

    @property
    def notes(self) -> tuple[str, ...]:
        """What could not be told for want of motion, in words."""
        moved = f"The camera moves the scene by {self.travel:.0f} px through this shot"
        if self.travel < _TOO_LITTLE:
            return (
                f"{moved}: too little to tell dust and dirt from the scene. About {_ENOUGH} px would do for small marks, and as many as a "
                "mark is wide for larger ones. Another shot of this camera that moves may show them; or draw round them by hand.",
            )
        if self.travel < _LARGEST:
            return (f"{moved}. Marks wider than that may be missed: it takes about as many pixels of travel as a mark is wide.",)
        return ()


def about(mark: Box, step: int = 1) -> Box:
    """The box in which a mark is looked at: itself and what motion needs around it."""
    room = max(24, min(max(mark.width, mark.height) // 2, 40))
    return Box(mark.left - room, mark.top - room, mark.width + 2 * room, mark.height + 2 * room, step)


_TITLES = {"dust": "Sensor dust", "hair": "Hair or fibre", "veil": "Lens dirt, a veil"}


def as_finding(mark: ShadeMark, first: int, stop: int) -> Finding:
    """The mark as a finding of the shot `first` to `stop` - 1."""
    return Finding(
        kind="static-shade",
        step="unshade",
        x=max(0, mark.x),
        y=max(0, mark.y),
        width=mark.width + min(0, mark.x),
        height=mark.height + min(0, mark.y),
        first=first,
        stop=stop,
        confidence=mark.confidence,
        title=_TITLES[mark.kind],
        sentence=mark.sentence,
        numbers={
            "shade": mark.kind,
            "outline": [list(point) for point in mark.outline],
            "least": mark.least,
            "mean": mark.mean,
            "level": round(mark.veil.level, 1),
            "travel": mark.travel,
            "needed": mark.needed,
            "looked": mark.looked,
            "way": mark.way,
            **({"map": mark.map.model_dump()} if mark.map is not None and mark.confidence >= CONVINCES else {}),
        },
    )


def drawn_by_hand(shape: Shape, size: tuple[int, int], first: int, stop: int) -> Finding:
    """A mark that the user drew a line round; what it is shows when the step learns it.

    Parameters
    ----------
    shape : Shape
        Of a region.
    size : tuple of int
        Height and width of the picture.
    first, stop : int
        The shot.

    Raises
    ------
    SweepError
        If nothing of it lies on the picture.
    """
    line = line_round(shape, size)
    x, y, width, height = cv2.boundingRect(np.array(line, np.int32))
    return Finding(
        kind="static-shade",
        step="unshade",
        x=x,
        y=y,
        width=width,
        height=height,
        first=first,
        stop=stop,
        confidence=1.0,
        title="Mark",
        sentence=f"Drawn by hand, {width} x {height} px. What it lets through is measured when Unshade learns it.",
        numbers={"shade": "any", "outline": line},
        by_hand=True,
    )
