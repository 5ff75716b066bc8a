"""Findings that are like one another: of one kind, about one size, and with evidence alike."""

from __future__ import annotations

from collections.abc import Iterable, Sequence

from ..model.findings import Finding

# Times that the larger of two may be larger, and how far their figures may lie apart on the average: 0 is the same, 1 nothing in common.
_LARGER, _APART = 2.5, 0.25


def apart(one: Finding, other: Finding) -> float:
    """How far two findings are from being alike, 0 to 1; 1 for those of other kinds, or of other sizes.

    The figures of the evidence are compared one by one: each gives their difference over the sum of their sizes, which is the Canberra
    distance (Lance and Williams, "Computer programs for hierarchical polythetic classification", The Computer Journal 9, 1966).
    """
    if (one.kind, one.step) != (other.kind, other.step):
        return 1.0
    sizes = sorted(max(1, f.width) * max(1, f.height) for f in (one, other))
    if sizes[1] > _LARGER * sizes[0]:
        return 1.0
    told = [_figures(f) for f in (one, other)]
    words = [w for w in told[0][1] if w in told[1][1]]
    terms = [abs(told[0][0][name] - told[1][0][name]) / total for name in told[0][0] if (total := _total(told, name)) > 0]
    terms += [float(told[0][1][w] != told[1][1][w]) for w in words]
    return sum(terms) / len(terms) if terms else 0.0


def _total(told: Sequence[tuple[dict[str, float], dict[str, str]]], name: str) -> float:
    return abs(told[0][0][name]) + abs(told[1][0].get(name, 0.0)) if name in told[1][0] else 0.0


def _figures(finding: Finding) -> tuple[dict[str, float], dict[str, str]]:
    """The figures and the words of a finding's evidence."""
    figures, words = {"confidence": finding.confidence}, {}
    for name, value in finding.evidence:
        if isinstance(value, bool):
            continue
        if isinstance(value, int | float):
            figures[name] = float(value)
        elif isinstance(value, str) and value and name != "shared":
            words[name] = value
    return figures, words


def like(one: Finding, among: Iterable[Finding]) -> list[Finding]:
    """Those among some findings that are like one, nearest first."""
    near = sorted(((apart(one, other), n, other) for n, other in enumerate(among)), key=lambda found: found[:2])
    return [other for distance, _, other in near if distance <= _APART]
