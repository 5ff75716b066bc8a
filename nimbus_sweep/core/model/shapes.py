"""Shapes drawn on the picture: ellipses, outlines, brush paint, mask pictures."""

from __future__ import annotations

import base64
import zlib
from collections.abc import Callable
from itertools import pairwise
from typing import Annotated, Any, Literal

import cv2
import numpy as np
from numpy.typing import NDArray
from pydantic import BaseModel, ConfigDict, Field, model_validator

# Float32 throughout.
Mask = NDArray[Any]
Matrix = NDArray[np.float64]
# Sub-pixel places of OpenCV's drawing, in bits.
_SHIFT = 4
_ONE = 1 << _SHIFT
# Times finer than the picture at which shapes are drawn.
_FINER = 4
# Corners that stand for an ellipse.
_ROUND = 16


class ShapeModel(BaseModel):
    model_config = ConfigDict(frozen=True, extra="forbid")


class Ellipse(ShapeModel):
    """An ellipse about (x, y), its half axes in pixels, turned by degrees clockwise."""

    kind: Literal["ellipse"] = "ellipse"
    x: float
    y: float
    across: float = Field(gt=0)
    down: float = Field(gt=0)
    turn: float = 0.0

    def paint(self, mask: Mask, move: Matrix) -> None:
        """Set `mask` to 1 inside."""
        _fill(mask, _moved(self._line(120), move))

    def _line(self, count: int) -> NDArray[np.float64]:
        """So many points of its line: (count, 2)."""
        angles = np.linspace(0, 2 * np.pi, count, endpoint=False)
        c, s = np.cos(np.radians(self.turn)), np.sin(np.radians(self.turn))
        along, aside = self.across * np.cos(angles), self.down * np.sin(angles)
        return np.stack([self.x + c * along - s * aside, self.y + s * along + c * aside], -1)

    def transformed(self, move: Matrix) -> Outline:
        """The shape as a transform lays it: an outline, for it need not be an ellipse any more."""
        points = _moved(self._line(_ROUND), move)
        return Outline(corners=tuple(Corner(x=round(float(x), 4), y=round(float(y), 4), curved=True) for x, y in points))

    def blended(self, other: Ellipse, part: float) -> Ellipse:
        """The shape a share `part` of the way to `other`; it turns the shorter way."""
        turn = (other.turn - self.turn + 90) % 180 - 90
        values = {n: (1 - part) * getattr(self, n) + part * getattr(other, n) for n in ("x", "y", "across", "down")}
        return Ellipse(**values, turn=self.turn + part * turn)

    def scaled(self, across: float, down: float) -> Ellipse:
        """The shape on a picture so many times larger."""
        size = (across * down) ** 0.5
        return Ellipse(x=self.x * across, y=self.y * down, across=self.across * size, down=self.down * size, turn=self.turn)


class Corner(ShapeModel):
    """A point of an outline; at a curved one the sides run through it smoothly."""

    x: float
    y: float
    curved: bool = False


class Outline(ShapeModel):
    """A closed line through its corners."""

    kind: Literal["outline"] = "outline"
    corners: tuple[Corner, ...] = Field(min_length=3, max_length=4000)

    def paint(self, mask: Mask, move: Matrix) -> None:
        """Set `mask` to 1 inside."""
        _fill(mask, _moved(self.line(), move))

    def transformed(self, move: Matrix) -> Outline:
        """The shape as a transform lays it."""
        points = _moved(np.array([[c.x, c.y] for c in self.corners]), move)
        return Outline(
            corners=tuple(
                Corner(x=round(float(x), 4), y=round(float(y), 4), curved=c.curved) for (x, y), c in zip(points, self.corners, strict=True)
            )
        )

    def line(self, steps: int = 12) -> NDArray[np.float64]:
        """The points of the line: (n, 2). Curved sides are cubics through the corners (Catmull and Rom 1974)."""
        points = np.array([[c.x, c.y] for c in self.corners])
        count = len(points)
        line = []
        for n, corner in enumerate(self.corners):
            after = (n + 1) % count
            if not (corner.curved or self.corners[after].curved):
                line.append(points[n][None])
                continue
            leave = (points[after] - points[n - 1]) / 2 if corner.curved else points[after] - points[n]
            arrive = (points[(n + 2) % count] - points[n]) / 2 if self.corners[after].curved else points[after] - points[n]
            t = np.linspace(0, 1, steps, endpoint=False)[:, None]
            line.append(
                (2 * t**3 - 3 * t**2 + 1) * points[n]
                + (t**3 - 2 * t**2 + t) * leave
                + (3 * t**2 - 2 * t**3) * points[after]
                + (t**3 - t**2) * arrive
            )
        return np.concatenate(line)

    def blended(self, other: Outline, part: float) -> Outline:
        """The shape a share `part` of the way to `other`; of another number of corners, both are walked at even steps."""
        if len(self.corners) == len(other.corners):
            pairs = zip(self.corners, other.corners, strict=True)
            return Outline(
                corners=tuple(Corner(x=(1 - part) * a.x + part * b.x, y=(1 - part) * a.y + part * b.y, curved=a.curved) for a, b in pairs)
            )
        one, two = _walked(self.line()), _walked(other.line())
        # The start that goes with the other's is the one that moves the line least.
        starts = [float(((np.roll(two, -k, 0) - one) ** 2).sum()) for k in range(0, len(two), 4)]
        two = np.roll(two, -4 * int(np.argmin(starts)), 0)
        return Outline(corners=tuple(Corner(x=float(x), y=float(y)) for x, y in (1 - part) * one + part * two))

    def scaled(self, across: float, down: float) -> Outline:
        """The shape on a picture so many times larger."""
        return Outline(corners=tuple(Corner(x=c.x * across, y=c.y * down, curved=c.curved) for c in self.corners))


