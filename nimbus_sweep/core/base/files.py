"""Files written aside and renamed when whole, so that no half file is ever taken for a finished one."""

from __future__ import annotations

import errno
import glob
import logging
import os
import shutil
import threading
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import BinaryIO, TypeVar

from .errors import DiskFull, SweepError

log = logging.getLogger(__name__)
Kept = TypeVar("Kept")
FULL = {errno.ENOSPC, errno.EDQUOT, errno.EFBIG}


def disk_full(path: Path) -> DiskFull:
    """The error to raise when writing `path` found no room."""
    try:
        left = f"{shutil.disk_usage(path.parent).free / 1e6:.0f} MB are left there. "
    except OSError:
        left = ""
    return DiskFull(f"The disk is full: {path.name} could not be written in {path.parent}. {left}Free some space and start it again.")


def kept(paths: tuple[Path, ...], opened: Callable[[], Kept]) -> Kept | None:
    """What was kept in some files together; None where one of them is missing. What is damaged is dropped, to be made again."""
    if not all(path.exists() for path in paths):
        return None
    try:
        return opened()
    except (ValueError, KeyError, TypeError, OSError):
        log.warning("%s is damaged and is made again", paths[0], exc_info=True)
        for path in paths:
            path.unlink(missing_ok=True)
        return None


def require_room(path: Path, needed: int) -> None:
    """Raise DiskFull before anything is written where `path` would find no room for so many bytes."""
    try:
        free = shutil.disk_usage(path.parent).free
    except OSError:
        return
    if needed > free:
        raise DiskFull(
            f"There is not enough room on the disk: this shot takes {needed / 1e6:.0f} MB in {path.parent}, and {free / 1e6:.0f} MB are free. "
            "Free some space and start it again."
        )


def _is_full(error: BaseException | None) -> bool:
    """Whether there was no room, here or in what led here: the media library wraps what its file raises."""
    while error is not None:
        if isinstance(error, OSError) and error.errno in FULL:
            return True
        error = error.__cause__ or error.__context__
    return False


def _clear(path: Path) -> None:
    """Remove what processes that are no more had begun to write."""
    for left in path.parent.glob(f".{glob.escape(path.name)}.*.part"):
        writer = left.name.split(".")[-2].partition("-")[0]
        try:
            os.kill(int(writer), 0)
        except (ProcessLookupError, ValueError):
            left.unlink(missing_ok=True)
        except PermissionError:
            continue


@contextmanager
def atomic_write(path: str | Path, durable: bool = True) -> Iterator[BinaryIO]:
    """Write to a neighbour of `path` and give it that name only once it is whole and on the disk.

    Parameters
    ----------
    path : path-like
    durable : bool
        Wait until the disk has it; not needed for what is made again when it is lost.

    Raises
    ------
    DiskFull
        If there is no room; nothing is left behind.
    """
    path = Path(path)
    _clear(path)
    # A name of its own: two that write the same at once each write it whole, and the later one stays.
    aside = path.with_name(f".{path.name}.{os.getpid()}-{threading.get_ident()}.part")
    try:
        with open(aside, "w+b") as stream:
            yield stream
            stream.flush()
            if durable:
                os.fsync(stream.fileno())
        aside.replace(path)
    except BaseException as error:
        aside.unlink(missing_ok=True)
        if _is_full(error):
            raise disk_full(path) from error
        if isinstance(error, PermissionError | FileNotFoundError | IsADirectoryError | NotADirectoryError):
            raise SweepError(f"{path} cannot be written ({error.strerror}). Choose another place for it.") from error
        raise
