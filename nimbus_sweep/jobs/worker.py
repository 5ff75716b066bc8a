"""The process that works through the queue, and the watch the server keeps on it."""

from __future__ import annotations

import contextlib
import logging
import os
import subprocess
import sys
import threading
import time
from pathlib import Path

import cv2
import numpy as np

from ..core.base.memory import give_back
from ..store.data import DataFolder
from ..store.models import Task, database, open_database
from . import machines
from .drawing import next_one
from .queue import RUN, Queue

log = logging.getLogger(__name__)
# How far drawing stands back, as Unix counts it: 0 for none, 19 for the most.
_BEHIND = 19
# Reels of unattended runs that are done at once on a cluster, and seconds between two looks for one.
_RUNS, _IDLE = 4, 0.5
# Seconds after its start before loops are made ready: the first page and the first reel come first.
_SETTLES = 20.0


def run(root: Path, scheduler: str = "") -> None:
    """Work through the queue until the server that started this process is gone; frames are worked on by a scheduler's workers if one is named."""
    data = DataFolder(root)
    if scheduler:
        # Brought in here: it takes a second.
        from .cluster import Cluster

        machines.use(Cluster(scheduler))
    open_database(data.database)
    data.clear_left("reels/*/check-*", "reels/*/trial-*", "reels/*/steadied-*", "analyses/learning-*")
    queue = Queue(data, _perform)
    resumed = queue.resume()
    if resumed:
        log.warning("going on with %d pieces of work", resumed)
    # OpenCV's threads are begun by whoever asks first: they are not to be slow ones.
    cv2.blur(np.zeros((1024, 1024), np.float32), (5, 5))
    threading.Thread(target=_draw_behind, args=(data,), daemon=True).start()
    threading.Thread(target=warm_behind, daemon=True).start()
    for _ in range(min(machines.current().many, _RUNS)):
        threading.Thread(target=_run_on, args=(data,), daemon=True).start()
    threading.Thread(target=_end_with_server, daemon=True).start()
    # Two at a time: a survey need not wait for a long render.
    queue.huey.create_consumer(workers=2, worker_type="thread", periodic=False, initial_delay=0.05, max_delay=0.4, backoff=1.3).run()


def _perform(data: DataFolder, task_id: int) -> None:
    # Imported here: it brings the whole computation, which takes longer than to begin painting.
    from .work import perform

    try:
        perform(data, task_id)
    finally:
        give_back()


def _stand_back() -> None:
    """Leave the cores to whoever else wants them."""
    with contextlib.suppress(AttributeError, OSError):
        os.setpriority(os.PRIO_PROCESS, threading.get_native_id(), _BEHIND)


def warm_behind() -> None:
    """Have the compiled loops ready before somebody waits for them."""
    _stand_back()
    time.sleep(_SETTLES)
    from ..core.pipeline.warm_up import warm_up

    warm_up()


def _draw_behind(data: DataFolder) -> None:
    """Draw what is to be drawn, one after another, and leave the cores to whoever else wants them."""
    _stand_back()
    if _next_to_draw() is None:
        return
    from ..demo.station import prepare

    prepare()
    while (task := _next_to_draw()) is not None:
        _perform(data, task)


def _run_on(data: DataFolder) -> None:
    """Do the reels of unattended runs, one after another."""
    while True:
        with database.connection_context():
            task = _next_to_run()
        if task is None:
            time.sleep(_IDLE)
        else:
            _perform(data, task)


def _next_to_run() -> int | None:
    if not Task.select().where(Task.kind == RUN, Task.state == "waiting").exists():
        return None
    # Brought in here: it brings the whole computation.
    from .runs import next_one as next_to_run

    return next_to_run()


def _next_to_draw() -> int | None:
    with database.connection_context():
        return next_one()


def _end_with_server() -> None:
    sys.stdin.read()
    os._exit(0)


class WorkerWatch:
    """Keeps one worker process running; starts it again when it dies."""

    def __init__(self, data: DataFolder, level: str = "info", scheduler: str = "") -> None:
        self._data, self._level, self._scheduler = data, level, scheduler
        self._process: subprocess.Popen[bytes] | None = None
        self._stopping = threading.Event()
        self._thread = threading.Thread(target=self._watch, daemon=True)

    @property
    def pid(self) -> int | None:
        """The worker's process number."""
        return self._process.pid if self._process else None

    def start(self) -> None:
        """Start the worker and watch it."""
        self._thread.start()

    def stop(self) -> None:
        """End the worker; what it was doing goes on at the next start."""
        self._stopping.set()
        if self._process:
            self._process.kill()
        self._thread.join(5)

    def _watch(self) -> None:
        command = [sys.executable, "-m", "nimbus_sweep", "worker", "--data", str(self._data.root), "--log-level", self._level]
        command += ["--scheduler", self._scheduler] if self._scheduler else []
        while not self._stopping.is_set():
            started = time.monotonic()
            self._process = subprocess.Popen(command, stdin=subprocess.PIPE)
            self._process.wait()
            if not self._stopping.is_set():
                log.warning("the worker ended and is started again")
                self._stopping.wait(0.2 if time.monotonic() - started > 5 else 2)
