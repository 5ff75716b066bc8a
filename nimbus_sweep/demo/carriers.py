"""Demo reels as technicians get them: a film scan, a transfer at another rate, an edit with cuts, a telephone's clip.

They show intake: pictures are drawn as for the other reels, and carried in the ways that make reading them an art.
"""

from __future__ import annotations

import shutil
from collections.abc import Callable, Iterator
from dataclasses import asdict, dataclass
from fractions import Fraction
from functools import lru_cache
from pathlib import Path
from typing import Any

import av
import cv2
import numpy as np
from numpy.typing import NDArray

from ..core.base.files import atomic_write
from ..core.base.parallel import parallel_map
from ..core.media.formats import FORMATS
from ..core.media.frames import Colour, Frame
from ..core.media.layout import picture_format, to_picture
from ..core.media.pictures import write_picture
from ..core.media.reel import ReelFacts
from .birds import Crossing, crossed, flock
from .burn import Burn, burnt
from .cues import marked, pair
from .defects import ycbcr_to_rgb
from .dirt import scattered, soiled
from .flicker import bands, frame_pumping, lit
from .glass import GLASS_FRAMES, Glass
from .grain import Planes
from .mast import MAST_FRAMES, Mast
from .reels import RATE, SOUND_RATE, keep_truth, wind
from .scratches import scratched, three
from .station import HEIGHT, WIDTH, Camera, draw, prepare

Progress = Callable[[float], None]
# Share of the work that is drawing; the rest is spoiling and writing.
_DRAWING = 0.7
_COLOUR = Colour(matrix=1, primaries=1, transfer=1, range_code=1)


@dataclass(frozen=True)
class Carrier:
    """A demo reel and how it is made: `make` is given the path, and tells its progress."""

    file: str
    frames: int
    make: Callable[[Path, Progress], dict[str, Any]]

    def draw(self, folder: Path, on_progress: Progress) -> Path:
        """Make the reel in `folder`, with ``<name>.truth.json`` beside it, and say how far it is, 0 to 1."""
        path = folder / self.file
        keep_truth(path, {"reel": self.file, **self.make(path, on_progress)})
        return path


def _drawn(
    shots: list[tuple[Camera, float, float, int]], on_progress: Progress, seed: int, weave: float = 0.0, halved: bool = False
) -> Iterator[Planes]:
    """Frames of shots told as (camera, pixels it moves a frame, seconds at the start, frames), by several threads."""
    wanted: list[tuple[Camera, float, int]] = []
    for camera, speed, seconds, count in shots:
        for n in range(count):
            seen = Camera(camera.x + speed * n, camera.y + weave * np.sin(0.9 * n), camera.scale)
            wanted.append((seen, seconds + n / RATE, seed + len(wanted)))
    prepare()
    for n, planes in enumerate(parallel_map(lambda one: draw(*one, halved=halved), wanted)):
        on_progress(_DRAWING * (n + 1) / len(wanted))
        yield planes


SCAN_FIRST, SCAN_FRAMES, SCAN_GAP = 1001, 40, 1019
SCAN_WIDTH = 960


