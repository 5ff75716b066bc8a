"""The command that starts a scheduler and workers, here and on further machines."""

from __future__ import annotations

import asyncio
import logging
import signal
from contextlib import AsyncExitStack

import click

from ..core.base.errors import SweepError
from ..core.base.parallel import CORES, cores
from ..jobs.cluster import Cluster
from .group import main

_PORT = 8786


@main.command()
@click.option("--workers", type=click.IntRange(0), default=None, help="Worker processes here; one for every two cores when not said.")
@click.option("--host", default="127.0.0.1", show_default=True, help="Address the scheduler listens at; others reach it there.")
@click.option("--port", type=click.IntRange(1, 65535), default=_PORT, show_default=True)
@click.option("--join", metavar="ADDRESS", help="Add workers to the scheduler there instead of starting one, as tcp://10.0.0.5:8786.")
def cluster(workers: int | None, host: str, port: int, join: str | None) -> None:
    """Start a scheduler and workers that a server started with --scheduler has its work done by.

    All machines have to see the reels and the data folder under the same paths. Whoever reaches the scheduler can run programs on its
    workers: let nobody but the house's own machines reach it.
    """
    many = max(1, cores() // 2) if workers is None else workers
    if join and not many:
        raise click.UsageError("--join adds workers: say how many, one or more, with --workers.")
    if join and (silent := Cluster(join).unreachable()):
        raise SweepError(silent.partition(";")[0] + ", and have workers join it then.")
    asyncio.run(_run(many, host, port, join))


async def _run(many: int, host: str, port: int, join: str | None) -> None:
    # Brought in here: no other command needs it.
    import dask
    from distributed import Nanny, Scheduler

    logging.getLogger("distributed").setLevel(logging.ERROR)
    dask.config.set({"distributed.worker.memory.terminate": False, "distributed.scheduler.worker-ttl": "15 minutes"})
    stopping = asyncio.Event()
    for told in (signal.SIGINT, signal.SIGTERM):
        asyncio.get_running_loop().add_signal_handler(told, stopping.set)
    each = str(max(1, cores() // max(1, many)))
    async with AsyncExitStack() as running:
        address = join
        try:
            if address is None:
                scheduler = await running.enter_async_context(Scheduler(host=host, port=port, dashboard=False))
                address = scheduler.address
            started = [
                Nanny(
                    address,
                    nthreads=1,
                    memory_limit=None,
                    env={CORES: each, "OPENBLAS_NUM_THREADS": "1", "DASK_LOGGING__DISTRIBUTED": "error"},
                )
                for _ in range(many)
            ]
            await asyncio.gather(*(running.enter_async_context(nanny) for nanny in started))
        except OSError as error:
            raise SweepError(f"Port {port} cannot be used ({error}). Name another with --port.") from error
        ready = f"{many} worker{'' if many == 1 else 's'} at {address}"
        click.echo(f"{ready}. Give the server --scheduler {address}   (stop with Ctrl+C)")
        await stopping.wait()
        await asyncio.gather(*(nanny.close() for nanny in started))
