"""Tasks that are parts of another: each stands in the reel's list as if somebody had asked for it."""

from __future__ import annotations

import shutil
from collections.abc import Callable
from typing import Any

from pydantic import BaseModel

from ..core.base.errors import Cancelled, SweepError
from ..store.data import DataFolder
from ..store.models import Reel, Task, now
from .progress import Progress, TaskProgress
from .tasks import TaskSettings

Do = Callable[[DataFolder, Reel, Task, Progress], BaseModel]


class _Both(Progress):
    """Tells the part and the whole how far the part is; either may stop it."""

    def __init__(self, part: Progress, whole: Progress, said: str) -> None:
        self._part, self._whole, self._said = part, whole, said

    def __call__(self, share: float, rate: float = 0.0, what: str | None = None) -> None:
        self._part(share, rate, what)
        self._whole(share, rate, what or self._said)


def done_within(
    data: DataFolder, task: Task, kind: str, do: Do, progress: Progress, said: str, settings: TaskSettings | None = None
) -> Task:
    """Do a part of a task; gives the part's own row, done.

    Parameters
    ----------
    data : DataFolder
    task : Task
        The whole.
    kind : str
        Of the part.
    do : callable
        Does it.
    progress : Progress
        The part's share of the whole.
    said : str
        What is shown for the whole meanwhile.
    settings : TaskSettings
    """
    asked = None if settings is None else settings.model_dump(mode="json")
    part = Task.create(
        reel=task.reel_id, kind=kind, settings=asked, who=task.who, state="running", started=now(), parent=task.id, attempts=1
    )

    def ended(**values: Any) -> None:
        Task.update(ended=now(), **values).where(Task.id == part.id).execute()

    try:
        result = do(data, Reel.get_by_id(task.reel_id), part, _Both(TaskProgress(part), progress, said))
    except Cancelled:
        ended(state="cancelled")
        raise
    except SweepError as error:
        ended(state="failed", error=str(error))
        raise
    except BaseException as error:
        ended(state="failed", error=f"{type(error).__name__}: {error}")
        raise
    finally:
        shutil.rmtree(data.works(part.id), ignore_errors=True)
    ended(state="done", share=1.0, result=result.model_dump(mode="json"))
    made: Task = Task.get_by_id(part.id)
    return made
