"""Finds static shade: what stays on the picture while the scene moves behind it.

Pairs of frames are held against each other along the motion of the scene. Where a pixel is darker than the same
scene point elsewhere, in all pairs alike, light is lost at that pixel; where the light changes less over time than
that of the scene points that pass, a veil lies over it. What stands out is then measured on its own
(`shade_fit`) and kept only if the two halves of its evidence agree and the scene is seen to pass behind it.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from functools import partial

import cv2
import numpy as np
from numpy.typing import NDArray

from ...base.parallel import parallel_map
from ...evidence.light_record import LightRecord
from ...evidence.moved_pairs import moved_pairs
from ...evidence.shot_evidence import ShotEvidence
from ...evidence.shot_light import ShotLight, way_of
from ...evidence.time_volume import TimeVolume
from ...evidence.travel import Travel
from ...imaging.box import Box
from ...imaging.motion import Plane, blur
from ...imaging.stack_statistics import median
from ...model.findings import CONVINCES, Surveyed
from ...model.regions import Masked
from .candidates import EDGE, HAIR, LARGE, Candidate, candidates, contrast_map, loss_map
from .fit import Proof, VeilFit, blurred, correlation, fit_loss, fit_veil, prove
from .marks import ShadeMark, ShadeName, ShadeSurvey, about, as_finding
from .promise import promising
from .shade_map import ShadeMap
from .sights import PairViews, view_pairs
from .veils import Veil
from .weighing import features, sureness

_PROBE_PAIRS = 12
_DOUBT = (0.05, 0.9)
_LISTED = 0.3
# Samples across a veil as it is looked at, about; pixels across a mark from which it is looked at at half the size; and the coarsest.
_VEIL_ACROSS, _DUST_ACROSS, _COARSEST = 60, 60, 4
# Pixels of a box from which it is looked at at half the size, however thin what lies in it is; and samples of all pairs that are held at a time.
_WIDE, _HELD = 160_000, 4_000_000

# Told of what speaks for a candidate.
Heard = Callable[[Candidate, tuple[float, ...]], None]


def find(
    volume: TimeVolume,
    on_progress: Callable[[float], None] | None = None,
    hold_out: Masked | None = None,
    record: LightRecord | None = None,
    known: ShotEvidence | None = None,
    every: bool = False,
    heard: Heard | None = None,
) -> ShadeSurvey:
    """Find the static shade of a shot.

    Parameters
    ----------
    volume : TimeVolume
    on_progress : callable
        Told the share done, 0 to 1; may raise to stop.
    hold_out : Region
        What is not looked at: neither for marks nor for what lies behind them.
    record : LightRecord
        Of the shot, where there is one: motion is told by its small pictures.
    known : ShotEvidence
        Of the shot, where what it measures serves others, too.
    every : bool
        Measure every candidate, also those that promise nothing.
    heard : callable
        Told of what speaks for each loss of light that is measured, see `weighing.FEATURES`, and of how sure a veil is; from several threads.

    Returns
    -------
    ShadeSurvey
        Marks of confidence 0.3 and above. A shot that never moves proves nothing and gives none.
    """
    progress = on_progress or (lambda share: None)
    known = known or ShotEvidence(volume, 0, len(volume), record)
    light = known.shot_light if hold_out is None else ShotLight(volume, hold_out)
    if len(light) < 4 or min(light.shape) < 32:
        return ShadeSurvey()
    noise = light.noise
    way = (known.way if hold_out is None else partial(way_of, light, noise, record))(lambda share: progress(0.05 * share))

    def paired(share: float) -> None:
        progress(0.05 + 0.25 * share)

    seen = known.moved_pairs(paired) if hold_out is None else moved_pairs(light, way, noise, paired)
    if seen is None:
        return ShadeSurvey(travel=way.farthest, noise=noise)
    maps = []
    for n, (told_by, half) in enumerate(((loss_map, 0), (loss_map, 1), (contrast_map, 0), (contrast_map, 1))):
        maps.append(told_by(seen, half))
        progress(0.3 + 0.02 * n)
    first, second = maps[:2]
    found, large = (candidates(maps[k], maps[k + 1], seen.factor, k > 0, light.shape) for k in (0, 2))
    progress(0.37)
    marked = np.zeros(light.shape, np.float32)
    for c in found:
        c.mark(marked)
    found, large = (promising(seen, first[0], second[0], kind, light.shape, lambda: progress(0.38), every) for kind in (found, large))
    shot = _Shot(light, way, noise, seen.moving, heard)
    del seen
    known.forget_pairs()
    progress(0.4)
    # How far each candidate has been measured: one may take seconds.
    shares = {id(c): 0.0 for c in (*found, *large)}

    def told(c: Candidate, share: float) -> None:
        shares[id(c)] = share
        progress(0.4 + 0.6 * sum(shares.values()) / len(shares))

    marks: list[ShadeMark] = []

    def measured(c: Candidate) -> ShadeMark | None:
        mask = marked
        if c.veil:
            mask = proven.copy()
            c.mark(mask)
        made = _measured(shot, mask, c, partial(told, c))
        told(c, 1.0)
        return made

    for stage in (found, large):
        # Veils are looked at beside the marks that were proven, not beside every suspicion.
        proven = np.zeros(light.shape, np.float32)
        for mark in marks:
            cv2.fillPoly(proven, [np.array(mark.outline, np.int32)], 1.0)
        proven = cv2.dilate(proven, np.ones((7, 7), np.uint8))
        asked = stage if stage is found else [c for c in stage if not any(m.confidence >= 1 and c.is_taken(m) for m in marks)]
        # The largest go first, so that no core is left with one of them at the end.
        order = sorted(range(len(asked)), key=lambda k: -asked[k].box.width * asked[k].box.height)
        results: dict[int, ShadeMark | None] = {}
        for k, result in zip(order, parallel_map(measured, [asked[k] for k in order]), strict=True):
            results[k] = result
        for c in stage:
            told(c, 1.0)
        for _, made in sorted(results.items()):
            if made is not None:
                same = [m for m in marks if _same(made, m)]
                if all(m.confidence < made.confidence or (made.kind == "veil" and m.confidence < CONVINCES) for m in same):
                    marks = [m for m in marks if m not in same] + [made]
    return ShadeSurvey(tuple(sorted(marks, key=lambda m: (-m.confidence, m.y, m.x))), way.farthest, noise)


def _same(one: ShadeMark, other: ShadeMark) -> bool:
    across = min(one.x + one.width, other.x + other.width) - max(one.x, other.x)
    down = min(one.y + one.height, other.y + other.height) - max(one.y, other.y)
    # The soft skirt of a veil is no veil of its own.
    share = 0.02 if one.kind == other.kind == "veil" else 0.3
    return across > 0 and down > 0 and across * down > share * min(one.width * one.height, other.width * other.height)


@dataclass(frozen=True)
class _Shot:
    """What candidates are measured in: its light, the camera's way, the noise, how much of the picture moves, and who is told."""

    light: ShotLight
    way: Travel
    noise: float
    moving: float
    heard: Heard | None


