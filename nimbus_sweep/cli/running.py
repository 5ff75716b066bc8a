"""Commands that start the application."""

from __future__ import annotations

from pathlib import Path

import click

from ..logs import LEVELS, keep_log
from .group import main
from .watcher import watched

_data_option = click.option(
    "--data", type=click.Path(path_type=Path, file_okay=False), default=Path("data"), show_default=True, help="Where jobs are kept."
)
_port_option = click.option("--port", type=click.IntRange(1, 65535), default=8017, show_default=True)
_level_option = click.option(
    "--log-level", "level", type=click.Choice(LEVELS, case_sensitive=False), default="info", show_default=True, help="What the logs keep."
)


_scheduler_option = click.option(
    "--scheduler",
    envvar="NIMBUS_SWEEP_SCHEDULER",
    metavar="ADDRESS",
    default="",
    help="Have frames worked on by a cluster, as tcp://10.0.0.5:8786.",
)


@main.command()
@_data_option
@_port_option
@click.option("--host", default="127.0.0.1", show_default=True, help="Address to answer at; others than this machine's own need accounts.")
@click.option("--certificate", type=click.Path(path_type=Path, dir_okay=False), help="PEM file that connections are encrypted with.")
@click.option("--key", type=click.Path(path_type=Path, dir_okay=False), help="Its key, if that is not in the same file.")
@click.option("--proxy", metavar="ADDRESS", default="", help="Address of a proxy in front that encrypts, as 127.0.0.1.")
@click.option(
    "--allow", type=click.Path(path_type=Path, exists=True, file_okay=False), multiple=True, help="A folder reels may be opened from."
)
@click.option("--upload-limit", type=click.IntRange(1), default=20_000, show_default=True, help="Largest upload, in MB.")
@_scheduler_option
@_level_option
def serve(
    data: Path,
    port: int,
    host: str,
    certificate: Path | None,
    key: Path | None,
    proxy: str,
    allow: tuple[Path, ...],
    upload_limit: int,
    scheduler: str,
    level: str,
) -> None:
    """Start the application, on this machine alone or for a house."""

    def run() -> None:
        # Brought in here: the watch needs none of it.
        from ..web.server import Reached
        from ..web.server import serve as listen

        reached = Reached(host, port, certificate, key, proxy)
        listen(data.resolve(), reached, [folder.resolve() for folder in allow], upload_limit * 1_000_000, None, level, scheduler)

    watched(run)


@main.command()
@_data_option
@_port_option
@click.option("--reels", default="", metavar="NUMBERS", help="Draw only these of the demo's reels, as in 1,7,10; all when not named.")
@_scheduler_option
@_level_option
def demo(data: Path, port: int, reels: str, scheduler: str, level: str) -> None:
    """Start the application with the demo job: the archive of Skerrow Point weather station."""
    numbers = [part.strip() for part in reels.split(",") if part.strip()]
    if not all(part.isdigit() for part in numbers):
        raise click.BadParameter("name reels by their numbers, parted by commas, as in 1,7,10", param_hint="--reels")

    def run() -> None:
        from ..web.server import Reached
        from ..web.server import serve as listen

        listen(data.resolve(), Reached(port=port), [], 20_000_000_000, {int(part) for part in numbers}, level, scheduler)

    watched(run)


@main.command(hidden=True)
@click.option("--data", type=click.Path(path_type=Path, file_okay=False), required=True)
@click.option("--scheduler", default="")
@_level_option
def worker(data: Path, scheduler: str, level: str) -> None:
    """Run queued work; started by the server."""
    from ..jobs.worker import run

    keep_log(data, "worker", level)
    run(data, scheduler)


@main.command(hidden=True)
def warm() -> None:
    """Compile the loops that are compiled, so that the first start need not; done by the installation."""
    from ..core.pipeline.warm_up import warm_up
    from ..demo import station

    warm_up()
    camera = station.Camera(400, 120)
    for halved in (False, True):
        station.draw(camera, 0.0, 1, halved=halved)
