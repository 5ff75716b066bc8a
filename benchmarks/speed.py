"""Speed as ratios within one run, latency, and peak memory."""

from __future__ import annotations

import os
import subprocess
import sys
import time
from collections.abc import Callable, Sequence
from fractions import Fraction
from functools import partial
from pathlib import Path

import av
import cv2
import numpy as np

from benchmarks.material import Planes, clip, noisy, panned
from nimbus_sweep.core.defects.static_shade.detect import find
from nimbus_sweep.core.defects.unsteady_light.stretches import read
from nimbus_sweep.core.evidence.light_record import record
from nimbus_sweep.core.evidence.scan import scan
from nimbus_sweep.core.evidence.shot_evidence import ShotEvidence
from nimbus_sweep.core.evidence.time_volume import build_volume
from nimbus_sweep.core.media.frames import Colour, Frame, PictureFormat
from nimbus_sweep.core.media.layout import picture_format, to_picture
from nimbus_sweep.core.media.opening import fingerprint, open_reel
from nimbus_sweep.core.media.reader import MovieReader
from nimbus_sweep.core.media.reel import Reading
from nimbus_sweep.core.media.view import ProxyMaker, jpeg, to_bgr
from nimbus_sweep.core.media.writer import Cut
from nimbus_sweep.core.model.recipes import Recipe, Step
from nimbus_sweep.core.pipeline.analyses import Analyses, chain
from nimbus_sweep.core.pipeline.render import RenderedShot, RenderSpec, clear, render
from nimbus_sweep.core.pipeline.report import TreatedShot, make_report
from nimbus_sweep.core.pipeline.suggestions import suggested
from nimbus_sweep.core.pipeline.survey import survey
from nimbus_sweep.demo.defects import scatter, stick
from nimbus_sweep.demo.flicker import bands, frame_pumping, lit, patches
from nimbus_sweep.demo.shade import shade as put_on
from nimbus_sweep.demo.shade import sprinkle


def run(folder: Path) -> None:
    """Print all speed figures."""
    reel = movie(folder / "reel-1080.mp4", 200, 1920, 1080)
    print("\nSpeed at 1920x1080, 200 frames of H.264 in, FFV1 out; taken in turns five times, medians")
    source = MovieReader(reel)
    volume = build_volume(folder / "volume.bin", source)
    found = survey(ShotEvidence(volume, 0, len(source))).findings
    recipe = suggested(found).resolved(found)
    analyses = Analyses(folder / "analyses", fingerprint(reel), 0, len(source))
    analyses.make(recipe, source, lambda: volume)
    treated = _rendering(reel, source, recipe, analyses, folder)

    def looked() -> None:
        survey(ShotEvidence(build_volume(folder / "volume.bin", source), 0, len(source)))

    # In turns, so that a machine that is slower for a while is slower for both.
    floor, rendering, ratio = _in_turns(lambda: bare(reel, folder / "bare.mkv"), treated)
    print(f"  bare decode + encode                      {floor:6.2f} s  ({200 / floor:.0f} frames/s)")
    sites = len(recipe.steps[0].settings.sites)
    print(f"  render with pixel mend ({sites:2d} sites)          {rendering:6.2f} s  ratio {ratio:.2f}  (aim: at most 1.15)")
    _, looking, ratio = _in_turns(lambda: decode_only(reel), looked)
    print(f"  survey, reading the shot once included    {looking:6.2f} s  ratio to decoding {ratio:.1f}  (aim: at most 6)")
    _, taken, ratio = _in_turns(lambda: decode_only(reel), lambda: take_in(reel, folder))
    print(f"  intake: index, light, cuts, repeats, proxy {taken:5.2f} s  ratio to decoding {ratio:.1f}  (aim: at most 2.5)")
    preview(source, recipe, analyses)
    print("\nPeak memory of `treat --suggested` at 960x540 (must not grow with the reel)")
    for frames in (200, 2000):
        path = movie(folder / f"reel-{frames}.mp4", frames, 960, 540)
        print(f"  {frames:5d} frames {peak(path, folder / 'memory.mkv'):8.0f} MiB")


