"""Takes static shade off: gives back the light a mark dims, borrows from other frames what it hides.

Each mark is measured over the whole shot (`survey.shade_fit`); what it only dims is undone (`shade`), what it hides
is filled from other frames or from its surroundings (`borrow`). Between the two lies a blend by trust: the less
light a pixel passes, the less of it is believed.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable

import cv2
import numpy as np

from ...base.parallel import parallel_map
from ...evidence.shot_light import ShotLight, way_of
from ...evidence.time_volume import TimeVolume
from ...model.findings import Finding
from ...model.regions import Masked
from .evidence import ShadeEvidence
from .learning import ROOM, grain_of_component, lies_on, plan_of
from .shade_plan import MarkPlan, ShadePlan, ShadeSeed, UnshadeSettings


def resolve(settings: UnshadeSettings, findings: Iterable[Finding]) -> UnshadeSettings:
    """Name the marks: those of `settings`, or the findings that are sure enough."""
    if settings.marks is not None:
        return settings
    shaded = ((f, f.evidence) for f in findings if isinstance(f.evidence, ShadeEvidence))
    sure = [(f, e) for f, e in shaded if f.by_hand or f.confidence >= settings.sure]
    marks = (
        ShadeSeed(outline=e.outline, kind=e.shade, way=e.mended_by, known=e.map, by_looks=e.by_looks)
        for _, e in sorted(sure, key=lambda one: (one[0].y, one[0].x))
    )
    return settings.model_copy(update={"marks": tuple(marks)})


def acts_on(settings: UnshadeSettings, finding: Finding) -> bool:
    """Whether resolved settings name the mark of a finding."""
    assert isinstance(finding.evidence, ShadeEvidence)
    return finding.evidence.outline in [mark.outline for mark in settings.marks or ()]


def analyse(
    volume: TimeVolume,
    settings: UnshadeSettings,
    on_progress: Callable[[float], None] | None = None,
    hold_out: Masked | None = None,
) -> ShadePlan:
    """Measure the marks of a shot over all its frames.

    Parameters
    ----------
    volume : TimeVolume
    settings : UnshadeSettings
        With its marks named (see `resolve`); those off the picture are left out.
    on_progress : callable
        Told the share done, 0 to 1; may raise to stop.
    hold_out : Region
        What is not to be looked at.

    Returns
    -------
    ShadePlan
    """
    progress = on_progress or (lambda share: None)
    light = ShotLight(volume, hold_out)
    layout, colour = volume.format, volume.colour
    grain = tuple(grain_of_component(volume, i) for i in range(len(layout.components)))
    named = [m for m in settings.marks or () if lies_on(m, layout)]
    if not named:
        return ShadePlan(
            layout, colour, (), grain, volume.numbers, np.repeat(np.eye(3)[None], len(light), 0), settings.reach, settings.grain
        )
    noise = light.noise
    way = way_of(light, noise)
    progress(0.1)
    marked = np.zeros(light.shape, np.float32)
    for mark in named:
        cv2.fillPoly(marked, [np.array(mark.outline, np.int32)], 1.0)
    marked = cv2.dilate(marked, cv2.getStructuringElement(cv2.MORPH_ELLIPSE, (2 * ROOM + 1, 2 * ROOM + 1)))
    plans: list[MarkPlan] = []
    rests: list[float] = []

    def planned(mark: ShadeSeed) -> tuple[MarkPlan | None, float]:
        way_chosen = mark.way if mark.way != "auto" else settings.way
        return plan_of(volume, light, way, noise, marked, mark, way_chosen)

    for done, (plan, rest) in enumerate(parallel_map(planned, named)):
        progress(0.1 + 0.9 * (done + 1) / len(named))
        rests.append(rest)
        if plan is not None:
            plans.append(plan)
    grain = tuple(g.at_most(1.1 * min(rests) * (0.7 if layout.components[i].is_chroma else 1.0)) for i, g in enumerate(grain))
    return ShadePlan(layout, colour, tuple(plans), grain, volume.numbers, way.moves, settings.reach, settings.grain)
