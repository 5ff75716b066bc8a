"""Work on what came from outside, in a process of its own with limits: whatever ends that process ends nothing else."""

from __future__ import annotations

import contextlib
import logging
import os
import resource
import sys
import threading
from collections.abc import Callable
from multiprocessing import get_context
from multiprocessing.connection import Connection
from typing import Any, ParamSpec, TypeVar

from .errors import SweepError

log = logging.getLogger(__name__)
Told = TypeVar("Told")
Given = ParamSpec("Given")
# Address space in bytes that the process may have, and seconds that one piece of work may take.
MEMORY, SECONDS = 3 << 30, 20.0
# Pixels of a picture at most; for the picture library, which reads it when it is imported.
_PIXELS = 100_000_000


class Apart:
    """A process that decodes and parses what came from outside, started when it is first needed and again when it has ended.

    Parameters
    ----------
    memory : int
        Bytes of address space it may have.
    seconds : float
        That one piece of work may take.
    """

    def __init__(self, memory: int = MEMORY, seconds: float = SECONDS) -> None:
        self._memory, self._seconds = memory, seconds
        self._lock = threading.Lock()
        self._process: Any = None
        self._line: Connection | None = None

    def __call__(self, what: str, work: Callable[Given, Told], *args: Given.args, **kwargs: Given.kwargs) -> Told:
        """Do a piece of work there.

        Parameters
        ----------
        what : str
            What is read, as the user knows it: a sentence begins with it.
        work : callable
            Of the top level of a module; what it is given and gives can be pickled.

        Raises
        ------
        SweepError
            As `work` raises it; or if the process ended, ran out of memory or took too long over it.
        """
        return self.within(self._seconds, what, work, *args, **kwargs)

    def within(self, seconds: float, what: str, work: Callable[Given, Told], *args: Given.args, **kwargs: Given.kwargs) -> Told:
        """The same, within other seconds than usual."""
        with self._lock:
            line = self._begin()
            try:
                line.send((work, args, kwargs))
                if not line.poll(seconds):
                    self._end()
                    raise SweepError(
                        f"{what} took longer than {seconds:.0f} s to be read and was given up. It may be damaged; save it again."
                    )
                sound, told = line.recv()
            except (EOFError, OSError) as error:
                self._end()
                log.warning("the process that reads what comes from outside ended over %s", what)
                raise SweepError(f"{what} cannot be read: it is damaged, or takes more memory than it should. Save it again.") from error
        if not sound:
            raise SweepError(told or f"{what} cannot be read: it is damaged. Save it again.")
        result: Told = told
        return result

    def _begin(self) -> Connection:
        if self._line is None or not self._process.is_alive():
            self._end()
            context = get_context("spawn")
            self._line, other = context.Pipe()
            self._process = context.Process(target=_serve, args=(other, self._memory), daemon=True)
            self._process.start()
            other.close()
        assert self._line is not None
        return self._line

    def end(self) -> None:
        """Let go of the process."""
        with self._lock:
            self._end()

    def _end(self) -> None:
        if self._process is not None:
            self._process.kill()
            self._process.join()
        if self._line is not None:
            self._line.close()
        self._process = self._line = None


def _serve(line: Connection, memory: int) -> None:
    """Do what is asked for until nobody asks any more."""
    os.environ |= {"OPENCV_IO_MAX_IMAGE_PIXELS": str(_PIXELS), "OPENBLAS_NUM_THREADS": "1"}
    with contextlib.suppress(ValueError, OSError):
        resource.setrlimit(resource.RLIMIT_AS, (memory, memory))
        resource.setrlimit(resource.RLIMIT_CORE, (0, 0))
    # What a parser of nested text may go down to: far from where the stack ends.
    sys.setrecursionlimit(2000)
    while True:
        try:
            work, args, kwargs = line.recv()
        except (EOFError, OSError):
            return
        try:
            answer = True, work(*args, **kwargs)
        except SweepError as error:
            answer = False, str(error)
        except Exception:
            answer = False, ""
        line.send(answer)
