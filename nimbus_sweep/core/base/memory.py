"""Memory that was let go, given back to the system."""

from __future__ import annotations

import ctypes
import gc
import sys


def give_back() -> None:
    """Give back what was let go: the C library keeps it for later, and more of it after each large piece of work (malloc_trim(3))."""
    gc.collect()
    if sys.platform == "linux":
        # Other C libraries than glibc have no such function.
        trim = getattr(ctypes.CDLL(None), "malloc_trim", None)
        if trim is not None:
            trim(0)
