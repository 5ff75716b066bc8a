"""What a check of a treated shot says, in words."""

from __future__ import annotations

from typing import Any

from ..core.model.findings import Finding
from . import sentence, title

_WHY = {
    "structure-above": "fine structure {:.2f} times the most around it",
    "structure-below": "fine structure {:.2f} times the least around it",
    "change-above": "change from the frame before {:.2f} times the most around it",
    "level-above": "it lies {:.0f} codes above anything around it",
    "level-below": "it lies {:.0f} codes below anything around it",
    "changed": "changed by {:.0f} codes, and like its surroundings",
}


def worded(check: dict[str, Any]) -> dict[str, Any]:
    """A stored check with words for its places and findings; one that an earlier version stored has them already."""
    return check | {
        "worst": [p if "why" in p else p | {"why": _WHY[p["code"]].format(p["value"])} for p in check["worst"]],
        "left": [_left(one) for one in check["left"]],
        "brought": [_left(one) for one in check["brought"]],
    }


def _left(one: dict[str, Any]) -> dict[str, Any]:
    if "title" in one:
        return one
    was, now = (Finding.model_validate(one[name]) if one[name] else None for name in ("finding", "now"))
    told = was or now
    assert told is not None
    place = {name: getattr(told, name) for name in ("x", "y", "width", "height")}
    return {
        "outcome": one["outcome"],
        "title": title(told),
        "before": sentence(was) if was else "",
        "now": sentence(now) if now else "",
        **place,
    }
