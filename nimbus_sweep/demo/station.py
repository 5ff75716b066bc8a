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
from numpy.typing import NDArray

from .defects import rgb_to_ycbcr

Picture = NDArray[np.float32]
Planes = tuple[NDArray[np.uint8], ...]
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


def _sky(camera: Camera, seconds: float) -> Picture:
    rows = (np.arange(HEIGHT, dtype=np.float32) / camera.scale + camera.y) / _HORIZON
    rows = np.clip(rows, 0, 1)[:, None]
    top, bottom = np.array([74, 116, 172], np.float32), np.array([196, 212, 224], np.float32)
    sky = top + (bottom - top) * rows[..., None] ** 1.3
    cover = window(_clouds(), Camera(camera.x * 0.35 + 14 * seconds, camera.y, camera.scale))
    shade = window(_clouds(), Camera(camera.x * 0.35 + 14 * seconds + 9, camera.y - 12, camera.scale))
    lit = np.clip(232 + 22 * cover - 46 * shade, 150, 250)[..., None] * np.array([1, 0.995, 0.985], np.float32)
    return sky + (lit - sky) * cover[..., None]


@lru_cache(maxsize=1)
def _waves() -> tuple[Picture, Picture]:
    shape = (_WORLD[1] - _HORIZON + 100, _WORLD[0] + 600)
    return noise(shape, 41, 5, 40, 5.0), noise(shape, 42, 5, 24, 3.5)


def _sea(camera: Camera, seconds: float) -> tuple[Picture, Picture]:
    """Colour and cover of the sea."""
    first, second = _waves()
    one = window(first, Camera(camera.x + 26 * seconds, camera.y - _HORIZON, camera.scale))
    two = window(second, Camera(camera.x - 17 * seconds + 200, camera.y - _HORIZON + 3 * np.sin(seconds), camera.scale))
    rows = np.arange(HEIGHT, dtype=np.float32) / camera.scale + camera.y
    depth = np.clip((rows - _HORIZON) / 220, 0, 1)[:, None]
    height = one + two - 1
    colour = np.stack([70 + 34 * height, 104 + 40 * height, 122 + 46 * height], -1) * (1.08 - 0.3 * depth[..., None])
    glint = np.clip((one * two - 0.52) * 9, 0, 1)[..., None] * (1 - 0.5 * depth[..., None])
    colour = colour + glint * np.array([92, 92, 86], np.float32)
    return colour.astype(np.float32), np.clip(rows - _HORIZON + 0.5, 0, 1)[:, None] + np.zeros((1, WIDTH), np.float32)


def _cups(picture: Picture, camera: Camera, seconds: float) -> None:
    """The spinning cup anemometer on the mast's head."""
    x, y = (_MAST[0] - camera.x) * camera.scale, (_MAST[1] - 8 - camera.y) * camera.scale
    reach = 44 * camera.scale
    if not (-80 < x < WIDTH + 80 and -80 < y < HEIGHT + 80):
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
        if left < 0 or top < 0 or left + 13 > WIDTH or top + 13 > HEIGHT:
            continue
        # Drawn by a lens: a spot with a standard deviation of 0.9 pixels.
        spot = power * np.exp(-(((xs + left - x) ** 2 + (ys + top - y) ** 2) / (2 * 0.9**2)))
        part = picture[top : top + 13, left : left + 13]
        part += spot[..., None] * np.array([1, 0.98, 0.92], np.float32)


def draw(camera: Camera, seconds: float, grain_seed: int, grain: float = 2.2) -> Planes:
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
    """
    picture = _sky(camera, seconds)
    sea, sea_cover = _sea(camera, seconds)
    picture += (sea - picture) * sea_cover[..., None]
    # Half a fine pixel over: pixel centres of both scales then fall together.
    ground = window(_ground(), Camera(camera.x * _FINE + 0.5, camera.y * _FINE + 0.5, camera.scale / _FINE))
    picture += (ground[..., :3] - picture) * ground[..., 3:]
    picture = np.ascontiguousarray(picture, np.float32)
    _cups(picture, camera, seconds)
    _glints(picture, camera)
    return developed(picture, grain_seed, grain)


@lru_cache(maxsize=1)
def _mixing() -> Picture:
    """`rgb_to_ycbcr` as a matrix with its constants: (3, 4)."""
    black, *primaries = (np.array(rgb_to_ycbcr(np.array(colour, float))) for colour in ((0, 0, 0), (1, 0, 0), (0, 1, 0), (0, 0, 1)))
    return np.stack([*(p - black for p in primaries), black], 1).astype(np.float32)


def developed(picture: Picture, grain_seed: int, grain: float) -> Planes:
    """A drawn picture, colours of 0 to 255, as a lens and a camera with grain give it."""
    picture = cv2.GaussianBlur(picture, (0, 0), 0.55)
    y, cb, cr = cv2.split(cv2.transform(np.clip(picture, 0, 255), _mixing()))
    rng = np.random.default_rng(grain_seed)
    noise = cv2.GaussianBlur(rng.standard_normal((HEIGHT, WIDTH), np.float32), (0, 0), 0.6) * 1.9
    y += grain * noise * (0.6 + 0.8 * np.sqrt(np.clip(1 - np.abs(y - 120) / 130, 0, 1)))
    halves = []
    for plane in (cb, cr):
        half = cv2.resize(plane, (WIDTH // 2, HEIGHT // 2), interpolation=cv2.INTER_AREA)
        halves.append(half + 0.35 * grain * rng.standard_normal(half.shape, np.float32))
    return tuple(np.clip(np.rint(p), 16, 240 if n else 235).astype(np.uint8) for n, p in enumerate((y, *halves)))
