"""Work spread over all cores, let go of at once when nobody wants its results any more."""

from __future__ import annotations

import os
import threading
from collections import deque
from collections.abc import Callable, Iterable, Iterator
from concurrent.futures import Future, ThreadPoolExecutor
from contextlib import contextmanager
from multiprocessing import parent_process
from typing import TypeVar

import cv2

# Says how many cores to work on, where that is not for the machine to say: in tests that run side by side, on shared machines.
CORES = "NIMBUS_SWEEP_CORES"

Item = TypeVar("Item")
Result = TypeVar("Result")


def cores() -> int:
    """How many cores to work on: those of the machine, or as many as the environment's ``NIMBUS_SWEEP_CORES`` says."""
    asked = os.environ.get(CORES, "")
    return max(1, int(asked)) if asked.isdigit() else os.cpu_count() or 1


def parallel_map(work: Callable[[Item], Result], items: Iterable[Item]) -> Iterator[Result]:
    """The results of `work` on each item, in order; what has not begun is dropped when the caller stops asking."""
    many = cores()
    if many == 1:
        yield from map(work, items)
        return
    pool = ThreadPoolExecutor(many)
    try:
        waiting = [pool.submit(work, item) for item in items]
        for future in waiting:
            yield future.result()
    finally:
        pool.shutdown(wait=True, cancel_futures=True)


def buffered_map(work: Callable[[Item], Result], items: Iterable[Item], most: int = 4) -> Iterator[tuple[Item, Result]]:
    """Items in order, each with what `work` makes of it, a few of them ahead in threads beside the caller; on one core, at once."""
    if cores() == 1:
        yield from ((item, work(item)) for item in items)
        return
    under_way: deque[tuple[Item, Future[Result]]] = deque()
    with ThreadPoolExecutor(2) as pool:
        for item in items:
            under_way.append((item, pool.submit(work, item)))
            if len(under_way) >= most:
                first, future = under_way.popleft()
                yield first, future.result()
        for first, future in under_way:
            yield first, future.result()


class Tasks:
    """Tasks of a pass over frames, in as many threads; those that nobody waits for any more are dropped at the end.

    On one core a task is done when it is begun.
    """

    def __init__(self, many: int) -> None:
        self._pool = ThreadPoolExecutor(many) if many > 1 else None

    def __enter__(self) -> Tasks:
        return self

    def __exit__(self, *_: object) -> None:
        if self._pool is not None:
            self._pool.shutdown(wait=True, cancel_futures=True)

    def begin(self, work: Callable[..., Result], *asked: object) -> Future[Result]:
        """Begin `work`; one that waits for others has to be begun after them."""
        if self._pool is not None:
            return self._pool.submit(work, *asked)
        done: Future[Result] = Future()
        try:
            done.set_result(work(*asked))
        except BaseException as error:
            done.set_exception(error)
        return done


class _LibraryThreads:
    """How many have asked for the picture library to keep to one thread, and how many threads it had before."""

    lock = threading.Lock()
    asked = 0
    before = 1


@contextmanager
def single_threaded_pictures() -> Iterator[None]:
    """Keep the picture library to one thread while all cores are at work anyway: its own would only stand in their way."""
    with _LibraryThreads.lock:
        if not _LibraryThreads.asked:
            _LibraryThreads.before = cv2.getNumThreads()
            cv2.setNumThreads(1)
        _LibraryThreads.asked += 1
    try:
        yield
    finally:
        with _LibraryThreads.lock:
            _LibraryThreads.asked -= 1
            if not _LibraryThreads.asked:
                cv2.setNumThreads(_LibraryThreads.before)


def share_cores() -> None:
    """Begin a process of a pool: keep the picture library to one thread, and leave when the one who asked is gone."""
    cv2.setNumThreads(1)
    threading.Thread(target=_leave_with_parent, daemon=True).start()


def _leave_with_parent() -> None:
    # One that was killed cannot let its pool go: its processes would wait for work for ever.
    parent = parent_process()
    if parent is not None:
        parent.join()
        os._exit(1)
