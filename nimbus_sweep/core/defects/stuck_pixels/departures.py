"""How every sample of a shot departs from its surroundings over time: what the search for stuck pixels rests on."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from functools import partial

import cv2
import numpy as np
from numpy.typing import NDArray

from ...base.compiled import compiled
from ...base.parallel import parallel_map
from ...evidence.time_volume import TimeVolume
from ...media.frames import as_numbers

Plane = NDArray[np.float32]
SAMPLED = 96
_SPANS = 8
# Rows that are looked at together, and how far beyond a sample its ring reaches.
_BAND, _RING = 128, 3
# Rows of which one tells the noise, of a picture of so many samples.
_EVERY, _FULL = 7, 1920 * 1080


@dataclass(frozen=True)
class DepartureMap:
    """How the samples of one component behave over time, each (height, width) float32 in 8-bit display steps.

    A departure is a sample less the mean of the 24 samples around its 5 x 5 block. The shot is looked at in
    eight consecutive spans.

    Attributes
    ----------
    depart : median of the spans' mean departures
    steady : the departure that all spans but one reach in the same direction; 0 where they disagree
    wander : median distance of the spans' mean departures from `depart`, as a standard deviation
    value : mean of the sample over frames
    noise : float; sensor noise, as the quietest tenth of the samples shows it
    """

    depart: Plane
    steady: Plane
    wander: Plane
    value: Plane
    noise: float


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
    tell = on_progress or (lambda _: None)
    held = len(volume.numbers)
    chosen = np.unique(np.linspace(0, held - 1, min(held, sampled)).round().astype(int))
    spans = np.array_split(chosen, min(_SPANS, len(chosen)))
    components = [i for i, c in enumerate(volume.format.components) if c.name != "A"]
    samples = sum(volume.component_stack(i)[0].size for i in components)
    made, before = [], 0.0
    for index in components:
        part = volume.component_stack(index)[0].size / samples
        # One after the other: what is held for one is much.
        made.append(_map_of(volume, index, chosen, spans, partial(_part_of, tell, before, part)))
        before += part
    return tuple(made)


def _part_of(tell: Callable[[float], None], since: float, part: float, share: float) -> None:
    tell(since + part * share)


def _map_of(
    volume: TimeVolume, index: int, chosen: NDArray[np.int64], spans: Sequence[NDArray[np.int64]], tell: Callable[[float], None]
) -> DepartureMap:
    """The same of one component: its number, the places of the frames looked at, and these in spans of time."""
    stack, code = volume.component_stack(index), volume.format.components[index].code
    height, width = stack.shape[1:]
    means = np.zeros((len(spans), height, width), np.float32)
    depart, wander, steady, value = (np.empty((height, width), np.float32) for _ in range(4))
    bands = range(0, height, _BAND)
    heavy = np.array([len(span) for span in spans], np.float32) / np.float32(len(chosen))

    def average(k: int) -> None:
        for number in spans[k]:
            # A departure is linear in the samples: that of their mean is the mean of theirs.
            cv2.accumulate(_countable(stack[number]), means[k])
        means[k] /= np.float32(len(spans[k]) * code)

    def settle(top: int) -> None:
        low = min(height, top + _BAND)
        # A ring reaches this far beyond the band.
        above, below = max(0, top - _RING), min(height, low + _RING)
        part = np.ascontiguousarray(means[:, above:below])
        value[top:low] = np.tensordot(heavy, part[:, top - above : low - above], 1)
        bare = np.stack([mean - ring_mean(mean) for mean in part])[:, top - above : low - above]
        for plane, own in zip((depart, wander, steady), _over_spans(np.ascontiguousarray(bare)), strict=True):
            plane[top:low] = own

    done, whole = 0, len(spans) + len(bands)
    for work, asked in ((average, range(len(spans))), (settle, bands)):
        for _ in parallel_map(work, asked):
            done += 1
            tell(done / whole)
    rows = _EVERY * max(1, round(means[0].size / _FULL))
    sparse = stack[chosen[:: max(1, len(chosen) // 24)], 1::rows]
    return DepartureMap(depart, steady, wander, value, _noise(as_numbers(sparse) / np.float32(code)))


@compiled("(float32[:, :, ::1],)")
def _over_spans(means: NDArray[np.float32]) -> tuple[Plane, Plane, Plane]:
    """At each sample over the spans: the median; the median distance from it, as a standard deviation; and what all but one reach alike."""
    count, height, width = means.shape
    depart, wander = np.empty((height, width), np.float32), np.empty((height, width), np.float32)
    steady = np.zeros((height, width), np.float32)
    ordered, away = np.empty(count, np.float32), np.empty(count, np.float32)
    lower, upper = (count - 1) // 2, count // 2
    half, normal = np.float32(0.5), np.float32(1.4826)
    for y in range(height):
        for x in range(width):
            for k in range(count):
                at, value = k, means[k, y, x]
                while at > 0 and ordered[at - 1] > value:
                    ordered[at] = ordered[at - 1]
                    at -= 1
                ordered[at] = value
            middle = (ordered[lower] + ordered[upper]) * half
            depart[y, x] = middle
            for k in range(count):
                at, value = k, abs(ordered[k] - middle)
                while at > 0 and away[at - 1] > value:
                    away[at] = away[at - 1]
                    at -= 1
                away[at] = value
            wander[y, x] = normal * ((away[lower] + away[upper]) * half)
            if count < 2:
                steady[y, x] = ordered[0]
                continue
            low, second, penultimate, high = ordered[0], ordered[1], ordered[count - 2], ordered[count - 1]
            if second > 0 and low > np.float32(-0.25) * second:
                steady[y, x] += second
            if penultimate < 0 and high < np.float32(-0.25) * penultimate:
                steady[y, x] += penultimate
    return depart, wander, steady


def _countable(samples: NDArray[np.generic]) -> NDArray[np.generic]:
    """Samples as the library can add them up; what is no number in a float picture counts as nothing."""
    if samples.dtype.kind == "f":
        return as_numbers(samples)
    return np.ascontiguousarray(samples)


def _noise(samples: Plane) -> float:
    """From rows over frames: the spread of each sample's bend between its neighbours, which a passing slope does not raise."""
    bend = samples[:, :, 1:-1] - 0.5 * (samples[:, :, :-2] + samples[:, :, 2:])
    return float(np.percentile(bend.std(axis=0), 10) / np.sqrt(1.5)) if bend.size else 0.0


