"""Where work on frames is done: in this process and its pools, or on the workers of a cluster; and how it is handed out.

Each piece of work lies as a file in a folder that all see, under a name made of what is asked; its result is put beside it. So a
piece that is done twice is the same, and what was done before a stop is not done again.
"""

from __future__ import annotations

import hashlib
import pickle
import time
from collections.abc import Callable, Iterator, Sequence
from concurrent.futures import Executor, Future, ThreadPoolExecutor, wait
from contextlib import suppress
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from ..core.base.build import build
from ..core.base.errors import Cancelled
from ..core.base.files import atomic_write
from .progress import Progress


@dataclass(frozen=True)
class Work:
    """A piece of work: `do` is called with what is `given` and with what it is to tell its share to.

    Attributes
    ----------
    do : callable
        Found by its name in its module.
    given : tuple
        Plain values.
    said : str
        What is shown while it is done.
    frames : int
        That it goes through, for the frames a second.
    """

    do: Callable[..., Any]
    given: tuple[Any, ...]
    said: str
    frames: int = 1

    @property
    def key(self) -> str:
        """Its name, made of what is asked and of the program that is to do it."""
        return hashlib.sha256(build().encode() + self.asked()).hexdigest()[:32]

    def asked(self) -> bytes:
        """What is asked, as it is stored."""
        return pickle.dumps((self.do, self.given))


class Machines:
    """This machine alone: pieces of work one after another, each on all cores.

    Attributes
    ----------
    many : int
        How many pieces are done at once.
    trouble : str
        What keeps the work waiting, in a sentence; empty while it goes on.
    """

    many = 1
    trouble = ""

    def executor(self, *sees: str) -> Executor:
        """Where pieces of work are done, to be shut down when they are; whoever works there has to see the files and folders named."""
        return ThreadPoolExecutor(1)

    def stretches(self, *sees: str) -> Executor | None:
        """Where stretches of a render are done; None for a pool of processes of the render's own."""
        return None


_current = Machines()


def current() -> Machines:
    """Where work is done now."""
    return _current


def use(machines: Machines) -> None:
    """Have work done there from now on."""
    global _current
    _current = machines


def done(folder: Path, works: Sequence[Work], progress: Progress, sees: Sequence[str] = ()) -> Iterator[tuple[int, Any]]:
    """Do pieces of work; gives the place of each among `works` and its result, in the order in which they end.

    Parameters
    ----------
    folder : Path
        For their files; what was done of the same there before is taken as it is.
    works : sequence of Work
    progress : Progress
        Told the share of all; may raise to stop them.
    sees : sequence of str
        Files that whoever does the work has to see, beside the folder.
    """
    if not works:
        return
    machines = current()
    folder.mkdir(parents=True, exist_ok=True)
    pieces = [_Piece(folder, work) for work in works]
    began, total = time.monotonic(), sum(w.frames for w in works)
    pool = machines.executor(str(folder), *sees)
    waiting: dict[Future[None], int] = {}
    try:
        for n, piece in enumerate(pieces):
            waiting[pool.submit(perform, *piece.put())] = n
        before = sum(p.share() * p.work.frames for p in pieces)
        while waiting:
            ended, _ = wait(waiting, timeout=0.3, return_when="FIRST_COMPLETED")
            for future in ended:
                n = waiting.pop(future)
                future.result()
                yield n, pieces[n].result()
            frames = sum(p.share() * p.work.frames for p in pieces)
            rate = max(0.0, frames - before) / max(0.01, time.monotonic() - began)
            progress(frames / total, rate, machines.trouble or _said(pieces))
    finally:
        # What is not asked for any more stops.
        for piece in pieces:
            piece.take_back()
        pool.shutdown(cancel_futures=True)


def perform(folder: str, key: str) -> None:
    """Do a piece of work that lies in a folder, and put its result there."""
    asked, kept = _paths(Path(folder), key)
    if kept.exists():
        return
    try:
        do, given = pickle.loads(asked.read_bytes())
    except FileNotFoundError:
        raise Cancelled from None
    result = do(*given, _Share(asked))
    with atomic_write(kept) as stream:
        pickle.dump(result, stream)


def _paths(folder: Path, key: str) -> tuple[Path, Path]:
    return folder / f"{key}.asked", folder / f"{key}.done"


def _share_path(asked: Path) -> Path:
    return asked.with_suffix(".share")


# Seconds between two signs of how far a piece is.
_TOLD = 0.3


class _Share:
    """Notes how far a piece is, and raises Cancelled when it is taken back."""

    def __init__(self, asked: Path) -> None:
        self._asked, self._last = asked, 0.0

    def __call__(self, share: float) -> None:
        now = time.monotonic()
        if now - self._last < _TOLD:
            return
        self._last = now
        if not self._asked.exists():
            raise Cancelled
        # How far it is matters less than that it goes on, on a full disk as well.
        with suppress(OSError):
            _share_path(self._asked).write_text(f"{share:.4f}")


class _Piece:
    """A piece of work that was handed out."""

    def __init__(self, folder: Path, work: Work) -> None:
        self.work, self._folder, self._key = work, folder, work.key
        self._asked, self._kept = _paths(folder, self._key)
        self._share = 0.0

    def put(self) -> tuple[str, str]:
        """Put it where it is found; gives what finds it."""
        if not self._kept.exists():
            with atomic_write(self._asked) as stream:
                stream.write(self.work.asked())
        return str(self._folder), self._key

    def share(self) -> float:
        """How far it is, 0 to 1."""
        if self._kept.exists():
            return 1.0
        with suppress(OSError, ValueError):
            self._share = float(_share_path(self._asked).read_text())
        return self._share

    def begun(self) -> bool:
        """Whether it is being done."""
        return not self._kept.exists() and _share_path(self._asked).exists()

    def result(self) -> Any:
        """What was made of it."""
        return pickle.loads(self._kept.read_bytes())

    def take_back(self) -> None:
        """Have whoever does it stop."""
        self._asked.unlink(missing_ok=True)
        _share_path(self._asked).unlink(missing_ok=True)


def _said(pieces: Sequence[_Piece]) -> str | None:
    begun = [p.work.said for p in pieces if p.begun()]
    return f"{begun[0]} and {len(begun) - 1} more" if len(begun) > 1 else begun[0] if begun else None
