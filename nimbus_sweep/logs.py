"""Logs of server and worker in the data folder: who, when, how grave, about which reel and task."""

from __future__ import annotations

import logging
import time
from collections.abc import Iterator
from contextlib import contextmanager
from contextvars import ContextVar
from logging.handlers import RotatingFileHandler
from pathlib import Path

LEVELS = ("debug", "info", "warning", "error")
_BYTES, _KEPT = 2_000_000, 4

_about: ContextVar[str] = ContextVar("about", default="-")


@contextmanager
def about(reel: int | None = None, task: int | None = None) -> Iterator[None]:
    """Have what is logged meanwhile name the reel and the task it is about."""
    context = " ".join(f"{name} {number}" for name, number in (("reel", reel), ("task", task)) if number is not None)
    token = _about.set(context or "-")
    try:
        yield
    finally:
        _about.reset(token)


def _named(record: logging.LogRecord) -> bool:
    record.about = _about.get()
    return True


def log_path(root: Path, who: str) -> Path:
    """Where a process of the application logs to."""
    return root / "logs" / f"{who}.log"


def keep_log(root: Path, who: str, level: str) -> None:
    """Log to a file of the data folder, begun anew and kept aside when it has grown large; warnings also go to standard error."""
    path = log_path(root, who)
    path.parent.mkdir(parents=True, exist_ok=True)
    lines = logging.Formatter("%(asctime)sZ %(levelname)-7s %(name)s [%(about)s] %(message)s", "%Y-%m-%dT%H:%M:%S")
    lines.converter = time.gmtime
    kept = RotatingFileHandler(path, maxBytes=_BYTES, backupCount=_KEPT, encoding="utf-8")
    shown = logging.StreamHandler()
    shown.setLevel(logging.WARNING)
    for handler in (kept, shown):
        handler.setFormatter(lines)
        handler.addFilter(_named)
    logging.basicConfig(level=level.upper(), handlers=[kept, shown], force=True)
    # They tell of every piece of work and every slow request.
    for noisy in ("huey", "peewee", "peewee_migrate", "waitress.queue"):
        logging.getLogger(noisy).setLevel(logging.WARNING)
