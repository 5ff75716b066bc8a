"""Scratches as findings: lines are looked for in every frame of a shot, followed through it, weighed, and what they do is measured."""

from __future__ import annotations

from collections.abc import Callable
from itertools import pairwise

import numpy as np

from ...evidence.frames_at_hand import Span
from ...evidence.moments import Moment, smaller
from ...imaging.levels import luma
from ...imaging.motion import Plane
from ...model.findings import CONVINCES, Finding, Surveyed
from ...model.regions import Masked
from .evidence import ScratchEvidence
from .lines import Line, band_means, lines, scores
from .profiles import HIDES
from .seeds import BESIDE, THERE, Known, Seed, known, where
from .sightings import Sighting, all_sighted
from .telling import WIDE, sure
from .threads import Thread, ThreadFollower

# Places of its way that are kept; how sure a line is that is told of at all.
_KEPT, _TOLD = 200, 0.1
# Share of its rows below which a line is not what it was taken for, rows of it below which too little is seen (none so short was learned
# from), and how sure it is told then at most.
_BARELY, _SHORT, _DOUBTED = 0.4, 84, 0.5
# Frames below which a line passes too quickly to be told by how it lasts; the share of its rows that has to show it then.
_BRIEF, _PLAIN = 6, 0.7
# Pixels of a picture so wide or narrower that a line has to move against the scene while it lasts, unless it begins or ends.
_STANDS = 0.6
# The same of one that begins or ends; frames before and behind it that are looked at then, and how many more of these than of its own
# it may be there in.
_SWAYS, _ABOUT, _MOSTLY = 1.5, 12, 1.5
# Widths of a line between which lies what is beside it; how much more than otherwise that changes, in codes, where a line is uncovered.
_FLANKS, _CHANGES = (4.0, 12.0), 3.0