def _scan(folder: Path, on_progress: Progress) -> dict[str, Any]:
    """A 4:3 film scan: 10-bit printing density in DPX, one number missing."""
    aside = folder.with_name(f".{folder.name}.part")
    shutil.rmtree(aside, ignore_errors=True)
    aside.mkdir(parents=True)
    layout = picture_format("gbrp10le", SCAN_WIDTH, HEIGHT)
    colour = Colour(matrix=0, transfer=9, full_range=True, range_code=2)
    facts = ReelFacts(
        "",
        "sequence",
        "dpx",
        layout.name,
        10,
        SCAN_WIDTH,
        HEIGHT,
        SCAN_FRAMES,
        SCAN_FRAMES,
        Fraction(16),
        True,
        (1 / 16, 1 / 16),
        Fraction(0),
        Fraction(SCAN_FRAMES, 16),
        colour,
        Fraction(1),
        (),
        (),
        (),
    )
    for n, planes in enumerate(_drawn([(Camera(560, 130, 1.0), 2.2, 8.0, SCAN_FRAMES)], on_progress, 31_000)):
        if SCAN_FIRST + n == SCAN_GAP:
            continue
        luma = planes[0][:, 160 : 160 + SCAN_WIDTH].astype(np.float32)
        chroma = [cv2.resize(p[:, 80 : 80 + SCAN_WIDTH // 2].astype(np.float32), (SCAN_WIDTH, HEIGHT)) for p in planes[1:]]
        codes = [_density(v) for v in np.moveaxis(ycbcr_to_rgb(luma, *chroma), -1, 0)]
        frame = Frame(n, (codes[1], codes[2], codes[0]), layout, colour)
        write_picture(aside / f"scan.{SCAN_FIRST + n:05d}.dpx", frame, facts, FORMATS["dpx"])
    aside.replace(folder)
    return {"frames": SCAN_FRAMES, "first_number": SCAN_FIRST, "missing": [SCAN_GAP - SCAN_FIRST]}


# Steps to a display value in the table of densities.
_STEPS = 128


@lru_cache(maxsize=1)
def _densities() -> NDArray[np.uint16]:
    """Display values of 0 to 255 as 10-bit printing density: black at 95, white at 685, gamma 0.6 (from memory)."""
    light = (np.arange(255 * _STEPS + 1) / (255 * _STEPS)) ** 2.2
    black = 10 ** ((95 - 685) * 0.002 / 0.6)
    return np.rint(685 + np.log10(light * (1 - black) + black) * 0.6 / 0.002).astype(np.uint16)


def _density(value: NDArray[np.float32]) -> NDArray[np.uint16]:
    return _densities()[np.clip(value * _STEPS + np.float32(0.5), 0, 255 * _STEPS).astype(np.int32)]


TRANSFER_FRAMES = 90


def _transfer(path: Path, on_progress: Progress) -> dict[str, Any]:
    """24 frames a second carried as 30: one in five is repeated."""
    film = list(_drawn([(Camera(250, 150, 1.15), 3.1, 20.0, TRANSFER_FRAMES * 4 // 5)], on_progress, 32_000))
    carried = [n * 4 // 5 for n in range(TRANSFER_FRAMES)]
    _write_movie(path, [film[n] for n in carried], Fraction(30), "libx264", {"crf": "18", "preset": "ultrafast"}, time_code="01:00:00:00")
    return {
        "frames": TRANSFER_FRAMES,
        "repeated": [n for n in range(1, TRANSFER_FRAMES) if carried[n] == carried[n - 1]],
        "film_rate": "24",
    }


WORN_FRAMES = 235
WORN_SIZE = (360, 640)
_LAUNCH = Camera(300, 60, 1.1)


@dataclass(frozen=True)
class Worn:
    """The launch day as small film: dirt, three scratches, a burn, cue marks, the gate's weave, 24 frames a second carried as 30.

    Attributes
    ----------
    film : int
        Film frames; a quarter more in the reel.
    burn : tuple of int or None
        Film frames the burn is in, up to, not including, the second.
    cue : int
        Film frame of the first cue mark; the second is 172 later, where there is still film.
    size : tuple of int
        Height and width of the film, cut out of the upper left of a picture of `WORN_SIZE`.
    camera : Camera
        In the first frame.
    pan, weave : float
        Pixels it moves across a frame, and that the gate lets the film go up and down.
    each : float
        Specks and hairs a frame.
    kind : str
        Of its cue marks, see `cues.pair`.
    seed : int
        Of all that is drawn at random.
    """

    film: int = 188
    burn: tuple[int, int] | None = (92, 106)
    cue: int = 7
    size: tuple[int, int] = WORN_SIZE
    camera: Camera = _LAUNCH
    pan: float = 1.7
    weave: float = 1.6
    each: float = 6.0
    kind: str = "light"
    seed: int = 61

    def make(self, path: Path, on_progress: Progress) -> dict[str, Any]:
        """Write it, and tell what is true of it."""
        height, width = self.size
        shot = self.camera, self.pan, 8.0, self.film
        drawn = _drawn([shot], on_progress, 1000 * self.seed, weave=self.weave, halved=True)
        film: list[Planes] = [(y[:height, :width], *(c[: height // 2, : width // 2] for c in rest)) for y, *rest in drawn]
        dirt = scattered(self.film, self.size, self.seed, each=self.each)
        lines = three(self.film, self.size, self.seed + 1)
        burn = None if self.burn is None else Burn(*self.burn, 236.0, 168.0, 1.1, -0.7, 44.0)
        cues = [cue for cue in pair(self.cue, self.size, self.kind) if cue.stop <= self.film]
        worn = soiled(scratched(marked(film if burn is None else burnt(film, burn), cues, self.seed + 2), lines), dirt)
        frames = self.film * 5 // 4
        carried = [n * 4 // 5 for n in range(frames)]
        seen_in = {film_frame: carried.index(film_frame) for film_frame in range(self.film)}
        options = {"crf": "12", "preset": "ultrafast"}
        _write_movie(path, [worn[n] for n in carried], Fraction(30), "libx264", options, time_code="01:12:00:00")
        return {
            "frames": frames,
            "repeated": [n for n in range(1, frames) if carried[n] == carried[n - 1]],
            "film_rate": "24",
            "scratches": [asdict(s) for s in lines],
            "dirt": [asdict(d) | {"frame": seen_in[d.frame]} for d in dirt],
            "burn": None
            if burn is None
            else asdict(burn)
            | {"frames": [seen_in[n] for n in range(burn.first, burn.stop)], "at": [burn.at(n) for n in range(burn.first, burn.stop)]},
            "cues": [asdict(c) | {"frames": [seen_in[n] for n in range(c.first, c.stop)]} for c in cues],
        }


GULLS_FRAMES = 60


def _gulls(path: Path, on_progress: Progress) -> dict[str, Any]:
    """Clouds in time lapse, a frame every few seconds: gulls cross in a few frames each, and one figure walks slowly along."""
    wanted = [(Camera(700, 60, 1.0), 30.0 + 30 * n / RATE, 71_000 + n) for n in range(GULLS_FRAMES)]
    drawn = []
    prepare()
    for n, planes in enumerate(parallel_map(lambda one: draw(*one), wanted)):
        on_progress(_DRAWING * (n + 1) / GULLS_FRAMES)
        drawn.append(planes)
    gulls = flock(GULLS_FRAMES, (HEIGHT, WIDTH), 72, many=8)
    figure = Crossing(0, GULLS_FRAMES, 250.0, 566.0, 3.2, 0.0, 84.0, 30.0, 0.0)
    _write_movie(path, crossed(drawn, [*gulls, figure]), Fraction(RATE), "libx264", {"crf": "12", "preset": "ultrafast"})
    return {"frames": GULLS_FRAMES, "gulls": [asdict(g) for g in gulls], "figure": asdict(figure)}


@dataclass(frozen=True)
class Filmed:
    """A drawn scene as a reel.

    Attributes
    ----------
    scene : type
        Draws a frame by its number, and knows what is true of it.
    frames : int
        Of the scene.
    every : int
        One in so many of them is taken.
    smaller : int
        How many times smaller than drawn the reel is.
    """

    scene: type[Mast] | type[Glass]
    frames: int
    every: int = 1
    smaller: int = 1

    def drawn(self, number: int, **left_out: bool) -> Planes:
        """A frame by its number in the reel; what is left out is named as the scene names it."""
        planes = self.scene(self.every * number).drawn(**left_out)
        if self.smaller == 1:
            return planes
        return tuple(cv2.resize(p, (p.shape[1] // self.smaller, p.shape[0] // self.smaller), interpolation=cv2.INTER_AREA) for p in planes)

    def make(self, path: Path, on_progress: Progress) -> dict[str, Any]:
        """Write it, and tell what is true of it."""
        numbers = range(0, self.frames, self.every)
        pictures = []
        for n, planes in enumerate(parallel_map(self.drawn, range(len(numbers)))):
            on_progress(_DRAWING * (n + 1) / len(numbers))
            pictures.append(planes)
        _write_movie(path, pictures, Fraction(RATE), "libx264", {"crf": "12", "preset": "ultrafast"})
        ways = [self.scene(n).way.round(6).tolist() for n in numbers]
        return {"frames": len(numbers), "way": ways, **self.scene.truth(numbers)}


EDIT_SHOTS: list[tuple[Camera, float, float, int]] = [
    (Camera(180, 120, 1.0), 2.0, 3.0, 26),
    (Camera(1130, 170, 1.7), 0.0, 5.0, 24),
    (Camera(120, 60, 1.3), 0.6, 30.0, 36),
    (Camera(1480, 330, 1.6), -1.2, 12.0, 22),
    (Camera(560, 250, 1.9), 1.5, 50.0, 24),
    (Camera(700, 90, 1.0), -2.2, 70.0, 28),
]
EDIT_FRAMES = sum(s[3] for s in EDIT_SHOTS)


def edit(path: Path, on_progress: Progress, halved: bool = False) -> dict[str, Any]:
    """An edited reel: five cuts, a fade through black inside the third shot, and a lightning flash in the last."""
    frames = list(_drawn(EDIT_SHOTS, on_progress, 33_000, halved=halved))
    cuts = np.cumsum([s[3] for s in EDIT_SHOTS])[:-1].tolist()
    middle = cuts[1] + EDIT_SHOTS[2][3] // 2
    for n in range(-12, 13):
        frames[middle + n] = _lit(frames[middle + n], min(1.0, abs(n) / 12), 0)
    flash = EDIT_FRAMES - 12
    for n, light in ((0, 120), (1, 150), (2, 60)):
        frames[flash + n] = _lit(frames[flash + n], 1.0, light)
    _write_movie(path, frames, Fraction(RATE), "libx264", {"crf": "16", "preset": "ultrafast"}, time_code="10:00:00:00")
    return {"frames": EDIT_FRAMES, "cuts": cuts, "fade": [middle - 12, middle + 12], "flash": [flash, flash + 2]}


def _lit(planes: Planes, gain: float, light: float) -> Planes:
    luma = np.clip(np.rint((planes[0].astype(np.float32) - 16) * gain + 16 + light), 16, 235).astype(np.uint8)
    chroma = (np.clip(np.rint((p.astype(np.float32) - 128) * gain * (1 - light / 255) + 128), 16, 240).astype(np.uint8) for p in planes[1:])
    return (luma, *chroma)


LIGHT_SHOTS = [
    (Camera(300, 120, 1.2), 2.0, 20.0, 40),
    (Camera(1280, 330, 1.5), -1.0, 44.0, 40),
    (Camera(560, 240, 1.8), 1.4, 61.0, 40),
    (Camera(760, 100, 1.0), -2.0, 80.0, 40),
]
LIGHT_FRAMES = sum(s[3] for s in LIGHT_SHOTS)


def _unsteady_edit(path: Path, on_progress: Progress) -> dict[str, Any]:
    """An edit of four shots: the first and the third are sound, the second breathes, bands roll through the fourth."""
    frames = list(_drawn(LIGHT_SHOTS, on_progress, 35_000, weave=1.6))
    one, two, three = np.cumsum([s[3] for s in LIGHT_SHOTS])[:-1].tolist()
    frames[one:two] = lit(frames[one:two], frame_pumping(two - one, 35, strength=0.12, contrast=0.03))
    frames[three:] = lit(frames[three:], bands(LIGHT_FRAMES - three, HEIGHT, 36, strength=0.2, across=2.5, step=0.17))
    _write_movie(path, frames, Fraction(RATE), "libx264", {"crf": "12", "preset": "ultrafast"}, time_code="10:00:00:00")
    return {"frames": LIGHT_FRAMES, "cuts": [one, two, three], "sound_shots": [0, 2]}


PHONE_FRAMES, PHONE_SIZE = 60, (720, 404)


def _phone(path: Path, on_progress: Progress) -> dict[str, Any]:
    """A telephone's clip, held upright: turned on its side in the file, its frames at uneven times."""
    frames = []
    for planes in _drawn([(Camera(1000, 120, 1.25), 1.6, 90.0, PHONE_FRAMES)], on_progress, 34_000):
        upright = (planes[0][:, 438:842], planes[1][:, 219:421], planes[2][:, 219:421])
        frames.append(tuple(np.ascontiguousarray(np.rot90(p)) for p in upright))
    rng = np.random.default_rng(34)
    steps = rng.choice([1, 1, 1, 1, 2], PHONE_FRAMES) * 3000 + rng.integers(-240, 240, PHONE_FRAMES)
    times = np.concatenate([[0], np.cumsum(steps)[:-1]])
    _write_movie(path, frames, Fraction(30), "libx264", {"crf": "18", "preset": "ultrafast", "bf": "0"}, times=times.tolist(), turned=-90)
    return {"frames": PHONE_FRAMES, "times": (times / 90000).round(5).tolist()}


def _write_movie(
    path: Path,
    frames: list[Planes],
    rate: Fraction,
    codec: str,
    options: dict[str, str],
    time_code: str = "",
    times: list[int] | None = None,
    turned: int = 0,
) -> None:
    """Write frames as MP4 or QuickTime; `times` in 1/90000 s where they are uneven."""
    height, width = frames[0][0].shape
    layout = picture_format("yuv420p", width, height)
    tick = Fraction(1, 90000)
    length = float(times[-1] * tick + 1 / rate) if times else float(len(frames) / rate)
    sound = wind(round(length * RATE), 9)
    with atomic_write(path) as stream, av.open(stream, "w", format="mov" if path.suffix == ".mov" else "mp4") as container:
        container.flags |= av.container.Flags.bitexact.value  # type: ignore[operator]
        if time_code:
            container.metadata["timecode"] = time_code
        video = container.add_stream(codec, rate=rate, options=options)
        assert isinstance(video, av.VideoStream)
        video.width, video.height, video.pix_fmt = width, height, "yuv420p"
        if turned:
            video.set_display_rotation(turned)
        context = video.codec_context
        context.time_base = tick if times else 1 / rate
        context.colorspace, context.color_primaries, context.color_trc, context.color_range = 1, 1, 1, 1
        audio = container.add_stream("aac", rate=SOUND_RATE, layout="stereo")
        assert isinstance(audio, av.AudioStream)
        for n, planes in enumerate(frames):
            picture = to_picture(Frame(n, planes, layout, _COLOUR))
            picture.pts, picture.time_base = (times[n], tick) if times else (n, 1 / rate)
            container.mux(video.encode(picture))
        container.mux(video.encode())
        for first in range(0, len(sound), 1024):
            part = np.ascontiguousarray(sound[first : first + 1024].reshape(1, -1))
            block = av.AudioFrame.from_ndarray(part, format="s16", layout="stereo")
            block.sample_rate, block.pts = SOUND_RATE, first
            container.mux(audio.encode(block))
        container.mux(audio.encode())


SCAN = Carrier("reel-03-film-scan", SCAN_FRAMES, _scan)
TRANSFER = Carrier("reel-04-transfer.mov", TRANSFER_FRAMES, _transfer)
EDIT = Carrier("reel-05-edit.mov", EDIT_FRAMES, edit)
PHONE = Carrier("reel-06-telephone.mp4", PHONE_FRAMES, _phone)
# The light of some shots alone is unsteady.
UNSTEADY_EDIT = Carrier("reel-14-four-shots.mov", LIGHT_FRAMES, _unsteady_edit)
WORN = Carrier("reel-15-launch-day.mov", WORN_FRAMES, Worn().make)
GULLS = Carrier("reel-16-gulls.mp4", GULLS_FRAMES, _gulls)
# A camera that stands, and film that fared worse: what finds and mends was never set on it.
GALE_FRAMES = 120
GALE_WORN = Worn(
    film=GALE_FRAMES * 4 // 5, burn=None, cue=22, camera=Camera(820, 150, 1.2), pan=0.0, weave=0.3, each=14.0, kind="scratched", seed=191
)
GALE = Carrier("reel-19-gale.mov", GALE_FRAMES, GALE_WORN.make)
GLASS_CASE = Carrier("reel-17-glass-case.mp4", GLASS_FRAMES, Filmed(Glass, GLASS_FRAMES).make)
MAST = Carrier("reel-18-mast.mp4", MAST_FRAMES, Filmed(Mast, MAST_FRAMES).make)
DRAWN = {reel.file: reel for reel in (SCAN, TRANSFER, EDIT, PHONE, UNSTEADY_EDIT, WORN, GULLS, GLASS_CASE, MAST, GALE)}
