"""The command that does a whole job while nobody looks."""

from __future__ import annotations

import json
import os
import shutil
import sys
import threading
import time
from collections.abc import Iterator, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click
from tqdm import tqdm

from ..core.base.errors import SweepError
from ..core.base.files import atomic_write
from .group import main, stopped

if TYPE_CHECKING:
    from ..jobs.runs import Standing
    from ..store.models import Job, Run

_MOVIES = {".mkv", ".mov", ".mp4", ".m4v", ".mxf", ".avi", ".ts", ".mts", ".webm"}
# The data folder of the job, in the folder that everything is delivered into.
_JOB = "job"


@main.command("run")
@click.argument("folders", nargs=-1, required=True, metavar="FOLDER...", type=click.Path(path_type=Path))
@click.option("--out", required=True, type=click.Path(path_type=Path, file_okay=False), help="Where deliveries, papers and the report go.")
@click.option("--recipe", "recipe_path", type=click.Path(path_type=Path), metavar="FILE", help="Treat by this recipe, not as surveyed.")
@click.option("--deliver", metavar="KIND", default="", help="Kind of delivery for all; without it each reel's usual one, mostly ffv1.")
@click.option("--resume", is_flag=True, help="Go on with what was stopped.")
@click.option("--scheduler", envvar="NIMBUS_SWEEP_SCHEDULER", metavar="ADDRESS", default="", help="Have frames worked on by a cluster.")
def run(folders: tuple[Path, ...], out: Path, recipe_path: Path | None, deliver: str, resume: bool, scheduler: str) -> None:
    """Take in, survey, treat, check and deliver all reels in FOLDERs, sound ones bit for bit.

    What is not sure is left as it is, and listed: `nimbus-sweep serve --data OUT/job` shows the list. Stopped with Ctrl+C, --resume goes on.
    """
    # Brought in here: each takes a while.
    from ..core.media.formats import FORMATS, Delivery
    from ..core.model.recipes import read_recipe
    from ..jobs import machines, runs, work
    from ..jobs.queue import Queue
    from ..jobs.tasks import RunSettings
    from ..store.data import DataFolder
    from ..store.models import Job, Reel, open_database

    if deliver and deliver not in FORMATS:
        raise click.BadParameter(f"there is no kind called {deliver}; there are: {', '.join(FORMATS)}", param_hint="--deliver")
    recipe = read_recipe(recipe_path) if recipe_path else None
    data = DataFolder(out.resolve() / _JOB)
    if resume and not data.database.exists():
        raise SweepError(f"There is nothing to go on with in {out}. Leave --resume out to begin.")
    if not resume and data.database.exists():
        raise SweepError(f"{out} holds a run already. Go on with it (--resume), or name another folder with --out.")
    if scheduler:
        from ..jobs.cluster import Cluster

        machines.use(Cluster(scheduler))
    paths = list(_reels(folders, out.resolve()))
    if not paths:
        raise SweepError(f"No reel was found in {', '.join(map(str, folders))}. Name folders that hold movies, or pictures of a sequence.")
    data.make()
    with data.lock():
        opened = open_database(data.database)
        queue = Queue(data, work.perform)
        if resume:
            queue.resume()
            job = Job.get()
            standing = runs.newest(job)
            assert standing is not None
            runs.pause(standing, False)
        else:
            job = Job.create(title=out.resolve().name[:200])
            for path in paths:
                Reel.create(job=job, title=path.stem[:200], path=str(path))
            settings = RunSettings(
                recipe=recipe, delivery=Delivery.model_validate({"kind": deliver}) if deliver else None, usual=not deliver
            )
            standing = runs.begin(queue, job, list(job.reels.order_by(Reel.id)), settings)
        _work_through(data.root, job, standing)
        failed = _report(data.root, out, job)
        opened.close()
    if failed:
        raise SweepError(f"{failed} reel{' was' if failed == 1 else 's were'} not done; the others were. The report says why.")


def _reels(folders: Sequence[Path], out: Path) -> Iterator[Path]:
    """The reels in some folders, and those that are named themselves."""
    from ..core.media.sequence import SUFFIXES, is_sequence

    for folder in folders:
        if not folder.exists():
            raise SweepError(f"There is no {folder}. Name a folder that is there.")
        if folder.is_file():
            yield folder.resolve()
            continue
        inside = sorted(p for p in folder.resolve().iterdir() if not p.name.startswith(".") and p != out and out not in p.parents)
        if any(p.suffix.lower() in SUFFIXES for p in inside) and is_sequence(folder.resolve()):
            yield folder.resolve()
            continue
        for path in inside:
            pictures = path.is_dir() and any(p.suffix.lower() in SUFFIXES for p in path.iterdir())
            if (path.is_file() and path.suffix.lower() in _MOVIES) or pictures:
                yield path


