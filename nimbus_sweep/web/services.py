"""What the requests share."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from pathlib import Path

from flask import current_app

from ..core.base.apart import Apart
from ..jobs.queue import Queue
from ..store.data import DataFolder
from .viewing import Viewing


@dataclass
class Services:
    """What the requests share.

    Attributes
    ----------
    data : DataFolder
    queue : Queue
    viewing : Viewing
    allowed : sequence of Path
        Folders that reels may be opened from by their path.
    upload_limit : int
        Bytes.
    hosts : frozenset of str
        Addresses the application answers under; any when empty.
    user : str
        Who changes are made by.
    apart : Apart
        Where what came from outside is decoded and parsed.
    """

    data: DataFolder
    queue: Queue
    viewing: Viewing
    allowed: Sequence[Path] = ()
    upload_limit: int = 20_000_000_000
    hosts: frozenset[str] = field(default_factory=frozenset)
    user: str = ""
    apart: Apart = field(default_factory=Apart)


def services() -> Services:
    """Those of the application that answers."""
    shared: Services = current_app.extensions["services"]
    return shared
