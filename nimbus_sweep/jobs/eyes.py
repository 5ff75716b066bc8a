"""What needs eyes: the list over the reels of a job, worst first, and what is decided on it."""

from __future__ import annotations

import math
from collections import defaultdict
from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from typing import Any

from ..core.base.errors import ChangedReel, SweepError
from ..core.model.findings import JudgedFinding
from ..core.model.recipes import Recipe, Step
from ..core.model.registry import STEPS
from ..core.model.shots import Shot, Shots
from ..core.pipeline.inspection import Left, Place
from ..core.pipeline.suggestions import region_for, suggested
from ..store import edits, strokes
from ..store.models import Eye, FindingRow, Job, Reel, Run, now, writing
from ..wording.eyes import DOES
from .checks import newest_checks
from .queue import RUN, Queue
from .tasks import RunReel

# Entries that a reel has on the list: whoever looks at three has seen enough to trust it, or to open it. Of those that are alike the
# likeliest comes first, and the others behind what is unlike it.
_SHOWN = 3
# Entries of a kind that are kept for each reel, shown or not.
_MOST = 40
# How far a place has to be from its surroundings to be worth eyes, and how far is half as good as certain.
_PLACE_FROM, _PLACE_HALF = 0.6, 2.0
# How likely what a survey could not tell is trouble, by its code.
_NOTES = {"failed": 0.8, "contradicted": 0.45, "missed-cut": 0.4, "too-little-motion": 0.2, "wide-marks-missed": 0.2, "too-short": 0.15}
_KEPT_LIGHT = {"switch-kept": 0.2, "fade-kept": 0.1}


@dataclass(frozen=True)
class _Found:
    """An entry as it is found, before it is known whether it was there already."""

    key: str
    kind: str
    score: float
    family: str = ""
    shot: int = 0
    frame: int = 0
    box: tuple[int, int, int, int] = (0, 0, 0, 0)
    values: dict[str, Any] | None = None


def look_over(reel: Reel) -> int:
    """Bring the list of a reel up to date; what was decided stays decided. Gives how many entries are open."""
    reel = Reel.get_by_id(reel.id)
    found = _of_reel(reel)
    if reel.state == "ready":
        shots = edits.shots_of(reel)
        for shot, check in zip(shots, newest_checks(reel, shots), strict=True):
            if shot.use == "treat":
                checked = [] if check is None else [*_of_places(reel, shot, check.worst), *_of_left(reel, shot, check)]
                found += _worst_of([*_of_shot(reel, shot), *checked])
    with writing():
        known = {eye.key: eye for eye in Eye.select().where(Eye.reel == reel)}
        fresh = [e for e in found if e.key not in known or known[e.key].state == "open"]
        shown = _first_of(fresh)
        Eye.delete().where(Eye.reel == reel, Eye.state == "open").execute()  # type: ignore[misc]
        for entry in fresh:
            x, y, width, height = entry.box
            Eye.create(
                reel=reel,
                shot=entry.shot,
                key=entry.key,
                kind=entry.kind,
                family=entry.family,
                score=round(entry.score, 3),
                frame=entry.frame,
                x=x,
                y=y,
                width=width,
                height=height,
                values=entry.values or {},
                shown=entry.key in shown,
                remark=known[entry.key].remark if entry.key in known else "",
            )
        return len(shown)


def failed(reel: Reel, why: str) -> None:
    """Put a reel that could not be done on the list."""
    with writing():
        Eye.delete().where(Eye.reel == reel, Eye.key == "failed").execute()  # type: ignore[misc]
        Eye.create(reel=reel, key="failed", kind="failed", score=1.0, family="failed", values={"said": why})


def _first_of(found: list[_Found]) -> set[str]:
    """The keys of those that are shown: the worst, those of a family already shown behind the others."""
    ordered, families = sorted(found, key=lambda e: -e.score), set()
    ranks = []
    for place, entry in enumerate(ordered):
        ranks.append((entry.family in families, place, entry.key))
        families.add(entry.family)
    return {key for _, _, key in sorted(ranks)[:_SHOWN]}