def ring_mean(values: Plane) -> Plane:
    """Mean of the 24 samples on the border of the 7 x 7 block about each sample."""
    wide = cv2.boxFilter(values, -1, (7, 7), normalize=False, borderType=cv2.BORDER_REFLECT_101)
    inner = cv2.boxFilter(values, -1, (5, 5), normalize=False, borderType=cv2.BORDER_REFLECT_101)
    return np.asarray((wide - inner) / np.float32(24))


def stands_still(m: DepartureMap) -> bool:
    """Whether some of the scene keeps its place on the sensor, as it does when the camera is locked off.

    Told by the picture's own structure: where the scene moves it leaves no steady departures. A picture without
    structure proves no movement and counts as still.
    """
    tile = 16
    rows, cols = (size // tile * tile for size in m.steady.shape)
    if not rows or not cols:
        return True

    def tiles(plane: Plane) -> NDArray[np.float64]:
        return np.asarray(plane[:rows, :cols].reshape(rows // tile, tile, cols // tile, tile).mean((1, 3), dtype=np.float64))

    fixed = tiles(np.abs(m.steady))
    moving = tiles(m.wander)
    stuck = fixed + moving > 0.5 + 0.5 * m.noise
    if stuck.sum() < 8:
        return True
    share = fixed[stuck] / (fixed + moving)[stuck]
    # (measured on open clips: 0.04 at most where the camera travels, 0.46 and more where it moves 3 px or less)
    return bool(np.percentile(share, 90) > 0.2)
