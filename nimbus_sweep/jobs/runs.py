"""Unattended runs: every reel of a job taken in, surveyed, treated and checked, in the queue, while nobody looks."""

from __future__ import annotations

import logging
import time
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import UTC, datetime

from ..core.base.errors import Cancelled, DiskFull, Paused, SweepError
from ..core.media.formats import Delivery, usual_kind
from ..core.model.recipes import Recipe
from ..core.model.shots import Shot
from ..core.pipeline.suggestions import suggested
from ..core.pipeline.works import analyse_shot
from ..store import edits, strokes
from ..store.data import DataFolder
from ..store.models import Job, Reel, Run, Task, writing
from . import eyes
from .checks import newest_checks
from .delivery import do_papers, do_render
from .inspections import do_check, do_inspection
from .intake import do_intake
from .machines import Work, done
from .parts import done_within
from .progress import Progress
from .queue import RUN, Queue
from .reels import at_hand, open_as_taken_in
from .surveys import do_survey
from .tasks import (
    CheckSettings,
    FinishSettings,
    InspectionSettings,
    RenderDone,
    RenderSettings,
    RunDone,
    RunReel,
    RunSettings,
    SurveySettings,
    TaskResult,
    result_of,
    settings_of,
)
from .treatment import do_analysis

log = logging.getLogger(__name__)
# Shares of a reel's run that its parts end at: taken in, surveyed, learned, checked; what is delivered takes the rest.
_TAKEN, _SURVEYED, _LEARNED, _CHECKED = 0.08, 0.55, 0.75, 0.95
# Seconds between two looks whether the run was paused.
_LOOK = 1.0
_OVER = ("done", "failed", "cancelled")


# -- the order of work ------------------------------------------------------------------------------------


def begin(queue: Queue, job: Job, reels: Sequence[Reel], settings: RunSettings, who: str = "") -> Run:
    """Put reels of a job into an unattended run.

    Raises
    ------
    SweepError
        If there are none, or the job is being run already.
    """
    if not reels:
        raise SweepError("No reel was chosen. Choose at least one.")
    with writing():
        if any(t.state not in _OVER for t in _tasks_of(job)):
            raise SweepError("This job is being run already. Stop that first, or wait until it is done.")
        run = Run.create(job=job, settings=settings.model_dump(mode="json"), who=who)
        for place, reel in enumerate(reels):
            queue.put(RUN, reel, RunReel(run=run.id, place=float(place)))
    return run


def _tasks_of(job: Job) -> list[Task]:
    return list(Task.select().join(Reel).where(Reel.job == job, Task.kind == RUN).order_by(Task.id))


def _waiting() -> list[tuple[RunReel, Task]]:
    """Reels that wait for their turn, the next one first."""
    tasks = Task.select().where(Task.kind == RUN, Task.state == "waiting")
    waiting = [(settings_of(t, RunReel), t) for t in tasks]
    paused = {run.id for run in Run.select(Run.id).where(Run.paused)}
    return sorted(((r, t) for r, t in waiting if r.run not in paused), key=lambda one: (one[0].run, one[0].place, one[1].id))


def next_one() -> int | None:
    """The task to do next; None when nothing waits."""
    waiting = _waiting()
    return int(waiting[0][1].id) if waiting else None


def newest(job: Job) -> Run | None:
    """The last run of a job."""
    run: Run | None = Run.select().where(Run.job == job).order_by(Run.id.desc()).first()
    return run


def reels_of(run: Run) -> list[tuple[RunReel, Task]]:
    """The reels of a run, in its order, each with its task."""
    tasks = [(settings_of(t, RunReel), t) for t in _tasks_of(run.job)]
    return sorted(((r, t) for r, t in tasks if r.run == run.id), key=lambda one: (one[0].place, one[1].id))


def pause(run: Run, paused: bool, said: str = "") -> None:
    """Hold a run, or have it go on. What is being done is put back and found again."""
    Run.update(paused=paused, said=said).where(Run.id == run.id).execute()


def stop(queue: Queue, run: Run) -> None:
    """End a run; what was done stays."""
    for _, task in reels_of(run):
        if task.state not in _OVER:
            queue.cancel(task)
    Run.update(paused=False, said="").where(Run.id == run.id).execute()


def move(task: Task, by: int) -> bool:
    """Have a reel that waits done earlier (-1) or later (1); False when it cannot be."""
    with writing():
        asked = settings_of(task, RunReel)
        waiting = [(r, t) for r, t in reels_of(Run.get_by_id(asked.run)) if t.state == "waiting"]
        at = next((n for n, (_, t) in enumerate(waiting) if t.id == task.id), None)
        if at is None or not 0 <= at + by < len(waiting):
            return False
        other = waiting[at + by]
        for mine, place in ((task, other[0].place), (other[1], asked.place)):
            settings = settings_of(mine, RunReel).model_copy(update={"place": place})
            Task.update(settings=settings.model_dump(mode="json")).where(Task.id == mine.id).execute()
    return True


