"""The survey: every kind of defect is looked for in a shot, and each defect told once."""

from __future__ import annotations

import logging
from collections.abc import Callable, Iterable, Iterator, Mapping
from contextlib import contextmanager

from ..base.errors import Cancelled, Overtaken, SweepError
from ..base.failures import mark_failure
from ..evidence.shot_evidence import ShotEvidence
from ..model.findings import CONVINCES, Finding, Note, Surveyed
from ..model.kinds import DefectKind
from ..model.regions import Masked
from ..model.registry import DEFECTS

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
    found: list[Finding] = []
    notes: list[Note] = []
    for done, kind in enumerate(kinds):
        held = next((hold_outs[step] for step in kind.steps if step in hold_outs), None) if hold_outs else None
        share = (lambda part, done=done: on_progress((done + part) / len(kinds))) if on_progress else None
        with _alone(kind, evidence, notes):
            detected = kind.detect(evidence, share, held)
            found.extend(detected.findings)
            notes.extend(detected.notes)
            evidence = detected.evidence or evidence
    return Surveyed(told_apart(found), tuple(notes))


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
