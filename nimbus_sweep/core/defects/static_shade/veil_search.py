"""Where veils lie: wide, soft areas of the glass that draw the light of whatever passes behind them the same way.

The light lost at each place of the picture is solved for from all pairs of frames at once (`light_system`), and again from each half of them.
Where all three lose light is looked at as an area of its own; how sure it is a veil a logistic model tells, whose numbers are fitted by
`tools/fit_models.py` on drawn clips, each scene judged by a model fitted without it.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from functools import cache
from pathlib import Path

import cv2
import numpy as np
from numpy.typing import NDArray

from ...base.logistic import Logistic
from ...base.parallel import parallel_map
from ...evidence.moved_pairs import MovedPairs
from ...imaging.motion import Plane
from .candidates import EDGE
from .fit import correlation
from .light_system import POWER, WHITE, Equations, Lost, equations, left_over, solve
from .veils import Veil

Cells = NDArray[np.bool_]
FEATURES = (
    *("depth", "agree", "balance", "stands_out", "explains", "foretells", "known", "clear", "passed", "across", "full", "edge"),
    *("crowd", "laid", "doubt", "rim"),
)
# Blocks to a place of the grid on which veils are looked for; light laid over to begin with, as shares of the mean light. One that lays more
# over than it takes is found only from there: from less, all the rest of the picture seems to lose light.
_COARSE = 2
_STARTS = (0.3, 0.6, 1.4)
# Every so many pairs are enough to tell which of those to begin with.
_FEW = 3
# Pixels a veil is wide at least; areas looked at, at most; the largest, as a share of the picture.
_WIDE, _MOST, _LARGEST = 36, 12, 0.5
# Of light lost, as a logarithm of linear light: from where an area is told of, and how deep it is at least; errors it stands above.
_FROM, _DEEP, _DOUBTS = 0.025, 0.06, 3.0
# The same, and pixels across, where a few pairs and no light laid over show it: without any of that there is no veil.
_HINTS, _HINTS_WIDE = 0.03, 22
# Share of a place that lies in a veil, and of the veil's size that it has, to be a part of it.
_HELD, _AS_LARGE = 0.5, 0.1
# Places of its soft edge; share of a place that another mark takes from which it is not looked at; a share that changes nothing.
_SKIRT, _MARKED, _LEAST = 5, 0.1, 0.012
# How deep a veil is against the deepest of its area, at least.
_SHALLOW = 0.2
# Of the mean light, what a veil lays over it at least.
_LAYS = 0.03
# Share of its widest from which a place of an area is in its middle; of how far the camera goes, what the scene has to move there; and how sure
# an area is told at most where it does not.
_MIDDLE, _STIRS, _DOUBTED = 0.7, 0.25, 0.45


@dataclass(frozen=True)
class VeilArea:
    """Where a veil may lie.

    Attributes
    ----------
    left, top : int
        In pixels of the picture.
    shape : ndarray, float32, (height, width)
        1 where it lies, at the picture's size.
    told : tuple of float
        What speaks for it; see `FEATURES`.
    cells : ndarray, bool, (rows, columns)
        Where it lies on the grid.
    doubt : float
        How far both halves of the evidence lie from the light it lets pass, 0 to 1.
    stirs : bool
        Whether the scene moves behind its middle. Where the rest moves and that stands, as at the middle of a zoom, what is told of it is what
        motion missed about it.
    """

    left: int
    top: int
    shape: Plane
    told: tuple[float, ...]
    cells: Cells
    doubt: float
    stirs: bool

    def mark(self, marked: Plane) -> None:
        """Set a picture to 1 where it lies."""
        part = marked[self.top : self.top + self.shape.shape[0], self.left : self.left + self.shape.shape[1]]
        np.maximum(part, self.shape[: part.shape[0], : part.shape[1]], out=part)

    def holds(self, other: Plane) -> bool:
        """Whether what is marked on a picture lies in it and is about as large."""
        within = other[self.top : self.top + self.shape.shape[0], self.left : self.left + self.shape.shape[1]]
        part = float((within * self.shape[: within.shape[0], : within.shape[1]]).sum())
        return part > _HELD * float(other.sum()) and part > _AS_LARGE * float(self.shape.sum())

    @property
    def sure(self) -> float:
        """How sure it is a veil, 0 to 1."""
        return min(float(_model().sure(self.told)), 1.0 if self.stirs else _DOUBTED)


@dataclass(frozen=True)
class VeilSystem:
    """The light lost over the whole picture.

    Attributes
    ----------
    lost : Lost
    pixels : int
        To a side of a place of its map.
    mean_light : float
        Linear, 0 to 1.
    far : float
        How far the camera moved between two frames that were held against each other, at most, in pixels.
    pairs : int
        Of frames.
    """

    lost: Lost
    pixels: int
    mean_light: float
    far: float
    pairs: int


def search(seen: MovedPairs, size: tuple[int, int], still_asked: Callable[[], None]) -> tuple[VeilSystem, list[VeilArea]] | None:
    """The areas of a shot that may be veils, the deepest first.

    Parameters
    ----------
    seen : MovedPairs
    size : tuple of int
        Height and width of the picture.
    still_asked : callable
        Called now and then; may raise to stop.

    Returns
    -------
    tuple of VeilSystem and list of VeilArea, or None
        None where next to nothing moves.
    """
    blocks, pixels = seen.blocks, seen.factor * seen.blocks.size * _COARSE
    views = np.arange(len(seen.frame))
    told = equations(blocks, views, _COARSE)
    grid = told.shape
    if min(grid) < 6 or len(told) < 2 * grid[0] * grid[1]:
        return None
    few = equations(blocks, views[views // 2 % _FEW == 0], _COARSE)
    mean = told.mean_light
    plain = solve(few, 0.0, free=False)
    still_asked()
    if _across(_smooth(plain.map) < -_HINTS) * pixels < _HINTS_WIDE:
        return None
    veiled = min(parallel_map(lambda k: solve(few, k * mean), _STARTS), key=lambda one: one.cost)
    still_asked()
    # All pairs tell best whether light is laid over, too.
    lost = min(parallel_map(lambda one: solve(told, one.laid, one.map), (plain, veiled)), key=lambda one: one.cost)
    still_asked()
    halves = [equations(blocks, np.flatnonzero(seen.half == n), _COARSE) for n in (0, 1)]

    first, second = parallel_map(lambda half: solve(half, lost.laid, free=False), halves)
    still_asked()
    system = VeilSystem(lost, pixels, mean, float(seen.far.max()), len(views) // 2)
    areas = []
    for cells in _areas(lost.map, first.map, second.map, pixels):
        still_asked()
        told_of = _features(system, told, halves, (first, second), cells)
        if told_of is not None:
            doubt = float(np.abs(np.exp(first.map[cells]) - np.exp(second.map[cells])).mean()) / 2
            areas.append(_area(cells, told_of, doubt, _stirs(seen, cells), pixels, size))
    return system, areas


def _smooth(plane: NDArray[np.floating]) -> Plane:
    return np.asarray(cv2.GaussianBlur(np.asarray(plane, np.float32), (0, 0), 0.8))


def _doubt(first: NDArray[np.floating], second: NDArray[np.floating]) -> Plane:
    return np.asarray(np.sqrt(cv2.blur(np.asarray((first - second) ** 2 / 4, np.float32), (5, 5))) + np.float32(0.004))


def _areas(lost: NDArray[np.floating], first: NDArray[np.floating], second: NDArray[np.floating], pixels: int) -> list[Cells]:
    """Areas in which the map and both halves of it lose light, the deepest first."""
    doubt = _doubt(first, second)
    whole, one, other = _smooth(lost), _smooth(first), _smooth(second)
    area = (whole < -np.maximum(_FROM, _DOUBTS * doubt)) & (np.maximum(one, other) < -_FROM / 3)
    count, labels, stats, _ = cv2.connectedComponentsWithStats(area.astype(np.uint8), connectivity=4)
    found = []
    for k in range(1, count):
        cells = labels == k
        wide = _across(cells) * pixels
        deep = -float(whole[cells].min())
        if wide >= _WIDE and deep >= _DEEP and stats[k, cv2.CC_STAT_AREA] < _LARGEST * cells.size:
            found.append((deep, cells))
    return [cells for _, cells in sorted(found, key=lambda one: -one[0])[:_MOST]]


def _features(
    system: VeilSystem, told: Equations, halves: list[Equations], by_half: tuple[Lost, Lost], cells: Cells
) -> tuple[float, ...] | None:
    """What speaks for an area, in the order of `FEATURES`; None where too little is known of it."""
    whole = system.lost
    lost, first, second = (_smooth(one.map) for one in (whole, *by_half))
    grown = _grown(cells, 3)
    around, flat = _grown(cells, 9), cells.ravel()
    ring, rest = around & ~grown, ~around
    here, there = flat[told.place], flat[told.corner]
    over_the_edge = [flat[half.place] != flat[half.corner] for half in halves]
    if here.sum() < 20 or ring.sum() < 4 or min(one.sum() for one in over_the_edge) < 10:
        return None
    deep = -float(lost[cells].min())
    core = cells & (lost < -0.5 * deep)
    # What one half learned must explain the other.
    foretells = min(
        _explains(half, learned, grown, which) for half, learned, which in zip(halves, by_half[::-1], over_the_edge, strict=True)
    )
    depths = [-float(one.map[core].mean()) for one in by_half]
    across = _across(cells)
    outline, _ = cv2.findContours(cells.astype(np.uint8), cv2.RETR_EXTERNAL, cv2.CHAIN_APPROX_NONE)
    hull = cv2.contourArea(cv2.convexHull(max(outline, key=cv2.contourArea)))
    border = np.ones(cells.shape, bool)
    border[1:-1, 1:-1] = False
    mass = np.bincount(told.place, told.weight, cells.size).reshape(cells.shape)
    light = float(np.average(told.own[here], weights=told.weight[here] + 1e-9))
    return tuple(
        float(v)
        for v in (
            np.log(deep),
            -np.log(1.003 - correlation(first[around], second[around])),
            min(depths) / max(*depths, 1e-3),
            np.log(deep / (float(np.sqrt(np.mean(lost[ring] ** 2))) + 0.004)),
            1 - np.exp(-_explains(told, whole, grown, here != there)),
            foretells,
            (mass[cells] > 1).mean(),
            (here & ~there).sum() / here.sum(),
            np.log(system.far / system.pixels / across + 0.05),
            np.log(across),
            (cells.sum() - 1) / max(hull, float(cells.sum()), 1.0),
            (cells & border).sum() / np.sqrt(cells.sum()),
            (lost[rest] < -_FROM).mean() if rest.any() else 0.0,
            np.log(whole.laid / max(light, 1e-4) + 0.05),
            np.log(float(_doubt(first, second)[cells].mean()) / deep + 0.01),
            np.percentile(lost[ring], 90) / deep,
        )
    )


def _explains(told: Equations, learned: Lost, area: Cells, which: Cells) -> float:
    """How many times less some equations miss with an area of a map than without it, as a logarithm."""
    without, given = (left_over(told, one, learned.laid, which) for one in (np.where(area, 0.0, learned.map), learned.map))
    return float(np.log((without + 1e-5) / (given + 1e-5)))


def _grown(cells: Cells, size: int) -> Cells:
    return np.asarray(cv2.dilate(cells.astype(np.uint8), np.ones((size, size), np.uint8)) > 0)


def _across(cells: Cells) -> float:
    """How wide an area is where it is widest, in places."""
    return 2 * float(_inwards(cells).max())


def _inwards(cells: Cells) -> Plane:
    """How far each place of an area lies from its edge, in places."""
    return np.asarray(cv2.distanceTransform(np.pad(cells, 1).astype(np.uint8), cv2.DIST_L2, cv2.DIST_MASK_PRECISE)[1:-1, 1:-1])


def _stirs(seen: MovedPairs, cells: Cells) -> bool:
    """Whether the scene moves behind the middle of an area."""
    inner = _inwards(cells)
    rows, columns = (_COARSE * at for at in np.nonzero(inner > _MIDDLE * inner.max()))
    moved = np.linalg.norm(seen.blocks.motion[:, rows, columns].astype(np.float32), axis=-1)
    most = float(np.percentile(np.median(moved, 1), 90)) * seen.blocks.size * seen.factor
    return most >= _STIRS * float(seen.far.max())


def _area(cells: Cells, told: tuple[float, ...], doubt: float, stirs: bool, pixels: int, size: tuple[int, int]) -> VeilArea:
    room = 2
    rows, columns = np.flatnonzero(cells.any(1)), np.flatnonzero(cells.any(0))
    top, left = max(0, int(rows[0]) - room), max(0, int(columns[0]) - room)
    part = cells[top : int(rows[-1]) + 1 + room, left : int(columns[-1]) + 1 + room].astype(np.float32)
    height, width = min(size[0] - top * pixels, part.shape[0] * pixels), min(size[1] - left * pixels, part.shape[1] * pixels)
    shape = cv2.resize(part, (part.shape[1] * pixels, part.shape[0] * pixels), interpolation=cv2.INTER_LINEAR)
    return VeilArea(left * pixels, top * pixels, (shape[:height, :width] > 0.5).astype(np.float32), told, cells, doubt, stirs)


@cache
def _model() -> Logistic:
    return Logistic.read(MODEL, FEATURES)


# Written by `tools/fit_models.py`.
MODEL = Path(__file__).with_name("veil_model.json")


@dataclass(frozen=True)
class Drawn:
    """How a veil draws the light, as finely as the pairs tell.

    Attributes
    ----------
    share : ndarray, float32, (height, width)
        `a` at the picture's size, from `left` and `top` on; 0 outside of it.
    left, top : int
    veil : Veil
    doubt : float
        How far both halves of the evidence lie from the light it lets pass, 0 to 1.
    """

    share: Plane
    left: int
    top: int
    veil: Veil
    doubt: float


def drawn(system: VeilSystem, area: VeilArea, marked: Plane) -> list[Drawn]:
    """The veils of an area as the pairs tell them, at the picture's size, the largest first; none where nothing of them is left.

    Parameters
    ----------
    system : VeilSystem
    area : VeilArea
    marked : ndarray, float32, (height, width)
        1 where other marks lie: what they take is no part of it.
    """
    pixels, lost = system.pixels, np.asarray(system.lost.map, np.float32)
    rows, columns = lost.shape
    # With its soft edge, which is told less surely than the rest.
    within = _grown(area.cells, _SKIRT)
    other = cv2.resize(marked[: rows * pixels, : columns * pixels], (columns, rows), interpolation=cv2.INTER_AREA)
    known = (other < _MARKED).astype(np.float32)
    filled = cv2.GaussianBlur(lost * known, (0, 0), 2) / np.maximum(cv2.GaussianBlur(known, (0, 0), 2), 1e-3)
    share = np.where(within, 1 - np.exp(np.minimum(np.where(known > 0, lost, filled), 0)), 0).astype(np.float32)
    down, across = np.flatnonzero(within.any(1)), np.flatnonzero(within.any(0))
    top, left = int(down[0]), int(across[0])
    low, right = int(down[-1]) + 1, int(across[-1]) + 1
    part = share[top:low, left:right]
    part = cv2.resize(part, (part.shape[1] * pixels, part.shape[0] * pixels), interpolation=cv2.INTER_CUBIC).clip(0, 0.95)
    # The grid ends up to a place before the picture does.
    beyond = [
        most - end * pixels if end == last else 0 for most, end, last in zip(marked.shape, (low, right), (rows, columns), strict=True)
    ]
    part = np.pad(part, [(0, max(0, n)) for n in beyond], mode="edge")
    part = np.where(part > _LEAST, part, 0).astype(np.float32)
    veil = Veil(level=WHITE * system.lost.laid ** (1 / POWER), power=POWER)
    if system.lost.laid < _LAYS * system.mean_light:
        # In linear light and in codes a mere loss is the same but for its size.
        part, veil = (1 - (1 - part) ** (1 / POWER)).astype(np.float32), Veil()
    return [Drawn(one, left * pixels, top * pixels, veil, area.doubt) for one in _apart(part)]


def _apart(share: Plane) -> list[Plane]:
    """Veils whose skirts touch are looked for as one area; here each has its own."""
    deepest = float(share.max(initial=0))
    marked = cv2.GaussianBlur(share, (0, 0), 1) > max(EDGE, 0.08 * deepest)
    _, labels, stats, _ = cv2.connectedComponentsWithStats(marked.astype(np.uint8), connectivity=8)
    parts = [labels == k for k in np.argsort(-stats[:, cv2.CC_STAT_AREA]) if k > 0]
    return [share * _grown(part, 7) for part in parts if float(share[part].max()) >= _SHALLOW * deepest]
