"""Pictures that were sent by a user: decoded whatever they claim to be, within limits."""

from __future__ import annotations

from typing import Any

import cv2
import numpy as np
from numpy.typing import NDArray

from ..base.errors import SweepError

# Pixels of a picture that is taken: 8192 by 8192.
MOST_PIXELS = 1 << 26


def decoded(sent: bytes) -> NDArray[Any]:
    """The samples of a picture file.

    Parameters
    ----------
    sent : bytes
        The file.

    Returns
    -------
    picture : ndarray, (height, width) or (height, width, channels)
        Blue first.

    Raises
    ------
    SweepError
        If it cannot be read as a picture, or has too many pixels.
    """
    try:
        picture = cv2.imdecode(np.frombuffer(sent, np.uint8), cv2.IMREAD_UNCHANGED) if sent else None
    except cv2.error as error:
        raise SweepError("This picture has more pixels than can be taken in, or is damaged. Save it smaller, as PNG.") from error
    if picture is None:
        raise SweepError("This file is not a picture that can be read. Save it as PNG.")
    if picture.shape[0] * picture.shape[1] > MOST_PIXELS:
        raise SweepError(f"This picture is {picture.shape[1]} x {picture.shape[0]}, larger than can be taken in. Save it smaller.")
    return picture
