"""The one pass over a reel at intake: light, cuts, repeats, small pictures, and the time volume of a single shot."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path

from ..base.parallel import buffered_map
from ..media.frames import Frame
from ..media.reel import ReelReader
from ..media.repeats import Repeats
from ..media.view import PROXY_QUALITY, PROXY_WIDTH, Picture, ProxyMaker, jpeg, to_bgr
from ..model.shots import FoundCut
from .cut_detection import CutFinder
from .light_record import RecordWriter, SmallFrame, described, small
from .repeat_detection import RepeatFinder
from .summary import Summary, SummaryMaker
from .time_volume import VolumeWriter, sample_numbers


@dataclass(frozen=True)
class Scan:
    """What one pass told of a reel.

    Attributes
    ----------
    cuts : list of FoundCut
    repeats : Repeats
    summary : Summary
    missing : list of int
        Frames without a readable picture.
    volume : Path or None
        The time volume of the whole reel, if it was asked for and the reel is one shot.
    """

    cuts: list[FoundCut]
    repeats: Repeats
    summary: Summary
    missing: list[int]
    volume: Path | None


def scan(
    reel: ReelReader,
    on_frame: Callable[[Frame], None] | None = None,
    proxy: ProxyMaker | None = None,
    volume: Path | None = None,
    light: Path | None = None,
) -> Scan:
    """Read every frame once.

    Parameters
    ----------
    reel : ReelReader
    on_frame : callable
        Sees every frame on the way; may raise to stop.
    proxy : ProxyMaker
        Takes the small pictures; closed or abandoned here.
    volume : Path
        Where to lay the reel open in time; dropped again when it turns out to have cuts or repeated frames.
    light : Path
        Where to keep the record of its light; dropped likewise.
    """
    cuts, repeats, curve = CutFinder(), RepeatFinder(), SummaryMaker()
    missing: list[int] = []
    numbers = sample_numbers(0, len(reel), reel.format.frame_bytes)
    writer = VolumeWriter(volume, reel, numbers) if volume is not None and not reel.facts.absent else None
    lit = RecordWriter(light, reel, 0) if light is not None else None
    width = min(PROXY_WIDTH, reel.format.width)

    def made(frame: Frame) -> tuple[Picture, bytes, SmallFrame | None]:
        picture = to_bgr(frame, width)
        data = jpeg(picture, PROXY_QUALITY) if proxy is not None else b""
        return picture, data, small(frame) if light is not None else None

    with _whole_or_dropped(proxy, writer, lit):
        # Scaling and coding of the small pictures go beside the rest; the libraries let go of the interpreter.
        for frame, (picture, data, dim) in buffered_map(made, reel.frames(0, len(reel))):
            cuts.add(picture, frame.missing)
            repeats.add(frame)
            curve.add(frame)
            if frame.missing:
                missing.append(frame.number)
            if proxy is not None:
                proxy.add(data)
            if writer is not None:
                writer.add(frame)
            if lit is not None:
                lit.add(frame, dim)
            if on_frame is not None:
                on_frame(frame)
    found, repeated = cuts.finish(), repeats.finish()
    one_shot = not found and not missing and not repeated.repeated.any()
    if writer is not None and volume is not None and not one_shot:
        volume.unlink(missing_ok=True)
        volume.with_suffix(".json").unlink(missing_ok=True)
    # Repeated frames do no harm to the record of the light, but a cut does.
    if light is not None and found:
        light.unlink()
        described(light).unlink()
    return Scan(found, repeated, curve.finish(), missing, volume if one_shot else None)


@contextmanager
def _whole_or_dropped(proxy: ProxyMaker | None, writer: VolumeWriter | None, lit: RecordWriter | None) -> Iterator[None]:
    """Finish the files that were written on the way, or drop them all when that was broken off."""
    try:
        yield
    except BaseException as error:
        if proxy is not None:
            proxy.drop()
        if writer is not None:
            writer.drop(error)
        if lit is not None:
            lit.drop(error)
        raise
    if proxy is not None:
        proxy.finish()
    if writer is not None:
        writer.finish()
    if lit is not None:
        lit.finish()
