"""Draws Skerrow Point, an invented weather station on a headland: sky, sea, hill, instruments. No real place.

The world is wider than the picture; a camera (`Camera`) looks at a window of it. Everything is drawn from fixed
seeds, so that each frame is the same on every machine to within rounding.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from functools import lru_cache
from itertools import pairwise

import cv2
import numpy as np

from ..core.base.compiled import compiled
from ..core.base.parallel import parallel_map
from .grain import Picture, Planes, developed

Colour4 = tuple[float, float, float, float]

WIDTH, HEIGHT = 1280, 720
_WORLD = (2200, 900)
_HORIZON = 470
_MAST = (1290, 250)
# The ground is painted this many times finer than the world, so that its edges are those a lens would draw.
_FINE = 2


@dataclass(frozen=True)
class Camera:
    """Where the window's left upper corner lies in the world, in pixels, and how far it is enlarged."""

    x: float
    y: float
    scale: float = 1.0


def noise(shape: tuple[int, int], seed: int, octaves: int, coarsest: int, stretch: float = 1.0) -> Picture:
    """Smooth random texture of 0 to 1: octaves of interpolated noise, `coarsest` pixels to a cell at first."""
    rng = np.random.default_rng(seed)
    total = np.zeros(shape, np.float32)
    weight = 1.0
    for octave in range(octaves):
        cell = max(2, coarsest >> octave)
        small = rng.random((shape[0] // cell + 3, max(3, int(shape[1] / (cell * stretch)) + 3)), np.float32)
        total += np.float32(weight) * cv2.resize(small, shape[::-1], interpolation=cv2.INTER_CUBIC)
        weight *= 0.55
    total -= total.min()
    return np.asarray(total / total.max(), np.float32)


@lru_cache(maxsize=1)
def _clouds() -> Picture:
    """Cover of 0 to 1 over a strip of sky, denser towards the horizon."""
    shape = (_HORIZON + 80, 3000)
    field = noise(shape, 11, 6, 256, 2.2)
    rows = np.linspace(0, 1, shape[0], dtype=np.float32)[:, None]
    return np.asarray(np.clip((field - 0.47 + 0.12 * rows) * 3.4, 0, 1) ** 0.8, np.float32)


@lru_cache(maxsize=1)
def _ground() -> Picture:
    """The hill, path and fixed instruments at twice the world's size: colour of 0 to 255 and cover of 0 to 1."""
    width, height = _WORLD
    xs = np.arange(width, dtype=np.float32)
    ridge = 600 - 175 * np.exp(-(((xs - 1330) / 470) ** 2)) - 38 * np.exp(-(((xs - 520) / 260) ** 2)) + 60 * ((xs - 1100) / 1100) ** 2
    ridge += 7 * (noise((1, width), 5, 5, 128)[0] - 0.5) * 2
    ys = np.arange(height, dtype=np.float32)[:, None]
    cover = np.clip(ys - ridge[None] + 0.5, 0, 1)
    grass = noise((height, width), 21, 7, 96, 1.4)
    blades = noise((height, width), 22, 3, 6, 0.4)
    depth = np.clip((ys - ridge[None]) / 330, 0, 1)
    tone = 0.45 + 0.75 * (grass - 0.5) + 0.34 * (blades - 0.5)
    colour = np.stack([74 + 66 * tone, 86 + 70 * tone, 40 + 34 * tone], -1) * (1.12 - 0.45 * depth[..., None])
    _path(colour, ridge)
    picture = np.dstack([colour, cover * 255]).astype(np.float32)
    picture = cv2.resize(picture, None, fx=_FINE, fy=_FINE, interpolation=cv2.INTER_CUBIC)
    _fence(picture, ridge)
    _screen(picture, 950, 392)
    _screen(picture, 1620, 470, 0.8)
    _mast(picture)
    _hut(picture)
    picture[..., 3] /= 255
    return cv2.GaussianBlur(np.clip(picture, 0, 255), (0, 0), 0.7)


def _path(colour: Picture, ridge: Picture) -> None:
    points = np.array([(860, 900), (900, 780), (1000, 690), (1110, 620), (1200, 560), (1262, 500), (1290, 455)], np.int32)
    mask = np.zeros(colour.shape[:2], np.uint8)
    for n, (a, b) in enumerate(pairwise(points)):
        cv2.line(mask, tuple(int(v) for v in a), tuple(int(v) for v in b), 255, max(4, 40 - 6 * n), cv2.LINE_AA)
    soft = cv2.GaussianBlur(mask.astype(np.float32) / 255, (0, 0), 4)[..., None] * 0.75
    stones = noise(colour.shape[:2], 31, 4, 12)[..., None]
    colour[:] = colour * (1 - soft) + soft * (np.array([150, 138, 112], np.float32) * (0.72 + 0.5 * stones))


def _fine(point: tuple[float, float]) -> tuple[int, int]:
    return round(point[0] * _FINE), round(point[1] * _FINE)


def _line(picture: Picture, a: tuple[float, float], b: tuple[float, float], colour: Colour4, width: float) -> None:
    cv2.line(picture, _fine(a), _fine(b), colour, max(1, round(width * _FINE)), cv2.LINE_AA)


def _box(picture: Picture, a: tuple[float, float], b: tuple[float, float], colour: Colour4) -> None:
    cv2.rectangle(picture, _fine(a), _fine(b), colour, -1)


def _area(picture: Picture, corners: Sequence[Sequence[tuple[float, float]]], colour: Colour4) -> None:
    cv2.fillPoly(picture, [np.array([_fine(c) for c in shape], np.int32) for shape in corners], colour, cv2.LINE_AA)


def _disc(picture: Picture, centre: tuple[float, float], radius: float, colour: Colour4) -> None:
    cv2.circle(picture, _fine(centre), round(radius * _FINE), colour, -1, cv2.LINE_AA)


def _fence(picture: Picture, ridge: Picture) -> None:
    tops = []
    for x in range(300, 2100, 74):
        foot = float(ridge[x]) + 26
        _line(picture, (x, int(foot)), (x + 2, int(foot) - 44), (88, 76, 62, 255), 5)
        tops.append((x + 2, int(foot) - 38))
    for a, b in pairwise(tops):
        for drop in (0, 15):
            _line(picture, (a[0], a[1] + drop), (b[0], b[1] + drop), (70, 66, 62, 255), 1)


def _screen(picture: Picture, x: int, y: int, scale: float = 1.0) -> None:
    """A louvred instrument screen on legs."""

    def at(dx: float, dy: float) -> tuple[int, int]:
        return round(x + dx * scale), round(y + dy * scale)

    for dx in (-46, 46):
        _line(picture, at(dx, 60), at(dx * 1.15, 150), (226, 222, 212, 255), max(3, round(8 * scale)))
    _line(picture, at(-50, 105), at(50, 132), (206, 202, 192, 255), max(2, round(4 * scale)))
    _box(picture, at(-62, -50), at(62, 64), (236, 233, 224, 255))
    for n in range(11):
        top = -42 + n * 9.4
        _line(picture, at(-54, top), at(54, top), (150, 149, 146, 255), max(1, round(3 * scale)))
        _line(picture, at(-54, top + 3), at(54, top + 3), (248, 246, 240, 255), max(1, round(2 * scale)))
    _line(picture, at(0, -50), at(0, 64), (206, 203, 196, 255), max(2, round(4 * scale)))
    roof = [at(-76, -50), at(0, -84), at(76, -50)]
    _area(picture, [roof], (214, 210, 200, 255))
    _line(picture, at(-78, -49), at(78, -49), (176, 172, 162, 255), max(2, round(4 * scale)))


def _mast(picture: Picture) -> None:
    x, y = _MAST
    _line(picture, (x, y), (x, 470), (58, 60, 64, 255), 7)
    _line(picture, (x - 2, y), (x - 2, 470), (120, 122, 126, 255), 2)
    for foot in (-150, 150):
        _line(picture, (x, y + 60), (x + foot, 505), (86, 88, 92, 255), 1)
    _line(picture, (x - 54, y + 40), (x + 60, y + 40), (58, 60, 64, 255), 4)
    vane = [(x - 54, y + 36), (x - 96, y + 22), (x - 96, y + 50)]
    _area(picture, [vane], (150, 62, 46, 255))
    _disc(picture, (x + 60, y + 32), 9, (206, 204, 198, 255))


def _hut(picture: Picture) -> None:
    _box(picture, (1790, 505), (1990, 640), (178, 168, 150, 255))
    for n in range(9):
        _line(picture, (1790, 512 + n * 15), (1990, 512 + n * 15), (150, 140, 122, 255), 1)
    _area(picture, [[(1772, 508), (1890, 440), (2008, 508)]], (92, 84, 82, 255))
    _box(picture, (1830, 548), (1880, 592), (52, 66, 76, 255))
    _box(picture, (1920, 546), (1962, 640), (70, 92, 88, 255))


def window(picture: Picture, camera: Camera, size: tuple[int, int] = (WIDTH, HEIGHT)) -> Picture:
    move = np.array([[camera.scale, 0, -camera.x * camera.scale], [0, camera.scale, -camera.y * camera.scale]], np.float32)
    return cv2.warpAffine(picture, move, size, flags=cv2.INTER_LINEAR, borderMode=cv2.BORDER_REFLECT_101)


@lru_cache(maxsize=2)
def _seen_ground(camera: Camera, halved: bool) -> Picture:
    """What a camera sees of the ground; one that stands still sees the same all the time."""
    # Half a fine pixel over: pixel centres of both scales then fall together.
    seen = window(_ground(), Camera(camera.x * _FINE + 0.5, camera.y * _FINE + 0.5, camera.scale / _FINE))
    return cv2.resize(seen, (WIDTH // 2, HEIGHT // 2), interpolation=cv2.INTER_AREA) if halved else seen


@lru_cache(maxsize=1)
def _waves() -> tuple[Picture, Picture]:
    shape = (_WORLD[1] - _HORIZON + 100, _WORLD[0] + 600)
    return noise(shape, 41, 5, 40, 5.0), noise(shape, 42, 5, 24, 3.5)


_F = np.float32


@compiled()
def _mirrored(place: int, size: int) -> int:
    while place < 0 or place >= size:
        place = -place if place < 0 else 2 * (size - 1) - place
    return place


@compiled(fast=True)
def _row_of(field: Picture, y: float, x: float, step: float, room: Picture, seen: Picture) -> None:
    """A row of a field, mirrored at its edges, at places `step` apart from `x` on; `room` is worked in."""
    height, width = field.shape
    row, first = int(np.floor(y)), int(np.floor(x))
    down = _F(y - row)
    top, low = field[_mirrored(row, height)], field[_mirrored(row + 1, height)]
    count = int(np.floor(x - first + step * (len(seen) - 1))) + 2
    if first >= 0 and first + count <= width:
        for k in range(count):
            room[k] = top[first + k] + (low[first + k] - top[first + k]) * down
    else:
        for k in range(count):
            at = _mirrored(first + k, width)
            room[k] = top[at] + (low[at] - top[at]) * down
    start = _F(x - first)
    if step == 1:
        for k in range(len(seen)):
            seen[k] = room[k] + (room[k + 1] - room[k]) * start
    else:
        for k in range(len(seen)):
            place = start + _F(k) * _F(step)
            at = int(place)
            seen[k] = room[at] + (room[at + 1] - room[at]) * (place - _F(at))


@compiled(fast=True)
def _lay(
    picture: Picture, ground: Picture, clouds: Picture, waves: Picture, ripples: Picture, x: float, y: float, scale: float, seconds: float
) -> None:
    """Lay sky, sea and ground into a picture; only what is seen of them is looked up."""
    height, width = picture.shape[:2]
    step, drift = 1 / scale, 0.35 * x + 14 * seconds
    room = np.empty(int(step * width) + 4, np.float32)
    one, two = np.empty(width, np.float32), np.empty(width, np.float32)
    for row in range(height):
        world = row / scale + y
        sea = _F(min(max(world - _HORIZON + 0.5, 0.0), 1.0))
        bare = ground[row, :, 3].min() < 1
        out, over = picture[row], ground[row]
        if bare and sea < 1:
            haze = _F(min(max(world / _HORIZON, 0.0), 1.0) ** 1.3)
            red, green, blue = _F(74) + _F(122) * haze, _F(116) + _F(96) * haze, _F(172) + _F(52) * haze
            _row_of(clouds, world, drift, step, room, one)
            _row_of(clouds, world - 12, drift + 9, step, room, two)
            for col in range(width):
                cover = one[col]
                lit = min(max(_F(232) + _F(22) * cover - _F(46) * two[col], _F(150)), _F(250))
                out[col, 0] = red + (lit - red) * cover
                out[col, 1] = green + (lit * _F(0.995) - green) * cover
                out[col, 2] = blue + (lit * _F(0.985) - blue) * cover
        else:
            out[:] = 0
        if bare and sea > 0:
            depth = _F(min(max((world - _HORIZON) / 220, 0.0), 1.0))
            dim, shine = _F(1.08) - _F(0.3) * depth, _F(1) - _F(0.5) * depth
            _row_of(waves, world - _HORIZON, x + 26 * seconds, step, room, one)
            _row_of(ripples, world - _HORIZON + 3 * np.sin(seconds), x - 17 * seconds + 200, step, room, two)
            for col in range(width):
                tall = one[col] + two[col] - _F(1)
                glint = min(max((one[col] * two[col] - _F(0.52)) * _F(9), _F(0)), _F(1)) * shine
                out[col, 0] += ((_F(70) + _F(34) * tall) * dim + _F(92) * glint - out[col, 0]) * sea
                out[col, 1] += ((_F(104) + _F(40) * tall) * dim + _F(92) * glint - out[col, 1]) * sea
                out[col, 2] += ((_F(122) + _F(46) * tall) * dim + _F(86) * glint - out[col, 2]) * sea
        for col in range(width):
            share = over[col, 3]
            out[col, 0] += (over[col, 0] - out[col, 0]) * share
            out[col, 1] += (over[col, 1] - out[col, 1]) * share
            out[col, 2] += (over[col, 2] - out[col, 2]) * share


def _cups(picture: Picture, camera: Camera, seconds: float) -> None:
    """The spinning cup anemometer on the mast's head."""
    x, y = (_MAST[0] - camera.x) * camera.scale, (_MAST[1] - 8 - camera.y) * camera.scale
    reach = 44 * camera.scale
    height, width = picture.shape[:2]
    if not (-80 < x < width + 80 and -80 < y < height + 80):
        return
    shift = 4

    def fixed(px: float, py: float) -> tuple[int, int]:
        return round(px * 2**shift), round(py * 2**shift)

    cv2.line(picture, fixed(x, y), fixed(x, y + 12 * camera.scale), (58, 60, 64), max(2, round(5 * camera.scale)), cv2.LINE_AA, shift)
    for n in range(3):
        angle = 2 * np.pi * (n / 3 + 0.83 * seconds)
        ex, ey = x + reach * np.cos(angle), y + reach * 0.22 * np.sin(angle)
        cv2.line(picture, fixed(x, y), fixed(ex, ey), (70, 72, 76), max(1, round(2 * camera.scale)), cv2.LINE_AA, shift)
        tone = 96 + 54 * np.sin(angle)
        cv2.circle(picture, fixed(ex, ey), round(9 * camera.scale * 2**shift), (tone, tone - 4, tone - 10), -1, cv2.LINE_AA, shift)
    cv2.circle(picture, fixed(x, y), round(5 * camera.scale * 2**shift), (48, 50, 54), -1, cv2.LINE_AA, shift)


# Small bright things of the scene that must stay, in world pixels: screw heads, a lamp, glints on glass.
HIGHLIGHTS = (
    (905.3, 361.6, 150),
    (995.4, 361.2, 120),
    (905.7, 438.3, 130),
    (1350.5, 281.5, 170),
    (1289.4, 330.3, 110),
    (1290.6, 402.4, 95),
)


def _glints(picture: Picture, camera: Camera) -> None:
    ys, xs = np.mgrid[0:13, 0:13].astype(np.float32)
    for wx, wy, power in HIGHLIGHTS:
        x, y = (wx - camera.x) * camera.scale, (wy - camera.y) * camera.scale
        left, top = int(x) - 6, int(y) - 6
        if left < 0 or top < 0 or left + 13 > picture.shape[1] or top + 13 > picture.shape[0]:
            continue
        # Drawn by a lens: a spot with a standard deviation of 0.9 pixels.
        spot = power * np.exp(-(((xs + left - x) ** 2 + (ys + top - y) ** 2) / (2 * 0.9**2)))
        part = picture[top : top + 13, left : left + 13]
        part += spot[..., None] * np.array([1, 0.98, 0.92], np.float32)


def prepare() -> None:
    """Paint what all frames share, on all cores; threads that draw would each begin it."""
    for _ in parallel_map(lambda layer: layer(), (_ground, _clouds, _waves)):
        pass


def draw(camera: Camera, seconds: float, grain_seed: int, grain: float = 2.2, halved: bool = False) -> Planes:
    """One frame as limited-range BT.709 4:2:0 planes of 8 bits.

    Parameters
    ----------
    camera : Camera
    seconds : float
        Time of the scene: clouds, waves and cups move with it.
    grain_seed : int
        Of this frame's grain.
    grain : float
        Standard deviation of the grain in the mid tones, in 8-bit codes.
    halved : bool
        Half the size, as if the frame had been made smaller afterwards.
    """
    ground = _seen_ground(camera, halved)
    if halved:
        # The middle of a small pixel lies between the middles of the four it stands for.
        middle = 0.5 / camera.scale
        camera = Camera(camera.x + middle, camera.y + middle, camera.scale / 2)
    picture = np.empty((*ground.shape[:2], 3), np.float32)
    _lay(picture, ground, _clouds(), *_waves(), camera.x, camera.y, camera.scale, seconds)
    _cups(picture, camera, seconds)
    _glints(picture, camera)
    return developed(picture, grain_seed, grain, halved)
