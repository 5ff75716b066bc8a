"""Starting the application: data folder, demo job, worker, server."""

from __future__ import annotations

import getpass
import tempfile
from collections.abc import Sequence, Set
from pathlib import Path

import waitress.server
from waitress.server import BaseWSGIServer, MultiSocketServer

from ..core.base.errors import SweepError
from ..jobs.drawing import put_demo
from ..jobs.queue import Queue
from ..jobs.worker import WorkerWatch
from ..logs import keep_log
from ..store.data import DataFolder
from ..store.models import hold_open, open_database


def serve(root: Path, port: int, allowed: Sequence[Path], upload_limit: int, demo: Set[int] | None, level: str = "info") -> None:
    """Serve until stopped; with the demo job if `demo` names its reels by their numbers, all by naming none."""
    data = DataFolder(root)
    data.make()
    with data.lock():
        keep_log(root, "server", level)
        data.clear_left("archive-*", "arriving")
        # The server keeps what is being sent in files: there, where it belongs, and not where the system keeps its own.
        data.arriving.mkdir(exist_ok=True)
        tempfile.tempdir = str(data.arriving)
        open_database(data.database)
        hold_open(data.database)
        queue = Queue(data)
        if demo is not None:
            put_demo(data, queue, demo)
        # The worker gets ready while the application does.
        watch = WorkerWatch(data, level)
        watch.start()
        server = None
        try:
            server = _listening(data, queue, port, allowed, upload_limit)
            address = f"http://127.0.0.1:{port}/"
            data.note_address(address)
            print(f"Nimbus Sweep is ready: {address}   (stop it with Ctrl+C)", flush=True)
            server.run()
        except KeyboardInterrupt:
            pass
        finally:
            watch.stop()
            if server is not None:
                server.close()


def _listening(data: DataFolder, queue: Queue, port: int, allowed: Sequence[Path], upload_limit: int) -> BaseWSGIServer | MultiSocketServer:
    from .app import create_app
    from .services import Services
    from .viewing import Viewing

    hosts = frozenset({f"127.0.0.1:{port}", f"localhost:{port}"})
    services = Services(
        data=data, queue=queue, viewing=Viewing(data, queue=queue), allowed=allowed, upload_limit=upload_limit, hosts=hosts, user=_user()
    )
    app = create_app(services)
    try:
        return waitress.server.create_server(
            app, host="127.0.0.1", port=port, threads=8, max_request_body_size=upload_limit + 1, channel_request_lookahead=0, ident=None
        )
    except OSError as error:
        raise SweepError(f"Port {port} is taken ({error.strerror}). Stop what uses it, or name another with --port.") from error


def _user() -> str:
    """Who runs the application here; empty where the system has no name for it."""
    try:
        return getpass.getuser()
    except (OSError, KeyError):
        return ""