def _worst_of(found: list[_Found]) -> list[_Found]:
    by_kind: dict[str, list[_Found]] = defaultdict(list)
    for entry in found:
        by_kind[entry.kind].append(entry)
    return [entry for some in by_kind.values() for entry in sorted(some, key=lambda e: -e.score)[:_MOST]]


def _of_reel(reel: Reel) -> list[_Found]:
    if reel.state == "refused":
        return [_Found("failed", "failed", 1.0, "failed", values={"said": reel.refusal})]
    if reel.missing and not reel.accept_missing:
        frame = reel.facts.absent[0] if reel.facts and reel.facts.absent else 0
        return [_Found("missing", "missing", 0.95, "missing", frame=frame, values={"count": reel.missing})]
    return []


def _camera(reel: Reel) -> str:
    """What reels of one camera have in common, as far as their files tell."""
    facts = reel.facts
    return f"{facts.width}x{facts.height} {facts.pixel_format} {facts.codec}" if facts else ""


def _size(width: int, height: int) -> int:
    """Sizes that are alike: each twice the one before."""
    return round(math.log2(max(1, width * height)))


def _of_shot(reel: Reel, shot: Shot) -> list[_Found]:
    found = []
    for one in shot.findings:
        box, values = (one.x, one.y, one.width, one.height), {"finding": one.id, "about": one.finding.as_json()}
        family = f"{one.kind} {_size(one.width, one.height)} {_camera(reel)}"
        if one.state == "doubtful" and not STEPS[one.step].asked_for:
            found.append(
                _Found(f"finding {one.id}", "doubtful", one.confidence, f"doubtful {family}", shot.id, _frame_of(one, shot), box, values)
            )
        elif one.state == "kept" and not one.chosen and STEPS[one.step].learns_from == "light" and one.confidence < _SURE_LIGHT:
            # A lamp that is meant to flash is light like any other.
            found.append(
                _Found(f"meant {one.id}", "meant", 1 - one.confidence, f"meant {family}", shot.id, _frame_of(one, shot), box, values)
            )
    for remark in shot.notes:
        score = {**_NOTES, **_KEPT_LIGHT}.get(remark.code)
        if score is not None:
            frame = int(remark.values.get("frame", (shot.enter + shot.leave) // 2))
            values = {"note": remark.model_dump(mode="json")}
            found.append(
                _Found(
                    f"note {shot.id} {remark.kind} {remark.code}",
                    "note",
                    score,
                    f"note {remark.kind} {remark.code}",
                    shot.id,
                    frame,
                    values=values,
                )
            )
    return found


_SURE_LIGHT = 0.9


def _frame_of(one: JudgedFinding, shot: Shot) -> int:
    """A frame that shows a finding: the surest of a family, or one in the middle."""
    if one.evidence.places:
        return int(one.evidence.places[0][0])
    frame = (max(one.first, shot.enter) + min(one.stop, shot.leave)) // 2
    return min(max(frame, shot.enter), shot.leave - 1)


def _of_places(reel: Reel, shot: Shot, worst: Iterable[Place]) -> list[_Found]:
    return [
        _Found(
            f"place {shot.id} {p.frame} {p.x} {p.y}",
            "place",
            p.score / (p.score + _PLACE_HALF),
            f"place {p.code} {_camera(reel)}",
            shot.id,
            p.frame,
            (p.x, p.y, p.width, p.height),
            {"code": p.code, "value": p.value, "why": p.why},
        )
        for p in worst
        if p.score >= _PLACE_FROM
    ]


def _of_left(reel: Reel, shot: Shot, check: Any) -> list[_Found]:
    found = []
    told: list[tuple[str, Left]] = [
        *(("left", one) for one in check.left if one.outcome == "left"),
        *(("brought", one) for one in check.brought),
    ]
    for kind, one in told:
        about = one.now or one.finding
        if about is None:
            continue
        box = (about.x, about.y, about.width, about.height)
        key = f"{kind} {shot.id} {about.kind} {about.x} {about.y}"
        values = {"about": about.as_json()}
        frame = min(max((about.first + about.stop) // 2, shot.enter), shot.leave - 1)
        score = 0.5 + 0.4 * about.confidence if kind == "brought" else 0.6 * about.confidence
        found.append(
            _Found(key, kind, score, f"{kind} {about.kind} {_size(about.width, about.height)} {_camera(reel)}", shot.id, frame, box, values)
        )
    return found


# -- what a doubtful finding would look like, mended ------------------------------------------------------


def mended_too(shot: Shot) -> Recipe | None:
    """The treatment of a shot as it would be with all that is doubtful mended; None where nothing is."""
    doubtful = [f.finding.model_copy(update={"confidence": 1.0}) for f in shot.findings if f.state == "doubtful"]
    if not doubtful:
        return None
    every = [*edits.kept(shot), *doubtful]
    recipe = shot.recipe.model_copy(update={"steps": with_steps(shot.recipe.steps, suggested(every).steps)})
    return strokes.unfolded(recipe.resolved(every))


def with_steps(steps: Sequence[Step], more: Iterable[Step]) -> tuple[Step, ...]:
    """Steps with more of kinds that are not among them, in the order that works."""
    order = list(STEPS)
    there = {s.kind for s in steps}
    return tuple(sorted([*steps, *(s for s in more if s.kind not in there)], key=lambda s: order.index(s.kind)))


# -- deciding ---------------------------------------------------------------------------------------------


def open_of(job: Job) -> Any:
    """The open entries of a job, worst first."""
    return Eye.select().join(Reel).where(Reel.job == job, Eye.state == "open", Eye.shown).order_by(Eye.score.desc(), Eye.id)


def like(eye: Eye) -> list[Eye]:
    """The other open entries of its job that are alike: of one kind, camera and size."""
    if not eye.family:
        return []
    return list(
        Eye.select()
        .join(Reel)
        .where(Reel.job == eye.reel.job_id, Eye.state == "open", Eye.family == eye.family, Eye.id != eye.id)
        .order_by(Eye.id)
    )


def decide(queue: Queue, eyes: Sequence[Eye], state: str, who: str) -> str:
    """Accept entries or leave them alone; gives what was done, in words.

    Raises
    ------
    ChangedReel
        If one of them was decided on, or what it is about is gone.
    """
    with writing():
        fresh: list[Eye] = list(Eye.select().where(Eye.id.in_([eye.id for eye in eyes])))
        if len(fresh) < len(eyes) or any(eye.state != "open" for eye in fresh):
            raise ChangedReel("Somebody decided on this meanwhile. The list shows it now.")
        batch = 1 + max((eye.batch for eye in Eye.select(Eye.batch).order_by(Eye.batch.desc()).limit(1)), default=0)
        by_reel: dict[int, list[Eye]] = defaultdict(list)
        for eye in fresh:
            by_reel[eye.reel_id].append(eye)
        for number, some in by_reel.items():
            edit = _act(queue, Reel.get_by_id(number), some, state)
            Eye.update(state=state, who=who, decided=now(), batch=batch, edit=edit).where(Eye.id.in_([e.id for e in some])).execute()
    done = DOES[fresh[0].kind][0 if state == "accepted" else 1].past
    return f"{done}{f', and {len(fresh) - 1} like it' if len(fresh) > 1 else ''}."


def _act(queue: Queue, reel: Reel, some: Sequence[Eye], state: str) -> int | None:
    """Do what decisions on entries of one reel mean to it; gives the change, if there is one."""
    kinds = {eye.kind for eye in some}
    if state == "accepted" and kinds & {"missing", "failed"}:
        Reel.update(accept_missing=True).where(Reel.id == reel.id, Reel.missing > 0).execute()
        Reel.update(state="new", refusal="").where(Reel.id == reel.id).execute()
        run = Run.select().where(Run.job == reel.job_id).order_by(Run.id.desc()).first()
        queue.put("intake" if run is None else RUN, Reel.get_by_id(reel.id), None if run is None else RunReel(run=run.id, place=_LAST))
        return None
    judged: dict[int, str] = {}
    for eye in some:
        if eye.kind in ("doubtful", "meant"):
            keeps = (state == "accepted") == (eye.kind == "doubtful")
            judged[int(eye.values["finding"])] = "kept" if keeps else "dismissed"
        elif eye.kind == "place" and state == "left":
            judged |= dict.fromkeys(_covering(reel, eye), "dismissed")
    if not judged:
        return None
    what = f"{'Kept' if 'kept' in judged.values() else 'Left alone'} {len(judged)} from the list"
    edit = edits.change(reel, what, lambda shots: _judged(shots, judged))
    return int(edit.id)


# The place in a run of a reel that is done over: behind all others.
_LAST = 1e6


def _covering(reel: Reel, eye: Eye) -> list[int]:
    """The findings whose repair lies at a place."""
    shot = next((s for s in edits.shots_of(reel) if s.id == eye.shot), None)
    x, y = eye.x + eye.width // 2, eye.y + eye.height // 2
    return [
        f.id
        for f in (shot.findings if shot else ())
        if f.state == "kept" and not f.evidence.places and f.x - 2 <= x < f.x + f.width + 2 and f.y - 2 <= y < f.y + f.height + 2
    ]


def _judged(shots: Shots, judged: dict[int, str]) -> Shots:
    made, met = [], set()
    holding = {row.shot_id for row in FindingRow.select(FindingRow.shot).where(FindingRow.id.in_(list(judged)))}
    for shot in shots:
        mine = {f.id for f in shot.findings} & judged.keys() if shot.id in holding else set()
        if mine:
            met |= mine
            findings = tuple(f.with_(state=judged[f.id], chosen=judged[f.id] == "kept") if f.id in mine else f for f in shot.findings)
            shot = shot.with_(findings=findings)
            kept = edits.kept(shot)
            kinds = {f.step for f in findings if f.id in mine and judged[f.id] == "kept" and not STEPS[f.step].asked_for}
            more = [Step.new(kind, region=region_for(kind, kept)) for kind in STEPS if kind in kinds]
            shot = shot.with_(recipe=shot.recipe.model_copy(update={"steps": with_steps(shot.recipe.steps, more)}))
        made.append(shot)
    if met != judged.keys():
        raise ChangedReel("What this is about is gone: the reel was surveyed anew meanwhile. Look the list over again.")
    return tuple(made)


def wave_through(job: Job, who: str) -> int:
    """Let everything that is left pass, by name; gives how many that were."""
    with writing():
        left = [eye.id for eye in open_of(job)]
        if not left:
            return 0
        batch = 1 + max((eye.batch for eye in Eye.select(Eye.batch).order_by(Eye.batch.desc()).limit(1)), default=0)
        Eye.update(state="waved", who=who, decided=now(), batch=batch).where(Eye.id.in_(left)).execute()
    return len(left)


def undo(job: Job) -> tuple[str, list[Reel]]:
    """Take the last decision on a job's list back; gives what to say, and the reels that were changed by it.

    Raises
    ------
    ChangedReel
        If something was changed on a reel since.
    """
    with writing():
        last = Eye.select().join(Reel).where(Reel.job == job, Eye.batch > 0).order_by(Eye.batch.desc()).first()
        if last is None:
            return "There is nothing to take back.", []
        some = list(Eye.select().join(Reel).where(Reel.job == job, Eye.batch == last.batch))
        changed = {eye.reel_id: eye.edit for eye in some if eye.edit is not None}
        for number, edit in changed.items():
            reel = Reel.get_by_id(number)
            if edits.current(reel).id != edit:
                raise ChangedReel(f"{reel.title} was changed since. Open it, and take that back there first.")
        for number in changed:
            edits.undo(Reel.get_by_id(number))
        Eye.update(state="open", who="", decided="", batch=0, edit=None).where(Eye.id.in_([e.id for e in some])).execute()
        more = f" on {len(some)}" if len(some) > 1 else ""
        return f"Taken back: the decision{more}.", [Reel.get_by_id(n) for n in changed]


def remark(eye: Eye, text: str) -> None:
    """Note something with an entry."""
    Eye.update(remark=text.strip()[:2000]).where(Eye.id == eye.id).execute()


def count_of(reel: Reel) -> int:
    """How many open entries of a reel are on the list."""
    return int(Eye.select().where(Eye.reel == reel, Eye.state == "open", Eye.shown).count())


def require_done(job: Job) -> None:
    """Raise SweepError while something on a job's list is open."""
    left = open_of(job).count()
    if left:
        raise SweepError(
            f"{left} {'thing needs' if left == 1 else 'things need'} eyes yet. Decide on the list, or wave through what is left."
        )
