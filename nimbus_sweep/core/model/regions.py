"""Regions: where a step may act, as shapes drawn on the picture, over time.

A region is a list of parts, each added or taken away in turn, then grown or shrunk, softened, and turned inside out.
A part is an ellipse, an outline with straight or curved sides, brush paint, or a mask picture; it may have keys at
several frames, between which it is blended, and may ride on a track.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass
from itertools import pairwise
from typing import Protocol

import cv2
import numpy as np
from numpy.typing import NDArray
from pydantic import Field, model_validator

from ..base.errors import SweepError
from .shapes import Corner, Mask, Matrix, Outline, Shape, ShapeModel, contours


class Key(ShapeModel):
    """A part's shape at a frame."""

    frame: int = Field(ge=0)
    shape: Shape


class Part(ShapeModel):
    """A shape that is added to a region, or taken away from it.

    Attributes
    ----------
    keys : tuple of Key
        In order of frames; one for a shape that does not change. Before the first and behind the last it stays as
        it is there.
    takes : bool
        Taken away rather than added.
    track : str
        Name of the track it rides on; empty for fixed to the frame.
    """

    keys: tuple[Key, ...] = Field(min_length=1)
    takes: bool = False
    track: str = ""

    @model_validator(mode="after")
    def _alike(self) -> Part:
        frames = [k.frame for k in self.keys]
        if frames != sorted(set(frames)):
            raise ValueError("the keys of a part lie at frames of their own, in order")
        if len({k.shape.kind for k in self.keys}) > 1:
            raise ValueError("all keys of a part are of one kind of shape")
        return self

    def at(self, frame: int) -> Shape:
        """The shape in a frame."""
        keys = self.keys
        if frame <= keys[0].frame:
            return keys[0].shape
        for before, behind in pairwise(keys):
            if frame < behind.frame:
                part = (frame - before.frame) / (behind.frame - before.frame)
                return before.shape.blended(behind.shape, part)  # type: ignore[arg-type]
        return keys[-1].shape

    def ridden(self, track: str, move: Callable[[int], Matrix]) -> Part:
        """The part on another track, or on none: `move` takes its shape from where it was to where it is kept, for each key's frame."""
        keys = tuple(Key(frame=k.frame, shape=k.shape.transformed(move(k.frame))) for k in self.keys)
        return Part(keys=keys, takes=self.takes, track=track)

    def keyed(self, frame: int, shape: Shape) -> Part:
        """The part with its shape at a frame set."""
        kept = [k for k in self.keys if k.frame != frame]
        return Part(
            keys=tuple(sorted([*kept, Key(frame=frame, shape=shape)], key=lambda k: k.frame)),
            takes=self.takes,
            track=self.track,
        )

    def reshaped(self, frame: int, shape: Shape) -> Part:
        """The part with another shape: in that frame if it has several keys, else altogether."""
        return self.keyed(self.keys[0].frame if len(self.keys) == 1 else frame, shape)

    def unkeyed(self, frame: int) -> Part:
        """The part without its key at a frame; the last one stays."""
        kept = tuple(k for k in self.keys if k.frame != frame)
        return self.model_copy(update={"keys": kept}) if kept else self

    def altered(self, frame: int, change: Callable[[Shape], Shape]) -> Part:
        """The part with every key `frame` frames later and its shape changed."""
        keys = tuple(Key(frame=max(0, k.frame + frame), shape=change(k.shape)) for k in self.keys)
        distinct = {k.frame: k for k in keys}
        return self.model_copy(update={"keys": tuple(distinct[n] for n in sorted(distinct))})


class Masked(Protocol):
    """Anything with a mask in each frame: a region, or what lies outside one."""

    @property
    def parts(self) -> tuple[Part, ...]:
        """Its shapes; without any there is nothing to mask."""
        ...

    @property
    def changes(self) -> bool:
        """Whether it differs from frame to frame."""
        ...

    def mask(self, size: tuple[int, int], frame: int = 0) -> Mask:
        """0 to 1, (height, width), in a frame."""
        ...


