"""The treatment that a survey suggests."""

from __future__ import annotations

from collections.abc import Iterable

from ..model.findings import Finding
from ..model.recipes import Recipe, Step
from ..model.regions import Region, box_region
from ..model.registry import STEPS


def suggested(findings: Iterable[Finding]) -> Recipe:
    """The steps that a survey suggests, in the order that works; none that has to be asked for."""
    known = [f for f in findings if f.convinces]
    kinds = {f.step for f in known}
    return Recipe(
        name="As surveyed",
        steps=tuple(Step.new(kind, region=region_for(kind, known)) for kind in STEPS if kind in kinds and not STEPS[kind].asked_for),
    )


def region_for(kind: str, findings: Iterable[Finding]) -> Region | None:
    """Where a step is to act for what was found: the part of the picture that a finding is told of alone, or all of it."""
    part = next((f for f in findings if f.step == kind and f.evidence.part), None)
    return None if part is None else box_region(part.x, part.y, part.width, part.height)