def _measured(shot: _Shot, marked: Plane, c: Candidate, progress: Callable[[float], None]) -> ShadeMark | None:
    """Measure a candidate; where few pairs leave doubt, with more."""
    made, sure = _probed(shot, marked, c, _PROBE_PAIRS, lambda share: progress(0.3 * share))
    height, width = about(c.box, _looked_at_step(c)).shape
    most = min(4 * _PROBE_PAIRS, _HELD // (height * width))
    if _DOUBT[0] < sure < _DOUBT[1] and most > _PROBE_PAIRS:
        made, _ = _probed(shot, marked, c, most, lambda share: progress(0.3 + 0.7 * share))
    return made


def _looked_at_step(c: Candidate) -> int:
    """How many times smaller a candidate is looked at: the larger it is, the softer."""
    if c.veil:
        return max(1, min(_COARSEST, c.narrow // _VEIL_ACROSS))
    return 2 if c.across >= _DUST_ACROSS or c.box.width * c.box.height > _WIDE else 1


def _probed(
    shot: _Shot, marked: Plane, c: Candidate, most: int, progress: Callable[[float], None] | None = None
) -> tuple[ShadeMark | None, float]:
    light, heard = shot.light, shot.heard
    box = about(c.box, _looked_at_step(c))
    needed = (c.narrow if c.veil else c.across) + 2.0
    seen = view_pairs(light, shot.way, box, marked, shot.noise, most, needed, fine=False, on_progress=progress)
    if seen is None:
        return None, 0.0
    inner = c.within(box)
    moves = _moves(seen, needed)
    veil, sure = _veil(seen, inner, c) if moves else None, 0.0
    if veil is not None:
        # A veil has no sharp edge to go by: the scene must come clear of it, and at the edge of the picture it seldom does.
        sure = _veil_confidence(veil, inner, seen, c.at_edge(light.shape)) * moves * _rise(seen.far / needed, 0.5, 0.9)
    if c.veil and heard:
        heard(c, (sure,))
    if c.veil and not sure:
        return None, 0.0
    fit = fit_loss(seen, inner, rounds=3)
    proof = prove(seen, fit, inner)
    kind: ShadeName = "dust"
    share, laid = 1 - np.exp(np.minimum(fit.loss, 0)), Veil()
    told = features(proof, seen, c, needed, c.at_edge(light.shape), shot.moving)
    if heard and not c.veil:
        heard(c, told)
    confidence = sureness(told)
    if veil is not None and (sure > (0.5 if c.veil or proof.follows < 0.8 else max(confidence, 0.7)) or (c.veil and sure >= confidence)):
        kind, share, confidence = "veil", veil.share, sure
        laid = Veil(0.0, 0.0, veil.level)
    if (c.veil and kind != "veil") or confidence < _LISTED:
        return None, confidence
    return _proven_mark(kind, share, laid, confidence, proof, seen, box, light, shot.way), confidence


def _veil(seen: PairViews, inner: Plane, c: Candidate) -> VeilFit | None:
    if c.narrow < LARGE:
        return None
    fit = fit_veil(seen, inner, rounds=6)
    return fit if fit is not None and 0 < fit.level < 300 else None


def _rise(value: float, low: float, high: float) -> float:
    return min(1.0, max(0.0, (value - low) / (high - low)))


def _soft(share: Plane) -> float:
    """How far a map is from its own smoothed form, against its height."""
    core = share > 0.3 * share.max()
    return float(np.abs(share - blur(share, 0.04 * max(share.shape)))[core].mean() / max(float(share.max()), 1e-3))


def _moves(seen: PairViews, needed: float) -> float:
    """How sure it is that the scene passes behind a mark, and far enough."""
    return _rise(seen.passing, 0.75, 0.95) * _rise(seen.far, 8, 20) * _rise(seen.far / needed, 0.3, 0.6)


def _veil_confidence(veil: VeilFit, inner: Plane, seen: PairViews, edge: bool) -> float:
    inside = inner > 0.5
    first, second = (blurred(h, max(veil.smooth, 1.5)) for h in veil.halves)
    if inside.sum() < 9 or veil.share.max() < 0.08:
        return 0.0
    agree = correlation(first[inside], second[inside])
    ring = (cv2.dilate(inner, np.ones((21, 21), np.uint8)) > 0.5) & ~inside
    usual = float(np.sqrt(np.mean(((first + second) / 2)[ring] ** 2))) if ring.any() else 1.0
    core = inside & (veil.share > 0.5 * veil.share.max())
    if not core.any():
        return 0.0
    clear = (1 - np.clip(seen.carried(inner), 0, 1)) * (seen.weight > 6)
    sure = _rise(float(veil.share.max()), 0.06, 0.15) * _rise(agree, *((0.9, 0.99) if edge else (0.6, 0.9)))
    sure *= _rise(-_soft(veil.share), -0.2, -0.12)
    sure *= _rise(float(clear.sum(0)[core].mean()), 0.8, 2.5) * _rise(float(veil.share.max()) / max(usual, 0.005), 3, 8)
    # Only broad light is drawn towards the veil's own; how its fine detail fares is not looked at.
    broad = max(2.0, 0.03 * max(inner.shape))
    own, scene = (np.stack([blurred(p, broad) for p in stack])[:, core] for stack in (seen.at_mark, seen.scene))
    weight = (seen.weight * clear)[:, core]
    # What one half learned must explain the other; who walks by is no part of it, so the middle of all pairs counts.
    usable = weight > 6
    misses = np.zeros_like(own)
    left = 0.0
    for half in (0, 1):
        tested = seen.half == half
        share = np.clip(blurred(veil.halves[1 - half], max(veil.smooth, 1.0)), 0, 0.95)[core]
        misses[tested] = own[tested] - scene[tested] + share * (scene[tested] - veil.level)
        counted = usable & tested[:, None]
        if not counted.any():
            return 0.0
        left = max(left, float(np.median(np.abs(misses[counted])) / max(np.median(np.abs((own - scene)[counted])), 1e-6)) ** 2)
    sure *= _rise(-left, -0.7, -0.4)
    # The scene is seen to change through it.
    spread = 1.4826 * median(np.abs(misses)) + 0.5
    weight = weight / (1 + (misses / (2 * spread)) ** 2) ** 2
    total = np.maximum(weight.sum(0), 1e-9)
    lives, passes = own - (weight * own).sum(0) / total, scene - (weight * scene).sum(0) / total
    power = np.sqrt(float((weight * lives * lives).sum()) * float((weight * passes * passes).sum()))
    return round(sure * _rise(float((weight * lives * passes).sum()) / max(power, 1e-9), 0.5, 0.75), 3)


def _proven_mark(
    kind: ShadeName, share: Plane, veil: Veil, confidence: float, proof: Proof, seen: PairViews, box: Box, light: ShotLight, way: Travel
) -> ShadeMark | None:
    area = (blurred(share, 1.0) > max(EDGE, 0.08 * float(share.max()))).astype(np.uint8)
    count, labels, stats, _ = cv2.connectedComponentsWithStats(area, connectivity=8)
    if count < 2:
        return None
    largest = 1 + int(stats[1:, cv2.CC_STAT_AREA].argmax())
    mask = (labels == largest).astype(np.uint8)
    x, y, width, height, size = (int(v) for v in stats[largest])
    step = box.step
    lines, _ = cv2.findContours(mask, cv2.RETR_EXTERNAL, cv2.CHAIN_APPROX_TC89_L1)
    line = cv2.approxPolyDP(max(lines, key=cv2.contourArea), 0.7, True)[:, 0]
    kept = 1 - share[mask > 0]
    # The narrowest way past it is how far the scene must move to show what is behind.
    needed = float(2 * cv2.distanceTransform(np.pad(mask, 1), cv2.DIST_L2, 3).max() + 2) * step
    # A hair is long and narrow; all else is compact.
    if kind == "dust" and size < 0.35 * max(width, height) ** 2 and max(width, height) > 16 and needed <= HAIR:
        kind = "hair"
    elif kind == "veil":
        hull = cv2.contourArea(cv2.convexHull(max(lines, key=cv2.contourArea)))
        confidence *= _rise(size / max(hull, size, 1.0), 0.55, 0.8)
    least, mean = float(np.percentile(kept, 2)), float(kept.mean())
    x, y, width, height = (v * step for v in (x, y, width, height))
    middle = (box.left + x + width / 2, box.top + y + height / 2)
    moved = max(seen.far, float(way.from_frame(0, middle).max()))
    if kind == "veil":
        # As wide as it has turned out, not as it was looked for; and freer to fit than a loss of light, so of less weight.
        confidence *= confidence * _rise(moved / needed, 0.5, 0.9)
    if confidence < _LISTED:
        return None
    hides = kind != "veil" and least < 0.15
    mended = "undo" if not hides else "borrow" if moved >= needed else "surround"
    return ShadeMark(
        x=box.left + x,
        y=box.top + y,
        width=width,
        height=height,
        outline=tuple((int(px) * step + box.left, int(py) * step + box.top) for px, py in line),
        kind=kind,
        least=round(max(0.0, least), 3),
        mean=round(mean, 3),
        veil=veil,
        confidence=round(float(confidence), 3),
        travel=round(moved, 1),
        needed=round(needed, 1),
        looked=round(proof.clear),
        held=len(light),
        way=mended,
        map=_map_of(share, mask, box, veil),
    )


def _map_of(share: Plane, mask: NDArray[np.uint8], box: Box, veil: Veil) -> ShadeMap:
    """The mark's map, with a little room."""
    room = cv2.dilate(mask, np.ones((7, 7), np.uint8))
    rows, cols = np.flatnonzero(room.any(1)), np.flatnonzero(room.any(0))
    part = (share * room)[rows[0] : rows[-1] + 1, cols[0] : cols[-1] + 1]
    if box.step > 1:
        part = cv2.resize(part, None, fx=box.step, fy=box.step, interpolation=cv2.INTER_LINEAR)
    return ShadeMap.of(part, box.left + int(cols[0]) * box.step, box.top + int(rows[0]) * box.step, veil)


def surveyed(
    volume: TimeVolume,
    first: int,
    stop: int,
    on_progress: Callable[[float], None] | None = None,
    hold_out: Masked | None = None,
    record: LightRecord | None = None,
    known: ShotEvidence | None = None,
) -> Surveyed:
    """The static shade of a shot as findings, surest first, and what its motion did not let tell."""
    found = find(volume, on_progress, hold_out, record, known)
    return Surveyed([as_finding(mark, first, stop) for mark in found.marks], found.notes)
