"""The demo's reels: put on the rack at once, drawn one after another behind everything else, taken in when they are whole."""

from __future__ import annotations

import time
from collections.abc import Set
from dataclasses import dataclass
from datetime import datetime
from pathlib import Path
from typing import TYPE_CHECKING

from ..core.base.errors import SweepError
from ..demo import catalogue
from ..store.data import DataFolder
from ..store.models import Job, Reel, Task
from .queue import DRAW, Queue
from .tasks import Drawn, DrawSettings, result_of, settings_of

if TYPE_CHECKING:
    from .progress import TaskProgress

# Frames drawn in a second until one reel has been drawn here (measured on two cores).
_USUAL = 18.0


def put_demo(data: DataFolder, queue: Queue, only: Set[int]) -> None:
    """Put the demo jobs on the rack, with the reels of some numbers if any are named; those that are not there are queued to be drawn."""
    if wrong := sorted(only - set(range(1, len(catalogue.ALL) + 1))):
        raise SweepError(f"There is no demo reel {', '.join(map(str, wrong))}; there are 1 to {len(catalogue.ALL)}.")
    known = {reel.path: reel for reel in Reel.select()}
    for number, listed in enumerate(catalogue.ALL, start=1):
        if only and number not in only:
            continue
        path, told = data.demo / listed.file, listed.job
        job, _ = Job.get_or_create(title=told.title, defaults={"reference": told.reference, "notes": told.notes})  # type: ignore[no-untyped-call]
        reel = known.get(str(path)) or Reel.create(job=job, title=listed.title, path=str(path), frames=listed.frames, state="drawing")
        if is_drawn(path):
            _take_in(queue, reel)
        elif reel.state in ("drawing", "refused"):
            Reel.update(state="drawing", refusal="").where(Reel.id == reel.id).execute()
            queue.put(DRAW, reel)


def is_drawn(path: Path) -> bool:
    """Whether a reel is whole: its truth is written last."""
    return path.exists() and path.with_name(f"{path.stem}.truth.json").exists()


def draw(data: DataFolder, reel: Reel, task: Task, progress: TaskProgress) -> Drawn:
    """Draw a reel and have it taken in."""
    progress(0, what="Drawing")
    listed = next(one for one in catalogue.ALL if one.file == Path(reel.path).name)
    start = time.monotonic()
    if not is_drawn(Path(reel.path)):
        listed.draw(data.demo, lambda share: progress(share, share * listed.frames / (time.monotonic() - start)))
    _take_in(Queue(data), reel)
    return Drawn(frames=listed.frames)


def _take_in(queue: Queue, reel: Reel) -> None:
    """Queue the intake of a reel that is there and was not taken in yet, however far that had come."""
    Reel.update(state="new").where(Reel.id == reel.id, Reel.state == "drawing").execute()
    if Reel.get_by_id(reel.id).state == "new":
        queue.put("intake", reel)


def _waiting() -> list[Task]:
    """Reels that wait to be drawn, the next one first: those that were asked for, the last asked first, then as they stand on the rack."""
    waiting = Task.select().where(Task.kind == DRAW, Task.state == "waiting").order_by(Task.id)
    return sorted(waiting, key=lambda task: -settings_of(task, DrawSettings).asked)


def next_one() -> int | None:
    """The task to draw next; None when nothing is left to draw."""
    waiting = _waiting()
    return waiting[0].id if waiting else None


def put_first(reel: Reel) -> bool:
    """Draw a reel next, after the one that is being drawn; False when it does not wait."""
    asked = max(settings_of(task, DrawSettings).asked for task in [*_waiting(), Task()]) + 1
    changed = (
        Task.update(settings=DrawSettings(asked=asked).model_dump())
        .where(Task.reel == reel, Task.kind == DRAW, Task.state == "waiting")
        .execute()
    )
    return bool(changed)


@dataclass(frozen=True)
class InLine:
    """How far the drawing of a reel is.

    Attributes
    ----------
    share : float
        0 to 1.
    left : float
        Seconds until it is whole, about.
    ahead : int
        How many are drawn before it; 0 for the one that is being drawn.
    """

    share: float
    left: float
    ahead: int


def line() -> dict[int, InLine]:
    """How far the drawing is, by the number of the reel, for all that are not drawn yet."""
    running = list(Task.select().where(Task.kind == DRAW, Task.state == "running"))
    queued = [*running, *_waiting()]
    if not queued:
        return {}
    frames = {reel.id: reel.frames for reel in Reel.select(Reel.id, Reel.frames).where(Reel.id.in_([t.reel_id for t in queued]))}
    speed = _speed(running[0] if running else None)
    left, found = 0.0, {}
    for ahead, task in enumerate(queued):
        left += frames[task.reel_id] * (1 - task.share) / speed
        found[task.reel_id] = InLine(task.share, left, ahead)
    return found


def _speed(running: Task | None) -> float:
    """Frames a second, by what was drawn last."""
    last = Task.select().where(Task.kind == DRAW, Task.state == "done").order_by(Task.ended.desc()).limit(4)
    drawn = [(result_of(t, Drawn).frames, _seconds(t.started, t.ended)) for t in last if t.result and t.started and t.ended]
    if drawn:
        return float(sum(f for f, _ in drawn) / max(0.1, sum(s for _, s in drawn)))
    return running.rate if running is not None and running.share > 0.2 else _USUAL


def _seconds(began: str, ended: str) -> float:
    return (datetime.fromisoformat(ended) - datetime.fromisoformat(began)).total_seconds()
