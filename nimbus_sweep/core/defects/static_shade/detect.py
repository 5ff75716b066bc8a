"""Finds static shade: what stays on the picture while the scene moves behind it.

Pairs of frames are held against each other along the motion of the scene. Where a pixel is darker than the same
scene point elsewhere, in all pairs alike, light is lost at that pixel. What stands out is then measured on its own
(`fit`) and kept only if the two halves of its evidence agree and the scene is seen to pass behind it. What is wide and soft, a veil, is told
from the equations of all pairs together (`veil_search`). Hairs are told by how they look in the mean of all frames, too, where nothing moves (`hairs`).
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace
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
from ...imaging.motion import Plane
from ...model.findings import CONVINCES, Surveyed
from ...model.regions import Masked
from .candidates import EDGE, HAIR, Candidate, candidates, loss_map
from .fit import Proof, blurred, fit_loss, prove
from .hairs import MeanPicture, hairs, share_of
from .marks import TOO_LITTLE, ShadeMark, ShadeName, ShadeSurvey, about, as_finding
from .promise import promising
from .shade_map import ShadeMap
from .sights import PairViews, view_pairs
from .veil_search import Drawn, VeilArea, VeilSystem, drawn, search
from .veils import Veil
from .weighing import features, sureness

_PROBE_PAIRS = 12
_DOUBT = (0.05, 0.9)
_LISTED = 0.3
# Pixels across a mark from which it is looked at at half the size.
_DUST_ACROSS = 60
# Pixels across from which a mark that is no hair is compact; its share of its convex hull then, and how sure one is told at most that is not.
_COMPACT_FROM, _COMPACT, _RAGGED = 20, 0.8, 0.5
# Pixels of a box from which it is looked at at half the size, however thin what lies in it is; and samples of all pairs that are held at a time.
_WIDE, _HELD = 160_000, 4_000_000

# Share of a hair from which marks that are sure already take it up.
_MEASURED = 0.3
# Frames whose mean shows hairs: of fewer what moves is not averaged out. One frame stands for a shot that repeats it.
_AVERAGED = 8

# Told of what speaks for a candidate.
Heard = Callable[[Candidate | VeilArea, tuple[float, ...]], None]


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
        Told of what speaks for each loss of light that is measured, see `weighing.FEATURES`, and for each veil, see `veil_search.FEATURES`;
        from several threads.

    Returns
    -------
    ShadeSurvey
        Marks of confidence 0.3 and above. A shot that never moves proves nothing and gives none but hairs.
    """
    progress = on_progress or (lambda share: None)
    known = known or ShotEvidence(volume, 0, len(volume), record)
    light = known.shot_light if hold_out is None else ShotLight(volume, hold_out)
    if min(light.shape) < 32:
        return ShadeSurvey()
    noise = light.noise
    way = (known.way if hold_out is None else partial(way_of, light, noise, record))(lambda share: progress(0.05 * share))

    def paired(share: float) -> None:
        progress(0.05 + 0.25 * share)

    seen = None
    if len(light) >= 4:
        seen = known.moved_pairs(paired) if hold_out is None else moved_pairs(light, way, noise, paired)
    if seen is None:
        return _surveyed(_add_hairs([], light, way), way, noise)
    first, second = (loss_map(seen, half) for half in (0, 1))
    progress(0.32)
    found = candidates(first, second, seen.factor, light.shape)
    searched = search(seen, light.shape, lambda: progress(0.33))
    progress(0.37)
    marked = np.zeros(light.shape, np.float32)
    for c in found:
        c.mark(marked)
    found = promising(seen, first[0], second[0], found, light.shape, lambda: progress(0.38), every)
    shot = _Shot(light, way, noise, seen.moving, heard)
    del seen
    known.forget_pairs()
    progress(0.4)
    system, areas = searched or (None, [])
    if heard is not None:
        for area in areas:
            heard(area, area.told)
    areas = [area for area in areas if area.sure >= _LISTED]
    if not every:
        # What lies in a veil and is about as large is a part of it.
        found = [c for c in found if not any(area.sure >= CONVINCES and area.holds(c.over(light.shape)) for area in areas)]
    marks = _all_measured(shot, marked, found, lambda share: progress(0.4 + 0.6 * share))
    if system is not None:
        _add_veils(marks, system, areas, light, way)
    return _surveyed(_add_hairs(marks, light, way), way, noise)


def _surveyed(marks: list[ShadeMark], way: Travel, noise: float) -> ShadeSurvey:
    return ShadeSurvey(tuple(sorted(marks, key=lambda m: (-m.confidence, m.y, m.x))), way.farthest, noise)


