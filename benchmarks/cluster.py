"""What a cluster costs beside a pool of processes, and on paper where it stops growing."""

from __future__ import annotations

import hashlib
import pickle
import re
import signal
import socket
import subprocess
import sys
import time
from collections.abc import Iterator
from concurrent.futures import Executor, ProcessPoolExecutor
from contextlib import contextmanager
from fractions import Fraction
from functools import partial
from multiprocessing import get_context
from pathlib import Path

import av
import cv2
import numpy as np

from benchmarks.material import clip
from nimbus_sweep.core.base.parallel import share_cores
from nimbus_sweep.core.evidence.time_volume import build_volume
from nimbus_sweep.core.media.formats import FORMATS
from nimbus_sweep.core.media.opening import fingerprint, open_reel, stamp_of
from nimbus_sweep.core.media.writer import Cut, join
from nimbus_sweep.core.model.recipes import Recipe, Step
from nimbus_sweep.core.pipeline import render as rendering
from nimbus_sweep.core.pipeline.analyses import Analyses
from nimbus_sweep.core.pipeline.render import RenderedShot, RenderSpec, render
from nimbus_sweep.core.pipeline.report import make_report
from nimbus_sweep.jobs.cluster import Cluster

FRAMES, SIZE = 384, (1920, 1080)
_NOTHING = 200


def run(folder: Path) -> None:
    """Print the tables."""
    reel = _reel(folder)
    spec = _spec(reel, folder)
    source = open_reel(reel)
    report = make_report(source, spec.fingerprint, spec.reading, spec.cut(source.rate), "ffv1", [])
    print(f"\nA cluster on this machine beside a pool of processes: pixel mend, {FRAMES} frames of {SIZE[0]} x {SIZE[1]}, to FFV1")
    sums = set()
    first = 0.0
    for workers in (1, 2, 4):
        with ProcessPoolExecutor(workers, get_context("spawn"), initializer=share_cores) as pool:
            here, told = _rendered(spec, report, folder, pool, workers)
            sums.add(told)
            idle = _each(pool)
        with _cluster(workers) as cluster, cluster.executor(str(folder)) as pool:
            there, told = _rendered(spec, report, folder, pool, 3 * workers)
            sums.add(told)
            handed = _each(pool)
        first = first or here
        print(
            f"  {workers} worker{'s' if workers > 1 else ' '}: pool {here:5.1f} s, cluster {there:5.1f} s, {there / here:.2f} times; "
            f"a piece that does nothing {1000 * idle:.1f} and {1000 * handed:.1f} ms"
        )
    print(f"  all six files are the same by SHA-256: {len(sums) == 1}")
    asked = len(pickle.dumps((rendering._render_stretch, (spec, [(n, n + 48) for n in range(0, 480, 48)]))))
    print(f"  a stretch of ten chunks of 48 frames is asked for in {asked} bytes and answered with none: its result lies in the folder")
    _on_paper(folder, spec, first / FRAMES, handed)


def _on_paper(folder: Path, spec: RenderSpec, frame: float, handed: float) -> None:
    """What 100,000 frames at 4K take, from a frame's time at 1080p on one worker, four times as many samples, and what cannot be shared."""
    frames, samples = 100_000, 4
    chunks = sorted(Path(spec.chunks).glob("*.mkv"))
    start = time.perf_counter()
    source = open_reel(Path(spec.reel))
    opened = time.perf_counter() - start
    start = time.perf_counter()
    join(chunks, source, folder / "joined.mkv", FORMATS["ffv1"], Cut(0, FRAMES))
    joined = (time.perf_counter() - start) / FRAMES
    alone = frames * joined * samples
    print(
        f"\n  On paper: {frames} frames at 4K, each {samples * frame:.2f} s on one worker; joining them {1000 * samples * joined:.0f} ms a frame, alone"
    )
    for workers in (1, 10, 100, 1000):
        pieces = min(3 * workers, frames // rendering.CHUNK_FRAMES)
        shared = frames * samples * frame / workers * (1 + workers / (2 * pieces) if workers > 1 else 1)
        total = opened + pieces * handed + shared + alone
        print(f"    {workers:5d} workers: {_time(total)}, {(opened + frames * samples * frame + alone) / total:.0f} times one")
    half = samples * frame / (samples * joined)
    print(f"    at {half:.0f} workers computing takes as long as joining: past that the one who joins is waited for")


def _time(seconds: float) -> str:
    return f"{seconds / 3600:.1f} h" if seconds > 5400 else f"{seconds / 60:.0f} min"


def _rendered(spec: RenderSpec, report: object, folder: Path, pool: Executor, workers: int) -> tuple[float, str]:
    list(pool.map(_warm, range(4 * workers)))
    out = folder / "out.mkv"
    rendering.clear(spec)
    start = time.perf_counter()
    render(spec, out, report, None, pool, workers)  # type: ignore[arg-type]
    return time.perf_counter() - start, hashlib.sha256(out.read_bytes()).hexdigest()


def _each(pool: Executor) -> float:
    start = time.perf_counter()
    for waiting in [pool.submit(abs, -1) for _ in range(_NOTHING)]:
        waiting.result()
    return (time.perf_counter() - start) / _NOTHING


def _warm(_: int) -> None:
    time.sleep(0.2)


@contextmanager
def _cluster(workers: int) -> Iterator[Cluster]:
    with socket.socket() as probe:
        probe.bind(("127.0.0.1", 0))
        port = str(probe.getsockname()[1])
    command = [sys.executable, "-m", "nimbus_sweep", "cluster", "--workers", str(workers), "--port", port]
    process = subprocess.Popen(command, stdout=subprocess.PIPE, text=True)
    assert process.stdout is not None
    told = re.search(r"--scheduler (\S+)", process.stdout.readline())
    assert told is not None
    try:
        yield Cluster(told[1])
    finally:
        process.send_signal(signal.SIGINT)
        process.wait(30)


def _spec(reel: Path, folder: Path) -> RenderSpec:
    size, modified = stamp_of(reel)
    recipe = Recipe(steps=(Step(kind="pixel-mend", settings={"sites": [{"x": 400, "y": 300}, {"x": 1200, "y": 700}]}),))
    analyses = folder / "analyses"
    source = open_reel(reel)
    print_ = fingerprint(reel)
    Analyses(analyses, print_, 0, FRAMES).make(recipe, source, partial(build_volume, folder / "volume.bin", source, first=0, stop=FRAMES))
    shot = RenderedShot(first=0, stop=FRAMES, span=(0, FRAMES), recipe=recipe)
    return RenderSpec(
        reel=str(reel),
        fingerprint=print_,
        size=size,
        modified=modified,
        shots=(shot,),
        first=0,
        stop=FRAMES,
        analyses=str(analyses),
        chunks=str(folder / "chunks"),
    )


def _reel(folder: Path) -> Path:
    """A real clip scaled up, there and back until it is long enough, as ProRes."""
    pictures = [cv2.resize(p[0], SIZE) for p in clip("bikes-1").pictures]
    path = folder / "reel.mov"
    with av.open(str(path), "w") as out:
        video = out.add_stream("prores_ks", rate=Fraction(25), options={"profile": "3"})
        video.width, video.height, video.pix_fmt = *SIZE, "yuv422p10le"
        video.codec_context.thread_type = "AUTO"
        for n in range(FRAMES):
            at = n % (2 * len(pictures))
            luma = pictures[min(at, 2 * len(pictures) - 1 - at)]
            out.mux(video.encode(av.VideoFrame.from_ndarray(np.ascontiguousarray(luma), format="gray")))
        out.mux(video.encode())
    return path
