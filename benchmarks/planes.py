"""Planar tracks: synthetic moves of photographs, closure on real clips, speed."""

from __future__ import annotations

import time
from collections.abc import Callable

import cv2
import numpy as np
import skimage.data
from numpy.typing import NDArray

from benchmarks.material import clip
from nimbus_sweep.core.base.errors import SweepError
from nimbus_sweep.core.imaging.motion import Plane
from nimbus_sweep.core.imaging.planar_tracking import PlanarTracker
from nimbus_sweep.core.model.planes import Model, State, box_corners, from_corners, moved
from nimbus_sweep.core.model.regions import Region, box_region

Matrix = NDArray[np.float64]
PHOTOS = ("astronaut", "coffee", "chelsea", "rocket", "camera", "brick")
SEEDS = (1, 2)


def photo(name: str, size: tuple[int, int]) -> Plane:
    """A photograph of scikit-image as luma, at a size."""
    picture = np.asarray(getattr(skimage.data, name)())
    if picture.ndim == 3:
        picture = cv2.cvtColor(picture[..., :3], cv2.COLOR_RGB2GRAY)
    return cv2.resize(picture, size, interpolation=cv2.INTER_AREA).astype(np.float32)


def moves(box: tuple[float, float, float, float], frames: int, seed: int, reach: float = 1.0) -> list[Matrix]:
    """Smooth perspective moves of a rectangle, its size from 0.7 to 1.4 times, beginning as it is."""
    rng = np.random.default_rng(seed)
    left, top, width, height = box
    corners = np.array([[left, top], [left + width, top], [left + width, top + height], [left, top + height]])
    centre = corners.mean(0)
    phase = rng.uniform(0, 2 * np.pi, 6)
    found = []
    tilt = rng.uniform(-0.08, 0.08, (4, 2)) * width * reach
    for n in range(frames):
        t = n / max(1, frames - 1)
        scale = np.exp(0.337 * np.sin(2 * np.pi * t) * (1 if seed % 2 else -1) * reach)
        turn = 0.25 * reach * (np.sin(2 * np.pi * 0.8 * t + phase[0]) - np.sin(phase[0]))
        shift = reach * np.array(
            [0.25 * width * (np.sin(2 * np.pi * 1.1 * t + phase[1]) - np.sin(phase[1])),
             0.2 * height * (np.sin(2 * np.pi * 0.9 * t + phase[2]) - np.sin(phase[2]))]
        )  # fmt: skip
        c, s = scale * np.cos(turn), scale * np.sin(turn)
        there = (corners - centre) @ np.array([[c, s], [-s, c]]) + centre + shift + tilt * np.sin(2 * np.pi * 1.3 * t)
        found.append(from_corners(corners, there))
    return found


def filmed(
    name: str,
    frames: int = 120,
    seed: int = 1,
    size: tuple[int, int] = (640, 480),
    box: tuple[float, float, float, float] = (220.0, 140.0, 200.0, 200.0),
    blur: bool = True,
    covered: float = 0.0,
    light: bool = True,
    noise: float = 1.0,
) -> tuple[list[Plane], list[Matrix], list[Plane | None]]:
    """A photograph's plane on the move, what moves it, and what is held out: frames are means over an open shutter."""
    width, height = size
    # Drawn larger, so that moves never show its edge.
    whole = photo(name, (width, height))
    ways = moves(box, frames, seed)
    rng = np.random.default_rng(seed)
    pictures, held = [], []
    for n, way in enumerate(ways):
        after = ways[min(n + 1, frames - 1)]
        corners = np.array([[0, 0], [width, 0], [width, height], [0, height]], np.float64)
        one, other = moved(corners, way), moved(corners, after)
        parts = []
        for share in np.linspace(-0.25, 0.25, 5) if blur else [0.0]:
            there = from_corners(corners, one + share * (other - one))
            parts.append(cv2.warpPerspective(whole, there, size, flags=cv2.INTER_CUBIC, borderMode=cv2.BORDER_REFLECT_101))
        picture = np.mean(parts, 0)
        mask = None
        if covered:
            mask = np.zeros((height, width), np.float32)
            place = moved(np.array([[box[0] + box[2] * (0.5 + 0.4 * np.sin(n / 9)), box[1] + box[3] / 2]]), way)[0]
            scale = np.sqrt(covered) * box[2]
            x0, y0 = int(place[0] - scale / 2), int(place[1] - scale / 2)
            rows, cols = slice(max(0, y0), max(0, int(y0 + scale))), slice(max(0, x0), max(0, int(x0 + scale)))
            thing = photo("coins", (width, height))
            picture = picture.copy()
            picture[rows, cols] = thing[rows, cols]
            mask[rows, cols] = 1
            mask = cv2.dilate(mask, np.ones((5, 5), np.uint8))
        if light:
            picture = picture * (1 + 0.15 * np.sin(n / 5))
        pictures.append(np.clip(np.rint(picture + rng.normal(0, noise, picture.shape)), 0, 255).astype(np.float32))
        held.append(mask)
    return pictures, ways, held


