"""Which Nimbus Sweep this is, told so exactly that two of the same name compute the same."""

from __future__ import annotations

import functools
import hashlib
import platform
from importlib.metadata import version
from pathlib import Path

from ... import __version__

# Libraries whose versions samples may depend on.
_LIBRARIES = ("av", "numba", "numpy", "opencv-python-headless", "openimageio", "scipy")


@functools.cache
def build() -> str:
    """The version, and a digest of the program's own files and of the versions of the libraries it computes with."""
    root = Path(__file__).parents[2]
    told = hashlib.sha256("".join(f"{name} {version(name)};" for name in _LIBRARIES).encode())
    told.update(".".join(platform.python_version_tuple()[:2]).encode())
    for path in sorted(p for part in ("core", "jobs") for p in (root / part).rglob("*") if p.suffix in (".py", ".json")):
        told.update(str(path.relative_to(root)).encode() + path.read_bytes())
    return f"{__version__} ({told.hexdigest()[:8]})"
