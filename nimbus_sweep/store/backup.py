"""The whole state in one file, made while the application runs, and put back elsewhere."""

from __future__ import annotations

import hashlib
import json
import shutil
import sqlite3
import tempfile
import zipfile
from collections.abc import Iterator
from contextlib import closing
from pathlib import Path

from .. import __version__
from ..core.base.errors import SweepError
from ..core.base.files import atomic_write
from .data import DataFolder

_FORMAT, _VERSION, _MANIFEST = "nimbus-sweep backup", 1, "manifest.json"
# What cannot be made again: all else in the data folder can.
_KEPT = (
    "contents/*/*",
    "uploads/**/*",
    "demo/*",
    "reels/*/*.npz",
    "reels/*/proxy.jpegs",
    "reels/*/proxy.ends",
    "reels/*/proxy.sums",
    "papers/**/*",
)
_DELIVERIES = "deliveries/**/*"
_BLOCK = 1 << 20


def backup(root: Path, path: Path, deliveries: bool = False) -> tuple[int, int]:
    """Write the state of a data folder to a file, whole or not at all; it may be in use.

    Parameters
    ----------
    root : Path
        The data folder.
    path : Path
    deliveries : bool
        Whether finished files go along.

    Returns
    -------
    files, size : int
        How many went in, and the bytes of the file.

    Raises
    ------
    SweepError
        If there is nothing to back up, or no room.
    """
    data = DataFolder(root)
    if not data.database.exists():
        raise SweepError(f"There is nothing to back up in {root}: no database is there. Name the data folder.")
    sums: dict[str, str] = {}
    with tempfile.TemporaryDirectory(prefix="backup-", dir=root) as scratch, atomic_write(path) as stream:
        copied = Path(scratch) / data.database.name
        with closing(sqlite3.connect(f"file:{data.database}?mode=ro", uri=True)) as source, closing(sqlite3.connect(copied)) as target:
            source.backup(target)
        with zipfile.ZipFile(stream, "w", zipfile.ZIP_STORED, allowZip64=True) as packed:
            # The database first: what it names is there by then, and what comes later it does not name.
            for name, file in ((data.database.name, copied), *_files(root, deliveries)):
                sums[name] = _packed(packed, name, file)
            told = {"format": _FORMAT, "version": _VERSION, "made_by": f"Nimbus Sweep {__version__}", "sums": sums}
            packed.writestr(_MANIFEST, json.dumps(told, indent=1))
    return len(sums), path.stat().st_size


def _files(root: Path, deliveries: bool) -> Iterator[tuple[str, Path]]:
    for pattern in (*_KEPT, *([_DELIVERIES] if deliveries else [])):
        for path in sorted(root.glob(pattern)):
            if path.is_file() and ".part" not in path.name:
                yield path.relative_to(root).as_posix(), path


def _packed(packed: zipfile.ZipFile, name: str, file: Path) -> str:
    total = hashlib.sha256()
    with file.open("rb") as source, packed.open(name, "w", force_zip64=True) as target:
        while block := source.read(_BLOCK):
            total.update(block)
            target.write(block)
    return total.hexdigest()


def restore(path: Path, root: Path) -> int:
    """Put a backup into an empty data folder; gives how many files it had.

    Raises
    ------
    SweepError
        If the folder is not empty, or the file is no backup, of a newer version, or damaged; the folder is left empty then.
    """
    if root.exists() and any(root.iterdir()):
        raise SweepError(f"{root} is not empty. Name an empty folder, so that nothing is written over.")
    try:
        with zipfile.ZipFile(path) as packed:
            told = json.loads(packed.read(_MANIFEST))
            if not isinstance(told, dict) or told.get("format") != _FORMAT:
                raise SweepError(f"{path.name} is not a backup of Nimbus Sweep.")
            if int(told.get("version", 0)) > _VERSION:
                raise SweepError(f"{path.name} was made by a newer version of Nimbus Sweep. Bring this one up to date.")
            DataFolder(root).make()
            for name, wanted in told["sums"].items():
                _unpacked(packed, path, root, name, wanted)
            return len(told["sums"])
    except (OSError, zipfile.BadZipFile, KeyError, ValueError, EOFError, RuntimeError, NotImplementedError) as error:
        _empty(root)
        raise SweepError(f"{path.name} is not a backup that can be read, or it is damaged ({error}). Copy it again.") from error
    except SweepError:
        _empty(root)
        raise


def _unpacked(packed: zipfile.ZipFile, path: Path, root: Path, name: str, wanted: str) -> None:
    target = (root / name).resolve()
    if not target.is_relative_to(root.resolve()):
        raise SweepError(f"{path.name} holds what does not belong to a backup ({name}). Nothing was put back.")
    target.parent.mkdir(parents=True, exist_ok=True)
    total = hashlib.sha256()
    with packed.open(name) as source, target.open("wb") as stream:
        while block := source.read(_BLOCK):
            total.update(block)
            stream.write(block)
    if total.hexdigest() != wanted:
        raise SweepError(f"{path.name} is damaged: {name} is not what was backed up. Copy it again from where it was made.")


def _empty(root: Path) -> None:
    for part in root.iterdir() if root.exists() else ():
        shutil.rmtree(part) if part.is_dir() else part.unlink()
