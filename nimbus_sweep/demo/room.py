"""Draws the instrument room of Skerrow Point: boards, shelves, dials, a recorder, a window, and someone walking through."""

from __future__ import annotations

from functools import lru_cache

import cv2
import numpy as np

from .grain import Picture, Planes, developed
from .station import HEIGHT, WIDTH, Camera, noise, window

_WORLD = (2100, 860)
_FINE = 2
_STEPS = 1.7  # a second
# The recorder's screen in the world: left, top, right, bottom.
SCREEN = (778, 456, 972, 540)


@lru_cache(maxsize=1)
def draw_wall() -> Picture:
    """The room at twice the world's size, colours of 0 to 255."""
    width, height = _WORLD
    grain = noise((height, width), 61, 6, 64, 0.12)
    boards = 0.86 + 0.14 * np.abs(np.sin(np.arange(width) * np.pi / 58))[None] ** 0.2
    picture = (np.array([150, 122, 88], np.float32) * (boards * (0.72 + 0.5 * grain))[..., None]).astype(np.float32)
    picture[640:] = np.array([78, 70, 62], np.float32) * (0.8 + 0.4 * noise((height - 640, width), 62, 5, 90, 3.0))[..., None]
    picture = cv2.resize(picture, None, fx=_FINE, fy=_FINE, interpolation=cv2.INTER_CUBIC)
    rng = np.random.default_rng(63)
    _window(picture)
    for y in (150, 290):
        _shelf(picture, rng, 560, y, 1180)
    for n, x in enumerate((1290, 1400, 1510)):
        _dial(picture, x, 190, 42, 0.7 + 1.9 * n)
    _dial(picture, 1400, 340, 64, 4.1)
    _recorder(picture, 760, 500)
    _box(picture, 520, 560, 1560, 584, (92, 70, 48))
    for x in (540, 1040, 1530):
        _box(picture, x, 584, x + 26, 760, (80, 60, 42))
    _chart(picture, 1640, 120)
    return cv2.GaussianBlur(np.clip(picture, 0, 255), (0, 0), 0.7)


def _at(x: float, y: float) -> tuple[int, int]:
    return round(x * _FINE), round(y * _FINE)


def _box(picture: Picture, left: float, top: float, right: float, bottom: float, colour: tuple[float, float, float]) -> None:
    cv2.rectangle(picture, _at(left, top), _at(right, bottom), colour, -1)


def _window(picture: Picture) -> None:
    _box(picture, 150, 110, 450, 480, (206, 200, 186))
    for left, top in ((168, 128), (306, 128), (168, 300), (306, 300)):
        pane = noise((158, 126), 70 + left + top, 4, 60)
        colour = np.array([150, 182, 206], np.float32) + 70 * (pane[..., None] - 0.4)
        y, x = top * _FINE, left * _FINE
        picture[y : y + 158 * _FINE, x : x + 126 * _FINE] = cv2.resize(colour, (126 * _FINE, 158 * _FINE))
    _box(picture, 130, 480, 470, 500, (190, 182, 166))


def _shelf(picture: Picture, rng: np.random.Generator, left: int, y: int, right: int) -> None:
    x = left + 8.0
    while x < right - 40:
        wide, tall = rng.uniform(14, 44), rng.uniform(56, 104)
        tone = rng.uniform(60, 190)
        colour = (tone, tone * rng.uniform(0.7, 1), tone * rng.uniform(0.5, 1))
        _box(picture, x, y - tall, x + wide, y, colour)
        _box(picture, x + 3, y - 0.7 * tall, x + wide - 3, y - 0.55 * tall, (216, 206, 182))
        x += wide + rng.uniform(1, 8)
    _box(picture, left, y, right, y + 12, (86, 64, 44))


def _dial(picture: Picture, x: float, y: float, radius: float, hand: float) -> None:
    cv2.circle(picture, _at(x, y), round(radius * _FINE), (120, 96, 52), -1, cv2.LINE_AA)
    cv2.circle(picture, _at(x, y), round(0.86 * radius * _FINE), (226, 220, 202), -1, cv2.LINE_AA)
    for n in range(48):
        angle = 2 * np.pi * n / 48
        inner = 0.66 if n % 4 == 0 else 0.74
        a, b = (_at(x + r * radius * np.cos(angle), y + r * radius * np.sin(angle)) for r in (inner, 0.8))
        cv2.line(picture, a, b, (58, 54, 50), 2, cv2.LINE_AA)
    cv2.line(picture, _at(x, y), _at(x + 0.62 * radius * np.cos(hand), y + 0.62 * radius * np.sin(hand)), (40, 38, 40), 5, cv2.LINE_AA)


