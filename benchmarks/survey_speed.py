"""Speed of a survey as a ratio to decoding the same file, how busy it keeps the cores, its memory; and specks swept and rendered."""

from __future__ import annotations

import json
import os
import subprocess
import sys
import time
from fractions import Fraction
from pathlib import Path
from typing import Any

import av
import cv2
import numpy as np

from benchmarks.material import clip, clip_path
from benchmarks.speed import decode_only
from nimbus_sweep.core.base.parallel import CORES
from nimbus_sweep.core.defects.film_dirt.choosing import SpeckSweepSettings
from nimbus_sweep.core.defects.film_dirt.repair import analyse
from nimbus_sweep.core.evidence.frames_at_hand import Span
from nimbus_sweep.core.media.opening import open_reel
from nimbus_sweep.demo.dirt import scattered, soiled

# Name, clip, first frame, stop, coding.
FILES = (
    ("bikes", "bikes", 90, 130, "h264"),
    ("bunny", "bigbuckbunny", 0, 96, "h264"),
    ("bunny, ProRes", "bigbuckbunny", 30, 126, "prores"),
)
_CODED = {
    "h264": ("libx264", "yuv420p", {"crf": "18", "preset": "veryfast"}, ".mp4"),
    "prores": ("prores_ks", "yuv422p10le", {"profile": "3"}, ".mov"),
}
# Surveys a file in a process of its own: everything `nimbus-sweep survey` does, from the first frame read to the last finding.
_SURVEY = """
import json, os, resource, sys, tempfile, threading, time
from pathlib import Path
from nimbus_sweep.core.base.memory import keep_together
keep_together()
from nimbus_sweep.core.base.errors import Cancelled
from nimbus_sweep.core.evidence.frames_at_hand import Span
from nimbus_sweep.core.evidence.light_record import LightRecord, recorded
from nimbus_sweep.core.evidence.shot_evidence import ShotEvidence
from nimbus_sweep.core.evidence.time_volume import build_volume
from nimbus_sweep.core.media.opening import open_reel
from nimbus_sweep.core.pipeline.survey import survey
from nimbus_sweep.core.pipeline.warm_up import warm_up
warm_up()
# What the process holds itself; files it has mapped are taken back by the system when others need the room.
held, over = [0], threading.Event()
def sample():
    while not over.wait(0.03):
        lines = Path("/proc/self/status").read_text().splitlines()
        held[0] = max(held[0], *(int(line.split()[1]) for line in lines if line.startswith("RssAnon")))
threading.Thread(target=sample, daemon=True).start()
source = open_reel(sys.argv[1])
count = len(source)
with tempfile.TemporaryDirectory() as name:
    folder = Path(name)
    began, spent = time.perf_counter(), time.process_time()
    with recorded(folder / "light", source, 0) as writer:
        volume = build_volume(folder / "volume.bin", source, writer.add)
    light = LightRecord(folder / "light")
    laid_open = time.perf_counter() - began
    seen = lambda first, stop: ShotEvidence(
        volume.between(first, stop), first, stop, light.between(first, stop), Span.of(source, first, stop, None, volume), folder / "steadied"
    )
    shares = [(time.perf_counter(), 0.0)]
    told = survey(seen(0, count), lambda share: shares.append((time.perf_counter(), share)))
    took, cpu = time.perf_counter() - began, time.process_time() - spent
    # How long progress stood still, and how far the time left, told from the share done, was from what it was.
    start, end = shares[0][0], time.perf_counter()
    rises = [one for k, one in enumerate(shares) if k == 0 or one[1] > shares[k - 1][1] + 1e-4] + [(end, 1.0)]
    still = max(b[0] - a[0] for a, b in zip(rises, rises[1:]))
    wrong = max([0] + [abs((at - start) / share - (end - start)) / (end - start) for at, share in rises if 0.1 < share < 1])
    asked = stopped = again = None
    if sys.argv[2:] == ["once"]:
        over.set()
    def stop(share):
        global asked
        if share > 0.4:
            asked = asked or time.perf_counter()
            raise Cancelled
    if not over.is_set():
        try:
            survey(seen(0, count), stop)
        except Cancelled:
            pass
        stopped = time.perf_counter() - asked
        again = time.perf_counter()
        survey(seen(count // 10, count))
        again = time.perf_counter() - again
over.set()
peak = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024
print(json.dumps([count, laid_open, took, cpu, again, held[0] / 1024, peak, still, wrong, stopped, [f.kind for f in told.findings if f.convinces]]))
"""


def run(folder: Path) -> None:
    """Print all of it."""
    cores = os.cpu_count() or 1
    print(f"\nA survey of all kinds in every frame at 1920x1080 on {cores} cores, beside decoding the same file, in turns")
    print(
        f"  {'file':<16}{'frames':>7}{'decode':>9}{'survey':>9}{'ratio':>7}{'busy':>7}{'later in point':>16}{'one core':>10}{'memory':>10}{'and mapped':>10}"
    )
    for name, *named, coding in FILES:
        path = real(folder / f"{name.replace(', ', '-')}{_CODED[coding][3]}", *named, coding, (1920, 1080))  # type: ignore[arg-type]
        before = _decoded(path)
        told = surveyed(path)
        floor = float(np.median([before, _decoded(path), _decoded(path)]))
        alone = surveyed(path, one_core=True)
        print(
            f"  {name:<16}{told['frames']:>7}{floor:>8.2f}s{told['took']:>8.1f}s{told['took'] / floor:>7.1f}"
            f"{100 * told['cpu'] / told['took'] / cores:>6.0f}%{told['again']:>15.1f}s{told['took'] / alone['took']:>9.2f}x{told['held']:>6.0f} MiB{told['peak']:>6.0f} MiB"
            f"   {', '.join(told['found']) or 'nothing found'}",
            flush=True,
        )
        print(
            f"{'':16}progress stood still for {told['still']:.1f} s at most (aim: 2), time left was {100 * told['wrong']:.0f} % of the whole off"
            f" at most (aim: 30), stopped within {told['stopped']:.1f} s (aim: 1)",
            flush=True,
        )
    print("  (aims: ratio at most 12, then 6; busy above 85 %; two cores in at most 0.6 of the time of one; memory at most 1.2 GiB)")
    sweep(folder)


