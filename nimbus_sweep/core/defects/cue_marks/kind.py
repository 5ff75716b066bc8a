"""Cue marks in the registry."""

from __future__ import annotations

from ...evidence.shot_evidence import ShotEvidence
from ...imaging.patches import PatchPlan
from ...model.findings import Finding
from ...model.kinds import DefectKind, StepKind
from ...model.regions import Masked
from ...model.shapes import Shape
from . import repair
from .detect import CueWatch, drawn_by_hand
from .evidence import CueEvidence

STEPS = (
    StepKind(
        kind="cue-lift",
        title="Cue lift",
        summary="Removes cue marks: each marked frame is aligned on its own with neighbouring clean frames, and only the mark is replaced.",
        version=1,
        settings=repair.CueLiftSettings,
        analyse=repair.analyse,
        load=PatchPlan.load,
        resolve=repair.resolve,
        acts_on=repair.acts_on,
        shot_settings=("marks", "nudges"),
        learns_from="frames",
    ),
)


def _watch(evidence: ShotEvidence, hold_out: Masked | None) -> CueWatch:
    assert evidence.frames is not None
    return CueWatch(evidence.frames, evidence.noise, hold_out)


def _outline(shape: Shape, size: tuple[int, int], frame: int, _first: int, _stop: int) -> Finding:
    return drawn_by_hand(shape, size, frame)


DEFECTS = (
    DefectKind(
        kind="cue-mark",
        title="Cue marks",
        steps=("cue-lift",),
        watch=_watch,
        needs="frames",
        evidence=CueEvidence,
        drawn="outline",
        outline=_outline,
    ),
)