def _recorder(picture: Picture, x: float, y: float) -> None:
    _box(picture, x, y - 60, x + 230, y + 60, (66, 78, 74))
    _box(picture, *SCREEN, (224, 218, 200))
    for n in range(1, 11):
        cv2.line(picture, _at(x + 18 + 17.6 * n, y - 44), _at(x + 18 + 17.6 * n, y + 40), (170, 160, 150), 1, cv2.LINE_AA)
    trace = [_at(x + 20 + 2 * n, y - 4 + 16 * np.sin(0.21 * n) + 9 * np.sin(0.53 * n + 1)) for n in range(95)]
    cv2.polylines(picture, [np.array(trace, np.int32)], False, (70, 52, 120), 3, cv2.LINE_AA)


def _chart(picture: Picture, x: float, y: float) -> None:
    _box(picture, x, y, x + 330, y + 250, (218, 212, 194))
    for n in range(7):
        line = [_at(x + 8 + 4 * m, y + 36 + 30 * n + 12 * np.sin(0.08 * m + 0.6 * n)) for m in range(79)]
        cv2.polylines(picture, [np.array(line, np.int32)], False, (110, 120, 140), 2, cv2.LINE_AA)


def walker(picture: Picture, camera: Camera, seconds: float, halved: bool = False) -> None:
    """Someone in a dark oilskin, walking through from the right, before everything; the picture may be half the size."""
    x = (1900 - 300 * seconds - camera.x) * camera.scale
    if not -160 < x < WIDTH + 160:
        return
    sway = np.sin(2 * np.pi * _STEPS * seconds)
    bob = 4 * abs(sway)
    shift, size = 4, 0.5 if halved else 1.0

    def fixed(px: float, py: float) -> tuple[int, int]:
        return round(size * px * 2**shift), round(size * py * 2**shift)

    def limb(start: tuple[int, int], end: tuple[int, int], colour: tuple[int, int, int], width: int) -> None:
        cv2.line(picture, start, end, colour, max(1, round(size * width)), cv2.LINE_AA, shift)

    for side, tone in ((-1, 34), (1, 46)):
        foot = x + side * 46 * sway
        limb(fixed(x, 500 - bob), fixed(foot, 716), (tone, tone + 4, tone + 12), 42)
    body = np.array([fixed(x + dx, y - bob) for dx, y in ((-62, 250), (62, 250), (78, 530), (-74, 530))], np.int32)
    cv2.fillPoly(picture, [body], (58, 66, 60), cv2.LINE_AA, shift)
    for dy in range(280, 520, 46):
        limb(fixed(x - 60, dy - bob), fixed(x + 64, dy + 10 - bob), (72, 82, 74), 3)
    limb(fixed(x, 270 - bob), fixed(x - 60 * sway, 440 - bob), (50, 58, 54), 34)
    cv2.circle(picture, fixed(x - 6, 200 - bob), round(size * 44 * 2**shift), (168, 132, 108), -1, cv2.LINE_AA, shift)
    hat = [fixed(x - 4 + dx, 166 - bob + dy) for dx, dy in ((-74, 14), (-40, 4), (-34, -34), (30, -38), (40, 2), (62, 12))]
    cv2.fillPoly(picture, [np.array(hat, np.int32)], (84, 74, 44), cv2.LINE_AA, shift)


def draw_room(camera: Camera, seconds: float, grain_seed: int, grain: float = 2.2) -> Planes:
    """One frame of the room as `station.draw` gives one of the headland."""
    seen = Camera(camera.x * _FINE + 0.5, camera.y * _FINE + 0.5, camera.scale / _FINE)
    picture = np.ascontiguousarray(window(draw_wall(), seen, (WIDTH, HEIGHT)), np.float32)
    walker(picture, camera, seconds)
    return developed(picture, grain_seed, grain)
