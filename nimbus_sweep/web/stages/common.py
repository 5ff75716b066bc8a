"""What the stages' requests have in common."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

from flask import abort, current_app, request

from ...core.errors import SweepError
from ...store.models import Reel, Task

if TYPE_CHECKING:
    from ..app import Services

STAGES = ("intake", "condition", "treatment", "inspection", "delivery")


def services() -> Services:
    """What the requests share."""
    return current_app.extensions["services"]


def reel_or_404(reel_id: int, ready: bool = True) -> Reel:
    """The reel; 404 when there is none, 409 when it has to be ready and is not."""
    reel = Reel.get_or_none(Reel.id == reel_id)
    if reel is None:
        abort(404)
    if ready and reel.state != "ready":
        abort(409, "The reel is not read yet. Wait for intake to finish.")
    return reel


def body() -> dict[str, Any]:
    """The JSON object that came with the request."""
    sent = request.get_json(silent=True)
    if not isinstance(sent, dict):
        abort(400, "The request has to carry a JSON object.")
    return sent


def whole(sent: dict[str, Any], name: str) -> int:
    """A whole number of the request."""
    value = sent.get(name)
    if not isinstance(value, int) or isinstance(value, bool):
        abort(400, f"{name} has to be a whole number.")
    return value


def follow_up(reel: Reel) -> None:
    """Queue the analysis when the treatment needs one that is not there."""
    shared = services()
    if shared.viewing.settled(reel).active and not shared.viewing.ready(reel):
        shared.queue.put("analysis", reel)


def latest(reel: Reel, kind: str, *states: str) -> Task | None:
    """The newest task of a kind, in one of the states if any are named."""
    query = Task.select().where(Task.reel == reel, Task.kind == kind)
    if states:
        query = query.where(Task.state.in_(states))
    return query.order_by(Task.id.desc()).first()


__all__ = ["STAGES", "SweepError", "body", "follow_up", "latest", "reel_or_404", "services", "whole"]
