"""Checks of treated shots, and of deliveries against their sources."""

from __future__ import annotations

import time
from pathlib import Path

from ..core.media.opening import open_reel
from ..core.pipeline.comparison import Comparison, compare, merged, report_of
from ..core.pipeline.inspection import Known
from ..core.pipeline.known_truth import MarkTruth, held_against, truth_file
from ..core.pipeline.works import check_shot
from ..store import edits
from ..store.data import DataFolder
from ..store.models import Reel, Task
from .machines import Work, done
from .progress import Progress
from .reels import at_hand, open_as_taken_in
from .tasks import CheckDone, CheckedShot, CheckSettings, ComparisonDone, InspectionSettings, RenderDone, result_of, settings_of


def do_check(data: DataFolder, reel: Reel, task: Task, progress: Progress) -> CheckDone:
    """Hold treated shots against their sources, and survey them once more."""
    progress(0, what="Looking at the treated shot")
    shots, hand = edits.shots_of(reel), at_hand(data, reel)
    numbers = settings_of(task, CheckSettings).numbers
    wanted = [(n, s) for n, s in enumerate(shots, start=1) if s.id in numbers and s.treated]
    works = []
    for n, shot in wanted:
        known = Known(edits.kept(shot), edits.mended(shot), [f.finding for f in shot.findings])
        said = "Looking at the treated shot" + (f" {n}" if len(shots) > 1 else "")
        works.append(Work(check_shot, (hand, shot, edits.resolved(shot), known), said, shot.stop - shot.first))
    checked: dict[int, CheckedShot] = {}
    for n, result in done(data.works(task.id), works, progress, (reel.path,)):
        shot = wanted[n][1]
        checked[n] = CheckedShot(**dict(result), first=shot.first, stop=shot.stop, mark=edits.mark_of(shot))
    return CheckDone(shots=tuple(checked[n] for n in sorted(checked)))


def do_inspection(data: DataFolder, reel: Reel, task: Task, progress: Progress) -> ComparisonDone:
    """Compare the files of a delivery with their source."""
    progress(0, what="Comparing every sample")
    rendered = Task.get_by_id(settings_of(task, InspectionSettings).render)
    start = time.monotonic()
    source = open_as_taken_in(reel)
    files = [f.name for f in result_of(rendered, RenderDone).every]
    results: list[Comparison] = []
    truths: list[MarkTruth] = []
    truth = truth_file(Path(reel.path))
    for n, name in enumerate(files):
        out = data.delivery(rendered.id, name)
        report = report_of(out)
        total = len(report.numbers()) if report else len(source)

        def share(done: float, n: int = n, total: int = total) -> None:
            progress((n + done) / len(files), done * total / (time.monotonic() - start))

        delivered = open_reel(out)
        results.append(compare(source, delivered, report, share))
        if truth is not None and len(files) == 1 and delivered.format.as_json()["components"] == source.format.as_json()["components"]:
            places = {int(number): at for at, number in enumerate(report.numbers() if report else range(len(source)))}
            truths = held_against(truth, source, delivered, places.get)
    return ComparisonDone(**dict(merged(results)), truth=tuple(truths))
