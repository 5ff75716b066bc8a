"""Film dirt in the registry."""

from __future__ import annotations

from ...evidence.shot_evidence import ShotEvidence
from ...imaging.patches import PatchPlan
from ...model.kinds import DefectKind, StepKind
from ...model.regions import Masked
from . import repair
from .choosing import CHOOSES, SpeckSweepSettings
from .detect import DirtWatch
from .evidence import DirtEvidence

STEPS = (
    StepKind(
        kind="speck-sweep",
        title="Speck sweep",
        summary="Removes specks and hairs that last a frame or two: each is filled from the neighbouring frames, along the motion.",
        version=8,
        settings=SpeckSweepSettings,
        analyse=repair.analyse,
        load=PatchPlan.load,
        learns_from="frames",
        select=lambda plan, settings, _tracks: plan.chosen(settings.chosen),
        selection_settings=CHOOSES,
        shot_settings=("left", "swept"),
    ),
)


def _watch(evidence: ShotEvidence, hold_out: Masked | None) -> DirtWatch:
    assert evidence.frames is not None
    return DirtWatch(evidence.frames, evidence.first, evidence.stop, hold_out)


DEFECTS = (
    DefectKind(
        kind="film-dirt",
        title="Film dirt",
        steps=("speck-sweep",),
        watch=_watch,
        needs="frames",
        evidence=DirtEvidence,
        drawn="frame",
    ),
)
