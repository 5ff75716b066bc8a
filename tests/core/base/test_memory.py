"""What was let go is no longer held."""

from __future__ import annotations

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
