"""Commands that keep the state safe."""

from __future__ import annotations

from pathlib import Path

import click

from .group import main

_FOLDER = click.Path(path_type=Path, file_okay=False)


@main.command()
@click.argument("data", type=_FOLDER)
@click.argument("file", type=click.Path(path_type=Path, dir_okay=False))
@click.option("--deliveries", is_flag=True, help="Take finished files along.")
@click.option("--overwrite", is_flag=True, help="Replace FILE if it is there.")
def backup(data: Path, file: Path, deliveries: bool, overwrite: bool) -> None:
    """Write all that cannot be made again from the data folder DATA to FILE; the application may be running."""
    from ..core.base.errors import SweepError
    from ..store.backup import backup as made

    if file.exists() and not overwrite:
        raise SweepError(f"{file} is there already. Name another file, or add --overwrite.")
    count, size = made(data.resolve(), file.resolve(), deliveries)
    click.echo(f"{file}: {count} files, {size / 1e6:.1f} MB. Reels that lie outside the data folder are not in it.")


@main.command()
@click.argument("file", type=click.Path(path_type=Path, exists=True, dir_okay=False))
@click.argument("data", type=_FOLDER)
def restore(file: Path, data: Path) -> None:
    """Put the backup FILE into the empty data folder DATA."""
    from ..store.backup import restore as put_back

    count = put_back(file, data.resolve())
    click.echo(f"{data}: {count} files put back. Start the application with --data {data}.")
