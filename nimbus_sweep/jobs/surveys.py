"""Surveys of shots, and the marks that one shot proves for the others."""

from __future__ import annotations

import time
from collections.abc import Callable
from functools import partial
from pathlib import Path
from tempfile import TemporaryDirectory

from ..core.evidence.frames_at_hand import Span
from ..core.evidence.shot_evidence import ShotEvidence
from ..core.media.reel import ReelReader
from ..core.model.findings import JudgedFinding
from ..core.model.registry import DEFECTS
from ..core.model.shots import Shot
from ..core.pipeline.survey import Finding, Surveyed, survey
from ..store import edits
from ..store.data import DataFolder
from ..store.models import Reel, Task
from .progress import TaskProgress
from .reels import open_as_taken_in, open_light, open_volume, usable_of
from .tasks import OpenSettings, SurveyDone, SurveySettings, TaskResult, settings_of


def do_open(data: DataFolder, reel: Reel, task: Task, progress: TaskProgress) -> TaskResult:
    """Lay a shot open in time."""
    progress(0, what="Preparing time slices")
    open_volume(data, reel, edits.shot_of(reel, settings_of(task, OpenSettings).shot), open_as_taken_in(reel), progress)
    return TaskResult()


def do_survey(data: DataFolder, reel: Reel, task: Task, progress: TaskProgress) -> SurveyDone:
    """Survey shots, one after another; what the user placed or dismissed stays so."""
    progress(0, what="Surveying")
    source = open_as_taken_in(reel)
    places = settings_of(task, SurveySettings).shots
    total, took = 0, 0.0
    for done, place in enumerate(places):
        shot = edits.shot_of(reel, place)
        start = time.monotonic()
        begin, end = done / len(places), (done + 1) / len(places)
        if len(places) > 1:
            progress(begin, what=f"Surveying shot {place + 1}")
        volume = open_volume(data, reel, shot, source, progress.part(begin, begin + _LAID_OPEN * (end - begin)))
        share = _with_rate(progress, begin + _LAID_OPEN * (end - begin), end, shot.stop - shot.first)
        held = {s.kind: out for s in shot.recipe.steps if (out := s.with_tracks(shot.recipe.tracks).held_out) is not None}
        light = open_light(data, reel, shot, source)
        shot_volume, lit = volume.between(*shot.span), light.between(*shot.span)
        with TemporaryDirectory(prefix="steadied-", dir=data.of_reel(reel.id)) as scratch:
            steadied, frames = Path(scratch) / "volume.bin", Span.of(source, *shot.span, usable_of(data, reel), shot_volume)
            found = survey(
                ShotEvidence(shot_volume, shot.first, shot.stop, light=lit, frames=frames, scratch=steadied), share, hold_outs=held
            )
        seconds = time.monotonic() - start
        took += seconds
        total += len(found.findings)
        edits.change_shot(
            reel, "Survey" if len(places) == 1 else f"Survey of shot {place + 1}", place, partial(_surveyed, found=found, seconds=seconds)
        )
    total += _share_marks(data, reel, source, progress)
    return SurveyDone(found=total, seconds=round(took, 2))


# Share of a survey that laying the shot open takes.
_LAID_OPEN = 0.1


def _with_rate(progress: TaskProgress, begin: float, end: float, frames: int) -> Callable[[float], None]:
    """Progress of a survey that takes the shares `begin` to `end` of a task, with the frames it looks at a second."""
    started = time.monotonic()

    def told(share: float) -> None:
        progress(begin + share * (end - begin), share * frames / max(0.01, time.monotonic() - started))

    return told


def _share_marks(data: DataFolder, reel: Reel, source: ReelReader, progress: TaskProgress) -> int:
    """Look in every surveyed shot for the marks that others proved: they are of one camera."""
    shots = edits.shots_of(edits.current(reel))
    proven = [[f for f in edits.kept(s) if DEFECTS[f.kind].proves(f)] for s in shots]
    looked = [n for n, s in enumerate(shots) if s.surveyed is not None and any(proven[:n] + proven[n + 1 :])]
    gained: dict[int, list[Finding]] = {}
    for n in looked:
        progress(0.99, what=f"Looking for the marks of other shots in shot {n + 1}")
        volume = open_volume(data, reel, shots[n], source).between(*shots[n].span)
        others = [(shots[m].name or f"shot {m + 1}", f) for m in range(len(shots)) if m != n for f in proven[m]]
        known = [f.finding for f in shots[n].findings]
        found = []
        for kind in DEFECTS.values():
            of_kind = [(name, f) for name, f in others if f.kind == kind.kind]
            if kind.share is not None and of_kind:
                found += kind.share(volume, of_kind, known, shots[n].first, shots[n].stop)
        if found:
            gained[n] = found
    if gained:

        def with_them(n: int, shot: Shot) -> Shot:
            return shot.with_(findings=(*shot.findings, *(JudgedFinding.of(f) for f in gained[n]))) if n in gained else shot

        edits.change(reel, "Marks shared between shots", tuple(with_them(n, s) for n, s in enumerate(shots)))
    return sum(map(len, gained.values()))


def _surveyed(shot: Shot, found: Surveyed, seconds: float) -> Shot:
    """The shot with what a survey found; what the user placed or dismissed stays so."""
    by_hand = [f for f in shot.findings if f.by_hand or (f.state == "dismissed" and f.evidence.shared)]
    dismissed = {(f.kind, f.x, f.y) for f in shot.findings if f.state == "dismissed"}
    judged = [JudgedFinding.of(f) for f in found.findings]
    judged = [f.with_(state="dismissed") if (f.kind, f.x, f.y) in dismissed else f for f in judged]
    return shot.with_(findings=(*judged, *by_hand), surveyed=round(seconds, 2), notes=found.notes)
