"""The command line: the same core without a browser."""

from __future__ import annotations

import contextlib
import json
import os
import sys
import tempfile
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any

import click
from tqdm import tqdm

from . import __version__
from .core.errors import Cancelled, DamagedReel, SweepError
from .core.measure import compare, report_of
from .core.media.aside import written_aside
from .core.media.reader import MovieReader, fingerprint
from .core.media.writer import lossless_format
from .core.render import RenderSpec, clear, render
from .core.report import make_report, read_report
from .core.steps import STEPS
from .core.survey import Finding
from .core.survey import survey as look_for
from .core.treatment import Analyses, Recipe, Step, read_recipe, suggested
from .core.volume import TimeVolume, build_volume

Progress = Callable[[float], None]


class _Group(click.Group):
    """Explains failures on standard error; a user's mistake never shows a traceback."""

    def main(self, *args: Any, **kwargs: Any) -> Any:
        """Run a command; exit status 0 done, 1 failed, 2 bad use."""
        kwargs["standalone_mode"] = False
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


def _range(_context: click.Context, _parameter: click.Parameter, value: str | None) -> tuple[int, int] | None:
    if value is None:
        return None
    first, colon, stop = value.partition(":")
    if not (colon and first.isdigit() and stop.isdigit() and int(first) < int(stop)):
        raise click.BadParameter("give it as A:B, frames A up to, not including, B; A below B")
    return int(first), int(stop)


def _kinds(_context: click.Context, _parameter: click.Parameter, value: str | None) -> tuple[str, ...] | None:
    if value is None:
        return None
    kinds = tuple(k.strip() for k in value.split(",") if k.strip())
    unknown = [k for k in kinds if k not in STEPS]
    if unknown or not kinds:
        raise click.BadParameter(f"there is no step called {', '.join(unknown) or 'nothing'}; there are: {', '.join(STEPS)}")
    return kinds


_reel_argument = click.argument("reel", type=click.Path(path_type=Path))
_range_option = click.option("--range", "frames", metavar="A:B", callback=_range, help="Only frames A up to, not including, B.")
_missing_option = click.option("--accept-missing", is_flag=True, help="Go on with a damaged reel: mend what can be read.")


@main.command()
@_reel_argument
@click.option(
    "--json", "json_path", type=click.Path(path_type=Path), metavar="FILE", help="Write the findings as JSON; - for standard output."
)
@_range_option
@_missing_option
def survey(reel: Path, json_path: Path | None, frames: tuple[int, int] | None, accept_missing: bool) -> None:
    """Say what is wrong with REEL, with the evidence."""
    source = _open(reel, accept_missing)
    first, stop = _shot(source, frames)
    with _scratch() as folder:
        found = _survey(source, first, stop, folder)[1]
    if json_path is not None:
        facts = {"reel": reel.name, "frames": len(source), "first": first, "stop": stop, "findings": [f.as_json() for f in found]}
        text = json.dumps(facts, indent=2)
        if str(json_path) == "-":
            click.echo(text)
            return
        with written_aside(json_path) as stream:
            stream.write(text.encode())
    convincing = [f for f in found if f.convinces]
    click.echo(f"{reel.name}, frames {first} to {stop - 1}: {len(convincing)} finding{'' if len(convincing) == 1 else 's'}")
    for f in convincing:
        click.echo(f"  x {f.x:5d}  y {f.y:5d}  {f.confidence:4.0%}  {f.title}. {f.sentence}")
    doubtful = len(found) - len(convincing)
    if doubtful:
        click.echo(
            f"{doubtful} more, too doubtful to mend unasked, {'are in the JSON file' if json_path else 'go into a file with --json'}."
        )