class Stroke(ShapeModel):
    """Brush paint along a line: `size` is the brush's width in pixels; at a hardness of 1 its edge is sharp."""

    kind: Literal["stroke"] = "stroke"
    points: tuple[tuple[float, float], ...] = Field(min_length=1, max_length=20_000)
    size: float = Field(gt=0, le=2000)
    hardness: float = Field(default=1.0, ge=0, le=1)

    def paint(self, mask: Mask, move: Matrix) -> None:
        """Lay the paint on `mask`."""
        points = _moved(np.array(self.points), move)
        size = self.size * _times(np.array(self.points).mean(0), move)
        paint = np.zeros(mask.shape, np.float32)

        def draw(ink: NDArray[np.uint8], fixed: NDArray[np.int32]) -> None:
            radius = round(size / 2 * _FINER * _ONE)
            for a, b in pairwise(fixed.tolist()):
                cv2.line(ink, a, b, 255, max(1, round(size * _FINER)), cv2.LINE_8, _SHIFT)
            for point in fixed.tolist():
                cv2.circle(ink, point, radius, 255, -1, cv2.LINE_8, _SHIFT)

        _draw(paint, points, size / 2 + 1, draw)
        soft = (1 - self.hardness) * size / 4
        if soft > 0.3:
            paint = cv2.GaussianBlur(paint, (0, 0), soft)
        np.maximum(mask, paint, out=mask)

    def transformed(self, move: Matrix) -> Stroke:
        """The paint as a transform lays it, as wide as it is at its middle."""
        points = _moved(np.array(self.points), move)
        size = min(2000.0, self.size * _times(np.array(self.points).mean(0), move))
        return Stroke(points=tuple((round(float(x), 4), round(float(y), 4)) for x, y in points), size=size, hardness=self.hardness)

    def blended(self, other: Stroke, part: float) -> Stroke:
        """Paint does not change its form: the nearer of the two."""
        return self if part < 0.5 else other

    def scaled(self, across: float, down: float) -> Stroke:
        """The paint on a picture so many times larger."""
        points = tuple((x * across, y * down) for x, y in self.points)
        return Stroke(points=points, size=min(2000.0, self.size * (across * down) ** 0.5), hardness=self.hardness)


class Picture(ShapeModel):
    """A mask picture: 8-bit levels in row order, deflated, in base 64."""

    kind: Literal["picture"] = "picture"
    width: int = Field(ge=1, le=32_768)
    height: int = Field(ge=1, le=32_768)
    levels: str

    @classmethod
    def of(cls, mask: Mask) -> Picture:
        """Keep a mask of 0 to 1."""
        levels = np.clip(np.rint(mask * 255), 0, 255).astype(np.uint8)
        packed = base64.b64encode(zlib.compress(levels.tobytes(), 9)).decode()
        return cls(width=mask.shape[1], height=mask.shape[0], levels=packed)

    @model_validator(mode="after")
    def _consistent(self) -> Picture:
        try:
            count = len(zlib.decompress(base64.b64decode(self.levels, validate=True)))
        except (ValueError, zlib.error) as error:
            raise ValueError("the mask picture cannot be unpacked") from error
        if count != self.width * self.height:
            raise ValueError(f"the mask picture has {count} samples, not {self.width} x {self.height}")
        return self

    def mask(self) -> Mask:
        """The mask of 0 to 1, (height, width)."""
        levels = np.frombuffer(zlib.decompress(base64.b64decode(self.levels)), np.uint8)
        return levels.reshape(self.height, self.width).astype(np.float32) / 255

    def paint(self, mask: Mask, move: Matrix) -> None:
        """Lay it over `mask`, scaled to its size."""
        levels = self.mask()
        scale = np.diag([mask.shape[1] / self.width, mask.shape[0] / self.height, 1.0])
        if not np.allclose(scale @ move, np.eye(3)) or levels.shape != mask.shape:
            levels = cv2.warpPerspective(levels, move @ scale, mask.shape[::-1], flags=cv2.INTER_LINEAR)
        np.maximum(mask, levels, out=mask)

    def transformed(self, move: Matrix) -> Picture:
        """The mask as a transform lays it."""
        return Picture.of(cv2.warpPerspective(self.mask(), move, (self.width, self.height), flags=cv2.INTER_LINEAR))

    def blended(self, other: Picture, part: float) -> Picture:
        """The nearer of the two."""
        return self if part < 0.5 else other

    def scaled(self, across: float, down: float) -> Picture:
        """Itself: it is scaled when it is laid down."""
        return self


