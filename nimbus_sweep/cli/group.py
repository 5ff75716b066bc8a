"""The command that all others belong to: how failures are told, and what is brought in when."""

from __future__ import annotations

import signal
import sys
import threading
from importlib import import_module
from typing import Any

import click

from .. import __version__
from ..core.base.errors import Cancelled, SweepError
from ..core.base.memory import keep_together

stopped = threading.Event()

# Each command's module is brought in when it is asked for: the server is up before the whole computation would be loaded.
_MODULES = {
    "survey": "footage",
    "treat": "footage",
    "verify": "footage",
    "serve": "running",
    "demo": "running",
    "worker": "running",
    "warm": "running",
    "cluster": "cluster",
    "run": "unattended",
    "user": "people",
    "doctor": "doctor",
    "backup": "keeping",
    "restore": "keeping",
}


def _stop(*_: object) -> None:
    # The interruption is lost where Python may not be interrupted (a finaliser, a library's callback): the next sign
    # of progress finds the mark.
    stopped.set()
    raise KeyboardInterrupt


class _Group(click.Group):
    """Explains failures on standard error; a user's mistake never shows a traceback."""

    def list_commands(self, ctx: click.Context) -> list[str]:
        """All of them."""
        return list(_MODULES)

    def get_command(self, ctx: click.Context, cmd_name: str) -> click.Command | None:
        """One of them, with its module brought in."""
        if cmd_name in _MODULES:
            import_module(f".{_MODULES[cmd_name]}", __package__)
        return super().get_command(ctx, cmd_name)

    def main(self, *args: Any, **kwargs: Any) -> Any:
        """Run a command; exit status 0 done, 1 failed, 2 bad use."""
        kwargs["standalone_mode"] = False
        if signal.getsignal(signal.SIGINT) is signal.default_int_handler:
            signal.signal(signal.SIGINT, _stop)
        try:
            super().main(*args, **kwargs)
        except click.exceptions.Exit as stop:
            sys.exit(stop.exit_code)
        except click.UsageError as error:
            error.show()
            sys.exit(2)
        except click.ClickException as error:
            error.show()
            sys.exit(1)
        except (click.Abort, KeyboardInterrupt, Cancelled):
            click.echo("Stopped. Nothing was left half written.", err=True)
            sys.exit(1)
        except SweepError as error:
            click.echo(f"nimbus-sweep: {error}", err=True)
            sys.exit(1)
        sys.exit(0)


@click.group(cls=_Group, context_settings={"help_option_names": ["-h", "--help"], "max_content_width": 110})
@click.version_option(__version__)
def main() -> None:
    """Takes capture defects out of footage by looking along time."""
    keep_together()
