"""Commands that work on footage: the same core without a browser."""

from __future__ import annotations

import contextlib
import json
import os
import sys
import tempfile
from collections.abc import Callable, Iterable, Iterator
from dataclasses import dataclass, field
from functools import partial, wraps
from pathlib import Path
from typing import Any

import click
from tqdm import tqdm

from ..core.base.errors import Cancelled, DamagedReel, SweepError
from ..core.base.files import atomic_write
from ..core.evidence.frames_at_hand import Span
from ..core.evidence.light_record import LightRecord, recorded
from ..core.evidence.scan import scan
from ..core.evidence.shot_evidence import ShotEvidence
from ..core.evidence.time_volume import TimeVolume, build_volume
from ..core.media.formats import FORMATS, Delivery, usual_kind
from ..core.media.opening import damage_of, fingerprint, open_reel, stamp_of
from ..core.media.reel import ReelReader
from ..core.media.remarks import some_runs
from ..core.media.repeats import Repeats
from ..core.media.sequence import SequenceReader, is_sequence
from ..core.model.findings import Note
from ..core.model.recipes import Recipe, Step, read_recipe
from ..core.model.registry import STEPS
from ..core.model.shots import divided
from ..core.pipeline.analyses import Analyses
from ..core.pipeline.comparison import compare, report_of
from ..core.pipeline.render import RenderedShot, RenderSpec, clear, render
from ..core.pipeline.report import TreatedShot, make_report, read_report
from ..core.pipeline.suggestions import suggested
from ..core.pipeline.survey import Finding
from ..core.pipeline.survey import survey as look_for
from ..wording import note, sentence, title
from ..wording.checks import proof
from ..wording.reels import remark
from .group import main, stopped

Progress = Callable[[float], None]


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


def _counts_damage(command: Callable[..., None]) -> Callable[..., None]:
    """Have a command that meets a picture it cannot read say all that cannot be."""

    @wraps(command)
    def counted(reel: Path, accept_missing: bool, **options: Any) -> None:
        try:
            command(reel=reel, accept_missing=accept_missing, **options)
        except DamagedReel as error:
            if accept_missing:
                raise
            damage = None if is_sequence(reel) else damage_of(reel)
            raise SweepError(f"{damage or error} To mend what is there, say --accept-missing.") from error

    return counted


@main.command()
@_reel_argument
@click.option(
    "--json", "json_path", type=click.Path(path_type=Path), metavar="FILE", help="Write the findings as JSON; - for standard output."
)
@_range_option
@_missing_option
@_counts_damage
def survey(reel: Path, json_path: Path | None, frames: tuple[int, int] | None, accept_missing: bool) -> None:
    """Say what is wrong with REEL, with the evidence."""
    source = _open(reel, accept_missing)
    with _scratch() as folder:
        shots, _ = _surveyed(source, frames, folder)
    found = [f for shot in shots for f in shot.found]
    first, stop = shots[0].first, shots[-1].stop
    if json_path is not None:
        facts = {
            "reel": reel.name,
            "frames": len(source),
            "first": first,
            "stop": stop,
            "shots": [{"first": s.first, "stop": s.stop, "notes": [note(n) for n in s.notes]} for s in shots],
            "findings": [f.as_json() | {"title": title(f), "sentence": sentence(f)} for f in found],
        }
        text = json.dumps(facts, indent=2)
        if str(json_path) == "-":
            click.echo(text)
            return
        with atomic_write(json_path) as stream:
            stream.write(text.encode())
    if len(shots) > 1:
        click.echo(f"{len(shots)} shots, cut at {', '.join(str(s.first) for s in shots[1:])}.")
    convincing = [f for f in found if f.convinces]
    click.echo(f"{reel.name}, frames {first} to {stop - 1}: {len(convincing)} finding{'' if len(convincing) == 1 else 's'}")
    for f in convincing:
        where = f"frames {f.first}-{f.stop - 1}  " if len(shots) > 1 else ""
        click.echo(f"  {where}x {f.x:5d}  y {f.y:5d}  {f.confidence:4.0%}  {title(f)}. {sentence(f)}")
    for shot in shots:
        for missed in shot.notes:
            click.echo(f"  frames {shot.first}-{shot.stop - 1}: {note(missed)}")
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
@click.option("--as", "kind", type=click.Choice(list(FORMATS)), help="Another kind of delivery than the lossless one.")
@_missing_option
@_counts_damage
def treat(
    reel: Path,
    out: Path,
    recipe_path: Path | None,
    as_suggested: bool,
    kinds: tuple[str, ...] | None,
    frames: tuple[int, int] | None,
    report_path: Path | None,
    overwrite: bool,
    kind: str | None,
    accept_missing: bool,
) -> None:
    """Treat REEL, a movie file or the folder or pattern of a sequence, and write a copy to OUT; REEL is not touched.

    OUT is lossless FFV1 in Matroska (.mkv), for a sequence a folder of pictures like the source's, or what --as names.
    --suggested puts on each shot the steps its own survey suggests.
    """
    if (recipe_path is not None) + as_suggested + (kinds is not None) > 1:
        raise click.UsageError("Name one of --recipe, --suggested and --steps, not several.")
    recipe = read_recipe(recipe_path) if recipe_path else Recipe(steps=tuple(Step.new(k) for k in kinds)) if kinds else None
    source = _open(reel, accept_missing)
    kind = kind or _kind_of(out, source)
    _check_out(reel, out, kind, overwrite)
    for warning in map(remark, FORMATS[kind].losses(source.facts, source.format)):
        click.echo(f"Note: {warning}", err=True)
    with _scratch(beside=out) as folder:
        print_ = fingerprint(reel)
        stamp = stamp_of(reel)
        if recipe is None or recipe.needs_survey:
            shots, repeats = _surveyed(source, frames, folder, [s.kind for s in recipe.active] if recipe else None)
        else:
            shots, repeats = _divided(source, frames, folder)
        treated = _analysed(source, shots, recipe, folder, print_, repeats)
        spec = _spec(reel, source, folder, print_, stamp, kind, accept_missing, treated)
        report = make_report(source, print_, spec.reading, spec.cut(source.rate), kind, treated, repeats)
        with _bar("Rendering", len(source)) as progress:
            render(spec, out, report, lambda share, _rate: progress(share))
        clear(spec)
    if report_path:
        with atomic_write(report_path) as stream:
            stream.write(report.model_dump_json(indent=2).encode())
    names = dict.fromkeys(step.of.title for shot in treated for step in shot.recipe.active)
    steps = ", ".join(names) or "no step: nothing was found to mend"
    click.echo(f"{out}: {len(source)} frames, {steps}.", err=True)


