"""Defects as they come about: in the lamps, before the lens, on the glass, at the photosites, on the film.

Each is drawn once for a clip and then laid in where it arises: `lit` on the light of the scene, `passed` on what the lens lets
through, `read` on the mosaic of the sensor, `printed` on the picture. A camera without them sees the same with the same noise.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import Any

import cv2
import numpy as np
from numpy.typing import NDArray

from .scenes import shown

Array = NDArray[Any]
Rng = np.random.Generator


@dataclass(frozen=True)
class Thing:
    """One defect of a kind, and where it lies.

    Attributes
    ----------
    kind : str
    first, stop : int
        The frames it is on.
    mask : ndarray, bool, (height, width) or (frames, height, width)
    """

    kind: str
    first: int
    stop: int
    mask: Array


@dataclass
class Damage:
    """What is wrong with a clip in one way; without anything, nothing is."""

    things: list[Thing] = field(default_factory=list)
    flickers: bool = False

    def lit(self, n: int, light: Array) -> Array:
        """The scene's light, in frame `n`: (height, width, 3), 0 to 1."""
        return light

    def passed(self, n: int, light: Array) -> Array:
        """What comes through the lens and the glass before the sensor."""
        return light

    def read(self, n: int, mosaic: Array, rng: Rng) -> Array:
        """What the sensor's sites tell: (height, width), 0 to 1."""
        return mosaic

    def printed(self, n: int, picture: Array) -> Array:
        """The picture in 8-bit codes, (height, width, 3), as it lies on the film."""
        return picture


# -- light --------------------------------------------------------------------------------------------------------


@dataclass
class _Lamp(Damage):
    """The light times a factor for each frame, row, or place."""

    factor: Array = field(default_factory=lambda: np.ones((1, 1, 1), np.float32))
    flickers: bool = True

    def lit(self, n: int, light: Array) -> Array:
        return np.asarray(light * self.factor[n][..., None])


def _whole(count: int, size: tuple[int, int], rng: Rng) -> Damage:
    swing = rng.uniform(0.03, 0.2) * rng.normal(0, 1, count)
    if rng.random() < 0.4:
        swing = np.convolve(swing, [0.5, 1, 0.5], "same")
    return _Lamp(factor=np.exp(swing - swing.mean()).astype(np.float32)[:, None, None])


def _bands(count: int, size: tuple[int, int], rng: Rng) -> Damage:
    """Mains lamps under a rolling shutter: each row takes in a lamp's light over its own exposure."""
    mains, rate = rng.choice([50, 60]), rng.choice([24, 25, 29.97, 30, 50, 60])
    readout, shutter, ripple, phase = rng.uniform(0.008, 0.03), 1 / rng.uniform(60, 1200), rng.uniform(0.3, 1), rng.uniform(0, 1)
    drift = np.cumsum(rng.normal(0, rng.choice([0, 0.0004]), count))
    begins = (np.arange(count) / rate)[:, None] + (np.arange(size[1]) / size[1] * readout)[None] + drift[:, None]
    # The lamp's curve has an upper harmonic: no real one is a sine.
    sharp = rng.uniform(0, 0.25)
    angle = 4 * np.pi * mains * (begins[..., None] + np.linspace(0, shutter, 9)) + phase
    lamp = 1 - ripple * (0.5 + 0.5 * np.cos(angle) + sharp * 0.5 * np.cos(2 * angle))
    rows = lamp.mean(-1)
    return _Lamp(factor=(rows / np.median(rows)).astype(np.float32)[:, :, None])


def _on_off(count: int, size: tuple[int, int], rng: Rng) -> Damage:
    every, depth = int(rng.choice([2, 2, 3])), rng.uniform(0.06, 0.35)
    course = np.where(np.arange(count) % every == 0, 1 - depth, 1) * np.exp(rng.normal(0, 0.004, count))
    return _Lamp(factor=course.astype(np.float32)[:, None, None])


