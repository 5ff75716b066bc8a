"""Which of what came and went is told of as a cue mark: those of a pair, and those that lie alone."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np

from .events import Event

# How sure one alone is that behaves as a mark does, and codes by which it has to stand out for that. By how many frames it stays: in 46
# drawn clips without a cue mark all that behaved so stayed for two (six, in three clips: dirt that lasted), six marks all for three or four.
_ALONE, _FAINT = 0.93, 15.0
_USUAL = {3: 0.95, 4: 1.0, 5: 0.95, 6: 0.8}


@dataclass(frozen=True)
class Cue:
    """A mark that is told of.

    Attributes
    ----------
    event : Event
    partner : int
        Place of the first frame of the other of the pair; -1 for none.
    sure : float
        0 to 1.
    """

    event: Event
    partner: int
    sure: float


def paired(found: Sequence[Event]) -> list[Cue]:
    """What was found, each with its partner, where there is one, and how sure it is a cue mark."""
    cues = []
    for event in found:
        mates = [e for e in found if event.mates(e)]
        usual = max(_USUAL.get(n, 0.3) for n in (event.stop - event.first, event.lasts))
        if mates:
            mate = max(mates, key=lambda e: e.strength)
            cues.append(Cue(event, mate.first, min(1.0, 0.35 + 0.65 * np.sqrt(event.strength * mate.strength))))
        else:
            # One alone may be a lamp, which blinks at its place again, or dirt that lasted for two frames.
            again = sum(e is not event and e.there(event) for e in found)
            cues.append(Cue(event, -1, _ALONE * event.strength * usual * 0.5**again * min(1.0, event.contrast / _FAINT)))
    return [replace(c, sure=round(float(c.sure), 3)) for c in cues if c.sure >= 0.1]
