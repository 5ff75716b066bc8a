"""The durable queue, and putting work into it."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from contextlib import contextmanager
from contextvars import ContextVar

from huey import SqliteHuey

from ..store import edits
from ..store.data import DataFolder
from ..store.models import Reel, Task, now
from .tasks import TaskSettings

_EACH = ("open", "trial", "track", "check")
# Drawing a reel of the demo: done one at a time behind everything else, in an order that can be changed (`drawing.next_one`).
DRAW = "draw"
# A reel of an unattended run, done in the run's own order (`runs.next_one`).
RUN = "run"
ORDERED = (DRAW, RUN)


# Share of a task that counts as having got further.
_FURTHER = 1e-4
# Numbers of tasks that are held back here.
_held: ContextVar[list[int] | None] = ContextVar("held", default=None)


class Queue:
    """Work waiting to be done outside the server process."""

    def __init__(self, data: DataFolder, perform: Callable[[DataFolder, int], None] | None = None) -> None:
        self.huey = SqliteHuey("nimbus-sweep", filename=str(data.queue), fsync=True)

        @self.huey.task(name="perform")  # type: ignore[untyped-decorator]
        def run(task_id: int) -> None:
            if perform is not None:
                perform(data, task_id)

        self._run = run

    def put(self, kind: str, reel: Reel, settings: TaskSettings | None = None) -> Task:
        """Queue work on a reel; the same kind already waiting or running there is given back instead.

        An analysis that runs for other settings is superseded: it is asked to stop and a new one is queued.
        """
        asked = None if settings is None else settings.model_dump(mode="json")
        waiting = Task.select().where(Task.reel == reel, Task.kind == kind, Task.state.in_(["waiting", "running"])).order_by(Task.id.desc())
        # Shots are laid open, trials made and the like, each for itself; of everything else one at a time is enough.
        busy = next((t for t in waiting if kind not in _EACH or t.settings == asked), None)
        if busy is not None and kind == "analysis" and busy.state == "running" and busy.settings != asked:
            self.cancel(busy)
        elif busy is not None:
            return busy
        task = Task.create(reel=reel, kind=kind, settings=asked, who=edits.author.get()[0])
        if kind not in ORDERED:
            held = _held.get()
            self._run(task.id) if held is None else held.append(task.id)
        return task

    @contextmanager
    def held(self) -> Iterator[None]:
        """Hold back what is queued until what was changed along with it is stored: the worker has to find it."""
        token = _held.set([])
        try:
            yield
            numbers = _held.get() or []
        finally:
            _held.reset(token)
        for number in numbers:
            self._run(number)

    def cancel(self, task: Task) -> None:
        """Ask running work to stop; work still waiting stops at once."""
        Task.update(cancel=True).where(Task.id == task.id).execute()
        Task.update(state="cancelled", ended=now()).where(Task.id == task.id, Task.state == "waiting").execute()

    def resume(self) -> int:
        """Queue again what was waiting or running when the worker ended; returns how many."""
        self.huey.flush()
        # Whatever gets further goes on, however often it is interrupted.
        lost = Task.state == "running"
        Task.update(attempts=1, reached=Task.share).where(lost, Task.share > Task.reached + _FURTHER).execute()
        Task.update(
            state="failed",
            ended=now(),
            error="The worker was lost three times over this without getting further. Start it again; if it fails again, the reel may be damaged.",
        ).where(Task.state == "running", Task.attempts >= 3).execute()
        # What they are parts of begins them anew, and finds what they had done.
        Task.update(state="cancelled", ended=now()).where(Task.state == "running", Task.parent > 0).execute()
        Task.update(state="waiting").where(Task.state == "running").execute()
        waiting = list(Task.select().where(Task.state == "waiting", Task.kind.not_in(ORDERED)).order_by(Task.id))
        for task in waiting:
            self._run(task.id)
        return len(waiting)
