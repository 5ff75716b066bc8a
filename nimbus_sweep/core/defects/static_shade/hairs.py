"""Hairs told by how they look in the mean of a shot's frames, whether anything moves behind them or not.

A hair on the glass is a thin line of even width and depth with free ends, darker than all about it, which takes the same share of whatever lies behind. Such
lines are traced in the mean picture and measured along their way; a logistic model weighs what is measured. Its numbers are fitted by
`tools/fit_models.py` on drawn clips, each scene judged by a model fitted without it.

What is darker than all about it is what closing fills (black top-hat: J. Serra, Image Analysis and Mathematical Morphology, 1982; named from memory).
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from functools import cache
from pathlib import Path

import cv2
import numpy as np
from numpy.typing import NDArray
from scipy.ndimage import gaussian_filter1d, map_coordinates

from ...base.logistic import Logistic
from ...evidence.shot_light import ShotLight
from ...imaging.box import Box
from ...imaging.centrelines import Centreline
from ...imaging.motion import Plane, blur
from ...model.findings import CONVINCES

# What is measured of a line, and the values beyond which it says no more: a hair as dark as can be is no less one than those it was fitted to.
_RANGES = {
    "length": (2.7, 5.0),
    "width": (1.0, 9.0),
    "width_spread": (0.0, 1.5),
    "depth": (-1.5, 0.0),
    "depth_spread": (0.0, 0.8),
    "sides": (0.0, 1.5),
    "ends": (0.0, 1.5),
    "side_spread": (0.0, 0.4),
    "follows": (-0.5, 1.5),
    "core": (2.0, 5.0),
    "branches": (0.2, 3.0),
    "turns": (0.0, 0.12),
    "straight": (0.2, 1.0),
    "textured": (-6.0, -0.4),
    "steadier": (-1.5, 1.8),
    "lively": (-6.0, -1.0),
    "rank": (-1.5, 3.0),
    "uneven": (0.0, 0.6),
    "edge": (0.0, 1.0),
    "noise": (-2.0, 1.6),
    "below": (-1.5, 1.5),
    "lowest": (-1.5, 1.5),
    "wide_below": (-1.5, 1.5),
    "rivals": (0.0, 4.2),
}
FEATURES = tuple(_RANGES)
# What every hair is at most, whatever else speaks for it: darker than its surroundings near and far, even in depth and width, alike on both sides.
_AT_MOST = {
    **{"below": -0.4, "wide_below": -0.4, "lowest": -0.4},
    **{"uneven": 0.25, "depth_spread": 0.5, "width_spread": 0.7, "sides": 0.5, "ends": 1.0, "rivals": 3.1},
}
# Where nothing moves, how sure a line must be, and how many rivals it may have, to be told as sure; how sure it is told at most without that.
_STANDING_SURE, _STANDING_RIVALS, _STANDING_DOUBT = 0.97, 1.4, 0.6
# Rows of the picture that is looked at, about: in a larger one hairs are larger, too.
_LOOKED_AT = 540
_FRAMES = 24
# Pixels across which dark lines are closed, and the shares of the light about them at which they are cut out: one may lie on something dark.
_CLOSED, _CUT = 11, (0.8, 0.65, 0.45)
# What a line passes of the light somewhere at most.
_DEEP = 0.62
# Pixels across of what may be a line; of its length, from which it is a rival of the shortest hair, and may be a hair; samples that it
# takes up, and how many are measured for each cut.
_ACROSS_LEAST, _SHORT, _LONG, _AREA, _MOST = 14, 20, 30, (24, 6000), 60
# Offsets at which a line is looked at across: its core, and how far beside it its surroundings lie, from and to.
_ACROSS = np.arange(-14, 14.01, 0.5)
_CORE, _SHIFTS, _BESIDE = np.abs(_ACROSS) <= 0.5, np.abs(_ACROSS) <= 2.5, 4.0
# Of two lines, the share of the shorter one that lies on the other from which they are the same.
_SAME = 0.3
# Pixels along a line over which its depth is the same; and beyond its edge, to which it fades out.
_EVEN, _FADE = 4.0, 2.0
# How much its depth may change along it; and how far its soft edge reaches beyond what was cut out, in pixels.
_UNEVEN, _MARGIN = 0.3, 2.5


@dataclass(frozen=True)
class Hair:
    """A dark line in the mean picture.

    Attributes
    ----------
    line : Centreline
        In pixels of the picture that is looked at.
    box : Box
    shape : ndarray, bool, (rows, columns)
        What was cut out of that picture: True where it lies, over the box.
    told : tuple of float
        See `FEATURES`.
    sure : float
        That it is a hair, 0 to 1.
    """

    line: Centreline
    box: Box
    shape: NDArray[np.bool_]
    told: tuple[float, ...]
    sure: float

    def sure_in(self, standing: bool) -> float:
        """That it is a hair, where the scene stands or moves: what stands as a hair does, writing or a wire, is blurred by what moves."""
        alone = self.sure >= _STANDING_SURE and self.told[FEATURES.index("rivals")] <= _STANDING_RIVALS
        return self.sure if alone or not standing else min(self.sure, _STANDING_DOUBT)

    def under(self, line: Centreline) -> float:
        """The share of another line that lies on this one."""
        rows, cols = np.rint(line.points - (self.box.top, self.box.left)).astype(int).T
        held = (rows >= 0) & (cols >= 0) & (rows < self.box.height) & (cols < self.box.width)
        return float(self.shape[rows[held], cols[held]].sum() / len(line))


@dataclass(frozen=True)
class MeanPicture:
    """The mean of a shot's frames.

    Attributes
    ----------
    light, spread : ndarray, float32, (height, width)
        Mean and standard deviation over time, in 8-bit codes of light above black.
    noise : float
        Standard deviation of the noise of one frame.
    factor : int
        How many times smaller than the frames it is.
    """

    light: Plane
    spread: Plane
    noise: float
    factor: int = 1

    @classmethod
    def of(cls, light: ShotLight) -> MeanPicture:
        """Of up to 24 of the held frames."""
        factor = max(1, round(min(light.shape) / _LOOKED_AT))
        total = squares = np.zeros(())
        at = np.unique(np.linspace(0, len(light) - 1, min(len(light), _FRAMES)).round().astype(int))
        for n in at.tolist():
            one = light.small(n, factor).astype(np.float64)
            total, squares = total + one, squares + one * one
        mean = total / len(at)
        return cls(mean.astype(np.float32), np.sqrt(np.maximum(squares / len(at) - mean**2, 0)).astype(np.float32), light.noise, factor)


def hairs(picture: MeanPicture) -> list[Hair]:
    """Dark lines of the mean picture, each with how sure it is a hair; surest first, each place once."""
    made: list[Hair] = []
    # Of those that convince the longest: a piece of a hair is as sure as all of it.
    for one in sorted(traced(picture), key=lambda one: (len(one.line) if one.sure >= CONVINCES else 0, one.sure), reverse=True):
        if not any(one.under(other.line) > _SAME or other.under(one.line) > _SAME for other in made):
            made.append(one)
    return sorted(made, key=lambda one: -one.sure)


def traced(picture: MeanPicture) -> list[Hair]:
    """Every line of the mean picture that may be a hair, a place perhaps several times as it was cut out at several depths."""
    looked = _Looked(picture)
    return [one for cut in _CUT for one in _judged([(*one, looked.measured(*one)) for one in looked.lines(cut)])]


def _judged(found: list[tuple[Centreline, Box, NDArray[np.bool_], list[float]]]) -> list[Hair]:
    """How sure lines that were cut out at one depth are hairs."""
    if not found:
        return []
    rows = np.array([told for *_, told in found])
    # How many others are as long and nearly as deep: where there are many they are the scene's texture.
    length, depth = rows[:, FEATURES.index("length")], rows[:, FEATURES.index("depth")]
    rivals = [float(np.log1p(((length > a - 0.4) & (depth < 0.6 * d)).sum())) for a, d in zip(length, depth, strict=True)]
    rows = np.clip(np.column_stack([rows, rivals]), *np.array(list(_RANGES.values())).T)
    can_be = (rows[:, [FEATURES.index(name) for name in _AT_MOST]] <= list(_AT_MOST.values())).all(1)
    sure = _model().sure(rows)
    return [Hair(*found[n][:3], tuple(rows[n].tolist()), float(sure[n])) for n in np.flatnonzero(can_be) if len(found[n][0]) >= _LONG]


def share_of(hair: Hair, picture: MeanPicture) -> Plane:
    """The share of the light that a hair takes, 0 to 1: (height, width) of the mean picture.

    Across the hair the light about it is taken to change evenly. It is as wide everywhere and nearly as deep, so that what lies behind is told from it.
    """
    log = _logarithm(picture.light)
    line, profiles = _on_the_dark(log, hair.line)
    wide = hair.shape.sum() / len(line)
    half = min(_reach(profiles), wide / 2 + _MARGIN)
    left, right = _beside(profiles, half)
    part = np.clip((_ACROSS + half + _BESIDE / 2) / (2 * half + _BESIDE), 0, 1)
    loss = np.minimum(profiles - left[:, None] - (right - left)[:, None] * part, 0)
    typical = np.median(loss, 0) * np.clip((half + _FADE - np.abs(_ACROSS)) / _FADE, 0, 1)
    depth = loss[:, _CORE].mean(1) / min(float(typical[_CORE].mean()), -0.05)
    depth = gaussian_filter1d(np.clip(depth, 1 - _UNEVEN, 1 + _UNEVEN), _EVEN, mode="nearest")
    # What comes back is no lighter than the lighter side.
    most = np.minimum(profiles - np.maximum(left, right)[:, None], 0)
    taken = np.maximum(depth[:, None] * typical, gaussian_filter1d(most, 1.0, axis=0, mode="nearest"))
    share = np.zeros(log.shape, np.float32)
    (rows, cols), nearest, away = line.places_near(log.shape, half + _FADE)
    at = [nearest, (away - _ACROSS[0]) / (_ACROSS[1] - _ACROSS[0])]
    share[rows, cols] = 1 - np.exp(map_coordinates(taken, at, order=1, mode="nearest"))
    # Where it ends it is no longer than what was cut out, and its own half width.
    cut = np.zeros(log.shape, np.float32)
    hair.box.put(hair.shape.astype(np.float32), cut)
    near = cv2.dilate(cut, np.ones((3, 3), np.uint8), iterations=1 + round(wide / 4))
    return np.asarray(np.where(near > 0, share, 0), np.float32)


class _Looked:
    """A mean picture with what is asked of it."""

    def __init__(self, picture: MeanPicture) -> None:
        self._picture = picture
        self._log = _logarithm(picture.light)
        smooth = blur(self._log, 0.7)
        disc = cv2.getStructuringElement(cv2.MORPH_ELLIPSE, (_CLOSED, _CLOSED))
        # How much darker than all about it each place is.
        self._dark = np.asarray(smooth - cv2.morphologyEx(smooth, cv2.MORPH_CLOSE, disc), np.float32)
        self._change = np.log((picture.spread + 0.05) / (np.maximum(picture.light, 0) + 1))
        self._lively = float(np.median(self._change))
        self._deepest = -float(np.percentile(self._dark, 0.5))
        self._textured = float(np.log((self._dark < np.log(_CUT[0])).mean() + 1e-4))

    def lines(self, cut: float) -> Iterator[tuple[Centreline, Box, NDArray[np.bool_]]]:
        """The longest of what is long and darker than a share of the light about it."""
        low = (self._dark < np.log(cut)).astype(np.uint8)
        count, labels, stats, _ = cv2.connectedComponentsWithStats(low, connectivity=8)
        deep = np.zeros(count, bool)
        deep[np.unique(labels[self._dark < np.log(min(_DEEP, cut))])] = True
        made = []
        for k in range(1, count):
            x, y, width, height, area = (int(v) for v in stats[k])
            if deep[k] and max(width, height) >= _ACROSS_LEAST and _AREA[0] <= area <= _AREA[1]:
                part = labels[y : y + height, x : x + width] == k
                line = Centreline.of(part)
                if len(line) >= _SHORT:
                    made.append((Centreline(line.points + np.array([y, x])), Box(x, y, width, height), part))
        made.sort(key=lambda one: -len(one[0]))
        yield from made[:_MOST]

    def measured(self, line: Centreline, _box: Box, shape: NDArray[np.bool_]) -> list[float]:
        """What is told of a line, in the order of `FEATURES`, but for the last."""
        log, (height, width) = self._log, self._log.shape
        moved, profiles = _on_the_dark(log, line)
        half = _reach(profiles)
        typical = np.median(profiles, 0)
        wide = float(_widths(typical[None])[0])
        left, right = _beside(profiles, half)
        core, side = profiles[:, _CORE].mean(1), (left + right) / 2
        inner = slice(3, -3) if len(line) > 20 else slice(None)
        depths = gaussian_filter1d(core - side, 1.5, mode="nearest")[inner]
        depth = float(np.median(depths))
        deep = max(-depth, 0.1)
        widths = _widths(profiles, core, side)[inner]
        far = np.abs(_ACROSS) >= half
        beside = far & (np.abs(_ACROSS) <= half + _BESIDE)
        change = moved.profiles(self._change, _ACROSS)
        about = moved.profiles(log, np.arange(-30.0, 30.1, 3.0))[:, np.abs(np.arange(-30.0, 30.1, 3.0)) > 5][::3]
        darkest = float(np.median(core[inner]))
        sides, cores = side[inner] - side[inner].mean(), core[inner] - core[inner].mean()
        near = np.abs(_ACROSS) <= wide / 2 + 1.5
        flat = profiles - left[:, None] - (right - left)[:, None] * (_ACROSS + half + 2) / (2 * half + 4)
        angle = np.unwrap(np.arctan2(*gaussian_filter1d(line.heading, 2, axis=0, mode="nearest").T))
        rows, cols = line.points.T
        told = {
            "length": np.log(len(line)),
            "width": wide,
            "width_spread": np.ptp(np.percentile(widths, (20, 80))) / max(wide, 1),
            "depth": depth,
            "depth_spread": np.ptp(np.percentile(depths, (15, 85))) / 2 / deep,
            "sides": np.median(np.abs(left - right)) / deep,
            "ends": self._beyond(line) / max(-depth, 0.05),
            "side_spread": sides.std(),
            "follows": (sides * cores).sum() / ((sides * sides).sum() + 0.001 * len(sides)),
            "core": darkest,
            "branches": shape.sum() / (len(line) * max(wide, 1) + 1),
            "turns": np.abs(np.diff(angle)).mean(),
            "straight": np.hypot(*(line.points[-1] - line.points[0])) / len(line),
            "textured": self._textured,
            "steadier": np.median(change[:, _CORE]) - np.median(change[:, beside]),
            "lively": self._lively,
            "rank": np.log(max(-depth, 0) / max(self._deepest, 0.02) + 0.01),
            "uneven": np.sqrt(np.median((flat[inner][:, near] - np.median(flat[:, near], 0)) ** 2)) / deep,
            "edge": float(rows.min() < 3 or cols.min() < 3 or rows.max() > height - 4 or cols.max() > width - 4),
            "noise": np.log(self._picture.noise + 0.1),
            "below": darkest - np.percentile(profiles[:, far], 25),
            "lowest": darkest - np.percentile(profiles[:, far], 4),
            "wide_below": darkest - np.percentile(about, 15),
        }
        return [float(told[name]) for name in FEATURES[:-1]]

    def _beyond(self, line: Centreline) -> float:
        """How dark it goes on beyond the end at which it goes on more, as a logarithm."""
        height, width = self._log.shape
        darkest = [0.0]
        for end, onward in ((0, -1), (len(line) - 1, 1)):
            heading = line.heading[min(max(end, 3), len(line) - 4)] * onward
            at = line.points[end] + heading * np.arange(4, 11)[:, None]
            at = at[(at[:, 0] >= 0) & (at[:, 0] < height - 1) & (at[:, 1] >= 0) & (at[:, 1] < width - 1)]
            if len(at):
                fan = at[:, None] + np.array([-heading[1], heading[0]]) * np.arange(-3.0, 3.1)[None, :, None]
                seen = map_coordinates(self._dark, [fan[..., 0], fan[..., 1]], order=1, mode="nearest")
                darkest.append(-float(seen.min(1).mean()))
        return max(darkest)


def _logarithm(light: Plane) -> Plane:
    return np.asarray(np.log(np.maximum(light, 0) + 1), np.float32)


def _on_the_dark(log: Plane, line: Centreline) -> tuple[Centreline, NDArray[np.float64]]:
    """A line moved onto the darkest of what lies across it, and what lies across it then."""
    shift = _ACROSS[_SHIFTS][line.profiles(log, _ACROSS[_SHIFTS]).argmin(1)]
    shift = gaussian_filter1d(shift, 2, mode="nearest")
    # Still across the way it had: what is measured along it is at its own points.
    at = (line.points + line.across * shift[:, None])[:, None] + line.across[:, None] * _ACROSS[None, :, None]
    profiles = np.asarray(map_coordinates(log, [at[..., 0], at[..., 1]], order=1, mode="nearest"), np.float64)
    return line.shifted(shift), profiles


def _widths(
    profiles: NDArray[np.float64], core: NDArray[np.float64] | None = None, side: NDArray[np.float64] | None = None
) -> NDArray[np.float64]:
    """How wide each line of profiles is at half its depth, in pixels."""
    if core is None or side is None:
        away = np.abs(_ACROSS)
        core, side = profiles[:, _CORE].mean(1), np.median(profiles[:, (away >= 6) & (away <= 10)], 1)
    above = profiles >= ((core + side) / 2)[:, None]
    middle, last = len(_ACROSS) // 2, len(_ACROSS) - 1
    after, before = above[:, middle:], above[:, middle::-1]
    steps = [np.where(part.any(1), part.argmax(1), last - middle) for part in (after, before)]
    return np.asarray((steps[0] + steps[1]) * (_ACROSS[1] - _ACROSS[0]))


def _reach(profiles: NDArray[np.float64]) -> float:
    """From which offset on it is the surroundings that are seen."""
    return max(2.5, float(_widths(np.median(profiles, 0)[None])[0]) / 2 + 2.5)


def _beside(profiles: NDArray[np.float64], half: float) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    """The surroundings on each side, point by point."""
    beyond = np.abs(_ACROSS) - half
    beside = (beyond >= 0) & (beyond <= _BESIDE)
    return np.median(profiles[:, beside & (_ACROSS < 0)], 1), np.median(profiles[:, beside & (_ACROSS > 0)], 1)


@cache
def _model() -> Logistic:
    return Logistic.read(MODEL, FEATURES)


# Written by `tools/fit_models.py`.
MODEL = Path(__file__).with_name("hair_model.json")
