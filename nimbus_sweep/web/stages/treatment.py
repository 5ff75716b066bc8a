"""Treatment: the ordered steps, their settings, and recipes."""

from __future__ import annotations

import hashlib
from functools import partial
from typing import Any

from flask import Blueprint, Response, abort, jsonify, render_template
from pydantic import ValidationError

from ...core.imaging.grain import Grain
from ...core.imaging.patches import PatchPlan
from ...core.interchange.carrying import fitted
from ...core.interchange.starting_points import STARTING_POINTS
from ...core.media.frames import PictureFormat
from ...core.model.recipes import Recipe, Step, first_fault, recipe_of
from ...core.model.registry import STEPS
from ...core.model.shots import Shot
from ...core.pipeline.confined import unconfined
from ...core.pipeline.suggestions import region_for
from ...core.tools.lend_grain import GrainOf, GrainPlan
from ...core.tools.plate_patch.plate_plan import PlatePlan
from ...store import edits, strokes
from ...store.models import Reel
from ...wording.reels import cadence
from .common import Body, changes, follow_up, latest, place_named, read_body, reel_or_404, services, shot_named
from .light import moving_share
from .recipes import library
from .regions import clipped

pages = Blueprint("treatment", __name__)

# The steps that steady the light, which the guided order is made of.
_LIGHT = tuple(kind.kind for kind in STEPS.values() if kind.learns_from == "light")


@pages.get("/reels/<int:reel_id>/sheet/treatment")
def sheet(reel_id: int) -> str:
    """The sheet."""
    reel = reel_or_404(reel_id)
    shots, place = services().viewing.shots(reel), place_named(reel)
    shot = shots[place]
    recipe = shot.recipe
    return render_template(
        "sheets/treatment.html",
        reel=reel,
        shots=shots,
        place=place,
        shot=shot,
        steps=[(n, step, STEPS[step.kind]) for n, step in enumerate(recipe.steps)],
        light_kinds=_LIGHT,
        titles={kind.kind: kind.title for kind in STEPS.values()},
        lit_left=any(f.step in _LIGHT for f in edits.kept(shot)) and not any(s.kind in _LIGHT and s.on for s in recipe.steps),
        grain=next((getattr(s.settings, "grain", 0.0) for s in recipe.steps if s.kind in _LIGHT), 0.0),
        moves=partial(moving_share, reel, shot),
        figures=_figures_by_step(reel, shot),
        before=_before(edits.named(shot)),
        repeated=reel.facts.repeated,
        cadence=cadence(reel.facts),
        others=[kind for kind in STEPS.values() if kind.repeats or kind.kind not in {s.kind for s in recipe.steps}],
        kept=edits.kept(shot),
        mended=edits.mended(shot),
        ready=services().viewing.ready(reel),
        analysis=latest(reel, "analysis"),
        surveyed=shot.surveyed is not None,
        clipped=clipped(),
        points=STARTING_POINTS.values(),
        library=library(),
        tracks=[(t, t.summary()) for t in recipe.tracks],
        above={t.name: [name for name, _ in recipe.above(t)] for t in recipe.tracks},
        tracking=latest(reel, "track"),
        kinds_needing={kind.kind: kind.needs_region for kind in STEPS.values()},
    )


def _before(recipe: Recipe) -> str:
    """What is put on before the brush, in short: as long as it is the same, so is what the brush takes from."""
    at = next((n for n, s in enumerate(recipe.steps) if s.of.stays), 0)
    return hashlib.sha256(recipe.model_copy(update={"steps": recipe.steps[:at]}).model_dump_json().encode()).hexdigest()[:16]


def _figures_by_step(reel: Reel, shot: Shot) -> dict[int, dict[str, Any]]:
    """What the analyses of the steps that mend single frames have to tell, by the number of the step; only of those that are there."""
    known_of, at = {}, 0
    for step in shot.recipe.steps:
        if not step.on:
            continue
        known = services().viewing.learned_of(reel, shot, at) if step.of.learns_from == "frames" else None
        inner = unconfined(known)
        if isinstance(inner, PatchPlan):
            known_of[step.id] = inner.figures | {"patches": len(inner.table), "patched": len(set(inner.table.frames.tolist()))}
        elif isinstance(inner, PlatePlan):
            known_of[step.id] = inner.figures | {"mark": hashlib.sha256(step.model_dump_json().encode()).hexdigest()[:12]}
        elif isinstance(inner, GrainPlan):
            known_of[step.id] = {"own": _grains(inner.layout, inner.own), "like": _grains(inner.layout, inner.like)}
        at += 1
    return known_of


def _grains(layout: PictureFormat, grains: tuple[Grain | None, ...]) -> list[dict[str, Any]]:
    return [GrainOf.of(c.name, g).model_dump() for c, g in zip(layout.components, grains, strict=True) if g is not None]


