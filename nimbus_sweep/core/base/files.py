"""Files written aside and renamed when whole, so that no half file is ever taken for a finished one, and checked when they are read."""

from __future__ import annotations

import errno
import glob
import json
import logging
import os
import re
import shutil
import socket
import tempfile
import threading
import zlib
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any, BinaryIO, TypeVar
from zipfile import BadZipFile

from .errors import DiskFull, SweepError

log = logging.getLogger(__name__)
Kept = TypeVar("Kept")
# What reading a file that was altered or cut raises.
DAMAGED = (ValueError, KeyError, TypeError, OSError, EOFError, BadZipFile, zlib.error)
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
    except DAMAGED:
        log.warning("%s is damaged and is made again", paths[0], exc_info=True)
        for path in paths:
            path.unlink(missing_ok=True)
        return None


class Summed:
    """A file that is being written, and the checksum (CRC-32) of what was.

    Parameters
    ----------
    stream : BinaryIO
    """

    def __init__(self, stream: BinaryIO) -> None:
        self._stream, self.sum = stream, 0

    def write(self, data: memoryview | bytes) -> None:
        """Write the next bytes."""
        self.sum = zlib.crc32(data, self.sum)
        self._stream.write(data)


def describe(path: Path, values: dict[str, Any]) -> None:
    """Write what is to be known of a file kept beside it, as JSON with a checksum of its own."""
    with atomic_write(path) as stream:
        stream.write(json.dumps({**values, "own_sum": zlib.crc32(json.dumps(values).encode())}).encode())


def description(path: Path) -> dict[str, Any]:
    """Read what `describe` wrote; ValueError where it was altered. One of an earlier version has no checksum, and is believed."""
    values: dict[str, Any] = json.loads(path.read_text())
    wanted = values.pop("own_sum", None)
    if wanted not in (None, zlib.crc32(json.dumps(values).encode())):
        raise ValueError(f"{path.name} was altered.")
    return values


_BLOCK = 1 << 22
# Files that this process found as they were written: each is gone through once.
_unaltered: dict[Path, tuple[int, int, int]] = {}


def require_unaltered(path: Path, wanted: int | None) -> None:
    """Raise ValueError where a file has another checksum than when it was written; None is believed."""
    if wanted is None:
        return
    found = path.stat()
    stamp = found.st_ino, found.st_size, found.st_mtime_ns
    if _unaltered.get(path) == stamp:
        return
    total = 0
    with open(path, "rb") as stream:
        while block := stream.read(_BLOCK):
            total = zlib.crc32(block, total)
    if total != wanted:
        raise ValueError(f"{path.name} was altered.")
    _unaltered[path] = stamp


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


def _owner() -> str:
    """This process and thread among all that see the same files: machine, process, thread."""
    return f"{_MACHINE}~{os.getpid()}~{threading.get_ident()}"


_MACHINE = re.sub(r"[^A-Za-z0-9-]", "_", socket.gethostname())


def _is_left(owner: str) -> bool:
    """Whether the process that `_owner` names is no more; those of other machines are not known, and count as at work."""
    machine, _, process = owner.partition("~")
    if machine != _MACHINE and process:
        return False
    try:
        os.kill(int(process.partition("~")[0]), 0)
    except (ProcessLookupError, ValueError):
        return True
    except PermissionError:
        return False
    return False


def _clear(path: Path) -> None:
    """Remove what processes that are no more had begun to write."""
    for left in path.parent.glob(f".{glob.escape(path.name)}.*.part"):
        if _is_left(left.name.split(".")[-2]):
            left.unlink(missing_ok=True)


@contextmanager
def scratch_folder(parent: str | Path, name: str) -> Iterator[Path]:
    """A working folder that is gone afterwards; its name says whose it is."""
    folder = Path(tempfile.mkdtemp(prefix=f"{name}-{_owner()}~", dir=parent))
    try:
        yield folder
    finally:
        shutil.rmtree(folder, ignore_errors=True)


def clear_left(parent: Path, pattern: str) -> int:
    """Remove working folders that processes of this machine left behind when they were killed; gives how many."""
    left = [path for path in parent.glob(pattern) if path.is_dir() and _is_left(path.name.partition("-")[2])]
    for path in left:
        shutil.rmtree(path, ignore_errors=True)
    return len(left)


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
    aside = path.with_name(f".{path.name}.{_owner()}.part")
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
