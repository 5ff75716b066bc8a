"""A reel divided into shots, and the rules by which cuts are set, moved and taken out.

Shots follow one another without a gap from the reel's first frame to its last. Every setting belongs to a shot.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from itertools import pairwise
from typing import Any, Literal

from pydantic import ConfigDict, Field, PrivateAttr, model_validator

from ..base.errors import SweepError
from .findings import Findings, JudgedFinding, Note
from .kept import Kept
from .recipes import Recipe

HANDLES = 24
Use = Literal["treat", "leave", "exclude"]
Verdict = Literal["", "accepted", "back", "again"]


@dataclass(frozen=True)
class FoundCut:
    """A cut: `at` is the first frame behind it; `change` how much its brightness changes place by place, 0 to 255."""

    at: int
    change: float


class Shot(Kept):
    """The frames between two cuts, with all that belongs to them.

    Attributes
    ----------
    first, stop : int
        Frames `first` up to, not including, `stop`.
    enter, leave : int
        In and out point: what lies between them is treated, and delivered when shots are delivered.
    handles : int
        Frames before the in point and behind the out point that the analyses take in, so that the points may be
        moved by as much without a new analysis.
    span : tuple of int
        Frames the analyses rest on; follows the points when they leave it.
    use : str
        ``treat``; ``leave`` as is; ``exclude`` from delivery by shots, too.
    cut : str
        Who set the cut at `first`: ``start`` of the reel, ``found``, by ``hand``, from a ``list``.
    confirmed : bool
        The user has looked at the cut.
    change : float
        How much the picture changes at a cut that was found, 0 to 255.
    surveyed : float or None
        Seconds the survey took.
    notes : tuple of Note
        What the survey could not tell, and why.
    findings : Findings
    recipe : Recipe
    verdict : str
        Of the inspection: ``accepted``; sent ``back``, with a remark; marked for treating it ``again``.
    remark : str
    judged : str
        What the shot was like when that was said, in short: another mark, and it was changed since.
    judged_by : str
        Who said so.
    """

    model_config = ConfigDict(frozen=True, extra="forbid")

    first: int = Field(ge=0)
    stop: int
    enter: int = -1
    leave: int = -1
    handles: int = Field(default=HANDLES, ge=0, le=10_000)
    span: tuple[int, int] = (-1, -1)
    name: str = Field(default="", max_length=120)
    use: Use = "treat"
    cut: Literal["start", "found", "hand", "list"] = "start"
    confirmed: bool = False
    change: float = 0.0
    surveyed: float | None = None
    notes: tuple[Note, ...] = ()
    findings: Findings = Findings()
    recipe: Recipe = Recipe()
    verdict: Verdict = ""
    remark: str = Field(default="", max_length=2000)
    judged: str = ""
    judged_by: str = ""
    _mark: str = PrivateAttr(default="")

    @property
    def mark(self) -> str:
        """What it is like as it is kept: another one after each change; empty for one that is not kept so."""
        return str((self.__pydantic_private__ or {}).get("_mark", ""))

    def marked(self, mark: str) -> Shot:
        """The shot under a mark."""
        made = self.model_copy()
        made._mark = mark
        return made

    @model_validator(mode="after")
    def _ordered(self) -> Shot:
        if self.stop <= self.first:
            raise ValueError("a shot has at least one frame")
        enter = min(max(self.first, self.enter if self.enter >= 0 else self.first), self.stop - 1)
        leave = min(max(enter + 1, self.leave if self.leave >= 0 else self.stop), self.stop)
        span = self.span
        if not (self.first <= span[0] <= enter and leave <= span[1] <= self.stop):
            span = (max(self.first, enter - self.handles), min(self.stop, leave + self.handles))
        for name, value in (("enter", enter), ("leave", leave), ("span", span)):
            object.__setattr__(self, name, value)
        return self

    def with_(self, **values: Any) -> Shot:
        """A shot like this one with other values, checked."""
        made = Shot.model_validate({**{k: getattr(self, k) for k in type(self).model_fields}, **values})
        made._id = self._id
        return made

    @property
    def treated(self) -> bool:
        """Whether its treatment is put on."""
        return self.use == "treat" and any(step.on for step in self.recipe.steps)


Shots = tuple[Shot, ...]


def single_shot(frames: int) -> Shots:
    """A reel of one shot."""
    return (Shot(first=0, stop=frames),)


def divided(frames: int, cuts: Iterable[FoundCut]) -> Shots:
    """A reel divided at the cuts that were found."""
    by_frame = {c.at: c for c in cuts if 0 < c.at < frames}
    edges = [0, *sorted(by_frame), frames]
    return tuple(Shot(first=a, stop=b, cut="found" if a else "start", change=by_frame[a].change if a else 0.0) for a, b in pairwise(edges))


def place_of(shots: Sequence[Shot], frame: int) -> int:
    """Which shot a frame lies in."""
    for n, shot in enumerate(shots):
        if shot.first <= frame < shot.stop:
            return n
    raise SweepError(f"Frame {frame} lies outside the reel.")


def within(findings: Iterable[JudgedFinding], first: int, stop: int) -> tuple[JudgedFinding, ...]:
    """Those of some findings that are in frames `first` up to, not including, `stop`, cut down to these."""
    inside = (f for f in findings if f.first < stop and f.stop > first)
    return tuple(f if first <= f.first and f.stop <= stop else f.with_(first=max(first, f.first), stop=min(stop, f.stop)) for f in inside)


def add_cut(shots: Shots, at: int, by: Literal["hand", "list"] = "hand", name: str = "") -> Shots:
    """Cut before frame `at`; both parts keep the shot's treatment, and of its findings those that are in their frames."""
    n = place_of(shots, at)
    shot = shots[n]
    if shot.first == at:
        raise SweepError(f"There is a cut at frame {at} already.")
    before = shot.with_(stop=at, leave=min(shot.leave, at), findings=within(shot.findings, shot.first, at))
    behind = shot.with_(
        first=at,
        enter=max(shot.enter, at),
        cut=by,
        confirmed=True,
        change=0.0,
        name=name,
        findings=within(shot.findings, at, shot.stop),
    ).kept_as(0)
    return (*shots[:n], before, behind, *shots[n + 1 :])


