"""How a plane's picture in a reference frame lies on another frame."""

from __future__ import annotations

from dataclasses import dataclass

import cv2
import numpy as np
from numpy.typing import NDArray

from ..model.planes import Matrix, Model, Points, moved
from .motion import Look, Plane, look

# Parameters of each model, in the order of `_JACOBIAN`'s columns.
PARAMETERS: dict[Model, int] = {"translation": 2, "similarity": 4, "affine": 6, "perspective": 8}
# Samples of the plane that are laid on a frame, at most.
_SAMPLES = 8_000
# How often a step is tried on each size of picture, and the corner's move that ends it, in pixels.
_ROUNDS, _DONE = 14, 0.01
# Longer side of the plane, in pixels, down to which smaller pictures are used.
_LEAST = 40
# Texture that noise alone has (see `motion.Look`), well above its mean.
_NOISE = 0.2
# In codes of `Look.gray`: what a sample of the same scene misses by from frame to frame at best.
USUAL = 8.0
# Samples that hang together because pictures are smooth.
TOGETHER = 6.0
# Wide enough that what is local may be told on a smaller picture.
_SPREAD = 8.0


@dataclass(frozen=True)
class Crop:
    """A part of a frame without its light."""

    look: Look
    left: int
    top: int

    @classmethod
    def of(cls, light: Plane, about: Points, room: float, noise: float) -> Crop | None:
        """The part of a frame about some points; None when they are off the picture."""
        height, width = light.shape
        left, top = np.floor(about.min(0) - room)
        right, bottom = np.ceil(about.max(0) + room) + 1
        left, top = int(max(0, left)), int(max(0, top))
        right, bottom = int(min(width, right)), int(min(height, bottom))
        if right - left < 16 or bottom - top < 16:
            return None
        return cls(look(light[top:bottom, left:right], noise, _SPREAD), left, top)


class Reference:
    """A frame in which the plane is known, ready to be laid on others.

    Parameters
    ----------
    crop : Crop
        Of the frame.
    matrix : ndarray
        From the plane to this frame.
    mask : ndarray, float32, (height, width)
        The plane's samples in this frame.
    model : str
    """

    def __init__(self, crop: Crop, matrix: Matrix, mask: Plane, corners: Points, model: Model) -> None:
        self.crop, self.matrix, self.model, self.mask = crop, matrix, model, mask
        self.corners = corners
        gray = crop.look.gray
        height, width = gray.shape
        region = mask[crop.top : crop.top + height, crop.left : crop.left + width]
        centre, half = corners.mean(0), max(8.0, float(np.ptp(corners, axis=0).max()) / 2)
        self.norm = np.array([[1 / half, 0, -centre[0] / half], [0, 1 / half, -centre[1] / half], [0, 0, 1]])
        self.levels = []
        size = float(np.ptp(corners, axis=0).max())
        for factor in (4, 2, 1):
            if factor == 1 or size / factor >= _LEAST:
                self.levels.append(_Level(gray, crop.look.texture, region, crop, factor, self.norm, PARAMETERS[model]))
        self.reach = moved(corners, self.norm)

    def laid_on(self, crop: Crop, held: Plane | None, start: Matrix, coarse: bool = True) -> Laid:
        """Lay the plane on a frame.

        Parameters
        ----------
        crop : Crop
            Of the frame.
        held : ndarray or None
            What is held out of the frame, 0 to 1, (height, width).
        start : ndarray
            About where it is: from the reference to the frame.
        """
        way = start @ np.linalg.inv(self.norm)
        laid = Laid(way @ self.norm, 0.0, np.inf, 0.0, 0.0)
        for level in self.levels if coarse else self.levels[-2:]:
            way, laid = level.solve(crop, held, way, self.norm, self.reach)
        return laid


@dataclass(frozen=True)
class Laid:
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

    def __init__(self, gray: NDArray[np.uint8], texture: Plane, mask: Plane, crop: Crop, factor: int, norm: Matrix, count: int) -> None:
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

    def solve(self, crop: Crop, held: Plane | None, way: Matrix, norm: Matrix, reach: Points) -> tuple[Matrix, Laid]:
        """Gauss-Newton from `way`, which leads from points about zero to the frame's pixels."""
        if len(self.values) < 4 * self.count:
            return way, Laid(way @ norm, 0.0, np.inf, 0.0, 0.0)
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
                return way, Laid(way @ norm, 0.0, np.inf, 0.0, seen)
            found = _sampled(picture, x, y)
            gap = _evened(found, self.values, weight)
            spread = 1.4826 * float(np.median(np.abs(gap[weight > 0]))) + 1e-3
            bound = max(USUAL, 4.7 * spread if turn > 2 else 9.0 * spread)
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
                return way, Laid(np.eye(3), 0.0, np.inf, 0.0, seen)
            if np.abs(after - before).max() < _DONE * self.factor:
                break
        alike = _together(found, self.values, use)
        fits = float((weight * (np.abs(gap) < 3 * USUAL)).sum()) / total
        noise = float((use * gap * gap).sum() / max(float(use.sum()), 1e-9)) + (USUAL / 3) ** 2
        loose = loosest(np.linalg.pinv(system) * noise * TOGETHER, reach, self.count) / norm[0, 0]
        return way, Laid(way @ norm, alike, loose, fits, seen)


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


def loosest(variance: Points, reach: Points, count: int) -> float:
    """The largest standard deviation of a corner, from the variance of the parameters.

    Parameters
    ----------
    variance : ndarray, float64, (parameters, parameters)
        Their covariance.
    reach : ndarray, float64, (corners, 2)
        The corners, in the scale of the fit.
    count : int
        Parameters.

    Returns
    -------
    float
    """
    one, none = np.ones(len(reach)), np.zeros(len(reach))
    x, y = reach.T
    across, down = _jacobian(x, y, one, none, count), _jacobian(x, y, none, one, count)
    spread = np.einsum("ki,ij,kj->k", across, variance, across) + np.einsum("ki,ij,kj->k", down, variance, down)
    return float(np.sqrt(np.maximum(spread, 0).max()))
