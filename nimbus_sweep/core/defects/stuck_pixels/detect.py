"""Stuck and dead pixels, found by how they behave over time.

A stuck pixel departs from its surroundings in the same way in nearly every frame. Three questions decide:

1. *Does it stand out?* Of the mean over time, what is left of each sample once the texture about it has told its share (`texture`).
   Where the scene moves, its own texture averages out and the stuck pixel does not; where nothing moves, the still texture sets the bar.
2. *Is it constant?* A departure that comes and goes with the scene (a highlight on water) is no site's; one that keeps its value while
   the light around it lives is.
3. *Is it a sensor site?* Where the scene holds still, a small bright thing of the scene would pass the first
   two; there the departure must have the profile and the colour of a sensor site (`sensor_site`) rather than of a lens, or
   end at the darkest or lightest value a channel can hold.

A logistic model weighs the answers (`alone`).
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, field, replace

import cv2
import numpy as np
from numpy.typing import NDArray

from ...base.parallel import parallel_map
from ...evidence.moved_pairs import MovedPairs
from ...evidence.time_volume import TimeVolume
from ...media.colour import to_rgb
from ...media.frames import PictureFormat, as_numbers
from ...model.findings import CONVINCES, Finding, Surveyed
from ...model.regions import Masked
from .alone import Place, among, features, is_certain, sureness
from .departures import DepartureMap, Plane, departure_maps, stands_still
from .evidence import StuckPixelEvidence
from .sensor_site import KERNELS, SiteFit, drawn_by, fit_site
from .standing import standing_sites
from .texture import texture_of

_SQUARE5 = np.ones((5, 5), np.uint8)
# Pixels within which the profile of a site may lie off the place that stands out.
_NEAR = 2
# Findings less sure than this are not listed.
_LISTED = 0.3
# A change of the light over time, in 8-bit display steps, that tells of a moving scene.
_LIVES = 4
# How far around a site its like are counted, in pixels.
_CROWD = 40
# Pixels at the picture's edge where nothing is told of what stands alone.
_EDGE = 2
# How far a place stands out, in deviations, from which it is looked at; how many are at most; and which of the strongest tell how far the
# scene itself makes something stand out: there are seldom as many sites.
_LOOKED_AT, _MOST, _TAIL = 5.0, 120, (30, 120)
# Likelihood ratio, doubled, of the best profile of a site below which nothing more is asked of a place.
_LEAST_DRAWN = 80.0


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
        0 to 1; it convinces from `findings.CONVINCES` on.
    seen, looked : int
        Frames in which it departs as it usually does, of the frames looked at.
    departure : float
        How far its strongest component departs, in 8-bit display steps.
    scene_change : float
        How much the light around it changed over time, in 8-bit display steps.
    misfit, lens_misfit : float
        Share of the departure that the profile of a sensor site, and of a point drawn by a lens, leaves unexplained.
    still : bool
        The scene, or some of it, keeps its place: the site's profile had to decide.
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
    misfit: float
    lens_misfit: float
    still: bool = False
    by_hand: bool = False


@dataclass(frozen=True)
class PixelSurvey:
    """The maps of a shot and the stuck pixels found in it."""

    maps: tuple[DepartureMap, ...]
    found: tuple[StuckPixel, ...] = field(default=())


def _spread_up(plane: Plane, shape: tuple[int, int]) -> Plane:
    """A component's map at the picture's full size, each sample repeated."""
    if plane.shape == shape:
        return plane
    down = -(-shape[0] // plane.shape[0])
    across = -(-shape[1] // plane.shape[1])
    return np.repeat(np.repeat(plane, down, 0), across, 1)[: shape[0], : shape[1]]


def find(volume: TimeVolume, on_progress: Callable[[float], None] | None = None, pairs: MovedPairs | None = None) -> PixelSurvey:
    """Find the stuck and dead pixels of a shot.

    Parameters
    ----------
    volume : TimeVolume
    on_progress : callable
        Told the share done, 0 to 1; may raise to stop.
    pairs : MovedPairs
        Of the shot, where the camera moves on: what keeps its place then is told by it.

    Returns
    -------
    PixelSurvey
        Sites of confidence 0.3 and above, surest first. A shot of fewer than 8 frames proves nothing and
        gives none.
    """
    progress = on_progress or (lambda share: None)
    maps = departure_maps(volume, on_progress=lambda share: progress(0.6 * share))
    if len(volume.numbers) < 8 or min(maps[0].depart.shape) < 9:
        return PixelSurvey(maps)
    sites = told_by_passing(volume, maps, pairs) if pairs is not None else []
    progress(0.7)
    looked = [(one, sureness(told)) for one, told in alone(volume, maps, sites, lambda share: progress(0.7 + 0.3 * share))]
    certain = sum(is_certain(sure) for sure in [*(s.confidence for s in sites), *(sure for _, sure in looked)])
    for one, by_itself in looked:
        sure = round(among(by_itself, certain - is_certain(by_itself)), 3)
        near = [s for s in sites if abs(s.x - one.x) < 3 and abs(s.y - one.y) < 3]
        if sure >= _LISTED and all(s.confidence < sure for s in near):
            sites = [s for s in sites if s not in near] + [replace(one, confidence=sure)]
    return PixelSurvey(maps, tuple(sorted(sites, key=lambda s: (-s.confidence, s.y, s.x))))


def alone(
    volume: TimeVolume, maps: tuple[DepartureMap, ...], known: Sequence[StuckPixel], progress: Callable[[float], None]
) -> Iterator[tuple[StuckPixel, tuple[float, ...]]]:
    """What stands alone in the mean over time, strongest first, with what is told of it; see `alone.FEATURES`.

    Parameters
    ----------
    volume : TimeVolume
    maps : tuple of DepartureMap
        Of the shot.
    known : sequence of StuckPixel
        What need not be looked at where it convinces.
    progress : callable
        Told the share done, 0 to 1; may raise to stop.
    """
    shape = (volume.format.height, volume.format.width)
    still = stands_still(maps[0])
    textures = list(parallel_map(texture_of, [m.value for m in maps]))
    progress(0.2)
    strength = np.max([_spread_up(each, shape) for each in parallel_map(lambda t: t.stands_out(KERNELS), textures)], axis=0)
    progress(0.3)
    # At the picture's edge the lens, the codec and what is cut off there look like sites.
    strength[:_EDGE] = strength[-_EDGE:] = 0
    strength[:, :_EDGE] = strength[:, -_EDGE:] = 0
    rows, cols = np.nonzero((strength >= cv2.dilate(strength, _SQUARE5) - 1e-6) & (strength > _LOOKED_AT))
    strengths = strength[rows, cols]
    order = np.argsort(-strengths, kind="stable")
    tail = [float(strengths[order[min(n, len(order) - 1)]]) for n in _TAIL] if len(order) else []
    taken = np.zeros(shape, bool)
    for site in known:
        if site.confidence >= CONVINCES:
            taken[max(0, site.y - 4) : site.y + 5, max(0, site.x - 4) : site.x + 5] = True
    looked, cells = 0, [volume.format.subsampling(i) for i in range(len(maps))]
    for y, x, stands_out in zip(rows[order].tolist(), cols[order].tolist(), strengths[order].tolist(), strict=True):
        if taken[y, x]:
            continue
        if looked == _MOST:
            break
        looked += 1
        progress(0.3 + 0.7 * looked / _MOST)
        taken[max(0, y - 4) : y + 5, max(0, x - 4) : x + 5] = True
        drawn = drawn_by(textures, cells, x, y, volume.format, volume.colour)
        if max(drawn.site, drawn.block) < _LEAST_DRAWN:
            continue
        site, fit = _describe(volume, maps, x, y)
        # Where nothing changes around it, a place is still though the camera moves: a plain sky, a lasting shadow.
        site = replace(site, still=still or site.scene_change < _LIVES)
        place = Place(
            stands_out=stands_out,
            crowd=_crowd(rows, cols, strengths, y, x, stands_out),
            tail=(tail[0], tail[1]),
            seen=site.seen / max(1, site.looked),
            departure=site.departure,
            changes=site.scene_change,
            still=site.still,
        )
        yield site, features(volume, maps, textures, _scales(maps, volume.format, fit.x, fit.y), place, fit)


def told_by_passing(volume: TimeVolume, maps: tuple[DepartureMap, ...], pairs: MovedPairs) -> list[StuckPixel]:
    """Sites that are told by how they keep their place while the scene moves on."""
    found: list[StuckPixel] = []
    for one in standing_sites(pairs):
        if one.sure < _LISTED:
            break
        site, _ = _describe(volume, maps, one.x, one.y)
        if max(abs(site.x - one.x), abs(site.y - one.y)) > _NEAR + pairs.factor:
            # What the mean over time shows there is something else.
            site = replace(site, x=one.x, y=one.y, width=1, height=1)
        if not any(abs(s.x - site.x) < 3 and abs(s.y - site.y) < 3 for s in found):
            found.append(replace(site, confidence=round(one.sure, 3)))
    return found


def _crowd(rows: NDArray[np.int64], cols: NDArray[np.int64], strengths: Plane, row: int, col: int, strength: float) -> int:
    """How many like it are about: a scene's own sharp specks come in crowds, steps of a wire, grass."""
    near = (np.abs(rows - row) <= _CROWD) & (np.abs(cols - col) <= _CROWD) & ((np.abs(rows - row) > 6) | (np.abs(cols - col) > 6))
    return int((strengths[near] > 0.7 * strength).sum())


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
    y0, x0 = max(0, y - radius), max(0, x - radius)
    for i, m in enumerate(maps):
        doubt = _scale(m, *_at(layout, i, x, y)) + 1
        worst = _spread_up(np.abs(m.depart), shape)[y0 : y + radius + 1, x0 : x + radius + 1] / doubt
        row, col = np.unravel_index(int(worst.argmax()), worst.shape)
        # Coarser components say which block; the finest decides between equals because it comes first.
        if worst[row, col] > best * 1.05:
            best, at = float(worst[row, col]), (x0 + int(col), y0 + int(row))
    return replace(_describe(volume, maps, *at)[0], by_hand=True, confidence=1.0)


