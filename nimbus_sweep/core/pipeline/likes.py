"""Findings that are like one another: of one kind, about one size, and with evidence alike."""

from __future__ import annotations

from collections.abc import Iterable

from ..model.findings import Finding

# Times that the larger of two may be larger, and how far their figures may lie apart on the average: 0 is the same, 1 nothing in common.
_LARGER, _APART = 2.5, 0.25


def apart(one: Finding, other: Finding) -> float:
    """How far two findings are from being alike, 0 to 1; 1 for those of other kinds, or of other sizes.

    The figures of the evidence are compared one by one: each gives their difference over the sum of their sizes, which is the Canberra
    distance (Lance and Williams, "Computer programs for hierarchical polythetic classification", The Computer Journal 9, 1966).
    """
    return _distance(_figures(one), _figures(other)) if _comparable(one, other) else 1.0


def _comparable(one: Finding, other: Finding) -> bool:
    if (one.kind, one.step) != (other.kind, other.step):
        return False
    small, large = sorted(max(1, f.width) * max(1, f.height) for f in (one, other))
    return large <= _LARGER * small


def _distance(one: tuple[dict[str, float], dict[str, str]], other: tuple[dict[str, float], dict[str, str]]) -> float:
    pairs = [(a, other[0][name]) for name, a in one[0].items() if name in other[0]]
    terms = [abs(a - b) / (abs(a) + abs(b)) for a, b in pairs if a or b]
    terms += [float(a != other[1][name]) for name, a in one[1].items() if name in other[1]]
    return sum(terms) / len(terms) if terms else 0.0


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
    told = _figures(one)
    near = sorted(
        ((_distance(told, _figures(other)), n, other) for n, other in enumerate(among) if _comparable(one, other)),
        key=lambda found: found[:2],
    )
    return [other for distance, _, other in near if distance <= _APART]
