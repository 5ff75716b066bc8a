"""The watch that is kept on the server: where it ends by itself it is started again."""

from __future__ import annotations

import contextlib
import logging
import os
import signal
import sys
import threading
import time
from collections.abc import Callable

import click

from ..core.base.errors import SweepError
from ..core.base.failures import mark_failure

log = logging.getLogger(__name__)

# How a server ends that something unforeseen happened to (EX_SOFTWARE of sysexits.h).
_UNFORESEEN = 70
# Seconds until the first start anew, until any, and after which a server that ran is taken to be well.
FIRST, LONGEST, _WELL = 0.5, 60.0, 60.0


def watched(run: Callable[[], None], first: float = FIRST) -> None:
    """Run a server in a process of its own, and start it again whenever it ends by itself, later each time.

    Parameters
    ----------
    run : callable
        Serves until it is stopped; a SweepError ends it for good.
    first : float
        Seconds until it is started again the first time; each time doubles them.
    """
    if not hasattr(os, "fork"):
        run()
        return
    watch, pause = _Watch(), first
    while True:
        began = time.monotonic()
        status = watch.over(run)
        if watch.told or status in (0, 1, 2):
            watch.end_as(status)
            return
        if time.monotonic() - began > _WELL:
            pause = first
        how = f"signal {-status}" if status < 0 else "something unforeseen"
        click.echo(f"The server ended by itself ({how}) and is started again in {pause:g} s.", err=True)
        watch.rest(pause)
        pause = min(2 * pause, LONGEST)


class _Watch:
    """Runs servers one after another, and passes on to them what it is told."""

    def __init__(self) -> None:
        self.told = False
        self._child = 0
        for number in (signal.SIGINT, signal.SIGTERM):
            signal.signal(number, self._pass_on)

    def _pass_on(self, number: int, _: object) -> None:
        self.told = True
        if self._child:
            with contextlib.suppress(ProcessLookupError):
                os.kill(self._child, number)

    def over(self, run: Callable[[], None]) -> int:
        """Run a server until it ends, and give how: its status, or less the signal."""
        held, holds = os.pipe()
        self._child = os.fork()
        if self._child == 0:
            os.close(holds)
            # A key at the terminal reaches the watch alone, which passes it on.
            os.setpgid(0, 0)
            threading.Thread(target=_end_with_watch, args=(held,), daemon=True).start()
            _serve(run)
        os.close(held)
        status = os.waitstatus_to_exitcode(os.waitpid(self._child, 0)[1])
        self._child = 0
        os.close(holds)
        return status

    def rest(self, seconds: float) -> None:
        """Wait, unless told to stop."""
        until = time.monotonic() + seconds
        while not self.told and time.monotonic() < until:
            time.sleep(0.05)
        if self.told:
            self.end_as(0)

    def end_as(self, status: int) -> None:
        """End as the server did."""
        for number in (signal.SIGINT, signal.SIGTERM):
            signal.signal(number, signal.SIG_DFL)
        if status < 0:
            os.kill(os.getpid(), -status)
        sys.exit(status)


def _serve(run: Callable[[], None]) -> None:
    signal.signal(signal.SIGTERM, signal.SIG_DFL)
    signal.signal(signal.SIGINT, signal.default_int_handler)
    status = 0
    try:
        run()
    except KeyboardInterrupt:
        pass
    except SweepError as error:
        click.echo(f"nimbus-sweep: {error}", err=True)
        status = 1
    except BaseException:
        mark_failure(log, "the server failed")
        status = _UNFORESEEN
    finally:
        sys.stdout.flush()
        sys.stderr.flush()
        os._exit(status)


def _end_with_watch(held: int) -> None:
    os.read(held, 1)
    os._exit(0)
