"""The words for why the mending of a mark is little to be trusted."""

from __future__ import annotations

from ..core.media.remarks import Remark

_DOUBTS = {
    "nearly-black": "the picture is nearly black here: giving the light back would bring up noise, so it is filled",
    "no-lender": "no frame within reach shows what is behind it",
    "never-shown": "nothing shows what is behind it",
    "explains-little": "undoing explains only {percent:.0f} % of what it does",
    "little-light": "only {percent:.0f} % of the light is left at its darkest",
}


def doubt(one: Remark | None) -> str:
    """Why a mark is little to be trusted; empty when it is."""
    return "" if one is None else _DOUBTS[one.code].format(**one.values)
