"""Surveys of shots, and the marks that one shot proves for the others."""

from __future__ import annotations

import time
from collections.abc import Callable, Sequence
from functools import partial
from pathlib import Path
from tempfile import TemporaryDirectory

from ..core.evidence.frames_at_hand import Span
from ..core.evidence.shot_evidence import ShotEvidence
from ..core.media.reel import ReelReader
from ..core.model.findings import JudgedFinding
from ..core.model.registry import DEFECTS
from ..core.model.shots import Shot, Shots, within
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
    place = edits.place_of_shot(reel, settings_of(task, OpenSettings).number)
    if place is not None:
        open_volume(data, reel, edits.shot_of(reel, place), open_as_taken_in(reel), progress)
    return TaskResult()


def do_survey(data: DataFolder, reel: Reel, task: Task, progress: TaskProgress) -> SurveyDone:
    """Survey shots, one after another; what the user placed or dismissed stays so."""
    progress(0, what="Surveying")
    source = open_as_taken_in(reel)
    numbers = settings_of(task, SurveySettings).numbers or [s.id for s in edits.shots_of(reel) if s.use != "exclude"]
    total, took = 0, 0.0
    for done, number in enumerate(numbers):
        place = edits.place_of_shot(reel, number)
        if place is None:
            # Its cut was taken out before its turn came.
            continue
        shot = edits.shot_of(reel, place)
        start = time.monotonic()
        begin, end = done / len(numbers), (done + 1) / len(numbers)
        if len(numbers) > 1:
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
        said = "Survey" if len(numbers) == 1 else f"Survey of shot {place + 1}"
        edits.change(reel, said, partial(landed, surveyed=shot, found=found, seconds=seconds))
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
    shots = edits.shots_of(reel)
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
        of = {shots[n].id: found for n, found in gained.items()}

        def with_them(shot: Shot) -> Shot:
            return shot.with_(findings=(*shot.findings, *(JudgedFinding.of(f) for f in of[shot.id]))) if shot.id in of else shot

        edits.change(reel, "Marks shared between shots", lambda now: tuple(with_them(s) for s in now))
    return sum(map(len, gained.values()))


def landed(now: Shots, surveyed: Shot, found: Surveyed, seconds: float) -> Shots:
    """The shots with what a survey found, wherever the cuts lie by now; what the user placed or judged stays so.

    Parameters
    ----------
    now : tuple of Shot
        As they are when the survey ends.
    surveyed : Shot
        As it was when the survey began.
    found : Surveyed
    seconds : float
        That it took.
    """
    first, stop = surveyed.first, surveyed.stop
    told = [JudgedFinding.of(f) for f in found.findings]
    made = []
    for shot in now:
        if shot.first < stop and shot.stop > first:
            whole = first <= shot.first and shot.stop <= stop
            # A shot that reaches beyond what was looked at has to be surveyed again; what is known of the rest of it stays.
            beyond = () if whole else (f for f in shot.findings if f.stop <= first or f.first >= stop)
            inside = [f for f in shot.findings if f.first < stop and f.stop > first]
            findings = (*_judged(inside, within(told, shot.first, shot.stop)), *beyond)
            shot = shot.with_(findings=findings, surveyed=round(seconds, 2) if whole else None, notes=found.notes)
        made.append(shot)
    return tuple(made)


def _judged(old: Sequence[JudgedFinding], new: Sequence[JudgedFinding]) -> list[JudgedFinding]:
    """New findings with what the user made of them when they were found before; what he placed or chose himself stays in any case."""
    left = list(old)
    made = []
    for found in new:
        was = max((f for f in left if not f.by_hand), key=lambda f: _same(f, found), default=None)
        if was is None or _same(was, found) < _ALIKE:
            made.append(found)
            continue
        left.remove(was)
        found = found.kept_as(was.id)
        # What he left as doubtful convinced before.
        if was.state == "dismissed" or was.chosen or (was.state == "doubtful" and was.convinces):
            found = found.with_(state=was.state, chosen=was.chosen)
        usual = type(found.evidence)()
        chosen = {c: v for c in DEFECTS[found.kind].choices if (v := getattr(was.evidence, c)) != getattr(usual, c)}
        made.append(found.with_(evidence=found.evidence.model_copy(update=chosen)) if chosen else found)
    return made + [f for f in left if f.by_hand or f.chosen or (f.state == "dismissed" and f.evidence.shared)]


# The share of their common box that two findings of one kind have in common when they are the same thing.
_ALIKE = 0.3


def _same(one: JudgedFinding, other: JudgedFinding) -> float:
    """How far two findings are of one thing: the share of the box about both that both cover, 0 to 1; 0 if no frame has both."""
    if one.kind != other.kind or one.stop <= other.first or one.first >= other.stop:
        return 0.0
    across = min(one.x + one.width, other.x + other.width) - max(one.x, other.x)
    down = min(one.y + one.height, other.y + other.height) - max(one.y, other.y)
    both = max(0, across) * max(0, down)
    return both / (one.width * one.height + other.width * other.height - both)
