"""Scores what comes back against the truth, object by object, and sums it up with intervals."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from typing import Any

import cv2
import numpy as np
from numpy.typing import NDArray

from .defects import Thing

Array = NDArray[Any]
# A thing is visible from this mean square, in codes; found when no more than a share of its error is left; worse when it grew.
VISIBLE, _FOUND, _WORSE, _SLIGHT = 36.0, 0.25, 1.1, 1.0
# Pixels about a thing that are nobody's, a change that counts, and one where the light of frames was brought into line first.
_NEAR, _CHANGED, _CHANGED_LIT = 4, 1e-3, 0.51
# Blocks each way over which light is held against the truth, and codes that keep the dark from telling too much.
_BLOCKS, _DARK = 12, 8.0
# What a survey calls each kind.
FINDINGS = {
    "light": "unsteady-light",
    "dust": "static-shade",
    "hairs": "static-shade",
    "veil": "static-shade",
    "pixels": "stuck-pixel",
    "dirt": "film-dirt",
    "scratches": "scratch",
    "cues": "cue-mark",
    "birds": "transient",
}
_TIMES = 400


def found_as(kind: str) -> str:
    """What a survey calls a kind."""
    return FINDINGS[kind.partition("-")[0]]


@dataclass
class Row:
    """What became of one kind of defect in one case.

    Attributes
    ----------
    case : dict
        Seed, scene, camera, coding, noise and what was laid in.
    kind : str
        ``sound`` for a case without any; ``failed`` where the command did not come back with a file.
    visible, found, worse : int
        Things.
    before, after : float
        PSNR inside, in dB.
    outside : float or None
        Share of the samples away from all things that were changed.
    light, left : float or None
        How unsteady light was, and which share of that is left.
    named : bool or None
        Whether the survey told of it convincingly.
    told : list of (str, float, bool)
        For the case's first row: each finding, how sure it was, and whether there was such a thing.
    """

    case: dict[str, Any]
    kind: str
    visible: int = 0
    found: int = 0
    worse: int = 0
    before: float = 0.0
    after: float = 0.0
    outside: float | None = None
    light: float | None = None
    left: float | None = None
    named: bool | None = None
    told: list[tuple[str, float, bool]] = field(default_factory=list)


def decibels(square: float) -> float:
    """PSNR of a mean square error, in dB against 255; 99 for none."""
    return 99.0 if square <= 0 else float(10 * np.log10(255**2 / square))


def unsteadiness(clip: Array, truth: Array) -> float:
    """How far the light of a clip wanders against the truth: root mean square over blocks, as a logarithm."""
    one, other = (np.stack([cv2.resize(f, (_BLOCKS, _BLOCKS), interpolation=cv2.INTER_AREA) for f in c]) for c in (clip, truth))
    level = float(np.median(other)) / max(float(np.median(one)), 1.0)
    ratio = np.log((one * level + _DARK) / (other + _DARK))
    return float((ratio - ratio.mean(0)).std())


def brought_into_line(clip: Array, truth: Array) -> Array:
    """A clip with each frame at the truth's level."""
    gain = (clip * truth).sum((1, 2)) / np.maximum((clip**2).sum((1, 2)), 1)
    return np.clip(clip * gain[:, None, None], 0, 255)