def remove_cut(shots: Shots, at: int) -> Shots:
    """Take the cut before frame `at` out; the joined shot is the one before, made longer."""
    n = place_of(shots, at)
    if n == 0 or shots[n].first != at:
        raise SweepError(f"There is no cut at frame {at}.")
    one, other = shots[n - 1], shots[n]
    leave = other.leave if one.leave == one.stop else one.leave
    joined = one.with_(stop=other.stop, leave=leave, findings=_joined(one.findings, other.findings))
    return (*shots[: n - 1], joined, *shots[n + 1 :])


def _joined(one: Findings, other: Findings) -> tuple[JudgedFinding, ...]:
    """The findings of two shots that become one: what is in both, as far as it was told of alike, is one that lasts."""

    def known(f: JudgedFinding) -> tuple[object, ...]:
        return f.kind, f.x, f.y, f.width, f.height, f.state

    later = {known(f): f for f in other}
    made = []
    for f in one:
        same = later.pop(known(f), None)
        made.append(f if same is None else f.with_(first=min(f.first, same.first), stop=max(f.stop, same.stop)))
    return (*made, *(f.kept_as(0) for f in later.values()))


def move_cut(shots: Shots, at: int, to: int) -> Shots:
    """Move the cut before frame `at` to before frame `to`, between the cuts beside it."""
    n = place_of(shots, at)
    if n == 0 or shots[n].first != at:
        raise SweepError(f"There is no cut at frame {at}.")
    one, other = shots[n - 1], shots[n]
    if not one.first < to < other.stop:
        raise SweepError(f"The cut at {at} can lie between {one.first + 1} and {other.stop - 1}; {to} is beyond the next cut.")
    before = one.with_(stop=to, leave=to if one.leave == one.stop else min(one.leave, to), enter=min(one.enter, to - 1))
    behind = other.with_(first=to, enter=to if other.enter == other.first else max(other.enter, to), cut="hand", confirmed=True, change=0.0)
    return (*shots[: n - 1], before, behind, *shots[n + 1 :])


def cut_by_list(shots: Shots, cuts: Sequence[tuple[int, str]]) -> Shots:
    """Divide the reel at the cuts of a list, and nowhere else; shots that stay the same keep what they have."""
    frames = shots[-1].stop
    edges = sorted({0, *(at for at, _ in cuts if 0 < at < frames)})
    names = {at: name for at, name in cuts if name}
    made = []
    for first, stop in zip(edges, [*edges[1:], frames], strict=True):
        same = next((s for s in shots if (s.first, s.stop) == (first, stop)), None)
        cut: Literal["start", "list"] = "list" if first else "start"
        if same is not None:
            made.append(same.with_(cut=cut, confirmed=True, name=names.get(first, same.name)))
        else:
            host = shots[place_of(shots, first)]
            made.append(
                Shot(first=first, stop=stop, cut=cut, confirmed=True, name=names.get(first, ""), findings=host.findings, recipe=host.recipe)
            )
    return tuple(made)


def set_points(shot: Shot, enter: int | None = None, leave: int | None = None, handles: int | None = None) -> Shot:
    """Move the in and the out point, or change the handles."""
    new_enter = shot.enter if enter is None else enter
    new_leave = shot.leave if leave is None else leave
    if not shot.first <= new_enter < new_leave <= shot.stop:
        raise SweepError(f"In and out points lie inside the shot, {shot.first} to {shot.stop - 1}, the in point first.")
    values: dict[str, Any] = {"enter": new_enter, "leave": new_leave}
    if handles is not None:
        values |= {"handles": handles, "span": (-1, -1)}
    return shot.with_(**values)
