"""Analyses of shots under content keys, and the chain of steps."""

from __future__ import annotations

import hashlib
import json
import logging
from collections.abc import Callable, Sequence
from contextlib import suppress
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from ..base.files import DAMAGED, scratch_folder
from ..evidence.frames_at_hand import Span
from ..evidence.light_record import LightRecord, record
from ..evidence.time_volume import TimeVolume, build_volume
from ..media.frames import FrameSource, PictureFormat, Window
from ..model.kinds import Knowledge, SeesOriginal
from ..model.recipes import Recipe, Step
from ..model.regions import Region
from .confined import Confined

log = logging.getLogger(__name__)


def analysis_key(fingerprint: str, first: int, stop: int, steps: Sequence[Step]) -> str:
    """The name under which the analysis of the last of `steps` is kept.

    Made of the reel's fingerprint, the shot, the steps before, with their regions, and the step's own settings, so
    that it is found again until something it depends on changes.
    """
    active = [s for s in steps if s.on]
    chain = [(s.kind, s.of.version, _analysis_settings(s, last=s is active[-1]), *_regions(s, last=s is active[-1])) for s in active]
    text = json.dumps([fingerprint, first, stop, chain], sort_keys=True)
    return hashlib.sha256(text.encode()).hexdigest()[:32]


def _analysis_settings(step: Step, last: bool) -> dict[str, Any]:
    """A step's settings as far as the analysis depends on them: what only chooses among what it knows is no part of it."""
    unused = step.of.selection_settings if last or step.of.selection_is_negligible else ()
    return step.settings.model_dump(mode="json", exclude=set(unused))


def _regions(step: Step, last: bool) -> list[Any]:
    """A step's regions as far as the analysis depends on them: where most steps act is no part of what they know."""
    used = [step.hold_out] if last and not step.of.learns_within else [step.region, step.hold_out]
    if not any(r is not None for r in used):
        return []
    named = {p.track for r in used if r is not None for p in r.parts}
    ridden = [t.digest for t in step.ridden if t.name in named]
    return [*(r.model_dump(mode="json") if r is not None else None for r in used), *ridden]


def load_step(step: Step, path: Path, layout: PictureFormat) -> Knowledge:
    """What a step knows of a shot, kept to its region; a damaged file is dropped and counts as not made yet: FileNotFoundError."""
    known = step.of.select(_whole(step, path), step.settings, step.tracks)
    region = Region() if step.region is None and step.of.needs_region else step.acts_in
    return known if region is None and step.hold_out is None else Confined(known, layout, region, step.held_out)


def _whole(step: Step, path: Path) -> Knowledge:
    try:
        return step.of.load(path)
    except FileNotFoundError:
        raise
    except DAMAGED as error:
        log.warning("%s is damaged and is made again", path, exc_info=True)
        path.unlink(missing_ok=True)
        raise FileNotFoundError(path) from error


class Analyses:
    """Analyses of shots, kept as files in a folder under their keys.

    Parameters
    ----------
    folder : Path
    fingerprint : str
        Of the reel and of how it is read.
    first, stop : int
        The shot.
    """

    def __init__(self, folder: Path, fingerprint: str, first: int, stop: int) -> None:
        self.folder, self.fingerprint, self.first, self.stop = folder, fingerprint, first, stop

    def path(self, steps: Sequence[Step]) -> Path:
        """Where the analysis of the last of `steps` is kept."""
        return self.folder / f"{analysis_key(self.fingerprint, self.first, self.stop, steps)}.npz"

    def ready(self, recipe: Recipe) -> bool:
        """Whether every analysis the recipe needs is there."""
        return all(self.path(recipe.active[: n + 1]).exists() for n in range(len(recipe.active)))

    def load(self, recipe: Recipe, layout: PictureFormat) -> list[Knowledge]:
        """The knowledge of every active step, for frames of that layout; raises FileNotFoundError for one not made yet, or damaged."""
        return [load_step(step, self.path(recipe.active[: n + 1]), layout) for n, step in enumerate(recipe.active)]

    def make(
        self,
        recipe: Recipe,
        source: FrameSource,
        volume: Callable[[], TimeVolume],
        on_progress: Callable[[float], None] | None = None,
        light: Callable[[], LightRecord] | None = None,
        usable: NDArray[np.int64] | None = None,
        kept: Callable[[], TimeVolume | None] = lambda: None,
    ) -> list[Knowledge]:
        """Make what is missing, and give the knowledge of every active step.

        Parameters
        ----------
        recipe : Recipe
            Settled.
        source : FrameSource
            The reel.
        volume : callable
            Gives the time volume of the untreated shot; asked only when an analysis has to be made.
        on_progress : callable
            Told the share done, 0 to 1; may raise to stop.
        light : callable
            Gives the light record of the untreated shot, where there is one.
        usable : ndarray, int64
            Frames of the reel that are there and repeat no other; all when None.
        kept : callable
            Gives the time volume where a survey has left one, and None otherwise: its frames need not be decoded again.
        """
        made: list[Knowledge] = []
        active = recipe.active
        self.folder.mkdir(parents=True, exist_ok=True)
        for n, step in enumerate(active):
            path = self.path(active[: n + 1])
            with suppress(FileNotFoundError):
                made.append(load_step(step, path, source.format))
            if len(made) == n:
                share = (lambda part, n=n: on_progress((n + part) / len(active))) if on_progress else None
                treated = chain(source, made, self.first, self.stop)
                # A folder of its own: others may be making the same.
                with scratch_folder(self.folder, "learning") as folder:
                    scratch = folder / "seen.bin"
                    before: TimeVolume | LightRecord | FrameSource | Span
                    if step.of.learns_from == "nothing":
                        before = treated
                    elif step.of.learns_from == "frames":
                        before = Span.of(treated, self.first, self.stop, usable, None if made else kept())
                    elif step.of.learns_from == "light":
                        before = light() if light and not made else record(scratch, treated, self.first, self.stop)
                    else:
                        before = build_volume(scratch, treated, first=self.first, stop=self.stop) if made else volume()
                    step.of.analyse(before, step.settings, share, step.unseen).save(path)
                made.append(load_step(step, path, source.format))
        return made


def chain(source: FrameSource, knowledge: Sequence[Knowledge], first: int, stop: int, window: Window | None = None) -> FrameSource:
    """`source` with the steps put on, one over the other, on frames `first` to `stop` - 1; outside `window` they need not be."""
    windows: list[Window | None] = []
    for known in reversed(knowledge):
        windows.append(window)
        window = known.needs(window) if window is not None else None
    original = source
    for known, wanted in zip(knowledge, reversed(windows), strict=True):
        source = (known.with_original(original) if isinstance(known, SeesOriginal) else known).apply(source, first, stop, wanted)
    return source