@main.command()
@_reel_argument
@click.argument("out", type=click.Path(path_type=Path))
@click.option("--recipe", "recipe_path", type=click.Path(path_type=Path), metavar="FILE", help="The steps of a recipe file.")
@click.option("--suggested", "as_suggested", is_flag=True, help="The steps that the survey suggests.")
@click.option("--steps", "kinds", metavar="KIND,KIND", callback=_kinds, help=f"Steps with automatic settings: {', '.join(STEPS)}.")
@_range_option
@click.option("--report", "report_path", type=click.Path(path_type=Path), metavar="FILE", help="Write the report of what was done as JSON.")
@click.option("--overwrite", is_flag=True, help="Replace OUT if it is there.")
@_missing_option
def treat(
    reel: Path,
    out: Path,
    recipe_path: Path | None,
    as_suggested: bool,
    kinds: tuple[str, ...] | None,
    frames: tuple[int, int] | None,
    report_path: Path | None,
    overwrite: bool,
    accept_missing: bool,
) -> None:
    """Treat REEL and write a lossless copy to OUT (FFV1 in Matroska); REEL is not touched."""
    if (recipe_path is not None) + as_suggested + (kinds is not None) > 1:
        raise click.UsageError("Name one of --recipe, --suggested and --steps, not several.")
    recipe = read_recipe(recipe_path) if recipe_path else Recipe(steps=tuple(Step(kind=k) for k in kinds)) if kinds else None
    if out.suffix.lower() != ".mkv":
        raise click.UsageError(f"The delivery is Matroska: give OUT the ending .mkv, not {out.suffix or 'none'}.")
    source = _open(reel, accept_missing)
    if out.exists() and out.samefile(reel):
        raise click.UsageError("OUT is the reel itself; the original is never written to. Name another file.")
    if out.exists() and not overwrite:
        raise SweepError(f"{out} is there already. Name another file, or say --overwrite.")
    lossless_format(source.format)
    first, stop = _shot(source, frames)
    found: list[Finding] = []
    with _scratch(beside=out) as folder:
        volume: TimeVolume | None = None
        if recipe is None or recipe.needs_survey:
            volume, found = _survey(source, first, stop, folder)
            recipe = recipe or suggested(found)
        elif recipe.active:
            volume = _volume(source, first, stop, folder)
        recipe = recipe.settled(found)
        print_ = fingerprint(reel)
        analyses = Analyses(folder / "analyses", print_, first, stop)
        analyses.folder.mkdir()
        known = []
        if volume is not None:
            with _bar("Analysing") as told:
                known = analyses.make(recipe, source, volume, told)
        report = make_report(
            reel.name, print_, len(source), source.missing, (first, stop), recipe, [f.as_json() for f in found], source.format, known
        )
        stat = reel.stat()
        spec = RenderSpec(
            reel=str(reel),
            accept_missing=accept_missing,
            fingerprint=print_,
            size=stat.st_size,
            modified=stat.st_mtime_ns,
            recipe=recipe.model_dump_json(),
            first=first,
            stop=stop,
            analyses=str(analyses.folder),
            chunks=str(folder / "chunks"),
        )
        with _bar("Rendering", len(source)) as told:
            render(spec, out, report, lambda share, _rate: told(share))
        clear(spec)
    if report_path:
        with written_aside(report_path) as stream:
            stream.write(report.model_dump_json(indent=2).encode())
    steps = ", ".join(STEPS[s.kind].title for s in recipe.active) or "no step: nothing was found to mend"
    click.echo(f"{out}: {len(source)} frames, {steps}.", err=True)


@main.command()
@_reel_argument
@click.argument("out", type=click.Path(path_type=Path))
@click.option("--json", "as_json", is_flag=True, help="Print the figures as JSON.")
@click.option("--report", "report_path", type=click.Path(path_type=Path), metavar="FILE", help="Hold OUT against this report, not its own.")
def verify(reel: Path, out: Path, as_json: bool, report_path: Path | None) -> None:
    """Compare OUT with REEL sample by sample: what differs, where, and whether all of it was meant.

    Exit status 1 when a sample outside the treated regions, or the sound, differs.
    """
    try:
        report = read_report(report_path.read_text()) if report_path else None
    except OSError as error:
        raise SweepError(f"The report {report_path} cannot be read ({error.strerror}).") from error
    treated = MovieReader(out)
    report = report or report_of(out)
    source = MovieReader(reel, accept_missing=bool(report and report.missing))
    with _bar("Comparing", len(source)) as told:
        result = compare(source, treated, report, told)
    if as_json:
        click.echo(json.dumps(result.as_json(), indent=2))
    else:
        share = 100 * result.differing / max(1, result.samples)
        click.echo(f"{result.differing} of {result.samples} samples differ ({share:.5f} %), by up to {result.largest:g} of 255.")
        if result.box:
            runs = ", ".join(f"{a}-{b}" if a != b else str(a) for a, b in result.changed_frames[:12])
            more = " and more" if len(result.changed_frames) > 12 else ""
            click.echo(f"In frames {runs}{more}; all within x {result.box[0]}-{result.box[2] - 1}, y {result.box[1]}-{result.box[3] - 1}.")
        if not result.reported:
            click.echo("The file carries no report, so it is not known what was meant to change.")
        else:
            click.echo(f"{result.outside} of them lie outside the treated regions of the report.")
        if result.same_source is False:
            click.echo("The report was made of another reel.")
        click.echo("The sound is the source's, packet for packet." if result.sound_identical else "The sound is NOT the source's.")
    met = result.proven if result.reported else result.differing == 0 and result.sound_identical
    if not met:
        sys.exit(1)


