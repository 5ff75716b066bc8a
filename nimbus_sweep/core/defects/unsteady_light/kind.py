"""Unsteady light in the registry."""

from __future__ import annotations

from dataclasses import replace

from ...evidence.shot_evidence import ShotEvidence
from ...model.findings import Finding, Surveyed
from ...model.kinds import DefectKind, Progress, StepKind
from ...model.regions import Masked
from . import repair
from .detect import steadied, surveyed
from .evidence import LightEvidence
from .light_plan import LightPlan

STEPS = (
    StepKind(
        kind="steady-bands",
        title="Steady bands",
        summary="Removes bands that roll through the picture: measures their spacing, speed and profile, and divides them out.",
        version=5,
        settings=repair.SteadyBandsSettings,
        analyse=repair.analyse_bands,
        load=LightPlan.load,
        learns_from="light",
        learns_within=True,
        repeats=True,
    ),
    StepKind(
        kind="steady-patches",
        title="Steady patches",
        summary="Removes flicker in parts of the picture, with a coarse, smooth field of gains.",
        version=5,
        settings=repair.SteadyPatchesSettings,
        analyse=repair.analyse_patches,
        load=LightPlan.load,
        learns_from="light",
        learns_within=True,
        repeats=True,
    ),
    StepKind(
        kind="steady-frame",
        title="Steady frame",
        summary="Removes pumping, jumps and on-off flicker of the whole frame; fades and lamps being switched on stay.",
        version=5,
        settings=repair.SteadyFrameSettings,
        analyse=repair.analyse_frame,
        load=LightPlan.load,
        learns_from="light",
        learns_within=True,
        repeats=True,
    ),
)


def _detect(evidence: ShotEvidence, on_progress: Progress | None, hold_out: Masked | None) -> Surveyed:
    """Look at the light; where it is not steady, all else is looked for with it steadied."""
    assert evidence.light is not None
    surveyed_light, reading = surveyed(evidence.light, evidence.first, evidence.stop, on_progress, hold_out)
    if not surveyed_light.findings or reading is None or evidence.scratch is None:
        return surveyed_light
    volume = steadied(evidence.volume, evidence.light, reading, evidence.scratch)
    return replace(surveyed_light, evidence=replace(evidence, volume=volume))


def _same(one: Finding, other: Finding) -> bool:
    return one.step == other.step


DEFECTS = (
    DefectKind(
        kind="unsteady-light",
        title="Light",
        steps=tuple(step.kind for step in STEPS),
        detect=_detect,
        takes=0.0,
        takes_a_frame=0.19,
        needs="light",
        evidence=LightEvidence,
        drawn="frame",
        same=_same,
        old_names=("light",),
    ),
)
