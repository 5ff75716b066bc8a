"""What the queue does: each kind of work, with progress, cancelling and plain words for failures."""

from __future__ import annotations

import logging
import shutil
from collections.abc import Callable
from typing import Any

from pydantic import BaseModel

from ..core.base.errors import Cancelled, Paused, SweepError
from ..core.base.failures import mark_failure
from ..logs import about, log_path
from ..store import edits
from ..store.data import DataFolder
from ..store.models import Reel, Task, database, now
from . import drawing, runs
from .delivery import do_papers, do_render
from .inspections import do_check, do_inspection
from .intake import do_intake, read_again
from .progress import TaskProgress
from .surveys import do_open, do_survey
from .treatment import do_analysis, do_track
from .trials import do_trial

log = logging.getLogger(__name__)


def perform(data: DataFolder, task_id: int) -> None:
    """Do one task of the queue; every failure is kept with it."""
    with database.connection_context():
        taken = (
            Task.update(state="running", started=now(), attempts=Task.attempts + 1)
            .where(Task.id == task_id, Task.state == "waiting")
            .execute()
        )
        if not taken:
            return
        task = Task.get_by_id(task_id)
        edits.author.set((task.who, ""))
        with about(task.reel_id, task.id):
            log.info("%s begins", task.kind)
            _end(task, **_outcome(data, task))
            shutil.rmtree(data.works(task_id), ignore_errors=True)


def _outcome(data: DataFolder, task: Task) -> dict[str, Any]:
    """Do a task; gives what is to be kept with it."""
    try:
        progress = TaskProgress(task)
        if task.kind in _BY_FRAMES:
            read_again(data, task.reel, progress)
        result = _WORK[task.kind](data, task.reel, task, progress)
    except Paused:
        log.info("%s waits", task.kind)
        return {"state": "waiting", "ended": None, "attempts": 0}
    except Cancelled:
        log.info("%s was stopped", task.kind)
        return {"state": "cancelled"}
    except SweepError as error:
        log.warning("%s failed: %s", task.kind, error)
        return {"state": "failed", "error": str(error)}
    except MemoryError:
        log.error("%s failed: not enough memory", task.kind)
        return {"state": "failed", "error": "There was not enough memory. Close other programs and start it again."}
    except Exception as error:
        code = mark_failure(log, f"{task.kind} failed")
        said = f"{type(error).__name__}: {error}"
        where = log_path(data.root, "worker")
        text = f"Something unforeseen went wrong ({said}). The reel was not touched. Start it again; {where} says more at {code}."
        return {"state": "failed", "error": text}
    log.info("%s is done", task.kind)
    return {"state": "done", "share": 1.0, "result": result.model_dump(mode="json")}


def _end(task: Task, **values: Any) -> None:
    Task.update({"ended": now(), **values}).where(Task.id == task.id).execute()
    if task.kind == "draw" and values["state"] != "done":
        Reel.update(state="refused", refusal=values.get("error") or "Drawing was stopped. Start the demo again to draw it.").where(
            Reel.id == task.reel_id
        ).execute()
    if task.kind == "intake" and values["state"] != "done" and Reel.get_by_id(task.reel_id).state != "ready":
        refusal = values.get("error") or "Intake was stopped."
        Reel.update(state="refused", refusal=refusal).where(Reel.id == task.reel_id).execute()


# Work that goes by what the frames told when the reel was taken in.
_BY_FRAMES = {"open", "survey", "analysis", "track", "trial", "check", "render", "inspection"}
_WORK: dict[str, Callable[[DataFolder, Reel, Task, TaskProgress], BaseModel]] = {
    "draw": drawing.draw,
    "intake": do_intake,
    "open": do_open,
    "survey": do_survey,
    "analysis": do_analysis,
    "track": do_track,
    "trial": do_trial,
    "check": do_check,
    "render": do_render,
    "inspection": do_inspection,
    "papers": do_papers,
    "run": runs.do_run,
    "finish": runs.do_finish,
}
