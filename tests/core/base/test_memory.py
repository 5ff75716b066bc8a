"""What was let go is no longer held."""

from __future__ import annotations

import ctypes
import subprocess
import sys
from pathlib import Path

import pytest

from nimbus_sweep.core.base.memory import give_back


def held() -> int:
    """Memory that this process holds itself, in KiB."""
    line = next(n for n in Path("/proc/self/status").read_text().splitlines() if n.startswith("RssAnon"))
    return int(line.split()[1])


@pytest.mark.skipif(sys.platform != "linux", reason="/proc tells what is held")
def test_what_is_let_go_is_given_back() -> None:
    # Small enough for the library to keep, with pieces between them that stay in use.
    blocks = [bytes([1]) * 60_000 for _ in range(4000)]
    full = held()
    blocks = blocks[::400]
    give_back()
    assert len(blocks) == 10
    assert full - held() > 150_000


# Sixteen threads that each hold a block: how many heaps does the library's own report count (malloc_stats(3))?
_THREADS = """
import ctypes, sys, threading
if sys.argv[1] == "together":
    from nimbus_sweep.core.base.memory import keep_together
    keep_together()
library, ready, over = ctypes.CDLL(None), threading.Barrier(17), threading.Event()
library.malloc.restype = ctypes.c_void_p
def hold():
    library.malloc(ctypes.c_size_t(5000))
    ready.wait()
    over.wait()
threads = [threading.Thread(target=hold) for _ in range(16)]
[t.start() for t in threads]
ready.wait()
library.malloc_stats()
over.set()
"""


@pytest.mark.skipif(not hasattr(ctypes.CDLL(None), "malloc_stats"), reason="a library that counts its heaps")
def test_threads_share_their_heaps() -> None:
    def heaps(how: str) -> int:
        told = subprocess.run([sys.executable, "-c", _THREADS, how], check=True, capture_output=True, text=True)
        return told.stderr.count("Arena")

    assert heaps("together") <= 2 < heaps("apart")
