"""Trials: a few frames treated in several ways, and measured."""

from __future__ import annotations

from ..core.base.errors import SweepError
from ..core.model.shots import place_of
from ..core.pipeline.trials import Plan
from ..core.pipeline.works import try_ways
from ..store import edits, strokes
from ..store.data import DataFolder
from ..store.models import Reel, Task, Trial
from .machines import Work, done
from .progress import Progress
from .reels import at_hand
from .tasks import TrialDone, TrialSettings, settings_of


def shot_of_trial(reel: Reel, plan: Plan) -> int:
    """The place of the shot that a trial's frames lie in.

    Raises
    ------
    SweepError
        If a cut parts them.
    """
    shots = edits.shots_of(reel)
    place = place_of(shots, min(plan.first, shots[-1].stop - 1))
    if plan.stop > shots[place].stop:
        raise SweepError(
            f"Frames {plan.first} to {plan.stop - 1} do not lie in one shot any more. Make a new trial on one side of the cut at "
            f"{shots[place].stop}."
        )
    return place


def do_trial(data: DataFolder, reel: Reel, task: Task, progress: Progress) -> TrialDone:
    """Treat a few frames in each way of a trial, and measure them."""
    progress(0, what="Reading the frames")
    trial = Trial.get_or_none(Trial.id == settings_of(task, TrialSettings).trial)
    if trial is None:
        raise SweepError("This trial was removed.")
    plan = Plan.model_validate(trial.plan)
    shot = edits.shot_of(reel, shot_of_trial(reel, plan))
    recipes = [strokes.unfolded(v.recipe.resolved(edits.kept(shot))) for v in plan.variants]
    said = "Treating the frames in each way"
    given = (at_hand(data, reel), plan.first, plan.stop, recipes, data.trial(reel.id, trial.id))
    for _, made in done(data.works(task.id), [Work(try_ways, given, said, plan.stop - plan.first)], progress, (reel.path,)):
        Trial.update(result=[m.model_dump(mode="json") for m in made], task=task.id).where(Trial.id == trial.id).execute()
    return TrialDone(trial=trial.id)
