"""The survey: every kind of defect is looked for in a shot, and each defect told once."""

from __future__ import annotations

import logging
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from concurrent.futures import Future, wait
from contextlib import contextmanager
from typing import Any

from ..base.errors import Cancelled, Overtaken, SweepError
from ..base.failures import mark_failure
from ..base.memory import give_back
from ..base.parallel import Tasks, cores, single_threaded_pictures
from ..evidence.frames_at_hand import Span
from ..evidence.moments import Moment, Watch, each_moment, looked_at_size
from ..evidence.shot_evidence import ShotEvidence
from ..model.findings import CONVINCES, Finding, Note, Surveyed
from ..model.kinds import DefectKind
from ..model.regions import Masked
from ..model.registry import DEFECTS
from .pace import Pace

__all__ = ["CONVINCES", "Finding", "Surveyed", "survey"]
log = logging.getLogger(__name__)


def survey(
    evidence: ShotEvidence,
    on_progress: Callable[[float], None] | None = None,
    steps: Iterable[str] | None = None,
    hold_outs: Mapping[str, Masked] | None = None,
) -> Surveyed:
    """Everything that can be found in a shot.

    Parameters
    ----------
    evidence : ShotEvidence
        Of the shot; kinds of defect that need a part of it which is not there are not looked for.
    on_progress : callable
        Told the share done, 0 to 1; may raise to stop.
    steps : iterable of str
        Kinds of step to look for work for; all when None.
    hold_outs : mapping
        For kinds of step, what is not to be looked at.
    """
    wanted = None if steps is None else set(steps)
    kinds = [k for k in DEFECTS.values() if getattr(evidence, k.needs) is not None and (wanted is None or wanted & set(k.steps))]
    held = {k.kind: next((hold_outs[s] for s in k.steps if s in hold_outs), None) if hold_outs else None for k in kinds}
    try:
        results, notes = _ShotSurvey(kinds, evidence, held).run(on_progress)
    finally:
        give_back()
    found = [f for k in kinds if k.kind in results for f in results[k.kind].findings]
    told = [n for k in kinds if k.kind in results for n in results[k.kind].notes]
    return Surveyed(told_apart(found), (*told, *notes))


# Share of the pass that its frames take; the rest is what is measured of what was found.
_FRAMES_SHARE = 0.95
# Seconds after which progress is told again, where nothing else tells it.
_TOLD_AFTER = 0.25


