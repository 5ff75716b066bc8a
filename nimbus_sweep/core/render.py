"""Rendering a treated reel: in chunks that survive a crash, in parallel, joined without loss.

Each chunk is a file that appears only when whole. A render that starts again finds the chunks already there and
goes on behind them. Several processes each take a stretch of consecutive chunks that begins at a key frame, so
that none decodes what another has decoded.
"""

from __future__ import annotations

import bisect
import json
import os
import shutil
import time
from collections.abc import Callable, Iterator
from concurrent.futures import Executor, Future, ProcessPoolExecutor, wait
from dataclasses import dataclass
from itertools import islice
from multiprocessing import get_context
from pathlib import Path

from .errors import Cancelled, ChangedReel
from .frames import Frame
from .media.reader import MovieReader
from .media.writer import REPORT_TAG, join, write_chunk
from .report import Report
from .treatment import Analyses, Recipe, chain

CHUNK_FRAMES = 48
_CANCEL = "cancel"


@dataclass(frozen=True)
class RenderSpec:
    """All a process needs to render part of a reel; plain values, so that it can be sent anywhere.

    Attributes
    ----------
    reel : str
        Path of the source.
    accept_missing : bool
        Leave out pictures that cannot be decoded.
    fingerprint : str
        Under which the analyses are kept.
    size, modified : int
        Of the source file when it was taken in; another file is refused.
    recipe : str
        JSON.
    first, stop : int
        The shot.
    analyses, chunks : str
        Folders.
    """

    reel: str
    accept_missing: bool
    fingerprint: str
    size: int
    modified: int
    recipe: str
    first: int
    stop: int
    analyses: str
    chunks: str


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
        Appears only when whole; the report goes into it as a tag.
    report : Report
    on_progress : callable
        Told the share done, 0 to 1, and frames a second; may raise to stop, which is passed on.
    executor : Executor
        Where the stretches are rendered; a process pool of its own when None.
    workers : int
        How many stretches at once; one for every two cores when None.

    Raises
    ------
    ChangedReel
        If the source is not the file that was taken in.
    DiskFull
        If there is no room.
    """
    reel = open_unchanged(spec)
    folder = Path(spec.chunks)
    folder.mkdir(parents=True, exist_ok=True)
    (folder / _CANCEL).unlink(missing_ok=True)
    stretches = plan(reel, workers or max(1, (os.cpu_count() or 2) // 2))
    total = len(reel)
    pace = _Pace(total, on_progress)
    pace.told(_frames_there(folder, reel), force=True)
    try:
        if len(stretches) == 1 and executor is None:
            _render_stretch(spec, stretches[0], lambda: pace.told(_frames_there(folder, reel)))
        else:
            own = executor or ProcessPoolExecutor(len(stretches), mp_context=get_context("spawn"))
            try:
                _watch([own.submit(_render_stretch, spec, s) for s in stretches], lambda: pace.told(_frames_there(folder, reel)))
            finally:
                (folder / _CANCEL).touch()
                if executor is None:
                    own.shutdown()
    except FileNotFoundError as error:
        raise ChangedReel(f"The working files of this render are gone ({error.filename}). Start it again.") from error
    reel.check_unchanged()
    chunks = [folder / _name(first, stop) for stretch in stretches for first, stop in stretch]
    join(chunks, reel, out, {REPORT_TAG: report.model_dump_json()})
    pace.told(total, force=True)


def clear(spec: RenderSpec) -> None:
    """Remove the chunks of a render that is done or given up."""
    shutil.rmtree(spec.chunks, ignore_errors=True)


def open_unchanged(spec: RenderSpec) -> MovieReader:
    """Open the source; raises ChangedReel if it is not the file that was taken in."""
    path = Path(spec.reel)
    try:
        found = path.stat()
    except OSError as error:
        raise ChangedReel(f"{path.name} is gone from {path.parent}. Put it back, or take the reel in again.") from error
    if (found.st_size, found.st_mtime_ns) != (spec.size, spec.modified):
        raise ChangedReel(f"{path.name} has changed since it was taken in. Nothing was computed. Take the reel in again.")
    return MovieReader(path, accept_missing=spec.accept_missing)


def plan(reel: MovieReader, workers: int) -> list[list[tuple[int, int]]]:
    """Stretches of consecutive chunks (first, stop), at most `workers`, each beginning at a key frame."""
    keys = reel.key_frames
    starts = [0]
    for part in range(1, workers):
        wanted = len(reel) * part // workers
        at = bisect.bisect_left(keys, wanted)
        if at < len(keys) and starts[-1] + CHUNK_FRAMES <= keys[at] < len(reel):
            starts.append(keys[at])
    ends = [*starts[1:], len(reel)]
    return [[(n, min(end, n + CHUNK_FRAMES)) for n in range(start, end, CHUNK_FRAMES)] for start, end in zip(starts, ends, strict=True)]


def _name(first: int, stop: int) -> str:
    return f"{first:08d}-{stop:08d}.mkv"


def _frames_there(folder: Path, reel: MovieReader) -> int:
    """Frames rendered so far: those of whole chunks and those the running ones have told of."""
    done = 0
    for path in folder.iterdir():
        if path.suffix == ".mkv":
            first, stop = path.stem.split("-")
            done += int(stop) - int(first)
        elif path.suffix == ".count" and not (folder / f"{path.stem}.mkv").exists():
            try:
                done += int(path.read_text() or 0)
            except (OSError, ValueError):
                continue
    return min(done, len(reel))


def _render_stretch(spec: RenderSpec, stretch: list[tuple[int, int]], tick: Callable[[], None] | None = None) -> None:
    folder = Path(spec.chunks)
    wanted = [(first, stop) for first, stop in stretch if not (folder / _name(first, stop)).exists()]
    if not wanted:
        return
    reel = open_unchanged(spec)
    recipe = Recipe.model_validate(json.loads(spec.recipe))
    known = Analyses(Path(spec.analyses), spec.fingerprint, spec.first, spec.stop).load(recipe)
    treated = chain(reel, known, spec.first, spec.stop)
    while wanted:
        # One decoder runs on through all chunks that follow one another.
        run = [wanted.pop(0)]
        while wanted and wanted[0][0] == run[-1][1]:
            run.append(wanted.pop(0))
        frames = treated.frames(run[0][0], run[-1][1])
        for first, stop in run:
            name = _name(first, stop)
            count = folder / f"{Path(name).stem}.count"
            write_chunk(folder / name, _counted(islice(frames, stop - first), folder, count, tick), reel.facts)
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

    def told(self, done: int, force: bool = False) -> None:
        now = time.monotonic()
        if self._start is None:
            self._start = (now, done)
        elapsed = now - self._start[0]
        rate = (done - self._start[1]) / elapsed if elapsed > 0 else 0.0
        if self._on_progress:
            self._on_progress(done / max(1, self._total), rate)
