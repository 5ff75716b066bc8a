"""Analyses that are a few plain values: written and read as JSON beside the layout of the pictures."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

import numpy as np

from ..base.files import atomic_write
from ..media.frames import PictureFormat


def keep(path: Path, layout: PictureFormat, **values: Any) -> None:
    """Write plain values to `path`, whole or not at all."""
    with atomic_write(path) as stream:
        np.savez(stream, told=np.array(json.dumps({"format": layout.as_json(), **values})))


def kept(path: Path) -> tuple[PictureFormat, dict[str, Any]]:
    """Read what `keep` wrote: the layout, and the values by their names."""
    with np.load(path) as stored:
        values = json.loads(str(stored["told"]))
    return PictureFormat.from_json(values.pop("format")), values
