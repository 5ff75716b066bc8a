"""How much static shade is found, how much sound picture is taken for it, and how well it is taken off."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

import cv2
import numpy as np
from numpy.typing import NDArray

from benchmarks.material import MemorySource, Planes, clip, compressed, noisy, panned, still
from nimbus_sweep.core.defects.static_shade.detect import find
from nimbus_sweep.core.defects.static_shade.marks import ShadeMark, as_finding
from nimbus_sweep.core.defects.static_shade.repair import analyse, resolve
from nimbus_sweep.core.defects.static_shade.shade_plan import ShadePlan, UnshadeSettings
from nimbus_sweep.core.evidence.time_volume import build_volume
from nimbus_sweep.demo.shade import DrawnMark as PutOn
from nimbus_sweep.demo.shade import shade, sprinkle

CLIPS = ("pan coffee", "pan chelsea", "pan astronaut", "pan rocket", "bikes-2", "bikes-3", "bunny")
CLEAN = (*CLIPS, "bikes-1", "bunny-near", "carphone", "held bikes-2")
HEAD = f"{'clip':<22}{'marks':<8}{'found':>7}{'false':>7}{'dB':>7}{'least':>7}{'NS':>7}{'Telea':>7}{'outside':>9}{'breath':>8}{'worse':>7}"


def source_of(name: str) -> MemorySource:
    """A clip by its name in the tables."""
    kind, _, rest = name.partition(" ")
    if kind == "pan":
        return panned(rest, seed=len(rest))
    return still(clip(rest)) if kind == "held" else clip(name)


def clean(folder: Path) -> None:
    """Sound clips: nothing may be found."""
    print("\nStatic shade on sound clips")
    for name in CLEAN:
        source = source_of(name)
        sure = [m for m in find(build_volume(folder / "volume.bin", source)).marks if m.confidence >= 0.5]
        print(f"{name:<22}false {len(sure)}", flush=True)


def marks(folder: Path, names: Sequence[str] = CLIPS, seeds: Sequence[int] = (1, 2)) -> None:
    """Marks laid over open clips and moved photographs: plain, under noise of 2.5 codes, and through H.264 at crf 16."""
    print("\nStatic shade laid over clips (PSNR in dB of all planes inside marks; NS, Telea: OpenCV in-painting given the true mask)")
    print(HEAD)
    for name in names:
        source = source_of(name)
        shape = source.pictures[0][0].shape
        large = 28.0 if shape[0] > 500 else 16.0
        for seed in seeds:
            for kind, put in (
                ("dust", sprinkle(shape, 9, seed, largest=large)),
                ("hairs", sprinkle(shape, 0, seed + 20, hairs=2)),
                ("veils", sprinkle(shape, 0, seed + 40, veils=1)),
            ):
                truth = list(source.pictures)
                spoiled, masks = shade(truth, put)
                _row(f"{name} {seed}", kind, folder, source, put, truth, spoiled, masks)
                if kind == "dust":
                    _row(f"{name} {seed} noise", kind, folder, source, put, truth, noisy(spoiled, 2.5, seed), masks)
                    _row(f"{name} {seed} H.264", kind, folder, source, put, truth, compressed(source, spoiled), masks)


def _row(
    label: str,
    kind: str,
    folder: Path,
    source: MemorySource,
    put: list[PutOn],
    truth: list[Planes],
    spoiled: list[Planes],
    masks: tuple[NDArray[np.bool_], ...],
) -> None:
    dirty = source.over(spoiled)
    volume = build_volume(folder / "volume.bin", dirty)
    found = [m for m in find(volume).marks if m.confidence >= 0.5]
    shares = [m.share(truth[0][0].shape) for m in put]
    hit = {n for n, share in enumerate(shares) if any(_over(f, share) for f in found)}
    false = sum(not any(_over(f, share) for share in shares) for f in found)
    plan: ShadePlan = analyse(volume, resolve(UnshadeSettings(), [as_finding(m, 0, len(truth)) for m in found]))
    mended = [tuple(f.planes) for f in plan.apply(dirty, 0, len(dirty)).frames(0, len(dirty))]
    outside = np.mean(
        [np.mean((a != b)[~m]) for one, other in zip(spoiled, mended, strict=True) for a, b, m in zip(one, other, masks, strict=True)]
    )
    ours, least, worse = [], np.inf, 0
    stokes, telea = [], []
    breath = []
    for n in sorted(hit):
        own = tuple(cv2.resize((shares[n] > 1e-3).astype(np.uint8), p.shape[::-1], interpolation=cv2.INTER_AREA) > 0 for p in truth[0])
        own = tuple(o & m for o, m in zip(own, masks, strict=True))
        value = _decibels(truth, mended, own)
        ours.append(value)
        least = min(least, value)
        worse += value < _decibels(truth, spoiled, own)
        stokes.append(_decibels(truth[::6], _inpainted(spoiled[::6], masks, own, cv2.INPAINT_NS), own))
        telea.append(_decibels(truth[::6], _inpainted(spoiled[::6], masks, own, cv2.INPAINT_TELEA), own))
        breath.append(_breath(truth, mended, own[0]))
    if not hit:
        print(f"{label:<22}{kind:<8}{f'0/{len(put)}':>7}{false:>7}", flush=True)
        return
    print(
        f"{label:<22}{kind:<8}{f'{len(hit)}/{len(put)}':>7}{false:>7}{np.mean(ours):>7.1f}{least:>7.1f}{np.mean(stokes):>7.1f}"
        f"{np.mean(telea):>7.1f}{100 * outside:>8.3f}%{np.mean(breath):>8.2f}{worse:>7}",
        flush=True,
    )


def _over(found: ShadeMark, share: NDArray[np.float32]) -> bool:
    return bool((share[max(0, found.y) : found.y + found.height, max(0, found.x) : found.x + found.width] > 0.02).any())


def _decibels(truth: Sequence[Planes], other: Sequence[Planes], masks: tuple[NDArray[np.bool_], ...]) -> float:
    error = sum(
        float(((a[m].astype(np.float64) - b[m]) ** 2).sum())
        for x, y in zip(truth, other, strict=True)
        for a, b, m in zip(x, y, masks, strict=True)
    )
    return float(10 * np.log10(255**2 / max(error / max(1, len(truth) * sum(int(m.sum()) for m in masks)), 1e-9)))


def _breath(truth: Sequence[Planes], mended: Sequence[Planes], mask: NDArray[np.bool_]) -> float:
    """Change from frame to frame inside a mark, over that of the truth there."""
    one, other = (np.stack([p[0][mask] for p in pictures]).astype(np.float64) for pictures in (truth, mended))
    return float(np.std(np.diff(other, axis=0)) / max(float(np.std(np.diff(one, axis=0))), 1e-6))


def _inpainted(
    pictures: Sequence[Planes], masks: tuple[NDArray[np.bool_], ...], own: tuple[NDArray[np.bool_], ...], way: int
) -> list[Planes]:
    made = []
    for planes in pictures:
        filled = []
        for plane, mask, here in zip(planes, masks, own, strict=True):
            rows, cols = np.nonzero(here)
            if not len(rows):
                filled.append(plane)
                continue
            box = np.s_[max(0, rows.min() - 16) : rows.max() + 17, max(0, cols.min() - 16) : cols.max() + 17]
            whole = plane.copy()
            whole[box] = cv2.inpaint(np.ascontiguousarray(plane[box]), np.ascontiguousarray(mask[box]).astype(np.uint8), 3, way)
            filled.append(whole)
        made.append(tuple(filled))
    return made
