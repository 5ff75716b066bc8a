"""Work spread over all cores in threads, let go of at once when nobody wants its results any more."""

from __future__ import annotations

import os
from collections.abc import Callable, Iterable, Iterator
from concurrent.futures import ThreadPoolExecutor
from typing import TypeVar

Item = TypeVar("Item")
Result = TypeVar("Result")


def mapped(work: Callable[[Item], Result], items: Iterable[Item]) -> Iterator[Result]:
    """The results of `work` on each item, in order; what has not begun is dropped when the caller stops asking."""
    pool = ThreadPoolExecutor(os.cpu_count())
    try:
        waiting = [pool.submit(work, item) for item in items]
        for future in waiting:
            yield future.result()
    finally:
        pool.shutdown(wait=True, cancel_futures=True)
