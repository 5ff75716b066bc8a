"""The newest check of each shot of a reel."""

from __future__ import annotations

from ..core.interchange.papers import ReportedCheck
from ..core.model.shots import Shots
from ..store import edits
from ..store.models import Reel, Task
from ..wording.checks import reported
from .tasks import CheckDone, CheckedShot, result_of

# Checks that are looked through for one of a shot.
_LOOKED_THROUGH = 40


def newest_checks(reel: Reel, shots: Shots) -> list[CheckedShot | None]:
    """For each shot the newest check of its treatment as it is now; None without one."""
    found = _newest(reel)
    checks = [found.get((s.first, s.stop), (None, ""))[0] if s.treated else None for s in shots]
    return [c if c is not None and c.mark == edits.mark_of(s) else None for s, c in zip(shots, checks, strict=True)]


def checks_of(reel: Reel, shots: Shots) -> list[ReportedCheck | None]:
    """For each shot its newest check; None without one."""
    newest = _newest(reel)
    found: list[ReportedCheck | None] = []
    for shot in shots:
        known = newest.get((shot.first, shot.stop)) if shot.treated else None
        found.append(None if known is None else reported(known[0], stale=known[0].mark != edits.mark_of(shot), ended=known[1]))
    return found


def _newest(reel: Reel) -> dict[tuple[int, int], tuple[CheckedShot, str]]:
    done = (
        Task.select().where(Task.reel == reel, Task.kind == "check", Task.state == "done").order_by(Task.id.desc()).limit(_LOOKED_THROUGH)
    )
    newest: dict[tuple[int, int], tuple[CheckedShot, str]] = {}
    for task in done:
        for check in result_of(task, CheckDone).shots:
            newest.setdefault((check.first, check.stop), (check, task.ended or ""))
    return newest
