"""Sound footage to spoil: open clips, photographs under a moving camera, and drawn scenes that tempt a detector.

A scene is linear light, float32 of shape (frames, height, width, 3), red, green and blue from 0 to 1.
"""

from __future__ import annotations

import os
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from functools import cache
from itertools import pairwise
from pathlib import Path
from typing import Any

import av
import cv2
import numpy as np
import skimage.data
from numpy.typing import NDArray

from benchmarks.material import clip_path
from nimbus_sweep.core.evidence.cut_detection import CutFinder
from nimbus_sweep.demo.station import noise

Array = NDArray[Any]
Rng = np.random.Generator
GAMMA = 2.2
# Names a folder of sound clips of one's own; each is a scene.
FOLDER = "PROVING_CLIPS"

_CLIPS = ("bikes", "bigbuckbunny", "carphone_pristine")
_PHOTOS = (
    *("astronaut", "brick", "camera", "cell", "chelsea", "clock", "coffee", "coins", "colorwheel", "grass"),
    *("gravel", "hubble_deep_field", "immunohistochemistry", "moon", "page", "retina", "rocket"),
)
_MOVES = ("still", "still", "pan", "pan", "tilt", "slant", "zoom", "hand", "weave", "whip", "stops")


@dataclass(frozen=True)
class Scene:
    """Sound footage, and what was drawn for it.

    Attributes
    ----------
    name : str
    frames : ndarray, float32, (frames, height, width, 3)
        Linear light, 0 to 1.
    camera : str
        How the camera moves.
    """

    name: str
    frames: Array
    camera: str


def light_of(picture: Array) -> Array:
    """Linear light of a picture in 8-bit codes."""
    return np.asarray((np.clip(picture, 0, 255) / np.float32(255)) ** np.float32(GAMMA), np.float32)


def shown(light: Array) -> Array:
    """A picture in 8-bit codes, of linear light."""
    return np.asarray(np.float32(255) * np.clip(light, 0, 1) ** np.float32(1 / GAMMA), np.float32)


def names() -> list[str]:
    """Of all scenes there are."""
    return [
        *(f"clip {name}" for name in (*_CLIPS, *_own())),
        *(f"photo {name}" for name in _PHOTOS),
        "stereo",
        *(f"drawn {n}" for n in _DRAWN),
    ]


def draw(name: str, rng: Rng) -> Scene:
    """A stretch of a scene: which one, how large and how the camera moves is drawn."""
    count = int(rng.integers(30, 60))
    kind, _, rest = name.partition(" ")
    if kind == "clip":
        return Scene(name, _clip(_own().get(rest) or clip_path(rest), count, rng), "as shot")
    size = (int(rng.choice([480, 560, 640])), int(rng.choice([320, 360, 400])))
    if kind == "drawn":
        return Scene(name, _DRAWN[rest](count, size, rng), "drawn")
    if kind == "stereo":
        return Scene(name, _dolly(count, size, rng), "dolly")
    move = str(rng.choice(_MOVES))
    return Scene(name, _photographed(_photo(rest), count, size, way(move, count, rng), rng), move)


# -- clips --------------------------------------------------------------------------------------------------------


def _own() -> dict[str, Path]:
    folder = os.environ.get(FOLDER)
    return {p.stem: p for p in sorted(Path(folder).iterdir()) if p.is_file()} if folder else {}


@cache
def _shots(path: Path) -> list[tuple[int, int]]:
    """Stretches of a clip without a cut, each at least 24 frames."""
    finder, count = CutFinder(), 0
    with av.open(str(path)) as container:
        for frame in container.decode(video=0):
            finder.add(frame.to_ndarray(format="bgr24", width=320, height=180))
            count += 1
    edges = [0, *(cut.at for cut in finder.finish()), count]
    # A frame at a cut is often of both shots.
    found = [(a + 1, b - 1) for a, b in pairwise(edges) if b - a >= 26]
    return found or [(0, count)]


def _clip(path: Path, count: int, rng: Rng) -> Array:
    stretches = _shots(path)
    first, stop = stretches[int(rng.integers(len(stretches)))]
    first = int(rng.integers(first, max(first + 1, stop - count + 1)))
    width = int(rng.choice([480, 640, 720]))
    pictures = []
    with av.open(str(path)) as container:
        for n, frame in enumerate(container.decode(video=0)):
            if n >= min(stop, first + count):
                break
            if n >= first:
                picture = frame.to_ndarray(format="rgb24")
                wide = min(width, picture.shape[1]) // 2 * 2
                tall = round(picture.shape[0] * wide / picture.shape[1]) // 2 * 2
                pictures.append(cv2.resize(picture, (wide, tall), interpolation=cv2.INTER_AREA))
    return light_of(np.stack(pictures).astype(np.float32))


