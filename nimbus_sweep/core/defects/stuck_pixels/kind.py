"""Stuck pixels in the registry."""

from __future__ import annotations

from ...evidence.shot_evidence import ShotEvidence
from ...evidence.time_volume import TimeVolume
from ...model.findings import Finding, Surveyed
from ...model.kinds import DefectKind, Progress, StepKind
from ...model.regions import Masked
from ...model.registry import DEFECTS as KINDS
from . import repair
from .departures import departure_maps
from .detect import as_finding, place, surveyed
from .evidence import StuckPixelEvidence

STEPS = (
    StepKind(
        kind="pixel-mend",
        title="Pixel mend",
        summary="Rebuilds stuck and dead pixels from their surroundings, the same way in every frame.",
        version=3,
        settings=repair.PixelMendSettings,
        analyse=repair.analyse,
        load=repair.MendPlan.load,
        resolve=repair.resolve,
        acts_on=repair.acts_on,
        shot_settings=("sites",),
    ),
)

# A dead pixel and its spread are no larger than this many pixels more than the site itself.
_SPREAD = 6


def _claims(site: Finding, other: Finding) -> bool:
    """A small mark at the place of a stuck pixel is that pixel."""
    if not KINDS[other.kind].on_camera or max(other.width, other.height) > max(site.width, site.height) + _SPREAD:
        return False
    across, down = other.x + other.width / 2 - site.x - site.width / 2, other.y + other.height / 2 - site.y - site.height / 2
    return max(abs(across), abs(down)) <= _SPREAD


def _detect(evidence: ShotEvidence, on_progress: Progress | None, hold_out: Masked | None) -> Surveyed:
    tell = on_progress or (lambda share: None)
    pairs = evidence.moved_pairs(lambda share: tell(0.6 * share))
    return surveyed(evidence.volume, evidence.first, evidence.stop, lambda share: tell(0.6 + 0.4 * share), hold_out, pairs)


def _place(volume: TimeVolume, x: int, y: int, radius: int, first: int, stop: int) -> Finding:
    return as_finding(place(volume, departure_maps(volume), x, y, radius), first, stop)


DEFECTS = (
    DefectKind(
        kind="stuck-pixel",
        title="Stuck and dead pixels",
        steps=("pixel-mend",),
        detect=_detect,
        takes=24.0,
        evidence=StuckPixelEvidence,
        drawn="point",
        on_camera=True,
        place=_place,
        claims=_claims,
    ),
)
