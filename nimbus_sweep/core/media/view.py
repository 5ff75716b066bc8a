"""Frames as pictures to look at: right matrix and range, scaled, as JPEG or PNG. Never used for what is delivered."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

import cv2
import numpy as np
from numpy.typing import NDArray

from ..errors import SweepError
from ..frames import Frame
from .aside import written_aside
from .layout import to_picture

Picture = NDArray[np.uint8]

PROXY_WIDTH = 960


def to_bgr(frame: Frame, width: int | None = None) -> Picture:
    """The frame as blue, green, red of 8 bits, (height, width, 3); scaled to `width` pixels across if given.

    An unnamed matrix is chosen by picture height, as `core.colour` does.
    """
    layout, colour = frame.format, frame.colour
    matrix = colour.matrix
    if matrix in (2, 3) or (matrix == 0 and "Y" in {c.name for c in layout.components}):
        matrix = 1 if layout.height >= 720 else 5
    height = None if width is None else max(1, round(layout.height * width / layout.width))
    picture = to_picture(frame).reformat(
        width=width,
        height=height,
        format="bgr24",
        src_colorspace=matrix if matrix else None,
        src_color_range=2 if colour.full_range else 1,
        dst_color_range=2,
    )
    return picture.to_ndarray().astype(np.uint8, copy=False)


def jpeg(picture: Picture, quality: int = 88) -> bytes:
    """Encode as JPEG."""
    return cv2.imencode(".jpg", picture, [cv2.IMWRITE_JPEG_QUALITY, quality])[1].tobytes()


def png(picture: Picture) -> bytes:
    """Encode as PNG, quickly."""
    return cv2.imencode(".png", picture, [cv2.IMWRITE_PNG_COMPRESSION, 1])[1].tobytes()


def difference(one: Picture, other: Picture, gain: float) -> Picture:
    """The size of the difference of two pictures, enlarged by `gain`."""
    return cv2.convertScaleAbs(cv2.absdiff(one, other), alpha=gain)


@dataclass(frozen=True)
class Proxy:
    """Small pictures of every frame in one file, for scrubbing: frame *n* is a slice of bytes.

    Attributes
    ----------
    path : Path
        JPEG pictures, one behind the other; their ends lie beside it as ``.npy``.
    """

    path: Path
    ends: NDArray[np.int64]

    @classmethod
    def load(cls, path: Path) -> Proxy:
        """Open a proxy written by `ProxyMaker`."""
        return cls(path, np.load(path.with_suffix(".npy")))

    def __len__(self) -> int:
        return len(self.ends) - 1

    def jpeg(self, number: int) -> bytes:
        """Frame `number` as it was encoded."""
        with open(self.path, "rb") as stream:
            stream.seek(int(self.ends[number]))
            return stream.read(int(self.ends[number + 1] - self.ends[number]))


class ProxyMaker:
    """Writes a proxy as frames go by; whole only after `finish`."""

    def __init__(self, path: Path) -> None:
        self._path = path
        self._aside = written_aside(path, durable=False)
        self._stream = self._aside.__enter__()
        self._ends = [0]

    def add(self, frame: Frame) -> None:
        """Take in the next frame."""
        data = jpeg(to_bgr(frame, min(PROXY_WIDTH, frame.format.width)), 82)
        try:
            self._stream.write(data)
        except OSError as error:
            self.abandon(error)
        self._ends.append(self._ends[-1] + len(data))

    def finish(self) -> Proxy:
        """Close the file and open it as a proxy."""
        with written_aside(self._path.with_suffix(".npy")) as stream:
            np.save(stream, np.asarray(self._ends, np.int64))
        self._aside.__exit__(None, None, None)
        return Proxy.load(self._path)

    def abandon(self, error: BaseException) -> None:
        """Drop what was written; a full disk is raised as such."""
        try:
            self._aside.__exit__(type(error), error, error.__traceback__)
        except SweepError:
            raise
        raise error