class Region(ShapeModel):
    """Where a step may act.

    Attributes
    ----------
    parts : tuple of Part
    grow : int
        Pixels it is grown by, or shrunk if below zero.
    feather : float
        Width of its soft edge, in pixels, half of it outside.
    invert : bool
        Everything but.
    """

    parts: tuple[Part, ...] = ()
    grow: int = Field(default=0, ge=-500, le=500)
    feather: float = Field(default=0.0, ge=0, le=500)
    invert: bool = False

    @property
    def changes(self) -> bool:
        """Whether it differs from frame to frame."""
        return any(len(p.keys) > 1 or p.track for p in self.parts)

    def carried_to(self, frames: int, across: float = 1.0, down: float = 1.0) -> Region:
        """The region so many frames later, on a picture so many times larger."""
        size = (across * down) ** 0.5
        return Region(
            parts=tuple(p.altered(frames, lambda shape: shape.scaled(across, down)) for p in self.parts),
            grow=max(-500, min(500, round(self.grow * size))),
            feather=min(500.0, self.feather * size),
            invert=self.invert,
        )

    def lines(self, size: tuple[int, int], frame: int = 0, tracks: Mapping[str, Matrix] | None = None) -> list[NDArray[np.float64]]:
        """The edge of the region in a frame, where it is half: closed lines of (n, 2), x and y in pixels."""
        return contours(self.mask(size, frame, tracks))

    def mask(self, size: tuple[int, int], frame: int = 0, tracks: Mapping[str, Matrix] | None = None) -> Mask:
        """The region in a frame.

        Parameters
        ----------
        size : tuple of int
            Height and width of the picture.
        frame : int
        tracks : mapping
            For each track its transform, 3 x 3, from where the shape was drawn to this frame.

        Returns
        -------
        ndarray, float32, (height, width)
            0 to 1. Parts off the picture leave no trace; with no parts it is all 0, or all 1 when inverted.

        Raises
        ------
        SweepError
            If a part rides on a track that is not there.
        """
        total = np.zeros(size, np.float32)
        for part in self.parts:
            move = np.eye(3)
            if part.track:
                if tracks is None or part.track not in tracks:
                    raise SweepError(
                        f"The region rides on a track called {part.track!r}, which is not there. Fix it to the frame, or choose a track."
                    )
                move = tracks[part.track]
            part_mask = np.zeros(size, np.float32)
            part.at(frame).paint(part_mask, move)
            total = np.minimum(total, 1 - part_mask) if part.takes else np.maximum(total, part_mask)
        if self.grow:
            reach = 2 * abs(self.grow) + 1
            disc = cv2.getStructuringElement(cv2.MORPH_ELLIPSE, (reach, reach))
            total = cv2.dilate(total, disc) if self.grow > 0 else cv2.erode(total, disc)
        if self.feather:
            total = cv2.GaussianBlur(total, (0, 0), max(0.3, self.feather / 4), borderType=cv2.BORDER_REPLICATE)
        return 1 - total if self.invert else total


def box_region(x: float, y: float, width: float, height: float) -> Region:
    """A rectangle as a region, in pixels."""
    corners = tuple(Corner(x=a, y=b) for a, b in ((x, y), (x + width, y), (x + width, y + height), (x, y + height)))
    return Region(parts=(Part(keys=(Key(frame=0, shape=Outline(corners=corners)),)),))


@dataclass(frozen=True)
class Outside:
    """All that lies outside a region, and what is held out of it."""

    region: Masked
    hold_out: Masked | None = None

    @property
    def parts(self) -> tuple[Part, ...]:
        """The shapes of both."""
        return self.region.parts + (self.hold_out.parts if self.hold_out else ())

    @property
    def changes(self) -> bool:
        """Whether it differs from frame to frame."""
        return self.region.changes or (self.hold_out is not None and self.hold_out.changes)

    def mask(self, size: tuple[int, int], frame: int = 0) -> Mask:
        """0 to 1, (height, width), in a frame."""
        outside = 1 - self.region.mask(size, frame)
        return outside if self.hold_out is None else np.maximum(outside, self.hold_out.mask(size, frame))
