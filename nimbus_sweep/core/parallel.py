"""Work spread over all cores in threads, let go of at once when nobody wants its results any more."""

from __future__ import annotations

import os
from collections import deque
from collections.abc import Callable, Iterable, Iterator
from concurrent.futures import Future, ThreadPoolExecutor
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


def ahead(work: Callable[[Item], Result], items: Iterable[Item], most: int = 4) -> Iterator[tuple[Item, Result]]:
    """Items in order, each with what `work` makes of it, a few of them ahead in threads beside the caller."""
    under_way: deque[tuple[Item, Future[Result]]] = deque()
    with ThreadPoolExecutor(2) as pool:
        for item in items:
            under_way.append((item, pool.submit(work, item)))
            if len(under_way) >= most:
                first, future = under_way.popleft()
                yield first, future.result()
        for first, future in under_way:
            yield first, future.result()
