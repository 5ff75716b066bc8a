"""Surveys of shots, and the marks that one shot proves for the others."""

from __future__ import annotations

from collections.abc import Sequence
from functools import partial

from ..core.model.findings import JudgedFinding, Surveyed
from ..core.model.registry import DEFECTS
from ..core.model.shots import Shot, Shots, within
from ..core.pipeline.works import lay_open, marks_of_others, survey_shot
from ..store import edits
from ..store.data import DataFolder
from ..store.models import Reel, Task
from .machines import Work, done
from .progress import Progress
from .reels import at_hand
from .tasks import OpenSettings, SurveyDone, SurveySettings, TaskResult, settings_of


def do_open(data: DataFolder, reel: Reel, task: Task, progress: Progress) -> TaskResult:
    """Lay a shot open in time."""
    progress(0, what="Preparing time slices")
    place = edits.place_of_shot(reel, settings_of(task, OpenSettings).number)
    if place is not None:
        shot = edits.shot_of(reel, place)
        work = Work(lay_open, (at_hand(data, reel), shot), "Preparing time slices", shot.stop - shot.first)
        for _ in done(data.works(task.id), [work], progress, (reel.path,)):
            pass
    return TaskResult()


def do_survey(data: DataFolder, reel: Reel, task: Task, progress: Progress) -> SurveyDone:
    """Survey shots; what the user placed or dismissed stays so."""
    progress(0, what="Surveying")
    hand = at_hand(data, reel)
    numbers = settings_of(task, SurveySettings).numbers or [s.id for s in edits.shots_of(reel) if s.use != "exclude"]
    # One whose cut was taken out meanwhile is there no more.
    places = [place for number in numbers if (place := edits.place_of_shot(reel, number)) is not None]
    shots = [edits.shot_of(reel, place) for place in places]
    said = ["Surveying" if len(shots) == 1 else f"Surveying shot {place + 1}" for place in places]
    works = [Work(survey_shot, (hand, s), text, s.stop - s.first) for s, text in zip(shots, said, strict=True)]
    total, took = 0, 0.0
    for n, result in done(data.works(task.id), works, progress.part(0, 0.99), (reel.path,)):
        took += result.seconds
        total += len(result.found.findings)
        change = "Survey" if len(numbers) == 1 else f"Survey of shot {places[n] + 1}"
        edits.change(reel, change, partial(landed, surveyed=shots[n], found=result.found, seconds=result.seconds))
    total += _share_marks(data, reel, progress.part(0.99, 1), task)
    return SurveyDone(found=total, seconds=round(took, 2))


def _share_marks(data: DataFolder, reel: Reel, progress: Progress, task: Task) -> int:
    """Look in every surveyed shot for the marks that others proved: they are of one camera."""
    shots = edits.shots_of(reel)
    proven = [[f for f in edits.kept(s) if DEFECTS[f.kind].proves(f)] for s in shots]
    looked = [n for n, s in enumerate(shots) if s.surveyed is not None and any(proven[:n] + proven[n + 1 :])]
    hand, works = at_hand(data, reel), []
    for n in looked:
        others = [(shots[m].name or f"shot {m + 1}", f) for m in range(len(shots)) if m != n for f in proven[m]]
        known = [f.finding for f in shots[n].findings]
        said = f"Looking for the marks of other shots in shot {n + 1}"
        works.append(Work(marks_of_others, (hand, shots[n], others, known), said, shots[n].stop - shots[n].first))
    gained = {shots[looked[n]].id: found for n, found in done(data.works(task.id), works, progress, (reel.path,)) if found}
    if gained:

        def with_them(shot: Shot) -> Shot:
            return shot.with_(findings=(*shot.findings, *(JudgedFinding.of(f) for f in gained[shot.id]))) if shot.id in gained else shot

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
