"""Has the compiled loops of the core made ready, on numbers of the kinds they are used on."""

from __future__ import annotations

import numpy as np

from ..base.compiled import compile_all
from ..defects.scratches.row_fit import left_over, row_fit
from ..imaging.motion import agreement
from ..imaging.stack_statistics import robust
from ..model.registry import DEFECTS


def warm_up() -> None:
    """Compile what is compiled, or read it back from where it is kept; a minute and a half the first time."""
    # All that is decorated is known once all kinds of defects are.
    assert len(DEFECTS)
    compile_all()
    way = np.zeros((8, 8, 2), np.float32)
    agreement(way, way)
    stack = np.ones((3, 8, 8), np.float32)
    robust(stack, stack)
    rows, inside = np.ones((4, 9)), np.ones((4, 9), bool)
    for sliding in (False, True):
        found = row_fit(rows, rows, inside, 1.0, 6.0, sliding)
    left_over(rows, rows, inside, 1.0, 6.0, found, 5.0)