@main.command()
@click.option(
    "--data", type=click.Path(path_type=Path, file_okay=False), default=Path("data"), show_default=True, help="Where jobs are kept."
)
@click.option("--port", type=click.IntRange(1, 65535), default=8017, show_default=True)
@click.option(
    "--allow", type=click.Path(path_type=Path, exists=True, file_okay=False), multiple=True, help="A folder reels may be opened from."
)
@click.option("--upload-limit", type=click.IntRange(1), default=20_000, show_default=True, help="Largest upload, in MB.")
def serve(data: Path, port: int, allow: tuple[Path, ...], upload_limit: int) -> None:
    """Start the application on this machine."""
    _serve(data, port, allow, upload_limit, demo=False)


@main.command()
@click.option(
    "--data", type=click.Path(path_type=Path, file_okay=False), default=Path("data"), show_default=True, help="Where jobs are kept."
)
@click.option("--port", type=click.IntRange(1, 65535), default=8017, show_default=True)
def demo(data: Path, port: int) -> None:
    """Start the application with the demo job: the archive of Skerrow Point weather station."""
    _serve(data, port, (), 20_000, demo=True)


@main.command(hidden=True)
@click.option("--data", type=click.Path(path_type=Path, file_okay=False), required=True)
def worker(data: Path) -> None:
    """Run queued work; started by the server."""
    from .jobs.worker import run

    run(data)


def _serve(data: Path, port: int, allow: tuple[Path, ...], upload_limit: int, demo: bool) -> None:
    from .web.server import serve as run

    run(data.resolve(), port, [folder.resolve() for folder in allow], upload_limit * 1_000_000, demo)


def _open(reel: Path, accept_missing: bool) -> MovieReader:
    source = MovieReader(reel, accept_missing=accept_missing)
    if not accept_missing:
        try:
            source.require_whole()
        except DamagedReel as error:
            raise SweepError(f"{error} To mend what is there, say --accept-missing.") from error
    return source


def _shot(source: MovieReader, frames: tuple[int, int] | None) -> tuple[int, int]:
    if frames is None:
        return 0, len(source)
    if frames[1] > len(source):
        raise click.UsageError(f"--range {frames[0]}:{frames[1]} goes beyond the reel's {len(source)} frames.")
    return frames


def _volume(source: MovieReader, first: int, stop: int, folder: Path) -> TimeVolume:
    with _bar("Reading", stop - first) as told:
        return build_volume(
            folder / "volume.bin", source, lambda frame: told((frame.number - first + 1) / (stop - first)), first=first, stop=stop
        )


def _survey(source: MovieReader, first: int, stop: int, folder: Path) -> tuple[TimeVolume, list[Finding]]:
    volume = _volume(source, first, stop, folder)
    with _bar("Surveying") as told:
        return volume, look_for(volume, first, stop, told)


@contextlib.contextmanager
def _scratch(beside: Path | None = None) -> Iterator[Path]:
    parent = beside.absolute().parent if beside else None
    if parent is not None and not parent.is_dir():
        raise SweepError(f"There is no folder {parent}. Make it first, or name another place.")
    if parent is not None and not os.access(parent, os.W_OK):
        raise SweepError(f"{parent} may not be written to. Name another place.")
    with tempfile.TemporaryDirectory(prefix=".nimbus-sweep-", dir=parent) as folder:
        yield Path(folder)


@contextlib.contextmanager
def _bar(what: str, frames: int | None = None) -> Iterator[Progress]:
    """A progress bar on a terminal, nothing elsewhere."""
    with tqdm(
        total=frames or 100,
        desc=what,
        unit="fr" if frames else "%",
        file=sys.stderr,
        disable=not sys.stderr.isatty(),
        leave=False,
        dynamic_ncols=True,
    ) as bar:

        def told(share: float) -> None:
            bar.update(round(share * bar.total) - bar.n)

        yield told