class ScratchWatch:
    """Looks for scratches in every frame of a shot.

    Parameters
    ----------
    span : Span
        Of the shot.
    hold_out : Region
        What is not to be looked at: a line most of which lies there is none.
    """

    def __init__(self, span: Span, hold_out: Masked | None = None) -> None:
        self._span, self._hold_out = span, hold_out
        self._followers = {bright: ThreadFollower() for bright in (True, False)}
        self._numbers: list[int] = []
        self._size, self._factor = (0, 0), 1

    def look(self, at: Moment) -> list[Sighting]:
        """The lines of a frame; called from several threads at once."""
        scored, moved = scores(band_means(at.light)), None
        if len(at.beside) > 1:
            before, behind = (at.neighbour(offset).light for offset in at.beside)
            moved = scores(band_means(at.light - (before + behind) / 2))
        found = [line for bright in (True, False) for line in lines(scored, len(at.light), bright, moved)]
        if self._hold_out is not None and found:
            layout = at.frame.format
            held = smaller(self._hold_out.mask((layout.height, layout.width), at.frame.number).astype(np.float32), at.factor)
            found = [line for line in found if not _held(line, held)]
        return all_sighted(found, at)

    def take(self, at: Moment, seen: list[Sighting]) -> None:
        """Take in what was seen in the next frame."""
        self._numbers.append(at.frame.number)
        self._size, self._factor = (at.light.shape[0], at.light.shape[1]), at.factor
        for bright, follower in self._followers.items():
            follower.add(at.place, [one for one in seen if one.line.bright == bright])

    def threads(self) -> list[Thread]:
        """What lasted."""
        return [t for follower in self._followers.values() for t in follower.threads()]

    def finish(self, on_progress: Callable[[float], None]) -> Surveyed:
        """The scratches, surest first."""
        told = sorted(((sure(t, len(self._numbers), self._size), n, t) for n, t in enumerate(self.threads())), key=lambda t: (-t[0], t[1]))
        likely: list[tuple[float, Thread]] = []
        for how_sure, _, thread in told:
            if how_sure >= _TOLD and not any(thread.lies_beside(other) for _, other in likely):
                likely.append((how_sure, thread))
        findings: list[Finding] = []
        certain: list[Known] = []
        for done, (how_sure, thread) in enumerate(likely):
            on_progress(done / len(likely))
            scratch = known(self._span, self._seed(thread), certain)
            if scratch is None:
                continue
            least = _PLAIN if len(thread.frames) < _BRIEF else _BARELY
            doubted = scratch.profile.there < least or thread.rows[1] - thread.rows[0] < _SHORT or thread.ends_with_scene(self._size[0])
            if doubted or self._stands(thread, scratch, how_sure):
                how_sure = min(how_sure, _DOUBTED)
            certain += [scratch] if how_sure >= CONVINCES else []
            findings.append(_finding(thread, scratch, how_sure, self._span))
        return Surveyed(sorted(findings, key=lambda f: -f.confidence))

    def _stands(self, thread: Thread, scratch: Known, how_sure: float) -> bool:
        """Whether a line stands as an upright of the scene does: it moves as that does, and is there as long as it is not hidden."""
        scale = max(1.0, self._size[1] / WIDE)
        if thread.frames[0] == 0 and thread.frames[-1] == len(self._numbers) - 1:
            return thread.travel < _STANDS * scale
        if how_sure < CONVINCES or thread.travel >= _SWAYS * scale:
            return False
        return self._uncovered(thread, scratch) or self._beside(thread, scratch) > _MOSTLY * len(thread.frames)

    def _uncovered(self, thread: Thread, scratch: Known) -> bool:
        """Whether a line comes or goes as its surroundings do: with what hid it, or hides it."""
        first, last, count = thread.frames[0], thread.frames[-1], len(self._numbers)
        comes = [first - 1, first, first + 1, first + 2] if first > 0 and first + 2 <= last else []
        goes = [last + 1, last, last - 1, last - 2] if last < count - 1 and last - 2 >= first else []
        rows, height = scratch.rows, self._span.source.format.height
        for places in (comes, goes):
            if not places:
                continue
            middles = scratch.seed.across(self._numbers[places[1]], np.arange(rows.start, rows.stop), height)
            near, far = (w * max(1.0, scratch.profile.width) for w in _FLANKS)
            across = np.concatenate([np.arange(-far, -near), np.arange(near, far)])
            at = np.clip(np.rint(middles[:, None] + across), 0, self._span.source.format.width - 1).astype(int)
            beside = [luma(self._span.source.frame(self._numbers[k]))[np.arange(rows.start, rows.stop)[:, None], at] for k in places]
            change, *usual = (float(np.abs(a - b).mean()) for a, b in pairwise(beside))
            if change > _CHANGES * max(1.0, *usual):
                return True
        return False

    def _beside(self, thread: Thread, scratch: Known) -> int:
        """In how many of the frames about those that a line was followed in it is there, too."""
        first, last = thread.frames[0], thread.frames[-1]
        about = [*range(max(0, first - _ABOUT), first), *range(last + 1, min(len(self._numbers), last + 1 + _ABOUT))]
        height, found = self._span.source.format.height, 0
        for frame in (self._span.source.frame(self._numbers[k]) for k in about):
            light = luma(frame)
            at = scratch.seed.expected(frame.number, height)
            found += where(scratch, light, scores(band_means(light)), at, BESIDE).seen >= THERE
        return found

    def _seed(self, thread: Thread) -> Seed:
        """A thread in frames and pixels of the reel."""
        height, factor = self._span.source.format.height, self._factor
        middle = (factor - 1) / 2
        track = []
        for k in np.unique(np.linspace(0, len(thread.frames) - 1, min(_KEPT, len(thread.frames))).round().astype(int)):
            line = thread.seen[k].line
            top, bottom = (round(factor * line.at((row - middle) / factor) + middle, 2) for row in (0, height - 1))
            track.append((self._numbers[thread.frames[k]], top, bottom))
        first, stop = (min(height, row * factor) for row in thread.rows)
        width = factor * float(np.median([s.width for s in thread.seen]))
        return Seed(bright=thread.bright, track=tuple(track), rows=(first, stop), width=round(width, 3))


def _held(line: Line, held: Plane) -> bool:
    rows = np.arange(line.first, min(line.stop, len(held)))
    columns = np.clip(np.rint(line.at(rows)).astype(int), 0, held.shape[1] - 1)
    return bool((held[rows, columns] > 0).mean() > 0.5)


def _finding(thread: Thread, scratch: Known, how_sure: float, span: Span) -> Finding:
    seed, profile = scratch.seed, scratch.profile
    height, width = span.source.format.height, span.source.format.width
    top, stop = scratch.rows.start, scratch.rows.stop
    ends = np.array([[seed.across(frame, row, height) for row in (top, stop - 1)] for frame, *_ in seed.track])
    left, right = int(max(0, np.floor(ends.min() - 2))), int(min(width, np.ceil(ends.max() + 3)))
    evidence = ScratchEvidence(
        track=seed.track,
        rows=seed.rows,
        bright=thread.bright,
        seen=len(thread.frames),
        width=round(profile.width, 3),
        cover=round(profile.cover, 4),
        hides=profile.cover >= HIDES,
        there=round(profile.there, 3),
        level=round(profile.level, 2),
        lean=round(float(abs(ends[:, 1] - ends[:, 0]).mean()), 1),
        wander=round(float(np.ptp(ends.mean(1))), 1),
        travel=round(thread.travel, 1),
    )
    return Finding(
        kind="scratch",
        step="line-lift",
        x=left,
        y=top,
        width=right - left,
        height=stop - top,
        first=seed.track[0][0],
        stop=seed.track[-1][0] + 1,
        confidence=round(how_sure, 2),
        evidence=evidence,
    )
