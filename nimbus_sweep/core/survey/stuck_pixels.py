"""Stuck and dead pixels, found by how they behave over time.

A stuck pixel departs from its surroundings in the same way in nearly every frame. Three questions decide:

1. *Does it stand out?* The median over time of each sample's departure from the ring around it, compared with
   the departures of its neighbourhood. Where the scene moves, the scene's own departures average out and the
   stuck pixel's does not; where nothing moves, the still texture sets the bar.
2. *Is it constant?* A departure that comes and goes with the scene (a highlight on water) has a spread over
   time as large as itself and counts for little.
3. *Is it a sensor site?* Where the scene holds still, a small bright thing of the scene would pass the first
   two. But a lens spreads light: it lifts the neighbours of a highlight by more than about 18 % of the peak
   (the design's measurement), while a single site, or a group of two by two, ends sharply; or it departs in one
   colour alone, which no small highlight does.

The first rests on rank statistics (median, median absolute deviation: Rousseeuw and Croux 1993).
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field

import cv2
import numpy as np
from numpy.typing import NDArray

from ..fill import biharmonic_weights
from ..frames import PictureFormat
from ..kernels import median_and_spread
from ..volume import TimeVolume

Plane = NDArray[np.float32]

SAMPLED = 40
_RING = np.ones((7, 7), np.uint8)
_RING[1:6, 1:6] = 0
_SQUARE3 = np.ones((3, 3), np.uint8)
_SQUARE5 = np.ones((5, 5), np.uint8)
_CROSS = np.array([[0, 1, 0], [1, 1, 1], [0, 1, 0]], np.uint8)

_PAIRS = [(-3, dx) for dx in range(-3, 4)] + [(dy, -3) for dy in range(-2, 3)]

# Scores are departures in units of the neighbourhood's own; these are where a score begins to convince.
_STAND_OUT_MOVING = 3.0
_STAND_OUT_STILL = 4.0
_STAND_OUT_CEILING = 12.0
# Share of the peak that a lens lifts the four nearest samples by; below it the profile is a sensor site's.
_LENS_LIFT = 0.18
_EDGE = 2


@dataclass(frozen=True)
class DepartureMap:
    """How the samples of one component behave over time, each (height, width) float32 in 8-bit display steps.

    Attributes
    ----------
    depart : median over time of the sample less the mean of the 24 samples around its 5 x 5 block
    unsteady : spread over time of that departure, as a standard deviation
    own_life : spread over time of the sample itself
    ring_life : spread over time of the mean of its ring
    scale : the usual size of `depart` in the neighbourhood (21 x 21), as a standard deviation
    value : median over time of the sample itself
    """

    depart: Plane
    unsteady: Plane
    own_life: Plane
    ring_life: Plane
    scale: Plane
    value: Plane


@dataclass(frozen=True)
class StuckPixel:
    """One stuck or dead pixel, or group.

    Attributes
    ----------
    x, y : int
        Left and upper pixel of the group.
    width, height : int
        Pixels across and down, 1 or 2.
    colour : str
        ``red``, ``green``, ``blue``, ``white``, ``black``, or ``cyan``, ``magenta``, ``yellow``.
    confidence : float
        0 to 1; 0.5 is where the evidence begins to convince.
    seen, looked : int
        Frames in which it departs as it usually does, of the frames looked at.
    departure : float
        How far its strongest component departs, in 8-bit display steps.
    scene_change : float
        How much the light around it changed over time, in 8-bit display steps.
    lift : float
        How far it lifts its neighbours, as a share of its own departure.
    by_hand : bool
        Placed by the user rather than found.
    """

    x: int
    y: int
    width: int
    height: int
    colour: str
    confidence: float
    seen: int
    looked: int
    departure: float
    scene_change: float
    lift: float
    by_hand: bool = False

    @property
    def sentence(self) -> str:
        """The evidence in words, with its numbers."""
        size = "one pixel" if self.width * self.height == 1 else f"{self.width} x {self.height} pixels"
        if self.by_hand:
            return f"Placed by hand, {size}; departs by {self.departure:.0f} of 255 from its surroundings."
        if self.scene_change >= 4:
            ground = f"while the light around it changed by {self.scene_change:.0f}"
        else:
            ground = f"in a still scene, with {max(0.0, self.lift) * 100:.0f} % spread to its neighbours: sharper than a lens draws"
        return f"Departs by {self.departure:.0f} of 255 in {self.seen} of {self.looked} frames looked at, {size}, {ground}."


@dataclass(frozen=True)
class PixelSurvey:
    """The maps of a shot and the stuck pixels found in it."""

    maps: tuple[DepartureMap, ...]
    found: tuple[StuckPixel, ...] = field(default=())


def departure_maps(
    volume: TimeVolume, sampled: int = SAMPLED, on_progress: Callable[[float], None] | None = None
) -> tuple[DepartureMap, ...]:
    """Measure how every sample departs from its surroundings over time.

    Parameters
    ----------
    volume : TimeVolume
    sampled : int
        Frames looked at, spread over the shot.
    on_progress : callable
        Told the share done, 0 to 1; may raise to stop.

    Returns
    -------
    tuple of DepartureMap
        One for each colour component of the format, alpha left out.
    """
    held = len(volume.numbers)
    chosen = np.unique(np.linspace(0, held - 1, min(held, sampled)).round().astype(int))
    components = [i for i, c in enumerate(volume.format.components) if c.name != "A"]
    total = sum(volume.format.components[i].height for i in components)
    done = 0
    maps = []
    for index in components:
        component = volume.format.components[index]
        stack = volume.component_stack(index)
        shape = (component.height, component.width)
        depart, unsteady, own_life, ring_life, value = (np.zeros(shape, np.float32) for _ in range(5))
        # Bands keep the working memory small whatever the picture's size.
        band = max(16, (48 << 20) // max(1, len(chosen) * component.width * 4))
        for top in range(0, component.height, band):
            stop = min(component.height, top + band)
            above, below = max(0, top - 3), min(component.height, stop + 3)
            inner = slice(top - above, stop - above)
            values = np.stack([stack[k, above:below] for k in chosen]).astype(np.float32) / np.float32(component.code)
            rings = np.stack([_ring_mean(v) for v in values])
            depart[top:stop], unsteady[top:stop] = median_and_spread((values - rings)[:, inner])
            value[top:stop], own_life[top:stop] = median_and_spread(values[:, inner])
            _, ring_life[top:stop] = median_and_spread(rings[:, inner])
            done += stop - top
            if on_progress:
                on_progress(done / total)
        maps.append(DepartureMap(depart, unsteady, own_life, ring_life, _local_scale(depart), value))
    return tuple(maps)


def _ring_mean(values: Plane) -> Plane:
    wide = cv2.boxFilter(values, -1, (7, 7), normalize=False, borderType=cv2.BORDER_REFLECT_101)
    inner = cv2.boxFilter(values, -1, (5, 5), normalize=False, borderType=cv2.BORDER_REFLECT_101)
    return (wide - inner) / np.float32(24)


def _local_median(values: Plane) -> Plane:
    # OpenCV's wide median takes 8 bits: eighths of a step up to 32 steps are ample for a neighbourhood.
    eighths = np.clip(values * 8, 0, 255).astype(np.uint8)
    size = min(21, (min(values.shape) - 1) // 2 * 2 + 1)
    return cv2.medianBlur(eighths, size).astype(np.float32) / 8 if size >= 3 else np.zeros_like(values)


def _local_scale(depart: Plane) -> Plane:
    return np.float32(1.4826) * _local_median(np.abs(depart))


def _scores(m: DepartureMap) -> tuple[Plane, Plane]:
    """How far each local extreme stands out of its surroundings, over time and in place; 0 elsewhere."""
    fickle = 1 + 0.5 * np.minimum(m.unsteady, m.own_life)
    size = np.abs(m.depart)
    extreme = (size >= cv2.dilate(size, _SQUARE5) - 1e-6) & (size > 1.5)
    over_time = (size - cv2.dilate(size, _RING)) / (m.scale + fickle)
    apart = _least_departure(m.value)
    apart[apart < 2 * m.unsteady] = 0
    alone = (apart >= cv2.dilate(apart, _SQUARE5) - 1e-6) & (apart > 1.5)
    in_place = apart / (m.scale + 3 * cv2.blur(apart, (31, 31)) + fickle)
    # A sample that keeps its value where its neighbours do not is no part of the scene.
    usual_life = _local_median(m.own_life)
    frozen = (m.own_life < 0.3 * usual_life) & (usual_life >= 1)
    gain = np.where(frozen, np.float32(1.6), np.float32(1))
    return np.where(extreme, over_time * gain, 0).clip(0), np.where(alone, in_place * gain, 0)


def _least_departure(value: Plane) -> Plane:
    """How far each sample departs, the same way, from the middle of every pair of samples facing each other across it.

    The pairs lie on the border of the 7 x 7 block. Along an edge or a line some pair agrees with the sample, so
    only what stands alone departs from all.
    """
    height, width = value.shape
    padded = cv2.copyMakeBorder(value, 3, 3, 3, 3, cv2.BORDER_REFLECT_101)
    low = np.full(value.shape, np.inf, np.float32)
    high = np.full(value.shape, -np.inf, np.float32)
    for dy, dx in _PAIRS:
        one = padded[3 + dy : 3 + dy + height, 3 + dx : 3 + dx + width]
        other = padded[3 - dy : 3 - dy + height, 3 - dx : 3 - dx + width]
        departure = value - 0.5 * (one + other)
        np.minimum(low, departure, out=low)
        np.maximum(high, departure, out=high)
    return np.where(low > 0, low, np.where(high < 0, -high, 0)).astype(np.float32)


def _spread_up(plane: Plane, shape: tuple[int, int]) -> Plane:
    """A component's map at the picture's full size, each sample repeated."""
    if plane.shape == shape:
        return plane
    down = -(-shape[0] // plane.shape[0])
    across = -(-shape[1] // plane.shape[1])
    return np.repeat(np.repeat(plane, down, 0), across, 1)[: shape[0], : shape[1]]


def find(volume: TimeVolume, on_progress: Callable[[float], None] | None = None) -> PixelSurvey:
    """Find the stuck and dead pixels of a shot.

    Parameters
    ----------
    volume : TimeVolume
    on_progress : callable
        Told the share done, 0 to 1; may raise to stop.

    Returns
    -------
    PixelSurvey
        Sites of confidence 0.3 and above, surest first. A shot of fewer than 8 frames proves nothing and
        gives none.
    """
    maps = departure_maps(volume, on_progress=on_progress)
    if len(volume.numbers) < 8 or min(maps[0].depart.shape) < 9:
        return PixelSurvey(maps)
    layout = volume.format
    shape = (layout.height, layout.width)
    scores = [_scores(m) for m in maps]
    still_threshold = max(_STAND_OUT_STILL, *(_chance(m, in_place) for m, (_, in_place) in zip(maps, scores, strict=True)))
    by_component = [_spread_up(np.maximum(over_time, in_place), shape) for over_time, in_place in scores]
    strength = np.max(by_component, axis=0)
    joint = np.sqrt(sum(cv2.dilate(s, _SQUARE3) ** 2 for s in by_component))
    taken = np.zeros(shape, bool)
    sites = []
    rows, cols = np.nonzero(strength > 0.6 * _STAND_OUT_MOVING)
    order = np.argsort(-strength[rows, cols], kind="stable")
    for y, x in zip(rows[order], cols[order], strict=True):
        if taken[y, x]:
            continue
        taken[max(0, y - 4) : y + 5, max(0, x - 4) : x + 5] = True
        site = _judge(volume, maps, int(x), int(y), float(joint[y, x]), still_threshold)
        if site is not None and site.confidence >= 0.3:
            sites.append(site)
    return PixelSurvey(maps, tuple(sorted(sites, key=lambda s: (-s.confidence, s.y, s.x))))


def _chance(m: DepartureMap, in_place: Plane) -> float:
    """The score that the still scene itself would reach once in twenty clips like this one.

    The scene's own sharp specks give the distribution: its tail is taken for exponential with the median of
    those found, so that a few true defects among them do not move it.
    """
    rows, cols = np.nonzero(in_place > 0.3)
    own = [float(in_place[y, x]) for y, x in zip(rows, cols, strict=True) if _lift(m, _grow(m, int(x), int(y))) < 0.25]
    if len(own) < 8:
        return 0.0
    return min(_STAND_OUT_CEILING, (float(np.median(own)) - 0.3) / np.log(2) * np.log(len(own) / 0.05))


def place(volume: TimeVolume, maps: tuple[DepartureMap, ...], x: int, y: int, radius: int = 3) -> StuckPixel:
    """A site placed by hand, snapped to the worst pixel within `radius`.

    Raises
    ------
    IndexError
        If the point is off the picture.
    """
    layout = volume.format
    if not (0 <= x < layout.width and 0 <= y < layout.height):
        raise IndexError((x, y))
    shape = (layout.height, layout.width)
    best, at = -1.0, (x, y)
    for m in maps:
        doubt = m.scale + 1 + 0.5 * np.minimum(m.unsteady, m.own_life)
        worst = _spread_up((np.abs(m.depart) / doubt).astype(np.float32), shape)
        y0, x0 = max(0, y - radius), max(0, x - radius)
        window = worst[y0 : y + radius + 1, x0 : x + radius + 1]
        row, col = np.unravel_index(int(window.argmax()), window.shape)
        # Coarser components say which block; the finest decides between equals because it comes first.
        if window[row, col] > best * 1.05:
            best, at = float(window[row, col]), (x0 + int(col), y0 + int(row))
    return _describe(volume, maps, *_core(maps, layout, *at), score=best, by_hand=True)


@dataclass(frozen=True)
class _Core:
    x: int
    y: int
    width: int
    height: int


def _core(maps: tuple[DepartureMap, ...], layout: PictureFormat, x: int, y: int) -> tuple[_Core, int, float]:
    """The group's pixels, the component that shows it best, and its lift of the neighbours there."""
    ranked = []
    for i, m in enumerate(maps):
        across, down = layout.subsampling(i)
        cy, cx = min(y // down, m.depart.shape[0] - 1), min(x // across, m.depart.shape[1] - 1)
        reach = 1 if across == 1 else 0
        window = np.abs(m.depart[max(0, cy - reach) : cy + reach + 1, max(0, cx - reach) : cx + reach + 1])
        row, col = np.unravel_index(int(window.argmax()), window.shape)
        peak_y, peak_x = max(0, cy - reach) + int(row), max(0, cx - reach) + int(col)
        size = float(window[row, col])
        core = _grow(m, peak_x, peak_y)
        lift = _lift(m, core)
        clear = size / (float(m.scale[peak_y, peak_x]) + 1)
        # A component in which the profile is sharp says more about the site than one in which it drowns.
        ranked.append((clear * (1 if lift < 2 * _LENS_LIFT else 0.5), i, core, lift))
    _, index, core, lift = max(ranked, key=lambda r: r[0])
    across, down = layout.subsampling(index)
    if across > 1 or down > 1:
        # Shown in chroma alone: where in the block lies the site? Luma decides if it says anything.
        luma = maps[0]
        y0, x0 = core.y * down, core.x * across
        block = np.abs(luma.depart[y0 : y0 + down * core.height, x0 : x0 + across * core.width])
        row, col = np.unravel_index(int(block.argmax()), block.shape)
        fine = _grow(luma, x0 + int(col), y0 + int(row))
        core = fine if block.max() > 3 * luma.scale[y0, x0] + 1 else _Core(x0, y0, across, down)
    return core, index, lift


def _grow(m: DepartureMap, x: int, y: int) -> _Core:
    """The block of at most 2 x 2 samples about the peak that departs like the peak itself."""
    height, width = m.depart.shape
    peak = m.depart[y, x]
    alike = lambda yy, xx: 0 <= yy < height and 0 <= xx < width and m.depart[yy, xx] / peak > 0.75 if peak else False  # noqa: E731
    across = -1 if alike(y, x - 1) else 1 if alike(y, x + 1) else 0
    down = -1 if alike(y - 1, x) else 1 if alike(y + 1, x) else 0
    return _Core(x + min(0, across), y + min(0, down), 1 + abs(across), 1 + abs(down))


def _lift(m: DepartureMap, core: _Core) -> float:
    """How far the samples that touch the core's sides depart from a smooth surface, as a share of the core's own."""
    height, width = m.value.shape
    top, left = max(0, core.y - 4), max(0, core.x - 4)
    window = m.value[top : core.y + core.height + 4, left : core.x + core.width + 4].astype(np.float64)
    hole = np.zeros(window.shape, bool)
    inside = hole.copy()
    inside[core.y - top : core.y - top + core.height, core.x - left : core.x - left + core.width] = True
    hole[max(0, core.y - 1 - top) : core.y + core.height + 1 - top, max(0, core.x - 1 - left) : core.x + core.width + 1 - left] = True
    departure = np.zeros(window.shape)
    departure[hole] = window[hole] - biharmonic_weights(hole) @ window[~hole]
    peak = departure[inside].mean()
    beside = cv2.dilate(inside.astype(np.uint8), _CROSS).astype(bool) & ~inside
    if not beside.any():
        return 1.0
    return float(departure[beside].mean() / peak) if peak else 1.0


def _departures(volume: TimeVolume, maps: tuple[DepartureMap, ...], x: int, y: int) -> list[float]:
    """Summed departure of each component over the site and what it spreads to, in steps times pixels."""
    sums = []
    for i, m in enumerate(maps):
        across, down = volume.format.subsampling(i)
        reach = 2 if across == 1 else 1
        cy, cx = y // down, x // across
        window = m.depart[max(0, cy - reach) : cy + reach + 1, max(0, cx - reach) : cx + reach + 1]
        floor = m.scale[min(cy, m.scale.shape[0] - 1), min(cx, m.scale.shape[1] - 1)]
        sums.append(float(np.where(np.abs(window) > 2.5 * floor + 0.5, window, 0).sum()) * across * down)
    return sums


def _rgb(volume: TimeVolume, departures: list[float]) -> NDArray[np.float64]:
    """A departure in components as one in red, green and blue."""
    names = [c.name for c in volume.format.components if c.name != "A"]
    if "R" in names:
        return np.array([departures[names.index(n)] for n in "RGB"])
    if len(names) < 3:
        return np.full(3, departures[0])
    full = volume.colour.full_range
    luma = departures[0] * (1 if full else 255 / 219)
    blue, red = (d * (1 if full else 255 / 224) for d in departures[1:3])
    # ITU-R BT.709; the other matrices differ too little to change a colour's name.
    r = luma + 1.5748 * red
    b = luma + 1.8556 * blue
    return np.array([r, (luma - 0.2126 * r - 0.0722 * b) / 0.7152, b])


def colour_name(rgb: NDArray[np.float64]) -> str:
    """Name a departure in red, green and blue: the channels that stand out upward, or what remains when they fall."""
    size = np.abs(rgb).max()
    if size == 0:
        return "black"
    up = tuple(bool(v > 0.35 * rgb.max()) and bool(v > 0.2 * size) for v in rgb)
    if not any(up):
        # Everything falls: name what falls least, if one falls far less.
        kept = tuple(bool(v > -0.35 * size) for v in rgb)
        up = kept if any(kept) and not all(kept) else (False, False, False)
    return {
        (True, True, True): "white",
        (True, False, False): "red",
        (False, True, False): "green",
        (False, False, True): "blue",
        (True, True, False): "yellow",
        (True, False, True): "magenta",
        (False, True, True): "cyan",
    }.get(up, "black")


def _judge(volume: TimeVolume, maps: tuple[DepartureMap, ...], x: int, y: int, score: float, still: float) -> StuckPixel | None:
    core, index, lift = _core(maps, volume.format, x, y)
    site = _describe(volume, maps, core, index, lift, score, still)
    if site.looked and site.seen < 0.5 * site.looked and not _constant(maps, volume, core, index):
        return None
    return site


def _at(volume: TimeVolume, index: int, core: _Core) -> tuple[int, int]:
    across, down = volume.format.subsampling(index)
    return core.y // down, core.x // across


def _constant(maps: tuple[DepartureMap, ...], volume: TimeVolume, core: _Core, index: int) -> bool:
    """Whether the site keeps its value while its ring changes."""
    row, col = _at(volume, index, core)
    m = maps[index]
    return bool(m.own_life[row, col] < 0.35 * m.ring_life[row, col])


def _describe(
    volume: TimeVolume,
    maps: tuple[DepartureMap, ...],
    core: _Core,
    index: int,
    lift: float,
    score: float,
    still_threshold: float = _STAND_OUT_STILL,
    by_hand: bool = False,
) -> StuckPixel:
    row, col = _at(volume, index, core)
    m = maps[index]
    seen, looked = _count(volume, m, index, row, col)
    rgb = _rgb(volume, _departures(volume, maps, core.x, core.y))
    life = float(m.ring_life[row, col])
    noise = float(np.median(m.unsteady))
    moving = life > 4 * noise + 2
    confidence = 1.0
    if not by_hand:
        threshold = _STAND_OUT_MOVING if moving else still_threshold
        confidence = 1 - 0.5 * threshold / score
        if not moving:
            # Neighbours that fall where the site rises are texture, as are those a lens has lifted.
            beyond = max(lift - _LENS_LIFT, -0.25 - lift, 0.0)
            confidence *= max(0.0, 1 - beyond / 0.15)
    return StuckPixel(
        x=core.x,
        y=core.y,
        width=core.width,
        height=core.height,
        colour=colour_name(rgb),
        confidence=round(max(0.0, min(1.0, confidence)), 3),
        seen=seen,
        looked=looked,
        departure=round(abs(float(m.depart[row, col])), 1),
        scene_change=round(life, 1),
        lift=round(lift, 3),
        by_hand=by_hand,
    )


def _count(volume: TimeVolume, m: DepartureMap, index: int, row: int, col: int) -> tuple[int, int]:
    """In how many of the held frames the sample departs as it usually does."""
    component = volume.format.components[index]
    stack = volume.component_stack(index)
    y0, x0 = max(0, row - 3), max(0, col - 3)
    window = stack[:, y0 : row + 4, x0 : col + 4].astype(np.float32) / np.float32(component.code)
    inner = np.zeros(window.shape[1:], bool)
    inner[max(0, row - 2 - y0) : row + 3 - y0, max(0, col - 2 - x0) : col + 3 - x0] = True
    ring = window[:, ~inner].mean(axis=1) if (~inner).any() else window.mean(axis=(1, 2))
    value = window[:, row - y0, col - x0]
    usual = float(m.depart[row, col])
    departs = (value - ring) * np.sign(usual) > 0.25 * abs(usual)
    constant = np.abs(value - np.median(value)) <= 2 + 2 * m.own_life[row, col]
    unusual_ring = m.own_life[row, col] < 0.35 * m.ring_life[row, col]
    return int((departs | (constant & unusual_ring)).sum()), len(value)
