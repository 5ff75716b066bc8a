"""How much film wear is taken off, what it costs in sound samples, beside the temporal median and in-painting given the true mask."""

from __future__ import annotations

import time
from collections.abc import Sequence

import cv2
import numpy as np
from numpy.typing import NDArray

from benchmarks.light import source_of
from benchmarks.material import MemorySource, Planes, compressed, noisy
from nimbus_sweep.core.defects.film_dirt.choosing import SpeckSweepSettings
from nimbus_sweep.core.defects.film_dirt.repair import analyse
from nimbus_sweep.core.defects.scratches.detect import ScratchWatch
from nimbus_sweep.core.defects.scratches.repair import LineLiftSettings
from nimbus_sweep.core.defects.scratches.repair import analyse as lift_lines
from nimbus_sweep.core.defects.scratches.repair import resolve as settle_lines
from nimbus_sweep.core.evidence.frames_at_hand import Span
from nimbus_sweep.core.evidence.moments import watched
from nimbus_sweep.demo.dirt import scattered, soiled
from nimbus_sweep.demo.scratches import Scratch, scratched, three

CLIPS = ("bunny-near", "carphone", "bikes-1", "bikes-2", "bikes-3", "pan coffee", "pan chelsea", "pan astronaut", "pan rocket")
FRAMES = 30
# Luma codes by which a sample is visibly damaged, and by which a blob stands out.
_VISIBLE, _STRONG = 10, 30


def swept(source: MemorySource) -> tuple[list[Planes], list[NDArray[np.bool_]], float]:
    """The frames with specks swept off, where luma was rewritten, and frames a second."""
    settings = SpeckSweepSettings()
    start = time.perf_counter()
    plan = analyse(Span.of(source, 0, len(source)), settings).chosen(settings.chosen)
    rate = len(source) / (time.perf_counter() - start)
    touched = plan.touched_in()
    shape = source.pictures[0][0].shape
    masks = [np.zeros(shape, bool) for _ in source.pictures]
    for n, places in touched.items():
        masks[n].ravel()[places[0]] = True
    treated = plan.apply(source, 0, len(source))
    return [tuple(f.planes) for f in treated.frames(0, len(source))], masks, rate


def run(names: Sequence[str] = CLIPS, seeds: Sequence[int] = (1, 2)) -> None:
    """Dirt scattered over open clips and moved photographs, and the same clips without any."""
    print(
        "\nSpecks and hairs, 6 a frame: of visibly damaged samples (10 codes) and of blobs of 30 codes repaired; sound samples altered, all\n"
        "planes; PSNR of luma where it was repaired, over all damage, of the temporal median of three, of in-painting given the mask"
    )
    print(
        f"{'clip':<16}{'kind':<7}{'samples':>9}{'blobs':>10}{'altered':>9}{'inside':>8}{'all':>7}{'median':>8}{'NS':>7}{'source':>8}{'f/s':>6}"
    )
    for name in names:
        whole = source_of(name, 1)
        source = whole.over(list(whole.pictures)[:FRAMES])
        _clean(name, "clean", source)
        for seed in seeds:
            _row(name, f"{seed}", source, list(source.pictures), seed)
            if seed == seeds[0]:
                _row(name, "noise", source, noisy(list(source.pictures), 2.5, seed), seed)
                _compressed(name, source, seed)


def _clean(name: str, kind: str, source: MemorySource) -> None:
    mended, _, rate = swept(source)
    altered = np.mean(
        [np.mean(a != b) for one, other in zip(source.pictures, mended, strict=True) for a, b in zip(one, other, strict=True)]
    )
    print(f"{name:<16}{kind:<7}{'':>9}{'':>10}{100 * altered:>8.4f}%{'':>38}{rate:>6.1f}", flush=True)


def _compressed(name: str, source: MemorySource, seed: int) -> None:
    """Dirt under H.264 at crf 16, as a camera's file would have it: what the compression changed elsewhere is no damage."""
    height, width = source.pictures[0][0].shape
    spoiled = compressed(source, soiled(list(source.pictures), scattered(len(source), (height, width), seed)))
    _row(name, "H.264", source, list(source.pictures), seed, spoiled)


