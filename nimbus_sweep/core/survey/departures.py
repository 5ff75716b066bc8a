"""How every sample of a shot departs from its surroundings over time: what the search for stuck pixels rests on."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import cv2
import numpy as np
from numpy.typing import NDArray

from ..volume import TimeVolume

Plane = NDArray[np.float32]

SAMPLED = 96
_SPANS = 8
_PAIRS = {reach: [(-reach, dx) for dx in range(-reach, reach + 1)] + [(dy, -reach) for dy in range(1 - reach, 1)] for reach in (2, 3)}


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
    unsteady : standard deviation of the departure over frames
    own_life : standard deviation of the sample itself over frames
    ring_life : standard deviation of the mean around it over frames
    value : mean of the sample over frames
    """

    depart: Plane
    steady: Plane
    wander: Plane
    unsteady: Plane
    own_life: Plane
    ring_life: Plane
    value: Plane

    @property
    def noise(self) -> float:
        """The quietest tenth of the samples' own life: sensor noise, or less where nothing is noisy."""
        return float(np.percentile(self.unsteady[::3, ::3], 10))


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
    spans = np.array_split(chosen, min(_SPANS, len(chosen)))
    components = [i for i, c in enumerate(volume.format.components) if c.name != "A"]
    maps = []
    for place, index in enumerate(components):
        component = volume.format.components[index]
        stack = volume.component_stack(index)
        shape = (component.height, component.width)
        total, total2, own, own2, ring2 = (np.zeros(shape, np.float32) for _ in range(5))
        means = np.zeros((len(spans), *shape), np.float32)
        base = stack[chosen[0]].astype(np.float32) / np.float32(component.code)
        for k, span in enumerate(spans):
            for number in span:
                # About the first frame, so that the sums of squares keep their digits.
                values = stack[number].astype(np.float32)
                values *= np.float32(1 / component.code)
                values -= base
                ring = ring_mean(values)
                own += values
                cv2.accumulateSquare(values, own2)
                cv2.accumulateSquare(ring, ring2)
                np.subtract(values, ring, out=values)
                means[k] += values
                total += values
                cv2.accumulateSquare(values, total2)
            means[k] /= len(span)
            if on_progress:
                on_progress((place + (k + 1) / len(spans)) / len(components))
        count = np.float32(len(chosen))
        base_departs = base - ring_mean(base)
        # The spread over time does not see the constant part; the means do.
        means += base_departs
        depart = np.median(means, axis=0).astype(np.float32)
        maps.append(
            DepartureMap(
                depart=depart,
                steady=_steady(means),
                wander=np.float32(1.4826) * np.median(np.abs(means - depart), axis=0),
                unsteady=_deviation(total, total2, count),
                own_life=_deviation(own, own2, count),
                ring_life=_deviation(own - total, ring2, count),
                value=base + own / count,
            )
        )
    return tuple(maps)


def _steady(means: NDArray[np.float32]) -> Plane:
    if len(means) < 2:
        return means[0]
    low, second = np.partition(means, 1, axis=0)[:2]
    high, penultimate = -np.partition(-means, 1, axis=0)[:2]
    up = np.where((second > 0) & (low > -0.25 * second), second, 0)
    down = np.where((penultimate < 0) & (high < -0.25 * penultimate), penultimate, 0)
    return (up + down).astype(np.float32)


def _deviation(total: Plane, squares: Plane, count: np.float32) -> Plane:
    return np.sqrt(np.maximum(squares / count - (total / count) ** 2, 0))


def ring_mean(values: Plane) -> Plane:
    """Mean of the 24 samples on the border of the 7 x 7 block about each sample."""
    wide = cv2.boxFilter(values, -1, (7, 7), normalize=False, borderType=cv2.BORDER_REFLECT_101)
    inner = cv2.boxFilter(values, -1, (5, 5), normalize=False, borderType=cv2.BORDER_REFLECT_101)
    return (wide - inner) / np.float32(24)


def least_departure(value: Plane, reach: int) -> Plane:
    """How far each sample departs, the same way, from the middle of every pair of samples facing each other across it.

    The pairs lie on the border of the block of `reach` samples each side. Along an edge or a line some pair
    agrees with the sample, so only what stands alone departs from all.
    """
    height, width = value.shape
    padded = cv2.copyMakeBorder(value, reach, reach, reach, reach, cv2.BORDER_REFLECT_101)
    low = np.full(value.shape, np.inf, np.float32)
    high = np.full(value.shape, -np.inf, np.float32)
    for dy, dx in _PAIRS[reach]:
        one = padded[reach + dy : reach + dy + height, reach + dx : reach + dx + width]
        other = padded[reach - dy : reach - dy + height, reach - dx : reach - dx + width]
        departure = value - 0.5 * (one + other)
        np.minimum(low, departure, out=low)
        np.maximum(high, departure, out=high)
    return np.where(low > 0, low, np.where(high < 0, high, 0)).astype(np.float32)


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
        return plane[:rows, :cols].reshape(rows // tile, tile, cols // tile, tile).mean((1, 3), dtype=np.float64)

    fixed = tiles(np.abs(m.steady))
    moving = tiles(m.wander)
    told = fixed + moving > 0.5 + 0.5 * m.noise
    if told.sum() < 8:
        return True
    share = fixed[told] / (fixed + moving)[told]
    # (measured on open clips: 0.04 at most where the camera travels, 0.46 and more where it moves 3 px or less)
    return bool(np.percentile(share, 90) > 0.2)
