"""Things that cross in the registry."""

from __future__ import annotations

from ...evidence.shot_evidence import ShotEvidence
from ...imaging.patches import PatchPlan
from ...model.kinds import DefectKind, StepKind
from ...model.regions import Masked
from . import repair
from .detect import CrossingWatch
from .evidence import CrossingEvidence

STEPS = (
    StepKind(
        kind="fleeting",
        title="Fleeting",
        summary="Removes what crosses in a few frames, such as birds: keeps the lighter, the darker or the middle of the neighbouring frames.",
        version=2,
        settings=repair.FleetingSettings,
        analyse=repair.analyse,
        load=PatchPlan.load,
        learns_from="frames",
        learns_within=True,
        asked_for=True,
        repeats=True,
        shot_settings=("first", "stop"),
    ),
)


def _watch(evidence: ShotEvidence, hold_out: Masked | None) -> CrossingWatch:
    assert evidence.frames is not None
    return CrossingWatch(evidence.frames, evidence.first, evidence.stop, hold_out)


DEFECTS = (
    DefectKind(
        kind="transient",
        title="Things that cross",
        steps=("fleeting",),
        watch=_watch,
        needs="frames",
        evidence=CrossingEvidence,
        drawn="frame",
        old_names=("fleeting",),
    ),
)
