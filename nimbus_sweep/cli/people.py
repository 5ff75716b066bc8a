"""The commands that keep the list of who may sign in."""

from __future__ import annotations

import sys
from collections.abc import Callable
from functools import wraps
from pathlib import Path
from typing import Any

import click

from ..core.base.errors import SweepError
from .group import main

_data_option = click.option(
    "--data", type=click.Path(path_type=Path, file_okay=False), default=Path("data"), show_default=True, help="Where jobs are kept."
)


@main.group()
def user() -> None:
    """Add, list and remove who may sign in from other machines."""


def _opened(make: bool = False) -> Callable[[Callable[..., None]], Callable[..., None]]:
    """A command that has the database of its data folder open; a server on it may go on."""

    def within(command: Callable[..., None]) -> Callable[..., None]:
        @_data_option
        @wraps(command)
        def run(data: Path, **given: Any) -> None:
            from ..store.data import DataFolder
            from ..store.models import open_database

            folder = DataFolder(data.resolve())
            if not make and not folder.database.exists():
                raise SweepError(f"There is no database in {data}. Name the data folder with --data.")
            folder.make()
            opened = open_database(folder.database)
            try:
                command(**given)
            finally:
                opened.close()

        return run

    return within


def _password() -> str:
    """Asked for twice where somebody types it; else the first line of the standard input."""
    if sys.stdin.isatty():
        return str(click.prompt("Password", hide_input=True, confirmation_prompt=True))
    return sys.stdin.readline().rstrip("\n")


@user.command()
@click.argument("name")
@_opened(make=True)
def add(name: str) -> None:
    """Add a user; the password is asked for, or read from the standard input."""
    from ..store import accounts

    accounts.add(name, _password())
    click.echo(f"{name.strip()} can sign in now.")


@user.command("list")
@_opened()
def listed() -> None:
    """List the users."""
    from ..store import accounts

    names = accounts.names()
    click.echo("\n".join(names) if names else "There is nobody yet. Add somebody with: nimbus-sweep user add NAME")


@user.command()
@click.argument("name")
@_opened()
def remove(name: str) -> None:
    """Remove a user, who is signed out at once; what was done under the name stays."""
    from ..store import accounts

    accounts.remove(name)
    click.echo(f"{name.strip()} cannot sign in any more.")


@user.command()
@click.argument("name")
@_opened()
def password(name: str) -> None:
    """Give a user another password; all browsers signed in under the name are signed out."""
    from ..store import accounts

    accounts.change_password(name, _password())
    click.echo(f"{name.strip()} has another password now.")