def _rendering(reel: Path, source: MovieReader, recipe: Recipe, analyses: Analyses, folder: Path) -> Callable[[], None]:
    """The render of a whole reel with a recipe whose analyses are ready."""
    stat, whole = reel.stat(), (0, len(source))
    spec = RenderSpec(
        reel=str(reel),
        fingerprint=fingerprint(reel),
        size=stat.st_size,
        modified=stat.st_mtime_ns,
        shots=(RenderedShot(first=0, stop=len(source), span=whole, recipe=recipe),),
        first=0,
        stop=len(source),
        analyses=str(analyses.folder),
        chunks=str(folder / "chunks"),
    )
    treatment = TreatedShot("Shot 1", *whole, recipe, [], analyses.load(recipe, source.format))
    report = make_report(source, fingerprint(reel), Reading(), Cut(*whole), "ffv1", [treatment])

    def treated() -> None:
        clear(spec)
        render(spec, folder / "out.mkv", report)

    return treated


def shade(folder: Path) -> None:
    """Survey and render of a shot with nine specks of dust and a hair, against decoding and encoding alone."""
    truth = panned("coffee", 240, 6, size=(1920, 1080))
    spoiled, _ = put_on(truth.pictures, sprinkle((1080, 1920), 9, 1, hairs=1))
    reel = encoded(folder / "shade-1080.mp4", noisy(spoiled, 1.5, 1), truth.format)
    source = MovieReader(reel)
    volume = build_volume(folder / "volume.bin", source)
    found = survey(ShotEvidence(volume, 0, len(source)), steps=["unshade"]).findings
    recipe = suggested(found).resolved(found)
    analyses = Analyses(folder / "analyses", fingerprint(reel), 0, len(source))
    analyses.make(recipe, source, lambda: volume)
    print(f"\nStatic shade at 1920x1080, 240 frames, {len(found)} marks found of 10; taken in turns three times, medians")
    floor, looking, ratio = _in_turns(lambda: decode_only(reel), lambda: find(volume), 3)
    print(f"  decoding {floor:.2f} s, finding {looking:.2f} s                 ratio {ratio:.1f}  (aim: at most 4)")
    floor, rendering, ratio = _in_turns(lambda: bare(reel, folder / "bare.mkv"), _rendering(reel, source, recipe, analyses, folder), 3)
    print(f"  bare decode + encode {floor:.2f} s, render {rendering:.2f} s    ratio {ratio:.2f}  (aim: at most 2.5)")


def light(folder: Path) -> None:
    """Reading the light of a shot, and rendering with the steps that steady it, against decoding and encoding alone."""
    truth = panned("coffee", 120, 6, size=(1920, 1080))
    print("\nLight at 1920x1080 and 640x480, 120 frames of H.264 in, FFV1 out; taken in turns three times, medians")
    for kind, step, lamps in (
        ("whole frame", "steady-frame", frame_pumping(120, 1)),
        ("bands", "steady-bands", bands(120, 1080, 1)),
        ("patches", "steady-patches", patches(120, 1080, 1920, 1)),
    ):
        reel = encoded(folder / "light-1080.mp4", lit(list(truth.pictures), lamps), truth.format)
        source = MovieReader(reel)
        recipe = Recipe(steps=(Step(kind=step),))
        analyses = Analyses(folder / f"analyses-{step}", fingerprint(reel), 0, len(source))
        analyses.make(recipe, source, partial(build_volume, folder / "volume.bin", source))
        rendering = _rendering(reel, source, recipe, analyses, folder)
        floor, took, ratio = _in_turns(partial(bare, reel, folder / "bare.mkv"), rendering, 3)
        print(f"  {kind:<12} bare {floor:.2f} s, render {took:.2f} s            ratio {ratio:.2f}  (aim: at most 2)")
    for width, height, aim in ((640, 480, 20), (1920, 1080, 6)):
        source = MovieReader(movie(folder / f"read-{height}.mp4", 120, width, height))
        cores = os.sched_getaffinity(0)
        os.sched_setaffinity(0, {min(cores)})
        try:
            start = time.perf_counter()
            kept = record(folder / "light.bin", source)
            made, start = time.perf_counter() - start, time.perf_counter()
            read(kept)
            reading = time.perf_counter() - start
        finally:
            os.sched_setaffinity(0, cores)
        print(
            f"  {width}x{height}: decoding and keeping its light {120 / made:.0f}, reading it {120 / reading:.0f}, "
            f"both {120 / (made + reading):.0f} frames a second of one core  (aim: at least {aim})"
        )


