"""Where marks may lie: places that lose light, or stand out, in the same way in both halves of the evidence."""

from __future__ import annotations

from dataclasses import dataclass

import cv2
import numpy as np
from numpy.typing import NDArray

from ...base.parallel import parallel_map
from ...evidence.moved_pairs import MovedPairs
from ...imaging.box import Box
from ...imaging.motion import Plane, blur
from ...imaging.stack_statistics import robust

Mask = NDArray[np.bool_]
_MOST = 60
# A share of light lost below this is not looked for; a mark must reach the second.
EDGE, _CORE = 0.02, 0.06
HAIR = 18
# Share of its box that what is compact takes up; and of its depth, up to which it counts as its soft edge.
_COMPACT, _SKIRT = 0.3, 0.3


def loss_map(seen: MovedPairs, half: int) -> tuple[Plane, Plane]:
    """Logarithm of the light lost at each pixel by one half of the pairs, and the weight that bore it."""
    picked = np.flatnonzero(seen.half == half)
    frames = seen.frame[picked].tolist()
    height, width = seen.scene.shape[1:]
    loss, mass = np.zeros((height, width), np.float32), np.zeros((height, width), np.float32)
    rows = max(1, 500_000 // (len(picked) * width))

    def part(top: int) -> None:
        band = slice(top, top + rows)
        # Of the whole picture in all frames these would take as much room as all else that pairs hold.
        logs = {n: np.log(np.maximum(seen.light[n][band], 0) + 4) for n in set(frames)}
        ratio = np.stack([logs[n] for n in frames]) - np.log(np.maximum(seen.scene[picked, band].astype(np.float32), 0) + np.float32(4))
        weight = seen.weight[picked, band].astype(np.float32)
        loss[band], _ = robust(ratio, weight, rounds=5, least=0.01)
        mass[band] = weight.sum(0)

    for _ in parallel_map(part, range(0, height, rows)):
        pass
    return loss, mass


def _standing_out(first: Plane, second: Plane, sure: Mask) -> tuple[Mask, Mask, Plane, Plane]:
    """Where both halves lie below their surroundings: cores, areas about them, by how much of the doubt about it, and by how much."""
    both = (first + second) / 2
    ground = blur(np.clip(both, -0.05, 0.05), 30.0)
    doubt = np.sqrt(blur(np.minimum((first - second) ** 2, 0.04) / 4, 12)) + 0.004
    one, other, mean = (blur(p - ground, 1.0) for p in (first, second, both))
    agreed = sure & (one < -np.maximum(_CORE / 2, 2 * doubt)) & (other < -np.maximum(_CORE / 2, 2 * doubt))
    return agreed & (mean < -np.maximum(_CORE, 4 * doubt)), mean < -np.maximum(EDGE, 1.5 * doubt), -mean / doubt, -mean


@dataclass(frozen=True)
class Candidate:
    """Where a mark may lie.

    Attributes
    ----------
    box : Box
    shape : ndarray, float32, (rows, columns)
        1 where it may lie, over the box.
    score : float
        How far it stands out of the doubt about it.
    across : float
        How wide what stands out is where it is widest, in pixels: the scene must move so far to show what is behind.
    told : tuple of float
        What is told of it by the whole picture; see `promise.FEATURES`.
    """

    box: Box
    shape: Plane
    score: float
    across: float
    told: tuple[float, ...] = ()

    def at_edge(self, shape: tuple[int, int]) -> bool:
        """Whether it reaches the edge of a picture of that shape."""
        box = self.box
        return box.left <= 0 or box.top <= 0 or box.left + box.width >= shape[1] or box.top + box.height >= shape[0]

    def mark(self, marked: Plane) -> None:
        """Set a picture to 1 where it lies."""
        self.box.put(np.maximum(self.shape, self.box.cut(marked)), marked)

    def over(self, shape: tuple[int, int]) -> Plane:
        """A picture of that shape: 1 where it lies."""
        whole = np.zeros(shape, np.float32)
        self.mark(whole)
        return whole

    def within(self, box: Box) -> Plane:
        """1 where it lies in another box."""
        whole = np.zeros((box.height, box.width), np.float32)
        left, top = self.box.left - box.left, self.box.top - box.top
        whole[top : top + self.box.height, left : left + self.box.width] = self.shape
        return whole if box.step == 1 else cv2.resize(whole, box.shape[::-1], interpolation=cv2.INTER_AREA)


def candidates(first: tuple[Plane, Plane], second: tuple[Plane, Plane], factor: int, size: tuple[int, int]) -> list[Candidate]:
    """Compact areas that stand out in the maps of both halves, the plainest first."""
    core, area, score, deep = _standing_out(first[0], second[0], (first[1] > 0) & (second[1] > 0))
    joined = cv2.morphologyEx(area.astype(np.uint8), cv2.MORPH_CLOSE, cv2.getStructuringElement(cv2.MORPH_ELLIPSE, (5, 5)))
    count, labels, stats, _ = cv2.connectedComponentsWithStats(joined, connectivity=8)
    found = []
    for k in range(1, count):
        x, y, width, height = (int(v) for v in stats[k, :4])
        part = labels[y : y + height, x : x + width] == k
        cores = core[y : y + height, x : x + width] & part
        if cores.sum() < 4:
            continue
        if width > 0.6 * labels.shape[1] or height > 0.8 * labels.shape[0]:
            continue
        # Soft edges and, of large marks, the middle do not stand out by themselves; a hair that bends round has no middle.
        compact = part.sum() > _COMPACT * part.size
        depth = deep[y : y + height, x : x + width] * part
        across = factor * _across(depth > _SKIRT * depth.max(), compact)
        room = round((4 + 0.12 * across) / factor)
        grown = _grown(np.pad(_filled(part) if compact else part.astype(np.float32), room), room)
        box = Box((x - room) * factor, (y - room) * factor, grown.shape[1] * factor, grown.shape[0] * factor)
        shape = cv2.resize(grown, (box.width, box.height), interpolation=cv2.INTER_NEAREST)
        found.append(Candidate(box, shape * box.on(size), float(score[y : y + height, x : x + width][cores].max()), across))
    return sorted(found, key=lambda c: -c.score)[:_MOST]


def _across(part: Mask, compact: bool) -> float:
    """How wide an area is where it is widest, in samples; with its holes taken in where it is compact."""
    whole = np.pad(_filled(part) if compact else part, 1).astype(np.uint8)
    return 2 * float(cv2.distanceTransform(whole, cv2.DIST_L2, cv2.DIST_MASK_PRECISE).max())


def _grown(part: Plane, room: int) -> Plane:
    """An area with room about it."""
    away = cv2.distanceTransform((part == 0).astype(np.uint8), cv2.DIST_L2, cv2.DIST_MASK_PRECISE)
    return np.asarray((away <= room).astype(np.float32))


def _filled(part: Mask) -> Plane:
    """An area with its holes taken in."""
    padded = np.pad(part.astype(np.uint8), 1)
    outside = padded.copy()
    cv2.floodFill(outside, None, (0, 0), 1)
    return (padded | (1 - outside))[1:-1, 1:-1].astype(np.float32)
