"""What a line looks like in one frame: how it stands out, whether the picture goes on under it, and whether it goes with the scene."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from functools import cache

import cv2
import numpy as np
from scipy.ndimage import uniform_filter1d

from ...evidence.moments import Moment
from ...imaging.motion import Plane
from .lines import Array, Line
from .row_fit import straightened

# Standard deviations of lines that are tried, in pixels of a picture so wide or narrower; those beside a line that are looked at.
_WIDTHS, _WIDE, _REACH = (0.6, 1.0, 1.6, 2.6), 960, 24
# Rows of the straightened line at most, groups of them, and rows the detail of the picture is finer than.
_ROWS, _GROUPS, _FINE = 160, 24, 7
# Rows in which the frames before and after are asked; pixels it may lie beside there.
_ASKED, _SLIP = 32, 3
# Variance of light, in codes squared, below which little is told of what a line hides; how much it hides at most, with what is off.
_FLAT, _COVERS = 100.0, 1.2
# How many times as high and as wide what is alike may be.
_ALIKE = 1.6
# What keeps quotients from growing without bound, in codes.
_CODES = 0.2


@dataclass(frozen=True)
class Sighting:
    """A line in a frame.

    Attributes
    ----------
    line : Line
    width : float
        Standard deviation of the Gaussian nearest its profile, in pixels.
    height : float
        Of that, in 8-bit codes, above 0.
    misfit : float
        What the Gaussian leaves of the mean profile, of its height.
    stands_out, highest : float
        Its height against the usual departure of places beside it, and against the highest.
    steady : float
        Its height against how far it differs over its rows, more than the light it hides tells.
    uneven : float
        Log of how far it differs so, against places beside it.
    step : float
        How far what is left and right of it differs, of its height.
    agrees, usual : float
        How well the fine detail under it goes with that on both sides, over the same for places beside it; and that.
    busy : float
        Log of the power of the fine detail in it against that beside.
    with_scene, in_place : dict of int to float
        By frames before or after it: what is seen of it where the scene has gone, and where it lies itself, of its height.
    goes, sinks : dict of int to float
        How far the scene goes across and down to these frames, in pixels.
    cover : tuple of float
        Of its groups of rows the sums that tell its height against the light of what is beside it: count, light, height, light
        squared, light times height.
    alike : int
        Other lines of the frame about as high and as wide.
    """

    line: Line
    width: float
    height: float
    misfit: float
    stands_out: float
    highest: float
    steady: float
    uneven: float
    step: float
    agrees: float
    usual: float
    busy: float
    with_scene: Mapping[int, float]
    in_place: Mapping[int, float]
    goes: Mapping[int, float]
    sinks: Mapping[int, float]
    cover: tuple[float, float, float, float, float]
    alike: int = 0


def all_sighted(lines: Sequence[Line], at: Moment) -> list[Sighting]:
    """Measure the lines of a frame, as it was looked at."""
    seen = [_sighted(line, at) for line in lines]
    told = np.log([(s.height, s.width) for s in seen]).reshape(-1, 2)
    near = (np.abs(told[:, None] - told[None]) < np.log(_ALIKE)).all(-1)
    bright = np.array([s.line.bright for s in seen])
    alike = (near & (bright[:, None] == bright[None])).sum(1) - 1
    return [replace(s, alike=int(n)) for s, n in zip(seen, alike, strict=True)]


def _sighted(line: Line, at: Moment) -> Sighting:
    light = at.light
    scale = max(1.0, light.shape[1] / _WIDE)
    reach = round(_REACH * scale)
    fold = max(1, -(-(line.stop - line.first) // _ROWS))
    strip = straightened(light, line.x, line.lean, line.first, line.stop, fold, reach)
    sign = np.float32(1 if line.bright else -1)
    strip *= sign
    mean = strip.mean(0)
    fits = [(_misfit(mean, width * scale), width * scale) for width in _WIDTHS]
    misfit, width = min(fits)
    told = _kernel(width)
    far = int(np.ceil(2 * width)) + 2
    beside = np.abs(np.arange(-reach, reach + 1)) > far
    groups = _grouped(strip)
    heights = cv2.filter2D(groups, -1, told[None], borderType=cv2.BORDER_REPLICATE)
    means = heights.mean(0)
    height = max(float(means[reach]), _CODES)
    spreads = 1.4826 * np.median(np.abs(heights - np.median(heights, 0)), 0) + _CODES
    others = means[beside]
    ground = sign * (groups[:, reach - far - 3 : reach - far + 1].mean(1) + groups[:, reach + far : reach + far + 4].mean(1)) / 2
    own = sign * heights[:, reach]
    # What hides the picture is lower the lighter what it hides, and no less even for that.
    away = ground - ground.mean()
    cover = float(np.clip((away * own).sum() / ((away**2).sum() + _FLAT * len(own)), -_COVERS, _COVERS))
    evenly = own - cover * away
    spread = float(1.4826 * np.median(np.abs(evenly - np.median(evenly)))) + _CODES
    agrees, usual, busy = _detail(strip, far, beside)
    with_scene, in_place, goes, sinks = _beside_in_time(line, at, told, height)
    return Sighting(
        line=line,
        width=width,
        height=height,
        misfit=min(misfit, 3.0),
        stands_out=height / (1.4826 * float(np.median(np.abs(others - np.median(others)))) + _CODES),
        highest=height / (float(np.abs(others).max()) + _CODES),
        steady=height / spread,
        uneven=float(np.log(spread / np.median(spreads[beside]))),
        step=abs(float(mean[reach + far : reach + far + 4].mean() - mean[reach - far - 3 : reach - far + 1].mean())) / (height + 0.5),
        agrees=agrees,
        usual=usual,
        busy=busy,
        with_scene=with_scene,
        in_place=in_place,
        goes=goes,
        sinks=sinks,
        cover=(float(len(own)), float(ground.sum()), float(own.sum()), float((ground**2).sum()), float((ground * own).sum())),
    )


@cache
def _kernel(width: float) -> Plane:
    """Tells the height of a Gaussian line over what is curved no more than a parabola: (2 n + 1,), float32."""
    reach = int(np.ceil(3 * width)) + 3
    away = np.arange(-reach, reach + 1.0)
    line = np.exp(-0.5 * (away / width) ** 2)
    smooth = np.stack([np.ones_like(away), away, away * away], 1)
    told = line - smooth @ np.linalg.lstsq(smooth, line, rcond=None)[0]
    return np.asarray(told / (told @ line), np.float32)


@cache
def _basis(width: float) -> tuple[Array, Array]:
    reach = len(_kernel(width)) // 2
    away = np.arange(-reach, reach + 1.0)
    basis = np.stack([np.exp(-0.5 * (away / width) ** 2), np.ones_like(away), away, away * away], 1)
    return basis, np.linalg.pinv(basis)


def _misfit(mean: Plane, width: float) -> float:
    """What a Gaussian so wide leaves of a mean profile, of its height."""
    basis, inverse = _basis(width)
    reach, middle = len(basis) // 2, len(mean) // 2
    window = mean[middle - reach : middle + reach + 1].astype(np.float64)
    found = inverse @ window
    left = float(np.sqrt(np.mean((window - basis @ found) ** 2)))
    return left / max(abs(float(found[0])), 1e-6)


def _grouped(strip: Plane) -> Plane:
    rows = max(1, len(strip) // _GROUPS)
    count = len(strip) // rows
    return np.asarray(strip[: count * rows].reshape(count, rows, -1).mean(1), np.float32)


def _detail(strip: Plane, far: int, beside: Array) -> tuple[float, float, float]:
    """How well the fine detail down the line goes with that on both sides, over the usual; the usual; log of its power, over the usual."""
    fine = strip - uniform_filter1d(strip, _FINE, axis=0, mode="nearest")
    middle, sides = fine[:, far:-far], fine[:, : -2 * far] + fine[:, 2 * far :]
    power = (fine**2).mean(0) + _CODES
    both = (middle * sides).sum(0) / np.sqrt((middle**2).sum(0) * (sides**2).sum(0) + 1e-3)
    at, others = strip.shape[1] // 2 - far, beside[far:-far]
    usual = float(np.median(both[others]))
    return float(both[at]) - usual, usual, float(np.log(power[strip.shape[1] // 2] / np.median(power)))


def _beside_in_time(line: Line, at: Moment, told: Plane, height: float) -> tuple[dict[int, float], ...]:
    """What the frames before and after show where the scene has gone, and at the line's own place; how far the scene goes across, and down."""
    with_scene: dict[int, float] = {}
    in_place: dict[int, float] = {}
    goes: dict[int, float] = {}
    sinks: dict[int, float] = {}
    rows = np.arange(line.first, line.stop, max(1, (line.stop - line.first) // _ASKED))
    reach, size = len(told) // 2 + _SLIP, at.light.shape
    cols = np.clip(np.rint(line.at(rows)).astype(np.int64)[:, None] + np.arange(-reach, reach + 1), 0, size[1] - 1)
    every_row, every_col = np.repeat(rows, cols.shape[1]), cols.ravel()
    sign = 1 if line.bright else -1
    for offset in at.offsets:
        moved = at.light_at(offset, every_row, every_col).reshape(cols.shape).mean(0)
        stays = at.light_of(offset)[every_row, every_col].reshape(cols.shape).mean(0)
        moved_by, stays_by = (sign * np.convolve(part, told[::-1], "valid") / height for part in (moved, stays))
        with_scene[offset] = float(moved_by[1:-1].max())
        in_place[offset] = float(stays_by.max())
        way = at.way(offset)
        down, across = size[0] / way.shape[0], size[1] / way.shape[1]
        y, x = (rows / down).astype(int), (np.clip(line.at(rows), 0, size[1] - 1) / across).astype(int)
        to_the_right, lower = np.median(way[np.minimum(y, way.shape[0] - 1), x], axis=0).tolist()
        goes[offset], sinks[offset] = to_the_right * across, lower * down
    return with_scene, in_place, goes, sinks
