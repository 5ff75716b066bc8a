"""Memory that was let go, given back to the system, and kept together while it is used."""

from __future__ import annotations

import ctypes
import gc
import sys
from typing import Any

# Of glibc's malloc.h, and how many heaps there are to be: by itself it has up to eight for each core, and what is free in one serves none of
# the others.
_ARENA_MAX, _HEAPS = -8, 2


def give_back() -> None:
    """Give back what was let go: the C library keeps it for later, and more of it after each large piece of work (malloc_trim(3))."""
    gc.collect()
    trim = _from_library("malloc_trim")
    if trim is not None:
        trim(0)


def keep_together() -> None:
    """Have threads share their heaps (mallopt(3)); to be asked for before there are many."""
    option = _from_library("mallopt")
    if option is not None:
        option(_ARENA_MAX, _HEAPS)


def _from_library(name: str) -> Any:
    """A function of the C library; None where it has no such function, as others than glibc."""
    return getattr(ctypes.CDLL(None), name, None) if sys.platform == "linux" else None
