"""How far a task is: noted with it, and stopped by it."""

from __future__ import annotations

import time
from collections.abc import Callable
from typing import Any

from ..core.base.errors import Cancelled
from ..store.models import Task


class TaskProgress:
    """Notes progress of a task now and then, and raises Cancelled when it is to stop."""

    def __init__(self, task: Task) -> None:
        self._task, self._last = task, 0.0

    def __call__(self, share: float, rate: float = 0.0, what: str | None = None) -> None:
        at = time.monotonic()
        if at - self._last < 0.25 and what is None:
            return
        self._last = at
        values: dict[str, Any] = {"share": min(1.0, share), "rate": rate}
        if what is not None:
            values["what"] = what
        Task.update(**values).where(Task.id == self._task.id).execute()
        if Task.select(Task.cancel).where(Task.id == self._task.id).scalar():
            raise Cancelled

    def part(self, start: float, stop: float) -> Callable[[float], None]:
        """Progress of a part that takes the shares `start` to `stop` of the whole."""
        return lambda share: self(start + share * (stop - start))