def _scale(m: DepartureMap, row: int, col: int) -> float:
    """The usual size of a departure in the 21 x 21 samples about a place, as a standard deviation."""
    return 1.4826 * float(np.median(np.abs(m.depart[max(0, row - 10) : row + 11, max(0, col - 10) : col + 11])))


def colour_name(rgb: NDArray[np.float64]) -> str:
    """Name a departure in red, green and blue: the channels that stand out upward, or what remains when they fall."""
    size = np.abs(rgb).max()
    if size == 0:
        return "black"
    up: tuple[bool, ...] = tuple(bool(v > 0.35 * rgb.max()) and bool(v > 0.2 * size) for v in rgb)
    if not any(up):
        # Everything falls: name what falls least, if one falls far less.
        kept = tuple(bool(v > -0.35 * size) for v in rgb)
        up = kept if any(kept) and not all(kept) else (False, False, False)
    names: dict[tuple[bool, ...], str] = {
        (True, True, True): "white",
        (True, False, False): "red",
        (False, True, False): "green",
        (False, False, True): "blue",
        (True, True, False): "yellow",
        (True, False, True): "magenta",
        (False, True, True): "cyan",
    }
    return names.get(up, "black")


def _at(layout: PictureFormat, index: int, x: int, y: int) -> tuple[int, int]:
    across, down = layout.subsampling(index)
    component = layout.components[index]
    return min(y // down, component.height - 1), min(x // across, component.width - 1)


def _describe(volume: TimeVolume, maps: tuple[DepartureMap, ...], x: int, y: int) -> tuple[StuckPixel, SiteFit]:
    layout = volume.format
    scales = _scales(maps, layout, x, y)
    fit = fit_site([m.value for m in maps], [layout.subsampling(i) for i in range(len(maps))], scales, x, y)
    # The component in which the site stands out most tells in how many frames it does.
    index = int(np.argmax([abs(a) / (scale + 1) for a, scale in zip(fit.amplitudes, scales, strict=True)]))
    row, col = _at(layout, index, fit.x, fit.y)
    m = maps[index]
    seen, looked, change = _count(volume, m, index, row, col)
    site = StuckPixel(
        x=fit.x,
        y=fit.y,
        width=fit.width,
        height=fit.height,
        colour=colour_name(to_rgb(fit.amplitudes, layout, volume.colour, difference=True)),
        confidence=0.0,
        seen=seen,
        looked=looked,
        departure=round(max(abs(a) for a in fit.amplitudes), 1),
        scene_change=round(change, 1),
        misfit=round(fit.misfit, 3),
        lens_misfit=round(fit.lens_misfit, 3),
    )
    return site, fit


def _scales(maps: tuple[DepartureMap, ...], layout: PictureFormat, x: int, y: int) -> list[float]:
    return [_scale(m, *_at(layout, i, x, y)) for i, m in enumerate(maps)]


def _count(volume: TimeVolume, m: DepartureMap, index: int, row: int, col: int) -> tuple[int, int, float]:
    """In how many of the held frames the sample departs as it usually does, or keeps its usual value regardless.

    Also how many frames were looked at, and how much the light around it changed over them.
    """
    component = volume.format.components[index]
    stack = volume.component_stack(index)
    y0, x0 = max(0, row - 3), max(0, col - 3)
    window = as_numbers(stack[:, y0 : row + 4, x0 : col + 4]) / np.float32(component.code)
    around = np.ones(window.shape[1:], bool)
    around[max(0, row - 2 - y0) : row + 3 - y0, max(0, col - 2 - x0) : col + 3 - x0] = False
    value = window[:, row - y0, col - x0]
    usual = float(m.depart[row, col])
    ring = window[:, around].mean(axis=1)
    departs = (value - ring) * np.sign(usual) > 0.25 * abs(usual)
    deviation, change = float(value.std()), float(ring.std())
    if deviation < 0.35 * change:
        departs |= np.abs(value - np.median(value)) <= 2 + 2 * deviation
    return int(departs.sum()), len(value), change


def as_finding(site: StuckPixel, first: int, stop: int) -> Finding:
    """The site as a finding of the shot `first` to `stop` - 1."""
    return Finding(
        kind="stuck-pixel",
        step="pixel-mend",
        x=site.x,
        y=site.y,
        width=site.width,
        height=site.height,
        first=first,
        stop=stop,
        confidence=site.confidence,
        evidence=StuckPixelEvidence(
            colour=site.colour,
            seen=site.seen,
            looked=site.looked,
            share_of_frames=round(site.seen / max(1, site.looked), 3),
            departure=site.departure,
            scene_change=site.scene_change,
            misfit=site.misfit,
            lens_misfit=site.lens_misfit,
            still=site.still,
        ),
        by_hand=site.by_hand,
    )


def surveyed(
    volume: TimeVolume,
    first: int,
    stop: int,
    on_progress: Callable[[float], None] | None = None,
    hold_out: Masked | None = None,
    pairs: MovedPairs | None = None,
) -> Surveyed:
    """The stuck pixels of a shot as findings, surest first; none that lies in what is held out all the time."""
    found = find(volume, on_progress, pairs).found
    if hold_out is not None and not hold_out.changes:
        held = hold_out.mask((volume.format.height, volume.format.width))
        found = tuple(site for site in found if held[site.y, site.x] < 0.5)
    return Surveyed([as_finding(site, first, stop) for site in found])
