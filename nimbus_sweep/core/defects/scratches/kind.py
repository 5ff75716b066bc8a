"""Scratches in the registry."""

from __future__ import annotations

from ...evidence.shot_evidence import ShotEvidence
from ...imaging.patches import PatchPlan
from ...model.findings import Surveyed
from ...model.kinds import DefectKind, Progress, StepKind
from ...model.regions import Masked
from . import repair
from .detect import surveyed
from .evidence import ScratchEvidence

STEPS = (
    StepKind(
        kind="line-lift",
        title="Line lift",
        summary="Removes scratches: follows each through its frames, gives back the picture under it, and fills across what it hides.",
        version=1,
        settings=repair.LineLiftSettings,
        analyse=repair.analyse,
        load=PatchPlan.load,
        resolve=repair.resolve,
        acts_on=repair.acts_on,
        shot_settings=("lines",),
        learns_from="frames",
    ),
)


def _detect(evidence: ShotEvidence, on_progress: Progress | None, hold_out: Masked | None) -> Surveyed:
    assert evidence.frames is not None
    return surveyed(evidence.frames, evidence.first, evidence.stop, on_progress, hold_out)


DEFECTS = (
    DefectKind(
        kind="scratch",
        title="Scratches",
        steps=("line-lift",),
        detect=_detect,
        needs="frames",
        evidence=ScratchEvidence,
        drawn="path",
    ),
)
