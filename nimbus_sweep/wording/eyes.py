"""The words of the list of what needs eyes."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from ..core.model.findings import Finding, Note
from . import note, sentence, title
from .checks import why_place


@dataclass(frozen=True)
class Decision:
    """What a key does to an entry: as the button says it, and as it was done."""

    said: str
    past: str


# Accepted, and left alone.
DOES: dict[str, tuple[Decision, Decision]] = {
    "doubtful": (Decision("Mend it", "Mended"), Decision("Leave it alone", "Left alone")),
    "meant": (Decision("It is meant: keep it", "Kept as it is meant"), Decision("Steady it", "Steadied")),
    "place": (Decision("Good as it is", "Accepted"), Decision("Take this repair off", "Taken off")),
    "left": (Decision("Good enough", "Accepted"), Decision("Leave it so", "Left so")),
    "brought": (Decision("Good as it is", "Accepted"), Decision("Leave it so", "Left so")),
    "note": (Decision("Seen", "Seen"), Decision("Leave it so", "Left so")),
    "missing": (Decision("Deliver it so", "Accepted with the missing frames"), Decision("Leave it out", "Left out")),
    "failed": (Decision("Try it again", "Tried again"), Decision("Leave it out", "Left out")),
}


_HEADINGS = {
    "doubtful": "{}?",
    "meant": "Light that may be meant",
    "place": "A repair unlike its surroundings",
    "left": "{}, still there",
    "brought": "{}, not there before",
    "note": "Could not be judged",
    "missing": "Missing frames",
    "failed": "Could not be done",
}


def heading(kind: str, values: dict[str, Any]) -> str:
    """What an entry is about, in a few words."""
    return _HEADINGS[kind].format(title(Finding.model_validate(values["about"])) if "about" in values else "")


def reason(kind: str, values: dict[str, Any]) -> str:
    """Why it needs eyes, in a sentence."""
    if kind == "place":
        return why_place(values.get("code", ""), values.get("value", 0.0), values.get("why", ""))
    if "about" in values:
        return sentence(Finding.model_validate(values["about"]))
    if kind == "note":
        return note(Note.model_validate(values["note"]))
    if kind == "missing":
        count = values["count"]
        return f"{count} frame{' is' if count == 1 else 's are'} missing. Put the pictures back and read the reel again, or deliver it so."
    return str(values.get("said", ""))