def _all_measured(shot: _Shot, marked: Plane, found: list[Candidate], progress: Callable[[float], None]) -> list[ShadeMark]:
    """The marks that come of candidates; `marked` is 1 where any of them lies."""
    # How far each candidate has been measured: one may take seconds.
    shares = {id(c): 0.0 for c in found}

    def told(c: Candidate, share: float) -> None:
        shares[id(c)] = share
        progress(sum(shares.values()) / len(shares))

    def measured(c: Candidate) -> ShadeMark | None:
        made = _measured(shot, marked, c, partial(told, c))
        told(c, 1.0)
        return made

    # The largest go first, so that no core is left with one of them at the end.
    order = sorted(range(len(found)), key=lambda k: -found[k].box.width * found[k].box.height)
    results: dict[int, ShadeMark | None] = {}
    for k, result in zip(order, parallel_map(measured, [found[k] for k in order]), strict=True):
        results[k] = result
    marks: list[ShadeMark] = []
    for _, mark in sorted(results.items()):
        if mark is not None:
            _take_in(mark, marks)
    return marks


def _add_veils(marks: list[ShadeMark], system: VeilSystem, areas: list[VeilArea], light: ShotLight, way: Travel) -> None:
    """Add the veils of some areas; what marks that were proven take is no part of them."""
    proven = _proven(marks, light.shape)
    for area in areas:
        for made in drawn(system, area, proven):
            veil = _veil_mark(made, area.sure, system, light, way)
            if veil is not None:
                _take_in(veil, marks)


def _add_hairs(marks: list[ShadeMark], light: ShotLight, way: Travel) -> list[ShadeMark]:
    """Add the hairs that the mean of all frames shows; what the scene's motion has proven is measured better by it."""
    if 1 < len(light) < _AVERAGED:
        return marks
    picture = MeanPicture.of(light)
    taken = _proven(marks, light.shape)
    # What is held out in any frame is in the mean, too.
    unseen = np.zeros(light.shape, bool) if light.is_whole else np.any([light.usable(n) == 0 for n in range(len(light))], axis=0)
    standing = way.farthest < TOO_LITTLE
    for hair in hairs(picture):
        if hair.sure < _LISTED:
            break
        rows, cols = np.rint(hair.line.points * picture.factor).astype(int).T
        rows, cols = rows.clip(0, light.shape[0] - 1), cols.clip(0, light.shape[1] - 1)
        if taken[rows, cols].mean() > _MEASURED or unseen[rows, cols].any():
            continue
        share = share_of(hair, picture)
        outlined = _outlined(share, max(EDGE, 0.08 * float(share.max())))
        if outlined is not None:
            box = Box(0, 0, share.shape[1] * picture.factor, share.shape[0] * picture.factor, picture.factor)
            mark = _mark("hair", share, outlined, Veil(), (hair.sure_in(standing), 0.0), (0.0, 0), box, light, way)
            _take_in(replace(mark, by_looks=True), marks)
    return marks


def _proven(marks: list[ShadeMark], shape: tuple[int, int]) -> Plane:
    """1 where marks lie that are sure, and next to them."""
    proven = np.zeros(shape, np.float32)
    for mark in marks:
        if mark.confidence >= CONVINCES:
            cv2.fillPoly(proven, [np.array(mark.outline, np.int32)], 1.0)
    return np.asarray(cv2.dilate(proven, np.ones((7, 7), np.uint8)))


def _take_in(made: ShadeMark, marks: list[ShadeMark]) -> None:
    """Put a mark in the place of others that are the same, if it is surer than they are."""
    same = [m for m in marks if _same(made, m)]
    if all(m.confidence < made.confidence for m in same):
        marks[:] = [m for m in marks if m not in same] + [made]


def _same(one: ShadeMark, other: ShadeMark) -> bool:
    across = min(one.x + one.width, other.x + other.width) - max(one.x, other.x)
    down = min(one.y + one.height, other.y + other.height) - max(one.y, other.y)
    areas = one.width * one.height, other.width * other.height
    # A speck of dust may lie in a veil.
    return across > 0 and down > 0 and across * down > 0.3 * (max(areas) if "veil" in (one.kind, other.kind) else min(areas))


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
    return 2 if c.across >= _DUST_ACROSS or c.box.width * c.box.height > _WIDE else 1


def _probed(
    shot: _Shot, marked: Plane, c: Candidate, most: int, progress: Callable[[float], None] | None = None
) -> tuple[ShadeMark | None, float]:
    light = shot.light
    box = about(c.box, _looked_at_step(c))
    needed = c.across + 2.0
    seen = view_pairs(light, shot.way, box, marked, shot.noise, most, needed, fine=False, on_progress=progress)
    if seen is None:
        return None, 0.0
    inner = c.within(box)
    fit = fit_loss(seen, inner, rounds=3)
    proof = prove(seen, fit, inner)
    told = features(proof, seen, c, needed, c.at_edge(light.shape), shot.moving)
    if shot.heard:
        shot.heard(c, told)
    confidence = sureness(told)
    if confidence < _LISTED:
        return None, confidence
    share = 1 - np.exp(np.minimum(fit.loss, 0))
    return _proven_mark(share, confidence, proof, seen, box, light, shot.way), confidence