def memory(folder: Path) -> None:
    """Print the peak memory of surveys of short and of long shots, at 1080p and in 4K."""
    print("\nPeak memory of a survey: the same for a short shot and for a long one")
    for size, counts, aim in (((1920, 1080), (100, 2000), "1.2"), ((3840, 2160), (50, 200), "3")):
        for count in counts:
            path = real(folder / f"long-{size[1]}-{count}.mp4", "bigbuckbunny", 0, count, "h264", size)
            told = surveyed(path, once=True)
            print(
                f"  {size[0]}x{size[1]}, {count:5d} frames {told['held']:6.0f} MiB, with mapped files {told['peak']:6.0f}  (aim: {aim} GiB)   {told['took']:.0f} s",
                flush=True,
            )


def sweep(folder: Path) -> None:
    """Specks found in every frame at full size: frames a second, without and with the decoding and coding of a delivery."""
    source = clip("bunny")
    count = 32
    spoiled = soiled(list(source.pictures)[:count], scattered(count, source.pictures[0][0].shape, 3, 12))
    pictures = [
        [cv2.resize(p, (1920 >> (i > 0), 1080 >> (i > 0)), interpolation=cv2.INTER_CUBIC) for i, p in enumerate(q)] for q in spoiled
    ]
    path = folder / "dirty.mkv"
    with av.open(str(path), "w") as out:
        stream = out.add_stream("libx264", rate=Fraction(25), options={"crf": "14", "preset": "veryfast"})
        assert isinstance(stream, av.VideoStream)
        stream.width, stream.height, stream.pix_fmt = 1920, 1080, "yuv420p"
        for planes in pictures:
            picture = av.VideoFrame(1920, 1080, "yuv420p")
            for plane, samples in zip(picture.planes, planes, strict=True):
                np.frombuffer(plane, np.uint8).reshape(-1, plane.line_size)[: samples.shape[0], : samples.shape[1]] = samples
            out.mux(stream.encode(picture))
        out.mux(stream.encode())
    reel = open_reel(path)
    analyse(Span.of(reel, 0, 4), SpeckSweepSettings())
    began = time.perf_counter()
    plan = analyse(Span.of(reel, 0, count), SpeckSweepSettings())
    found = time.perf_counter() - began
    out_path = folder / "swept.mkv"
    command = [sys.executable, "-m", "nimbus_sweep", "treat", str(path), str(out_path), "--steps", "speck-sweep", "--overwrite"]
    began = time.perf_counter()
    subprocess.run(command, check=True, capture_output=True)
    whole = time.perf_counter() - began
    print(
        f"\nSpecks swept at 1920x1080, {count} frames, {len(plan.table)} patches: {count / found:.1f} frames a second to find and fill them;"
    )
    print(f"  the whole command, started, rendered and compared: {count / whole:.1f} frames a second  (aim: at least 3)")


def surveyed(path: Path, one_core: bool = False, once: bool = False) -> dict[str, Any]:
    """Survey a file in a process of its own; a second time with another in point, and once stopped, unless `once`."""
    environment = {**os.environ, CORES: "1"} if one_core else {k: v for k, v in os.environ.items() if k != CORES}
    bound = ["taskset", "-c", "0"] if one_core else []
    told = subprocess.run(
        [*bound, sys.executable, "-c", _SURVEY, str(path), *(["once"] if once else [])],
        check=True,
        capture_output=True,
        text=True,
        env=environment,
    )
    names = ("frames", "laid_open", "took", "cpu", "again", "held", "peak", "still", "wrong", "stopped", "found")
    return dict(zip(names, json.loads(told.stdout.splitlines()[-1]), strict=True))


def _decoded(path: Path) -> float:
    began = time.perf_counter()
    decode_only(path)
    return time.perf_counter() - began


def real(path: Path, name: str, first: int, stop: int, coding: str, size: tuple[int, int]) -> Path:
    """A stretch of an open clip in another size, as a movie file; played to and fro where it is longer than the clip."""
    codec, pixels, options, _ = _CODED[coding]
    with av.open(str(clip_path(name))) as source:
        shown = [p.to_ndarray(format="rgb24") for n, p in enumerate(source.decode(video=0)) if first <= n < stop]
    height = min(shown[0].shape[0], round(shown[0].shape[1] * size[1] / size[0]))
    top = (shown[0].shape[0] - height) // 2
    with av.open(str(path), "w") as out:
        stream = out.add_stream(codec, rate=Fraction(25), options=options)
        assert isinstance(stream, av.VideoStream)
        stream.width, stream.height, stream.pix_fmt = *size, pixels
        for n in range(stop - first):
            at = n % max(1, 2 * len(shown) - 2)
            picture = shown[at if at < len(shown) else 2 * len(shown) - 2 - at][top : top + height]
            enlarged = cv2.resize(picture, size, interpolation=cv2.INTER_CUBIC)
            out.mux(stream.encode(av.VideoFrame.from_ndarray(enlarged, format="rgb24")))
        out.mux(stream.encode())
    return path
