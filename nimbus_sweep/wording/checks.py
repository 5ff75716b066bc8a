"""What a check of a treated shot, and the comparison of a delivery, say in words."""

from __future__ import annotations

from ..core.interchange.papers import Proof, ReportedCheck, ReportedOutcome, ReportedPlace
from ..core.pipeline.comparison import Comparison, Fault
from ..core.pipeline.inspection import Inspected, Left, Place
from ..core.pipeline.known_truth import MarkTruth
from . import sentence, title

_WHY = {
    "structure-above": "fine structure {:.2f} times the most around it",
    "structure-below": "fine structure {:.2f} times the least around it",
    "change-above": "change from the frame before {:.2f} times the most around it",
    "level-above": "it lies {:.0f} codes above anything around it",
    "level-below": "it lies {:.0f} codes below anything around it",
    "changed": "changed by {:.0f} codes, and like its surroundings",
}
_FAULTS: dict[Fault, str] = {
    "": "",
    "other-reel": "The delivery was made of another reel than this one.",
    "no-report": "The delivery carries no report, so it is not known what was meant to change.",
    "coded-anew": ("So many frames differ that the file was most likely coded anew, or graded, since it was rendered. Deliver it again."),
    "altered": "The file was altered at these places since it was rendered. Deliver it again.",
    "sound": "The sound of the file is not the reel's any more. Deliver it again.",
}


def reported(check: Inspected, stale: bool, ended: str) -> ReportedCheck:
    """A check in words."""
    return ReportedCheck.model_validate(
        {
            **dict(check),
            "worst": [_place(place) for place in check.worst],
            "left": [_outcome(one) for one in check.left],
            "brought": [_outcome(one) for one in check.brought],
            "stale": stale,
            "ended": ended,
        }
    )


def why_not(comparison: Comparison) -> str:
    """What may be the reason when something else changed; empty when nothing did."""
    return _FAULTS[comparison.fault]


def proof(comparison: Comparison, truth: tuple[MarkTruth, ...] = ()) -> Proof:
    """A comparison in words."""
    return Proof.model_validate({**dict(comparison), "truth": truth, "why_not": why_not(comparison)})


def why_place(code: str, value: float, stored: str = "") -> str:
    """In what a place is unlike its surroundings."""
    return stored or _WHY[code].format(value)


def _place(place: Place) -> ReportedPlace:
    why = why_place(place.code, place.value, place.why)
    return ReportedPlace(frame=place.frame, x=place.x, y=place.y, width=place.width, height=place.height, why=why)


def _outcome(one: Left) -> ReportedOutcome:
    finding = one.finding or one.now
    assert finding is not None
    return ReportedOutcome(
        outcome=one.outcome,
        title=title(finding),
        before=sentence(one.finding) if one.finding else "",
        now=sentence(one.now) if one.now else "",
        x=finding.x,
        y=finding.y,
        width=finding.width,
        height=finding.height,
    )
