"""Finds static shade: what stays on the picture while the scene moves behind it.

Pairs of frames are held against each other along the motion of the scene. Where a pixel is darker than the same
scene point elsewhere, in all pairs alike, light is lost at that pixel; where the light changes less over time than
that of the scene points that pass, a veil lies over it. What stands out is then measured on its own
(`shade_fit`) and kept only if the two halves of its evidence agree and the scene is seen to pass behind it.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field

import cv2
import numpy as np
from numpy.typing import NDArray

from ..base.errors import SweepError
from ..base.parallel import mapped
from ..defects.static_shade.veils import Veil
from ..evidence.time_volume import TimeVolume
from ..evidence.travel import DISTANCES, Travel, pairs
from ..imaging.box import Box
from ..imaging.motion import Field, Look, Plane, agreement, blur, carried, flow, grid, inside, look, spread, support
from ..imaging.stack_statistics import median, robust
from ..regions import Key, Masked, Part, Region, Shape
from .findings import CONVINCES, Finding, Surveyed
from .light import Light, way_of
from .shade_fit import Proof, Sights, VeilFit, blurred, correlation, fit_loss, fit_veil, prove, sights
from .shared_marks import ShadeMap

Mask = NDArray[np.bool_]

_WORK_WIDTH = 960
_PAIRS, _PAIRS_LARGE = 48, 28
_MOVED = 5.0
_MOST, _MOST_VEILS = 60, 10
# A share of light lost below this is not looked for; a mark must reach the second.
_EDGE, _CORE = 0.02, 0.06
_LARGE, _HAIR = 40, 18
_PROBE_PAIRS = 12
_DOUBT = (0.02, 0.8)
_LISTED = 0.3
# Share of a candidate that a mark takes up which is no other than it.
_TAKEN = 0.35
# Travel of the scene, in pixels, with which nothing, small marks, and the largest can be told.
_TOO_LITTLE, _ENOUGH, _LARGEST = 8, 20, 150


@dataclass(frozen=True)
class ShadeMark:
    """One static mark.

    Attributes
    ----------
    x, y, width, height : int
        Box in pixels of the picture.
    outline : tuple of (x, y)
        Corners of the line around it, in pixels.
    kind : str
        ``dust``, ``hair`` or ``veil``.
    least, mean : float
        Transmission at its deepest, and over it, 0 to 1.
    veil : Veil
        The light it lays over; none for dust.
    confidence : float
    travel : float
        How far the scene was seen to move behind it, in pixels.
    needed : float
        How far it must move to come clear of it.
    looked, held : int
        Pairs of frames in which the scene came clear of it, frames looked at.
    way : str
        ``undo``, ``borrow`` or ``surround``: what mends it.
    map : ShadeMap or None
        What it does to the light, for other shots of the same camera.
    """

    x: int
    y: int
    width: int
    height: int
    outline: tuple[tuple[int, int], ...]
    kind: str
    least: float
    mean: float
    veil: Veil
    confidence: float
    travel: float
    needed: float
    looked: int
    held: int
    way: str
    map: ShadeMap | None = None

    @property
    def sentence(self) -> str:
        """The evidence in words, with its numbers."""
        size = f"{self.width} x {self.height} px"
        passes = f"passes {100 * self.least:.0f} to {100 * min(1.0, 2 * self.mean - self.least):.0f} % of the light"
        if self.kind == "veil":
            passes = f"draws the light towards {self.veil.level / max(1 - self.veil.gain, 0.05):.0f} of 255, up to {100 * (1 - self.least):.0f} % of the way"
        ends = {
            "undo": "can be undone",
            "borrow": "hides the scene: must be filled from other frames",
            "surround": "hides the scene, which moves too little to see behind it: can only be filled from its surroundings",
        }
        return f"Stays put in {self.held} frames while the scene moves {self.travel:.0f} px behind it; {size}, {passes}: {ends[self.way]}."


@dataclass(frozen=True)
class ShadeSurvey:
    """What a shot shows of static shade.

    Attributes
    ----------
    marks : tuple of ShadeMark
        Surest first.
    travel : float
        How far the scene moves through the shot, in pixels.
    noise : float
        Standard deviation of the noise, in 8-bit codes.
    """

    marks: tuple[ShadeMark, ...] = field(default=())
    travel: float = 0.0
    noise: float = 0.0

    @property
    def notes(self) -> tuple[str, ...]:
        """What could not be told for want of motion, in words."""
        moved = f"The camera moves the scene by {self.travel:.0f} px through this shot"
        if self.travel < _TOO_LITTLE:
            return (
                f"{moved}: too little to tell dust and dirt from the scene. About {_ENOUGH} px would do for small marks, and as many as a "
                "mark is wide for larger ones. Another shot of this camera that moves may show them; or draw round them by hand.",
            )
        if self.travel < _LARGEST:
            return (f"{moved}. Marks wider than that may be missed: it takes about as many pixels of travel as a mark is wide.",)
        return ()


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


def _gather(light: Light, way: Travel, noise: float, told: Callable[[float], None]) -> _Evidence | None:
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

    ready = dict(zip(used, mapped(made, used), strict=True))
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
        for n, (own, away, seen, motion, returns) in enumerate(((one, other, mine, there, back), (other, one, theirs, back, there))):
            found = _motion(seen, motion, returns, moved)
            moving[k] += found.moving / 2
            used, share = (_enlarged(part, shape) for part in (found.used * np.float32(half), found.share))
            scene[2 * k + n], weight[2 * k + n] = _compensated(own, away, used, share, places, _MOVED / factor)
            weight[2 * k + n] *= light.usable_both(couples[k][n], couples[k][1 - n], used, places, factor)

    for done, _ in enumerate(mapped(hold, range(len(couples)))):
        told((done + 1) / len(couples))
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
    miss = cv2.log((np.maximum(one, 0) + 4) / (np.maximum(scene, 0) + 4)) ** 2
    weight = 0.0004 / (cv2.blur(np.minimum(miss, 0.25), (31, 31)) + 0.0004)
    weight *= inside(used, places) * np.clip((cv2.magnitude(used[..., 0], used[..., 1]) / moved - 0.8) / 0.4, 0, 1)
    return scene, weight * share * np.clip((one - 4) / 8, 0, 1)


def _loss_map(seen: _Evidence, half: int) -> tuple[Plane, Plane]:
    """Logarithm of the light lost at each pixel by one half of the pairs, and the weight that bore it."""
    picked = np.flatnonzero(seen.half == half)
    logs = {n: np.log(np.maximum(plane, 0) + 4) for n, plane in seen.light.items()}
    height, width = seen.scene.shape[1:]
    loss, mass = np.zeros((height, width), np.float32), np.zeros((height, width), np.float32)
    rows = max(1, 500_000 // (len(picked) * width))

    def part(top: int) -> None:
        band = slice(top, top + rows)
        own = np.stack([logs[n][band] for n in seen.frame[picked]])
        ratio = own - np.log(np.maximum(seen.scene[picked, band].astype(np.float32), 0) + np.float32(4))
        weight = seen.weight[picked, band].astype(np.float32)
        loss[band], _ = robust(ratio, weight, rounds=5, least=0.01)
        mass[band] = weight.sum(0)

    for _ in mapped(part, range(0, height, rows)):
        pass
    return loss, mass


def _contrast_map(seen: _Evidence, half: int) -> tuple[Plane, Plane]:
    """Logarithm of the spread of light over time at each pixel against that of the scene points that pass, smoothed."""
    picked = np.flatnonzero(seen.half == half)
    small = (max(1, seen.scene.shape[2] // 2), max(1, seen.scene.shape[1] // 2))
    sums = np.zeros((5, small[1], small[0]), np.float32)
    for k in picked:
        own = cv2.resize(seen.light[int(seen.frame[k])], small, interpolation=cv2.INTER_AREA)
        scene = cv2.resize(seen.scene[k].astype(np.float32), small, interpolation=cv2.INTER_AREA)
        weight = cv2.resize(seen.weight[k].astype(np.float32), small, interpolation=cv2.INTER_AREA)
        # Only what has come clear of a large mark shows what it does.
        weight *= np.float32(min(1.0, seen.far[k] / DISTANCES[-1]) ** 4)
        own, scene = blur(own, 1.5), blur(scene, 1.5)
        sums += np.stack([weight, weight * own, weight * scene, weight * own * own, weight * scene * scene])
    mass = np.maximum(sums[0], 1e-6)
    own, scene = sums[1] / mass, sums[2] / mass
    spread_own = blur(mass * np.maximum(sums[3] / mass - own**2, 0), 3) / blur(mass, 3)
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
class _Candidate:
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


def _candidates(
    first: tuple[Plane, Plane], second: tuple[Plane, Plane], factor: int, veil: bool, size: tuple[int, int]
) -> list[_Candidate]:
    """Compact areas that stand out in the maps of both halves, the plainest first."""
    settings = (60.0, 0.12, 0.05, 3.0) if veil else (30.0, _CORE, _EDGE, 1.0)
    core, area, score = _standing_out(first[0], second[0], *settings, (first[1] > 0) & (second[1] > 0))
    joined = cv2.morphologyEx(area.astype(np.uint8), cv2.MORPH_CLOSE, cv2.getStructuringElement(cv2.MORPH_ELLIPSE, (5, 5)))
    count, labels, stats, _ = cv2.connectedComponentsWithStats(joined, connectivity=8)
    found = []
    for k in range(1, count):
        x, y, width, height = (int(v) for v in stats[k, :4])
        part = labels[y : y + height, x : x + width] == k
        cores = core[y : y + height, x : x + width] & part
        if cores.sum() < (_LARGE // factor if veil else 4) or (veil and min(width, height) * factor < _LARGE):
            continue
        if width > 0.6 * labels.shape[1] or height > 0.8 * labels.shape[0]:
            continue
        # Soft edges and, of large marks, the middle do not stand out by themselves.
        room = round((4 + 0.12 * factor * max(width, height)) / factor)
        grown = cv2.dilate(np.pad(_filled(part), room), cv2.getStructuringElement(cv2.MORPH_ELLIPSE, (2 * room + 1, 2 * room + 1)))
        box = Box((x - room) * factor, (y - room) * factor, grown.shape[1] * factor, grown.shape[0] * factor)
        shape = cv2.resize(grown, (box.width, box.height), interpolation=cv2.INTER_NEAREST)
        found.append(_Candidate(box, shape * box.on(size), float(score[y : y + height, x : x + width][cores].max()), veil))
    return sorted(found, key=lambda c: -c.score)[: _MOST_VEILS if veil else _MOST]


def _filled(part: Mask) -> Plane:
    """An area with its holes taken in."""
    padded = np.pad(part.astype(np.uint8), 1)
    outside = padded.copy()
    cv2.floodFill(outside, None, (0, 0), 1)
    return (padded | (1 - outside))[1:-1, 1:-1].astype(np.float32)


def find(volume: TimeVolume, on_progress: Callable[[float], None] | None = None, hold_out: Masked | None = None) -> ShadeSurvey:
    """Find the static shade of a shot.

    Parameters
    ----------
    volume : TimeVolume
    on_progress : callable
        Told the share done, 0 to 1; may raise to stop.
    hold_out : Region
        What is not looked at: neither for marks nor for what lies behind them.

    Returns
    -------
    ShadeSurvey
        Marks of confidence 0.3 and above. A shot that never moves proves nothing and gives none.
    """
    told = on_progress or (lambda share: None)
    light = Light(volume, hold_out)
    if len(light) < 4 or min(light.shape) < 32:
        return ShadeSurvey()
    noise = light.noise
    way = way_of(light, noise)
    told(0.15)
    seen = _gather(light, way, noise, lambda share: told(0.15 + 0.35 * share))
    if seen is None:
        return ShadeSurvey(travel=way.whole, noise=noise)
    found = _candidates(_loss_map(seen, 0), _loss_map(seen, 1), seen.factor, False, light.shape)
    large = _candidates(_contrast_map(seen, 0), _contrast_map(seen, 1), seen.factor, True, light.shape)
    moving = seen.moving
    del seen
    told(0.6)
    marks: list[ShadeMark] = []
    marked = np.zeros(light.shape, np.float32)
    for c in found:
        c.mark(marked)

    def measured(c: _Candidate) -> ShadeMark | None:
        if not c.veil:
            return _measured(light, way, noise, marked, c, moving)
        own = proven.copy()
        c.mark(own)
        return _measured(light, way, noise, own, c, moving)

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
        for k, result in zip(order, mapped(measured, [asked[k] for k in order]), strict=True):
            results[k] = result
            told(0.6 + (0.25 if stage is found else 0.15) * len(results) / len(asked) + 0.25 * (stage is large))
        for _, made in sorted(results.items()):
            if made is not None:
                same = [m for m in marks if _same(made, m)]
                if all(m.confidence < made.confidence or (made.kind == "veil" and m.confidence < CONVINCES) for m in same):
                    marks = [m for m in marks if m not in same] + [made]
    return ShadeSurvey(tuple(sorted(marks, key=lambda m: (-m.confidence, m.y, m.x))), way.whole, noise)


def _same(one: ShadeMark, other: ShadeMark) -> bool:
    across = min(one.x + one.width, other.x + other.width) - max(one.x, other.x)
    down = min(one.y + one.height, other.y + other.height) - max(one.y, other.y)
    # The soft skirt of a veil is no veil of its own.
    share = 0.02 if one.kind == other.kind == "veil" else 0.3
    return across > 0 and down > 0 and across * down > share * min(one.width * one.height, other.width * other.height)


def about(mark: Box, step: int = 1) -> Box:
    """The box in which a mark is looked at: itself and what motion needs around it."""
    room = max(24, min(max(mark.width, mark.height) // 2, 40))
    return Box(mark.left - room, mark.top - room, mark.width + 2 * room, mark.height + 2 * room, step)


def _measured(light: Light, way: Travel, noise: float, marked: Plane, c: _Candidate, moving: float) -> ShadeMark | None:
    """Measure a candidate; where few pairs leave doubt, with more."""
    made, sure = _probed(light, way, noise, marked, c, moving, _PROBE_PAIRS)
    if _DOUBT[0] < sure < _DOUBT[1]:
        made, _ = _probed(light, way, noise, marked, c, moving, 4 * _PROBE_PAIRS)
    return made


def _probed(
    light: Light, way: Travel, noise: float, marked: Plane, c: _Candidate, moving: float, most: int
) -> tuple[ShadeMark | None, float]:
    box = about(c.box, 2 if c.veil and c.narrow > 120 else 1)
    needed = c.narrow + 2.0
    seen = sights(light, way, box, marked, noise, most, needed, fine=False)
    if seen is None:
        return None, 0.0
    inner = c.within(box)
    fit = fit_loss(seen, inner, rounds=3)
    proof = prove(seen, fit, inner)
    veil = _veil(seen, inner, c)
    kind, share, laid = "dust", 1 - np.exp(np.minimum(fit.loss, 0)), Veil()
    confidence = _confidence(proof, c, light.shape, seen.passing, moving) * _moves(seen, needed)
    if veil is not None:
        # A veil has no sharp edge to go by: the scene must come clear of it, and at the edge of the picture it seldom does.
        sure = _veil_confidence(veil, inner, seen, c.at_edge(light.shape)) * _moves(seen, needed) * _rise(seen.far / needed, 0.5, 0.9)
        if sure > (0.5 if c.veil or proof.follows < 0.8 else max(confidence, 0.7)) or (c.veil and sure >= confidence):
            kind, share, confidence = "veil", veil.share, sure
            laid = Veil(0.0, 0.0, veil.level)
    if c.veil and kind != "veil":
        return None, 0.0
    if confidence < _LISTED:
        return None, max(confidence, 0.5 * _DOUBT[1] if not c.veil and _promising(proof) else 0.0)
    return _mark(kind, share, laid, confidence, proof, seen, box, light, way), confidence


def _promising(proof: Proof) -> bool:
    return proof.depth > 0.1 and proof.agree > 0.3 and proof.stands_out > 2


def _veil(seen: Sights, inner: Plane, c: _Candidate) -> VeilFit | None:
    if c.narrow < _LARGE:
        return None
    fit = fit_veil(seen, inner, rounds=6)
    return fit if fit is not None and 0 < fit.level < 300 else None


def _rise(value: float, low: float, high: float) -> float:
    return min(1.0, max(0.0, (value - low) / (high - low)))


def _confidence(proof: Proof, c: _Candidate, shape: tuple[int, int], passing: float, moving: float) -> float:
    """How sure a loss of light is a mark's and not the scene's."""
    edge = c.at_edge(shape)
    sure = _rise(proof.depth, 0.03, 0.09)
    sure *= _rise(proof.agree, *((0.9, 0.99) if edge else (0.6, 0.9)))
    sure *= _rise(proof.stands_out, 3, 9)
    sure *= _rise(proof.clear, 1.5, 4)
    if edge:
        # There the scene comes and goes, and motion is known from one side only.
        sure *= _rise(proof.depth, 0.15, 0.4)
    if proof.lives > 0.04:
        # The scene shines through, or the mark is so dark that nothing does.
        through = _rise(proof.follows, 0.5, 0.75) * _rise(-proof.follows, -2.2, -1.5) * _rise(proof.together, 0.0, 0.4)
        opaque = _rise(proof.depth, 1.2, 1.8) * _rise(proof.stands_out, 20, 60)
        # Before a plain scene neither can be told; there it is enough that the whole picture moves, and this does not.
        proven = _rise(proof.agree, 0.93, 0.97) * _rise(proof.stands_out, 15, 40)
        proven *= max(_rise(passing, 1.2, 1.6), _rise(moving, 0.8, 0.95))
        sure *= max(through, opaque, proven)
    return round(sure, 3)


def _soft(share: Plane) -> float:
    """How far a map is from its own smoothed form, against its height."""
    core = share > 0.3 * share.max()
    return float(np.abs(share - blur(share, 0.04 * max(share.shape)))[core].mean() / max(float(share.max()), 1e-3))


def _moves(seen: Sights, needed: float) -> float:
    """How sure it is that the scene passes behind a mark, and far enough."""
    return _rise(seen.passing, 0.75, 0.95) * _rise(seen.far, 8, 20) * _rise(seen.far / needed, 0.3, 0.6)


def _veil_confidence(veil: VeilFit, inner: Plane, seen: Sights, edge: bool) -> float:
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
    clear = (1 - np.clip(seen.there(inner), 0, 1)) * (seen.weight > 6)
    sure = _rise(float(veil.share.max()), 0.06, 0.15) * _rise(agree, *((0.9, 0.99) if edge else (0.6, 0.9)))
    sure *= _rise(-_soft(veil.share), -0.2, -0.12)
    sure *= _rise(float(clear.sum(0)[core].mean()), 0.8, 2.5) * _rise(float(veil.share.max()) / max(usual, 0.005), 3, 8)
    # Only broad light is drawn towards the veil's own; how its fine detail fares is not looked at.
    broad = max(2.0, 0.03 * max(inner.shape))
    own, scene = (np.stack([blurred(p, broad) for p in stack])[:, core] for stack in (seen.own, seen.scene))
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


def _mark(
    kind: str, share: Plane, laid: Veil, confidence: float, proof: Proof, seen: Sights, box: Box, light: Light, way: Travel
) -> ShadeMark | None:
    area = (blurred(share, 1.0) > max(_EDGE, 0.08 * float(share.max()))).astype(np.uint8)
    count, labels, stats, _ = cv2.connectedComponentsWithStats(area, connectivity=8)
    if count < 2:
        return None
    largest = 1 + int(stats[1:, cv2.CC_STAT_AREA].argmax())
    own = (labels == largest).astype(np.uint8)
    x, y, width, height, size = (int(v) for v in stats[largest])
    step = box.step
    lines, _ = cv2.findContours(own, cv2.RETR_EXTERNAL, cv2.CHAIN_APPROX_TC89_L1)
    line = cv2.approxPolyDP(max(lines, key=cv2.contourArea), 0.7, True)[:, 0]
    kept = 1 - share[own > 0]
    # The narrowest way past it is how far the scene must move to show what is behind.
    needed = float(2 * cv2.distanceTransform(np.pad(own, 1), cv2.DIST_L2, 3).max() + 2) * step
    # A hair is long and narrow; all else is compact.
    if kind == "dust" and size < 0.35 * max(width, height) ** 2 and max(width, height) > 16 and needed <= _HAIR:
        kind = "hair"
    else:
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
        veil=laid,
        confidence=round(float(confidence), 3),
        travel=round(moved, 1),
        needed=round(needed, 1),
        looked=round(proof.clear),
        held=len(light),
        way=mended,
        map=_map_of(share, own, box, laid),
    )


def _map_of(share: Plane, own: NDArray[np.uint8], box: Box, laid: Veil) -> ShadeMap:
    """The mark's map, with a little room."""
    room = cv2.dilate(own, np.ones((7, 7), np.uint8))
    rows, cols = np.flatnonzero(room.any(1)), np.flatnonzero(room.any(0))
    part = (share * room)[rows[0] : rows[-1] + 1, cols[0] : cols[-1] + 1]
    if box.step > 1:
        part = cv2.resize(part, None, fx=box.step, fy=box.step, interpolation=cv2.INTER_LINEAR)
    return ShadeMap.of(part, box.left + int(cols[0]) * box.step, box.top + int(rows[0]) * box.step, laid)