def _changed(reel_id: int, what: str, steps: list[Step], **more: Any) -> Response:
    reel = reel_or_404(reel_id)
    changed = {"steps": tuple(steps), **more}
    edits.change_shot(reel, what, place_named(reel), lambda s: s.with_(recipe=s.recipe.model_copy(update=changed)))
    follow_up(reel)
    return jsonify(said=what)


def _steps(reel_id: int, index: int | None = None) -> list[Step]:
    steps = list(shot_named(reel_or_404(reel_id)).recipe.steps)
    if index is not None and index >= len(steps):
        abort(404)
    return steps


class _NewStep(Body):
    kind: str = ""
    grain: float | None = None


@pages.post("/reels/<int:reel_id>/steps")
def add(reel_id: int) -> Response:
    """Put a step on, in its place in the order that works."""
    sent = read_body(_NewStep)
    kind = sent.kind
    if kind not in STEPS:
        abort(400, f"There is no step called {kind}.")
    order = list(STEPS)
    region = region_for(kind, edits.kept(shot_named(reel_or_404(reel_id))))
    settings = {"grain": sent.grain} if kind in _LIGHT and sent.grain else {}
    try:
        added = Step.new(kind, region=region, **settings)
    except ValidationError as error:
        abort(400, f"That setting cannot be: {first_fault(error)}.")
    steps = sorted([*_steps(reel_id), added], key=lambda s: order.index(s.kind))
    return _changed(reel_id, f"Added {STEPS[kind].title}", steps)


@pages.post("/reels/<int:reel_id>/steps/<int:index>/switch")
def switch(reel_id: int, index: int) -> Response:
    """Switch a step on or off."""
    steps = _steps(reel_id, index)
    steps[index] = steps[index].model_copy(update={"on": not steps[index].on})
    return _changed(reel_id, f"{STEPS[steps[index].kind].title} {'on' if steps[index].on else 'off'}", steps)


@pages.post("/reels/<int:reel_id>/steps/<int:index>/remove")
def remove(reel_id: int, index: int) -> Response:
    """Take a step off."""
    steps = _steps(reel_id, index)
    gone = steps.pop(index)
    return _changed(reel_id, f"Removed {STEPS[gone.kind].title}", steps)


@pages.post("/reels/<int:reel_id>/steps/<int:index>/settings")
def settings(reel_id: int, index: int) -> Response:
    """Change a step's settings."""
    steps = _steps(reel_id, index)
    try:
        steps[index] = steps[index].with_settings(**changes())
    except ValidationError as error:
        abort(400, f"That setting cannot be: {first_fault(error)}.")
    return _changed(reel_id, f"Settings of {STEPS[steps[index].kind].title}", steps)


@pages.post("/reels/<int:reel_id>/steps/grain")
def grain(reel_id: int) -> Response:
    """Say for all steps that steady the light what is grain."""
    try:
        steps = [s.with_settings(**changes()) if s.kind in _LIGHT else s for s in _steps(reel_id)]
    except ValidationError as error:
        abort(400, f"That setting cannot be: {first_fault(error)}.")
    return _changed(reel_id, "Grain of the light", steps)


@pages.post("/reels/<int:reel_id>/recipe")
def put_on(reel_id: int) -> Response:
    """Put a recipe on in place of the treatment."""
    reel = reel_or_404(reel_id)
    shot = shot_named(reel)
    recipe = recipe_of(changes())
    if recipe.size != (0, 0):
        recipe = fitted(recipe, reel.facts.size, shot.enter)
    recipe = strokes.folded(reel, recipe).fitting(shot.enter, shot.leave)
    return _changed(reel_id, f"Recipe {recipe.name or 'without a name'}", list(recipe.steps), tracks=recipe.tracks)


@pages.post("/reels/<int:reel_id>/recipe/everywhere")
def everywhere(reel_id: int) -> Response:
    """Put the shot's steps on every other shot that is treated; what they act on is each shot's own."""
    reel = reel_or_404(reel_id)
    mine = shot_named(reel)
    place = place_named(reel)
    shots = tuple(
        s.with_(recipe=strokes.for_other_shot(mine.recipe, s.recipe)) if s.use == "treat" and n != place else s
        for n, s in enumerate(services().viewing.shots(reel))
    )
    edits.change(reel, "Steps put on every shot", lambda _: shots)
    follow_up(reel)
    return jsonify(said="The steps are on every shot now.")


@pages.get("/reels/<int:reel_id>/recipe.json")
def recipe(reel_id: int) -> Response:
    """The treatment as a recipe file, its sites named."""
    reel = reel_or_404(reel_id)
    shot = shot_named(reel)
    drawn_on = {"size": reel.facts.size, "enter": shot.enter}
    named = edits.resolved(shot).model_copy(update={"name": reel.title[:200], **drawn_on})
    return Response(
        named.model_dump_json(indent=2), mimetype="application/json", headers={"Content-Disposition": 'attachment; filename="recipe.json"'}
    )
