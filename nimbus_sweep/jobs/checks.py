"""The newest check of each shot of a reel."""

from __future__ import annotations

from typing import Any

from ..core.model.shots import Shots
from ..store import edits
from ..store.models import Reel, Task
from ..wording.checks import worded

# Checks that are looked through for one of a shot.
_LOOKED_THROUGH = 40


def checks_of(reel: Reel, shots: Shots) -> list[dict[str, Any] | None]:
    """For each shot its newest check, with `stale` for one of a treatment that was changed since; None without one."""
    done = (
        Task.select().where(Task.reel == reel, Task.kind == "check", Task.state == "done").order_by(Task.id.desc()).limit(_LOOKED_THROUGH)
    )
    newest: dict[tuple[int, int], dict[str, Any]] = {}
    for task in done:
        for told in task.result["shots"]:
            newest.setdefault((told["first"], told["stop"]), told | {"ended": task.ended})
    found = []
    for shot in shots:
        told = newest.get((shot.first, shot.stop)) if shot.treated else None
        found.append(None if told is None else worded(told) | {"stale": told["mark"] != edits.mark_of(shot)})
    return found
