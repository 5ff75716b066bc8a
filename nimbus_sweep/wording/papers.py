"""What the papers of a reel say, in words."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from typing import Any

from ..core.interchange.papers import ReportedFinding, ShotCondition, TreatedStep
from ..core.model.findings import Finding
from ..core.model.recipes import Step
from ..core.model.regions import Region
from ..core.model.shots import Shot
from . import note, sentence, title


def condition_of(number: int, shot: Shot, findings: Iterable[tuple[Finding, str]]) -> ShotCondition:
    """A shot's condition, of its findings with their states; what is kept first."""
    order = {"kept": 0, "doubtful": 1, "dismissed": 2}
    ordered = sorted(findings, key=lambda pair: order.get(pair[1], 3))
    return ShotCondition(
        number=number,
        name=shot.name or f"Shot {number}",
        first=shot.first,
        last=shot.stop - 1,
        enter=shot.enter,
        leave=shot.leave - 1,
        use=shot.use,
        surveyed=shot.surveyed,
        notes=tuple(note(n) for n in shot.notes),
        findings=tuple(_evidence(n, f, state) for n, (f, state) in enumerate(ordered, start=1)),
    )


def _evidence(number: int, finding: Finding, state: str) -> ReportedFinding:
    fields = {name: getattr(finding, name) for name in ("kind", "x", "y", "width", "height", "first", "by_hand", "step")}
    return ReportedFinding(
        number=number,
        last=finding.stop - 1,
        confidence=round(finding.confidence, 3),
        state=state,
        title=title(finding),
        sentence=sentence(finding),
        **fields,
    )


def reported_step(number: int, step: Step, known: Mapping[str, Any] | None = None) -> TreatedStep:
    """A step in words: its settings by what they mean, where it acts, and what it could not do by what its analysis tells."""
    named = [v for k, v in step.settings if k in ("sites", "marks", "lines", "strokes") and isinstance(v, Sequence)]
    return TreatedStep(
        number=number,
        kind=step.kind,
        title=step.of.title,
        summary=step.of.summary,
        on=step.on,
        settings=setting_lines(step),
        where=region_in_words(step.region) or ("nowhere" if step.of.needs_region else "the whole picture"),
        kept_out=region_in_words(step.hold_out),
        acts_on=sum(map(len, named)) if named else None,
        could_not=tuple(could_not(step, known or {})),
    )


def setting_lines(step: Step) -> dict[str, str]:
    """A step's settings by what they mean; lists of marks and the like by how many they are."""
    described = {}
    for meaning, value in step.of.describe(step.settings):
        if isinstance(value, list | tuple):
            kinds = [str(v["kind"]) if isinstance(v, dict) and "kind" in v else v for v in value]
            plain = all(isinstance(v, int | float | str) for v in kinds)
            said = ", ".join(map(str, kinds)) if plain and len(value) <= 8 else f"{len(value)} named"
        elif isinstance(value, bool):
            said = "yes" if value else "no"
        elif isinstance(value, dict):
            said = "as measured"
        else:
            said = f"{value:g}" if isinstance(value, float) else str(value)
        described[meaning] = said
    return described


_SHAPES = {"ellipse": "ellipse", "outline": "outline", "stroke": "brush stroke", "picture": "mask picture"}


def region_in_words(region: Region | None) -> str:
    """A region in words; empty for none."""
    if region is None or not region.parts:
        return ""
    kinds = [_SHAPES[part.keys[0].shape.kind] for part in region.parts]
    lines = [", ".join(f"{kinds.count(k)} {k}{'s' if kinds.count(k) > 1 else ''}" for k in dict.fromkeys(kinds))]
    if keys := sum(len(part.keys) for part in region.parts if len(part.keys) > 1):
        lines.append(f"{keys} keys")
    if region.grow:
        lines.append(f"{'grown' if region.grow > 0 else 'shrunk'} by {abs(region.grow):g} px")
    if region.feather:
        lines.append(f"soft edge {region.feather:g} px")
    if region.invert:
        lines.append("inside out")
    if tracks := list(dict.fromkeys(part.track for part in region.parts if part.track)):
        lines.append(f"riding on {', '.join(tracks)}")
    return "; ".join(lines)


def could_not(step: Step, known: Mapping[str, Any]) -> list[str]:
    """What a step's analysis says it could not do."""
    said = []
    if slow := known.get("slow"):
        said.append(
            f"{_things(len(slow), 'thing')} moved too slowly to be separated from the scene and stayed, first at frame {slow[0][0]}."
        )
    if much := known.get("much"):
        said.append(f"In {_things(len(much), 'frame')} so much passed that nothing could be picked out; these were left alone.")
    if unlent := known.get("unlent"):
        said.append(
            f"In {_things(len(unlent), 'frame')} no other frame shows the place; most of it was filled from its surroundings, first in {unlent[0]}."
        )
    for n, share in enumerate(known.get("unknown") or (), start=1):
        if share > 0.002:
            said.append(f"{100 * share:.1f} % of the region of plate {n} is not visible in any frame that was used, and stayed as it was.")
    if unserved := known.get("unserved"):
        said.append(f"{_things(len(unserved), 'frame')} got no plate: the surface is off the picture there, or no plate covers them.")
    return said


def _things(count: int, what: str) -> str:
    return f"{count} {what}{'' if count == 1 else 's'}"


def left_undone(shot: Shot, states: Sequence[str], untreated: int, absent: int) -> list[str]:
    """What of a shot was left as it came, and why."""
    said = []
    if shot.use == "leave":
        said.append("The shot was left as it is.")
    if shot.use == "exclude":
        said.append("The shot was excluded.")
    if shot.use == "treat" and untreated:
        said.append(f"{_things(untreated, 'kept finding')} {'is' if untreated == 1 else 'are'} acted on by no step.")
    if doubtful := states.count("doubtful"):
        said.append(
            f"{_things(doubtful, 'finding')} too doubtful to be acted on without asking {'was' if doubtful == 1 else 'were'} left alone."
        )
    if dismissed := states.count("dismissed"):
        said.append(f"{_things(dismissed, 'finding')} {'was' if dismissed == 1 else 'were'} dismissed by hand.")
    if absent:
        said.append(f"{_things(absent, 'frame')} of it {'is' if absent == 1 else 'are'} missing from the source.")
    for step in shot.recipe.steps:
        if not step.on:
            said.append(f"{step.of.title} was switched off.")
    return said + [note(n) for n in shot.notes]
