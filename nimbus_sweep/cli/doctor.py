"""A look at the machine and the data folder: what is there, and whether it is sound."""

from __future__ import annotations

import os
import platform
import shutil
import sqlite3
import sys
from collections.abc import Iterator
from importlib import metadata
from pathlib import Path

import click

from .. import __version__
from .group import main

# What a user would miss first: to read, and to deliver.
_READ = ("h264", "hevc", "av1", "vp9", "prores", "dnxhd", "cfhd", "ffv1", "mjpeg", "v210")
_WRITTEN = ("ffv1", "v210", "prores_ks", "dnxhd", "libx264")
_SOUND_ROOM, _LITTLE_ROOM = 20e9, 2e9
Answers = Iterator[tuple[bool, str]]


@main.command()
@click.option(
    "--data", type=click.Path(path_type=Path, file_okay=False), default=Path("data"), show_default=True, help="The data folder to look at."
)
@click.option("--repair", is_flag=True, help="Clear what work that was stopped left over, and what nothing names any more.")
@click.option(
    "--keep-changes",
    type=click.IntRange(1),
    metavar="N",
    help="Let go of all but the newest N changes of each reel: they cannot be undone then.",
)
def doctor(data: Path, repair: bool, keep_changes: int | None) -> None:
    """Say what is installed, what this machine offers, and whether the data folder is sound.

    Exit status 1 when something is wrong.
    """
    wrong = 0
    if repair or keep_changes:
        from ..store.upkeep import tidied

        for text in tidied(data.resolve(), repair, keep_changes):
            click.echo(text)
    for sound, text in (*_installed(), *_codecs(), *_machine(data), *_folder(data)):
        click.echo(f"{'' if sound else 'WRONG: '}{text}")
        wrong += not sound
    click.echo(f"{wrong} thing{'s' if wrong != 1 else ''} wrong." if wrong else "All is well.")
    if wrong:
        sys.exit(1)


def _installed() -> Answers:
    yield True, f"Nimbus Sweep {__version__}, Python {platform.python_version()}, {platform.system()} {platform.machine()}"
    libraries = ", ".join(
        f"{name} {metadata.version(name)}" for name in ("av", "numpy", "numba", "opencv-python-headless", "flask", "huey")
    )
    yield True, f"Libraries: {libraries}"


def _codecs() -> Answers:
    import av

    missing = [name for name in _READ if name not in av.codecs_available]
    yield (
        not missing,
        f"Reads {', '.join(n for n in _READ if n not in missing)}" + (f"; cannot read {', '.join(missing)}" if missing else ""),
    )
    lacking = []
    for name in _WRITTEN:
        try:
            av.Codec(name, "w")
        except ValueError:
            lacking.append(name)
    written = ", ".join(n for n in _WRITTEN if n not in lacking)
    yield not lacking, f"Writes {written}" + (f"; cannot write {', '.join(lacking)}" if lacking else "")


def _machine(data: Path) -> Answers:
    yield True, f"Cores: {os.cpu_count()}"
    folder = next(p for p in (data.resolve(), *data.resolve().parents) if p.exists())
    usage = shutil.disk_usage(folder)
    text = f"Room: {usage.free / 1e9:.1f} GB free of {usage.total / 1e9:.1f} GB at {folder}"
    if usage.free < _LITTLE_ROOM:
        yield False, f"{text}. A render may not find room: free some in Storage, or name another folder with --data."
    else:
        yield True, text + ("" if usage.free > _SOUND_ROOM else ". Long reels may need more.")
    yield os.access(folder, os.W_OK), f"{folder} may {'' if os.access(folder, os.W_OK) else 'not '}be written to"


def _folder(data: Path) -> Answers:
    from ..core.media.opening import stamp_of
    from ..store.contents import Contents
    from ..store.data import DataFolder

    folder = DataFolder(data.resolve())
    if not folder.database.exists():
        yield True, f"Data folder {folder.root}: nothing in it yet"
        return
    for path in (folder.database, folder.queue):
        problems = _checked(path)
        yield problems == "ok", f"{path.name}: {'sound' if problems == 'ok' else problems}"
        if problems != "ok":
            return
    with sqlite3.connect(f"file:{folder.database}?mode=ro", uri=True) as opened:
        reels = opened.execute("select title, path, size, modified from reel where state = 'ready'").fetchall()
        waiting, failed = (opened.execute(f"select count(*) from task where state in ({s})").fetchone()[0] for s in _STATES)
    yield True, f"Reels taken in: {len(reels)}; work waiting or under way: {waiting}, failed: {failed}"
    for title, place, size, modified in reels:
        path = folder.root / place
        if not Path(path).exists() and "%" not in Path(path).name:
            yield False, f"{title}: {path} is not there any more. Put it back, or remove the reel from the rack."
        elif Path(path).exists() and stamp_of(Path(path)) != (size, modified):
            yield False, f"{title}: {path} was changed after it was taken in. Put the original back, or take it in again."
    damaged = Contents(folder.root / "contents").damaged()
    yield (
        not damaged,
        "Masks, plates and paths: sound"
        if not damaged
        else f"{len(damaged)} of the masks, plates and paths are damaged. Put a backup back.",
    )
    parts = list(folder.root.rglob(".*.part*"))
    yield True, f"Left over by work that was stopped: {len(parts)} files" + ("" if not parts else "; cleared when the work is done over")


_STATES = ("'waiting', 'running'", "'failed'")


def _checked(path: Path) -> str:
    """What SQLite says of a database: ``ok``, or what is wrong."""
    if not path.exists():
        return "ok"
    try:
        with sqlite3.connect(f"file:{path}?mode=ro", uri=True) as opened:
            return str(opened.execute("pragma quick_check(1)").fetchone()[0])
    except sqlite3.DatabaseError as error:
        return f"cannot be read ({error}). Put a copy back; the reels themselves are not in it."