Shape = Annotated[Ellipse | Outline | Stroke | Picture, Field(discriminator="kind")]


def contours(mask: Mask, simple: float = 0.4) -> list[NDArray[np.float64]]:
    """Closed lines around where a mask is at least half; the picture's own edge closes them.

    Parameters
    ----------
    mask : ndarray, float32, (height, width)
        0 to 1.
    simple : float
        Pixels that a line may depart from the pixels' edges.

    Returns
    -------
    list of ndarray, float64, (n, 2)
        x and y, on pixel edges.
    """
    inside = np.pad(mask >= 0.5, 1).astype(np.uint8)
    # At twice the size every corner of a pixel is a point, so that a line runs along edges and not through middles.
    fine = cv2.resize(inside, None, fx=2, fy=2, interpolation=cv2.INTER_NEAREST)
    found, _ = cv2.findContours(fine, cv2.RETR_LIST, cv2.CHAIN_APPROX_SIMPLE)
    lines = [cv2.approxPolyDP(line, 2 * simple, True)[:, 0] for line in found]
    return [line / 2 - 1.25 for line in lines if len(line) > 2]


def _moved(points: NDArray[np.float64], move: Matrix) -> NDArray[np.float64]:
    mapped_points = np.column_stack([points, np.ones(len(points))]) @ move.T
    return mapped_points[:, :2] / mapped_points[:, 2:]


def _times(place: NDArray[np.float64], move: Matrix) -> float:
    """How many times larger a transform makes what lies at a place."""
    depth = float(move[2, 0] * place[0] + move[2, 1] * place[1] + move[2, 2])
    return float(np.sqrt(abs(np.linalg.det(move) / depth**3)))


def _fill(mask: Mask, line: NDArray[np.float64]) -> None:
    """Set `mask` to 1 inside a closed line."""

    def draw(ink: NDArray[np.uint8], points: NDArray[np.int32]) -> None:
        cv2.fillPoly(ink, [points], 255, cv2.LINE_8, _SHIFT)

    _draw(mask, line, 1.0, draw)


def _draw(mask: Mask, points: NDArray[np.float64], room: float, draw: Callable[[NDArray[np.uint8], NDArray[np.int32]], None]) -> None:
    """Draw about `points` at several times the size, so that edges fall where they are, and lay it on `mask`."""
    height, width = mask.shape
    left, top = (int(max(-1, min(v, 1 << 20))) for v in np.floor(points.min(0) - room))
    right, bottom = (int(max(-1, min(v, 1 << 20))) for v in np.ceil(points.max(0) + room) + 1)
    left, top, right, bottom = max(0, left), max(0, top), min(width, right), min(height, bottom)
    if right <= left or bottom <= top:
        return
    ink = np.zeros(((bottom - top) * _FINER, (right - left) * _FINER), np.uint8)
    # Far outside the picture OpenCV's fixed point would run over; nothing there is seen.
    reach = 4 * max(width, height)
    fine = (np.clip(points, -reach, reach) - [left, top] + 0.5) * _FINER - 0.5
    draw(ink, np.rint(fine * _ONE).astype(np.int32))
    own = cv2.resize(ink, (right - left, bottom - top), interpolation=cv2.INTER_AREA).astype(np.float32) / 255
    np.maximum(mask[top:bottom, left:right], own, out=mask[top:bottom, left:right])


def _walked(line: NDArray[np.float64], steps: int = 96) -> NDArray[np.float64]:
    closed = np.vstack([line, line[:1]])
    along = np.concatenate([[0], np.cumsum(np.hypot(*np.diff(closed, axis=0).T))])
    at = np.linspace(0, along[-1], steps, endpoint=False)
    return np.stack([np.interp(at, along, closed[:, k]) for k in (0, 1)], -1)
