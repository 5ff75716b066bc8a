"""How a flat part of the scene moves: its place in each frame of a shot, told from one frame that serves as reference.

Corners carried by sparse flow (Lucas and Kanade 1981, pyramids: Bouguet 2000) and a robust model of them (MAGSAC++:
Barath et al. 2020, in OpenCV) tell roughly where the plane has gone; the picture of the plane in the reference is then
laid on the frame by inverse compositional Gauss-Newton steps (Baker and Matthews 2004) with Tukey's weights, on
pictures whose light is taken out (see `motion.look`), so that lamps do not move it. As it is always the reference that
is laid on the frame, errors do not add up; where the plane has changed its looks too far another frame is made a
reference, laid on the first.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass
from enum import IntEnum
from typing import Any, Literal

import cv2
import numpy as np
from numpy.typing import NDArray

from .base.errors import SweepError
from .imaging.grain import flattest
from .imaging.motion import Look, Plane, look
from .regions import Masked

Matrix = NDArray[np.float64]
Points = NDArray[np.float64]
Model = Literal["translation", "similarity", "affine", "perspective"]

# Parameters of each model, in the order of `_JACOBIAN`'s columns.
PARAMETERS: dict[Model, int] = {"translation": 2, "similarity": 4, "affine": 6, "perspective": 8}
# Pixels about the plane that are looked at, besides how far it may have moved.
_ROOM = 48
# Samples of the plane that are laid on a frame, at most.
_SAMPLES = 8_000
# How often a step is tried on each size of picture, and the corner's move that ends it, in pixels.
_ROUNDS, _DONE = 14, 0.01
# Longer side of the plane, in pixels, down to which smaller pictures are used.
_LEAST = 40
# Correlation of the plane's picture and the frame's: lower is weak, or lost.
WEAK, LOST = 0.75, 0.62
# A new reference is made below this, or when the plane has become so many times larger or smaller.
_STALE, _RESIZED = 0.88, 1.45
# Share of the plane that must fit, and that times the correlation.
_FITS, _BOTH = 0.3, 0.4
# Share of it that must be on the picture.
_SEEN = 0.12
# Standard deviation of a corner, in pixels, above which a region is said not to hold.
_LOOSE = 0.5
# Texture that noise alone has (see `motion.Look`), well above its mean.
_NOISE = 0.2
# In codes of `Look.gray`: what a sample of the same scene misses by from frame to frame at best.
_USUAL = 8.0
# Samples that hang together because pictures are smooth.
_TOGETHER = 6.0
# Wide enough that what is local may be told on a smaller picture.
_SPREAD = 8.0
# Size of the plane, in pixels, from which corners are carried on pictures of half the size.
_HALVED = 160
# Longest side of the picture a lost plane is looked for on.
_SEARCH = 320


class State(IntEnum):
    """How well a plane is held in a frame."""

    HELD = 0
    WEAK = 1
    BRIDGED = 2
    OUT = 3


@dataclass(frozen=True)
class Followed:
    """Where a plane is in some frames.

    Attributes
    ----------
    numbers : ndarray, int64, (frames,)
        In order.
    matrices : ndarray, float64, (frames, 3, 3)
        From the plane as it lies in the reference frame to each frame, in pixels.
    misfit : ndarray, float64, (frames,)
        1 less the correlation of the plane's picture with the frame's, light taken out: 0 is perfect.
    loose : ndarray, float64, (frames,)
        Standard deviation of the least sure corner, in pixels.
    states : ndarray, uint8, (frames,)
        See `State`.
    """

    numbers: NDArray[np.int64]
    matrices: NDArray[np.float64]
    misfit: NDArray[np.float64]
    loose: NDArray[np.float64]
    states: NDArray[np.uint8]


def moved(points: Points, matrix: Matrix) -> Points:
    """Points, (n, 2), through a 3 x 3 transform."""
    x, y = points.T
    across, down, depth = (row[0] * x + row[1] * y + row[2] for row in matrix)
    return np.stack([across / depth, down / depth], -1)


def undone(matrix: Matrix) -> Matrix:
    """The transform that takes another one back."""
    return np.asarray(np.linalg.inv(matrix), np.float64)


def box_corners(mask: Plane) -> Points:
    """The corners of the least rectangle about a mask's half: (4, 2), clockwise from the left upper one, on pixel edges.

    Raises
    ------
    SweepError
        If there is nothing of it.
    """
    rows, cols = np.flatnonzero((mask > 0.5).any(1)), np.flatnonzero((mask > 0.5).any(0))
    if not len(rows):
        raise SweepError("The region of the track is empty, or lies off the picture. Draw it on a flat part of the scene.")
    left, top, right, bottom = cols[0] - 0.5, rows[0] - 0.5, cols[-1] + 0.5, rows[-1] + 0.5
    return np.array([[left, top], [right, top], [right, bottom], [left, bottom]], np.float64)


def from_corners(before: Points, after: Points, model: Model = "perspective") -> Matrix:
    """The transform of a model that lays four points on four others: exactly for perspective, by least squares else.

    The direct linear transformation (Hartley and Zisserman 2004, section 4.1), on points about zero.
    """
    if model == "perspective":
        return np.asarray(cv2.getPerspectiveTransform(before.astype(np.float32), after.astype(np.float32)), np.float64)
    centre = before.mean(0)
    x, y = (before - centre).T
    one, none = np.ones_like(x), np.zeros_like(x)
    columns = {
        "translation": [[one, none], [none, one]],
        "similarity": [[one, none], [none, one], [x, y], [-y, x]],
        "affine": [[one, none], [none, one], [x, none], [none, x], [y, none], [none, y]],
    }[model]
    system = np.stack([np.concatenate(c) for c in columns], -1)
    wanted = after - centre - (before - centre if model == "translation" else 0)
    found = np.linalg.lstsq(system, np.concatenate([wanted[:, 0], wanted[:, 1]]), rcond=None)[0]
    if model == "translation":
        linear = np.eye(2)
    elif model == "similarity":
        linear = np.array([[found[2], -found[3]], [found[3], found[2]]])
    else:
        linear = np.array([[found[2], found[4]], [found[3], found[5]]])
    matrix = np.eye(3)
    matrix[:2, :2] = linear
    matrix[:2, 2] = centre + found[:2] - linear @ centre
    return matrix


@dataclass(frozen=True)
class _Crop:
    """A part of a frame without its light."""

    look: Look
    left: int
    top: int

    @classmethod
    def of(cls, light: Plane, about: Points, room: float, noise: float) -> _Crop | None:
        """The part of a frame about some points; None when they are off the picture."""
        height, width = light.shape
        left, top = np.floor(about.min(0) - room)
        right, bottom = np.ceil(about.max(0) + room) + 1
        left, top = int(max(0, left)), int(max(0, top))
        right, bottom = int(min(width, right)), int(min(height, bottom))
        if right - left < 16 or bottom - top < 16:
            return None
        return cls(look(light[top:bottom, left:right], noise, _SPREAD), left, top)


class _Reference:
    """A frame in which the plane is known, ready to be laid on others.

    Parameters
    ----------
    crop : _Crop
        Of the frame.
    matrix : ndarray
        From the plane to this frame.
    mask : ndarray, float32, (height, width)
        The plane's samples in this frame.
    model : str
    """

    def __init__(self, crop: _Crop, matrix: Matrix, mask: Plane, corners: Points, model: Model) -> None:
        self.crop, self.matrix, self.model, self.mask = crop, matrix, model, mask
        self.corners = corners
        gray = crop.look.gray
        height, width = gray.shape
        own = mask[crop.top : crop.top + height, crop.left : crop.left + width]
        centre, half = corners.mean(0), max(8.0, float(np.ptp(corners, axis=0).max()) / 2)
        self.norm = np.array([[1 / half, 0, -centre[0] / half], [0, 1 / half, -centre[1] / half], [0, 0, 1]])
        self.levels = []
        size = float(np.ptp(corners, axis=0).max())
        for factor in (4, 2, 1):
            if factor == 1 or size / factor >= _LEAST:
                self.levels.append(_Level(gray, crop.look.texture, own, crop, factor, self.norm, PARAMETERS[model]))
        self.reach = moved(corners, self.norm)

    def laid_on(self, crop: _Crop, held: Plane | None, start: Matrix, coarse: bool = True) -> _Laid:
        """Lay the plane on a frame.

        Parameters
        ----------
        crop : _Crop
            Of the frame.
        held : ndarray or None
            What is held out of the frame, 0 to 1, (height, width).
        start : ndarray
            About where it is: from the reference to the frame.
        """
        way = start @ np.linalg.inv(self.norm)
        laid = _Laid(way @ self.norm, 0.0, np.inf, 0.0, 0.0)
        for level in self.levels if coarse else self.levels[-2:]:
            way, laid = level.solve(crop, held, way, self.norm, self.reach)
        return laid


@dataclass(frozen=True)
class _Laid:
    """A reference laid on a frame: the way, how alike they are, how sure the corners are, what share fits and is seen."""

    way: Matrix
    alike: float
    loose: float
    fits: float
    seen: float


def _jacobian(x: Points, y: Points, across: Points, down: Points, count: int) -> Points:
    """How a picture changes with each parameter of a small warp at identity: (samples, parameters)."""
    if count == 2:
        columns = [across, down]
    elif count == 4:
        columns = [across, down, x * across + y * down, -y * across + x * down]
    else:
        columns = [across, down, x * across, x * down, y * across, y * down]
        if count == 8:
            inner = x * across + y * down
            columns += [-x * inner, -y * inner]
    return np.stack(columns, -1)


def _small(p: Points) -> Matrix:
    """The transform of a small warp's parameters, as `_jacobian` has them."""
    full = np.eye(3)
    full[0, 2], full[1, 2] = p[0], p[1]
    if len(p) == 4:
        full[:2, :2] += [[p[2], -p[3]], [p[3], p[2]]]
    elif len(p) >= 6:
        full[:2, :2] += [[p[2], p[4]], [p[3], p[5]]]
    if len(p) == 8:
        full[2, :2] = p[6:]
    return full


