"""Rendering a treated reel: in chunks that survive a crash, in parallel, joined without loss.

Each chunk is a file that appears only when whole. A render that starts again finds the chunks already there and
goes on behind them. Several processes each take a stretch of consecutive chunks that begins near a key frame, so
that hardly any decodes what another has decoded. Where the chunks lie does not depend on how many there are.
"""

from __future__ import annotations

import bisect
import contextlib
import shutil
import time
from collections.abc import Callable, Iterator, Sequence
from concurrent.futures import Executor, Future, ProcessPoolExecutor, wait
from dataclasses import replace
from fractions import Fraction
from itertools import islice
from multiprocessing import get_context
from pathlib import Path

from pydantic import BaseModel, ConfigDict

from ..base.errors import Cancelled, ChangedReel
from ..base.parallel import cores, share_cores
from ..media.formats import FORMATS, Delivery, DeliveryFormat
from ..media.frames import Frame, FrameSource
from ..media.pictures import gather, write_pictures
from ..media.reader import usual_rate
from ..media.reel import ReelReader
from ..media.repeats import Passing, RepairedOnce, Repeats
from ..media.writer import REPORT_TAG, Cut, join, write_chunk
from ..model.recipes import Recipe
from .analyses import Analyses, chain
from .at_hand import TakenIn
from .report import Report

CHUNK_FRAMES = 48
_CANCEL = "cancel"


class RenderedShot(BaseModel):
    """A shot to be rendered: frames treated, frames its analyses rest on, and its resolved recipe."""

    model_config = ConfigDict(frozen=True)

    name: str = ""
    first: int
    stop: int
    span: tuple[int, int]
    recipe: Recipe


class RenderSpec(TakenIn):
    """All a process needs to render a reel; plain values, so that it can be sent anywhere.

    Attributes
    ----------
    shots : tuple of RenderedShot
        Those that are treated.
    first, stop : int
        Frames of the reel that are delivered.
    delivery : Delivery
    chunks : str
        Folder.
    """

    shots: tuple[RenderedShot, ...] = ()
    first: int
    stop: int
    delivery: Delivery = Delivery()
    chunks: str

    def cut(self, rate: Fraction) -> Cut:
        """Which frames are delivered, and when, of a reel at `rate`."""
        if not self.delivery.distinct or not self.repeats:
            return Cut(self.first, self.stop)
        repeats = Repeats.load(Path(self.repeats))
        true_rate = repeats.true_rate(rate)
        if true_rate is None:
            return Cut(self.first, self.stop)
        inside = repeats.distinct[(repeats.distinct > self.first) & (repeats.distinct < self.stop)]
        # A part that begins with a copy begins with it: the one it repeats lies outside.
        return Cut(self.first, self.stop, [self.first, *inside.tolist()], usual_rate(true_rate))


