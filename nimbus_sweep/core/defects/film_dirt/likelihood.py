"""How sure it is that something is a speck, by itself; see `shot_odds` for what the shot says to it."""

from __future__ import annotations

from dataclasses import dataclass, fields, replace
from math import exp, log

from ...base.compiled import compiled

# What of its contrast a thing leaves at most that is found again, and the difference taken for two neighbours of which one is not seen.
FOUND, UNTOLD = 0.3, 0.3
_BIAS = -0.21
_CERTAIN = 0.9
# In codes, what is plainly seen.
_PLAIN = 20.0


@dataclass(frozen=True)
class SpeckEvidence:
    """How the repair of a candidate behaves.

    Attributes
    ----------
    contrast : float
        What it is out by, in codes; the shares below are of it.
    misfit, least : float
        What the fill, and the better neighbour, miss on the ring around the hole.
    differ : float
        By how much the two neighbours tell different things inside.
    moves : float
        Spread of the motion on the ring, in pixels.
    life, flat : float
        Deviation of the ring, and from a plane through it.
    area : float
        Samples of the hole.
    usable : int
        Neighbours that are not marked there themselves.
    strength : float
        The largest rank-ordered difference.
    wide : float
        What the better neighbour misses in the wider surroundings.
    beside : float
        Share of those that may be specks in the neighbours.
    found : float
        What is left over where it is best found near by in a neighbour; no more than `FOUND`.
    """

    contrast: float
    misfit: float
    differ: float
    moves: float
    life: float
    area: float
    usable: int
    strength: float
    least: float
    wide: float
    beside: float
    flat: float
    found: float

    @property
    def fast(self) -> bool:
        """Whether it would be taken for a speck if the motion about it could be followed."""
        followed = replace(self, moves=0.05, wide=0.0, beside=0.0)
        return self.contrast >= _PLAIN and self.sure < 0.5 and followed.sure >= _CERTAIN

    @property
    def sure(self) -> float:
        """How sure it is a speck, 0 to 1."""
        return sureness(*(getattr(self, f.name) for f in fields(self)))


@compiled("(float64, float64, float64, float64, float64, float64, int64, float64, float64, float64, float64, float64, float64)")
def sureness(
    contrast: float,
    misfit: float,
    differ: float,
    moves: float,
    life: float,
    area: float,
    usable: int,
    strength: float,
    least: float,
    wide: float,
    beside: float,
    flat: float,
    found: float,
) -> float:
    """How sure it is that something is a speck, 0 to 1; see `SpeckEvidence`."""
    single = 2 - usable
    log_area = log(min(max(area, 2.0), 5000.0))
    evidence = (
        _BIAS
        + 2.08 * log(min(max(contrast, 3.0), 200.0))
        - 1.53 * min(misfit, 2.0) ** 0.5
        + (1.55 * single - 6.49) * min(differ, 2.0) ** 0.5
        - 0.55 * log(min(max(moves, 0.05), 30.0))
        - 1.22 * min(life, 4.0) ** 0.5
        - 0.62 * log_area
        - 1.45 * single
        + 3.03 * min(max(strength, 0.0), 1.0)
        - 1.89 * min(least, 2.0) ** 0.5
        - 5.01 * min(wide, 2.0) ** 0.5
        - 3.26 * max(beside, 0.0) ** 0.5
        + 1.02 * min(flat, 2.0) ** 0.5
        - 31.8 * max(0.0, FOUND - found)
        - 0.88 * max(0.0, log_area - 6)
    )
    return 1 / (1 + exp(-min(max(evidence, -40.0), 40.0)))