class _Level:
    """Samples of a reference at one size of picture."""

    def __init__(self, gray: NDArray[np.uint8], texture: Plane, mask: Plane, crop: _Crop, factor: int, norm: Matrix, count: int) -> None:
        self.factor, self.count = factor, count
        picture = _shrunk(gray, factor)
        across, down = cv2.Sobel(picture, cv2.CV_32F, 1, 0, scale=1 / 8), cv2.Sobel(picture, cv2.CV_32F, 0, 1, scale=1 / 8)
        shape = picture.shape[::-1]
        inside = cv2.resize(mask, shape, interpolation=cv2.INTER_AREA) if factor > 1 else mask
        trust = cv2.resize(texture, shape, interpolation=cv2.INTER_AREA) if factor > 1 else texture
        # Noise alone has a little of what is taken for texture.
        weight = np.where(inside > 0.5, np.maximum(trust - _NOISE, 0), 0.0)
        rows, cols = np.nonzero(weight > 0)
        if len(rows) > _SAMPLES:
            # Where the picture changes most tells most; all of the plane is to have a say.
            slope = (across[rows, cols] ** 2 + down[rows, cols] ** 2) * weight[rows, cols]
            every = np.zeros(len(rows), bool)
            every[:: max(1, 2 * len(rows) // _SAMPLES)] = True
            bound = np.partition(slope, -_SAMPLES // 2)[-_SAMPLES // 2]
            kept = every | (slope >= bound)
            rows, cols = rows[kept], cols[kept]
        self.weight = weight[rows, cols].astype(np.float64)
        self.values = picture[rows, cols].astype(np.float64)
        place = np.stack([(cols + 0.5) * factor - 0.5 + crop.left, (rows + 0.5) * factor - 0.5 + crop.top], -1)
        self.points = moved(place, norm)
        scale = norm[0, 0] * factor
        x, y = self.points.T
        self.slopes = _jacobian(x, y, across[rows, cols] / scale, down[rows, cols] / scale, count)

    def solve(self, crop: _Crop, held: Plane | None, way: Matrix, norm: Matrix, reach: Points) -> tuple[Matrix, _Laid]:
        """Gauss-Newton from `way`, which leads from points about zero to the frame's pixels."""
        if len(self.values) < 4 * self.count:
            return way, _Laid(way @ norm, 0.0, np.inf, 0.0, 0.0)
        picture = _shrunk(crop.look.gray, self.factor)
        height, width = picture.shape
        # The first rounds weigh gently, so that a plane that lies some pixels off is drawn in.
        for turn in range(_ROUNDS):
            place = moved(self.points, way)
            x = (place[:, 0] - crop.left + 0.5) / self.factor - 0.5
            y = (place[:, 1] - crop.top + 0.5) / self.factor - 0.5
            weight = self.weight * ((x > 1) & (y > 1) & (x < width - 2) & (y < height - 2))
            if held is not None:
                rows = np.clip(np.rint(place[:, 1]), 0, held.shape[0] - 1).astype(np.intp)
                cols = np.clip(np.rint(place[:, 0]), 0, held.shape[1] - 1).astype(np.intp)
                weight = weight * (held[rows, cols] < 0.05)
            total = float(weight.sum())
            seen = total / max(float(self.weight.sum()), 1e-9)
            if seen < 0.03 or int((weight > 0).sum()) < 4 * self.count:
                return way, _Laid(way @ norm, 0.0, np.inf, 0.0, seen)
            found = _sampled(picture, x, y)
            gap = _evened(found, self.values, weight)
            spread = 1.4826 * float(np.median(np.abs(gap[weight > 0]))) + 1e-3
            bound = max(_USUAL, 4.7 * spread if turn > 2 else 9.0 * spread)
            ratio = np.clip(gap / bound, -1, 1)
            robust = (1 - ratio * ratio) ** 2
            use = weight * robust
            weighed = self.slopes * use[:, None]
            system = self.slopes.T @ weighed + 1e-9 * np.eye(self.count)
            step = np.linalg.solve(system, weighed.T @ gap)
            small = _small(step)
            if abs(np.linalg.det(small)) < 0.2:
                break
            before = moved(reach, way)
            way = way @ np.linalg.inv(small)
            way = way / way[2, 2]
            after = moved(reach, way)
            if not np.isfinite(after).all():
                return way, _Laid(np.eye(3), 0.0, np.inf, 0.0, seen)
            if np.abs(after - before).max() < _DONE * self.factor:
                break
        alike = _together(found, self.values, use)
        fits = float((weight * (np.abs(gap) < 3 * _USUAL)).sum()) / total
        noise = float((use * gap * gap).sum() / max(float(use.sum()), 1e-9)) + (_USUAL / 3) ** 2
        loose = _loosest(np.linalg.pinv(system) * noise * _TOGETHER, reach, self.count) / norm[0, 0]
        return way, _Laid(way @ norm, alike, loose, fits, seen)


def _shrunk(gray: NDArray[np.uint8], factor: int) -> Plane:
    """A picture smoothed for steps of a pixel, and made smaller."""
    plane = gray.astype(np.float32)
    if factor > 1:
        plane = cv2.resize(plane, (max(1, plane.shape[1] // factor), max(1, plane.shape[0] // factor)), interpolation=cv2.INTER_AREA)
    return cv2.GaussianBlur(plane, (0, 0), 0.9, borderType=cv2.BORDER_REFLECT_101)


def _sampled(picture: Plane, x: Points, y: Points) -> Points:
    """A picture's values between its samples, bicubic."""
    # OpenCV takes maps of less than 32768 columns.
    count = len(x)
    wide = 1024
    tall = -(-count // wide)
    maps = np.zeros((2, tall * wide), np.float32)
    maps[0, :count], maps[1, :count] = x, y
    found = cv2.remap(picture, maps[0].reshape(tall, wide), maps[1].reshape(tall, wide), cv2.INTER_CUBIC, borderMode=cv2.BORDER_REPLICATE)
    return found.ravel()[:count].astype(np.float64)


def _evened(found: Points, wanted: Points, weight: Points) -> Points:
    """What is found less what is wanted, once it has the same level and contrast."""
    total = max(float(weight.sum()), 1e-9)
    f, w = found - float((weight * found).sum()) / total, wanted - float((weight * wanted).sum()) / total
    gain = float((weight * f * w).sum()) / max(float((weight * f * f).sum()), 1e-9)
    gain = float(np.clip(gain, 0.5, 2.0))
    return gain * f - w


def _together(one: Points, other: Points, weight: Points) -> float:
    """Correlation of two pictures."""
    total = max(float(weight.sum()), 1e-9)
    a, b = one - float((weight * one).sum()) / total, other - float((weight * other).sum()) / total
    both = float((weight * a * a).sum()) * float((weight * b * b).sum())
    return float((weight * a * b).sum()) / max(np.sqrt(both), 1e-9)


def _loosest(variance: Points, reach: Points, count: int) -> float:
    """The largest standard deviation of a corner, from the variance of the parameters."""
    one, none = np.ones(len(reach)), np.zeros(len(reach))
    x, y = reach.T
    across, down = _jacobian(x, y, one, none, count), _jacobian(x, y, none, one, count)
    spread = np.einsum("ki,ij,kj->k", across, variance, across) + np.einsum("ki,ij,kj->k", down, variance, down)
    return float(np.sqrt(np.maximum(spread, 0).max()))


Lights = Callable[[int], Plane | None]
HeldOut = Callable[[int], Plane | None]


class Follower:
    """Follows a plane from frame to frame.

    Parameters
    ----------
    lights : callable
        Gives the luma of a frame by its number, (height, width), float32, in 8-bit codes; None for one without a picture.
    region : Masked
        The plane, drawn as it lies in the reference frame.
    model : str
    hold_out : callable
        Gives what is kept out of a frame, 0 to 1, (height, width); None for nothing.

    Raises
    ------
    SweepError
        If the region is empty, or its picture cannot hold a track; the text says which larger one could.
    """

    def __init__(self, lights: Lights, region: Masked, model: Model, hold_out: HeldOut | None = None) -> None:
        self.lights, self.region, self.model = lights, region, model
        self.hold_out = hold_out or (lambda _: None)

    def follow(
        self,
        numbers: Sequence[int],
        matrix: Matrix | None = None,
        on_progress: Callable[[float], None] | None = None,
        corners: Points | None = None,
    ) -> Followed:
        """Follow the plane through frames.

        Parameters
        ----------
        numbers : sequence of int
            The frames, in the order they are gone through; the first is where the plane is known.
        matrix : ndarray
            From the plane to the first frame; identity when None.
        on_progress : callable
            Told the share done, 0 to 1; may raise to stop.
        corners : ndarray, float64, (4, 2)
            Of the plane's rectangle, by which it is judged; those of the region in the first frame when None.
        """
        first = numbers[0]
        start = np.eye(3) if matrix is None else matrix
        light = self.lights(first)
        if light is None:
            raise SweepError(f"Frame {first} has no picture; begin the track at another one.")
        self.noise = flattest(light, 9)
        self._drawn = self.region.mask(light.shape, first)
        self._corners = box_corners(self._drawn) if corners is None else corners
        references = [self._reference(first, light, start)]
        self._ensure_holds(references[0], light)
        way, before = start, start
        ways, misfit, loose, states = [start], [0.0], [self._sureness], [State.HELD]
        last, lost = (references[0].crop, start), 0
        held: list[int] = [0]
        for at in range(1, len(numbers)):
            number = numbers[at]
            light = self.lights(number)
            guess = way @ np.linalg.inv(before) @ way if lost == 0 else way
            if not _sane(guess, self._corners):
                guess = way
            laid, state, crop = self._at(number, light, guess, last if lost == 0 else None, references, lost)
            if state in (State.HELD, State.WEAK):
                if lost:
                    self._bridge(ways, held[-1], laid.way)
                lost = 0
                before, way = (way, laid.way) if held[-1] == at - 1 else (laid.way, laid.way)
                if crop is not None:
                    last = (crop, way)
                self._renew(references, number, light, way, laid, state)
            else:
                # What is not seen goes on as it went, ever more slowly.
                lost += 1
                drift = way @ np.linalg.inv(before)
                before, way = way, _partly(drift, 0.8, self._corners, way) if lost < 12 else way
            if state in (State.HELD, State.WEAK):
                held.append(at)
            ways.append(way if state not in (State.HELD, State.WEAK) else laid.way)
            misfit.append(1 - laid.alike)
            loose.append(min(laid.loose, 1e3))
            states.append(state)
            if on_progress:
                on_progress(at / max(1, len(numbers) - 1))
        order = np.argsort(np.asarray(numbers), kind="stable")
        return Followed(
            np.asarray(numbers, np.int64)[order],
            np.asarray(ways)[order],
            np.asarray(misfit)[order],
            np.asarray(loose)[order],
            np.asarray(states, np.uint8)[order],
        )

    def _reference(self, number: int, light: Plane, matrix: Matrix) -> _Reference:
        mask = self.region.mask(light.shape, number)
        if not np.allclose(matrix, np.eye(3)):
            mask = cv2.warpPerspective(mask, matrix, light.shape[::-1], flags=cv2.INTER_LINEAR)
        held = self.hold_out(number)
        if held is not None:
            mask = mask * (held < 0.05)
        corners = moved(self._corners, matrix)
        crop = _Crop.of(light, corners, _ROOM, self.noise)
        if crop is None:
            raise SweepError("The region of the track lies off the picture. Draw it on a part that is seen.")
        return _Reference(crop, matrix, mask, corners, self.model)

    def _ensure_holds(self, reference: _Reference, light: Plane) -> None:
        self._sureness = self._loose_on_itself(reference)
        if self._sureness <= _LOOSE:
            return
        size = np.ptp(self._corners, axis=0).max()
        for grown in (0.25, 0.5, 1.0, 2.0):
            room = int(np.ceil(grown * size))
            mask = cv2.dilate(reference.mask, np.ones((2 * room + 1, 2 * room + 1), np.uint8))
            crop = _Crop.of(light, box_corners(mask), _ROOM, self.noise)
            if crop is not None and self._loose_on_itself(_Reference(crop, np.eye(3), mask, self._corners, self.model)) <= _LOOSE:
                raise SweepError(
                    "There is too little to hold on to in this region: its picture is almost even. "
                    f"With its surroundings it would hold: grow the region by {room} pixels, or draw it larger."
                )
        simpler = [m for m in PARAMETERS if PARAMETERS[m] < PARAMETERS[self.model]]
        for model in reversed(simpler):
            if self._loose_on_itself(_Reference(reference.crop, reference.matrix, reference.mask, self._corners, model)) <= _LOOSE:
                raise SweepError(
                    f"There is too little in this region to hold a {self.model} track; it would hold one of {model}. Choose that."
                )
        raise SweepError(
            "There is nothing to hold on to in this region, nor around it: the picture is even there. Choose another part of the same plane."
        )

    def _loose_on_itself(self, reference: _Reference) -> float:
        level = reference.levels[-1]
        if len(level.values) < 4 * level.count:
            return np.inf
        weighed = level.slopes * level.weight[:, None]
        variance = np.asarray(np.linalg.pinv(level.slopes.T @ weighed + 1e-9 * np.eye(level.count)), np.float64) * (_USUAL**2 * _TOGETHER)
        return _loosest(variance, reference.reach, level.count) / float(reference.norm[0, 0])

    def _at(
        self,
        number: int,
        light: Plane | None,
        guess: Matrix,
        last: tuple[_Crop, Matrix] | None,
        references: list[_Reference],
        lost: int,
    ) -> tuple[_Laid, State, _Crop | None]:
        nothing = _Laid(guess, 0.0, np.inf, 0.0, 0.0)
        if light is None:
            return nothing, State.BRIDGED, None
        corners = moved(self._corners, guess)
        size = float(np.ptp(corners, axis=0).max())
        room = _ROOM + min(120.0, 0.1 * size + 12 * lost)
        crop = _Crop.of(light, corners, room, self.noise)
        if crop is None or _on_picture(self._corners, guess, light.shape) < _SEEN:
            return nothing, State.OUT, None
        held = self.hold_out(number)
        starts = []
        if last is not None:
            led = self._led(*last, guess, crop, held)
            if led is not None:
                starts.append((led, False))
        starts.append((guess, True))
        best: _Laid = nothing
        nearest = sorted(references, key=lambda r: abs(np.log(_scale(r.matrix, self._corners) / max(_scale(guess, self._corners), 1e-6))))
        for start, far in starts:
            for reference in nearest[:2]:
                laid = reference.laid_on(crop, held, start @ np.linalg.inv(reference.matrix), far)
                laid = _Laid(
                    laid.way @ reference.matrix / (laid.way @ reference.matrix)[2, 2], laid.alike, laid.loose, laid.fits, laid.seen
                )
                if _sane(laid.way, self._corners) and laid.alike * laid.fits > best.alike * best.fits:
                    best = laid
                if best.alike > WEAK and best.fits > 0.5:
                    break
            if best.alike > WEAK and best.fits > 0.5:
                break
        if best.alike < LOST or best.alike * best.fits < _BOTH:
            again = self._sought(light, nearest[0], guess, held, lost)
            if again is not None and again.alike * again.fits > best.alike * best.fits:
                best = again
        # Held by a part of it alone, that must be the more like.
        known = best.alike * best.fits >= _BOTH or (best.alike > 0.85 and best.fits >= _FITS)
        if best.alike < LOST or not known or best.seen < 0.05:
            return best, State.OUT if _on_picture(self._corners, guess, light.shape) < 0.3 else State.BRIDGED, None
        sure = best.alike >= WEAK and best.loose <= 2 * _LOOSE and best.fits >= 0.5
        return best, State.HELD if sure else State.WEAK, crop

    def _led(self, before: _Crop, last_way: Matrix, guess: Matrix, crop: _Crop, held: Plane | None) -> Matrix | None:
        """Where sparse flow from the frame before leads the plane."""
        factor = 2 if np.ptp(self._corners, axis=0).max() >= _HALVED else 1
        # Both on one picture: places differ by where the parts lie.
        left, top = min(before.left, crop.left), min(before.top, crop.top)
        one, other = (_placed(c, left, top, before, crop) for c in (before, crop))
        if factor > 1:
            small = (one.shape[1] // factor, one.shape[0] // factor)
            one, other = (cv2.resize(p, small, interpolation=cv2.INTER_AREA) for p in (one, other))
        to_small = np.array([[1 / factor, 0, (0.5 - left) / factor - 0.5], [0, 1 / factor, (0.5 - top) / factor - 0.5], [0, 0, 1]])
        own = cv2.warpPerspective(self._drawn, to_small @ last_way, one.shape[::-1], flags=cv2.INTER_NEAREST)
        points = cv2.goodFeaturesToTrack(one, 120, 0.02, 5, mask=(own > 0.5).astype(np.uint8))
        if points is None or len(points) < 6:
            return None
        # Broad light is taken out of these pictures: on much smaller ones there is nothing to go by.
        how: dict[str, Any] = {"winSize": (21, 21), "maxLevel": 2, "flags": cv2.OPTFLOW_USE_INITIAL_FLOW}
        led = to_small @ guess @ np.linalg.inv(to_small @ last_way)
        hope = moved(points.reshape(-1, 2).astype(np.float64), led).astype(np.float32).reshape(-1, 1, 2)
        there, found, _ = cv2.calcOpticalFlowPyrLK(one, other, points, hope, **how)
        back, again, _ = cv2.calcOpticalFlowPyrLK(other, one, there, points.copy(), **how)
        good = (found.ravel() > 0) & (again.ravel() > 0) & (np.abs(back - points).max(-1).ravel() < 1.0)
        from_small = np.linalg.inv(to_small)
        a, b = (moved(p.reshape(-1, 2).astype(np.float64), from_small) for p in (points, there))
        if held is not None:
            rows, cols = (np.clip(np.rint(b[:, k]), 0, held.shape[1 - k] - 1).astype(np.intp) for k in (1, 0))
            good &= held[rows, cols] < 0.05
        a, b = a[good], b[good]
        if len(a) < 6:
            return None
        model: Any
        if self.model == "perspective" and len(a) >= 12:
            model, _ = cv2.findHomography(a, b, cv2.USAC_MAGSAC, 1.5)
        else:
            model, _ = cv2.estimateAffinePartial2D(a, b, ransacReprojThreshold=1.5)
            model = None if model is None else np.vstack([model, [0, 0, 1]])
        if model is None:
            return None
        way = np.asarray(model, np.float64) @ last_way
        way = way / way[2, 2]
        if not _sane(way, self._corners):
            return None
        return way if self.model == "perspective" else from_corners(self._corners, moved(self._corners, way), self.model)

    def _sought(self, light: Plane, reference: _Reference, guess: Matrix, held: Plane | None, lost: int) -> _Laid | None:
        """Look for a lost plane about where it should be, by its picture on a small one."""
        corners = moved(self._corners, guess)
        size = np.ptp(corners, axis=0)
        reach = max(40.0, 0.5 * float(size.max())) + 16 * lost
        wide = _Crop.of(light, corners, reach, self.noise)
        if wide is None:
            return None
        factor = max(1.0, float(max(wide.look.gray.shape)) / _SEARCH)
        # The plane's own picture as it would lie there.
        to_place = np.array([[1, 0, -np.floor(corners[:, 0].min())], [0, 1, -np.floor(corners[:, 1].min())], [0, 0, 1.0]])
        way = guess @ np.linalg.inv(reference.matrix)
        from_crop = np.array([[1, 0, reference.crop.left], [0, 1, reference.crop.top], [0, 0, 1.0]])
        shape = (int(max(16, np.ceil(size[0]))), int(max(16, np.ceil(size[1]))))
        own = cv2.warpPerspective(reference.crop.look.gray, to_place @ way @ from_crop, shape, borderMode=cv2.BORDER_REPLICATE)
        small = tuple(max(8, round(v / factor)) for v in shape)
        own = cv2.resize(own, small, interpolation=cv2.INTER_AREA)
        where = cv2.resize(
            wide.look.gray,
            (round(wide.look.gray.shape[1] / factor), round(wide.look.gray.shape[0] / factor)),
            interpolation=cv2.INTER_AREA,
        )
        if own.shape[0] >= where.shape[0] or own.shape[1] >= where.shape[1]:
            return None
        score = cv2.matchTemplate(where, own, cv2.TM_CCOEFF_NORMED)
        _, best, _, (x, y) = cv2.minMaxLoc(score)
        if best < 0.3:
            return None
        shift = np.array([x * factor + wide.left, y * factor + wide.top]) - np.floor(corners.min(0))
        start = np.array([[1, 0, shift[0]], [0, 1, shift[1]], [0, 0, 1.0]]) @ guess
        crop = _Crop.of(light, moved(self._corners, start), _ROOM + 16, self.noise)
        if crop is None:
            return None
        laid = reference.laid_on(crop, held, start @ np.linalg.inv(reference.matrix))
        whole = laid.way @ reference.matrix
        whole = whole / whole[2, 2]
        return _Laid(whole, laid.alike, laid.loose, laid.fits, laid.seen) if _sane(whole, self._corners) else None

    def _renew(self, references: list[_Reference], number: int, light: Plane | None, way: Matrix, laid: _Laid, state: State) -> None:
        """Make the frame a reference where the plane has come to look unlike those there are, yet is held well."""
        if light is None or state is not State.HELD or laid.fits < 0.8 or laid.seen < 0.6:
            return
        scale = _scale(way, self._corners)
        near = min(abs(np.log(scale / _scale(r.matrix, self._corners))) for r in references)
        if (laid.alike < _STALE or near > np.log(_RESIZED)) and len(references) < 12:
            references.append(self._reference(number, light, way))

    def _bridge(self, ways: list[Matrix], last: int, way: Matrix) -> None:
        """Lay what was not seen evenly between where the plane was last held and where it is again."""
        one, other = moved(self._corners, ways[last]), moved(self._corners, way)
        span = len(ways) - last
        for k in range(last + 1, len(ways)):
            share = (k - last) / span
            ways[k] = from_corners(self._corners, one + share * (other - one), self.model)


def _placed(crop: _Crop, left: int, top: int, one: _Crop, other: _Crop) -> NDArray[np.uint8]:
    """A part of a picture on the least one that holds both."""
    right = max(c.left + c.look.gray.shape[1] for c in (one, other))
    bottom = max(c.top + c.look.gray.shape[0] for c in (one, other))
    gray = crop.look.gray
    x, y = crop.left - left, crop.top - top
    return cv2.copyMakeBorder(gray, y, bottom - top - y - gray.shape[0], x, right - left - x - gray.shape[1], cv2.BORDER_REPLICATE)


def _partly(drift: Matrix, share: float, corners: Points, way: Matrix) -> Matrix:
    """A part of a move, from where the plane is."""
    here = moved(corners, way)
    there = moved(here, drift / drift[2, 2])
    if not np.isfinite(there).all() or np.abs(there - here).max() > 2 * np.ptp(here, axis=0).max():
        return way
    return from_corners(corners, here + share * (there - here))


def _scale(way: Matrix, corners: Points) -> float:
    """How many times larger than in the reference the plane is."""
    return float(np.sqrt(_area(moved(corners, way)) / max(_area(corners), 1e-6)))


def _area(corners: Points) -> float:
    x, y = corners.T
    return abs(float(x @ np.roll(y, -1) - y @ np.roll(x, -1))) / 2


def _sane(way: Matrix, corners: Points) -> bool:
    """Whether a way leaves the plane a plane: not turned inside out, not collapsed, not blown up."""
    depth = corners @ way[2, :2] + way[2, 2]
    if not np.isfinite(way).all() or (depth < 0.05).any():
        return False
    there = moved(corners, way)
    sides = np.roll(there, -1, 0) - there
    turns = sides[:, 0] * np.roll(sides, -1, 0)[:, 1] - sides[:, 1] * np.roll(sides, -1, 0)[:, 0]
    grown = _area(there) / max(_area(corners), 1e-6)
    return bool(np.isfinite(there).all() and (turns > 0).all() and 0.02 < grown < 50)


def _on_picture(corners: Points, way: Matrix, shape: tuple[int, int]) -> float:
    """The share of the plane's rectangle that is on the picture."""
    there = moved(corners, way).astype(np.float32)
    whole = _area(there.astype(np.float64))
    picture = np.array([[0, 0], [shape[1] - 1, 0], [shape[1] - 1, shape[0] - 1], [0, shape[0] - 1]], np.float32)
    share, _ = cv2.intersectConvexConvex(there, picture)
    return float(share) / max(whole, 1e-6)


def smoothed(ways: NDArray[np.float64], corners: Points, sigma: float, model: Model) -> NDArray[np.float64]:
    """The ways with the paths of the corners made smooth in time.

    Parameters
    ----------
    ways : ndarray, float64, (frames, 3, 3)
    corners : ndarray, float64, (4, 2)
    sigma : float
        Standard deviation of the smoothing, in frames; a quadratic is fitted about each frame (Savitzky and Golay
        1964, with Gaussian weights), so that an even or speeding move stays as it is.
    """
    if sigma <= 0 or len(ways) < 3:
        return ways
    paths = np.array([moved(corners, way).ravel() for way in ways])
    reach = int(np.ceil(3 * sigma))
    out = np.empty_like(paths)
    for k in range(len(paths)):
        near = np.arange(max(0, k - reach), min(len(paths), k + reach + 1))
        t = (near - k) / sigma
        weight = np.exp(-0.5 * t * t)
        base = np.stack([np.ones_like(t), t, t * t], -1)[:, : min(3, len(near))]
        scaled = base * weight[:, None]
        out[k] = np.linalg.lstsq(scaled.T @ base, scaled.T @ paths[near], rcond=None)[0][0]
    return np.stack([from_corners(corners, path.reshape(4, 2), model) for path in out])


def nudged(
    ways: NDArray[np.float64], numbers: Iterable[int], corners: Points, nudges: Mapping[int, Points], model: Model
) -> NDArray[np.float64]:
    """The ways with corners moved by hand at some frames, and in between in proportion; outside them as at the nearest.

    Parameters
    ----------
    nudges : mapping
        For frames, how far each corner is moved: (4, 2), in pixels.
    """
    if not nudges:
        return ways
    at = np.array(sorted(nudges), np.float64)
    by = np.array([np.asarray(nudges[int(n)], np.float64).ravel() for n in at])
    out = []
    for number, way in zip(numbers, ways, strict=True):
        more = np.array([np.interp(number, at, by[:, k]) for k in range(8)]).reshape(4, 2)
        out.append(from_corners(corners, moved(corners, way) + more, model) if np.abs(more).max() > 1e-9 else way)
    return np.stack(out)
