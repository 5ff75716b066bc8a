"""Writing image sequences, each picture whole or not at all."""

from __future__ import annotations

import os
import shutil
from collections.abc import Iterable, Sequence
from contextlib import suppress
from datetime import UTC, datetime
from pathlib import Path

import numpy as np
import OpenImageIO as oiio

from ..base.errors import SweepError
from ..base.files import FULL, disk_full, scratch_folder
from .formats import DeliveryFormat, converted
from .frames import Frame, Samples
from .opening import stamp_of
from .reel import ReelFacts, ReelReader, WrappedReel
from .sequence import SequenceReader
from .sound import write_wav
from .timecode import seconds_after_midnight, time_code
from .writer import REPORT_FILE, Cut, sound_span

_TYPES = {"uint8": oiio.UINT8, "uint16": oiio.UINT16, "float16": oiio.HALF, "float32": oiio.FLOAT}
_TRANSFERS = {1: "Rec.709-4", 8: "Linear", 9: "Printing density"}


def write_picture(path: Path, frame: Frame, facts: ReelFacts, format: DeliveryFormat, time_code: str = "", dated: str = "") -> None:
    """Write a frame as one picture of a sequence.

    Parameters
    ----------
    path : Path
        Appears only when whole.
    frame : Frame
    facts : ReelFacts
        Of the source.
    format : DeliveryFormat
        A sequence's.
    time_code : str
        Of this frame; DPX keeps it.
    dated : str
        Date and time that the picture is to carry, as ``2026:11:29 10:00:00``; when it is written if empty.

    Raises
    ------
    DiskFull
        If there is no room; no half picture stays.
    """
    held = format.held(frame.format)
    shown = converted(frame, held)
    order = [n for n in ("R", "G", "B", "Y", "A") if any(c.name == n for c in held.components)]
    pixels: Samples = np.stack([shown.component(held.index(n)) for n in order], -1)
    bits = held.components[0].bits
    if 8 < bits < 16:
        # The library keeps samples of 10 and 12 bit in the upper bits of 16, the lower ones filled with the upper.
        pixels = (pixels.astype(np.uint32) << (16 - bits) | pixels >> (2 * bits - 16)).astype(np.uint16)
    spec = oiio.ImageSpec(held.width, held.height, len(order), _TYPES[pixels.dtype.name])
    spec.channelnames = tuple(order)
    if "A" in order:
        spec.alpha_channel = order.index("A")
    spec.attribute("oiio:UnassociatedAlpha", 1)
    spec.attribute("PixelAspectRatio", float(facts.sample_aspect))
    spec.attribute("Software", "Nimbus Sweep")
    if bits < 16 and not held.components[0].floating:
        spec.attribute("oiio:BitsPerSample", bits)
    if format.kind == "dpx":
        transfer = _TRANSFERS.get(frame.colour.transfer)
        if transfer:
            spec.attribute("dpx:Transfer", transfer)
        spec.attribute("dpx:FrameRate", float(facts.rate))
        if time_code:
            spec.attribute("dpx:TimeCode", time_code.replace(";", ":"))
    elif format.kind == "exr":
        spec.attribute("FramesPerSecond", oiio.TypeDesc("rational"), (facts.rate.numerator, facts.rate.denominator))
    elif format.kind == "png":
        spec.attribute("png:compressionLevel", 1)
    if dated:
        spec.attribute("DateTime", dated)
    aside = path.with_name(f".{path.stem}.part{path.suffix}")
    made = oiio.ImageOutput.create(str(aside))
    try:
        if made is None or not made.open(str(aside), spec):
            raise _failure(path, made)
        written = made.write_image(np.ascontiguousarray(pixels))
        closed = made.close()
        if not (written and closed):
            raise _failure(path, made)
        if format.kind == "dpx":
            _name_in(aside, path.name)
        aside.replace(path)
    finally:
        aside.unlink(missing_ok=True)


