"""Specks and hairs of film: every frame of a shot is looked at closely, and they are told of as one family."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import replace

from ...evidence.frames_at_hand import Span
from ...evidence.moments import Moment, smaller
from ...model.findings import Finding, Note, Surveyed
from ...model.regions import Masked
from .evidence import DirtEvidence
from .family import Family, family_of
from .look_over import Found, LastingSpecks, Looked, look_over
from .shot_odds import Candidate, in_shot
from .specks import CROWDED, SURE

# Frames in which there have to be some, for them to be told of without doubt.
_ENOUGH = 3
_SHOWN = 40


class DirtWatch:
    """Looks for specks in every frame of a shot.

    Parameters
    ----------
    span : Span
        Of the shot.
    first, stop : int
        The shot's frames.
    hold_out : Region
        Where nothing is looked for.
    """

    def __init__(self, span: Span, first: int, stop: int, hold_out: Masked | None = None) -> None:
        self._count, self._first, self._stop, self._hold_out = len(span), first, stop, hold_out
        self._size = (span.source.format.height, span.source.format.width)
        self._lasting = LastingSpecks()
        self._candidates: list[Candidate] = []
        self._looked = self._crowded = 0
        self._factor = 1

    def look(self, at: Moment) -> Looked:
        """The specks of a frame; called from several threads at once."""
        return look_over(at)

    def take(self, at: Moment, seen: Looked) -> None:
        """Take in what was seen in the next frame."""
        self._factor = at.factor
        self._looked += 1
        self._crowded += seen.marked > CROWDED
        self._gather(self._lasting.take(at, seen))

    def _gather(self, told: Iterator[tuple[Moment, list[Found]]]) -> None:
        for at, found in told:
            number = at.frame.number
            held = None if self._hold_out is None else smaller(self._hold_out.mask(self._size, number), at.factor)
            kept = [one for one in found if held is None or not held[one.speck.box][one.speck.mask].any()]
            self._candidates += [one.candidate(at) for one in kept]

    def finish(self, on_progress: Callable[[float], None]) -> Surveyed:
        """The family of all that was found, if anything was."""
        if self._count < 3:
            return Surveyed([], (Note(kind="film-dirt", code="too-short"),))
        self._gather(self._lasting.finish())
        small = self._size[0] // self._factor, self._size[1] // self._factor
        sure, _ = in_shot(self._candidates, self._looked, small)
        specks = [replace(c, sure=float(p)) for c, p in zip(self._candidates, sure, strict=True) if p >= SURE]
        family = family_of(self._candidates, sure, self._looked, small)
        return Surveyed([self._told(specks, family)] if family is not None else [])

    def _told(self, seen: list[Candidate], family: Family) -> Finding:
        looked, factor = self._looked, self._factor
        frames = len({s.frame for s in seen})
        each = len(seen) / looked
        bright = sum(s.bright for s in seen) / len(seen)
        largest = factor * factor * int(max(s.evidence.area for s in seen))
        # One or two among many frames chance alone can show.
        few = frames < min(_ENOUGH, looked)
        confidence = min(family.sure, 0.45) if few else family.sure
        surest = sorted(seen, key=lambda s: -s.sure)[:_SHOWN]
        places = [(s.frame, factor * s.x, factor * s.y, round(s.sure, 2)) for s in surest]
        evidence = DirtEvidence(
            places=tuple(places),
            seen=len(seen),
            frames=frames,
            looked=looked,
            each=round(each, 3),
            in_shot=round(each * self._count),
            bright=round(bright, 3),
            contrast=round(family.contrast, 1),
            largest=largest,
            crowded=self._crowded,
            passing=family.crowds,
            again=round(family.again, 1),
            uneven=round(family.uneven, 1),
        )
        return Finding.of_picture("film-dirt", "speck-sweep", self._size, (self._first, self._stop), confidence, evidence)
