"""Trials: a few frames treated in two to four ways, compared by eye and by measurement."""

from __future__ import annotations

import shutil

from flask import Blueprint, Response, abort, jsonify, render_template
from pydantic import BaseModel, Field, ValidationError

from ...core.interchange.starting_points import STARTING_POINTS
from ...core.model.recipes import Recipe, Step, first_fault
from ...core.model.registry import STEPS
from ...core.model.shots import Shot
from ...core.pipeline.trials import LEAST_FRAMES, MOST_FRAMES, Computed, Figures, Plan, Variant, choices, varied
from ...jobs.tasks import TrialSettings
from ...jobs.trials import shot_of_trial
from ...store import edits, strokes
from ...store.models import Reel, Task, Trial
from .common import Body, SweepError, follow_up, named_by_number, place_named, read_body, reel_or_404, services, shot_named

pages = Blueprint("trials", __name__)


class ShownTrial(BaseModel):
    """A trial as the page knows it; `made` is the task that computed it, and `lines` its figures in words."""

    id: int
    first: int
    stop: int
    made: int | None
    ready: bool
    state: str
    error: str
    names: tuple[str, ...]
    figures: tuple[Figures, ...]
    lines: tuple[str, ...]


def trials_of(reel: Reel) -> list[ShownTrial]:
    """The reel's trials, the newest first."""
    found = list(Trial.select().where(Trial.reel == reel).order_by(Trial.id.desc()))
    tasks = {task.id: task for task in Task.select().where(Task.id.in_([trial.task for trial in found]))} if found else {}
    return [_shown(trial, tasks.get(trial.task)) for trial in found]


def _shown(trial: Trial, task: Task | None) -> ShownTrial:
    plan = Plan.model_validate(trial.plan)
    figures = tuple(Computed.model_validate(made).figures for made in trial.result or ())
    return ShownTrial(
        id=trial.id,
        first=plan.first,
        stop=plan.stop,
        made=trial.task,
        ready=bool(figures),
        state=task.state if task else "done",
        error=task.error if task else "",
        names=tuple(v.name for v in plan.variants),
        figures=figures,
        lines=tuple(map(line, figures)),
    )


def line(figures: Figures) -> str:
    """Figures of one way in a line."""
    left = "steady" if figures.left is None else f"left {100 * figures.left:.0f} %"
    return f"{left} · detail {100 * figures.detail:.0f} % · {ghosting(figures)} · {figures.seconds:.2f} s"


def ghosting(figures: Figures) -> str:
    """Ghosting in words."""
    if figures.same:
        return "no ghosting"
    return "nothing moves" if figures.ghosting is None else f"{figures.ghosting:.0f} dB"


@pages.get("/reels/<int:reel_id>/sheet/trials")
def sheet(reel_id: int) -> str:
    """The sheet."""
    reel = reel_or_404(reel_id)
    shots, place = services().viewing.shots(reel), place_named(reel)
    steps = shots[place].recipe.steps
    return render_template(
        "sheets/trials.html",
        reel=reel,
        shots=shots,
        place=place,
        shot=shots[place],
        steps=steps,
        trials=trials_of(reel),
        ghosting=ghosting,
        choices=[(step.id, step, STEPS[step.kind].title, choices(step)) for step in steps],
        others=_others(),
        targets=_targets(reel),
        least=LEAST_FRAMES,
        most=MOST_FRAMES,
    )


def _others() -> list[tuple[str, str]]:
    """What may be tried besides the treatment of the shot: a step by itself, a starting point."""
    steps = [(f"step:{kind.kind}", f"{kind.title} alone") for kind in STEPS.values() if not kind.needs_region]
    return steps + [(f"point:{point.key}", point.name) for point in STARTING_POINTS.values()]


def _other(named: str) -> Variant:
    kind, _, key = named.partition(":")
    if named == "source":
        return Variant(name="The source as it is", recipe=Recipe())
    if kind == "step" and key in STEPS:
        return Variant(name=f"{STEPS[key].title} alone", recipe=Recipe(steps=(Step.new(key),)))
    if kind == "point" and key in STARTING_POINTS:
        return Variant(name=STARTING_POINTS[key].name, recipe=STARTING_POINTS[key].recipe)
    raise SweepError(f"There is no such way to try: {named}. Choose from the list.")


def _targets(reel: Reel) -> list[tuple[Reel, list[tuple[int, Shot]]]]:
    """The shots of the job that what is kept can be put on."""
    reels = Reel.select().where(Reel.job == reel.job, Reel.state == "ready").order_by(Reel.id)
    return [(r, [(n, s) for n, s in enumerate(services().viewing.shots(r)) if s.use == "treat"]) for r in reels]


class _NewTrial(Body):
    frames: int
    head: int
    as_it_is: bool = False
    vary: str | None = None
    values: str | None = None
    others: str | list[str] | None = None


