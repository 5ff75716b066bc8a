"""Marks as they are told of: found by the survey or drawn by hand."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Literal

import cv2
import numpy as np

from ...imaging.box import Box
from ...imaging.outlines import line_round
from ...model.findings import CONVINCES, Finding, Note
from ...model.shapes import Shape
from .evidence import ShadeEvidence
from .shade_map import ShadeMap
from .veils import Veil

# Travel of the scene, in pixels, with which nothing, small marks, and the largest can be told.
TOO_LITTLE, _ENOUGH, _LARGEST = 8, 20, 150


ShadeName = Literal["dust", "hair", "veil"]


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
    doubt : float
        How far the two halves of the evidence lie from the mean, 0 to 1.
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
    by_looks : bool
        Told by how it looks in the mean of all frames, not by what passes behind it.
    """

    x: int
    y: int
    width: int
    height: int
    outline: tuple[tuple[int, int], ...]
    kind: ShadeName
    least: float
    mean: float
    doubt: float
    veil: Veil
    confidence: float
    travel: float
    needed: float
    looked: int
    held: int
    way: str
    map: ShadeMap | None = None
    by_looks: bool = False


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
    def notes(self) -> tuple[Note, ...]:
        """What could not be told for want of motion."""
        values: dict[str, str | int | float] = {"travel": round(self.travel), "enough": _ENOUGH}
        if self.travel < TOO_LITTLE:
            return (Note(kind="static-shade", code="too-little-motion", values=values),)
        if self.travel < _LARGEST:
            return (Note(kind="static-shade", code="wide-marks-missed", values=values),)
        return ()


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
        evidence=ShadeEvidence(
            shade=mark.kind,
            outline=mark.outline,
            least=mark.least,
            mean=mark.mean,
            doubt=mark.doubt,
            level=round(mark.veil.level, 1),
            towards=round(mark.veil.level / max(1 - mark.veil.gain, 0.05), 1),
            travel=mark.travel,
            needed=mark.needed,
            looked=mark.looked,
            held=mark.held,
            way=mark.way,
            # What motion cannot measure is mended by its map also where it was doubtful and is kept.
            map=mark.map if mark.confidence >= CONVINCES or mark.by_looks else None,
            by_looks=mark.by_looks,
        ),
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
        evidence=ShadeEvidence(outline=tuple((px, py) for px, py in line)),
        by_hand=True,
    )


def about(mark: Box, step: int = 1) -> Box:
    """The box in which a mark is looked at: itself and what motion needs around it."""
    room = max(24, min(max(mark.width, mark.height) // 2, 40))
    return Box(mark.left - room, mark.top - room, mark.width + 2 * room, mark.height + 2 * room, step)