class _ShotSurvey:
    """A shot looked at by several detectors: those that look at it all at once beside those that watch its frames go by."""

    def __init__(self, kinds: Sequence[DefectKind], evidence: ShotEvidence, held: Mapping[str, Masked | None]) -> None:
        self._evidence, self._held = evidence, held
        self._at_once, self._watching = [k for k in kinds if k.detect is not None], [k for k in kinds if k.watch is not None]
        self._results: dict[str, Surveyed] = {}
        self._notes: list[Note] = []
        self._frames = len(evidence.frames) if self._watching and evidence.frames is not None else 0
        self._at_once_share = self._pass_share = 0.0
        self._stopped = False
        self._failure: BaseException | None = None

    def run(self, on_progress: Callable[[float], None] | None) -> tuple[dict[str, Surveyed], list[Note]]:
        """What each of them found, and what kept any from it."""
        at_once = sum(map(self._takes, self._at_once))
        pace = Pace((at_once, self._frames))

        def tell() -> None:
            if self._failure is not None:
                raise self._failure
            if on_progress is not None:
                on_progress(pace.share((self._at_once_share, self._pass_share)))

        with single_threaded_pictures(), Tasks(min(2, cores())) as tasks:
            try:
                beside = tasks.begin(self._beside, tell if cores() == 1 else None)
                if self._watching:
                    self._pass(tell)
                while not _is_done(beside, _TOLD_AFTER):
                    tell()
                beside.result()
            finally:
                # Progress is told by the caller's thread alone; what goes on in the other one is stopped there.
                self._stopped = True
        tell()
        return self._results, self._notes

    def _takes(self, kind: DefectKind) -> float:
        return kind.takes + kind.takes_a_frame * (self._evidence.stop - self._evidence.first)

    def _beside(self, tell: Callable[[], None] | None) -> None:
        try:
            self._all_at_once(tell)
        except BaseException as error:
            # A full disk, say: whoever drives the pass is told at the next frame.
            self._failure = error
            raise

    def _all_at_once(self, tell: Callable[[], None] | None) -> None:
        evidence = self._evidence

        total, before = max(1.0, sum(map(self._takes, self._at_once))), 0.0

        def share(before: float, takes: float) -> Callable[[float], None]:
            def told(part: float) -> None:
                if self._stopped:
                    raise Cancelled
                self._at_once_share = max(self._at_once_share, (before + takes * part) / total)
                if tell is not None:
                    tell()

            return told

        for kind in self._at_once:
            told = share(before, self._takes(kind))
            with _alone(kind, evidence, self._notes):
                assert kind.detect is not None
                self._results[kind.kind] = detected = kind.detect(evidence, told, self._held[kind.kind])
                evidence = detected.evidence or evidence
            told(1.0)
            before += self._takes(kind)

    def _pass(self, tell: Callable[[], None]) -> None:
        """The one pass over the frames that serves all who watch them."""
        watches: dict[str, tuple[DefectKind, Watch]] = {}
        for kind in self._watching:
            with _alone(kind, self._evidence, self._notes):
                assert kind.watch is not None
                watches[kind.kind] = kind, kind.watch(self._evidence, self._held[kind.kind])

        def look(at: Moment) -> dict[str, Any]:
            """What each sees in a frame, or the failure that kept it from that."""
            seen: dict[str, Any] = {}
            for name, (_, watch) in list(watches.items()):
                try:
                    seen[name] = watch.look(at)
                except (SweepError, Cancelled, Overtaken, MemoryError):
                    raise
                except Exception as error:
                    seen[name] = error
            return seen

        span = self._evidence.frames
        assert span is not None
        for done, (moment, seen) in enumerate(self._moments(span, look, watches), 1):
            for name, (kind, watch) in list(watches.items()):
                if not _taken(kind, watch, moment, seen.get(name), self._evidence, self._notes):
                    # One that failed does not look on.
                    del watches[name]
            self._pass_share = _FRAMES_SHARE * min(1.0, done / len(span))
            tell()
        for done, (name, (kind, watch)) in enumerate(watches.items()):

            def finishing(share: float, done: int = done) -> None:
                self._pass_share = _FRAMES_SHARE + (1 - _FRAMES_SHARE) * (done + share) / len(watches)
                tell()

            with _alone(kind, self._evidence, self._notes):
                self._results[name] = watch.finish(finishing)
        self._pass_share = 1.0

    def _moments(
        self, span: Span, look: Callable[[Moment], dict[str, Any]], watches: dict[str, tuple[DefectKind, Watch]]
    ) -> Iterator[tuple[Moment, dict[str, Any]]]:
        """The moments of a shot; a failure of what all watches share keeps every one of them from looking."""
        factor = looked_at_size(span.source.format.height, span.source.format.width)
        try:
            yield from each_moment(span, look, factor, self._evidence.noise_at(factor))
        except (SweepError, Cancelled, Overtaken, MemoryError):
            raise
        except Exception as error:
            code = mark_failure(log, f"the frames {self._evidence.first} to {self._evidence.stop - 1} could not be looked at")
            self._notes += [Note(kind=kind, code="failed", values={"error": type(error).__name__, "mark": code}) for kind in watches]
            watches.clear()


def _taken(kind: DefectKind, watch: Watch, moment: Moment, seen: Any, evidence: ShotEvidence, notes: list[Note]) -> bool:
    """Have a watch take in what it saw; whether it could."""
    with _alone(kind, evidence, notes):
        if isinstance(seen, Exception):
            raise seen
        watch.take(moment, seen)
        return True
    return False


def _is_done(task: Future[Any], seconds: float) -> bool:
    """Whether a task is done within so many seconds."""
    return bool(wait([task], seconds).done)


@contextmanager
def _alone(kind: DefectKind, evidence: ShotEvidence, notes: list[Note]) -> Iterator[None]:
    """Keep a detector's failure to itself: it is logged and told, and the others go on."""
    try:
        yield
    except (SweepError, Cancelled, Overtaken, MemoryError):
        raise
    except Exception as error:
        code = mark_failure(log, f"{kind.kind} could not be looked for in frames {evidence.first} to {evidence.stop - 1}")
        notes.append(Note(kind=kind.kind, code="failed", values={"error": type(error).__name__, "mark": code}))


def told_apart(found: list[Finding]) -> list[Finding]:
    """Each defect once: what a convincing finding of one kind explains is not told as another kind, too."""
    for kind in DEFECTS.values():
        of_kind = [f for f in found if f.kind == kind.kind and f.convinces]
        found = [f for f in found if f.kind == kind.kind or not any(kind.claims(one, f) for one in of_kind)]
    return found