def _proven_mark(
    share: Plane, confidence: float, proof: Proof, seen: PairViews, box: Box, light: ShotLight, way: Travel
) -> ShadeMark | None:
    outlined = _outlined(share, max(EDGE, 0.08 * float(share.max())))
    if outlined is None:
        return None
    mask, size, needed, line = outlined
    # A hair is long and narrow; all else is compact.
    long = max(int(mask.any(0).sum()), int(mask.any(1).sum()))
    kind: ShadeName = "hair" if size < 0.35 * long**2 and long > 16 and needed * box.step <= HAIR else "dust"
    if kind == "dust" and needed * box.step >= _COMPACT_FROM and _solidity(line) < _COMPACT:
        # Motion that was missed is as ragged as what moves.
        confidence = min(confidence, _RAGGED)
    return _mark(kind, share, outlined, Veil(), (confidence, proof.doubt), (seen.far, round(proof.clear)), box, light, way)


def _veil_mark(made: Drawn, sure: float, system: VeilSystem, light: ShotLight, way: Travel) -> ShadeMark | None:
    outlined = _outlined(made.share, max(EDGE, 0.08 * float(made.share.max())))
    if outlined is None:
        return None
    box = Box(made.left, made.top, made.share.shape[1], made.share.shape[0])
    kind: ShadeName = "veil" if made.veil.level else "dust"
    return _mark(kind, made.share, outlined, made.veil, (sure, made.doubt), (system.far, system.pairs), box, light, way)


# A mask of one mark, its samples, how wide it is at its narrowest, in samples, and the line around it.
_Outlined = tuple[NDArray[np.uint8], int, float, NDArray[np.int32]]


def _outlined(share: Plane, edge: float) -> _Outlined | None:
    """The largest area of a map of light lost; None where there is none."""
    area = (blurred(share, 1.0) > edge).astype(np.uint8)
    count, labels, stats, _ = cv2.connectedComponentsWithStats(area, connectivity=8)
    if count < 2:
        return None
    largest = 1 + int(stats[1:, cv2.CC_STAT_AREA].argmax())
    mask = (labels == largest).astype(np.uint8)
    lines, _ = cv2.findContours(mask, cv2.RETR_EXTERNAL, cv2.CHAIN_APPROX_TC89_L1)
    line = cv2.approxPolyDP(max(lines, key=cv2.contourArea), 0.7, True)[:, 0]
    # The narrowest way past it is how far the scene must move to show what is behind.
    needed = float(2 * cv2.distanceTransform(np.pad(mask, 1), cv2.DIST_L2, 3).max() + 2)
    return mask, int(stats[largest, cv2.CC_STAT_AREA]), needed, line


def _solidity(line: NDArray[np.int32]) -> float:
    """The area within a line over that of its convex hull."""
    return cv2.contourArea(line) / max(cv2.contourArea(cv2.convexHull(line)), 1.0)


def _mark(
    kind: ShadeName,
    share: Plane,
    outlined: _Outlined,
    veil: Veil,
    told: tuple[float, float],
    seen: tuple[float, int],
    box: Box,
    light: ShotLight,
    way: Travel,
) -> ShadeMark:
    mask, _, narrow, line = outlined
    step, (far, clear), (confidence, doubt) = box.step, seen, told
    kept = 1 - share[mask > 0]
    least, mean = float(np.percentile(kept, 2)), float(kept.mean())
    rows, cols = np.flatnonzero(mask.any(1)), np.flatnonzero(mask.any(0))
    x, y, width, height = (int(v) * step for v in (cols[0], rows[0], cols[-1] + 1 - cols[0], rows[-1] + 1 - rows[0]))
    moved = max(far, float(way.from_frame(0, (box.left + x + width / 2, box.top + y + height / 2)).max()))
    needed = narrow * step
    hides = kind != "veil" and least < 0.15
    return ShadeMark(
        x=box.left + x,
        y=box.top + y,
        width=width,
        height=height,
        outline=tuple((int(px) * step + box.left, int(py) * step + box.top) for px, py in line),
        kind=kind,
        least=round(max(0.0, least), 3),
        mean=round(mean, 3),
        doubt=round(doubt, 3),
        veil=veil,
        confidence=round(float(confidence), 3),
        travel=round(moved, 1),
        needed=round(needed, 1),
        looked=clear,
        held=len(light),
        way="undo" if not hides else "borrow" if moved >= needed else "surround",
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
