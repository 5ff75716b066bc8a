"""Pictures of reels for the pages: source, treated and the difference, whole, cut out and along time."""

from __future__ import annotations

import hashlib
import re
import threading
from collections import deque
from collections.abc import Callable
from pathlib import Path
from typing import Any, TypeVar

import numpy as np
from cachetools import LRUCache
from numpy.typing import NDArray

from ..core.base.errors import Overtaken, SweepError
from ..core.base.files import kept
from ..core.base.parallel import parallel_map
from ..core.evidence.summary import Summary
from ..core.evidence.time_volume import TimeVolume, kept_volume
from ..core.imaging.patches import PatchPlan
from ..core.media.frames import Alone, Frame, FrameSource, PictureFormat, Window
from ..core.media.reel import ReelReader, WrappedReel
from ..core.media.repeats import Passing, RepairedOnce, Repeats
from ..core.media.view import Picture, Proxy, cut_out, difference, flattened, to_bgr
from ..core.model.kinds import Knowledge
from ..core.model.shots import Shot, Shots, place_of
from ..core.pipeline.analyses import Analyses, chain, load_step
from ..core.pipeline.confined import unconfined
from ..core.pipeline.trials import Computed, Plan
from ..core.tools.plate_patch.plate_plan import PlatePlan
from ..core.tools.reframe import ReframePlan, ReframeSettings
from ..core.tools.retouch import RetouchSettings
from ..jobs.eyes import mended_too
from ..jobs.queue import Queue
from ..jobs.reels import analyses_of, analysis_keys, computed_under, known_keys, learned_under, open_as_taken_in, volume_path
from ..jobs.tasks import AnalysisSettings
from ..store import edits, strokes
from ..store.data import DataFolder
from ..store.models import Reel, Task, Trial

VIEWS = ("source", "treated", "difference", "doubtful")
# The view in which the plane of a track stands still, by its number; and a plate of a step, as it lies on its plane.
STILL_VIEW, PLATE_VIEW = re.compile(r"still-(\d{1,15})"), re.compile(r"plate-(\d{1,15})-(\d{1,3})")
# The view of one of a trial's ways: the trial's number, and the way's from 0.
TRIAL_VIEW = re.compile(r"trial-(\d{1,9})-(\d)")
_Held = TypeVar("_Held")
# Frames of a reel that are waited for at most; the oldest wishes are dropped.
_WANTED = 2


class NotReady(SweepError):
    """The treated picture waits for its analysis."""


def _laid_open(path: Path) -> TimeVolume:
    """The volume kept at a path; raises NotReady where there is none that is whole."""
    volume = kept_volume(path)
    if volume is None:
        raise NotReady("The shot is being laid open in time; it follows in a moment.")
    return volume


