"""What the stages' requests have in common."""

from __future__ import annotations

import re
import unicodedata
from collections.abc import Sequence
from typing import Any, TypeVar
from urllib.parse import quote

from flask import Response, abort, request
from pydantic import BaseModel, ConfigDict, ValidationError

from ...core.base.errors import SweepError
from ...core.evidence.time_volume import kept_volume
from ...core.imaging.patches import PatchPlan
from ...core.model.kept import Kept
from ...core.model.recipes import Step, first_fault
from ...core.model.shapes import Shape
from ...core.model.shots import Shot
from ...core.pipeline.confined import unconfined
from ...jobs.reels import volume_path
from ...jobs.tasks import AnalysisSettings, OpenSettings
from ...store import edits
from ...store.models import Reel, Task
from ..services import services

Settings = TypeVar("Settings", bound=BaseModel)
Sent = TypeVar("Sent", bound="Body")

STAGES = ("intake", "condition", "treatment", "trials", "inspection", "delivery")


def reel_or_404(reel_id: int, needs: tuple[str, ...] = ("ready",)) -> Reel:
    """The reel; 404 when there is none, 409 when it is in none of the states it has to be in. Any will do if none is named."""
    reel = Reel.get_or_none(Reel.id == reel_id)
    if reel is None:
        abort(404)
    if needs and reel.state not in needs:
        abort(409, "The reel is not read yet. Wait for intake to finish.")
    return reel


LOOKED_AT = ("open", "ready")


def place_named(reel: Reel) -> int:
    """The place, from 0, of the shot that the request names by its number; the first if it names none."""
    number = request.args.get("shot", type=int)
    if number is None:
        return 0
    return place_of_number(reel, number)


def place_of_number(reel: Reel, number: int) -> int:
    """The place of a shot by its number; 409 where it is gone."""
    place = edits.place_of_shot(reel, number)
    if place is None:
        abort(_gone(), "This shot is gone: the cuts were changed meanwhile. The page shows them now.")
    return place


def named_by_number(reel: Reel, owner: str, number: int) -> int:
    """The place of a finding, a step or a track of the shot that the request names, by its number; 409 where it is gone."""
    shot = shot_named(reel)
    listed: Sequence[Kept] = shot.findings if owner == "findings" else getattr(shot.recipe, owner)
    place = next((n for n, one in enumerate(listed) if one.id == number), None)
    if place is None:
        abort(_gone(), f"This {owner.removesuffix('s')} is gone: it was taken out meanwhile. The page shows what is there now.")
    return place


def _gone() -> int:
    """What is answered where something is gone: a change was meant for something else, who only looks finds nothing."""
    return 409 if request.method == "POST" else 404


def shot_named(reel: Reel) -> Shot:
    """The shot the request is about."""
    return services().viewing.shots(reel)[place_named(reel)]


def step_or_404(reel: Reel, index: int, kind: str) -> Step:
    """A step of the shot the request is about; 404 when there is none of that kind at that place any more."""
    steps = shot_named(reel).recipe.steps
    if not 0 <= index < len(steps) or steps[index].kind != kind:
        abort(404, "There is no such step any more. Look at the list in Treatment.")
    return steps[index]


def settings_or_404(reel: Reel, index: int, kind: str, model: type[Settings]) -> Settings:
    """The settings of a step of the shot the request is about; 404 as for `step_or_404`."""
    settings = step_or_404(reel, index, kind).settings
    assert isinstance(settings, model)
    return settings


def patches_learned(reel: Reel, index: int, kind: str) -> PatchPlan | None:
    """What a step of the shot named found; None while it is looked for, and when the step is of another kind, or off."""
    shot = shot_named(reel)
    steps = edits.resolved(shot).steps
    if index >= len(steps) or not steps[index].on or steps[index].kind != kind:
        return None
    inner = unconfined(services().viewing.learned_of(reel, shot, sum(s.on for s in steps[:index])))
    return inner if isinstance(inner, PatchPlan) else None


def attached(response: Response, name: str) -> Response:
    """An answer that is saved as a file, whatever script its name is in (RFC 6266)."""
    name = re.sub(r"[\x00-\x1f\x7f/\\]", "_", name)
    plain = unicodedata.normalize("NFKD", name).encode("ascii", "ignore").decode()
    names = {"filename": plain} if plain == name else {"filename": plain, "filename*": f"UTF-8''{quote(name, safe='')}"}
    response.headers.set("Content-Disposition", "attachment", **names)
    return response


class Body(BaseModel):
    """What a request carries as JSON."""

    model_config = ConfigDict(frozen=True, strict=True)


class AtFrame(Body):
    """A frame of the reel."""

    frame: int


class DrawnShape(AtFrame):
    """A shape that was drawn in a frame."""

    shape: Shape


def read_body(model: type[Sent], what: str = "That") -> Sent:
    """The JSON object that came with the request; 400 says what is wrong with it."""
    try:
        return model.model_validate_json(request.get_data())
    except ValidationError as error:
        abort(400, f"{what} cannot be: {first_fault(error)}.")


def changes() -> dict[str, Any]:
    """Changes to a model that the request carries, by field: that model checks them."""
    sent = request.get_json(silent=True)
    if not isinstance(sent, dict):
        abort(400, "The request has to carry a JSON object.")
    return sent


def follow_up(reel: Reel) -> None:
    """Queue the analysis when the treatment needs one that is not there."""
    shared = services()
    if not shared.viewing.ready(reel):
        # What runs goes on unless it learns something else by now.
        shots = shared.viewing.shots(reel)
        number = request.args.get("shot", type=int)
        shot = next((s for s in shots if s.id == number), shots[0])
        shared.queue.put("analysis", reel, AnalysisSettings(learns=shared.viewing.learns(reel, shot)))


def ensure_volume(reel: Reel, place: int) -> None:
    """Queue the laying open of a shot that is not."""
    shot = services().viewing.shots(reel)[place]
    if kept_volume(volume_path(services().data, reel, shot.first, shot.stop)) is None:
        services().queue.put("open", reel, OpenSettings(number=shot.id))


def latest(reel: Reel, kind: str, *states: str) -> Task | None:
    """The newest task of a kind, in one of the states if any are named."""
    query = Task.select().where(Task.reel == reel, Task.kind == kind)
    if states:
        query = query.where(Task.state.in_(states))
    return query.order_by(Task.id.desc()).first()


__all__ = [
    "AtFrame",
    "Body",
    "attached",
    "DrawnShape",
    "read_body",
    "LOOKED_AT",
    "STAGES",
    "SweepError",
    "changes",
    "follow_up",
    "latest",
    "ensure_volume",
    "named_by_number",
    "place_named",
    "place_of_number",
    "reel_or_404",
    "services",
    "settings_or_404",
    "shot_named",
    "step_or_404",
]
