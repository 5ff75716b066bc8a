"""How many stuck pixels are found, how many sound ones are taken for stuck, and how well they are mended."""

from __future__ import annotations

from pathlib import Path

import cv2
import numpy as np
from numpy.typing import NDArray

from benchmarks.material import MemorySource, Planes, clip, compressed, noisy, psnr, still
from nimbus_sweep.core.defects.stuck_pixels.detect import StuckPixel, find
from nimbus_sweep.core.defects.stuck_pixels.repair import PixelMendSettings, Site, analyse
from nimbus_sweep.core.evidence.time_volume import TimeVolume, build_volume
from nimbus_sweep.demo.defects import StuckSite, scatter, stick
from nimbus_sweep.demo.reels import REELS, clean_frames, sites_of

Masks = tuple[NDArray[np.bool_], ...]
MOVING = ("bunny", "bikes-2", "bikes-3", "bunny-near")
STILL = ("bunny-near", "bikes-2")
SEEDS = (1, 2, 3)
HEAD = f"{'clip':<24}{'found':>9}{'false':>7}{'mended':>9}{'Telea':>8}{'NS':>7}{'outside':>9}"


def clips(folder: Path) -> None:
    """Open clips with stuck pixels put in: plain, with noise of 2.5 codes over them, and through H.264 at crf 16."""
    print("\nStuck pixels put into open clips (PSNR in dB inside the blobs; Telea, NS: OpenCV in-painting given the true mask)")
    print(HEAD)
    for name in (*MOVING, "bikes-1", "carphone"):
        _row(f"{name}, clean", folder, clip(name), [], list(clip(name).pictures), list(clip(name).pictures), None)
    for name in STILL:
        held = still(clip(name))
        _row(f"{name} held, clean", folder, held, [], list(held.pictures), list(held.pictures), None)
    for held, names in ((False, MOVING), (True, STILL)):
        for name in names:
            source = still(clip(name)) if held else clip(name)
            for seed in SEEDS:
                truth = list(source.pictures)
                sites = scatter(truth, 14, seed, margin=8)
                spoiled, masks = stick(truth, sites)
                label = f"{name}{' held' if held else ''} {seed}"
                _row(label, folder, source, sites, truth, spoiled, masks)
                _row(f"{label} noise", folder, source, sites, noisy(truth, 2.5, seed), noisy(spoiled, 2.5, seed), masks)
                _row(f"{label} H.264", folder, source, sites, truth, compressed(source, spoiled), masks)


def demo(folder: Path) -> None:
    """The demo's reels against their truth, before the file's own compression."""
    print("\nDemo reels against their truth")
    print(HEAD)
    for reel in REELS:
        truth = list(clean_frames(reel))
        sites = sites_of(reel, truth)
        spoiled, masks = stick(truth, sites)
        source = clip("bunny").over(truth)
        _row(reel.title[:23], folder, source, sites, truth, spoiled, masks)


def _row(
    label: str, folder: Path, source: MemorySource, sites: list[StuckSite], truth: list[Planes], spoiled: list[Planes], masks: Masks | None
) -> None:
    dirty = source.over(spoiled)
    volume = build_volume(folder / "volume.bin", dirty)
    sure = [s for s in find(volume).found if s.confidence >= 0.5]
    hit, false = _score(sure, sites)
    if masks is None:
        print(f"{label:<24}{'':>9}{false:>7}", flush=True)
        return
    mended, outside = _mended(volume, dirty, sites)
    ours = psnr(truth, mended, masks)
    telea, stokes = (psnr(truth[::4], _inpainted(spoiled[::4], masks, way), masks) for way in (cv2.INPAINT_TELEA, cv2.INPAINT_NS))
    print(f"{label:<24}{f'{hit}/{len(sites)}':>9}{false:>7}{ours:>9.1f}{telea:>8.1f}{stokes:>7.1f}{outside:>9}", flush=True)


def _score(sure: list[StuckPixel], sites: list[StuckSite]) -> tuple[int, int]:
    hit = sum(any(abs(f.x - s.x) <= 2 and abs(f.y - s.y) <= 2 for f in sure) for s in sites)
    return hit, sum(not any(abs(f.x - s.x) <= 3 and abs(f.y - s.y) <= 3 for s in sites) for f in sure)


def _mended(volume: TimeVolume, dirty: MemorySource, sites: list[StuckSite]) -> tuple[list[Planes], int]:
    """The mended frames, and how many samples changed outside the blobs the plan names."""
    named = tuple(Site(x=s.x, y=s.y, width=s.size, height=s.size) for s in sites)
    plan = analyse(volume, PixelMendSettings(sites=named))
    mended = [tuple(f.planes) for f in plan.apply(dirty, 0, len(dirty)).frames(0, len(dirty))]
    outside = 0
    for before, after in zip(dirty.pictures, mended, strict=True):
        for a, b, places in zip(before, after, plan.touched(), strict=True):
            differs = (a != b).ravel()
            differs[places] = False
            outside += int(differs.sum())
    return mended, outside  # type: ignore[return-value]


def _inpainted(pictures: list[Planes], masks: Masks, way: int) -> list[Planes]:
    return [tuple(cv2.inpaint(p, m.astype(np.uint8), 3, way) for p, m in zip(planes, masks, strict=True)) for planes in pictures]
