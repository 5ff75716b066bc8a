"""Pieces of work on the shots of a reel, each whole in itself: plain values in, plain values and kept files out.

Each may be done by any process that sees the same files, and done twice with the same result: what it keeps is named by
what it was made of, and appears only when whole.
"""

from __future__ import annotations

import shutil
import threading
import time
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass
from functools import partial
from pathlib import Path

from ..base.files import scratch_folder
from ..evidence.frames_at_hand import Span
from ..evidence.shot_evidence import ShotEvidence
from ..evidence.time_volume import build_volume
from ..media.frames import Frame
from ..media.reel import ReelReader
from ..media.view import PROXY_WIDTH, ProxyMaker, jpeg, to_bgr
from ..model.findings import Finding, Surveyed
from ..model.recipes import Recipe
from ..model.registry import DEFECTS
from ..model.shots import Shot
from .analyses import Analyses, chain
from .at_hand import ReelAtHand
from .inspection import Inspected, Known, TreatedSpan, inspect
from .survey import survey
from .trials import Computed, Judge

Progress = Callable[[float], None]
# Share of a survey that laying the shot open takes.
_LAID_OPEN = 0.1
# The same of a check, and the analyses of the shot.
_LEARNED = 0.2


@dataclass(frozen=True)
class SurveyedShot:
    """What a survey found in a shot, and the seconds it took."""

    found: Surveyed
    seconds: float


class _Opened(threading.local):
    """The reel that a thread worked on last: the next shot is mostly of the same one, and its index takes a while."""

    reel: ReelAtHand | None = None
    source: ReelReader | None = None


_opened = _Opened()


def opened(reel: ReelAtHand) -> ReelReader:
    """The source of a reel, opened; raises ChangedReel if it is not the reel that was taken in."""
    if _opened.source is None or _opened.reel != reel:
        _opened.reel, _opened.source = reel, reel.open_unchanged()
    else:
        reel.require_unchanged()
    return _opened.source


def lay_open(reel: ReelAtHand, shot: Shot, progress: Progress) -> None:
    """Lay a shot open in time."""
    reel.volume(shot, opened(reel), progress)


def survey_shot(reel: ReelAtHand, shot: Shot, progress: Progress) -> SurveyedShot:
    """Survey a shot."""
    start = time.monotonic()
    source = opened(reel)
    volume = reel.volume(shot, source, lambda share: progress(_LAID_OPEN * share)).between(*shot.span)
    held = {s.kind: out for s in shot.recipe.steps if (out := s.with_tracks(shot.recipe.tracks).held_out) is not None}
    light = reel.span_light(shot, source)
    with scratch_folder(reel.folder, "steadied") as scratch:
        frames = Span.of(source, *shot.span, reel.usable(), volume)
        evidence = ShotEvidence(volume, shot.first, shot.stop, light=light, frames=frames, scratch=scratch / "volume.bin")
        found = survey(evidence, lambda share: progress(_LAID_OPEN + (1 - _LAID_OPEN) * share), hold_outs=held)
    return SurveyedShot(found=found, seconds=time.monotonic() - start)


def marks_of_others(
    reel: ReelAtHand, shot: Shot, others: Sequence[tuple[str, Finding]], known: Sequence[Finding], progress: Progress
) -> list[Finding]:
    """Look in a shot for the marks that other shots proved: they are of one camera.

    Parameters
    ----------
    reel : ReelAtHand
    shot : Shot
    others : sequence of (str, Finding)
        Each with the name of its shot.
    known : sequence of Finding
        What was found in the shot itself.
    progress : callable
    """
    progress(0)
    volume = reel.span_volume(shot, opened(reel))
    found: list[Finding] = []
    for kind in DEFECTS.values():
        of_kind = [(name, f) for name, f in others if f.kind == kind.kind]
        if kind.share is not None and of_kind:
            found += kind.share(volume, of_kind, known, shot.first, shot.stop)
    return found


def analyse_shot(reel: ReelAtHand, shot: Shot, recipe: Recipe, progress: Progress) -> None:
    """Make the analyses that a shot's resolved recipe needs."""
    reel.knowledge(shot, recipe, opened(reel), progress)


def check_shot(reel: ReelAtHand, shot: Shot, recipe: Recipe, known: Known, progress: Progress) -> Inspected:
    """Hold a treated shot against its source, and survey it once more."""
    source = opened(reel)
    learned = reel.knowledge(shot, recipe, source, lambda share: progress(_LEARNED * share))
    with scratch_folder(reel.folder, "check") as scratch:
        span = TreatedSpan(source, recipe.active, learned, shot.enter, shot.leave, reel.usable())
        return inspect(span, scratch, known, lambda share: progress(_LEARNED + (1 - _LEARNED) * share))


class _Timed:
    """Frames, and the time they took to be made."""

    def __init__(self, frames: Iterator[Frame], learning: float) -> None:
        self._frames, self._seconds = frames, learning

    def __iter__(self) -> Iterator[Frame]:
        return self

    def __next__(self) -> Frame:
        start = time.perf_counter()
        try:
            return next(self._frames)
        finally:
            self._seconds += time.perf_counter() - start

    def took(self) -> float:
        """Seconds so far, learning included."""
        return self._seconds


def try_ways(reel: ReelAtHand, first: int, stop: int, recipes: Sequence[Recipe], folder: Path, progress: Progress) -> list[Computed]:
    """Treat a few frames in several ways, and measure them; small pictures of each way are put into `folder`.

    The ways are gone through one after another, as the time that each takes is measured too.
    """
    progress(0)
    source, many, made = opened(reel), len(recipes), []
    with scratch_folder(reel.folder, "trial") as scratch:
        # Beside those of the last time, which stay until these are whole.
        pictures = scratch / "pictures"
        pictures.mkdir()
        judge = Judge(scratch, source, first, stop)
        for n, recipe in enumerate(recipes):

            def share(done: float, n: int = n) -> None:
                progress(0.1 + 0.9 * (n + done) / many)

            start = time.perf_counter()
            known = Analyses(Path(reel.analyses), reel.fingerprint, first, stop).make(
                recipe,
                source,
                partial(build_volume, scratch / "volume.bin", source, first=first, stop=stop),
                lambda done, share=share: share(done / 2),  # type: ignore[misc]
                lambda: judge.light,
                reel.usable(),
            )
            frames = _Timed(iter(chain(source, known, first, stop).frames(first, stop)), time.perf_counter() - start)
            maker = ProxyMaker(pictures / f"{n}.jpegs")

            def each(frame: Frame, maker: ProxyMaker = maker, share: Progress = share) -> None:
                maker.add(jpeg(to_bgr(frame, min(PROXY_WIDTH, frame.format.width))))
                share(0.5 + 0.4 * (frame.number - first) / (stop - first))

            try:
                figures = judge.figures(frames, frames.took, each)
            except BaseException:
                maker.drop()
                raise
            maker.finish()
            made.append(Computed(recipe=recipe, figures=figures))
        shutil.rmtree(folder, ignore_errors=True)
        folder.parent.mkdir(exist_ok=True)
        pictures.rename(folder)
    return made