def render(
    spec: RenderSpec,
    out: Path,
    report: Report,
    on_progress: Callable[[float, float], None] | None = None,
    executor: Executor | None = None,
    workers: int | None = None,
) -> None:
    """Render a treated reel to `out`.

    Parameters
    ----------
    spec : RenderSpec
        Its analyses are ready.
    out : Path
        A file, or for sequences a folder. Appears only when whole.
    report : Report
        Goes into a movie as a tag, and beside pictures as a file.
    on_progress : callable
        Told the share done, 0 to 1, and frames a second; may raise to stop, which is passed on.
    executor : Executor
        Where the stretches are rendered; a process pool of its own when None.
    workers : int
        How many stretches at once; one for every two cores when None.

    Raises
    ------
    ChangedReel
        If the source is not the reel that was taken in.
    DiskFull
        If there is no room.
    """
    reel = spec.open_unchanged()
    cut = spec.cut(reel.rate)
    folder = Path(spec.chunks)
    folder.mkdir(parents=True, exist_ok=True)
    (folder / _CANCEL).unlink(missing_ok=True)
    stretches = plan(reel, cut, workers or max(1, cores() // 2))
    total = len(cut)
    pace = _Pace(total, on_progress)

    def tick() -> None:
        pace.report(_frames_there(folder, total))

    pace.report(_frames_there(folder, total), force=True)
    _render_all(spec, stretches, executor, tick)
    reel.check_unchanged()
    form = FORMATS[spec.delivery.kind]
    chunks = [folder / _name(first, stop, form) for stretch in stretches for first, stop in stretch]
    # Without the time it was made at: the same treatment of the same reel gives the same file, to the last bit.
    carried = report.model_copy(update={"made_at": ""})
    if form.is_sequence:
        gather(chunks, reel, out, cut, carried.model_dump_json(indent=2))
    else:
        join(chunks, reel, out, form, cut, {REPORT_TAG: carried.model_dump_json()})
    pace.report(total, force=True)


def _render_all(spec: RenderSpec, stretches: list[list[tuple[int, int]]], executor: Executor | None, tick: Callable[[], None]) -> None:
    """Render the stretches, here if there is one, or else beside each other."""
    try:
        if len(stretches) == 1 and executor is None:
            _render_stretch(spec, stretches[0], tick)
            return
        pool = executor or ProcessPoolExecutor(len(stretches), get_context("spawn"), initializer=share_cores)
        try:
            _watch([pool.submit(_render_stretch, spec, s) for s in stretches], tick)
        finally:
            (Path(spec.chunks) / _CANCEL).touch()
            if executor is None:
                pool.shutdown()
    except FileNotFoundError as error:
        raise ChangedReel(f"The working files of this render are gone ({error.filename}). Start it again.") from error


def clear(spec: RenderSpec) -> None:
    """Remove the chunks of a render that is done or given up."""
    shutil.rmtree(spec.chunks, ignore_errors=True)


def treated(spec: RenderSpec, reel: ReelReader) -> FrameSource:
    """The reel with the treatments of its shots put on; their analyses are ready."""
    repeats = Repeats.load(Path(spec.repeats)) if spec.repeats and spec.shots else None
    if repeats is None or not repeats.repeated.any():
        return _with_steps(spec, reel)
    passing = Passing(reel)
    return RepairedOnce(_with_steps(spec, passing), passing, repeats.within((s.first, s.stop) for s in spec.shots))


def _with_steps(spec: RenderSpec, source: FrameSource) -> FrameSource:
    for shot in spec.shots:
        known = Analyses(Path(spec.analyses), spec.fingerprint, *shot.span).load(shot.recipe, source.format)
        source = chain(source, known, shot.first, shot.stop)
    return source


def plan(reel: ReelReader, cut: Cut, workers: int) -> list[list[tuple[int, int]]]:
    """Stretches of consecutive chunks (first, stop) of places in the delivery, at most `workers`.

    Each begins less than a chunk behind a key frame: what has to be decoded before it is thrown away.
    """
    total = len(cut)
    chunks = [(n, min(total, n + CHUNK_FRAMES)) for n in range(0, total, CHUNK_FRAMES)]
    keys = sorted(reel.key_frames)
    numbers = [cut.number(first) for first, _ in chunks]
    ways_in = [n for n, number in enumerate(numbers) if n and _after_key(keys, number) < CHUNK_FRAMES]
    starts = [0]
    for part in range(1, workers):
        at = bisect.bisect_left(ways_in, len(chunks) * part / workers)
        if at < len(ways_in) and ways_in[at] > starts[-1]:
            starts.append(ways_in[at])
    return [chunks[start:end] for start, end in zip(starts, [*starts[1:], len(chunks)], strict=True)]


def _after_key(keys: Sequence[int], number: int) -> int:
    """How many frames a frame lies behind the last key frame."""
    at = bisect.bisect_right(keys, number)
    return number - keys[at - 1] if at else number


def _name(first: int, stop: int, form: DeliveryFormat) -> str:
    return f"{first:08d}-{stop:08d}{'.pictures' if form.is_sequence else form.suffix}"


def _frames_there(folder: Path, total: int) -> int:
    """Frames rendered so far: those of whole chunks and those the running ones have told of."""
    whole, running = {}, {}
    for path in folder.iterdir():
        if path.name.startswith(".") or "-" not in path.stem:
            continue
        first, stop = path.stem.split("-")
        if path.suffix == ".count":
            with contextlib.suppress(OSError, ValueError):
                running[path.stem] = int(path.read_text() or 0)
        else:
            whole[path.stem] = int(stop) - int(first)
    return min(sum({**running, **whole}.values()), total)


def _render_stretch(spec: RenderSpec, stretch: list[tuple[int, int]], tick: Callable[[], None] | None = None) -> None:
    folder, form = Path(spec.chunks), FORMATS[spec.delivery.kind]
    wanted = [(first, stop) for first, stop in stretch if not (folder / _name(first, stop, form)).exists()]
    if not wanted:
        return
    reel = spec.open_unchanged()
    cut = spec.cut(reel.rate)
    source = treated(spec, reel)
    while wanted:
        # One decoder runs on through all chunks that follow one another.
        run = [wanted.pop(0)]
        while wanted and wanted[0][0] == run[-1][1]:
            run.append(wanted.pop(0))
        frames = source.frames(cut.number(run[0][0]), cut.number(run[-1][1] - 1) + 1)
        if cut.numbers is not None:
            kept = frozenset(cut.numbers)
            frames = (f for f in frames if f.number in kept)
        for first, stop in run:
            name = _name(first, stop, form)
            count = folder / f"{Path(name).stem}.count"
            part = _counted(islice(frames, stop - first), folder, count, tick)
            if form.is_sequence:
                write_pictures(folder / name, part, reel, form)
            else:
                facts = reel.facts if cut.rate is None else replace(reel.facts, rate=cut.rate)
                write_chunk(folder / name, part, facts, form, burn=spec.delivery.burn)
            count.unlink(missing_ok=True)


def _counted(frames: Iterator[Frame], folder: Path, count: Path, tick: Callable[[], None] | None) -> Iterator[Frame]:
    last = time.monotonic()
    for done, frame in enumerate(frames):
        yield frame
        if time.monotonic() - last > 0.3:
            last = time.monotonic()
            if (folder / _CANCEL).exists():
                raise Cancelled
            count.write_text(str(done + 1))
            if tick:
                tick()


def _watch(running: list[Future[None]], tick: Callable[[], None]) -> None:
    while True:
        done, waiting = wait(running, timeout=0.3, return_when="FIRST_EXCEPTION")
        for future in done:
            future.result()
        if not waiting:
            return
        tick()


class _Pace:
    def __init__(self, total: int, on_progress: Callable[[float, float], None] | None) -> None:
        self._total, self._on_progress = total, on_progress
        self._start: tuple[float, int] | None = None

    def report(self, done: int, force: bool = False) -> None:
        now = time.monotonic()
        if self._start is None:
            self._start = (now, done)
        elapsed = now - self._start[0]
        rate = (done - self._start[1]) / elapsed if elapsed > 0 else 0.0
        if self._on_progress:
            self._on_progress(done / max(1, self._total), rate)
