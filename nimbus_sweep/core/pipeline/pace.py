"""How far work is that goes on in two strands beside each other, told as a share of its time."""

from __future__ import annotations

import time
from collections.abc import Callable, Sequence

# By how much a strand goes faster once it has the cores to itself, before that has been seen.
_ALONE = 1.6
# Shares and seconds below which a strand's speed is not known.
_KNOWN, _SEEN = 0.02, 1.0
# How fast the share goes on, against what it should, where it has been told too large.
_HELD_BACK = 0.5


class Pace:
    """Shares of two strands as one share of the time they take together: it never falls, and the time left goes by how fast each is.

    Parameters
    ----------
    weights : sequence of float
        How long each takes, about, in any unit; 0 for one that has nothing to do.
    clock : callable
        Seconds.
    """

    def __init__(self, weights: Sequence[float], clock: Callable[[], float] = time.monotonic) -> None:
        self._weights, self._clock = tuple(weights), clock
        self._began = self._last = clock()
        self._told = 0.0
        # When one of them ended, and how far each was then.
        self._ended: tuple[float, tuple[float, ...]] | None = None

    def share(self, shares: Sequence[float]) -> float:
        """The share of the whole that is done, 0 to 1."""
        now = self._clock()
        left = self._left(shares, now)
        elapsed, since, self._last = now - self._began, now - self._last, now
        if left is None:
            total = sum(self._weights) or 1.0
            wanted = sum(w * s for w, s in zip(self._weights, shares, strict=True)) / total
        else:
            wanted = elapsed / (elapsed + left) if left else 1.0
        if wanted <= self._told and left:
            wanted = self._told + _HELD_BACK * (1 - self._told) * min(1.0, since / left)
        self._told = min(1.0, max(self._told, wanted))
        return self._told

    def _left(self, shares: Sequence[float], now: float) -> float | None:
        """Seconds left; None where that is not known."""
        going = [(s, n) for n, s in enumerate(shares) if self._weights[n] > 0 and s < 1]
        if not going:
            return 0.0
        elapsed = now - self._began
        if min(s for s, _ in going) < _KNOWN or elapsed < _SEEN:
            return None
        if len(going) == 2:
            first, last = sorted(elapsed * (1 - s) / s for s, _ in going)
            return first + (last - first) / _ALONE
        if self._ended is None:
            self._ended = now, tuple(shares)
        share, n = going[0]
        at, then = self._ended
        passed = share - then[n]
        if now - at < _SEEN or passed < _KNOWN:
            return elapsed * (1 - share) / share / (_ALONE if sum(w > 0 for w in self._weights) > 1 else 1.0)
        return (now - at) * (1 - share) / passed
