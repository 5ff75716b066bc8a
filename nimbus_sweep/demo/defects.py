"""Puts capture defects into sound frames and keeps the truth: for the demo, the tests and the benchmarks."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

Planes = tuple[NDArray[np.uint8], ...]

COLOURS = {"red": (255, 0, 0), "green": (0, 255, 0), "blue": (0, 0, 255), "white": (255, 255, 255), "black": (0, 0, 0)}
_KR, _KB = 0.2126, 0.0722
# What demosaicing makes of one site: bilinear interpolation of a red or blue site, of a green site,
# and an edge-aware one, which spreads little (common practice, no source).
_SPREADS = {
    "sharp": np.array([[0, 0, 0], [0, 1, 0], [0, 0, 0]], float),
    "mild": np.array([[0.02, 0.14, 0.02], [0.14, 1, 0.14], [0.02, 0.14, 0.02]]),
    "mosaic": np.array([[0.25, 0.5, 0.25], [0.5, 1, 0.5], [0.25, 0.5, 0.25]]),
    "mosaic-green": np.array([[0, 0.25, 0], [0.25, 1, 0.25], [0, 0.25, 0]]),
}


@dataclass(frozen=True)
class StuckSite:
    """One stuck pixel, or group of `size` by `size`, at its left upper pixel.

    `spread` is ``sharp``, ``mild`` or ``mosaic``; the last holds one colour channel at its top and leaves the others.
    """

    x: int
    y: int
    size: int
    colour: str
    spread: str


def ycbcr_to_rgb(y: NDArray[Any], cb: NDArray[Any], cr: NDArray[Any]) -> NDArray[Any]:
    """Limited-range BT.709 Y'CbCr codes to R'G'B' of 0 to 255, along the last axis."""
    luma, blue, red = (y - 16) * 255 / 219, (cb - 128) * 255 / 224, (cr - 128) * 255 / 224
    r = luma + 2 * (1 - _KR) * red
    b = luma + 2 * (1 - _KB) * blue
    return np.stack([r, (luma - _KR * r - _KB * b) / (1 - _KR - _KB), b], -1)


def rgb_to_ycbcr(rgb: NDArray[np.float64]) -> tuple[NDArray[np.float64], NDArray[np.float64], NDArray[np.float64]]:
    """R'G'B' of 0 to 255 to limited-range BT.709 Y'CbCr codes."""
    r, g, b = rgb[..., 0], rgb[..., 1], rgb[..., 2]
    y = _KR * r + (1 - _KR - _KB) * g + _KB * b
    return y * 219 / 255 + 16, (b - y) / (2 * (1 - _KB)) * 224 / 255 + 128, (r - y) / (2 * (1 - _KR)) * 224 / 255 + 128


def _coverage(site: StuckSite, x0: int, y0: int) -> NDArray[np.float64]:
    """How much of each pixel of the 8 x 8 window, in each channel, the site takes over."""
    name = site.spread
    channels = [0, 1, 2]
    if name == "mosaic" and site.colour in ("red", "green", "blue"):
        channels = [("red", "green", "blue").index(site.colour)]
        name = "mosaic-green" if site.colour == "green" else name
    elif name == "mosaic":
        name = "mild"
    kernel = _SPREADS[name]
    cover = np.zeros((8, 8, 3))
    for dy in range(site.size):
        for dx in range(site.size):
            top, left = site.y - y0 + dy - 1, site.x - x0 + dx - 1
            window = cover[top : top + 3, left : left + 3]
            window[..., channels] = np.maximum(window[..., channels], kernel[..., None])
    return cover


def stick(frames: list[Planes], sites: list[StuckSite]) -> tuple[list[Planes], tuple[NDArray[np.bool_], ...]]:
    """Put stuck pixels into 8-bit 4:2:0 limited-range frames.

    Returns
    -------
    frames : list of tuples of ndarray
        New planes; samples outside the masks are the very same.
    masks : tuple of ndarray, bool
        For each plane, the samples that differ in any frame.
    """
    spoiled = [tuple(p.copy() for p in f) for f in frames]
    masks = tuple(np.zeros(p.shape, bool) for p in frames[0])
    for site in sites:
        x0, y0 = (site.x - 2) // 2 * 2, (site.y - 2) // 2 * 2
        if x0 < 0 or y0 < 0 or x0 + 8 > frames[0][0].shape[1] or y0 + 8 > frames[0][0].shape[0]:
            raise ValueError(f"{site} lies too near the edge")
        cover = _coverage(site, x0, y0)
        full = np.s_[y0 : y0 + 8, x0 : x0 + 8]
        half = np.s_[y0 // 2 : y0 // 2 + 4, x0 // 2 : x0 // 2 + 4]
        held = np.array(COLOURS[site.colour], float)
        if site.spread == "mosaic":
            held = np.where(held > 0, 255.0, held)
        for frame in spoiled:
            y = frame[0][full].astype(float)
            cb, cr = (np.repeat(np.repeat(p[half].astype(float), 2, 0), 2, 1) for p in frame[1:])
            rgb = np.clip(ycbcr_to_rgb(y, cb, cr), 0, 255)
            before, after = rgb_to_ycbcr(rgb), rgb_to_ycbcr(rgb * (1 - cover) + cover * held)
            for p, where in enumerate((full, half, half)):
                change = after[p] - before[p]
                if p:
                    change = change.reshape(4, 2, 4, 2).mean((1, 3))
                old = frame[p][where]
                new = np.where(np.abs(change) >= 0.5, np.clip(np.rint(old + change), 0, 255), old).astype(np.uint8)
                masks[p][where] |= new != old
                frame[p][where] = new
    return spoiled, masks


def scatter(
    frames: list[Planes], count: int, seed: int, margin: int = 10, spreads: tuple[str, ...] = ("sharp", "mild", "mosaic")
) -> list[StuckSite]:
    """Choose places for `count` stuck pixels, colours in turn, apart from each other and visible where they lie."""
    rng = np.random.default_rng(seed)
    height, width = frames[0][0].shape
    sites: list[StuckSite] = []
    names = list(COLOURS)
    while len(sites) < count:
        x, y = int(rng.integers(margin, width - margin)), int(rng.integers(margin, height - margin))
        site = StuckSite(x, y, int(rng.choice([1, 1, 2])), names[len(sites) % 5], str(rng.choice(spreads)))
        if any(abs(x - s.x) < 14 and abs(y - s.y) < 14 for s in sites):
            continue
        if visible(frames, site) >= 25:
            sites.append(site)
    return sites


def visible(frames: list[Planes], site: StuckSite) -> float:
    """Mean distance, in R'G'B' steps, between what the site shows and what lies under it."""
    held = np.array(COLOURS[site.colour], float)
    far = []
    for frame in frames[:: max(1, len(frames) // 12)]:
        point = ycbcr_to_rgb(*(np.array(float(p[site.y // s, site.x // s])) for p, s in zip(frame, (1, 2, 2), strict=True)))
        change = np.abs(held - np.clip(point, 0, 255))
        far.append(change[held > 0].max() if site.spread == "mosaic" and held.any() else change.max())
    return float(np.mean(far))