# -- photographs --------------------------------------------------------------------------------------------------


def _photo(name: str) -> Array:
    made = np.asarray(getattr(skimage.data, name)())
    made = made if made.ndim == 3 else np.repeat(made[..., None], 3, 2)
    return made[..., :3].astype(np.float32)


def way(kind: str, count: int, rng: Rng) -> Array:
    """A camera's way: (frames, 4), pixels across and down, enlargement, and roll in degrees."""
    t = np.arange(count, dtype=np.float64)
    made = np.zeros((count, 4))
    made[:, 2] = 1
    across, down = rng.choice([-1.0, 1.0], 2)
    shaken = np.cumsum(rng.normal(0, 1, (count, 3)), 0)
    shaken -= shaken.mean(0)
    match kind:
        case "pan":
            made[:, 0] = across * rng.uniform(0.5, 5) * t + rng.choice([0, 0.5]) * shaken[:, 0]
        case "tilt":
            made[:, 1] = down * rng.uniform(0.4, 3) * t
        case "slant":
            made[:, :2] = np.stack([across * rng.uniform(0.4, 3) * t, down * rng.uniform(0.2, 1.5) * t], 1)
        case "zoom":
            made[:, 2] = np.exp(across * rng.uniform(0.001, 0.006) * t)
        case "hand":
            made[:, :2] = rng.uniform(0.3, 1.6) * shaken[:, :2]
            made[:, 3] = rng.uniform(0, 0.04) * shaken[:, 2]
        case "weave":
            made[:, 0] = rng.uniform(0.3, 1.2) * (np.sin(0.9 * t) + 0.5 * np.sin(2.3 * t))
            made[:, 1] = rng.uniform(0.3, 1.2) * np.sin(1.7 * t)
        case "whip":
            made[:, 0] = across * rng.uniform(60, 160) / (1 + np.exp(-(t - count * rng.uniform(0.3, 0.7)) / rng.uniform(2, 5)))
        case "stops":
            goes = np.repeat(rng.integers(0, 2, count // 10 + 1), 10)[:count]
            made[:, :2] = np.cumsum(goes[:, None] * np.array([across * rng.uniform(1, 4), down * rng.uniform(0, 1)]), 0)
    made[:, :2] -= (made[:, :2].max(0) + made[:, :2].min(0)) / 2
    return made


def _photographed(photo: Array, count: int, size: tuple[int, int], moves: Array, rng: Rng) -> Array:
    """A photograph as a moving camera sees it; at times somebody walks through."""
    width, height = size
    room = np.ptp(moves[:, :2], axis=0)
    scale = max((width + room[0]) / photo.shape[1], (height + room[1]) / photo.shape[0], 0.35)
    walker = _Walker.drawn(light_of(photo), size, rng) if rng.random() < 0.3 else None
    frames = np.empty((count, height, width, 3), np.float32)
    for n in range(count):
        across, down, zoom, roll = moves[n]
        turned = cv2.getRotationMatrix2D((photo.shape[1] / 2, photo.shape[0] / 2), roll, scale * zoom)
        turned[:, 2] += (width / 2 - photo.shape[1] / 2 + across, height / 2 - photo.shape[0] / 2 + down)
        # A large picture is made smaller by the mean of what a pixel covers, as a lens does.
        fine = photo if scale > 0.8 else cv2.GaussianBlur(photo, (0, 0), 0.35 / scale)
        frames[n] = light_of(cv2.warpAffine(fine, turned, size, flags=cv2.INTER_CUBIC, borderMode=cv2.BORDER_REFLECT))
        if walker is not None:
            walker.lay(frames[n], n - count / 2)
    return frames


@dataclass(frozen=True)
class _Walker:
    """A figure of the scene's own texture that crosses it."""

    texture: Array
    cover: Array
    speed: float
    foot: float

    @classmethod
    def drawn(cls, light: Array, size: tuple[int, int], rng: Rng) -> _Walker:
        tall, wide = int(size[1] * rng.uniform(0.25, 0.7)), int(size[0] * rng.uniform(0.06, 0.2))
        top, left = int(rng.integers(0, max(1, light.shape[0] - tall))), int(rng.integers(0, max(1, light.shape[1] - wide)))
        texture = cv2.resize(light[top : top + tall, left : left + wide], (wide, tall), interpolation=cv2.INTER_AREA)
        cover = np.zeros((tall, wide), np.float32)
        cv2.ellipse(cover, (wide // 2, tall // 2), (max(2, wide // 2 - 2), max(2, tall // 2 - 2)), 0, 0, 360, 1.0, -1, cv2.LINE_AA)
        speed = float(rng.uniform(1, 9) * rng.choice([-1, 1]))
        return cls(texture * np.float32(rng.uniform(0.3, 0.9)), cv2.GaussianBlur(cover, (0, 0), 1.2), speed, float(rng.uniform(0.75, 1)))

    def lay(self, frame: Array, time: float) -> None:
        """Lay it into a frame, so many frames from the middle of the shot."""
        height, width = frame.shape[:2]
        tall, wide = self.cover.shape
        left, top = width / 2 + self.speed * time - wide / 2, self.foot * height - tall
        move = np.array([[1, 0, left], [0, 1, top]], np.float32)
        cover = cv2.warpAffine(self.cover, move, (width, height))[..., None]
        frame[:] = frame * (1 - cover) + cv2.warpAffine(self.texture, move, (width, height), borderMode=cv2.BORDER_REPLICATE) * cover


def _dolly(count: int, size: tuple[int, int], rng: Rng) -> Array:
    """A camera that slides past things at several distances, made of a stereo pair's left picture and its disparity."""
    left, _, disparity = skimage.data.stereo_motorcycle()
    far = np.nan_to_num(np.asarray(disparity, np.float32), nan=0, posinf=0, neginf=0)
    far = cv2.medianBlur(np.where(far > 0, far, np.float32(np.median(far[far > 0]))), 5)
    # Soft edges of depth stretch the picture a little where they are uncovered, instead of tearing it.
    far = cv2.GaussianBlur(cv2.dilate(far, np.ones((5, 5), np.uint8)), (0, 0), 3)
    width, height = size
    top, first = (left.shape[0] - height) // 2, (left.shape[1] - width) // 2
    rows, cols = np.mgrid[top : top + height, first : first + width].astype(np.float32)
    light = light_of(left.astype(np.float32))
    speed = rng.uniform(0.004, 0.03) * rng.choice([-1, 1])
    frames = [
        cv2.remap(
            light,
            cols + np.float32(speed * (n - count / 2)) * far[top : top + height, first : first + width],
            rows,
            cv2.INTER_CUBIC,
            borderMode=cv2.BORDER_REFLECT,
        )
        for n in range(count)
    ]
    return np.clip(np.stack(frames), 0, 1)


# -- drawn scenes -------------------------------------------------------------------------------------------------


def _toned(field: Array, dark: Sequence[float], light: Sequence[float]) -> Array:
    """A field of 0 to 1 between two colours in linear light: (height, width, 3)."""
    one, other = np.asarray(dark, np.float32), np.asarray(light, np.float32)
    return one + (other - one) * field[..., None]


def _sea(count: int, size: tuple[int, int], rng: Rng) -> Array:
    """Water under a low sun: waves of several lengths, and glints that last for a frame or two."""
    width, height = size
    rows, cols = np.mgrid[0:height, 0:width].astype(np.float32)
    near = (rows / height + 0.15) ** 1.5
    waves = [(rng.uniform(0.02, 0.12), rng.uniform(-1, 1), rng.uniform(0.1, 0.5), rng.uniform(0, 6.3)) for _ in range(9)]
    frames = []
    for n in range(count):
        swell = sum(np.sin(k / near * (0.4 * cols * slant + rows * 2) * 0.5 - speed * n + phase) for k, slant, speed, phase in waves)
        swell = np.asarray(swell, np.float32) / 9
        glint = np.clip(swell * 4 - 2.1, 0, 1) ** 2
        frames.append(np.clip(_toned(0.5 + 0.5 * swell, (0.02, 0.05, 0.09), (0.16, 0.24, 0.3)) + glint[..., None] * 0.9, 0, 1))
    return np.stack(frames)


def _ground(size: tuple[int, int], rng: Rng) -> Array:
    """A wall or a hillside: soft tones, things with edges, and fine texture."""
    shape = (size[1] + 200, size[0] + 400)
    soft, edged, fine = (noise(shape, int(rng.integers(1 << 30)), octaves, coarsest) for octaves, coarsest in ((5, 128), (4, 40), (3, 10)))
    field = 0.4 * soft + 0.3 * np.clip((edged - 0.5) * 40 + 0.5, 0, 1) + 0.3 * fine
    return _toned(field**1.6, rng.uniform(0.005, 0.06, 3).tolist(), rng.uniform(0.25, 0.8, 3).tolist())


def _rain(count: int, size: tuple[int, int], rng: Rng) -> Array:
    """Rain before a hillside: bright streaks, each seen once, for the camera's exposure."""
    width, height = size
    back = _ground(size, rng)[:height, :width]
    frames = []
    lean, most = rng.uniform(-0.25, 0.25), int(rng.integers(40, 220))
    for _ in range(count):
        veil = np.zeros((height, width), np.float32)
        for _ in range(most):
            x, y, long = rng.uniform(0, width), rng.uniform(-20, height), rng.uniform(8, 26)
            streak = np.array([[x, y], [x + lean * long, y + long]]) * 8
            cv2.line(veil, *(tuple(int(v) for v in p) for p in streak), float(rng.uniform(0.05, 0.3)), 1, cv2.LINE_AA, 3)
        frames.append(back + (0.7 - back) * cv2.GaussianBlur(veil, (0, 0), 0.7)[..., None])
    return np.stack(frames)


def _night(count: int, size: tuple[int, int], rng: Rng) -> Array:
    """A town at night: steady points of light, some that blink, and headlights that pass."""
    width, height = size
    back = np.zeros((height, width, 3), np.float32) + _toned(
        noise((height, width), int(rng.integers(1 << 30)), 4, 96), (0.001, 0.001, 0.003), (0.01, 0.012, 0.02)
    )
    lamps = [
        (rng.uniform(0, width), rng.uniform(0.2, 0.9) * height, rng.uniform(0.5, 2.2), rng.uniform(0.2, 1, 3), rng.random())
        for _ in range(70)
    ]
    cars = [(rng.uniform(-0.5, 1) * width, rng.uniform(0.75, 0.95) * height, rng.uniform(2, 11) * rng.choice([-1, 1])) for _ in range(5)]
    frames = []
    for n in range(count):
        picture = back.copy()
        for x, y, radius, colour, kind in lamps:
            on = 1.0 if kind < 0.8 else float((n // 7) % 2) if kind < 0.9 else float(rng.uniform(0.4, 1))
            _spot(picture, x, y, radius, colour * on)
        for x, y, speed in cars:
            for apart in (0, 9):
                _spot(picture, (x + speed * n) % (1.5 * width) - 0.2 * width + apart, y, 2.5, np.array([1, 0.95, 0.8]))
        frames.append(picture)
    return np.clip(np.stack(frames), 0, 1)


def _spot(picture: Array, x: float, y: float, radius: float, colour: Array) -> None:
    """Light of a point, spread by the lens."""
    reach = int(6 * radius + 3)
    left, top = max(0, int(x) - reach), max(0, int(y) - reach)
    part = picture[top : int(y) + reach + 1, left : int(x) + reach + 1]
    if part.size:
        rows, cols = np.mgrid[top : top + part.shape[0], left : left + part.shape[1]]
        far = ((rows - y) ** 2 + (cols - x) ** 2) / radius**2
        part += (np.exp(-0.5 * far) + 0.03 * np.exp(-0.06 * far))[..., None].astype(np.float32) * colour.astype(np.float32)


def _leaves(count: int, size: tuple[int, int], rng: Rng) -> Array:
    """Leaves in the wind: fine texture that moves everywhere a little differently, with holes that show the sky."""
    width, height = size
    back = _ground(size, rng)
    rows, cols = np.mgrid[0:height, 0:width].astype(np.float32)
    gusts = [noise((height, width), int(rng.integers(1 << 30)), 3, 96) - 0.5 for _ in range(4)]
    strong = rng.uniform(4, 16)
    frames = []
    for n in range(count):
        sway = [np.float32(strong * np.sin(0.35 * n + k)) * gusts[k] + np.float32(strong * np.cos(0.21 * n)) * gusts[k + 2] for k in (0, 1)]
        seen = cv2.remap(back, cols + sway[0] + 60, rows + sway[1] + 60, cv2.INTER_LINEAR, borderMode=cv2.BORDER_REFLECT)
        frames.append(np.where(seen[..., :1] > 0.3, np.float32(0.75), seen))
    return np.stack(frames)


def _walkers(count: int, size: tuple[int, int], rng: Rng) -> Array:
    """A camera that follows a crowd: figures at several speeds before a wall."""
    back = _ground(size, rng)
    moves = way(str(rng.choice(["still", "pan", "hand"])), count, rng)
    figures = [_Walker.drawn(back, size, rng) for _ in range(int(rng.integers(3, 7)))]
    starts = rng.uniform(-40, 40, len(figures))
    width, height = size
    frames = []
    for n in range(count):
        move = np.array([[1, 0, moves[n, 0] - 200], [0, 1, moves[n, 1] - 100]], np.float32)
        picture = cv2.warpAffine(back, move, (width, height), flags=cv2.INTER_CUBIC, borderMode=cv2.BORDER_REFLECT)
        for figure, start in zip(figures, starts, strict=True):
            figure.lay(picture, n - count / 2 + start)
        frames.append(np.clip(picture, 0, 1))
    return np.stack(frames)


def _wheel(count: int, size: tuple[int, int], rng: Rng) -> Array:
    """A wheel with spokes that turns before a wall: what a camera samples too seldom to follow."""
    width, height = size
    back = _ground(size, rng)[:height, :width]
    rows, cols = np.mgrid[0:height, 0:width].astype(np.float32)
    down, across = rows - height * rng.uniform(0.35, 0.65), cols - width * rng.uniform(0.3, 0.7)
    far, angle = np.hypot(down, across), np.arctan2(down, across)
    radius, spokes, speed = height * rng.uniform(0.2, 0.4), int(rng.integers(5, 14)), rng.uniform(0.02, 0.5)
    frames = []
    for n in range(count):
        spoke = np.clip(1 - np.abs(np.sin(spokes * (angle - speed * n) / 2)) * far / 4, 0, 1) * (far < radius)
        rim = np.clip(1 - np.abs(far - radius) / 3, 0, 1)
        cover = np.maximum(spoke, rim)[..., None]
        frames.append(back * (1 - cover) + np.float32(0.03) * cover)
    return np.stack(frames)


def _front(count: int, size: tuple[int, int], rng: Rng) -> Array:
    """Uprights of a scene that tempt as scratches do: palings, posts, joints of a wall, and wires, before a moving camera."""
    back = _ground(size, rng)
    height, width = back.shape[:2]
    for kind in rng.choice(["palings", "posts", "joints", "wires"], int(rng.integers(1, 4))):
        thick, every = {"palings": (2.0, 12.0), "posts": (3.0, 14.0), "joints": (1.0, 3.5), "wires": (0.6, 1.8)}[kind], rng.uniform(14, 70)
        if kind in ("palings", "joints"):
            xs = np.arange(rng.uniform(0, every), width, every) + rng.normal(0, 0.03 * every)
        else:
            xs = rng.uniform(0, width, int(rng.integers(2, 10)))
        tone = rng.choice([rng.uniform(0.0, 0.1), rng.uniform(0.3, 0.9)]) * rng.uniform(0.8, 1.2, 3)
        top, foot = sorted(rng.uniform(0, 1, 2)) if kind != "joints" else (0.0, 1.0)
        lean, course = rng.normal(0, 0.012), rng.uniform(20, 60)
        rows, cols = np.mgrid[0:height, 0:width].astype(np.float32)
        for x in xs:
            wide, ends = (
                rng.uniform(*thick),
                (rng.uniform(0, top) if rng.random() < 0.5 else 0.0, rng.uniform(foot, 1) if rng.random() < 0.5 else 1.0),
            )
            # Every other course of a wall is laid half a stone on.
            on = 0.5 * every * (np.floor(rows / course) % 2) if kind == "joints" and rng.random() < 0.5 else 0.0
            away = np.abs(cols - x - np.float32(lean) * rows - on)
            cover = np.clip((wide / 2 - away) / np.float32(rng.uniform(0.4, 1.5)) + 0.5, 0, 1) * (
                (rows >= ends[0] * height) & (rows < ends[1] * height)
            )
            # Each has its own light down its length, as stone, wood and rope have.
            own = 0.6 + 0.8 * cv2.resize(noise((height // 2, 8), int(rng.integers(1 << 30)), 4, 32), (1, height)).reshape(-1, 1)
            share = cover[..., None].astype(np.float32)
            back = back * (1 - share) + np.clip(own[..., None] * tone, 0, 1).astype(np.float32) * share
    move = str(rng.choice(_MOVES))
    return _photographed(shown(back), count, size, way(move, count, rng), rng)


_DRAWN: dict[str, Callable[[int, tuple[int, int], Rng], Array]] = {
    "sea": _sea,
    "rain": _rain,
    "night": _night,
    "leaves": _leaves,
    "walkers": _walkers,
    "wheel": _wheel,
    "front": _front,
}
