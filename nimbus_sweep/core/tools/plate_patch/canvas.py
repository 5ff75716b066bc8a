"""The plane a plate lies on, and colours between frames and plates."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import cv2
import numpy as np
from numpy.typing import NDArray

from ...imaging.box import Box
from ...imaging.motion import Plane
from ...media.colour import luma_weights
from ...media.convert import Values, to_rgb_values, values_of, with_values
from ...media.frames import Frame, PictureFormat, as_numbers
from ...model.planes import Matrix, moved

# Red, green, blue in 8-bit codes, not clipped: (height, width, 3), float32.
Picture = NDArray[Any]


def rgb_of(frame: Frame, box: Box) -> Picture:
    """A part of a frame that lies on it, on whole chroma cells, as red, green and blue in 8-bit codes."""
    part = frame.part(box.left, box.top, box.left + box.width, box.top + box.height)
    values = values_of(part)
    if "R" not in values:
        values = to_rgb_values(values, part.colour, part.format.height)
    return np.stack([values[n] for n in "RGB"], -1) * np.float32(255)


def put_rgb(frame: Frame, box: Box, picture: Picture, where: Plane) -> None:
    """Write a picture into a part of a frame, as far as `where` says, 0 to 1; samples with none of it stay as they are."""
    part = frame.part(box.left, box.top, box.left + box.width, box.top + box.height)
    r, g, b = (np.asarray(picture[..., k] / np.float32(255), np.float32) for k in range(3))
    values: Values = {"R": r, "G": g, "B": b}
    if "R" not in {c.name for c in part.format.components}:
        kr, kg, kb = luma_weights(part.colour, part.format.height)
        luma = np.asarray(kr * r + kg * g + kb * b, np.float32)
        values = {"Y": luma, "Cb": (b - luma) / np.float32(2 * (1 - kb)), "Cr": (r - luma) / np.float32(2 * (1 - kr))}

    made = with_values(part, values, part.format)
    for i, component in enumerate(part.format.components):
        if component.name == "A":
            continue
        target, new = part.component(i), made.component(i)
        share = where if where.shape == target.shape else cv2.resize(where, target.shape[::-1], interpolation=cv2.INTER_AREA)
        rows, cols = np.nonzero(share > 0)
        weight = share[rows, cols].astype(np.float64)
        target[rows, cols] = component.samples(
            as_numbers(target[rows, cols]) * (1 - weight) + as_numbers(new[rows, cols]) * weight, target.dtype
        )


@dataclass(frozen=True)
class Canvas:
    """A rectangle of the plane, in the pixels of the reference frame; it may reach beyond that frame.

    Attributes
    ----------
    left, top, width, height : int
    """

    left: int
    top: int
    width: int
    height: int

    @property
    def from_it(self) -> Matrix:
        """From its samples to the plane."""
        return np.array([[1, 0, self.left], [0, 1, self.top], [0, 0, 1]], np.float64)

    @property
    def shape(self) -> tuple[int, int]:
        """Rows and columns."""
        return self.height, self.width

    @classmethod
    def about(cls, mask: Plane, room: int, left: int = 0, top: int = 0) -> Canvas:
        """The least one about a mask, with some room; the mask's first sample lies at `left`, `top`."""
        rows, cols = np.flatnonzero((mask > 0).any(1)), np.flatnonzero((mask > 0).any(0))
        return cls(
            int(cols[0]) - room + left, int(rows[0]) - room + top, int(np.ptp(cols)) + 1 + 2 * room, int(np.ptp(rows)) + 1 + 2 * room
        )

    def place(self, way: Matrix, layout: PictureFormat) -> Box | None:
        """Where it lies on a frame, cut to the picture, on whole chroma cells; None when it is off it."""
        corners = np.array([[0, 0], [self.width, 0], [self.width, self.height], [0, self.height]], np.float64) - 0.5
        there = moved(corners, way @ self.from_it)
        cell = max(max(layout.subsampling(i)) for i in range(len(layout.components)))
        left, top = (int(np.floor(max(0, v) / cell)) * cell for v in np.floor(there.min(0)))
        right, bottom = (
            min(size, int(np.ceil(v / cell)) * cell)
            for v, size in zip(np.ceil(there.max(0)) + 1, (layout.width, layout.height), strict=True)
        )
        return Box(left, top, right - left, bottom - top) if right - left >= 4 and bottom - top >= 4 else None

    def on_frame(self, plane: Plane, way: Matrix, box: Box, smooth: bool = True) -> Plane:
        """What lies on it, laid on a place of a frame; nothing beyond its edge."""
        there = np.array([[1, 0, -box.left], [0, 1, -box.top], [0, 0, 1]], np.float64) @ way @ self.from_it
        how = cv2.INTER_CUBIC if smooth else cv2.INTER_LINEAR
        return cv2.warpPerspective(plane, there, (box.width, box.height), flags=how, borderMode=cv2.BORDER_CONSTANT, borderValue=0)

    def from_frame(self, part: Plane, box: Box, way: Matrix, smooth: bool = True) -> Plane:
        """A place of a frame, laid on it; nothing beyond the edge."""
        there = np.array([[1, 0, -box.left], [0, 1, -box.top], [0, 0, 1]], np.float64) @ way @ self.from_it
        how = (cv2.INTER_CUBIC if smooth else cv2.INTER_LINEAR) | cv2.WARP_INVERSE_MAP
        return cv2.warpPerspective(part, there, (self.width, self.height), flags=how, borderMode=cv2.BORDER_CONSTANT, borderValue=0)

    def taken(self, frame: Frame, way: Matrix, held: Plane | None = None) -> tuple[Picture, Plane]:
        """A frame's picture of the plane, and what of it is seen, 0 to 1."""
        box = self.place(way, frame.format)
        if box is None:
            return np.zeros((*self.shape, 3), np.float32), np.zeros(self.shape, np.float32)
        seen = np.ones((box.height, box.width), np.float32)
        if held is not None:
            seen = (cv2.dilate(box.samples(held), np.ones((5, 5), np.uint8)) < 0.02).astype(np.float32)
        known = self.from_frame(seen, box, way, smooth=False)
        return self.from_frame(rgb_of(frame, box), box, way), (known > 0.99).astype(np.float32)