def _work_through(root: Path, job: Job, run: Run) -> None:
    """Do the reels one after another, and show how far that is; stopped, it can go on later."""
    from ..jobs import runs, work
    from ..store.data import DataFolder
    from ..store.models import database

    data = DataFolder(root)

    def worked() -> None:
        while not stopped.is_set():
            with database.connection_context():
                task = runs.next_one()
            if task is None:
                return
            work.perform(data, task)

    thread = threading.Thread(target=worked, daemon=True)
    thread.start()
    with tqdm(
        total=1000, file=sys.stderr, disable=not sys.stderr.isatty(), leave=False, bar_format="{desc} {percentage:3.0f}% |{bar}|"
    ) as bar:
        while thread.is_alive():
            thread.join(0.5)
            at = runs.standing(job)
            if at is not None:
                bar.n = round(1000 * at.share)
                bar.set_description_str(_said(at))
            if stopped.is_set():
                runs.pause(run, True)
                thread.join(20)
                click.echo("Stopped. Go on with --resume; what was done stays.", err=True)
                os._exit(1)
    if (run := type(run).get_by_id(run.id)).paused:
        raise SweepError(f"{run.said or 'The run was paused.'} Go on with --resume.")


def _said(at: Standing) -> str:
    left = f", about {max(1, round(at.left / 60))} min left" if at.left else ""
    return f"{at.over} of {len(at.reels)} reels{left}"


def _report(root: Path, out: Path, job: Job) -> int:
    """Put deliveries and papers where they belong, and say what was done; gives how many reels failed."""
    from ..jobs import runs
    from ..jobs.tasks import RunDone, result_of
    from ..store.data import DataFolder
    from ..store.models import Eye, Reel, Task
    from ..wording.eyes import heading, reason

    data, told, failed = DataFolder(root), [], 0
    at = runs.standing(job)
    assert at is not None
    for _, task in at.reels:
        reel = Reel.get_by_id(task.reel_id)
        line: dict[str, Any] = {"reel": reel.path, "state": task.state, "error": task.error}
        if task.state == "done":
            done = result_of(task, RunDone)
            files = [_placed(root / name, out) for name in done.delivered]
            papers = Task.select().where(Task.reel == reel, Task.kind == "papers", Task.state == "done").order_by(Task.id.desc()).first()
            if papers is not None:
                files += [_placed(p, out, f"{Path(reel.path).stem}-") for p in sorted(data.papers(papers.id).iterdir())]
            line |= done.model_dump(exclude={"delivered"}) | {"files": files}
            what = (
                f"{done.found} mended in {done.treated} of {done.shots} shot{'' if done.shots == 1 else 's'}" if done.treated else "sound"
            )
            click.echo(f"  {reel.title}: {what}{f', {done.doubtful} not sure' if done.doubtful else ''}")
        else:
            failed += 1
            click.echo(f"  {reel.title}: not done. {task.error}")
        eyes = Eye.select().where(Eye.reel == reel, Eye.state == "open", Eye.shown).order_by(Eye.score.desc())
        line["eyes"] = [
            {"what": heading(e.kind, e.values), "why": reason(e.kind, e.values), "frame": e.frame, "score": e.score} for e in eyes
        ]
        told.append(line)
    with atomic_write(out / "report.json") as stream:
        stream.write(json.dumps({"reels": told, "made_at": time.strftime("%Y-%m-%dT%H:%M:%S%z")}, indent=2).encode())
    many = sum(len(line["eyes"]) for line in told)
    if many:
        click.echo(f"{many} thing{' needs' if many == 1 else 's need'} eyes: nimbus-sweep serve --data {out / _JOB}")
    return failed


def _placed(path: Path, out: Path, prefix: str = "") -> str:
    """Put a delivered file, or the folder of a sequence, beside the others under a name of its own."""
    target = out / f"{prefix}{path.name}"
    n = 2
    while target.exists() and not _same(path, target):
        target = out / f"{prefix}{path.stem}-{n}{path.suffix}"
        n += 1
    if not target.exists():
        if path.is_dir():
            shutil.copytree(path, target, copy_function=_linked)
        else:
            _linked(str(path), str(target))
    return target.name


def _same(one: Path, other: Path) -> bool:
    if one.is_dir() or other.is_dir():
        return one.is_dir() and other.is_dir() and {p.name for p in one.iterdir()} == {p.name for p in other.iterdir()}
    return one.samefile(other) or one.read_bytes() == other.read_bytes()


def _linked(source: str, target: str) -> None:
    # A link costs no room; a disk that cannot link gets a copy.
    try:
        os.link(source, target)
    except OSError:
        shutil.copy2(source, target)