_TITLES = {"dust": "Sensor dust", "hair": "Hair or fibre", "veil": "Lens dirt, a veil"}


def as_finding(mark: ShadeMark, first: int, stop: int) -> Finding:
    """The mark as a finding of the shot `first` to `stop` - 1."""
    return Finding(
        kind="static-shade",
        step="unshade",
        x=max(0, mark.x),
        y=max(0, mark.y),
        width=mark.width + min(0, mark.x),
        height=mark.height + min(0, mark.y),
        first=first,
        stop=stop,
        confidence=mark.confidence,
        title=_TITLES[mark.kind],
        sentence=mark.sentence,
        numbers={
            "shade": mark.kind,
            "outline": [list(point) for point in mark.outline],
            "least": mark.least,
            "mean": mark.mean,
            "level": round(mark.veil.level, 1),
            "travel": mark.travel,
            "needed": mark.needed,
            "looked": mark.looked,
            "way": mark.way,
            **({"map": mark.map.model_dump()} if mark.map is not None and mark.confidence >= CONVINCES else {}),
        },
    )


def drawn_by_hand(shape: Shape, size: tuple[int, int], first: int, stop: int) -> Finding:
    """A mark that the user drew a line round; what it is shows when the step learns it.

    Parameters
    ----------
    shape : Shape
        Of a region.
    size : tuple of int
        Height and width of the picture.
    first, stop : int
        The shot.

    Raises
    ------
    SweepError
        If nothing of it lies on the picture.
    """
    line = line_round(shape, size)
    x, y, width, height = cv2.boundingRect(np.array(line, np.int32))
    return Finding(
        kind="static-shade",
        step="unshade",
        x=x,
        y=y,
        width=width,
        height=height,
        first=first,
        stop=stop,
        confidence=1.0,
        title="Mark",
        sentence=f"Drawn by hand, {width} x {height} px. What it lets through is measured when Unshade learns it.",
        numbers={"shade": "any", "outline": line},
        by_hand=True,
    )