def score(
    clean: Array,
    dirty: Array,
    made: Array,
    things: Sequence[Thing],
    kinds: Sequence[str],
    told: Sequence[tuple[str, float]],
    case: dict[str, Any],
) -> list[Row]:
    """Score a case.

    Parameters
    ----------
    clean, dirty, made : ndarray, float32, (frames, height, width)
        Brightness in 8-bit codes: the truth, what was handed in, and what came back.
    things : sequence of Thing
    kinds : sequence of str
        What was laid in.
    told : sequence of (str, float)
        Findings of the survey, and how sure each was.
    case : dict
        Facts that go with each row.
    """
    present = {found_as(kind) for kind in kinds}
    judged = [(name, sure, name in present) for name, sure in told]
    names = {name for name, sure in told if sure >= 0.5}
    rows: list[Row] = []
    lit = next((k for k in kinds if k.startswith("light")), None)
    if lit:
        light = unsteadiness(dirty, clean)
        rows.append(Row(case, lit, light=light, left=unsteadiness(made, clean) / max(light, 1e-6), named=found_as(lit) in names))
        dirty, made = brought_into_line(dirty, clean), brought_into_line(made, clean)
    anywhere = np.zeros(clean.shape, bool)
    sums: dict[str, list[tuple[float, float]]] = {}
    for thing in things:
        frames = slice(thing.first, thing.stop)
        mask = thing.mask if thing.mask.ndim == 3 else np.broadcast_to(thing.mask, (thing.stop - thing.first, *thing.mask.shape))
        anywhere[frames] |= mask
        truth = clean[frames][mask]
        sums.setdefault(thing.kind, []).append((_square(dirty[frames][mask] - truth), _square(made[frames][mask] - truth)))
    away = ~np.stack([cv2.dilate(m.astype(np.uint8), np.ones((2 * _NEAR + 1,) * 2, np.uint8)) > 0 for m in anywhere])
    changed = np.abs(made - dirty) > (_CHANGED_LIT if lit else _CHANGED)
    outside = None if lit else float((changed & away).sum() / max(int(away.sum()), 1))
    for kind, errors in sums.items():
        before, after = np.array(errors).T
        seen = before > VISIBLE
        rows.append(
            Row(
                case,
                kind,
                int(seen.sum()),
                int((seen & (after < _FOUND * before)).sum()),
                int((after > _WORSE * before + _SLIGHT).sum()),
                decibels(float(before.mean())),
                decibels(float(after.mean())),
                outside,
                named=found_as(kind) in names if seen.any() else None,
            )
        )
    if not kinds:
        rows.append(Row(case, "sound", outside=outside, named=bool(names)))
    if rows:
        rows[0].told = judged
    return rows


def _square(error: Array) -> float:
    return float((error**2).mean()) if error.size else 0.0


def interval(values: Sequence[Any], of: Callable[[Array], float]) -> tuple[float, float, float]:
    """A figure over cases, and its 90 % interval, by drawing the cases again with replacement (Efron, "Bootstrap methods", 1979)."""
    cases = np.asarray(values, float)
    rng = np.random.default_rng(0)
    again = [of(cases[rng.integers(0, len(cases), len(cases))]) for _ in range(_TIMES)]
    return of(cases), float(np.quantile(again, 0.05)), float(np.quantile(again, 0.95))


def share_found(cases: Array) -> float:
    """Of cases with their visible and their found things: the share found."""
    return float(cases[:, 1].sum() / max(cases[:, 0].sum(), 1))


def table(rows: Sequence[Row]) -> str:
    """All kinds, one to a line, as Markdown."""
    lines = [
        "| kind | cases | found, of visible | 90 % interval | named | dB inside: before | after | 90 % interval | made worse | changed outside, % | light left, median | worst tenth |",
        "| --- | --- | --- | --- | --- | --- | --- | --- | --- | --- | --- | --- |",
    ]
    for kind in sorted({r.kind for r in rows}):
        lines.append(_line(kind, [r for r in rows if r.kind == kind]))
    return "\n".join(lines)