def movie(path: Path, frames: int, width: int, height: int) -> Path:
    """A real clip, enlarged, played to and fro, with stuck pixels in it."""
    source = clip("bunny")
    layout = picture_format("yuv420p", width, height)
    count = min(frames, len(source))
    pictures = [
        tuple(
            cv2.resize(p, shape[::-1], interpolation=cv2.INTER_AREA if width < 1280 else cv2.INTER_CUBIC)
            for p, shape in zip(planes, layout.plane_shapes, strict=True)
        )
        for planes in source.pictures[:count]
    ]
    spoiled, _ = stick(pictures, scatter(pictures, 14, 1))
    order = (n % (2 * count - 2) for n in range(frames))
    return encoded(path, [spoiled[at if at < count else 2 * count - 2 - at] for at in order], layout)


def encoded(path: Path, pictures: Sequence[Planes], layout: PictureFormat) -> Path:
    """Pictures as a movie file of good quality."""
    with av.open(str(path), "w") as out:
        stream = out.add_stream("libx264", rate=Fraction(25), options={"crf": "18", "preset": "veryfast", "g": "48"})
        assert isinstance(stream, av.VideoStream)
        stream.width, stream.height, stream.pix_fmt = layout.width, layout.height, "yuv420p"
        for n, planes in enumerate(pictures):
            out.mux(stream.encode(to_picture(Frame(n, planes, layout, Colour(matrix=1)))))
        out.mux(stream.encode())
    return path


def bare(reel: Path, out: Path) -> None:
    """Decode and encode with the media library alone, at the settings the delivery is written with."""
    with av.open(str(reel)) as source, av.open(str(out), "w") as target:
        video = source.streams.video[0]
        video.thread_type = "AUTO"
        options = {"level": "3", "coder": "1", "context": "0", "slicecrc": "1", "slices": "4"}
        stream = target.add_stream("ffv1", rate=video.average_rate, options=options)
        assert isinstance(stream, av.VideoStream)
        stream.width, stream.height, stream.pix_fmt = video.width, video.height, "yuv420p"
        stream.codec_context.gop_size = 1
        stream.codec_context.thread_type = "SLICE"
        stream.codec_context.thread_count = 0
        for picture in source.decode(video):
            target.mux(stream.encode(picture))
        target.mux(stream.encode())


def take_in(reel: Path, folder: Path) -> None:
    """Everything intake computes, as the queue does it; the shot laid open in time as well."""
    source = open_reel(reel)
    scan(source, proxy=ProxyMaker(folder / "proxy.jpegs"), volume=folder / "intake.bin")
    fingerprint(reel)


LONG = """
import resource, sys, time
from pathlib import Path
from nimbus_sweep.core.media.opening import fingerprint, open_reel
from nimbus_sweep.core.media.view import ProxyMaker
from nimbus_sweep.core.evidence.scan import scan
start = time.perf_counter()
source = open_reel(sys.argv[1])
seen = scan(source, proxy=ProxyMaker(Path(sys.argv[2]) / "long.jpegs"), volume=Path(sys.argv[2]) / "long.bin")
seen.summary.save(Path(sys.argv[2]) / "long.npz")
print(len(source), resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024, time.perf_counter() - start)
"""


