"""Frames as pictures to look at: right matrix and range, scaled, as JPEG or PNG. Never used for what is delivered."""

from __future__ import annotations

import contextlib
import logging
import zlib
from functools import lru_cache
from pathlib import Path

import cv2
import numpy as np
from numpy.typing import NDArray

from ..base.files import FULL, disk_full
from .convert import to_rgb_values, values_of
from .frames import Frame
from .layout import to_picture

Picture = NDArray[np.uint8]

PROXY_WIDTH, PROXY_QUALITY = 960, 82
# Bytes that no small picture takes.
_LARGEST = 1 << 25
log = logging.getLogger(__name__)


def to_bgr(frame: Frame, width: int | None = None) -> Picture:
    """The frame as blue, green, red of 8 bits, (height, width, 3); scaled to `width` pixels across if given.

    An unnamed matrix is chosen by picture height, as `core.colour` does. Linear light and logarithmic scans are
    shown through the curve of a display (IEC 61966-2-1).
    """
    layout, colour = frame.format, frame.colour
    height = None if width is None else max(1, round(layout.height * width / layout.width))
    if layout.components[0].floating or (colour.transfer in (_LINEAR, _LOG) and layout.components[0].bits > 8):
        return _through_curve(frame, width, height)
    matrix = colour.matrix
    if matrix in (2, 3) or (matrix == 0 and "Y" in {c.name for c in layout.components}):
        matrix = 1 if layout.height >= 720 else 5
    picture = to_picture(frame).reformat(
        width=width,
        height=height,
        format="bgr24",
        src_colorspace=matrix if matrix else None,
        src_color_range=2 if colour.full_range else 1,
        dst_color_range=2,
        # Small pictures are for moving about in; the sharper filter takes three times as long.
        interpolation="FAST_BILINEAR" if width is not None and 2 * width >= layout.width else "BICUBIC",
    )
    shown = picture.to_ndarray().astype(np.uint8, copy=False)
    if colour.transfer in (_LINEAR, _LOG):
        return _curve(colour.transfer, 256)[shown]
    return shown


_LINEAR, _LOG = 8, 9


def _through_curve(frame: Frame, width: int | None, height: int | None) -> Picture:
    values = values_of(frame)
    if "R" not in values:
        held = frame.format.components[0]
        values = to_rgb_values(values, frame.colour, held.height)
    planes = []
    for name in "BGR":
        plane = values[name]
        if width is not None and height is not None and plane.shape != (height, width):
            smaller = width < plane.shape[1]
            plane = cv2.resize(plane, (width, height), interpolation=cv2.INTER_AREA if smaller else cv2.INTER_LINEAR)
        planes.append(plane)
    shown = np.stack(planes, -1)
    places = np.clip(np.nan_to_num(shown, nan=0.0, posinf=1.0, neginf=0.0) * np.float32(_STEPS - 1), 0, _STEPS - 1)
    # Samples that show are in the display's own curve already, unless they are light or its logarithm.
    transfer = frame.colour.transfer if frame.colour.transfer in (_LINEAR, _LOG) else 13
    return _curve(transfer, _STEPS)[places.astype(np.uint16)]


_STEPS = 4096


@lru_cache(maxsize=8)
def _curve(transfer: int, steps: int) -> Picture:
    """Display value for each of `steps` sample values from 0 to 1."""
    value = np.arange(steps) / (steps - 1)
    if transfer == _LOG:
        # Printing density: code 95 of 1023 is black and 685 white, 0.002 density a code, gamma 0.6 (values of the
        # film industry's 10-bit log scans; from memory).
        light = 10 ** ((value * 1023 - 685) * 0.002 / 0.6)
        black = 10 ** ((95 - 685) * 0.002 / 0.6)
        light = np.clip((light - black) / (1 - black), 0, 1)
    elif transfer == _LINEAR:
        light = value
    else:
        return np.rint(value * 255).astype(np.uint8)
    shown = np.where(light <= 0.0031308, 12.92 * light, 1.055 * np.power(light, 1 / 2.4) - 0.055)
    return np.rint(np.clip(shown, 0, 1) * 255).astype(np.uint8)


