"""Starting the application: data folder, demo job, worker, server."""

from __future__ import annotations

import getpass
import signal
import socket
import sys
import tempfile
import threading
from collections.abc import Callable, Sequence, Set
from dataclasses import dataclass
from ipaddress import ip_address
from pathlib import Path
from types import FrameType
from typing import TYPE_CHECKING, Any

import waitress.server
from waitress.server import BaseWSGIServer, MultiSocketServer

from ..core.base.errors import SweepError
from ..jobs.drawing import put_demo
from ..jobs.queue import Queue
from ..jobs.worker import WorkerWatch, warm_behind
from ..logs import keep_log
from ..store import accounts
from ..store.data import DataFolder
from ..store.models import hold_open, open_database

if TYPE_CHECKING:
    from .tls import Encrypted

# Requests that are worked on at once.
AT_WORK = 8


@dataclass(frozen=True)
class Reached:
    """How the application is reached.

    Attributes
    ----------
    host, port : str, int
        Where it answers.
    certificate, key : Path or None
        PEM files that connections are encrypted with.
    proxy : str
        Address of a proxy that encrypts and tells who asks; empty without one.
    """

    host: str = "127.0.0.1"
    port: int = 8017
    certificate: Path | None = None
    key: Path | None = None
    proxy: str = ""

    @property
    def shared(self) -> bool:
        """Whether others than whoever sits at this machine reach it."""
        return bool(self.proxy or self.certificate) or not is_loopback(self.host)

    @property
    def encrypted(self) -> bool:
        """Whether nothing goes over the network as it is."""
        return bool(self.proxy or self.certificate)


def is_loopback(host: str) -> bool:
    """Whether an address is this machine's own, that no other reaches."""
    if host == "localhost":
        return True
    try:
        return ip_address(host).is_loopback
    except ValueError:
        return False


def serve(
    root: Path,
    reached: Reached,
    allowed: Sequence[Path],
    upload_limit: int,
    demo: Set[int] | None,
    level: str = "info",
    scheduler: str = "",
) -> None:
    """Serve until stopped; with the demo job if `demo` names its reels by their numbers, all by naming none.

    Raises
    ------
    SweepError
        If others would reach it without signing in, or unencrypted; or it cannot be started.
    """
    if reached.shared and not reached.encrypted:
        raise SweepError(
            f"On {reached.host} other machines would reach Nimbus Sweep unencrypted. Name a certificate with --certificate and --key, or the "
            "proxy in front of it with --proxy; docs/house.md tells how."
        )
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
        if reached.shared and not accounts.any_there():
            raise SweepError(
                "Other machines would reach Nimbus Sweep, and nobody has an account yet. Add one first: nimbus-sweep user add NAME"
                f" --data {root}"
            )
        if scheduler and (trouble := _unreachable(scheduler)):
            print(f"{trouble}.", file=sys.stderr, flush=True)
        queue = Queue(data)
        if demo is not None:
            put_demo(data, queue, demo)
        # The worker gets ready while the application does.
        watch = WorkerWatch(data, level, scheduler)
        watch.start()
        server, encrypting = None, None
        try:
            server, encrypting = _listening(data, queue, reached, allowed, upload_limit)
            address = f"http{'s' if reached.certificate else ''}://{_shown(reached.host)}:{reached.port}/"
            data.note_address(address)
            _end_news_first()
            threading.Thread(target=warm_behind, daemon=True).start()
            print(f"Nimbus Sweep is ready: {address}   (stop it with Ctrl+C)", flush=True)
            server.run()
        except KeyboardInterrupt:
            pass
        finally:
            watch.stop()
            if encrypting is not None:
                encrypting.stop()
            if server is not None:
                server.close()


def _end_news_first() -> None:
    """Let go of the lines that pages hold open before the server waits for what it is doing."""
    from .news import over

    for told in (signal.SIGINT, signal.SIGTERM):
        before = signal.getsignal(told)
        if callable(before):

            def ended(number: int, frame: FrameType | None, before: Callable[[int, FrameType | None], Any] = before) -> None:
                over.set()
                before(number, frame)

            signal.signal(told, ended)


def _listening(
    data: DataFolder, queue: Queue, reached: Reached, allowed: Sequence[Path], upload_limit: int
) -> tuple[BaseWSGIServer | MultiSocketServer, Encrypted | None]:
    from .app import create_app
    from .news import MOST
    from .services import Services
    from .tls import Encrypted, checked
    from .viewing import Viewing

    if reached.certificate is not None:
        checked(reached.certificate, reached.key or reached.certificate)
    # Who signs in may do so under any name of the machine; without that, a page of elsewhere is not to pass for this one.
    hosts = frozenset() if reached.shared else frozenset({f"{_shown(reached.host)}:{reached.port}", f"localhost:{reached.port}"})
    services = Services(
        data=data,
        queue=queue,
        viewing=Viewing(data, queue=queue),
        allowed=allowed,
        upload_limit=upload_limit,
        hosts=hosts,
        user=_user(),
        shared=reached.shared,
    )
    app = create_app(services, reached.encrypted)
    more: dict[str, Any] = {"host": reached.host, "port": reached.port}
    inside = socket.create_server(("127.0.0.1", 0)) if reached.certificate else None
    if inside is not None:
        more = {"url_scheme": "https", "sockets": [inside]}
    elif reached.proxy:
        more |= {
            "trusted_proxy": reached.proxy,
            "trusted_proxy_headers": {"x-forwarded-for", "x-forwarded-proto", "x-forwarded-host"},
            "clear_untrusted_proxy_headers": True,
        }
    try:
        server = waitress.server.create_server(
            app,
            # Each page that is told the news takes one, and all but waits.
            threads=AT_WORK + MOST,
            max_request_body_size=upload_limit + 1,
            channel_request_lookahead=0,
            send_bytes=1,
            ident=None,
            **more,
        )
    except OSError as error:
        raise SweepError(f"Port {reached.port} is taken ({error.strerror}). Stop what uses it, or name another with --port.") from error
    if reached.certificate is None or inside is None:
        return server, None
    encrypted = Encrypted(reached.host, reached.port, inside.getsockname()[1], reached.certificate, reached.key or reached.certificate)
    services.address_of = encrypted.address_of
    try:
        encrypted.start()
    except SweepError:
        server.close()
        raise
    return server, encrypted


def _shown(host: str) -> str:
    return f"[{host}]" if ":" in host else host


def _unreachable(scheduler: str) -> str:
    from ..jobs.cluster import Cluster

    return Cluster(scheduler).unreachable()


def _user() -> str:
    """Who runs the application here; empty where the system has no name for it."""
    try:
        return getpass.getuser()
    except (OSError, KeyError):
        return ""