def long_reel(folder: Path) -> Path:
    """Intake of 100,000 small frames: its peak memory; gives the reel."""
    path = folder / "long.mkv"
    layout = picture_format("yuv420p", 96, 54)
    source = clip("bikes-3")
    pictures = [
        tuple(cv2.resize(p, shape[::-1], interpolation=cv2.INTER_AREA) for p, shape in zip(planes, layout.plane_shapes, strict=True))
        for planes in source.pictures
    ]
    with av.open(str(path), "w") as out:
        stream = out.add_stream("libx264", rate=Fraction(25), options={"crf": "28", "preset": "ultrafast", "g": "250"})
        assert isinstance(stream, av.VideoStream)
        stream.width, stream.height, stream.pix_fmt = 96, 54, "yuv420p"
        for n in range(100_000):
            at = n % (2 * len(pictures) - 2)
            planes = pictures[at if at < len(pictures) else 2 * len(pictures) - 2 - at]
            out.mux(stream.encode(to_picture(Frame(n, planes, layout, Colour(matrix=1)))))
        out.mux(stream.encode())
    told = subprocess.run([sys.executable, "-c", LONG, str(path), str(folder)], check=True, capture_output=True, text=True).stdout.split()
    print(f"\nA reel of {told[0]} frames: intake peak memory {float(told[1]):.0f} MiB (aim: under 1024), {float(told[2]):.0f} s")
    return path


def decode_only(reel: Path) -> None:
    """Decode every frame."""
    with av.open(str(reel)) as source:
        source.streams.video[0].thread_type = "AUTO"
        for _ in source.decode(video=0):
            pass


def preview(source: MovieReader, recipe: Recipe, analyses: Analyses) -> None:
    """Time from asking for a treated frame to its JPEG, the analysis ready."""
    treated = chain(source, analyses.load(recipe, source.format), 0, len(source))
    times: dict[str, list[float]] = {"next frame": [], "any frame": [], "decode alone": []}
    rng = np.random.default_rng(1)
    for kind, numbers in (("next frame", range(40, 100)), ("any frame", rng.integers(0, 200, 40))):
        for n in numbers:
            start = time.perf_counter()
            jpeg(to_bgr(treated.frame(int(n)), 960))
            times[kind].append(time.perf_counter() - start)
    fresh = MovieReader(source.path, cache_bytes=0)
    for n in rng.integers(0, 200, 40):
        start = time.perf_counter()
        fresh.frame(int(n))
        times["decode alone"].append(time.perf_counter() - start)
    for kind, took in times.items():
        print(f"  treated preview, {kind:<14}" if kind != "decode alone" else "  native decode of any frame    ", end="")
        print(
            f"           median {1000 * np.median(took):5.0f} ms, 95 % within {1000 * np.percentile(took, 95):.0f} ms"
            + ("  (aim: under 150 ms)" if kind == "next frame" else "")
        )


def peak(reel: Path, out: Path) -> float:
    """Peak resident memory of the command line treating `reel`, in MiB."""
    code = "import resource,subprocess,sys; subprocess.run(sys.argv[1:],check=True,stderr=subprocess.DEVNULL); print(resource.getrusage(resource.RUSAGE_CHILDREN).ru_maxrss/1024)"
    command = [sys.executable, "-m", "nimbus_sweep", "treat", str(reel), str(out), "--suggested", "--overwrite"]
    return float(subprocess.run([sys.executable, "-c", code, *command], check=True, capture_output=True, text=True).stdout)


def _in_turns(one: Callable[[], object], other: Callable[[], object], times: int = 5) -> tuple[float, float, float]:
    """Median seconds of both, and the median of the second's ratio to the first."""
    took = []
    for _ in range(times):
        round_ = []
        for work in (one, other):
            start = time.perf_counter()
            work()
            round_.append(time.perf_counter() - start)
        took.append(round_)
    both = np.array(took)
    return float(np.median(both[:, 0])), float(np.median(both[:, 1])), float(np.median(both[:, 1] / both[:, 0]))