def line_round(shape: Shape, size: tuple[int, int]) -> list[list[int]]:
    """The line around a shape as corners on whole pixels of a picture of that height and width.

    Raises
    ------
    SweepError
        If nothing of it lies on the picture.
    """
    mask = Region(parts=(Part(keys=(Key(frame=0, shape=shape),)),)).mask(size) >= 0.5
    if not mask.any():
        raise SweepError("The line lies outside the picture, or holds no whole pixel. Draw it round the mark, with a little room.")
    lines, _ = cv2.findContours(mask.astype(np.uint8), cv2.RETR_EXTERNAL, cv2.CHAIN_APPROX_NONE)
    line = cv2.approxPolyDP(max(lines, key=cv2.contourArea), 0.7, True)[:, 0]
    if len(line) < 3:
        raise SweepError("This is too small for a mark. Draw the line round it with a little room, or place a stuck pixel.")
    return [[int(x), int(y)] for x, y in line]


def surveyed(
    volume: TimeVolume, first: int, stop: int, on_progress: Callable[[float], None] | None = None, hold_out: Masked | None = None
) -> Surveyed:
    """The static shade of a shot as findings, surest first, and what its motion did not let tell."""
    told = find(volume, on_progress, hold_out)
    return Surveyed([as_finding(mark, first, stop) for mark in told.marks], told.notes)