def _name_in(file: Path, name: str) -> None:
    """Put a picture's own name into its header, where the library put that of the working file (SMPTE ST 268-1, field 4)."""
    with open(file, "r+b") as stream:
        stream.seek(36)
        stream.write(name.encode("ascii", "replace")[:99].ljust(100, b"\0"))


def write_pictures(folder: Path, frames: Iterable[Frame], reel: ReelReader, format: DeliveryFormat) -> None:
    """Write frames as pictures of a sequence, named as the source's; a missing frame is left a gap.

    Parameters
    ----------
    folder : Path
        Appears only when whole.
    frames : iterable of Frame
    reel : ReelReader
        The source.
    format : DeliveryFormat
    """
    # The source's date and not the time it is made at: the same treatment of the same reel gives the same files.
    dated = datetime.fromtimestamp(stamp_of(reel.path)[1] / 1e9, UTC).strftime("%Y:%m:%d %H:%M:%S")
    with scratch_folder(folder.parent, f".{folder.name}.part") as scratch:
        aside = scratch / folder.name
        aside.mkdir()
        for frame in frames:
            if not frame.missing:
                code = time_code(frame.number, reel.rate, reel.facts.time_code) if reel.facts.time_code else ""
                write_picture(aside / picture_name(reel, frame.number, format), frame, reel.facts, format, code, dated)
        # Another process may have made the same meanwhile.
        with suppress(OSError):
            aside.replace(folder)
        if not folder.exists():
            raise SweepError(f"{folder} cannot be written. Choose another place for it.")


def picture_name(reel: ReelReader, number: int, format: DeliveryFormat) -> str:
    """The name of a picture: the source's own with the new ending, or the reel's with the frame number."""
    inner = reel.innermost() if isinstance(reel, WrappedReel) else reel
    if isinstance(inner, SequenceReader):
        return Path(inner.name_of(number)).with_suffix(format.suffix).name
    return f"{reel.path.stem}.{number:06d}{format.suffix}"


def gather(chunks: Sequence[Path], reel: ReelReader, out: Path, cut: Cut, report: str) -> None:
    """Put the chunks' pictures into one folder, with the sound as WAV files and the report beside them.

    Parameters
    ----------
    out : Path
        Folder; appears only when whole.
    """
    aside = out.with_name(f".{out.name}.part")
    shutil.rmtree(aside, ignore_errors=True)
    aside.mkdir(parents=True)
    try:
        for chunk in chunks:
            for picture in sorted(chunk.iterdir()):
                # A link costs no room; a disk that cannot link gets a copy.
                try:
                    os.link(picture, aside / picture.name)
                except OSError:
                    shutil.copy2(picture, aside / picture.name)
        start, end = sound_span(reel, cut)
        midnight = seconds_after_midnight(reel.facts.time_code, reel.rate)
        for n, sound in enumerate(reel.facts.sounds, start=1):
            begin = reel.facts.start
            write_wav(aside / f"{reel.path.stem}-sound-{n}.wav", reel.path, sound.index, begin + start, begin + end, midnight + start)
        (aside / REPORT_FILE).write_text(report, encoding="utf-8")
        if out.exists():
            shutil.rmtree(out)
        aside.replace(out)
    except OSError as error:
        shutil.rmtree(aside, ignore_errors=True)
        if error.errno in FULL:
            raise disk_full(out) from error
        raise SweepError(f"{out} cannot be written ({error.strerror}). Choose another place for it.") from error
    except BaseException:
        shutil.rmtree(aside, ignore_errors=True)
        raise


def _failure(path: Path, made: oiio.ImageOutput | None) -> SweepError:
    said = (made.geterror() if made else oiio.geterror()).strip()
    try:
        with open(path.with_name(f".{path.stem}.probe"), "wb") as probe:
            probe.write(bytes(1 << 16))
    except OSError as error:
        if error.errno in FULL:
            return disk_full(path)
    finally:
        path.with_name(f".{path.stem}.probe").unlink(missing_ok=True)
    return SweepError(f"{path.name} cannot be written ({said or 'no reason given'}). Choose another format or place.")
