"""Scratches in the registry."""

from __future__ import annotations

from ...evidence.shot_evidence import ShotEvidence
from ...imaging.patches import PatchPlan
from ...model.kinds import DefectKind, StepKind
from ...model.regions import Masked
from . import repair
from .detect import ScratchWatch
from .evidence import ScratchEvidence

STEPS = (
    StepKind(
        kind="line-lift",
        title="Line lift",
        summary="Removes scratches: follows each through its frames, gives back the picture under it, and fills across what it hides.",
        version=5,
        settings=repair.LineLiftSettings,
        analyse=repair.analyse,
        load=PatchPlan.load,
        resolve=repair.resolve,
        acts_on=repair.acts_on,
        shot_settings=("lines",),
        learns_from="frames",
    ),
)


def _watch(evidence: ShotEvidence, hold_out: Masked | None) -> ScratchWatch:
    assert evidence.frames is not None
    return ScratchWatch(evidence.frames, hold_out)


DEFECTS = (
    DefectKind(
        kind="scratch",
        title="Scratches",
        steps=("line-lift",),
        watch=_watch,
        needs="frames",
        evidence=ScratchEvidence,
        drawn="path",
    ),
)
