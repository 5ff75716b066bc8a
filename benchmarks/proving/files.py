"""Writes clips as cameras and scanners do, and reads them back as they are coded."""

from __future__ import annotations

from dataclasses import dataclass
from fractions import Fraction
from pathlib import Path
from typing import Any

import av
import numpy as np
from numpy.typing import NDArray

from .scenes import light_of

Array = NDArray[Any]
# How far a logarithm lifts the dark: white is so many times the light at which it bends.
_LOG = 60.0
_BANDED = {"level": "3", "slices": "4"}


@dataclass(frozen=True)
class Coding:
    """A way to write a clip.

    Attributes
    ----------
    codec, pixels : str
        Names of the media library.
    suffix : str
    options : dict
        Of the codec; a pair of numbers is a range that one is drawn from.
    lossy : bool
        Keeps an error of its own.
    log : bool
        Holds the logarithm of light, as cameras that spare highlights write it.
    often : int
        How often it is drawn, against the others.
    """

    codec: str
    pixels: str
    suffix: str
    options: dict[str, str | tuple[int, int]]
    lossy: bool = False
    log: bool = False
    often: int = 1

    @property
    def is_deep(self) -> bool:
        """Whether it has more than 8 bits a sample."""
        return "10" in self.pixels or "16" in self.pixels


CODINGS = {
    "8-bit 4:2:0": Coding("ffv1", "yuv420p", ".mkv", {**_BANDED}, often=4),
    "8-bit 4:2:2": Coding("ffv1", "yuv422p", ".mkv", {**_BANDED}),
    "10-bit 4:2:2": Coding("ffv1", "yuv422p10le", ".mkv", {**_BANDED}, often=2),
    "10-bit log 4:2:2": Coding("ffv1", "yuv422p10le", ".mkv", {**_BANDED}, log=True),
    "16-bit RGB": Coding("ffv1", "gbrp16le", ".mkv", {**_BANDED}),
    "ProRes 4:2:2": Coding("prores_ks", "yuv422p10le", ".mov", {"profile": "3"}, lossy=True),
    "H.264": Coding("libx264", "yuv420p", ".mp4", {"crf": (14, 24), "preset": "medium"}, lossy=True, often=2),
    "MJPEG": Coding("mjpeg", "yuvj420p", ".mkv", {"qmin": "2", "qmax": "3"}, lossy=True),
}


def drawn(rng: np.random.Generator) -> str:
    """The name of a coding."""
    often = np.array([c.often for c in CODINGS.values()], float)
    return str(rng.choice(list(CODINGS), p=often / often.sum()))


def exact(coding: Coding) -> Coding:
    """The lossless coding that holds a clip as another one would without its losses."""
    return CODINGS["10-bit 4:2:2" if coding.is_deep else "8-bit 4:2:0"] if coding.lossy else coding


def write(path: Path, pictures: Array, coding: Coding, rng: np.random.Generator) -> None:
    """Write a clip of 24 frames a second.

    Parameters
    ----------
    path : Path
    pictures : ndarray, float32, (frames, height, width, 3)
        Red, green and blue in 8-bit codes.
    coding : Coding
    rng : Generator
        Draws what the coding leaves open.
    """
    options = {k: str(int(rng.integers(*v))) if isinstance(v, tuple) else v for k, v in coding.options.items()}
    with av.open(str(path), "w") as out:
        stream = out.add_stream(coding.codec, rate=Fraction(24), options=options)
        assert isinstance(stream, av.VideoStream)
        stream.height, stream.width = pictures.shape[1:3]
        stream.pix_fmt = coding.pixels
        for picture in pictures:
            codes = _logged(picture) if coding.log else picture
            deep = coding.is_deep
            samples = (codes * 257 + 0.5).clip(0, 65535).astype(np.uint16) if deep else (codes + 0.5).clip(0, 255).astype(np.uint8)
            frame = av.VideoFrame.from_ndarray(samples, format="rgb48le" if deep else "rgb24")
            out.mux(stream.encode(frame.reformat(format=coding.pixels, dst_colorspace="ITU709")))
        out.mux(stream.encode())


def _logged(picture: Array) -> Array:
    return np.asarray(255 * np.log1p(_LOG * light_of(picture)) / np.log1p(_LOG))


def brightness(path: Path) -> Array:
    """Luma of every frame, or green, in 8-bit codes of limited range: (frames, height, width), float32."""
    made = []
    with av.open(str(path)) as source:
        for frame in source.decode(video=0):
            bits = frame.format.components[0].bits
            plane = np.frombuffer(frame.planes[0], np.uint16 if bits > 8 else np.uint8).reshape(frame.height, -1)[:, : frame.width]
            # Full range is told by the name of the pixels, or by the tag.
            full = frame.format.is_rgb or frame.format.name.startswith("yuvj") or int(frame.color_range or 0) == 2
            codes = plane.astype(np.float32) * np.float32(255 / 65535 if bits == 16 else 2.0 ** (8 - bits))
            made.append(codes * np.float32(219 / 255) + 16 if full else codes)
    return np.stack(made)
