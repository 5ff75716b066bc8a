"""The demo job's reels: drawn, spoiled, written, each with its truth beside it as a JSON file."""

from __future__ import annotations

import json
from collections.abc import Callable, Iterable, Iterator
from dataclasses import asdict, dataclass
from fractions import Fraction
from itertools import islice
from pathlib import Path
from typing import Any, Literal

import av
import cv2
import numpy as np
from numpy.typing import NDArray

from ..core.base.files import atomic_write
from ..core.base.parallel import parallel_map
from ..core.media.frames import Colour, Frame
from ..core.media.layout import picture_format, to_picture
from .defects import StuckSite, scatter, stick
from .flicker import Lit, bands, frame_pumping, jumps, lit, on_off
from .grain import Planes
from .room import SCREEN, draw_room
from .shade import DrawnMark, shade, sprinkle
from .station import HEIGHT, WIDTH, Camera, draw, prepare

RATE = 24
SOUND_RATE = 48000
LightKind = Literal["steady", "bands", "screen", "breathes", "strobes", "jumps"]


@dataclass(frozen=True)
class DemoReel:
    """One reel of the demo job."""

    file: str
    title: str
    codec: str
    options: tuple[tuple[str, str], ...]
    sound_codec: str
    frames: int
    stuck: int
    seed: int
    moving: bool
    shade: tuple[DrawnMark, ...] = ()
    indoors: bool = False
    light: LightKind = "steady"
    rate: int = 24
    halved: bool = False

    @property
    def size(self) -> tuple[int, int]:
        """Height and width; reels out of doors can be drawn at half their size."""
        return (HEIGHT // 2, WIDTH // 2) if self.halved else (HEIGHT, WIDTH)

    @property
    def shapes(self) -> tuple[tuple[int, int], ...]:
        """Of the planes of a frame."""
        height, width = self.size
        return (height, width), (height // 2, width // 2), (height // 2, width // 2)

    def camera(self, number: int) -> Camera:
        """Where the camera looks in frame `number`: a pan with weave, or locked off."""
        if self.light == "screen":
            # Held by hand, close to the recorder.
            return Camera(722 + 0.9 * np.sin(number * 0.11), 423 + 0.6 * np.sin(number * 0.09 + 1), 4.6)
        if not self.moving:
            return Camera(850.0, 196.0, 1.5)
        if self.indoors:
            share = number / (self.frames - 1)
            return Camera(110 + 620 * share + 1.2 * np.sin(number * 0.8), 60 + 14 * np.sin(number * 0.05) + 0.7 * np.sin(number * 1.3))
        if self.shade:
            # From thin sky down into busy heather, and along.
            share = number / (self.frames - 1)
            return Camera(60 + 820 * share + 1.3 * np.sin(number * 0.7), 4 + 166 * share * share + 0.8 * np.sin(number * 1.1))
        share = number / (self.frames - 1)
        eased = share * share * (3 - 2 * share)
        weave = 1.1 * np.sin(number * 0.9) + 0.6 * np.sin(number * 2.3 + 1)
        return Camera(180 + 700 * eased + 0.8 * np.sin(number * 1.7), 118 + weave)

    def frame(self, number: int) -> Planes:
        """Frame `number` as it was before the sensor spoiled it."""
        if self.indoors:
            return draw_room(self.camera(number), number / self.rate, 1000 * self.seed + number)
        # A time lapse takes a frame every few seconds.
        pace = _LAPSE if self.light == "breathes" else 1
        return draw(self.camera(number), pace * number / self.rate + 40 * (not self.moving), 1000 * self.seed + number, halved=self.halved)

    def draw(self, folder: Path, on_progress: Callable[[float], None]) -> Path:
        """Draw the reel into `folder`, with ``<name>.truth.json`` beside it, and say how far it is, 0 to 1."""
        return _draw(self, folder / self.file, on_progress)

    def lamps(self) -> list[Lit]:
        """The light of each frame."""
        if self.light == "bands":
            # Lamps on 50 Hz mains pulse 100 times a second, and a picture is read out in 1/40 s.
            step = 100 / self.rate % 1
            return bands(self.frames, HEIGHT, self.seed, strength=0.2, across=100 / 40, step=step)
        if self.light == "screen":
            # A tube drawn anew 59 times a second, against 25 pictures.
            rolling = bands(self.frames, HEIGHT, self.seed, strength=0.22, across=3.4, step=59 / self.rate % 1)
            return [Lit(_screen(self.camera(n), 0.78 * one.gain)) for n, one in enumerate(rolling)]
        if self.light == "breathes":
            return frame_pumping(self.frames, self.seed, strength=0.12, contrast=0.03)
        if self.light == "strobes":
            return on_off(self.frames, self.seed, strength=0.26)
        if self.light == "jumps":
            return jumps(self.frames, self.seed, strength=0.06, every=12)
        return []


REELS = (
    DemoReel(
        "reel-01-headland-pan.mkv",
        "Reel 01, headland pan",
        "libx264",
        (("qp", "0"), ("preset", "ultrafast")),
        "pcm_s16le",
        144,
        14,
        7,
        True,
    ),
    DemoReel(
        "reel-02-instruments.mp4",
        "Reel 02, instruments",
        "libx264",
        (("crf", "10"), ("preset", "ultrafast"), ("bf", "2")),
        "aac",
        120,
        6,
        9,
        False,
    ),
)

_LAPSE = 40


def _screen(camera: Camera, gain: NDArray[np.float32]) -> NDArray[np.float32]:
    """Light that lies on the recorder's screen alone."""
    left, top, right, bottom = ((w - at) * camera.scale for w, at in zip(SCREEN, (camera.x, camera.y) * 2, strict=True))
    ys, xs = np.arange(HEIGHT, dtype=np.float32)[:, None], np.arange(WIDTH, dtype=np.float32)
    inside = np.clip(np.minimum(np.minimum(xs - left, right - xs), np.minimum(ys - top, bottom - ys)) + 0.5, 0, 1)
    return (1 + inside * (gain - 1)).astype(np.float32)


_UNSTEADY: tuple[tuple[str, str, int, int, bool, bool, LightKind, int], ...] = (
    ("reel-09-lamps.mkv", "Reel 09, room under lamps", 90, 21, True, True, "bands", 30),
    ("reel-10-clouds.mkv", "Reel 10, clouds in time lapse", 96, 22, False, False, "breathes", 24),
    ("reel-11-recorder.mkv", "Reel 11, recorder at a high rate", 96, 23, False, True, "strobes", 200),
    ("reel-12-from-the-air.mkv", "Reel 12, from the air", 96, 24, True, False, "jumps", 24),
    ("reel-13-barograph-screen.mkv", "Reel 13, barograph screen", 75, 25, False, True, "screen", 25),
)

# Trouble with the light: lamps on mains at 30 frames/s, an exposure set anew for each frame, lamps at 200 frames/s, key frames,
# a screen in the picture.
UNSTEADY = tuple(
    DemoReel(
        file,
        title,
        "libx264",
        (("crf", "10"), ("preset", "ultrafast")),
        "pcm_s16le",
        frames,
        0,
        seed,
        moving,
        indoors=indoors,
        light=light,
        rate=rate,
    )
    for file, title, frames, seed, moving, indoors, light, rate in _UNSTEADY
)

# Nine spots of sensor dust and a hair over a pan from sky to heather.
SHADED = (
    DemoReel(
        "reel-07-dusty-pan.mkv",
        "Reel 07, dusty pan",
        "libx264",
        (("crf", "8"), ("preset", "ultrafast")),
        "pcm_s16le",
        120,
        0,
        5,
        True,
        tuple(sprinkle((HEIGHT, WIDTH), 9, 5, hairs=1, largest=22)),
    ),
    # The instrument room through a dirty lens: two large soft veils, and someone walking through.
    DemoReel(
        "reel-08-instrument-room.mkv",
        "Reel 08, instrument room",
        "libx264",
        (("crf", "8"), ("preset", "ultrafast")),
        "pcm_s16le",
        144,
        0,
        8,
        True,
        (
            DrawnMark(380, 270, 70, 0.52, 76, 1.25, 0.5, gain=0.3, level=112, blur=6),
            DrawnMark(930, 430, 78, 0.46, 88, 1.15, 2.2, gain=0.4, level=92, blur=8),
        ),
        indoors=True,
    ),
)


DRAWN = {reel.file: reel for reel in (*REELS, *SHADED, *UNSTEADY)}


def clean_frames(reel: DemoReel) -> Iterator[Planes]:
    """All frames of a reel before they are spoiled, drawn by several threads."""
    return parallel_map(reel.frame, range(reel.frames))


def sites_of(reel: DemoReel, frames: list[Planes]) -> list[StuckSite]:
    """Where the reel's stuck pixels lie."""
    return scatter(frames, reel.stuck, reel.seed, margin=24)


def wind(frames: int, seed: int, rate: int = RATE) -> NDArray[np.int16]:
    """Wind about the mast and the tick of the recorder: (samples, 2), as long as the frames."""
    count = frames * SOUND_RATE // rate
    rng = np.random.default_rng(seed)
    spectrum = np.fft.rfft(rng.standard_normal((count, 2)), axis=0)
    hertz = np.fft.rfftfreq(count, 1 / SOUND_RATE)[:, None]
    howl = np.fft.irfft(spectrum / (1 + (hertz / 300) ** 2), count, axis=0)
    howl /= np.abs(howl).max()
    seconds = np.arange(count)[:, None] / SOUND_RATE
    gusts = 0.45 + 0.35 * np.sin(2 * np.pi * seconds / 2.7) * np.sin(2 * np.pi * seconds / 1.9)
    tick = np.exp(-(seconds % 1) * 220) * np.sin(2 * np.pi * 1800 * seconds) * 0.3
    return np.clip((howl * gusts * 0.6 + tick) * 32000, -32768, 32767).astype(np.int16)


# Frames that are spoiled at once, while those after them are being drawn.
_CHUNK = 16


def _draw(reel: DemoReel, path: Path, on_progress: Callable[[float], None]) -> Path:
    prepare()
    sites = sites_of(reel, [reel.frame(n) for n in range(0, reel.frames, max(1, reel.frames // 12))]) if reel.stuck else []
    lamps = reel.lamps()
    masks, shadows = ([np.zeros(shape, bool) for shape in reel.shapes] for _ in range(2))
    kept = _KeptTruth(reel)

    def spoiled() -> Iterator[Planes]:
        drawn = iter(enumerate(clean_frames(reel)))
        while chunk := list(islice(drawn, _CHUNK)):
            clean = [kept.seen(n, planes) for n, planes in chunk]
            first = chunk[0][0]
            shaded, own_shadows = shade(lit(clean, lamps[first : first + len(clean)]) if lamps else clean, reel.shade)
            stuck, own_masks = stick(shaded, sites)
            for all_, own in zip((*masks, *shadows), (*own_masks, *own_shadows), strict=True):
                all_ |= own
            for n, planes in enumerate(stuck, start=first):
                yield planes
                on_progress((n + 1) / reel.frames)

    _write(reel, spoiled(), path)
    kept.write(path)
    truth = {
        "reel": reel.file,
        "rate": f"{reel.rate}/1",
        "frames": reel.frames,
        "stuck_pixels": [asdict(s) for s in sites],
        "samples_changed": {name: np.argwhere(m).tolist() for name, m in zip(("Y", "Cb", "Cr"), masks, strict=True)},
        "static_shade": [asdict(m) for m in reel.shade],
        "light": [
            {"gains": np.unique(one.gain[:, one.gain.shape[1] // 2]).round(4).tolist()[:: max(1, len(one.gain) // 8)], "power": one.power}
            for one in lamps
        ],
        "samples_shaded": {name: int(m.sum()) for name, m in zip(("Y", "Cb", "Cr"), shadows, strict=True)},
    }
    keep_truth(path, truth)
    return path


def keep_truth(path: Path, truth: dict[str, Any]) -> None:
    """Write what is true of a reel beside it."""
    with atomic_write(path.with_name(f"{path.stem}.truth.json")) as stream:
        stream.write(json.dumps(truth).encode())


_KEPT_FRAMES = 10
# Share of the light from which a mark is counted as there.
_FELT = 0.004


class _KeptTruth:
    """What lay under each mark in some of the frames, so that a repair can be held against it."""

    def __init__(self, reel: DemoReel) -> None:
        self._reel = reel
        self._numbers = np.linspace(0, reel.frames - 1, _KEPT_FRAMES).round().astype(int)
        self._clean: dict[int, Planes] = {}

    def seen(self, number: int, planes: Planes) -> Planes:
        """A clean frame as it goes by."""
        if self._reel.shade and number in self._numbers:
            self._clean[number] = planes
        return planes

    def write(self, path: Path) -> None:
        """Keep it beside the reel."""
        if not self._reel.shade:
            return
        arrays: dict[str, Any] = {"numbers": self._numbers}
        for n, mark in enumerate(self._reel.shade):
            share = mark.share(self._reel.size)
            for p, shape in enumerate(self._reel.shapes):
                own = cv2.resize(share, shape[::-1], interpolation=cv2.INTER_AREA) > _FELT
                places = np.flatnonzero(own)
                samples = np.stack([self._clean[k][p].ravel()[places] for k in self._numbers])
                arrays |= {f"{n}.{p}.places": places, f"{n}.{p}.samples": samples}
        with atomic_write(path.with_suffix(".truth.npz")) as stream:
            np.savez_compressed(stream, count=np.array(len(self._reel.shade)), **arrays)


def _write(reel: DemoReel, frames: Iterable[Planes], path: Path) -> None:
    height, width = reel.size
    layout = picture_format("yuv420p", width, height)
    colour = Colour(matrix=1, primaries=1, transfer=1, range_code=1)
    sound = wind(reel.frames, reel.seed, reel.rate)
    with atomic_write(path) as stream, av.open(stream, "w", format="matroska" if path.suffix == ".mkv" else "mp4") as container:
        container.flags |= av.container.Flags.bitexact.value  # type: ignore[operator]
        video = container.add_stream(reel.codec, rate=Fraction(reel.rate), options=dict(reel.options))
        assert isinstance(video, av.VideoStream)
        video.width, video.height, video.pix_fmt = width, height, "yuv420p"
        context = video.codec_context
        context.colorspace, context.color_primaries, context.color_trc, context.color_range = 1, 1, 1, 1
        audio = container.add_stream(reel.sound_codec, rate=SOUND_RATE, layout="stereo")
        assert isinstance(audio, av.AudioStream)
        container.metadata["title"] = f"Skerrow Point weather station, {reel.title}"
        for n, planes in enumerate(frames):
            picture = to_picture(Frame(n, planes, layout, colour))
            picture.pts = n
            container.mux(video.encode(picture))
            first, stop = (m * SOUND_RATE // reel.rate for m in (n, n + 1))
            block = av.AudioFrame.from_ndarray(np.ascontiguousarray(sound[first:stop].reshape(1, -1)), format="s16", layout="stereo")
            block.sample_rate, block.pts = SOUND_RATE, first
            container.mux(audio.encode(block))
        container.mux(video.encode())
        container.mux(audio.encode())
