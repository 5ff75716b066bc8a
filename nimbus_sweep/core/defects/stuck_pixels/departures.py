"""How every sample of a shot departs from its surroundings over time: what the search for stuck pixels rests on."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import cv2
import numpy as np
from numpy.typing import NDArray

from ...evidence.time_volume import TimeVolume
from ...imaging.stack_statistics import median

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
    held = len(volume.numbers)
    chosen = np.unique(np.linspace(0, held - 1, min(held, sampled)).round().astype(int))
    spans = np.array_split(chosen, min(_SPANS, len(chosen)))
    components = [i for i, c in enumerate(volume.format.components) if c.name != "A"]
    maps = []
    for place, index in enumerate(components):
        component = volume.format.components[index]
        stack = volume.component_stack(index)
        shape = (component.height, component.width)
        means = np.zeros((len(spans), *shape), np.float32)
        for k, span in enumerate(spans):
            for number in span:
                # A departure is linear in the samples: that of their mean is the mean of theirs.
                cv2.accumulate(_countable(stack[number]), means[k])
            means[k] /= np.float32(len(span) * component.code)
            if on_progress:
                on_progress((place + (k + 1) / len(spans)) / len(components))
        value = np.average(means, axis=0, weights=[len(span) for span in spans]).astype(np.float32)
        for mean in means:
            mean -= ring_mean(mean)
        depart = median(means)
        maps.append(
            DepartureMap(
                depart=depart,
                steady=_steady(means),
                wander=np.float32(1.4826) * median(np.abs(means - depart)),
                value=value,
                noise=_noise(stack[chosen[:: max(1, len(chosen) // 24)], 1::7].astype(np.float32) / np.float32(component.code)),
            )
        )
    return tuple(maps)


def _countable(samples: NDArray[np.generic]) -> NDArray[np.generic]:
    """Samples as the library can add them up; what is no number in a float picture counts as nothing."""
    if samples.dtype.kind == "f":
        return np.nan_to_num(samples.astype(np.float32), nan=0.0, posinf=1.0, neginf=0.0)
    return np.ascontiguousarray(samples)


def _noise(samples: Plane) -> float:
    """From rows over frames: the spread of each sample's bend between its neighbours, which a passing slope does not raise."""
    bend = samples[:, :, 1:-1] - 0.5 * (samples[:, :, :-2] + samples[:, :, 2:])
    return float(np.percentile(bend.std(axis=0), 10) / np.sqrt(1.5)) if bend.size else 0.0


def _steady(means: NDArray[np.float32]) -> Plane:
    if len(means) < 2:
        return np.asarray(means[0])
    low, second = np.partition(means, 1, axis=0)[:2]
    high, penultimate = -np.partition(-means, 1, axis=0)[:2]
    up = np.where((second > 0) & (low > -0.25 * second), second, 0)
    down = np.where((penultimate < 0) & (high < -0.25 * penultimate), penultimate, 0)
    return (up + down).astype(np.float32)


def ring_mean(values: Plane) -> Plane:
    """Mean of the 24 samples on the border of the 7 x 7 block about each sample."""
    wide = cv2.boxFilter(values, -1, (7, 7), normalize=False, borderType=cv2.BORDER_REFLECT_101)
    inner = cv2.boxFilter(values, -1, (5, 5), normalize=False, borderType=cv2.BORDER_REFLECT_101)
    return np.asarray((wide - inner) / np.float32(24))


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
        return np.asarray(plane[:rows, :cols].reshape(rows // tile, tile, cols // tile, tile).mean((1, 3), dtype=np.float64))

    fixed = tiles(np.abs(m.steady))
    moving = tiles(m.wander)
    stuck = fixed + moving > 0.5 + 0.5 * m.noise
    if stuck.sum() < 8:
        return True
    share = fixed[stuck] / (fixed + moving)[stuck]
    # (measured on open clips: 0.04 at most where the camera travels, 0.46 and more where it moves 3 px or less)
    return bool(np.percentile(share, 90) > 0.2)