def _row(name: str, kind: str, source: MemorySource, truth: list[Planes], seed: int, spoiled: list[Planes] | None = None) -> None:
    height, width = truth[0][0].shape
    put = soiled(truth, scattered(len(truth), (height, width), seed))
    dirty = put if spoiled is None else spoiled
    mended, masks, rate = swept(source.over(dirty))
    sound = altered = visible = repaired = strong = met = 0
    errors: dict[str, list[float]] = {"inside": [], "all": [], "median": [], "stokes": [], "source": []}
    counts = {"inside": 0, "all": 0}
    for n, (clean, laid, seen, out) in enumerate(zip(truth, put, dirty, mended, strict=True)):
        for plane, (a, b, c, d) in enumerate(zip(clean, laid, seen, out, strict=True)):
            free = cv2.dilate((a != b).astype(np.uint8), np.ones((3, 3), np.uint8)) == 0 if spoiled is not None else a == b
            sound += int(free.sum())
            altered += int((free & (c != d)).sum())
            if plane:
                continue
            one, two, three = (p.astype(np.float64) for p in (a, c, d))
            damage, shown = a != b, np.abs(a.astype(int) - b) > _VISIBLE
            visible += int(shown.sum())
            repaired += int((shown & (np.abs(three - one) < np.abs(two - one) / 2)).sum())
            count, blobs = cv2.connectedComponents(shown.astype(np.uint8))
            for k in range(1, count):
                blob = blobs == k
                if blob.sum() >= 4 and np.abs(two - one)[blob].max() > _STRONG:
                    strong += 1
                    met += bool(np.abs(three - one)[blob].mean() < np.abs(two - one)[blob].mean() / 2)
            inside = damage & masks[n]
            near = [dirty[min(max(0, n + k), len(dirty) - 1)][0] for k in (-1, 0, 1)]
            median = np.median(np.stack(near), 0)
            stokes = cv2.inpaint(c, cv2.dilate(damage.astype(np.uint8), np.ones((3, 3), np.uint8)), 4, cv2.INPAINT_NS)
            errors["inside"].append(float(((three - one)[inside] ** 2).sum()))
            counts["inside"] += int(inside.sum())
            counts["all"] += int(damage.sum())
            for key, made in (("all", three), ("median", median), ("stokes", stokes), ("source", two)):
                errors[key].append(float(((made - one)[damage] ** 2).sum()))

    def decibels(key: str) -> float:
        return float(10 * np.log10(255**2 / max(sum(errors[key]) / max(1, counts["inside" if key == "inside" else "all"]), 1e-9)))

    print(
        f"{name:<16}{kind:<7}{100 * repaired / max(1, visible):>8.1f}%{f'{met}/{strong}':>10}{100 * altered / sound:>8.4f}%{decibels('inside'):>8.1f}"
        f"{decibels('all'):>7.1f}{decibels('median'):>8.1f}{decibels('stokes'):>7.1f}{decibels('source'):>8.1f}{rate:>6.1f}",
        flush=True,
    )


def scratches(names: Sequence[str] = CLIPS, seeds: Sequence[int] = (1, 2)) -> None:
    """Three scratches over open clips and moved photographs, and the same clips without any."""
    print(
        "\nScratches, a light, a dark and a leaning broken one: found of three, others reported; PSNR of luma where they lie, of in-painting\n"
        "given the true mask; sound samples altered, all planes"
    )
    print(f"{'clip':<16}{'kind':<7}{'found':>7}{'other':>7}{'lifted':>8}{'NS':>7}{'source':>8}{'altered':>9}{'f/s':>6}")
    for name in names:
        whole = source_of(name, 1)
        source = whole.over(list(whole.pictures)[:FRAMES])
        _scratch_row(name, "clean", source, [])
        for seed in seeds:
            put = three(len(source), source.pictures[0][0].shape, seed)  # type: ignore[arg-type]
            _scratch_row(name, f"{seed}", source, put)
            if seed == seeds[0]:
                _scratch_row(name, "noise", source.over(noisy(list(source.pictures), 2.5, seed)), put)


def _scratch_row(name: str, kind: str, source: MemorySource, put: list[Scratch]) -> None:
    truth = list(source.pictures)
    spoiled = source.over(scratched(truth, put) if put else truth)
    span = Span.of(spoiled, 0, len(truth))
    start = time.perf_counter()
    found = [f for f in watched(span, ScratchWatch(span)).findings if f.convinces]
    settings = settle_lines(LineLiftSettings(), found)
    plan = lift_lines(span, settings)
    rate = len(truth) / (time.perf_counter() - start)
    mended = [f.planes for f in plan.apply(spoiled, 0, len(truth)).frames(0, len(truth))]
    middles = [float(np.mean([t[1:] for t in f.evidence.track])) for f in found]
    hit = sum(
        any(abs(m - s.x - s.lean / 2) < 6 and f.evidence.bright == (s.level > 128) for m, f in zip(middles, found, strict=True))
        for s in put
    )
    sound = altered = count = 0
    errors = np.zeros(3)
    for n, (clean, seen, out) in enumerate(zip(truth, spoiled.pictures, mended, strict=True)):
        for plane, (a, b, c) in enumerate(zip(clean, seen, out, strict=True)):
            sound += int((a == b).sum())
            altered += int(((a == b) & (b != c)).sum())
            if plane or not put:
                continue
            damage = a != b
            count += int(damage.sum())
            one = a.astype(np.float64)
            stokes = cv2.inpaint(b, damage.astype(np.uint8), 4, cv2.INPAINT_NS) if n % 4 == 0 else None
            errors[0] += float(((c - one)[damage] ** 2).sum())
            errors[2] += float(((b - one)[damage] ** 2).sum())
            if stokes is not None:
                errors[1] += 4 * float(((stokes - one)[damage] ** 2).sum())
    told = [f"{10 * np.log10(255**2 / max(e / max(1, count), 1e-9)):.1f}" if put else "" for e in errors]
    print(
        f"{name:<16}{kind:<7}{f'{hit}/{len(put)}' if put else '':>7}{len(found) - hit:>7}{told[0]:>8}{told[1]:>7}{told[2]:>8}"
        f"{100 * altered / sound:>8.4f}%{rate:>6.1f}",
        flush=True,
    )
