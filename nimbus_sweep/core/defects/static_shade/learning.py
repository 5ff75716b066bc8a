"""How one mark is taken off: its share of the light, what it lays over the picture, what it hides."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import replace

import cv2
import numpy as np

from ...evidence.shot_light import ShotLight
from ...evidence.time_volume import TimeVolume
from ...evidence.travel import Travel
from ...imaging.box import Box
from ...imaging.grain import Grain, measure
from ...imaging.light import light_of
from ...imaging.motion import Plane, blur
from ...media.frames import PictureFormat, Samples
from .fit import LossFit, blurred, detail_through, fit_loss, fit_veil
from .shade_map import ShadeMap
from .shade_plan import KEPT, LEAST, LOST, MarkPlan, ShadeSeed, Way, scaled
from .sights import PairViews, view_pairs
from .veils import Veil, raised_by, undone

_PAIRS = 60
# Pixels of a box up to which all of them are looked at.
_AREA = 30_000
ROOM = 6
# By how much less has to be left over by another account of a veil than by the survey's.
_CLEARER = 0.85
# Of its depth, what is the core of a mark; and how far its soft edge goes beyond that, in pixels and in half widths of the core.
_CORE, _SKIRT = 0.15, (2.5, 0.5)
# Wider marks, in pixels, are seldom opaque: no more room is kept to borrow from.
_WIDE = 80
# Light, in codes above black, below which what a mark leaves is not given back.
_NIGHT = 3.0


def grain_of_component(volume: TimeVolume, index: int) -> Grain:
    component = volume.format.components[index]
    stack = volume.component_stack(index)
    return measure([light_of(stack[n], component, volume.colour) for n in range(0, len(stack), max(1, len(stack) // 5))])


def lies_on(mark: ShadeSeed, layout: PictureFormat) -> bool:
    left, top, right, bottom = mark.box()
    return right > 0 and bottom > 0 and left < layout.width and top < layout.height


def plan_of(
    volume: TimeVolume, light: ShotLight, way: Travel, noise: float, marked: Plane, mark: ShadeSeed, wanted: Way
) -> tuple[MarkPlan | None, float]:
    left, top, right, bottom = mark.box()
    mask = np.zeros(light.shape, np.float32)
    cv2.fillPoly(mask, [np.array(mark.outline, np.int32)], 1.0)
    narrow = 2 * float(cv2.distanceTransform(mask.astype(np.uint8), cv2.DIST_L2, 3).max()) + 2
    room = int(max(32, min(max(right - left, bottom - top) // 2, 48), 1.6 * narrow if mark.kind != "veil" and narrow <= _WIDE else 0)) + 16
    box = _inside(left - room, top - room, right + room, bottom + room, volume.format)
    inner = box.cut(cv2.dilate(mask, cv2.getStructuringElement(cv2.MORPH_ELLIPSE, (2 * ROOM + 1, 2 * ROOM + 1))))
    share, veil, hidden, left_over, dark = np.zeros(box.shape, np.float32), Veil(), box.cut(mask), 0.0, False
    # Large marks are soft: what fewer pairs leave of noise is smoothed away.
    most = max(_PAIRS // 3, round(_PAIRS * min(1.0, _AREA / (box.width * box.height)))) if wanted in ("auto", "undo") else _PAIRS // 6
    seen = view_pairs(light, way, box, marked, noise, most, narrow + 2 * ROOM, across=narrow)
    rest = seen.rest if seen is not None else np.inf
    if wanted in ("auto", "undo"):
        measured = _measured(seen, inner, light, box, mark) if seen is not None and not mark.by_looks else None
        if measured is None and mark.known is not None:
            share, veil = box.cut(mark.known.on(light.shape)), mark.known.veil
            share = np.where(share > LEAST, share, 0).astype(np.float32)
            hidden = np.clip((KEPT - 1 + share) / (KEPT - LOST), 0, 1).astype(np.float32)
        elif measured is not None and seen is not None:
            share, veil = measured
            if veil.level:
                veil = replace(veil, tint=_tint(volume, seen, box, share, veil))
            # Noise would be left by the best of repairs: the mean distance of two frames of it.
            noisy = 2 / np.sqrt(np.pi) * min(rest, 1e3)
            left_over = max(0.0, _error(seen, share, veil) - noisy) / max(_error_as_is(seen, share) - noisy, 0.5)
            hidden = np.clip((KEPT - 1 + share) / (KEPT - LOST), 0, 1).astype(np.float32)
            # Soft to the outside only: what is hidden stays hidden, however thin it is.
            hidden = np.maximum(hidden, blurred(hidden, 0.7))
            # So little is left of so little light that giving it back would bring up steps and noise.
            behind = float(np.median(seen.scene[:, share > 0.5 * share.max()]))
            dark = wanted == "auto" and veil == Veil() and behind * max(KEPT, 1 - float(share.max())) < _NIGHT
            if dark:
                hidden = np.clip(share / (4 * LEAST), 0, 1).astype(np.float32)
        elif wanted == "undo" or mark.kind == "veil":
            # What cannot be measured is left alone rather than guessed at.
            return None, rest
    else:
        hidden = np.maximum(hidden, blurred(hidden, 1.0))
    if wanted == "undo":
        hidden = np.zeros_like(share)
    if not (share.any() or hidden.any()):
        return None, rest
    middle = (box.left + box.width / 2, box.top + box.height / 2)
    moved = float(way.from_frame(0, middle).max())
    borrows = bool(hidden.any()) and wanted != "surround" and moved >= narrow
    lent = tuple(_lent_planes(volume, box)) if borrows else ()
    if not hidden.any():
        box, share = _trimmed_to(box, share, 8 + round(3 * veil.blur), volume.format)
        hidden = np.zeros_like(share)
    return MarkPlan(box.left, box.top, share, hidden.astype(np.float32), veil, narrow, borrows, lent, left_over, dark), rest


def _inside(left: int, top: int, right: int, bottom: int, layout: PictureFormat) -> Box:
    """A box on the picture whose edges lie on whole chroma cells."""
    across = max(layout.subsampling(i)[0] for i in range(len(layout.components)))
    down = max(layout.subsampling(i)[1] for i in range(len(layout.components)))
    left, top = max(0, left) // across * across, max(0, top) // down * down
    right, bottom = min(layout.width, -(-right // across) * across), min(layout.height, -(-bottom // down) * down)
    return Box(left, top, right - left, bottom - top)


def _trimmed_to(box: Box, share: Plane, room: int, layout: PictureFormat) -> tuple[Box, Plane]:
    """The part of the box that the mark and what its undoing looks at take up."""
    rows, cols = np.flatnonzero(share.any(1)), np.flatnonzero(share.any(0))
    left, top = box.left + int(cols[0]), box.top + int(rows[0])
    small = _inside(left - room, top - room, box.left + int(cols[-1]) + 1 + room, box.top + int(rows[-1]) + 1 + room, layout)
    part = share[small.top - box.top : small.top - box.top + small.height, small.left - box.left : small.left - box.left + small.width]
    if part.shape != (small.height, small.width):
        return box, share
    return small, np.ascontiguousarray(part)


def _lent_planes(volume: TimeVolume, box: Box) -> Iterator[Samples]:
    for i, component in enumerate(volume.format.components):
        across, down = volume.format.subsampling(i)
        rows = slice(box.top // down, min(component.height, -(-(box.top + box.height) // down)))
        cols = slice(box.left // across, min(component.width, -(-(box.left + box.width) // across)))
        yield np.ascontiguousarray(volume.component_stack(i)[:, rows, cols])


def _measured(seen: PairViews, inner: Plane, light: ShotLight, box: Box, mark: ShadeSeed) -> tuple[Plane, Veil] | None:
    """The share of light a mark takes and what it lays over it; of a mark of any kind, what explains it best."""
    made = [_dust(seen, inner)] if mark.kind != "veil" else []
    if mark.kind in ("veil", "any"):
        made.append(_veil(seen, inner, light, box))
    known = _known(seen, mark.known, light, box) if mark.kind == "veil" and mark.known is not None else None
    fits = [(_error(seen, *m), m) for m in made if m is not None]
    if known is not None:
        # What the whole picture tells holds also where hardly anything came clear of it.
        fits.append((_CLEARER * _error(seen, *known), known))
    return min(fits, key=lambda one: one[0])[1] if fits else None


def _known(seen: PairViews, known: ShadeMap, light: ShotLight, box: Box) -> tuple[Plane, Veil] | None:
    """A veil as the survey drew it; None where it does not help."""
    share = box.cut(known.on(light.shape))
    share = np.where(share > LEAST, share, 0).astype(np.float32)
    return (share, known.veil) if share.any() and _helps(seen, share, known.veil) else None


def _dust(seen: PairViews, inner: Plane) -> tuple[Plane, Veil] | None:
    fit = fit_loss(seen, inner)
    share = _trimmed(1 - np.exp(np.minimum(fit.loss, 0)), _doubt(fit), inner)
    if not share.any() or not _helps(seen, share, Veil()):
        return None
    return share, Veil()


def _doubt(fit: LossFit) -> Plane:
    """Standard deviation of the smoothed loss, from how far its halves differ."""
    first, second = (blurred(h, fit.smooth) for h in fit.halves)
    return np.sqrt(blur((first - second) ** 2 / 4, 3.0)) + np.float32(1e-4)


def _trimmed(share: Plane, doubt: Plane, inner: Plane, least: float = LEAST) -> Plane:
    """The share of light lost where it is surely a loss: above what its doubt may feign, and part of the mark."""
    sure = (share > np.maximum(least, 2 * doubt)) & (inner > 0)
    # Its soft edge goes no further than a mark of its width has one: what lies beyond is noise that joins on.
    core = sure & (share > _CORE * float(share.max(initial=0)))
    half = float(cv2.distanceTransform(np.pad(core, 1).astype(np.uint8), cv2.DIST_L2, cv2.DIST_MASK_PRECISE).max())
    away = cv2.distanceTransform((~core).astype(np.uint8), cv2.DIST_L2, cv2.DIST_MASK_PRECISE)
    sure &= away <= _SKIRT[0] + _SKIRT[1] * half
    count, labels = cv2.connectedComponents(sure.astype(np.uint8), connectivity=8)
    weights = np.bincount(labels.ravel(), share.ravel(), count)
    weights[0] = 0
    kept = np.isin(labels, np.flatnonzero(weights > 0.15 * weights.max())) & sure
    return np.where(kept, share, 0).clip(0, 1).astype(np.float32)


def _veil(seen: PairViews, inner: Plane, light: ShotLight, box: Box) -> tuple[Plane, Veil] | None:
    fit = fit_veil(seen, inner)
    if fit is None or not 0 < fit.level < 300:
        return None
    first, second = (blurred(h, max(fit.smooth, 1.5)) for h in fit.halves)
    doubt = np.sqrt(blur((first - second) ** 2 / 4, 4.0)) + np.float32(1e-4)
    share = _trimmed(fit.share, doubt, inner, 3 * LEAST)
    if not share.any():
        return None
    plain = Veil(0.0, 0.0, fit.level)
    best, left = (share, plain), _error(seen, share, plain)
    around = (cv2.dilate(inner, np.ones((31, 31), np.uint8)) > 0.5) & (inner < 0.5)
    gain, spread = detail_through(seen, fit, around.astype(np.float32) * box.on(light.shape))
    tried = {(gain, spread)} | {(g, b) for g in (0.2, 0.4, 0.6) for b in (2.5, 6.0)}
    for g, b in tried:
        a = share / (1 - g)
        if b and g and float(a.max()) < 0.85:
            veil = Veil(g, b, fit.level * (1 - g))
            error = _error(seen, a, veil)
            if error < 0.97 * left:
                best, left = (a, veil), error
    return best if _helps(seen, *best) else None


def _tint(volume: TimeVolume, seen: PairViews, box: Box, share: Plane, veil: Veil) -> tuple[float, ...]:
    """The light a veil lays over each component: what a robust fit of its own samples on the scene's leaves over."""
    levels = []
    for index, component in enumerate(volume.format.components):
        if component.name in ("Y", "A") or (veil.power != 1 and not component.is_chroma):
            levels.append(veil.level)
            continue
        cells = volume.format.subsampling(index)
        stack = volume.component_stack(index)
        rows, cols = (
            slice(at // c, -(-(at + size) // c)) for at, size, c in ((box.top, box.height, cells[1]), (box.left, box.width, cells[0]))
        )
        a = scaled(share, cells)
        core = a > 0.3 * a.max()
        misses, weights, drawn = [], [], []
        for n in range(0, len(seen), max(1, len(seen) // 24)):
            one, other = (light_of(stack[k], component, volume.colour) for k in seen.frames[n])
            corner = np.array([box.left + 0.5, box.top + 0.5])
            at = (cv2.resize(seen.at[n], a.shape[::-1], interpolation=cv2.INTER_AREA) + corner) / cells - 0.5
            scene = cv2.remap(other, at.astype(np.float32), None, cv2.INTER_LINEAR, borderMode=cv2.BORDER_REPLICATE)
            covered = cv2.remap(share, seen.at[n], None, cv2.INTER_LINEAR, borderMode=cv2.BORDER_CONSTANT)
            passes = 1 - a * (1 - veil.gain) if veil.power == 1 else 1 / scaled(_raised(seen.at_mark[n], share, veil), cells)
            misses.append((one[rows, cols] - scene * passes)[core])
            weights.append(scaled(seen.weight[n] * (covered < 0.02), cells)[core])
            drawn.append(a[core])
        miss, weight, lever = (np.concatenate(v) for v in (misses, weights, drawn))
        level = 0.0
        for _ in range(8):
            left = np.abs(miss - lever * level)
            scale = 1.4826 * float(np.median(left)) + 0.2
            kept = weight / (1 + (left / (2 * scale)) ** 2) ** 2
            level = float((kept * lever * miss).sum() / max(float((kept * lever * lever).sum()), 1e-9))
        levels.append(level)
    return tuple(levels)


def _raised(light: Plane, share: Plane, veil: Veil) -> Plane:
    return raised_by(light, undone(light, share, veil, top=400.0), share, veil)


def _error(seen: PairViews, share: Plane, veil: Veil) -> float:
    """How far the undone light of the mark is from the scene's, over pairs in which the scene came clear of it."""
    core = share > 0.2 * share.max()
    total, mass = 0.0, 1e-9
    for n in range(0, len(seen), max(1, len(seen) // 24)):
        covered = cv2.remap(share, seen.at[n], None, cv2.INTER_LINEAR, borderMode=cv2.BORDER_CONSTANT)
        weight = seen.weight[n] * (covered < 0.02) * core
        miss = np.minimum(np.abs(undone(seen.at_mark[n], share, veil, top=400.0) - seen.scene[n]), 60)
        total += float((weight * miss).sum())
        mass += float(weight.sum())
    return total / mass


def _helps(seen: PairViews, share: Plane, veil: Veil) -> bool:
    """Whether undoing brings the mark nearer to the scene than leaving it alone."""
    return _error(seen, share, veil) < 0.9 * _error_as_is(seen, share)


def _error_as_is(seen: PairViews, share: Plane) -> float:
    core = share > 0.2 * share.max()
    weight = seen.weight * (seen.carried(share) < 0.02) * core
    return float((weight * np.minimum(np.abs(seen.at_mark - seen.scene), 60)).sum() / max(float(weight.sum()), 1e-9))