def corner_errors(followed: NDArray[np.float64], truth: list[Matrix], box: tuple[float, float, float, float]) -> NDArray[np.float64]:
    """Distance of each corner from where it is: (frames, 4), in pixels."""
    left, top, width, height = box
    corners = np.array([[left, top], [left + width, top], [left + width, top + height], [left, top + height]])
    return np.array([np.hypot(*(moved(corners, a) - moved(corners, b)).T) for a, b in zip(followed, truth, strict=True)])


def run(say: Callable[[str], None] = print, frames: int = 120) -> None:
    """Print the tables."""
    box = (220.0, 140.0, 200.0, 200.0)
    say("photograph, seed: corner error in px, median and 95th percentile (held, weak, bridged); 120 frames, perspective")
    for name in PHOTOS:
        for seed in SEEDS:
            for what, options in (("plain", {}), ("covered 20 %", {"covered": 0.2}), ("dark, noisy", {"noise": 4.0})):
                pictures, ways, held = filmed(name, frames, seed, **options)  # type: ignore[arg-type]
                began = time.perf_counter()
                try:
                    followed = PlanarTracker(pictures.__getitem__, box_region(*box), "perspective", held.__getitem__).follow(range(frames))
                except SweepError as error:
                    say(f"{name:10} {seed} {what:13} {error}")
                    continue
                spent = time.perf_counter() - began
                off = corner_errors(followed.matrices, ways, box)
                counts = np.bincount(followed.states, minlength=4)
                say(
                    f"{name:10} {seed} {what:13} {np.median(off):6.3f} {np.percentile(off, 95):6.3f} worst {off.max():6.2f}"
                    f"   {counts[:3]}  {len(pictures) / spent:5.1f} fr/s"
                )
    closure(say)
    speed(say)


def closure(say: Callable[[str], None]) -> None:
    """Forwards to the end, and back from there."""
    say("real clips: there and back again, in px")
    models: tuple[Model, ...] = ("similarity", "affine", "perspective")
    for name, where in (
        ("bunny", (300.0, 200.0, 200.0, 160.0)),
        ("bunny-near", (200.0, 100.0, 160.0, 140.0)),
        ("bikes-1", (60.0, 40.0, 140.0, 90.0)),
        ("bikes-2", (420.0, 40.0, 140.0, 90.0)),
        ("bikes-3", (240.0, 40.0, 140.0, 90.0)),
        ("carphone", (70.0, 30.0, 50.0, 60.0)),
    ):
        lights = [np.asarray(p[0], np.float32) for p in clip(name).pictures]
        for model in models:
            region: Region = box_region(*where)
            try:
                there = PlanarTracker(lights.__getitem__, region, model).follow(range(len(lights)))
                ends = np.flatnonzero(np.cumsum(there.states != State.HELD) == 0)
                last = int(ends[-1])
                corners = box_corners(region.mask(lights[0].shape))
                back = PlanarTracker(lights.__getitem__, region, model).follow(range(last, -1, -1), there.matrices[last])
            except SweepError as error:
                say(f"{name:10} {model:11} {error}")
                continue
            gap = np.hypot(*(moved(corners, back.matrices[0]) - corners).T)
            counts = np.bincount(there.states, minlength=4)
            say(f"{name:10} {model:11} {gap.mean():6.3f} worst {gap.max():6.3f} over {last + 1} of {len(lights)}  {counts}")


def speed(say: Callable[[str], None]) -> None:
    """Frames a second for a region of 400 pixels at 1080p."""
    box = (700.0, 340.0, 400.0, 400.0)
    pictures, ways, _ = filmed("astronaut", 40, 1, (1920, 1080), box, blur=False, noise=1.0)
    began = time.perf_counter()
    followed = PlanarTracker(pictures.__getitem__, box_region(*box), "perspective").follow(range(len(pictures)))
    spent = time.perf_counter() - began
    off = corner_errors(followed.matrices, ways, box)
    say(f"400 px at 1080p: {len(pictures) / spent:.1f} frames/s, error {np.median(off):.3f}")


if __name__ == "__main__":
    run()
