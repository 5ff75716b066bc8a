"""How much of known trouble with the light is left, what it costs in detail and motion, beside the media library's own filters."""

from __future__ import annotations

import time
from collections.abc import Sequence
from fractions import Fraction
from pathlib import Path

import av
import av.filter
import cv2
import numpy as np
from numpy.typing import NDArray

from benchmarks.material import MemorySource, Planes, clip, panned
from nimbus_sweep.core.defects.unsteady_light.stretches import read
from nimbus_sweep.core.evidence.light_record import record
from nimbus_sweep.core.model.registry import STEPS
from nimbus_sweep.demo.flicker import Lit, bands, frame_pumping, jumps, lit, on_off, patches, relit

CLIPS = ("bunny-near", "carphone", "bikes-1", "bikes-2", "bikes-3", "pan coffee", "pan chelsea", "pan astronaut")
HEAD = (
    f"{'clip':<15}{'light':<11}{'named':<10}{'in':>7}{'left':>7}{'best':>7}{'filter':>8}{'detail':>8}"
    f"{'motion':>8}{'source':>8}{'mixing':>8}{'f/s':>6}"
)


def kinds(frames: int, height: int, width: int, seed: int) -> dict[str, tuple[str, list[Lit]]]:
    """Each kind of trouble by its name in the tables: the name it should be given, and the light."""
    return {
        "whole": ("whole", frame_pumping(frames, seed)),
        "on-off": ("on-off", on_off(frames, seed)),
        "key frames": ("jumps", jumps(frames, seed, every=8)),
        "bands": ("bands", bands(frames, height, seed)),
        "drifting": ("bands", bands(frames, height, seed, drift=0.02)),
        "jittering": ("bands", bands(frames, height, seed, jitter=0.05)),
        "rectified": ("bands", bands(frames, height, seed, shape="rectified")),
        "patches": ("patches", patches(frames, height, width, seed)),
    }


_STEP = {"whole": "steady-frame", "on-off": "steady-frame", "jumps": "steady-frame", "bands": "steady-bands", "patches": "steady-patches"}


def source_of(name: str, seed: int, most: int | None = None) -> MemorySource:
    """A clip by its name in the tables; its first frames alone, where `most` says how many."""
    kind, _, rest = name.partition(" ")
    source = panned(rest, 90, seed=len(rest) + seed, most=most) if kind == "pan" else clip(name)
    return source if most is None else source.over(source.pictures[:most])


def run(folder: Path, names: Sequence[str] = CLIPS, seeds: Sequence[int] = (1, 2)) -> None:
    """Known light on open clips and moved photographs, steadied by what the survey names."""
    print("\nLight: left is the rms over blocks of the log ratio to the clean clip after one level for the clip, of what was put in;")
    print(
        "best: the true light divided out; filter, mixing: the media library's deflicker and tmix; detail of best; motion: PSNR where it moves"
    )
    print(HEAD)
    for name in names:
        for seed in seeds:
            source = source_of(name, seed)
            truth = list(source.pictures)
            for kind, (right, light) in kinds(len(truth), *truth[0][0].shape, seed).items():
                _row(f"{name} {seed}", kind, right, folder, source, truth, light)
            clean = read(record(folder / "light.bin", source))
            print(f"{name + f' {seed}':<15}{'none':<11}{', '.join(clean.kinds) or 'nothing':<10}", flush=True)


