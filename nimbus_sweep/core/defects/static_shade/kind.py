"""Static shade in the registry."""

from __future__ import annotations

from collections.abc import Sequence

import cv2
import numpy as np

from ...evidence.shot_evidence import ShotEvidence
from ...evidence.time_volume import TimeVolume
from ...model.findings import Finding, Surveyed
from ...model.kinds import DefectKind, Progress, StepKind
from ...model.regions import Masked
from ...model.registry import DEFECTS as KINDS
from ...model.shapes import Shape
from . import repair
from .detect import surveyed
from .evidence import ShadeEvidence
from .marks import drawn_by_hand
from .shade_plan import ShadePlan, UnshadeSettings
from .shared_marks import mean_light, proves_map, shared

STEPS = (
    StepKind(
        kind="unshade",
        title="Unshade",
        summary="Removes sensor dust, hairs and lens dirt: gives back the light they dim, and borrows what they hide from other frames.",
        version=6,
        settings=UnshadeSettings,
        analyse=repair.analyse,
        load=ShadePlan.load,
        resolve=repair.resolve,
        acts_on=repair.acts_on,
        shot_settings=("marks",),
    ),
)


def _evidence(mark: Finding) -> ShadeEvidence:
    assert isinstance(mark.evidence, ShadeEvidence)
    return mark.evidence


def _claims(mark: Finding, other: Finding) -> bool:
    """What lies inside a mark, and departs the same way in all frames, is a part of it."""
    if not KINDS[other.kind].on_camera:
        return False
    middle = (other.x + other.width / 2, other.y + other.height / 2)
    line = np.array(_evidence(mark).outline, np.float32)
    return float(cv2.pointPolygonTest(line, middle, True)) >= -3


def _detect(evidence: ShotEvidence, on_progress: Progress | None, hold_out: Masked | None) -> Surveyed:
    return surveyed(evidence.volume, evidence.first, evidence.stop, on_progress, hold_out, evidence.light, evidence)


def _outline(shape: Shape, size: tuple[int, int], _frame: int, first: int, stop: int) -> Finding:
    return drawn_by_hand(shape, size, first, stop)


def _share(volume: TimeVolume, others: Sequence[tuple[str, Finding]], known: Sequence[Finding], first: int, stop: int) -> list[Finding]:
    return shared(mean_light(volume), others, known, first, stop)


DEFECTS = (
    DefectKind(
        kind="static-shade",
        title="Dust, hairs and lens dirt",
        steps=("unshade",),
        detect=_detect,
        takes=15.0,
        evidence=ShadeEvidence,
        drawn="outline",
        on_camera=True,
        outline=_outline,
        choices=frozenset({"mended_by"}),
        share=_share,
        proves=proves_map,
        claims=_claims,
    ),
)