def _jumps(count: int, size: tuple[int, int], rng: Rng) -> Damage:
    every = min(int(rng.choice([8, 12, 15, 25])), max(1, count // 2))
    steps = 1 + rng.uniform(-0.06, 0.06, count // every + 1)
    return _Lamp(factor=np.repeat(steps, every)[:count].astype(np.float32)[:, None, None])


def _patches(count: int, size: tuple[int, int], rng: Rng) -> Damage:
    """One to three lamps that each light their part of the picture."""
    width, height = size
    rows, cols = np.mgrid[0:height, 0:width]
    log = np.zeros((count, height, width), np.float32)
    for _ in range(int(rng.integers(1, 4))):
        y, x, reach = rng.uniform(0.1, 0.9) * height, rng.uniform(0.1, 0.9) * width, rng.uniform(0.12, 0.3) * width
        swing = rng.uniform(0.06, 0.2) * rng.normal(0, 1, count)
        lit = np.exp(-0.5 * ((rows - y) ** 2 + (cols - x) ** 2) / reach**2)
        log += (swing - swing.mean())[:, None, None].astype(np.float32) * lit.astype(np.float32)
    return _Lamp(factor=np.exp(log))


# -- before the lens ----------------------------------------------------------------------------------------------


@dataclass
class _Crossing(Damage):
    """Small things that cross the scene, each for some frames."""

    covers: dict[int, list[tuple[Array, float]]] = field(default_factory=dict)

    def lit(self, n: int, light: Array) -> Array:
        for cover, level in self.covers.get(n, []):
            light = light * (1 - cover[..., None]) + np.float32(level) * cover[..., None]
        return light


def _birds(count: int, size: tuple[int, int], rng: Rng) -> Damage:
    made = _Crossing()
    width, height = size
    for _ in range(int(rng.integers(1, 6))):
        first, stays = int(rng.integers(0, max(1, count - 7))), int(rng.integers(4, 8))
        place = np.array([rng.uniform(10, width - 10), rng.uniform(8, 0.6 * height)])
        speed = np.array([rng.choice([-1, 1]) * rng.uniform(10, 32), rng.normal(0, 3)])
        long, thick, level = rng.uniform(3, 9), rng.uniform(1.4, 3.5), float(rng.choice([0.004, 0.004, 0.8]))
        beat = rng.uniform(0, 6.3)
        for n in range(first, min(count, first + stays)):
            cover = np.zeros((height, width), np.float32)
            at = place + speed * (n - first)
            lean = float(28 * np.sin(beat + 1.9 * (n - first)))
            centre = (round(at[0] * 16), round(at[1] * 16))
            cv2.ellipse(cover, centre, (round(16 * long), round(16 * thick)), lean, 0, 360, 1.0, -1, cv2.LINE_AA, 4)
            # Smeared along its way, for half of the time from frame to frame.
            smear = max(1, round(abs(speed[0]) * rng.uniform(0, 0.3)))
            cover = cv2.blur(cover, (smear, 1))
            # Before the dark a little of a light one shows.
            if (cover > 0.05).any():
                made.covers.setdefault(n, []).append((cover, level))
                made.things.append(Thing("birds", n, n + 1, cover > 0.004))
    return made


# -- glass --------------------------------------------------------------------------------------------------------


@dataclass
class _Glass(Damage):
    """Light that is lost, and a haze that is laid over, as shares."""

    through: Array = field(default_factory=lambda: np.ones((1, 1), np.float32))
    haze: Array = field(default_factory=lambda: np.zeros((1, 1), np.float32))

    def passed(self, n: int, light: Array) -> Array:
        return np.asarray(light * self.through[..., None] + self.haze[..., None] * np.float32(light.mean()))


def _disc(size: tuple[int, int], radius: float, soft: float, rng: Rng) -> Array:
    """A disc, somewhat squeezed, with a soft edge: 0 to 1."""
    width, height = size
    rows, cols = np.mgrid[0:height, 0:width].astype(np.float32)
    y, x, turn, squeeze = rng.uniform(0, height), rng.uniform(0, width), rng.uniform(0, np.pi), rng.uniform(0.7, 1)
    along = (cols - x) * np.cos(turn) + (rows - y) * np.sin(turn)
    beside = (rows - y) * np.cos(turn) - (cols - x) * np.sin(turn)
    return np.clip((radius + soft - np.hypot(along, beside / squeeze)) / (2 * max(soft, 0.3)), 0, 1).astype(np.float32)


def _dust(count: int, size: tuple[int, int], rng: Rng) -> Damage:
    made = _Glass(through=np.ones(size[::-1], np.float32), haze=np.zeros(size[::-1], np.float32))
    for _ in range(int(rng.integers(2, 13))):
        radius = float(np.exp(rng.uniform(np.log(2.5), np.log(26))))
        lost = rng.uniform(0.06, 0.75) * _disc(size, radius, radius * rng.uniform(0.15, 0.8), rng)
        made.through *= 1 - lost.astype(np.float32)
        if (lost > 0.02).any():
            made.things.append(Thing("dust", 0, count, lost > 0.02))
    return made


def _wandering(place: Array, steps: int, step: float, bend: float, rng: Rng) -> Array:
    """Points of a line that wanders: (points, 2)."""
    turns = rng.uniform(0, 2 * np.pi) + np.cumsum(rng.normal(0, bend, steps))
    return place + np.concatenate([np.zeros((1, 2)), np.cumsum(step * np.stack([np.cos(turns), np.sin(turns)], 1), 0)])


def hair(size: tuple[int, int], rng: Rng, wide: tuple[int, int] = (2, 4), deepest: tuple[float, float] = (0.85, 0.99)) -> Array:
    """The share of the light that a hair takes: (height, width), 0 to 1; its width in pixels and most of its share are drawn between two bounds."""
    width, height = size
    start = np.array([rng.uniform(30, width - 30), rng.uniform(25, height - 25)])
    line = np.zeros((height, width), np.float32)
    points = np.round(16 * _wandering(start, int(rng.integers(8, 22)), 5.0, 0.35, rng)).astype(np.int32)
    cv2.polylines(line, [points], False, 1.0, int(rng.integers(wide[0], wide[1] + 1)), cv2.LINE_AA, 4)
    return np.asarray(np.clip(cv2.GaussianBlur(line, (0, 0), rng.uniform(0.6, 1.6)) * 1.1, 0, rng.uniform(*deepest)), np.float32)


def _hairs(count: int, size: tuple[int, int], rng: Rng) -> Damage:
    width, height = size
    made = _Glass(through=np.ones((height, width), np.float32), haze=np.zeros((height, width), np.float32))
    for _ in range(int(rng.integers(1, 4))):
        lost = hair(size, rng)
        made.through *= 1 - lost
        if (lost > 0.03).any():
            made.things.append(Thing("hairs", 0, count, lost > 0.03))
    made.haze = (1 - made.through) * np.float32(0.01)
    return made


def _veil(count: int, size: tuple[int, int], rng: Rng) -> Damage:
    cover = np.zeros(size[::-1], np.float32)
    things = []
    for _ in range(int(rng.integers(1, 5))):
        radius = rng.uniform(18, 70)
        one = _disc(size, radius, radius * rng.uniform(0.3, 0.7), rng) * np.float32(rng.uniform(0.12, 0.45))
        cover = np.maximum(cover, one)
        if (one > 0.01).any():
            things.append(Thing("veil", 0, count, one > 0.01))
    return _Glass(things, through=1 - cover, haze=cover * np.float32(rng.uniform(0.15, 0.5)))


# -- sensor -------------------------------------------------------------------------------------------------------


@dataclass(frozen=True)
class _Site:
    row: int
    col: int
    size: int
    kind: str
    level: float
    share: float


@dataclass
class _Sites(Damage):
    """Sites of the sensor that tell the same whatever they see, or too much; some not in every frame."""

    sites: list[_Site] = field(default_factory=list)

    def read(self, n: int, mosaic: Array, rng: Rng) -> Array:
        told = mosaic.copy()
        for site in self.sites:
            if site.share < 1 and rng.random() > site.share:
                continue
            place = np.s_[site.row : site.row + site.size, site.col : site.col + site.size]
            told[place] = told[place] + site.level if site.kind == "hot" else site.level
        return told


def _pixels(count: int, size: tuple[int, int], rng: Rng) -> Damage:
    made = _Sites()
    width, height = size
    for _ in range(int(rng.integers(3, 22))):
        kind = str(rng.choice(["stuck", "stuck", "dead", "hot", "hot", "held"]))
        level = {
            "stuck": 1.0,
            "dead": 0.0,
            "hot": float(np.exp(rng.uniform(np.log(0.02), np.log(0.5)))),
            "held": float(rng.uniform(0.1, 0.9)),
        }[kind]
        row, col, wide = int(rng.integers(2, height - 3)), int(rng.integers(2, width - 3)), int(rng.choice([1, 1, 1, 2]))
        made.sites.append(_Site(row, col, wide, kind, level, float(rng.choice([1, 1, 1, 0.85]))))
        mask = np.zeros((height, width), bool)
        mask[max(0, row - 1) : row + wide + 1, max(0, col - 1) : col + wide + 1] = True
        made.things.append(Thing("pixels", 0, count, mask))
    return made


# -- film ---------------------------------------------------------------------------------------------------------


@dataclass
class _Printed(Damage):
    """What lies on single frames of the film, or is cut into it: lines add something, to what is kept of the picture."""

    lays: dict[int, list[tuple[Array, Array]]] = field(default_factory=dict)
    lines: Array | None = None
    kept: Array | None = None

    def lay(self, kind: str, n: int, cover: Array, level: float | Sequence[float]) -> None:
        """Lay something over a frame: its cover, 0 to 1, and its level in codes."""
        if (cover > 0.03).any():
            self.lays.setdefault(n, []).append((cover[..., None], np.asarray(level, np.float32)))
            self.things.append(Thing(kind, n, n + 1, cover > 0.03))

    def printed(self, n: int, picture: Array) -> Array:
        if self.lines is not None and self.kept is not None:
            picture = np.clip(picture * self.kept[n][..., None] + self.lines[n][..., None], 0, 255)
        for cover, level in self.lays.get(n, []):
            picture = picture * (1 - cover) + level * cover
        return picture


def _dirt(count: int, size: tuple[int, int], rng: Rng) -> Damage:
    made = _Printed()
    width, height = size
    per_frame, dark = np.exp(rng.uniform(np.log(0.3), np.log(14))), rng.uniform(0.2, 0.8)
    for n in range(count):
        for _ in range(int(rng.poisson(per_frame))):
            cover = np.zeros((height, width), np.float32)
            place = np.array([rng.uniform(3, width - 3), rng.uniform(3, height - 3)])
            if rng.random() < 0.25:
                points = _wandering(place, int(rng.integers(4, 12)), 4.0, 0.5, rng)
                cv2.polylines(cover, [np.round(16 * points).astype(np.int32)], False, 1.0, 1, cv2.LINE_AA, 4)
            else:
                turns = np.sort(rng.uniform(0, 2 * np.pi, int(rng.integers(5, 10))))
                radius = np.exp(rng.uniform(0, np.log(11))) * rng.uniform(0.6, 1.3, len(turns))
                points = place + radius[:, None] * np.stack([np.cos(turns), np.sin(turns)], 1)
                cv2.fillPoly(cover, [np.round(16 * points).astype(np.int32)], 1.0, cv2.LINE_AA, 4)
            cover = cv2.GaussianBlur(cover, (0, 0), rng.uniform(0.4, 1.3)) * np.float32(rng.uniform(0.45, 1))
            level = (12.0 if rng.random() < dark else 240.0) + rng.normal(0, 6)
            # Some stick to the next frame, too.
            for k in range(n, min(count, n + (2 if rng.random() < 0.06 else 1))):
                made.lay("dirt", k, cover, level)
    return made


# How many scratches lie in the emulsion, and are broken.
_EMULSION, _BROKEN = 0.4, 0.25


def _scratches(count: int, size: tuple[int, int], rng: Rng) -> Damage:
    width, height = size
    made = _Printed(lines=np.zeros((count, height, width), np.float32), kept=np.ones((count, height, width), np.float32))
    assert made.lines is not None and made.kept is not None
    rows, cols = np.arange(height), np.arange(width)
    for _ in range(int(rng.integers(1, 6))):
        first, stop = (0, count) if rng.random() < 0.6 else np.sort(rng.integers(0, count, 2)).tolist()
        top, bottom = (0, height) if rng.random() < 0.7 else np.sort(rng.integers(0, height, 2)).tolist()
        stop, bottom = min(count, max(stop, first + 8)), max(bottom, top + height // 3)
        x, depth, wide = rng.uniform(0.05, 0.95) * width, rng.choice([-1, 1]) * rng.uniform(18, 85), rng.uniform(0.5, 2.0)
        wander, slant, uneven = rng.choice([0, 0.3, 0.8]), rng.normal(0, rng.choice([0.01, 0.01, 0.03])), rng.uniform(0, 0.3)
        # A groove in the base bends the light by as much wherever it lies; one in the emulsion hides the picture, and is seldom quite straight.
        hides = rng.uniform(0.25, 0.95) if rng.random() < _EMULSION else 0.0
        bow = rng.uniform(-1, 1) * np.sin(np.pi * rows / height) if hides else 0 * rows
        level = 238.0 if depth > 0 else 14.0
        # Some are broken, with gaps that run on down the film.
        rough = cv2.GaussianBlur(rng.standard_normal((4096, 1)), (0, 0), 9)[:, 0]
        gaps = rough < np.quantile(rough, rng.uniform(0.15, 0.45)) if rng.random() < _BROKEN else np.zeros(4096, bool)
        mask = np.zeros((count, height, width), bool)
        for n in range(first, stop):
            x += rng.normal(0, wander)
            broken = cv2.GaussianBlur((~gaps[(rows + 37 * (n - first)) % 4096]).astype(np.float64)[:, None], (0, 0), 2)[:, 0]
            on = broken * ((rows >= top) & (rows < bottom)) * (1 - uneven + uneven * np.sin(rows / 37 + n))
            line = np.exp(-0.5 * ((cols[None] - (x + bow + slant * rows)[:, None]) / wide) ** 2) * on[:, None]
            share = np.float32(hides) * line.astype(np.float32)
            made.kept[n] *= 1 - share
            made.lines[n] = made.lines[n] * (1 - share) + (
                share * np.float32(level) if hides else np.float32(depth) * line.astype(np.float32)
            )
            mask[n] = line > 0.08
        if mask.any():
            made.things.append(Thing("scratches", 0, count, mask))
    return made


def _cues(count: int, size: tuple[int, int], rng: Rng) -> Damage:
    """One mark in an upper corner for three to five frames; the clips are too short for a pair."""
    made = _Printed()
    width, height = size
    first, stays = int(rng.integers(3, max(4, count - 9))), int(rng.choice([3, 4, 4, 4, 5]))
    x, y = width * (0.9 + rng.uniform(-0.04, 0.04)), height * (0.09 + rng.uniform(-0.03, 0.05))
    long, thick = 0.016 * width * rng.uniform(0.7, 1.2), 0.03 * height * rng.uniform(0.7, 1.2)
    level: list[float] = [[14, 14, 14], [242, 240, 236], [60, 150, 70], [225, 225, 225]][kind := int(rng.integers(4))]
    cover = np.zeros((height, width), np.float32)
    cv2.ellipse(
        cover, (round(16 * x), round(16 * y)), (round(16 * long), round(16 * thick)), 0, 0, 360, 1.0, -1 if kind < 3 else 2, cv2.LINE_AA, 4
    )
    cover = cv2.GaussianBlur(cover, (0, 0), rng.uniform(0.6, 1.4)) * np.float32(rng.uniform(0.8, 1))
    for n in range(first, min(count - 1, first + stays)):
        made.lay("cues", n, cover, level)
    return made


KINDS = {
    "light-whole": _whole,
    "light-bands": _bands,
    "light-onoff": _on_off,
    "light-jumps": _jumps,
    "light-patches": _patches,
    "dust": _dust,
    "hairs": _hairs,
    "veil": _veil,
    "pixels": _pixels,
    "dirt": _dirt,
    "scratches": _scratches,
    "cues": _cues,
    "birds": _birds,
}


# -- the camera ---------------------------------------------------------------------------------------------------

# Which of red, green and blue a site of the sensor sees.
_MOSAIC = np.array([[0, 1], [1, 2]])
_SHOT, _READ = 0.012, 0.0009


@dataclass(frozen=True)
class Taken:
    """A clip as the camera wrote it, with the defects and without.

    Attributes
    ----------
    clean, dirty : ndarray, float32, (frames, height, width, 3)
        Red, green and blue in 8-bit codes.
    things : list of Thing
    flickers : bool
        Whether its light does.
    noise : float
        Times the usual noise of a sensor; 0 for none.
    """

    clean: Array
    dirty: Array
    things: list[Thing]
    flickers: bool
    noise: float


def taken(light: Array, kinds: Sequence[str], rng: Rng) -> Taken:
    """Take a scene with a camera, spoiled in some ways, and once more without.

    Parameters
    ----------
    light : ndarray, float32, (frames, height, width, 3)
        Linear, 0 to 1.
    kinds : sequence of str
        Of `KINDS`.
    """
    count, height, width, _ = light.shape
    damages = [KINDS[kind](count, (width, height), rng) for kind in kinds]
    sensor = "pixels" in kinds or rng.random() < 0.5
    noise = float(rng.choice([0, 0.5, 1, 2.5])) if sensor else 0.0
    seen = np.tile(_MOSAIC, (height // 2 + 1, width // 2 + 1))[:height, :width, None]
    clean, dirty = np.empty_like(light), np.empty_like(light)
    for n in range(count):
        grain = rng.normal(0, 1, (2, height, width)).astype(np.float32)
        for made, laid in ((clean, []), (dirty, damages)):
            here = light[n]
            for damage in laid:
                here = damage.lit(n, here)
            for damage in laid:
                here = damage.passed(n, here)
            if sensor:
                mosaic = np.take_along_axis(np.clip(here, 0, 1), seen, 2)[..., 0]
                mosaic = mosaic + np.float32(noise) * (np.sqrt(mosaic) * _SHOT * grain[0] + _READ * grain[1])
                for damage in laid:
                    mosaic = damage.read(n, mosaic, rng)
                raw = (shown(mosaic) * 257).astype(np.uint16)
                picture = cv2.cvtColor(raw, cv2.COLOR_BayerBG2RGB).astype(np.float32) / 257
            else:
                picture = shown(here)
            for damage in laid:
                picture = damage.printed(n, picture)
            made[n] = picture
    things = [thing for damage in damages for thing in damage.things]
    return Taken(clean, np.clip(dirty, 0, 255), things, any(d.flickers for d in damages), noise)
