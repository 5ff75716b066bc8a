"""Plate patch in the registry."""

from __future__ import annotations

from ...model.kinds import StepKind
from .plate_plan import PlatePlan
from .settings import CHOOSES, PlateOf, PlatePatchSettings
from .step import analyse


def _portable(settings: PlatePatchSettings) -> PlatePatchSettings:
    """What the first plate is made of, and where light is measured; no frame numbers, no strokes."""
    plates = tuple(PlateOf(kind=p.kind, picture=p.picture) for p in settings.plates[:1])
    return settings.model_copy(update={"plates": plates, "touches": ()})


STEPS = (
    StepKind(
        kind="plate-patch",
        title="Plate patch",
        summary="Puts a clean picture of a flat part of the scene over what disturbs it, along its track, matched to the light of each frame.",
        version=2,
        settings=PlatePatchSettings,
        analyse=analyse,
        load=PlatePlan.load,
        make_portable=_portable,
        select=lambda plan, settings, _tracks: plan.with_touches(settings),
        selection_settings=CHOOSES,
        learns_from="frames",
        needs_region=True,
        learns_within=True,
        repeats=True,
    ),
)
