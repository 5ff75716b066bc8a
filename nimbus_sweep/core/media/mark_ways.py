"""What a step does at one place in one frame, to be told to the user."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from .frames import Window
from .remarks import Remark


class InEveryFrame:
    """Knowledge of a step that rewrites the same samples in every frame."""

    def touched_in(self) -> Mapping[int, list[NDArray[np.int64]]]:
        """Samples rewritten in single frames besides: none."""
        return {}


@dataclass(frozen=True)
class MarkWay:
    """How a mark is mended in a frame.

    Attributes
    ----------
    window : Window
        Where it is.
    way : str
        ``undo``, ``borrow`` or ``surround``: what mends it, or the part of it that is hidden.
    frames : tuple of int
        Those that lend.
    doubt : Remark or None
        Why it is little to be trusted; None when it is.
    """

    window: Window
    way: str
    frames: tuple[int, ...]
    doubt: Remark | None