@dataclass(frozen=True)
class Standing:
    """How far a run is.

    Attributes
    ----------
    run : Run
    reels : list of (RunReel, Task)
    over, failed : int
        Reels that are done with, and those of them that could not be done.
    share : float
        Of its frames, 0 to 1.
    left : float or None
        Seconds, about; None while that cannot be told.
    """

    run: Run
    reels: list[tuple[RunReel, Task]]
    over: int
    failed: int
    share: float
    left: float | None

    @property
    def under_way(self) -> bool:
        """Whether it is not over."""
        return self.over < len(self.reels)


def standing(job: Job) -> Standing | None:
    """How far the last run of a job is; None where there was none."""
    run = newest(job)
    if run is None:
        return None
    reels = reels_of(run)
    frames = {r.id: max(1, r.frames) for r in Reel.select(Reel.id, Reel.frames).where(Reel.job == job)}
    usual = sorted(frames.values())[len(frames) // 2] if frames else 1
    weight = [frames.get(t.reel_id, usual) if frames.get(t.reel_id, 1) > 1 else usual for _, t in reels]
    shares = [1.0 if t.state in _OVER else t.share for _, t in reels]
    total = sum(weight) or 1
    frames_done = sum(w * s for w, s in zip(weight, shares, strict=True))
    left = None
    took = sum(_seconds(t) for _, t in reels if t.state in ("done", "running"))
    worked = sum(w * s for w, s, (_, t) in zip(weight, shares, reels, strict=True) if t.state in ("done", "running"))
    if worked > 0.02 * total and took > 2 and frames_done < total:
        left = took * (total - frames_done) / worked
    failed = sum(t.state == "failed" for _, t in reels)
    return Standing(run, reels, sum(t.state in _OVER for _, t in reels), failed, frames_done / total, left)


def _seconds(task: Task) -> float:
    if task.started is None:
        return 0.0
    ended = datetime.fromisoformat(task.ended) if task.ended else datetime.now(UTC)
    return (ended - datetime.fromisoformat(task.started)).total_seconds()


# -- the work ---------------------------------------------------------------------------------------------


class _Held(Progress):
    """Raises Paused when the run is held."""

    def __init__(self, progress: Progress, run: int) -> None:
        self._progress, self._run, self._last = progress, run, 0.0

    def __call__(self, share: float, rate: float = 0.0, what: str | None = None) -> None:
        self._progress(share, rate, what)
        at = time.monotonic()
        if at - self._last > _LOOK:
            self._last = at
            if Run.select(Run.paused).where(Run.id == self._run).scalar():
                raise Paused


def do_run(data: DataFolder, reel: Reel, task: Task, progress: Progress) -> RunDone:
    """Take a reel in, survey it, put the treatment on, and check it; what was done before is not done again."""
    run = Run.get_or_none(Run.id == settings_of(task, RunReel).run)
    if run is None:
        raise SweepError("This run was removed.")
    try:
        return _run(data, reel, task, RunSettings.model_validate(run.settings), _Held(progress, run.id))
    except DiskFull as error:
        # All that follow would fail in the same way.
        pause(run, True, str(error))
        raise Paused from error
    except Cancelled:
        raise
    except SweepError as error:
        eyes.failed(reel, str(error))
        raise
    except Exception as error:
        eyes.failed(reel, f"Something unforeseen went wrong ({type(error).__name__}). The log says more.")
        raise


def _run(data: DataFolder, reel: Reel, task: Task, settings: RunSettings, progress: Progress) -> RunDone:
    if reel.state != "ready":
        reel = _taken_in(data, reel, task, progress.part(0, _TAKEN))
    numbers = tuple(s.id for s in edits.shots_of(reel) if s.use == "treat" and s.surveyed is None)
    if numbers:
        part = progress.part(_TAKEN, _SURVEYED)
        done_within(data, task, "survey", do_survey, part, "Surveying", SurveySettings(numbers=numbers))
    _put_on(reel, settings.recipe)
    part = progress.part(_SURVEYED, _LEARNED)
    if any(s.treated for s in edits.shots_of(reel)):
        done_within(data, task, "analysis", do_analysis, part.part(0, 0.7), "Learning the repairs")
    _learn_doubtful(data, reel, task, part.part(0.7, 1))
    shots = edits.shots_of(reel)
    unchecked = tuple(s.id for s, c in zip(shots, newest_checks(reel, shots), strict=True) if s.treated and c is None)
    if unchecked:
        done_within(data, task, "check", do_check, progress.part(_LEARNED, _CHECKED), "Checking", CheckSettings(numbers=unchecked))
    left = eyes.look_over(reel)
    delivered: tuple[str, ...] = ()
    delivery = settings.delivery or (_usual(reel) if settings.usual else None)
    if delivery is not None:
        delivered = _finished(data, task, FinishSettings(delivery=delivery), progress.part(_CHECKED, 1))
    shots = edits.shots_of(reel)
    states = [f.state for s in shots for f in s.findings]
    return RunDone(
        shots=len(shots),
        treated=sum(s.treated for s in shots),
        found=states.count("kept"),
        doubtful=states.count("doubtful"),
        eyes=left,
        delivered=delivered,
    )


def _taken_in(data: DataFolder, reel: Reel, task: Task, progress: Progress) -> Reel:
    """Take a reel in; one that could not be is refused, one that was only stopped waits as before."""
    try:
        done_within(data, task, "intake", do_intake, progress, "Taking it in")
    except BaseException as error:
        stopped = isinstance(error, Cancelled)
        left = {"state": "new"} if stopped else {"state": "refused", "refusal": str(error) or type(error).__name__}
        Reel.update(left).where(Reel.id == reel.id, Reel.state != "ready").execute()
        raise
    taken: Reel = Reel.get_by_id(reel.id)
    return taken


def _usual(reel: Reel) -> Delivery:
    source = open_as_taken_in(reel)
    return Delivery.model_validate({"kind": usual_kind(source.facts, source.format)})


def _put_on(reel: Reel, recipe: Recipe | None) -> None:
    """Put the treatment on every shot that has none yet: what its survey suggests, or the recipe as far as it fits.

    Raises
    ------
    SweepError
        If the recipe does not fit.
    """

    chosen: dict[int, Recipe] = {}
    for shot in edits.shots_of(reel):
        if shot.use != "treat" or shot.recipe.steps:
            continue
        if recipe is None:
            put = suggested(f.finding for f in shot.findings if f.state == "kept")
        elif recipe.size in ((0, 0), reel.facts.size):
            put = recipe.fitting(shot.enter, shot.leave)
        else:
            raise SweepError(
                f"The recipe {recipe.name or 'given'} was drawn on {recipe.size[0]} x {recipe.size[1]}; this reel has "
                f"{reel.facts.size[0]} x {reel.facts.size[1]}. Put another on by hand, or run it as surveyed."
            )
        if put.steps:
            chosen[shot.id] = strokes.folded(reel, put)

    def treated(shot: Shot) -> Shot:
        # What somebody put on meanwhile stays.
        return shot.with_(recipe=chosen[shot.id]) if shot.id in chosen and not shot.recipe.steps else shot

    if chosen:
        edits.change(reel, "The run's treatment", lambda shots: tuple(treated(s) for s in shots))


def _learn_doubtful(data: DataFolder, reel: Reel, task: Task, progress: Progress) -> None:
    """Learn what mending all that is doubtful would do, so that the list can show it."""
    hand, works = at_hand(data, reel), []
    for n, shot in enumerate(edits.shots_of(reel), start=1):
        recipe = eyes.mended_too(shot) if shot.use == "treat" else None
        if recipe is not None and recipe.active and not hand.analyses_of(shot).ready(recipe):
            works.append(Work(analyse_shot, (hand, shot, recipe), f"Trying what is doubtful in shot {n}", shot.stop - shot.first))
    for _ in done(data.works(task.id), works, progress, (reel.path,)):
        pass


def do_finish(data: DataFolder, reel: Reel, task: Task, progress: Progress) -> TaskResult:
    """Deliver a reel, hold the delivery against the source, and write the papers."""
    _finished(data, task, settings_of(task, FinishSettings), progress)
    return TaskResult()


def _finished(data: DataFolder, task: Task, asked: FinishSettings, progress: Progress) -> tuple[str, ...]:
    settings = RenderSettings(delivery=asked.delivery)
    rendered = done_within(data, task, "render", do_render, progress.part(0, 0.7), "Rendering", settings)
    compared = InspectionSettings(render=rendered.id)
    done_within(data, task, "inspection", do_inspection, progress.part(0.7, 0.9), "Comparing every sample", compared)
    done_within(data, task, "papers", do_papers, progress.part(0.9, 1), "Writing the papers")
    folder = data.delivery(rendered.id, "x").parent
    return tuple(str((folder / f.name).relative_to(data.root)) for f in result_of(rendered, RenderDone).every)


def finish(queue: Queue, job: Job, settings: FinishSettings) -> int:
    """Deliver every reel of a job that is ready; gives how many.

    Raises
    ------
    SweepError
        While something on the job's list is open, or if a reel cannot be delivered so.
    """
    eyes.require_done(job)
    reels = [reel for reel in job.reels.order_by(Reel.id) if reel.state == "ready" and (not reel.missing or reel.accept_missing)]
    for reel in reels:
        queue.put("finish", reel, settings)
    return len(reels)


def ready_to_deliver(job: Job) -> bool:
    """Whether a job was run, and nothing on its list is open."""
    at = standing(job)
    return at is not None and not at.under_way and not eyes.open_of(job).exists()
