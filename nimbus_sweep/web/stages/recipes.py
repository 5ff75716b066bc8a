"""The library of recipes: treatments kept under a name, and the starting points, put on shots, reels and jobs."""

from __future__ import annotations

from typing import Any, Literal

from flask import Blueprint, Response, abort, jsonify

from ...core.interchange.carrying import Take, carried, fitted, portable
from ...core.interchange.starting_points import STARTING_POINTS
from ...core.model.recipes import Recipe
from ...core.model.registry import STEPS
from ...core.model.shots import Shot
from ...store import edits
from ...store.models import Reel, SavedRecipe
from .common import Body, SweepError, follow_up, place_named, read_body, reel_or_404, services, shot_named

pages = Blueprint("recipes", __name__)

SCOPES = {"shot": "this shot", "reel": "every shot of this reel", "job": "every reel of this job"}


def library() -> list[dict[str, Any]]:
    """The recipes that are kept, by name: what they are called, what is in them, and on what they were drawn."""
    kept = []
    for saved in SavedRecipe.select().order_by(SavedRecipe.name):
        recipe = Recipe.model_validate(saved.recipe)
        steps = ", ".join(s.of.title for s in recipe.steps) or "no step"
        regions = sum(1 for s in recipe.steps if s.region is not None and s.region.parts)
        kept.append({"id": saved.id, "name": saved.name, "steps": steps, "regions": regions, "size": recipe.size})
    return kept


class _Name(Body):
    name: str = ""


class _PutOn(Body):
    take: Take = "all"
    scope: Literal["shot", "reel", "job"] = "shot"


class _Start(_PutOn):
    point: str = ""


@pages.post("/reels/<int:reel_id>/library")
def keep(reel_id: int) -> Response:
    """Keep the shot's treatment under a name; one of that name makes way."""
    reel = reel_or_404(reel_id)
    name = read_body(_Name).name.strip()[:120]
    if not name:
        raise SweepError("Give the recipe a name, so that it can be found again.")
    shot = shot_named(reel)
    if not shot.recipe.steps:
        raise SweepError("There is no step to keep. Put one on first.")
    recipe = portable(shot.recipe, name, reel.facts.size, shot.enter)
    value = recipe.model_dump(mode="json")
    SavedRecipe.insert(name=name, recipe=value).on_conflict(
        conflict_target=[SavedRecipe.name], update={SavedRecipe.recipe: value}
    ).execute()
    return jsonify(said=f"Kept as {name}.")


@pages.post("/library/<int:saved_id>/remove")
def remove(saved_id: int) -> Response:
    """Take a recipe out of the library; treatments it was put on keep what they have."""
    saved = _saved(saved_id)
    saved.delete_instance()
    return jsonify(said=f"Removed {saved.name}.")


@pages.get("/library/<int:saved_id>.json")
def fetch(saved_id: int) -> Response:
    """A recipe of the library as a file."""
    recipe = Recipe.model_validate(_saved(saved_id).recipe)
    headers = {"Content-Disposition": 'attachment; filename="recipe.json"'}
    return Response(recipe.model_dump_json(indent=2), mimetype="application/json", headers=headers)


def _saved(saved_id: int) -> SavedRecipe:
    saved = SavedRecipe.get_or_none(SavedRecipe.id == saved_id)
    if saved is None:
        abort(404, "There is no such recipe any more.")
    return saved


@pages.post("/reels/<int:reel_id>/library/<int:saved_id>/put-on")
def put_on(reel_id: int, saved_id: int) -> Response:
    """Put a recipe of the library on the shot, on every shot of the reel, or on every reel of the job."""
    sent = read_body(_PutOn, "A recipe applied like that")
    take, scope = sent.take, sent.scope
    recipe = Recipe.model_validate(_saved(saved_id).recipe)
    return _put_on(reel_or_404(reel_id), scope, recipe.name, lambda shot, size: carried(_fit(recipe, size, shot, take), shot.recipe, take))


@pages.post("/reels/<int:reel_id>/starting-point")
def start_from(reel_id: int) -> Response:
    """Put the steps of a starting point on, in their place in the order that works; those of the same kinds make way."""
    sent = read_body(_Start)
    point = STARTING_POINTS.get(sent.point)
    if point is None:
        abort(400, "There is no such starting point.")
    kinds, order = {s.kind for s in point.recipe.steps}, list(STEPS)

    def started(shot: Shot, _size: tuple[int, int]) -> Recipe:
        others = [s for s in shot.recipe.steps if s.kind not in kinds]
        return shot.recipe.model_copy(update={"steps": tuple(sorted([*others, *point.recipe.steps], key=lambda s: order.index(s.kind)))})

    return _put_on(reel_or_404(reel_id), sent.scope, point.name, started)


def _fit(recipe: Recipe, size: tuple[int, int], shot: Shot, take: Take) -> Recipe:
    return recipe if take == "settings" else fitted(recipe, size, shot.enter)


def _put_on(reel: Reel, scope: str, name: str, made: Any) -> Response:
    """Change the shots that are meant, all or none; each reel can take it back for itself."""
    place = place_named(reel)
    reels = [reel] if scope != "job" else [r for r in reel.job.reels if r.state == "ready"]
    changed = []
    for one in reels:
        size = one.facts.size
        shots = services().viewing.shots(one)
        wanted = {place} if scope == "shot" else {n for n, s in enumerate(shots) if s.use == "treat"}
        fresh = tuple(s.with_(recipe=made(s, size)) if n in wanted else s for n, s in enumerate(shots))
        changed.append((one, fresh, len(wanted)))
    for one, fresh, _ in changed:
        edits.change(one, f"Recipe: {name}", lambda _, fresh=fresh: fresh)  # type: ignore[misc]
        follow_up(one)
    count = sum(c for *_, c in changed)
    return jsonify(
        said=f"{name}: applied to {count} shot{'' if count == 1 else 's'}" + (f" of {len(changed)} reels." if len(changed) > 1 else ".")
    )