def _check_out(reel: Path, out: Path, kind: str, overwrite: bool) -> None:
    """Refuse an OUT that cannot be meant."""
    form = FORMATS[kind]
    if not form.is_sequence and out.suffix.lower() != form.suffix:
        raise click.UsageError(f"{form.title} is written to a file that ends in {form.suffix}, not {out.suffix or 'none'}.")
    if out.exists() and out.samefile(reel if reel.exists() else reel.parent):
        raise click.UsageError("OUT is the reel itself; the original is never written to. Name another file.")
    if out.exists() and not overwrite:
        raise SweepError(f"{out} is there already. Name another file, or say --overwrite.")


def _analysed(
    source: ReelReader, shots: list[_Part], recipe: Recipe | None, folder: Path, print_: str, repeats: Repeats
) -> list[TreatedShot]:
    """The shots that something is done to, by the recipe or by what their own survey suggests, with what the steps know."""
    treated = []
    with _bar("Analysing") as progress:
        for n, shot in enumerate(shots):
            applied = (recipe or suggested(shot.found)).resolved(shot.found)
            if not applied.active:
                continue
            analyses = Analyses(folder / "analyses", print_, shot.first, shot.stop)
            asked = (source, shot, folder, repeats)
            opened, lit = partial(_volume, *asked), partial(_light, *asked)
            known = analyses.make(applied, source, opened, None, lit, repeats.distinct, partial(_kept, shot))
            treated.append(TreatedShot(f"Shot {n + 1}", shot.first, shot.stop, applied, [f.as_json() for f in shot.found], known))
            progress((n + 1) / len(shots))
    return treated


def _spec(
    reel: Path,
    source: ReelReader,
    folder: Path,
    print_: str,
    stamp: tuple[int, int],
    kind: str,
    accept_missing: bool,
    treated: list[TreatedShot],
) -> RenderSpec:
    """How the copy is rendered."""
    shots = (RenderedShot(name=s.name, first=s.first, stop=s.stop, span=(s.first, s.stop), recipe=s.recipe) for s in treated)
    return RenderSpec(
        reel=str(reel),
        accept_missing=accept_missing,
        fingerprint=print_,
        size=stamp[0],
        modified=stamp[1],
        shots=tuple(shots),
        repeats=str(folder / "repeats.npz"),
        first=0,
        stop=len(source),
        delivery=Delivery.model_validate({"kind": kind}),
        analyses=str(folder / "analyses"),
        chunks=str(folder / "chunks"),
    )


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
    treated = open_reel(out)
    report = report or report_of(out)
    source = open_reel(reel, report.reading if report else None, accept_missing=bool(report and report.missing))
    with _bar("Comparing", len(treated)) as progress:
        result = compare(source, treated, report, progress)
    if as_json:
        click.echo(proof(result).model_dump_json(indent=2, exclude={"truth"}))
    else:
        share = 100 * result.differing / max(1, result.samples)
        click.echo(f"{result.differing} of {result.samples} samples differ ({share:.5f} %), by up to {result.largest:g} of 255.")
        if result.box:
            click.echo(
                f"In frames {some_runs(result.changed_frames)}; all within x {result.box[0]}-{result.box[2] - 1}, y {result.box[1]}-{result.box[3] - 1}."
            )
        if result.missing:
            click.echo(f"The reel lacks frames {some_runs(result.missing)}; there was nothing to compare them with.")
        if not result.reported:
            click.echo("The file carries no report, so it is not known what was meant to change.")
        else:
            click.echo(f"{result.outside} of them lie outside the treated regions of the report.")
        if result.same_source is False:
            click.echo("The report was made of another reel.")
        sound: dict[bool | None, str] = {True: "The sound is the source's, packet for packet.", False: "The sound is NOT the source's."}
        click.echo(sound.get(result.sound_identical, "The sound was cut or lies in files of its own; it was not compared."))
    met = result.proven if result.reported else result.differing == 0 and result.sound_identical is not False
    if not met:
        sys.exit(1)