class Viewing:
    """Opens what is looked at once and keeps the last few open.

    Parameters
    ----------
    data : DataFolder
    most : int
        Reels that are kept open.
    queue : Queue, or None
        Where what was lost of a reel is asked for again.
    """

    def __init__(self, data: DataFolder, most: int = 4, queue: Queue | None = None) -> None:
        self._data, self._queue = data, queue
        self._held: LRUCache[tuple[Any, ...], Any] = LRUCache(5 * most)
        self._lock = threading.Lock()
        self._turns: dict[int, threading.Lock] = {}
        self._wanted: dict[int, deque[int]] = {}

    def _keep(self, key: tuple[Any, ...], make: Callable[[], _Held]) -> _Held:
        with self._lock:
            if key in self._held:
                held: _Held = self._held[key]
                return held
        # What takes its time is made without keeping the others waiting; when two make it, the later stays.
        made = make()
        with self._lock:
            self._held[key] = made
        return made

    def forget(self, reel: Reel) -> None:
        """Let go of everything that is open of a reel."""
        with self._lock:
            for key in [k for k in self._held if k[1] == reel.id]:
                del self._held[key]

    def reader(self, reel: Reel) -> ReelReader:
        """The reel's frames; raises ChangedReel if the file is not the one that was taken in."""
        reader = self._keep(("reader", reel.id, reel.modified, str(reel.reading)), lambda: open_as_taken_in(reel))
        reader.check_unchanged()
        return reader

    def volume(self, reel: Reel, shot: Shot) -> TimeVolume:
        """A shot laid open in time; raises NotReady while that has to be done first."""
        path = volume_path(self._data, reel, shot.first, shot.stop)
        key = ("volume", reel.id, path.name, path.stat().st_ino if path.exists() else 0, str(reel.reading))
        volume = self._keep(key, lambda: _laid_open(path))
        volume.colour = self.reader(reel).colour
        return volume

    def proxy(self, reel: Reel) -> Proxy:
        """The reel's small pictures; as many as are there while the reel is still being read."""
        path = self._data.of_reel(reel.id) / "proxy.jpegs"
        if reel.state != "ready":
            return Proxy(path)
        return self._keep(("proxy", reel.id, reel.fingerprint, reel.look), lambda: Proxy(path))

    def summary(self, reel: Reel) -> Summary:
        """The reel's light over time."""
        return self._told(reel, "summary.npz", Summary.load)

    def repeats(self, reel: Reel) -> Repeats:
        """Which of the reel's frames are repeated."""
        return self._told(reel, "repeats.npz", Repeats.load)

    def _told(self, reel: Reel, name: str, load: Callable[[Path], _Held]) -> _Held:
        """What a reel's frames told when they were read; raises NotReady where it was lost or damaged, and has it made again."""
        path = self._data.of_reel(reel.id) / name

        def opened() -> _Held:
            made = kept((path,), lambda: load(path))
            if made is None:
                if self._queue is not None:
                    self._queue.put("intake", reel)
                raise NotReady("The reel is being read once more; this follows in a moment.")
            return made

        return self._keep((name, reel.id, reel.fingerprint), opened)

    def shots(self, reel: Reel) -> Shots:
        """The reel's shots as they are now."""
        return edits.shots_of(reel)

    def analyses(self, reel: Reel, shot: Shot) -> Analyses:
        """Where a shot's analyses are kept."""
        return analyses_of(self._data, reel, shot)

    def ready(self, reel: Reel) -> bool:
        """Whether every shot's treated picture can be shown at once."""
        made, under = self._made(), learned_under(reel)
        treated = [s for s in self.shots(reel) if s.treated]
        known = known_keys(treated, under)
        # What was worked out is looked at first: most often something is missing, or nothing.
        if any(key not in made for keys in known.values() for key in keys):
            return False
        return all(key in made for s in treated if s.id not in known for key in analysis_keys(self._data, reel, s, under))

    def ready_shot(self, reel: Reel, shot: Shot) -> bool:
        """Whether a shot's treated picture can be shown at once."""
        made = self._made()
        return all(key in made for key in analysis_keys(self._data, reel, shot, learned_under(reel)))

    def _made(self) -> set[str]:
        """The names of the analyses that are there."""
        try:
            return {path.stem for path in self._data.analyses.iterdir()}
        except FileNotFoundError:
            return set()

    def _learn_again(self, reel: Reel, shot: Shot) -> None:
        """Ask for what was learned and is gone; what failed, was stopped or is being learned is not asked for."""
        last = Task.select().where(Task.reel == reel, Task.kind == "analysis").order_by(Task.id.desc()).first()
        if self._queue is not None and (last is None or last.state == "done"):
            self._queue.put("analysis", reel, AnalysisSettings(learns=self.learns(reel, shot)))

    def known(self, reel: Reel, shot: Shot, layout: PictureFormat) -> list[Knowledge]:
        """What the steps of a shot know; raises NotReady while an analysis is missing."""
        recipe, analyses = edits.named(shot), self.analyses(reel, shot)
        if not analyses.ready(recipe):
            self._learn_again(reel, shot)
            raise NotReady("The repair is still being learned; the treated picture follows in a moment.")
        try:
            return self._keep(
                ("known", reel.id, shot.span, recipe.model_dump_json()), lambda: analyses.load(strokes.unfolded(recipe), layout)
            )
        except FileNotFoundError as error:
            self._learn_again(reel, shot)
            raise NotReady("What a repair had learned was damaged; it is being learned again.") from error

    def learned_of(self, reel: Reel, shot: Shot, at: int) -> Knowledge | None:
        """What active step `at` of a shot knows; None while that is not learned."""
        recipe, analyses = edits.named(shot), self.analyses(reel, shot)
        active = recipe.active
        if analyses.ready(recipe):
            # What the pictures are made with is at hand already, or soon wanted.
            return self.known(reel, shot, self.reader(reel).format)[at]
        path = analyses.path(active[: at + 1])
        if not path.exists():
            return None
        layout = self.reader(reel).format
        return self._keep(("learned", reel.id, path.stem, active[at].model_dump_json()), lambda: load_step(active[at], path, layout))

    def moment(self, reel: Reel, number: int) -> int:
        """The first frame of its shot that shows the same moment as frame `number`."""
        shots = self.shots(reel)
        shot = shots[place_of(shots, number)]
        return int(self.repeats(reel).within([(shot.enter, shot.leave)])[number])

    def patched(self, reel: Reel) -> NDArray[np.int64]:
        """How many places of each frame are mended in that frame alone, as far as it is known."""
        made, known = self._made(), known_keys([s for s in self.shots(reel) if s.treated], learned_under(reel))
        ready = sum(key in made for keys in known.values() for key in keys)
        return self._keep(("patched", reel.id, edits.revision(reel), ready), lambda: self._counted(reel))

    def by_hand(self, reel: Reel) -> dict[int, int]:
        """Frames that were touched by hand, with how many strokes each."""
        return self._keep(("by hand", reel.id, edits.revision(reel)), lambda: self._touched(reel))

    def _touched(self, reel: Reel) -> dict[int, int]:
        counts: dict[int, int] = {}
        for shot in self.shots(reel):
            for step in strokes.unfolded(shot.recipe).active if shot.treated else ():
                for touch in step.settings.strokes if isinstance(step.settings, RetouchSettings) else ():
                    if shot.enter <= touch.frame < shot.leave:
                        counts[touch.frame] = counts.get(touch.frame, 0) + 1
        return counts

    def _counted(self, reel: Reel) -> NDArray[np.int64]:
        counts = np.zeros(reel.frames, np.int64)
        for shot in self.shots(reel):
            if not shot.treated or not self.ready_shot(reel, shot):
                continue
            for known in self.known(reel, shot, self.reader(reel).format):
                inner = unconfined(known)
                if isinstance(inner, PatchPlan):
                    inside = [n for n in inner.table.frames[inner.chosen_rows] if shot.enter <= n < shot.leave]
                    counts += np.bincount(np.array(inside, np.int64), minlength=reel.frames)[: reel.frames]
        return counts

    def learns(self, reel: Reel, shot: Shot) -> str:
        """What the analyses of the reel's treatments are called, in short, of which at least those of one shot are worked out."""
        treated, under = [s for s in self.shots(reel) if s.treated], learned_under(reel)
        if shot.treated:
            analysis_keys(self._data, reel, shot, under)
        known = known_keys(treated, under)
        told = [" ".join(known[s.id]) if s.id in known else s.mark for s in treated]
        return hashlib.sha256("/".join(told).encode()).hexdigest()

    def treated(self, reel: Reel, source: FrameSource, number: int, window: Window | None = None) -> FrameSource:
        """`source`, the reel or a volume, with the treatment of frame `number`'s shot, at least within `window`.

        Raises NotReady while an analysis is missing.
        """
        shots = self.shots(reel)
        shot = shots[place_of(shots, number)]
        if not shot.treated:
            return source
        known = self.known(reel, shot, source.format)
        # A volume holds no repeated frame.
        repeats = None if isinstance(source, TimeVolume) else self.repeats(reel)
        if repeats is None or not repeats.repeated.any():
            return chain(source, known, shot.enter, shot.leave, window)
        passing = Passing(source)
        return RepairedOnce(chain(passing, known, shot.enter, shot.leave, window), passing, repeats.within([(shot.enter, shot.leave)]))

    def put_on(self, reel: Reel, view: str, source: FrameSource, number: int, window: Window | None = None) -> FrameSource:
        """`source`, the reel or a volume, as a view shows it: as it is, treated, or as one of a trial's ways has it.

        Raises NotReady while an analysis is missing.
        """
        if view == "treated":
            return self.treated(reel, source, number, window)
        if view == "doubtful":
            return self._doubtful(reel, source, number, window)
        if still := STILL_VIEW.fullmatch(view):
            return self._still(reel, int(still[1]), source, number)
        if plate := PLATE_VIEW.fullmatch(view):
            return self._plate(reel, int(plate[1]), int(plate[2]), source, number)
        trial = TRIAL_VIEW.fullmatch(view)
        if trial is None:
            return source
        kept = Trial.get_or_none(Trial.id == int(trial[1]), Trial.reel == reel)
        if kept is None or kept.result is None or int(trial[2]) >= len(kept.result):
            raise NotReady("The trial is not computed yet.")
        plan, recipe = Plan.model_validate(kept.plan), Computed.model_validate(kept.result[int(trial[2])]).recipe
        analyses = Analyses(self._data.analyses, computed_under(reel), plan.first, plan.stop)
        if not analyses.ready(recipe):
            raise NotReady("What the trial learned was let go of. Compute it again to look closely.")
        known = self._keep(("trial", reel.id, view, kept.task), lambda: analyses.load(strokes.unfolded(recipe), source.format))
        return chain(source, known, plan.first, plan.stop, window)

    def _doubtful(self, reel: Reel, source: FrameSource, number: int, window: Window | None) -> FrameSource:
        """`source` as it would be with all that is doubtful mended; raises NotReady where that was not tried."""
        shots = self.shots(reel)
        shot = shots[place_of(shots, number)]
        recipe, analyses = mended_too(shot), self.analyses(reel, shot)
        if recipe is None:
            return self.treated(reel, source, number, window)
        if not analyses.ready(recipe):
            raise NotReady("What mending this would do was not worked out, or is being worked out anew.")
        known = self._keep(("doubtful", reel.id, shot.span, recipe.model_dump_json()), lambda: analyses.load(recipe, source.format))
        return chain(source, known, shot.enter, shot.leave, window)

    def _still(self, reel: Reel, number_of_track: int, source: FrameSource, number: int) -> FrameSource:
        """`source`, treated as far as that is learned, laid so that a track's plane lies as in its reference."""
        shots = self.shots(reel)
        shot = shots[place_of(shots, number)]
        track = next((t for t in shot.recipe.tracks if t.id == number_of_track), None)
        if track is None:
            raise SweepError("There is no such track any more. Look at the list in Treatment.")
        if shot.treated and self.analyses(reel, shot).ready(edits.named(shot)):
            source = self.treated(reel, source, number)
        return ReframePlan(source.format, ReframeSettings(track=track.name), shot.recipe.tracks).apply(source, shot.enter, shot.leave)

    def _plate(self, reel: Reel, number_of_step: int, which: int, source: FrameSource, number: int) -> FrameSource:
        """The frame in which a step's plane lies as in its reference, with one of its plates over it, whatever frame is asked for."""
        shots = self.shots(reel)
        shot = shots[place_of(shots, number)]
        steps = shot.recipe.steps
        index = next((n for n, s in enumerate(steps) if s.id == number_of_step and s.on), None)
        if index is None:
            raise SweepError("There is no such plate any more. Look at the list in Treatment.")
        at = sum(s.on for s in steps[:index])
        known = self.known(reel, shot, source.format)
        knowledge = known[at]
        inner = unconfined(knowledge)
        if not isinstance(inner, PlatePlan) or which >= len(inner.plates):
            raise NotReady("The plate is still being made; it follows in a moment.")
        before = chain(source, known[:at], shot.enter, shot.leave)
        ridden = next((t for t in shot.recipe.tracks if steps[index].rides_on(t.name)), None)
        frame = before.frame(ridden.reference if ridden is not None else number)
        return Alone(inner.painted(before, shot.enter, shot.leave).shown(which, frame))

    def trial_proxy(self, reel: Reel, view: str) -> tuple[Proxy, int]:
        """The small pictures of one of a trial's ways, and the frame they begin with.

        Raises FileNotFoundError where there are none.
        """
        trial = TRIAL_VIEW.fullmatch(view)
        kept = Trial.get_or_none(Trial.id == int(trial[1]), Trial.reel == reel) if trial else None
        if kept is None or trial is None or kept.result is None:
            raise FileNotFoundError(view)
        path = self._data.trial(reel.id, kept.id) / f"{trial[2]}.jpegs"
        return self._keep(("small trial", reel.id, view, kept.task), lambda: Proxy(path)), int(kept.plan["first"])

    def frame(self, reel: Reel, number: int, view: str = "source", passing: bool = False, window: Window | None = None) -> Frame:
        """A native frame as a view shows it, at least within `window`.

        In a file of few key frames a frame may take seconds, and who looks for one must not wait for those passed by:
        one that is `passing` raises NotReady when others have been asked for meanwhile.
        """
        reader = self.reader(reel)
        source = self.put_on(reel, view, reader, number, window)
        with self._lock:
            turn = self._turns.setdefault(reel.id, threading.Lock())
            wanted = self._wanted.setdefault(reel.id, deque(maxlen=_WANTED))
            if passing:
                if number in wanted:
                    wanted.remove(number)
                wanted.append(number)

        def overtaken() -> bool:
            return passing and number not in wanted

        while not turn.acquire(timeout=0.05):
            if overtaken():
                raise NotReady("Another frame is wanted by now.")
        try:
            inner = reader.innermost() if isinstance(reader, WrappedReel) else reader
            inner.overtaken = overtaken
            return source.frame(number)
        except Overtaken as error:
            raise NotReady("Another frame is wanted by now.") from error
        finally:
            turn.release()

    def picture(self, reel: Reel, number: int, view: str, width: int | None = None, gain: float = 8) -> Picture:
        """A frame as a picture, (height, width, 3), blue, green, red."""
        if view == "difference":
            return difference(to_bgr(self.frame(reel, number), width), to_bgr(self.frame(reel, number, "treated"), width), gain)
        return to_bgr(self.frame(reel, number, view), width)

    def average(self, reel: Reel, shot: Shot, view: str, flat: bool, width: int) -> Picture:
        """The mean of a shot's held frames, or its flattened form."""
        volume = self.volume(reel, shot)
        if view == "treated":
            # The mean of treated frames, of as many as are quickly made.
            source = self.treated(reel, volume, shot.first)
            chosen = volume.numbers[:: max(1, len(volume.numbers) // 24)]
            mean = np.mean([to_bgr(source.frame(int(n)), width).astype(np.float32) for n in chosen], axis=0).round().astype(np.uint8)
        else:
            mean = self._keep(("average", reel.id, shot.first, shot.stop, width), lambda: to_bgr(volume.average(), width))
        return flattened(mean) if flat else mean

    def row_slice(self, reel: Reel, shot: Shot, y: int, view: str, gain: float = 8) -> Picture:
        """Row `y` of every held frame of a shot, time running down: (held, width, 3)."""
        window = Window(0, y, reel.facts.width, y + 1)
        return self._slice(reel, shot, view, gain, window, lambda frame: cut_out(frame, 0, frame.format.width, y, y + 1)[0])

    def column_slice(self, reel: Reel, shot: Shot, x: int, view: str, gain: float = 8) -> Picture:
        """Column `x` of every held frame of a shot, time running right: (height, held, 3)."""
        window = Window(x, 0, x + 1, reel.facts.height)
        strips = self._slice(reel, shot, view, gain, window, lambda frame: cut_out(frame, x, x + 1, 0, frame.format.height)[:, 0])
        return np.ascontiguousarray(strips.transpose(1, 0, 2))

    def _slice(self, reel: Reel, shot: Shot, view: str, gain: float, window: Window, cut: Callable[[Frame], Picture]) -> Picture:
        volume = self.volume(reel, shot)
        numbers = [int(n) for n in volume.numbers]
        if view == "source":
            return np.stack([cut(volume.frame(n)) for n in numbers])
        treated = self.put_on(reel, "treated" if view == "difference" else view, volume, shot.first, window)
        after = np.stack(list(parallel_map(lambda n: cut(treated.frame(n)), numbers)))
        if view != "difference":
            return after
        return difference(np.stack([cut(volume.frame(n)) for n in numbers]), after, gain)
