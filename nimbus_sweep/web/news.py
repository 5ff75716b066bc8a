"""What changes while a page is looked at, told to it as it happens: server-sent events (WHATWG HTML, 9.2)."""

from __future__ import annotations

import json
import sqlite3
import threading
import time
from collections.abc import Callable, Iterator
from contextlib import closing
from typing import Any

from flask import Response, abort, current_app
from flask_login import current_user

from ..store import accounts
from ..store.models import database
from .services import services

# Pages that are told at once; each takes a thread of the server.
MOST = 60
# Seconds between two looks, and without a word before a sign of life.
_LOOK, _SILENT = 0.2, 10.0
_under_way = threading.BoundedSemaphore(MOST)
# The server ends: pages ask whoever answers next.
over = threading.Event()


def stream(told: Callable[[], Any]) -> Response:
    """Tell a page what `told` gives, whenever it is something else than before.

    Parameters
    ----------
    told : callable
        Gives what JSON can hold, or None when there is nothing to tell any more; asked only when something was stored.
    """
    if not _under_way.acquire(blocking=False):
        abort(503, "Too many pages are open. Close some; this one is brought up to date more slowly until then.")
    # Found out here: what is told is worked out when the request is over.
    token = current_user.get_id() if services().shared else None
    app, path = current_app._get_current_object(), services().data.database  # type: ignore[attr-defined]

    def events() -> Iterator[str]:
        try:
            yield "retry: 1000\n\n"
            with closing(sqlite3.connect(path, check_same_thread=False)) as watched:
                version, last, spoken = -1, "", time.monotonic()
                while not over.wait(_LOOK):
                    at = watched.execute("PRAGMA data_version").fetchone()[0]
                    if at != version:
                        version = at
                        with app.app_context(), database.connection_context():
                            news = told() if token is None or accounts.signed_in(token) is not None else None
                        if news is None:
                            yield "event: over\ndata: {}\n\n"
                            return
                        text = json.dumps(news)
                        if text != last:
                            last, spoken = text, time.monotonic()
                            yield f"data: {text}\n\n"
                    if time.monotonic() - spoken > _SILENT:
                        spoken = time.monotonic()
                        yield ": still here\n\n"
        finally:
            _under_way.release()

    answer = Response(events(), mimetype="text/event-stream")
    answer.headers["Cache-Control"] = "no-store"
    # A proxy in between is not to collect them.
    answer.headers["X-Accel-Buffering"] = "no"
    return answer
