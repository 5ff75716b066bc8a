"""How far a task is: noted with it, and stopped by it."""

from __future__ import annotations

import time
from abc import ABC, abstractmethod
from typing import Any

from ..core.base.errors import Cancelled
from ..store.models import Task


class Progress(ABC):
    """Takes the share done, 0 to 1, the frames a second, and what is being done; may raise to stop."""

    @abstractmethod
    def __call__(self, share: float, rate: float = 0.0, what: str | None = None) -> None:
        """Note it."""

    def part(self, start: float, stop: float) -> Progress:
        """Progress of a part that takes the shares `start` to `stop` of the whole."""
        return _Part(self, start, stop)


class _Part(Progress):
    def __init__(self, whole: Progress, start: float, stop: float) -> None:
        self._whole, self._start, self._stop = whole, start, stop

    def __call__(self, share: float, rate: float = 0.0, what: str | None = None) -> None:
        self._whole(self._start + share * (self._stop - self._start), rate, what)


class TaskProgress(Progress):
    """Notes progress of a task now and then, and raises Cancelled when it is to stop."""

    def __init__(self, task: Task) -> None:
        self._task, self._last, self._what = task, 0.0, ""

    def __call__(self, share: float, rate: float = 0.0, what: str | None = None) -> None:
        """Note it, unless that was done just now."""
        at = time.monotonic()
        if at - self._last < 0.25 and what in (None, self._what):
            return
        self._last = at
        values: dict[str, Any] = {"share": min(1.0, share), "rate": rate}
        if what is not None:
            values["what"] = self._what = what
        Task.update(**values).where(Task.id == self._task.id).execute()
        if Task.select(Task.cancel).where(Task.id == self._task.id).scalar():
            raise Cancelled