def _row(label: str, kind: str, right: str, folder: Path, source: MemorySource, truth: list[Planes], light: list[Lit]) -> None:
    spoiled = lit(truth, light)
    dirty = source.over(spoiled)
    start = time.perf_counter()
    kept = record(folder / "light.bin", dirty)
    found = read(kept)
    took = time.perf_counter() - start
    named = next(iter(found.kinds), "nothing")
    step = STEPS[_STEP.get(named, "steady-frame")]
    plan = step.analyse(kept, step.settings(), None, None)
    steadied = [tuple(f.planes) for f in plan.apply(dirty, 0, len(dirty)).frames(0, len(dirty))]
    best = relit(spoiled, light)
    put = left(truth, spoiled)
    ours, ideal = left(truth, steadied) / put, left(truth, best) / put
    filtered, mixed = (_filtered(spoiled, graph) for graph in ("deflicker=size=10:mode=am", "tmix=frames=3"))
    moving = _moving(truth)
    motion = [_motion(truth, other, moving) for other in (steadied, spoiled, mixed)]
    print(
        f"{label:<15}{kind:<11}{named if named == right else named + ' !':<10}{100 * put:>6.1f}%{100 * ours:>6.1f}%{100 * ideal:>6.1f}%"
        f"{100 * left(truth, filtered) / put:>7.1f}%{100 * _detail(steadied) / _detail(best):>7.1f}%"
        f"{motion[0]:>8.1f}{motion[1]:>8.1f}{motion[2]:>8.1f}{len(truth) / took:>6.0f}",
        flush=True,
    )


def left(truth: Sequence[Planes], other: Sequence[Planes], size: int = 16) -> float:
    """Light left: rms over blocks of luma of the log ratio to the truth, after one level for the clip."""
    one, two = (np.stack([_blocks(p[0], size) for p in pictures]) for pictures in (truth, other))
    sound = one > 20
    ratio = np.log(np.maximum(two, 1) / np.maximum(one, 1))
    return float(np.sqrt(np.mean((ratio[sound] - np.median(ratio[sound])) ** 2)))


def _blocks(luma: NDArray[np.uint8], size: int) -> NDArray[np.float64]:
    height, width = luma.shape[0] // size * size, luma.shape[1] // size * size
    cells = luma[:height, :width].astype(np.float64) - 16
    return cells.reshape(height // size, size, width // size, size).mean((1, 3))


def _detail(pictures: Sequence[Planes]) -> float:
    """Mean strength of fine structure, over the light."""
    values = []
    for planes in pictures[::4]:
        luma = planes[0].astype(np.float32) - 16
        values.append(float(np.abs(luma - cv2.GaussianBlur(luma, (0, 0), 1.5)).mean() / max(float(luma.mean()), 1)))
    return float(np.mean(values))


def _moving(truth: Sequence[Planes]) -> NDArray[np.bool_]:
    """Where the scene moves: (frames, height, width)."""
    lumas = np.stack([p[0] for p in truth]).astype(np.int16)
    change = np.abs(np.diff(lumas, axis=0, append=lumas[-1:]))
    return np.stack([cv2.blur(c.astype(np.float32), (9, 9)) > 4 for c in change])


def _motion(truth: Sequence[Planes], other: Sequence[Planes], moving: NDArray[np.bool_]) -> float:
    """PSNR of luma where the scene moves, one level fitted for the clip."""
    one, two = (np.stack([p[0] for p in pictures]).astype(np.float32)[moving] - 16 for pictures in (truth, other))
    level = float((one * two).sum() / max(float((two * two).sum()), 1e-9))
    return float(10 * np.log10(255**2 / max(float(np.mean((one - level * two) ** 2)), 1e-9)))


def _filtered(pictures: Sequence[Planes], graph: str) -> list[Planes]:
    """Pictures through a filter of the media library."""
    height, width = pictures[0][0].shape
    name, _, options = graph.partition("=")
    chain = av.filter.Graph()
    into = chain.add_buffer(width=width, height=height, format=av.VideoFormat("yuv420p"), time_base=Fraction(1, 25))
    through, out = chain.add(name, options), chain.add("buffersink")
    into.link_to(through)
    through.link_to(out)
    chain.configure()
    made: list[Planes] = []
    for n, planes in enumerate([*pictures, None]):
        if planes is not None:
            frame = av.VideoFrame.from_ndarray(np.concatenate([p.reshape(-1) for p in planes]).reshape(height * 3 // 2, width), "yuv420p")
            frame.pts = n
            into.push(frame)
        else:
            into.push(None)
        while len(made) < len(pictures):
            try:
                told = out.pull().to_ndarray()
            except (av.error.BlockingIOError, av.error.EOFError):
                break
            made.append((told[:height],))
    return made
