"""How far a scratch is there, row by row: what is told of its height, as smooth as the picture about it lets it be believed.

Heights are told over what the picture does itself, which beside the line comes to nothing but is as noisy: what that noise is at each
scale, against what is seen on the line, says how much of each scale is believed (Wiener 1949, scale by scale).
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from scipy.ndimage import gaussian_filter1d

from ...imaging.motion import Plane
from .lines import Array
from .profiles import Profile, across, apart, half, windows

# Standard deviations of what a scale is smoother than, in rows of a picture so high; each so many times the one before.
_HIGH, _FINEST, _TIMES, _SCALES = 360, 3.0, 3.0, 4
# Standard deviations that rows lie apart to count as independent.
_ALONE = 3.5
# Frames from which the mean of a frame is believed to differ from that of the others; what is taken for none of it.
_FRAMES, _NONE, _MOST = 4, 0.25, 1.6


@dataclass(frozen=True)
class Steadiness:
    """How much is believed of what is seen of a scratch at each scale, 0 to 1: the finest first, then that of whole frames."""

    believed: tuple[float, ...]


def steadiness(samples: Sequence[tuple[Plane, Array]], profile: Profile, rows: slice) -> Steadiness:
    """Learn how steady a scratch is.

    Parameters
    ----------
    samples : sequence of (ndarray, float32, (height, width); ndarray, float64, (height,))
        A component in codes, and where the line crosses each of its rows.
    profile : Profile
        Of that component.
    rows : slice
        Those it is in.
    """
    seen = [_scales(*told(plane[rows], at[rows], profile), len(plane)) for plane, at in samples]
    beside = [_scales(*told(plane[rows], at[rows] + by, profile), len(plane)) for plane, at in samples for by in apart(profile.width)]
    believed = []
    for k in range(_SCALES):
        own, others = np.concatenate([s[k] for s in seen]), np.concatenate([s[k] for s in beside])
        believed.append(_believed(own, others, len(own) / (_ALONE * _sigma(k, len(samples[0][0])))))
    means, others = np.array([s[-1][0] for s in seen]), np.array([s[-1][0] for s in beside])
    whole = _believed(means - np.median(means), others, len(means)) if len(means) >= _FRAMES else 0.0
    return Steadiness((*believed, whole))


def presence(plane: Plane, at: Array, profile: Profile, steady: Steadiness, rows: slice) -> tuple[Array, float]:
    """How far a scratch is there in each row, and what is seen of it over all of them.

    Parameters
    ----------
    plane : ndarray, float32, (height, width)
        The component that the profile is of, in codes.
    at : ndarray, float64, (height,)
        Where it crosses each row.
    profile : Profile
    steady : Steadiness
    rows : slice

    Returns
    -------
    there : ndarray, float64, (height,)
        1 as measured, 0 outside its rows.
    seen : float
        1 as measured, about 0 in a frame without it.
    """
    *scales, whole = _scales(*told(plane[rows], at[rows], profile), len(plane))
    seen = float(whole[0])
    found = 1 + steady.believed[-1] * (whole - 1)
    for scale, believed in zip(scales, steady.believed[:-1], strict=True):
        found = found + believed * scale
    there = np.zeros(len(plane))
    # A little of a line is none.
    there[rows] = np.where(found < _NONE, 0.0, np.minimum(found, _MOST))
    return there, seen


def told(plane: Plane, at: Array, profile: Profile) -> tuple[Array, Array]:
    """Row by row, the height that is seen over that which is usual, and how much that tells: (rows,)."""
    tall, ground, left = across(*windows(plane, at, half(profile.width)), profile.width)
    usual = profile.level - profile.cover * ground
    usual = np.where(np.abs(usual) < 1, np.copysign(1.0, usual), usual)
    return tall / usual, usual * usual / (left + 0.5)


def _scales(ratio: Array, weight: Array, height: int) -> list[Array]:
    """The ratio taken apart by scales that add up to its smoothest form, finest first, and its mean."""
    mean = np.full(len(ratio), float((ratio * weight).sum() / weight.sum()))
    smooth = []
    for k in range(_SCALES):
        sigma = _sigma(k, height)
        told_by = gaussian_filter1d(weight, sigma, mode="nearest")
        smooth.append(gaussian_filter1d(ratio * weight, sigma, mode="nearest") / told_by)
    return [*(one - other for one, other in zip(smooth, [*smooth[1:], mean], strict=True)), mean]


def _sigma(scale: int, height: int) -> float:
    return float(_FINEST * _TIMES**scale * height / _HIGH)


def _believed(seen: Array, beside: Array, count: float) -> float:
    """The share of what is seen that is more than what is seen beside, and than chance gives so few independent numbers."""
    return float(np.clip(1 - (1 + 2 / np.sqrt(count)) * _power(beside) / max(_power(seen), 1e-9), 0, 1))


def _power(values: Array) -> float:
    """Mean square, of what lies far out only a part."""
    size = 3 * 1.4826 * float(np.median(np.abs(values))) + 1e-6
    return float(np.mean(np.minimum(values * values, size * size)))


def ends(samples: Sequence[tuple[Plane, Array]], profile: Profile, rows: slice, room: int) -> slice:
    """The rows a scratch is in, nearer than they were found: where most of it is there over all frames.

    Parameters
    ----------
    samples, profile
        See `steadiness`.
    rows : slice
        Where it was found.
    room : int
        Rows that it may go on, or end before, at each end.
    """
    height = len(samples[0][0])
    first, stop = max(0, rows.start - room), min(height, rows.stop + room)
    seen, weights = zip(*(told(plane[first:stop], at[first:stop], profile) for plane, at in samples), strict=True)
    weight = np.sum(weights, axis=0)
    mean = np.clip(np.sum([s * w for s, w in zip(seen, weights, strict=True)], axis=0) / weight, -0.5, 1.5) - 0.5
    # The stretch with the largest sum (Kadane 1977, by Bentley 1984), weighed by what tells.
    sums = np.concatenate([[0.0], np.cumsum(mean * np.minimum(weight, 4 * np.median(weight)))])
    least = np.minimum.accumulate(sums)
    end = int(np.argmax(sums - least))
    begin = int(np.argmin(sums[: end + 1]))
    # What was found at the edge of the picture goes on there.
    begin = 0 if rows.start == 0 and begin < room else first + begin
    end = height if rows.stop >= height and first + end > height - room else first + end
    return slice(begin, end) if end - begin > (rows.stop - rows.start) / 3 else rows
