"""Starting the application: data folder, demo job, worker, server."""

from __future__ import annotations

import sys
from collections.abc import Callable, Sequence, Set
from functools import partial
from pathlib import Path
from typing import NoReturn

import waitress
from tqdm import tqdm

from ..core.errors import SweepError
from ..demo.carriers import CARRIERS, GLASS_CASE, GULLS, MAST, UNSTEADY_EDIT, WORN, Carrier, draw_carrier
from ..demo.reels import REELS, SHADED, UNSTEADY, DemoReel, draw_reel
from ..jobs.queue import Queue
from ..jobs.worker import WorkerWatch
from ..store.data import DataFolder
from ..store.models import Job, Reel, open_database
from .app import Services, create_app
from .viewing import Viewing

DEMO_NOTES = "Lossless copies for the archive; the edit also for the open day. Nothing may be cropped."
DEMO_JOB = "Skerrow Point weather station, film and camera archive"


def serve(root: Path, port: int, allowed: Sequence[Path], upload_limit: int, demo: Set[int] | None) -> None:
    """Serve until stopped; with the demo job if `demo` names its reels by their numbers, all by naming none."""
    data = DataFolder(root)
    data.make()
    with data.lock() as held:
        data.clear_left("archive-*")
        open_database(data.database)
        queue = Queue(data)
        services = Services(
            data=data,
            queue=queue,
            viewing=Viewing(data),
            allowed=allowed,
            upload_limit=upload_limit,
            hosts=frozenset({f"127.0.0.1:{port}", f"localhost:{port}"}),
        )
        if demo is not None:
            put_demo(data, queue, demo)
        app = create_app(services)
        try:
            server = waitress.create_server(
                app, host="127.0.0.1", port=port, threads=8, max_request_body_size=upload_limit + 1, channel_request_lookahead=0, ident=None
            )
        except OSError as error:
            raise SweepError(f"Port {port} is taken ({error.strerror}). Stop what uses it, or name another with --port.") from error
        watch = WorkerWatch(data)
        watch.start()
        address = f"http://127.0.0.1:{port}/"
        data.note_address(held, address)
        print(f"Nimbus Sweep is ready: {address}   (stop it with Ctrl+C)", flush=True)
        try:
            server.run()
        except KeyboardInterrupt:
            pass
        finally:
            watch.stop()
            server.close()


def _advance(bar: tqdm[NoReturn], share: float) -> None:
    bar.update(round(share * bar.total) - bar.n)


def put_demo(data: DataFolder, queue: Queue, only: Set[int]) -> None:
    """Draw the demo reels that are not there yet, those of some numbers if any are named, and put their job on the rack."""
    job, _ = Job.get_or_create(title=DEMO_JOB, defaults={"reference": "SKP 1958-61", "notes": DEMO_NOTES})
    reels: list[tuple[DemoReel | Carrier, Callable[..., Path]]] = [
        *((r, draw_reel) for r in REELS),
        *((c, draw_carrier) for c in CARRIERS),
        *((r, draw_reel) for r in (*SHADED, *UNSTEADY)),
        (UNSTEADY_EDIT, draw_carrier),
        (WORN, draw_carrier),
        (GULLS, draw_carrier),
        (GLASS_CASE, draw_carrier),
        (MAST, draw_carrier),
    ]
    if wrong := sorted(only - set(range(1, len(reels) + 1))):
        raise SweepError(f"There is no demo reel {', '.join(map(str, wrong))}; there are 1 to {len(reels)}.")
    reels = [reel for number, reel in enumerate(reels, start=1) if not only or number in only]
    if not all((data.demo / reel.file).exists() for reel, _ in reels):
        print("Drawing the demo reels; this is done once and takes some minutes.", file=sys.stderr, flush=True)
    for reel, make in reels:
        with tqdm(total=reel.frames, desc=f"Drawing {reel.title}", unit="fr", file=sys.stderr, disable=not sys.stderr.isatty()) as bar:
            path = make(reel, data.demo, partial(_advance, bar))
        if not Reel.select().where(Reel.job == job, Reel.path == str(path)).exists():
            queue.put("intake", Reel.create(job=job, title=reel.title, path=str(path)))