def _kind_of(out: Path, source: ReelReader) -> str:
    """The kind of delivery that OUT's ending means."""
    if out.suffix.lower() == ".mkv":
        return "ffv1"
    usual = usual_kind(source.facts, source.format)
    if not out.suffix and FORMATS[usual].is_sequence:
        return usual
    raise click.UsageError(
        f"Give OUT the ending .mkv (lossless){' or none (a folder of pictures like the source)' if FORMATS[usual].is_sequence else ''}, "
        f"or name another kind with --as: {', '.join(FORMATS)}."
    )


def _open(reel: Path, accept_missing: bool) -> ReelReader:
    source = open_reel(reel, accept_missing=accept_missing)
    if isinstance(source, SequenceReader):
        # Which of its pictures cannot be read is known when each was; movies say so when they are decoded.
        for _ in source.frames(0, len(source)):
            pass
    if not accept_missing:
        _require_readable(source)
        source.require_whole()
    return source


def _require_readable(source: ReelReader) -> None:
    """Refuse a sequence some of whose pictures cannot be read."""
    if isinstance(source, SequenceReader) and source.unreadable:
        number, why = min(source.unreadable.items())
        lost = len(source.unreadable)
        raise DamagedReel(
            f"{source.path.name}: {lost} picture{'' if lost == 1 else 's'} cannot be read, the first {source.name_of(number)} ({why}). Copy "
            f"{'it' if lost == 1 else 'them'} again.",
            lost,
            len(source) - lost,
        )


@dataclass
class _Part:
    """A shot, or the part of it that was asked for, with what the survey found."""

    first: int
    stop: int
    volume: TimeVolume | None = None
    light: LightRecord | None = None
    found: list[Finding] = field(default_factory=list)
    notes: tuple[Note, ...] = ()


def _divided(source: ReelReader, frames: tuple[int, int] | None, folder: Path) -> tuple[list[_Part], Repeats]:
    """The shots of the reel, and its repeated frames; of a part of it if one was asked for."""
    if frames is not None and frames[1] > len(source):
        raise click.UsageError(f"--range {frames[0]}:{frames[1]} goes beyond the reel's {len(source)} frames.")
    with _bar("Reading", len(source)) as progress:
        seen = scan(
            source, lambda frame: progress((frame.number + 1) / len(source)), volume=folder / "whole.bin", light=folder / "whole.light"
        )
    seen.repeats.save(folder / "repeats.npz")
    first, stop = frames or (0, len(source))
    parts = [_Part(max(first, s.first), min(stop, s.stop)) for s in divided(len(source), seen.cuts) if s.first < stop and s.stop > first]
    if seen.volume is not None and frames is None:
        parts[0].volume, parts[0].light = TimeVolume(seen.volume), LightRecord(folder / "whole.light")
    return parts, seen.repeats


def _volume(source: ReelReader, part: _Part, folder: Path, repeats: Repeats) -> TimeVolume:
    if part.volume is None:
        path = folder / f"{part.first}-{part.stop}.bin"
        with recorded(path.with_suffix(".light"), source, part.first) as writer:
            part.volume = build_volume(path, source, writer.add, first=part.first, stop=part.stop, usable=repeats.distinct)
        part.light = LightRecord(path.with_suffix(".light"))
    return part.volume


def _kept(part: _Part) -> TimeVolume | None:
    """The volume a survey has left."""
    return part.volume


def _light(source: ReelReader, part: _Part, folder: Path, repeats: Repeats) -> LightRecord:
    _volume(source, part, folder, repeats)
    assert part.light is not None
    return part.light


def _surveyed(
    source: ReelReader, frames: tuple[int, int] | None, folder: Path, steps: Iterable[str] | None = None
) -> tuple[list[_Part], Repeats]:
    parts, repeats = _divided(source, frames, folder)
    with _bar("Surveying") as progress:
        for n, part in enumerate(parts):
            volume, lit = _volume(source, part, folder, repeats), _light(source, part, folder, repeats)
            steady = folder / "steadied.bin"
            span = Span.of(source, part.first, part.stop, repeats.distinct, volume)
            evidence = ShotEvidence(volume, part.first, part.stop, light=lit, frames=span, scratch=steady)

            def surveyed(share: float, n: int = n) -> None:
                progress((n + share) / len(parts))

            told_of = look_for(evidence, surveyed, steps=steps)
            part.found, part.notes = told_of.findings, told_of.notes
    return parts, repeats


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
            if stopped.is_set():
                raise Cancelled
            bar.update(round(share * (bar.total or 0)) - bar.n)

        yield told