def cut_out(frame: Frame, left: int, right: int, top: int, bottom: int) -> Picture:
    """A part of a frame as a picture, converting no more of it than its chroma cells ask for."""
    cells = [frame.format.subsampling(i) for i in range(len(frame.format.components))]
    if any(c.step != 1 or c.offset for c in frame.format.components):
        return to_bgr(frame)[top:bottom, left:right]
    wide, tall = 8 * max(c[0] for c in cells), 8 * max(c[1] for c in cells)
    x0, y0 = left // wide * wide, top // tall * tall
    x1, y1 = min(-(-right // wide) * wide, frame.format.width), min(-(-bottom // tall) * tall, frame.format.height)
    part = frame.part(x0, y0, x1, y1)
    return to_bgr(part)[top - y0 : bottom - y0, left - x0 : right - x0]


def crop(frame: Frame, left: int, top: int, width: int, height: int) -> Picture:
    """A part of a frame at 1:1, kept inside the picture."""
    left, top = max(0, min(left, frame.format.width - 1)), max(0, min(top, frame.format.height - 1))
    return cut_out(frame, left, min(frame.format.width, left + width), top, min(frame.format.height, top + height))


def jpeg(picture: Picture, quality: int = 88) -> bytes:
    """Encode as JPEG.

    Parameters
    ----------
    picture : ndarray, uint8, (height, width) or (height, width, 3)
        Blue, green, red.
    quality : int
        1 to 100.

    Returns
    -------
    bytes
    """
    return cv2.imencode(".jpg", picture, [cv2.IMWRITE_JPEG_QUALITY, quality])[1].tobytes()


def png(picture: Picture) -> bytes:
    """Encode as PNG, quickly.

    Parameters
    ----------
    picture : ndarray, uint8, (height, width) or (height, width, 3)
        Blue, green, red.

    Returns
    -------
    bytes
    """
    return cv2.imencode(".png", picture, [cv2.IMWRITE_PNG_COMPRESSION, 1])[1].tobytes()


def flattened(picture: Picture) -> Picture:
    """A picture with its broad light taken out and what is left made plain: grey where nothing departs.

    Parameters
    ----------
    picture : ndarray, uint8, (height, width, 3)
        Blue, green, red.

    Returns
    -------
    ndarray, uint8, (height, width, 3)
    """
    light = np.log(cv2.cvtColor(picture, cv2.COLOR_BGR2GRAY).astype(np.float32) + 4)
    departs = light - cv2.GaussianBlur(light, (0, 0), max(8.0, picture.shape[1] / 40))
    scale = 4 * 1.4826 * float(np.median(np.abs(departs))) + 0.02
    return cv2.cvtColor(np.clip(128 + 127 * departs / scale, 0, 255).astype(np.uint8), cv2.COLOR_GRAY2BGR)


def difference(one: Picture, other: Picture, gain: float) -> Picture:
    """The size of the difference of two pictures.

    Parameters
    ----------
    one, other : ndarray, uint8, (height, width, 3)
    gain : float
        By how much it is enlarged.

    Returns
    -------
    ndarray, uint8, (height, width, 3)
    """
    return cv2.convertScaleAbs(cv2.absdiff(one, other), alpha=gain)


class Proxy:
    """Small pictures of every frame in one file, for scrubbing: frame *n* is a slice of bytes.

    It can be read while a `ProxyMaker` is still writing it; then it is as long as what is there.

    Parameters
    ----------
    path : Path
        JPEG pictures, one behind the other; beside it lie their ends, each as eight bytes, and their checksums (CRC-32), each as four.
    """

    def __init__(self, path: Path) -> None:
        self._path, self._part = path, _part_of(path)
        pictures, (ends, sums) = (path, _beside(path)) if path.exists() else (self._part, _beside(self._part))
        if not pictures.exists() or not ends.exists():
            raise FileNotFoundError(path)
        self._ends = np.concatenate([[0], np.fromfile(ends, "<i8")]).astype(np.int64)
        # Those of earlier versions have none.
        self._sums = np.fromfile(sums, "<u4") if sums.exists() else None

    def __len__(self) -> int:
        return len(self._ends) - 1

    def jpeg(self, number: int) -> bytes:
        """Frame `number` as it was encoded; raises IndexError if it is not there (yet), or was altered."""
        begin, end = (int(self._ends[number]), int(self._ends[number + 1])) if 0 <= number < len(self) else (0, 0)
        if not 0 <= begin < end:
            raise IndexError(number)
        path = self._path if self._path.exists() else self._part
        with open(path, "rb") as stream:
            stream.seek(begin)
            data = stream.read(min(end - begin, _LARGEST))
        if self._sums is not None and (number >= len(self._sums) or zlib.crc32(data) != self._sums[number]):
            log.warning("picture %d of %s was altered", number, path)
            raise IndexError(number)
        return data


def _part_of(path: Path) -> Path:
    return path.with_suffix(".growing")


def _beside(pictures: Path) -> tuple[Path, Path]:
    """Where the ends and the checksums of pictures lie, whole or still growing."""
    if pictures.suffix == ".growing":
        return pictures.with_name(f"{pictures.name}-ends"), pictures.with_name(f"{pictures.name}-sums")
    return pictures.with_suffix(".ends"), pictures.with_suffix(".sums")


class ProxyMaker:
    """Writes a proxy as frames go by; it gets its name only after `finish`."""

    def __init__(self, path: Path) -> None:
        self._path = path
        self._part = _part_of(path)
        self._stream, self._index, self._sums = (open(p, "wb") for p in (self._part, *_beside(self._part)))
        self._end = 0

    def add(self, data: bytes) -> None:
        """Take in the next frame's small picture, encoded."""
        self._end += len(data)
        try:
            self._stream.write(data)
            self._stream.flush()
            self._index.write(self._end.to_bytes(8, "little"))
            self._sums.write(zlib.crc32(data).to_bytes(4, "little"))
            self._sums.flush()
            self._index.flush()
        except OSError as error:
            if error.errno in FULL:
                raise disk_full(self._path) from error
            raise

    def finish(self) -> Proxy:
        """Close the file, give it its name and open it as a proxy."""
        for stream in (self._stream, self._index, self._sums):
            stream.close()
        for growing, whole in zip(_beside(self._part), _beside(self._path), strict=True):
            growing.replace(whole)
        self._part.replace(self._path)
        return Proxy(self._path)

    def drop(self) -> None:
        """Remove what was written."""
        for stream in (self._stream, self._index, self._sums):
            with contextlib.suppress(OSError):
                stream.close()
        for path in (self._part, *_beside(self._part)):
            path.unlink(missing_ok=True)
