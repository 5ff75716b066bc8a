"""Work handed to the workers of a cluster: an executor over Dask's scheduler that outlives it.

Matthew Rocklin, "Dask: Parallel computation with blocked algorithms and task scheduling", SciPy 2015.
"""

from __future__ import annotations

import logging
import socket
import threading
import time
from collections.abc import Callable
from concurrent.futures import Executor, Future
from pathlib import Path
from typing import Any

from distributed import Client, KilledWorker
from distributed import Future as Remote

from ..core.base.build import build
from ..core.base.errors import SweepError
from .machines import Machines

log = logging.getLogger(__name__)

# Seconds that a scheduler has to answer in, and between two looks at what has become of the work.
_ANSWERS, _LOOK = 5.0, 0.1
# Workers that may be lost over a piece of work before it is taken for the cause.
_LOST = 3
# Seconds that clocks may differ.
_APART = 30.0


class Cluster(Machines):
    """The workers of a Dask scheduler.

    Parameters
    ----------
    address : str
        Of the scheduler, as ``tcp://10.0.0.5:8786``.
    """

    def __init__(self, address: str) -> None:
        self.address, self.many = address, 4
        self.trouble = ""

    def executor(self, *sees: str) -> Executor:
        """Where pieces of work are done; whoever works there has to see the files and folders named."""
        return ClusterExecutor(self, sees)

    def stretches(self, *sees: str) -> Executor | None:
        """Where stretches of a render are done."""
        return self.executor(*sees)

    def unreachable(self) -> str:
        """Why the scheduler cannot be used, in a sentence; empty when it answers."""
        try:
            with Client(self.address, timeout=_ANSWERS, set_as_default=False):
                return ""
        except (OSError, ValueError):
            return self.silent()

    def silent(self) -> str:
        """What is said while the scheduler does not answer."""
        return f"The scheduler {self.address} does not answer. Start it again (nimbus-sweep cluster); the work waits and goes on by itself"

    def unmanned(self) -> str:
        """What is said while no worker is there."""
        return f"No worker is there at {self.address}. Start some (nimbus-sweep cluster --join {self.address}); the work waits and goes on by itself"


class ClusterExecutor(Executor):
    """Hands work to a scheduler, and hands it out anew when the scheduler was gone.

    Work has to be the same when it is done twice.

    Parameters
    ----------
    cluster : Cluster
    sees : tuple of str
        Files and folders that workers have to see.
    """

    def __init__(self, cluster: Cluster, sees: tuple[str, ...]) -> None:
        self._cluster, self._sees = cluster, sees
        self._asked: dict[Future[Any], tuple[Any, ...]] = {}
        self._lock, self._closing = threading.Lock(), threading.Event()
        self._thread = threading.Thread(target=self._run, daemon=True)
        self._thread.start()

    def submit(self, fn: Callable[..., Any], /, *args: Any, **kwargs: Any) -> Future[Any]:
        """Ask for `fn` to be called on a worker."""
        if self._closing.is_set():
            raise RuntimeError("This executor was shut down.")
        future: Future[Any] = Future()
        with self._lock:
            self._asked[future] = (fn, args, kwargs)
        return future

    def shutdown(self, wait: bool = True, *, cancel_futures: bool = False) -> None:
        """Ask for nothing more; with `cancel_futures` what was asked for and has not ended is let go of."""
        if not cancel_futures:
            while wait and self._waiting():
                time.sleep(_LOOK)
        self._closing.set()
        if wait:
            self._thread.join()

    def _waiting(self) -> list[Future[Any]]:
        with self._lock:
            return [f for f in self._asked if not f.done()]

    def _run(self) -> None:
        while not self._closing.is_set():
            try:
                with Client(self._cluster.address, timeout=_ANSWERS, set_as_default=False) as client:
                    self._look_at(client)
                    self._work_with(client)
            except (OSError, ValueError) as error:
                log.warning("the scheduler %s: %s", self._cluster.address, error)
            if not self._closing.is_set():
                self._cluster.trouble = self._cluster.silent()
                self._closing.wait(1)
        self._cluster.trouble = ""

    def _look_at(self, client: Client) -> None:
        """See who is there, and what their clocks say."""
        start = time.time()
        clocks = client.run(time.time)
        took = time.time() - start
        self._cluster.many = max(1, len(clocks))
        for worker, clock in clocks.items():
            apart = clock - (start + took / 2)
            if abs(apart) > _APART + took:
                log.warning(
                    "the clock of %s is %.0f s %s this machine's. Nothing that is computed depends on it, but the times in logs do: "
                    "have it set by the network (NTP)",
                    worker,
                    abs(apart),
                    "ahead of" if apart > 0 else "behind",
                )

    def _work_with(self, client: Client) -> None:
        """Hand out what is asked for and take what comes back, until the scheduler is gone or nothing more is asked for."""
        out: dict[Future[Any], Remote] = {}
        while not self._closing.wait(_LOOK):
            if client.status != "running":
                return
            for future in self._waiting():
                if future not in out or out[future].status in ("cancelled", "lost"):
                    fn, args, kwargs = self._asked[future]
                    out[future] = client.submit(
                        _on_worker,
                        build(),
                        self._sees,
                        fn,
                        args,
                        kwargs,
                        pure=False,
                        retries=0,
                        key=f"work-{id(future)}-{time.monotonic_ns()}",
                    )
                elif out[future].done():
                    _pass_on(out[future], future)
            self._cluster.trouble = "" if client.scheduler_info(n_workers=1)["n_workers"] else self._cluster.unmanned()


def _pass_on(remote: Remote, future: Future[Any]) -> None:
    if remote.status == "finished":
        future.set_result(remote.result(timeout=60))
    elif remote.status == "error":
        future.set_exception(_explained(remote.exception(timeout=60)))


def _explained(error: BaseException) -> BaseException:
    if isinstance(error, KilledWorker):
        return SweepError(
            f"{_LOST} workers were lost over one piece of this. Start it again; if it fails again, the reel may be damaged, or the workers may "
            "have too little memory."
        )
    if isinstance(error, ImportError | AttributeError) and "nimbus_sweep" in str(error):
        return SweepError(f"A worker runs another Nimbus Sweep than this machine, {build()}. Install the same on all and start it again.")
    return error


def _on_worker(wanted: str, sees: tuple[str, ...], fn: Callable[..., Any], args: tuple[Any, ...], kwargs: dict[str, Any]) -> Any:
    """Do a piece of work on a worker that computes the same and sees the same files."""
    name = socket.gethostname()
    if build() != wanted:
        raise SweepError(
            f"The worker on {name} runs Nimbus Sweep {build()}, this machine {wanted}: they would not compute the same. Install the same on "
            "both, with the same libraries, and start it again."
        )
    for path in sees:
        if not Path(path).exists() and "%" not in path:
            raise SweepError(f"The worker on {name} does not see {path}. Mount its folder there under the same path, and start it again.")
    return fn(*args, **kwargs)
