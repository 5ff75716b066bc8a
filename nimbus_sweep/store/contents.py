"""What is too large for a row: masks, plates and paths lie in files that are named by what they hold."""

from __future__ import annotations

import hashlib
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any

from ..core.base.errors import SweepError
from ..core.base.files import atomic_write

# Characters from which a text lies in a file, and what stands for it in the row.
_LONG, _STANDS = 1500, "content"


class Contents:
    """A folder of files named by the SHA-256 of what they hold; `folder` is set when the database is opened."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder

    def put(self, text: str) -> str:
        """Keep a text; gives its name."""
        name = hashlib.sha256(text.encode()).hexdigest()
        path = self._path(name)
        if not path.exists():
            path.parent.mkdir(parents=True, exist_ok=True)
            with atomic_write(path) as stream:
                stream.write(text.encode())
        return name

    def get(self, name: str) -> str:
        """A text that is kept.

        Raises
        ------
        SweepError
            If it is not there any more, or was damaged.
        """
        try:
            held = self._path(name).read_bytes()
        except OSError as error:
            raise SweepError(f"A part of this treatment, {name[:12]}…, is gone from the data folder. Put a backup back.") from error
        if hashlib.sha256(held).hexdigest() != name:
            raise SweepError(f"A part of this treatment, {name[:12]}…, was damaged in the data folder. Put a backup back.")
        return held.decode()

    def lean(self, value: Any) -> Any:
        """Plain values with long texts put into files."""
        return _each(value, lambda v: {_STANDS: self.put(v)} if isinstance(v, str) and len(v) >= _LONG else v)

    def whole(self, value: Any) -> Any:
        """The values with the texts themselves again."""
        if not isinstance(value, dict | list):
            return value
        return _each(value, lambda v: self.get(v[_STANDS]) if isinstance(v, dict) and set(v) == {_STANDS} else v)

    def damaged(self) -> list[str]:
        """The names of files that do not hold what their name says."""
        return [p.name for p in self.files() if hashlib.sha256(p.read_bytes()).hexdigest() != p.name]

    def files(self) -> Iterator[Path]:
        """All files."""
        return (p for p in self.folder.glob("??/*") if len(p.name) == 64)

    def _path(self, name: str) -> Path:
        return self.folder / name[:2] / name


def named_in(value: Any) -> set[str]:
    """The names of the files that plain values stand for."""
    names: set[str] = set()

    def note(v: Any) -> Any:
        if isinstance(v, dict) and set(v) == {_STANDS}:
            names.add(v[_STANDS])
        return v

    _each(value, note)
    return names


def _each(value: Any, change: Callable[[Any], Any]) -> Any:
    changed = change(value)
    if changed is not value:
        return changed
    if isinstance(value, dict):
        return {k: _each(v, change) for k, v in value.items()}
    if isinstance(value, list | tuple):
        return [_each(v, change) for v in value]
    return value
