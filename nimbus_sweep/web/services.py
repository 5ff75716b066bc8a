"""What the requests share."""

from __future__ import annotations

from collections.abc import Callable, Sequence
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
        Who changes are made by where nobody has to sign in.
    shared : bool
        Whether others than whoever sits at this machine reach it: they have to sign in.
    address_of : callable
        Tells who is at the other end of a connection from here, by its port; None where it comes from there itself.
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
    shared: bool = False
    address_of: Callable[[int], str | None] = field(default=lambda _port: None)
    apart: Apart = field(default_factory=Apart)


def services() -> Services:
    """Those of the application that answers."""
    shared: Services = current_app.extensions["services"]
    return shared
