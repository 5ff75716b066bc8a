"""Lines around parts of a picture."""

from __future__ import annotations

from typing import Any

import cv2
import numpy as np
from numpy.typing import NDArray

from ..base.errors import SweepError
from ..model.regions import Key, Part, Region
from ..model.shapes import Shape, contours


def outline_of(hole: NDArray[Any]) -> list[list[int]]:
    """The line around a hole of one piece.

    Parameters
    ----------
    hole : ndarray, bool or 0 and 1, (height, width)

    Returns
    -------
    list of [x, y]
        Corners, on whole pixels.
    """
    lines = contours(hole.astype(np.float32), simple=0.6)
    return [[round(float(x)), round(float(y))] for x, y in max(lines, key=len)]


def line_round(shape: Shape, size: tuple[int, int]) -> list[list[int]]:
    """The line around a shape as corners on whole pixels of a picture of that height and width.

    Raises
    ------
    SweepError
        If nothing of it lies on the picture.
    """
    mask = Region(parts=(Part(keys=(Key(frame=0, shape=shape),)),)).mask(size) >= 0.5
    if not mask.any():
        raise SweepError("The line lies outside the picture, or holds no whole pixel. Draw it round the mark, with a little room.")
    lines, _ = cv2.findContours(mask.astype(np.uint8), cv2.RETR_EXTERNAL, cv2.CHAIN_APPROX_NONE)
    line = cv2.approxPolyDP(max(lines, key=cv2.contourArea), 0.7, True)[:, 0]
    if len(line) < 3:
        raise SweepError("This is too small for a mark. Draw the line round it with a little room, or place a stuck pixel.")
    return [[int(x), int(y)] for x, y in line]
