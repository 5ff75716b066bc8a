"""Where marks may lie: places that lose light, or stand out, in the same way in both halves of the evidence."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import cv2
import numpy as np
from numba import njit
from numpy.typing import NDArray

from ...base.parallel import parallel_map
from ...evidence.travel import DISTANCES, Travel, pairs
from ...imaging.box import Box
from ...imaging.motion import Field, Look, Plane, agreement, blur, carried, flow, grid, look, spread, support
from ...imaging.stack_statistics import robust
from .light import ShotLight
from .marks import ShadeMark

Mask = NDArray[np.bool_]
_WORK_WIDTH = 960
_PAIRS, _PAIRS_LARGE = 48, 28
_MOVED = 5.0
_MOST, _MOST_VEILS = 60, 10
# A share of light lost below this is not looked for; a mark must reach the second.
EDGE, _CORE = 0.02, 0.06
LARGE, HAIR = 40, 18
# Share of a candidate that a mark takes up which is no other than it.
_TAKEN = 0.35


@dataclass(frozen=True)
class _Evidence:
    """Pairs of frames held against each other over the whole picture, at the size they are looked at."""

    factor: int
    light: dict[int, Plane]
    frame: NDArray[np.int64]
    scene: NDArray[np.float16]
    weight: NDArray[np.float16]
    far: NDArray[np.float64]
    moving: float

    @property
    def half(self) -> NDArray[np.int64]:
        """Which half of the evidence each belongs to: both hold pairs of every distance."""
        half = np.zeros(len(self.frame) // 2, np.int64)
        half[np.argsort(self.far[::2], kind="stable")] = np.arange(len(half)) % 2
        return half.repeat(2)


def gather(light: ShotLight, way: Travel, noise: float, progress: Callable[[float], None]) -> _Evidence | None:
    factor = max(1, -(-light.shape[1] // _WORK_WIDTH))
    # Of a large picture each sample is the mean of several, so fewer pairs do, and motion is smooth enough for half the size.
    couples = pairs(way, _PAIRS if factor == 1 else _PAIRS_LARGE)
    half = 1 if factor == 1 else 2
    # One couple leaves a half of the evidence empty.
    if len(couples) < 2:
        return None
    used = sorted({n for couple in couples for n in couple})

    def made(n: int) -> tuple[Plane, Look]:
        plane = light.small(n, factor)
        size = (plane.shape[1] // half, plane.shape[0] // half)
        return plane, look(cv2.resize(plane, size, interpolation=cv2.INTER_AREA) if half > 1 else plane, noise / factor / half)

    ready = dict(zip(used, parallel_map(made, used), strict=True))
    shape = ready[used[0]][0].shape
    places, coarse = grid(shape), grid(ready[used[0]][1].gray.shape)
    scene = np.zeros((2 * len(couples), *shape), np.float16)
    weight = np.zeros_like(scene)
    moving = np.zeros(len(couples))

    def hold(k: int) -> None:
        (one, mine), (other, theirs) = (ready[n] for n in couples[k])
        i, j = couples[k]
        moved = _MOVED / factor / half
        there = flow(mine.gray, theirs.gray, way.field(i, j, coarse, factor * half))
        back = flow(theirs.gray, mine.gray, way.field(j, i, coarse, factor * half))
        for n, (near, away, seen, motion, returns) in enumerate(((one, other, mine, there, back), (other, one, theirs, back, there))):
            found = _motion(seen, motion, returns, moved)
            moving[k] += found.moving / 2
            used, share = (_enlarged(part, shape) for part in (found.used * np.float32(half), found.share))
            scene[2 * k + n], weight[2 * k + n] = _compensated(near, away, used, share, places, _MOVED / factor)
            weight[2 * k + n] *= light.usable_both(couples[k][n], couples[k][1 - n], used, places, factor)

    for done, _ in enumerate(parallel_map(hold, range(len(couples)))):
        progress((done + 1) / len(couples))
    frame = np.array([n for couple in couples for n in couple])
    far = np.array([way.from_frame(i)[j] for i, j in couples]).repeat(2)
    return _Evidence(factor, {n: plane for n, (plane, _) in ready.items()}, frame, scene, weight, far, float(np.median(moving)))


def _enlarged(plane: Plane, shape: tuple[int, ...]) -> Plane:
    return plane if plane.shape[:2] == shape else cv2.resize(plane, shape[::-1], interpolation=cv2.INTER_LINEAR)


@dataclass(frozen=True)
class _Motion:
    """Motion that no mark has told.

    Attributes
    ----------
    used : ndarray, float32, (height, width, 2)
    share : ndarray, float32, (height, width)
        Whether the surroundings move rather than stand still: among what mostly stands still nothing can be said.
    moving : float
        How much of the picture moves, 0 to 1.
    """

    used: Field
    share: Plane
    moving: float


def _motion(seen: Look, there: Field, back: Field, moved: float) -> _Motion:
    trust = agreement(there, back) * seen.texture
    goes = cv2.magnitude(there[..., 0], there[..., 1]) > moved
    # What keeps its place may be the mark itself: motion is carried in from what moves around it.
    moving = trust * goes
    filled, borne = spread(there, moving)
    still = support(trust * ~goes)
    dense = np.clip(2 * moving - 0.5, 0, 1)[..., None]
    share = np.clip((borne / (borne + still + 1e-3) - 0.15) / 0.2, 0, 1)
    return _Motion(dense * there + (1 - dense) * filled, share, float(moving.sum()) / max(float(trust.sum()), 1e-6))


def _compensated(one: Plane, other: Plane, used: Field, share: Plane, places: Field, moved: float) -> tuple[Plane, Plane]:
    """Light of the scene points of `one` as `other` shows them, and how far to trust it."""
    scene = carried(other, used, places)
    missed = cv2.blur(_log_difference(one, scene), (31, 31))
    return scene, _weight(missed, np.ascontiguousarray(used), np.ascontiguousarray(share), one, np.float32(moved))


@njit("(float32[:, ::1], float32[:, ::1])", cache=True, nogil=True, error_model="numpy")
def _log_difference(one: Plane, scene: Plane) -> Plane:
    """Squared difference of two lights as logarithms, bounded."""
    missed = np.empty(one.shape, np.float32)
    none, floor, most = np.float32(0), np.float32(4), np.float32(0.25)
    for y in range(one.shape[0]):
        for x in range(one.shape[1]):
            away = np.log((max(one[y, x], none) + floor) / (max(scene[y, x], none) + floor))
            missed[y, x] = min(away * away, most)
    return missed


@njit(
    "(float32[:, ::1], float32[:, :, ::1], float32[:, ::1], float32[:, ::1], float32)",
    cache=True,
    nogil=True,
    error_model="numpy",
)
def _weight(missed: Plane, used: Field, share: Plane, one: Plane, moved: np.float32) -> Plane:
    """How far to trust each sample: where the surroundings agree, the scene has moved, and it is not near black."""
    height, width = one.shape
    weight = np.empty((height, width), np.float32)
    none, all_of_it, usual = np.float32(0), np.float32(1), np.float32(0.0004)
    for y in range(height):
        for x in range(width):
            at_x, at_y = np.float32(x) + used[y, x, 0], np.float32(y) + used[y, x, 1]
            on = (at_x >= 1) & (at_y >= 1) & (at_x <= width - 2) & (at_y <= height - 2)
            far = np.sqrt(used[y, x, 0] * used[y, x, 0] + used[y, x, 1] * used[y, x, 1])
            goes = min(max((far / moved - np.float32(0.8)) / np.float32(0.4), none), all_of_it)
            lit = min(max((one[y, x] - np.float32(4)) / np.float32(8), none), all_of_it)
            weight[y, x] = usual / (missed[y, x] + usual) * goes * share[y, x] * lit if on else none
    return weight


def loss_map(seen: _Evidence, half: int) -> tuple[Plane, Plane]:
    """Logarithm of the light lost at each pixel by one half of the pairs, and the weight that bore it."""
    picked = np.flatnonzero(seen.half == half)
    logs = {n: np.log(np.maximum(plane, 0) + 4) for n, plane in seen.light.items()}
    height, width = seen.scene.shape[1:]
    loss, mass = np.zeros((height, width), np.float32), np.zeros((height, width), np.float32)
    rows = max(1, 500_000 // (len(picked) * width))

    def part(top: int) -> None:
        band = slice(top, top + rows)
        logs_here = np.stack([logs[n][band] for n in seen.frame[picked]])
        ratio = logs_here - np.log(np.maximum(seen.scene[picked, band].astype(np.float32), 0) + np.float32(4))
        weight = seen.weight[picked, band].astype(np.float32)
        loss[band], _ = robust(ratio, weight, rounds=5, least=0.01)
        mass[band] = weight.sum(0)

    for _ in parallel_map(part, range(0, height, rows)):
        pass
    return loss, mass


def contrast_map(seen: _Evidence, half: int) -> tuple[Plane, Plane]:
    """Logarithm of the spread of light over time at each pixel against that of the scene points that pass, smoothed."""
    picked = np.flatnonzero(seen.half == half)
    small = (max(1, seen.scene.shape[2] // 2), max(1, seen.scene.shape[1] // 2))
    sums = np.zeros((5, small[1], small[0]), np.float32)
    for k in picked:
        shown = cv2.resize(seen.light[int(seen.frame[k])], small, interpolation=cv2.INTER_AREA)
        scene = cv2.resize(seen.scene[k].astype(np.float32), small, interpolation=cv2.INTER_AREA)
        weight = cv2.resize(seen.weight[k].astype(np.float32), small, interpolation=cv2.INTER_AREA)
        # Only what has come clear of a large mark shows what it does.
        weight *= np.float32(min(1.0, seen.far[k] / DISTANCES[-1]) ** 4)
        shown, scene = blur(shown, 1.5), blur(scene, 1.5)
        sums += np.stack([weight, weight * shown, weight * scene, weight * shown * shown, weight * scene * scene])
    mass = np.maximum(sums[0], 1e-6)
    shown, scene = sums[1] / mass, sums[2] / mass
    spread_own = blur(mass * np.maximum(sums[3] / mass - shown**2, 0), 3) / blur(mass, 3)
    spread_scene = blur(mass * np.maximum(sums[4] / mass - scene**2, 0), 3) / blur(mass, 3)
    ratio = 0.5 * np.log((spread_own + 2) / (spread_scene + 2))
    shape = (seen.scene.shape[2], seen.scene.shape[1])
    return cv2.resize(ratio, shape), cv2.resize(sums[0], shape)


def _standing_out(first: Plane, second: Plane, wide: float, core: float, edge: float, fine: float, sure: Mask) -> tuple[Mask, Mask, Plane]:
    """Where both halves lie below their surroundings: cores, areas about them, and by how much."""
    both = (first + second) / 2
    ground = blur(np.clip(both, -0.05, 0.05), wide)
    doubt = np.sqrt(blur(np.minimum((first - second) ** 2, 0.04) / 4, 12)) + 0.004
    one, other, mean = (blur(p - ground, fine) for p in (first, second, both))
    agreed = sure & (one < -np.maximum(core / 2, 2 * doubt)) & (other < -np.maximum(core / 2, 2 * doubt))
    return agreed & (mean < -np.maximum(core, 4 * doubt)), mean < -np.maximum(edge, 1.5 * doubt), -mean / doubt


@dataclass(frozen=True)
class Candidate:
    box: Box
    shape: Plane
    score: float
    veil: bool

    @property
    def narrow(self) -> int:
        return min(self.box.width, self.box.height)

    def at_edge(self, shape: tuple[int, int]) -> bool:
        """Whether it reaches the edge of a picture of that shape."""
        box = self.box
        return box.left <= 0 or box.top <= 0 or box.left + box.width >= shape[1] or box.top + box.height >= shape[0]

    def is_taken(self, mark: ShadeMark) -> bool:
        """Whether a mark is what it stands for."""
        box = self.box
        across = min(mark.x + mark.width, box.left + box.width) - max(mark.x, box.left)
        down = min(mark.y + mark.height, box.top + box.height) - max(mark.y, box.top)
        return across > 0 and down > 0 and across * down > _TAKEN * box.width * box.height

    def mark(self, marked: Plane) -> None:
        """Set a picture to 1 where it lies."""
        self.box.put(np.maximum(self.shape, self.box.cut(marked)), marked)

    def within(self, box: Box) -> Plane:
        """1 where it lies in another box."""
        whole = np.zeros((box.height, box.width), np.float32)
        left, top = self.box.left - box.left, self.box.top - box.top
        whole[top : top + self.box.height, left : left + self.box.width] = self.shape
        return whole if box.step == 1 else cv2.resize(whole, box.shape[::-1], interpolation=cv2.INTER_AREA)


def candidates(first: tuple[Plane, Plane], second: tuple[Plane, Plane], factor: int, veil: bool, size: tuple[int, int]) -> list[Candidate]:
    """Compact areas that stand out in the maps of both halves, the plainest first."""
    settings = (60.0, 0.12, 0.05, 3.0) if veil else (30.0, _CORE, EDGE, 1.0)
    core, area, score = _standing_out(first[0], second[0], *settings, (first[1] > 0) & (second[1] > 0))
    joined = cv2.morphologyEx(area.astype(np.uint8), cv2.MORPH_CLOSE, cv2.getStructuringElement(cv2.MORPH_ELLIPSE, (5, 5)))
    count, labels, stats, _ = cv2.connectedComponentsWithStats(joined, connectivity=8)
    found = []
    for k in range(1, count):
        x, y, width, height = (int(v) for v in stats[k, :4])
        part = labels[y : y + height, x : x + width] == k
        cores = core[y : y + height, x : x + width] & part
        if cores.sum() < (LARGE // factor if veil else 4) or (veil and min(width, height) * factor < LARGE):
            continue
        if width > 0.6 * labels.shape[1] or height > 0.8 * labels.shape[0]:
            continue
        # Soft edges and, of large marks, the middle do not stand out by themselves.
        room = round((4 + 0.12 * factor * max(width, height)) / factor)
        grown = cv2.dilate(np.pad(_filled(part), room), cv2.getStructuringElement(cv2.MORPH_ELLIPSE, (2 * room + 1, 2 * room + 1)))
        box = Box((x - room) * factor, (y - room) * factor, grown.shape[1] * factor, grown.shape[0] * factor)
        shape = cv2.resize(grown, (box.width, box.height), interpolation=cv2.INTER_NEAREST)
        found.append(Candidate(box, shape * box.on(size), float(score[y : y + height, x : x + width][cores].max()), veil))
    return sorted(found, key=lambda c: -c.score)[: _MOST_VEILS if veil else _MOST]


def _filled(part: Mask) -> Plane:
    """An area with its holes taken in."""
    padded = np.pad(part.astype(np.uint8), 1)
    outside = padded.copy()
    cv2.floodFill(outside, None, (0, 0), 1)
    return (padded | (1 - outside))[1:-1, 1:-1].astype(np.float32)