def _line(kind: str, rows: Sequence[Row]) -> str:
    named = [r.named for r in rows if r.named is not None]
    cells = [kind, str(len(rows)), "", "", f"{100 * np.mean(named):.0f} %" if named else "", "", "", "", "", "", "", ""]
    seen = [r for r in rows if r.visible]
    if seen:
        found, low, high = interval([(r.visible, r.found) for r in seen], share_found)
        cells[2] = f"{sum(r.found for r in seen)} of {sum(r.visible for r in seen)}, {100 * found:.0f} %"
        cells[3] = f"{100 * low:.0f} to {100 * high:.0f} %"
        after, low, high = interval([r.after for r in seen], lambda v: float(v.mean()))
        cells[5], cells[6], cells[7] = f"{np.mean([r.before for r in seen]):.1f}", f"{after:.1f}", f"{low:.1f} to {high:.1f}"
        cells[8] = str(sum(r.worse for r in seen))
    outside = [100 * r.outside for r in rows if r.outside is not None]
    if outside:
        cells[9] = f"{np.median(outside):.4f}, at most {max(outside):.3f}"
    # Weaker trouble is hardly seen.
    left = [r.left for r in rows if r.left is not None and (r.light or 0) >= 0.02]
    if left:
        middle, low, high = interval(left, lambda v: float(np.median(v)))
        cells[10], cells[11] = (
            f"{100 * middle:.0f} % ({100 * low:.0f} to {100 * high:.0f}), {len(left)} cases",
            f"{100 * np.quantile(left, 0.9):.0f} %",
        )
    return "| " + " | ".join(cells) + " |"


def calibration(rows: Sequence[Row]) -> str:
    """Of what was told how sure, how much was there."""
    told = [t for r in rows for t in r.told]
    lines = ["| told as sure as | findings | were there |", "| --- | --- | --- |"]
    for low in (0.1, 0.3, 0.5, 0.6, 0.7, 0.8, 0.9):
        high = 0.5 if low == 0.3 else 0.3 if low == 0.1 else low + 0.1
        true = [right for _, sure, right in told if low <= sure < high or (low == 0.9 and sure >= 1)]
        if true:
            lines.append(f"| {100 * low:.0f} to {100 * high:.0f} % | {len(true)} | {100 * np.mean(true):.0f} % |")
    return "\n".join(lines)


def weakest(rows: Sequence[Row], fewest: int = 3, most: int = 12) -> str:
    """Where most visible things are missed: by kind with scene, camera, coding and noise."""
    groups: dict[tuple[str, str, str], list[Row]] = {}
    for row in rows:
        for fact in ("scene", "camera", "coding", "noise"):
            if row.visible and fact in row.case:
                value = str(row.case[fact]).partition(" ")[0] if fact == "scene" else str(row.case[fact])
                groups.setdefault((row.kind, fact, value), []).append(row)
    missed = [
        (sum(r.visible - r.found for r in g) / sum(r.visible for r in g), sum(r.visible for r in g), key)
        for key, g in groups.items()
        if len(g) >= fewest
    ]
    lines = ["| missed | of visible | kind | where |", "| --- | --- | --- | --- |"]
    lines += [
        f"| {100 * share:.0f} % | {count} | {kind} | {fact} {value} |"
        for share, count, (kind, fact, value) in sorted(missed, reverse=True)[:most]
    ]
    return "\n".join(lines)


def worst(rows: Sequence[Row], most: int = 12) -> str:
    """The cases that went worst, with the seed that draws each again."""

    def bad(row: Row) -> float:
        return (
            row.visible - row.found + 3 * row.worse + 200 * (row.outside or 0) + 3 * (row.left or 0) + (99 if row.kind == "failed" else 0)
        )

    lines = []
    for row in sorted(rows, key=bad, reverse=True)[:most]:
        facts = ", ".join(str(row.case[k]) for k in ("scene", "camera", "coding", "defects") if k in row.case)
        told = (
            f"{row.found} of {row.visible}, {row.after:.1f} dB, {row.worse} worse"
            if row.visible
            else f"light left {100 * row.left:.0f} %"
            if row.left is not None
            else ""
        )
        lines.append(
            f"  seed {row.case.get('seed')}: {row.kind} in {facts}: {told}{f', outside {100 * row.outside:.3f} %' if row.outside else ''}"
        )
    return "\n".join(lines)