@pages.post("/reels/<int:reel_id>/trials")
def make(reel_id: int) -> Response:
    """Make a trial and queue it."""
    reel = reel_or_404(reel_id)
    shot, sent = shot_named(reel), read_body(_NewTrial)
    first, stop = _stretch(shot, sent)
    variants: list[Variant] = []
    if sent.as_it_is:
        variants.append(Variant(name="The treatment as it is", recipe=shot.recipe))
    vary, values = sent.vary or "", [v.strip() for v in (sent.values or "").split(",") if v.strip()]
    if vary:
        at, _, field = vary.partition(".")
        if not at.isdigit():
            abort(400, "What is to be varied is named by the number of a step and its setting.")
        variants += varied(shot.recipe, named_by_number(reel, "steps", int(at)), field, values)
    others = sent.others or []
    variants += [_other(named) for named in (others if isinstance(others, list) else [others])]
    try:
        plan = Plan(first=first, stop=stop, variants=tuple(variants))
    except ValidationError as error:
        raise SweepError(
            f"This trial cannot be made: {first_fault(error).removeprefix('the whole: ')}. Change the choice above."
        ) from error
    trial = Trial.create(reel=reel, plan=plan.model_dump(mode="json"))
    _queue(reel, trial)
    return jsonify(said=f"Trial of {stop - first} frames in {len(variants)} ways", trial=trial.id)


def _stretch(shot: Shot, sent: _NewTrial) -> tuple[int, int]:
    """The frames: a range that was chosen, or so many about the play head, within the shot."""
    count = sent.frames
    if not LEAST_FRAMES <= count <= MOST_FRAMES:
        raise SweepError(f"A trial takes {LEAST_FRAMES} to {MOST_FRAMES} frames; {count} were asked for.")
    enter, leave = shot.span
    if leave - enter < LEAST_FRAMES:
        raise SweepError(f"This shot has {leave - enter} frames; a trial takes at least {LEAST_FRAMES}. Treat it whole.")
    count = min(count, leave - enter)
    first = min(max(enter, sent.head - count // 2), leave - count)
    return first, first + count


def _queue(reel: Reel, trial: Trial) -> None:
    task = services().queue.put("trial", reel, TrialSettings(trial=trial.id))
    Trial.update(task=task.id).where(Trial.id == trial.id).execute()


def _trial(reel: Reel, trial_id: int) -> Trial:
    trial = Trial.get_or_none(Trial.id == trial_id, Trial.reel == reel)
    if trial is None:
        abort(404, "This trial was removed.")
    return trial


@pages.post("/reels/<int:reel_id>/trials/<int:trial_id>/again")
def again(reel_id: int, trial_id: int) -> Response:
    """Compute a trial once more."""
    reel = reel_or_404(reel_id)
    _queue(reel, _trial(reel, trial_id))
    return jsonify(said="The trial is computed again.")


class _Keep(Body):
    on: tuple[str, ...] = Field(default=(), description="other shots, each as the reel's number, a point and its own")


@pages.post("/reels/<int:reel_id>/trials/<int:trial_id>/keep/<int:way>")
def keep(reel_id: int, trial_id: int, way: int) -> Response:
    """Put one of the ways on the trial's shot, and on the others that are named."""
    reel = reel_or_404(reel_id)
    trial = _trial(reel, trial_id)
    plan = Plan.model_validate(trial.plan)
    if way >= len(plan.variants):
        abort(404, "There is no such way in this trial.")
    chosen: dict[int, set[int]] = {reel.id: {edits.shots_of(reel)[shot_of_trial(reel, plan)].id}}
    for named in read_body(_Keep).on:
        whose, _, place = named.partition(".")
        if not (whose.isdigit() and place.isdigit()):
            abort(400, "The other shots are named by their reel and number.")
        chosen.setdefault(int(whose), set()).add(int(place))
    variant, count = plan.variants[way], 0
    for other, places in chosen.items():
        target = reel_or_404(other)
        if target.job_id != reel.job_id:
            abort(400, "That reel belongs to another job.")
        shots = edits.shots_of(target)
        if not places <= {s.id for s in shots}:
            abort(409, f"The shots of {target.title} were changed meanwhile. Look at the list again.")
        fresh = tuple(s.with_(recipe=strokes.for_other_shot(variant.recipe, s.recipe)) if s.id in places else s for s in shots)
        edits.change(target, f"Kept of a trial: {variant.name}", lambda _, fresh=fresh: fresh)  # type: ignore[misc]
        follow_up(target)
        count += len(places)
    return jsonify(said=f"{variant.name}: on {'this shot' if count == 1 else f'{count} shots'} now.")


@pages.post("/reels/<int:reel_id>/trials/<int:trial_id>/remove")
def remove(reel_id: int, trial_id: int) -> Response:
    """Remove a trial; what was kept of it stays."""
    reel = reel_or_404(reel_id)
    trial = _trial(reel, trial_id)
    task = Task.get_or_none(Task.id == trial.task, Task.state.in_(["waiting", "running"]))
    if task is not None:
        services().queue.cancel(task)
    shutil.rmtree(services().data.trial(reel.id, trial.id), ignore_errors=True)
    trial.delete_instance()
    return jsonify(said="The trial is removed; what was kept of it stays.")
