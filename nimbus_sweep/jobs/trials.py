"""Trials: a few frames treated in several ways, and measured."""

from __future__ import annotations

import shutil
import time
from collections.abc import Iterator
from functools import partial
from pathlib import Path
from tempfile import TemporaryDirectory

from ..core.base.errors import SweepError
from ..core.evidence.time_volume import build_volume
from ..core.media.frames import Frame
from ..core.media.view import PROXY_WIDTH, ProxyMaker, jpeg, to_bgr
from ..core.model.shots import place_of
from ..core.pipeline.analyses import Analyses, chain
from ..core.pipeline.trials import Computed, Judge, Plan
from ..store import edits, strokes
from ..store.data import DataFolder
from ..store.models import Reel, Task, Trial
from .progress import TaskProgress
from .reels import computed_under, open_as_taken_in, usable_of
from .tasks import TrialDone, TrialSettings, settings_of


def shot_of_trial(reel: Reel, plan: Plan) -> int:
    """The place of the shot that a trial's frames lie in.

    Raises
    ------
    SweepError
        If a cut parts them.
    """
    shots = edits.shots_of(reel)
    place = place_of(shots, min(plan.first, shots[-1].stop - 1))
    if plan.stop > shots[place].stop:
        raise SweepError(
            f"Frames {plan.first} to {plan.stop - 1} do not lie in one shot any more. Make a new trial on one side of the cut at "
            f"{shots[place].stop}."
        )
    return place


class _Timed:
    """Frames, and the time they took to be made."""

    def __init__(self, frames: Iterator[Frame], learning: float) -> None:
        self._frames, self._seconds = frames, learning

    def __iter__(self) -> Iterator[Frame]:
        return self

    def __next__(self) -> Frame:
        start = time.perf_counter()
        try:
            return next(self._frames)
        finally:
            self._seconds += time.perf_counter() - start

    def took(self) -> float:
        """Seconds so far, learning included."""
        return self._seconds


def do_trial(data: DataFolder, reel: Reel, task: Task, progress: TaskProgress) -> TrialDone:
    """Treat a few frames in each way of a trial, and measure them."""
    progress(0, what="Reading the frames")
    trial = Trial.get_or_none(Trial.id == settings_of(task, TrialSettings).trial)
    if trial is None:
        raise SweepError("This trial was removed.")
    plan = Plan.model_validate(trial.plan)
    shot = edits.shot_of(reel, shot_of_trial(reel, plan))
    source = open_as_taken_in(reel)
    first, stop, count = plan.first, plan.stop, len(plan.variants)
    made = []
    with TemporaryDirectory(prefix="trial-", dir=data.of_reel(reel.id)) as name:
        scratch = Path(name)
        # Beside those of the last time, which stay until these are whole.
        folder = scratch / "pictures"
        folder.mkdir()
        judge = Judge(scratch, source, first, stop)
        for n, variant in enumerate(plan.variants):
            progress(0.1 + 0.9 * n / count, what=f"Way {n + 1} of {count}")
            recipe = variant.recipe.resolved(edits.kept(shot))
            start = time.perf_counter()
            share = progress.part(0.1 + 0.9 * n / count, 0.1 + 0.9 * (n + 0.5) / count)
            known = Analyses(data.analyses, computed_under(reel), first, stop).make(
                strokes.unfolded(recipe),
                source,
                partial(build_volume, scratch / "volume.bin", source, first=first, stop=stop),
                share,
                lambda: judge.light,
                usable_of(data, reel),
            )
            frames = _Timed(iter(chain(source, known, first, stop).frames(first, stop)), time.perf_counter() - start)
            maker = ProxyMaker(folder / f"{n}.jpegs")

            def each(frame: Frame, n: int = n, maker: ProxyMaker = maker) -> None:
                maker.add(jpeg(to_bgr(frame, min(PROXY_WIDTH, frame.format.width))))
                progress(0.1 + 0.9 * (n + 0.5 + 0.4 * (frame.number - first) / (stop - first)) / count)

            try:
                figures = judge.figures(frames, frames.took, each)
            except BaseException:
                maker.drop()
                raise
            maker.finish()
            made.append(Computed(recipe=recipe, figures=figures).model_dump(mode="json"))
        kept = data.trial(reel.id, trial.id)
        shutil.rmtree(kept, ignore_errors=True)
        kept.parent.mkdir(exist_ok=True)
        folder.rename(kept)
    Trial.update(result=made, task=task.id).where(Trial.id == trial.id).execute()
    return TrialDone(trial=trial.id)
