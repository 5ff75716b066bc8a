"""Sound decoded and cut to the sample, and written as Broadcast WAV beside image sequences."""

from __future__ import annotations

from collections.abc import Iterator
from fractions import Fraction
from pathlib import Path
from typing import Any

import av
import numpy as np

from ..base.files import atomic_write

_BLOCK = 4096


def trimmed(path: Path, index: int, start: Fraction, end: Fraction, sample_format: str) -> Iterator[av.AudioFrame]:
    """Stream `index` of a file from `start` to `end`, in seconds of the file's own clock.

    Where the sound begins late, silence is put before it; it may end early.

    Parameters
    ----------
    sample_format : str
        Of the media library: packed or planar, as the encoder wants it.
    """
    with av.open(str(path), metadata_errors="replace") as container:
        stream = container.streams[index]
        assert isinstance(stream, av.AudioStream)
        rate = stream.rate or 48000
        layout = stream.layout.name if stream.layout else "stereo"
        first, stop = round(start * rate), round(end * rate)
        resampler = av.AudioResampler(format=sample_format, layout=layout, rate=rate)
        at: int | None = None
        for decoded in container.decode(stream):
            if at is None:
                begins = decoded.pts * decoded.time_base if decoded.pts is not None and decoded.time_base else Fraction(0)
                at = round(begins * rate)
                if at > first:
                    yield from _silence(min(at, stop) - first, sample_format, layout, rate)
            decoded.pts = None
            for frame in resampler.resample(decoded):
                from_, to = max(first - at, 0), min(stop - at, frame.samples)
                at += frame.samples
                if from_ < to:
                    yield frame if from_ == 0 and to == frame.samples else _part(frame, from_, to)
            if at >= stop:
                return


def _part(frame: av.AudioFrame, first: int, stop: int) -> av.AudioFrame:
    samples: Any = frame.to_ndarray()
    channels = 1 if frame.format.is_planar else len(frame.layout.channels)
    cut = av.AudioFrame.from_ndarray(
        np.ascontiguousarray(samples[:, first * channels : stop * channels]), frame.format.name, frame.layout.name
    )
    cut.sample_rate = frame.sample_rate
    return cut


def _silence(count: int, sample_format: str, layout: str, rate: int) -> Iterator[av.AudioFrame]:
    while count > 0:
        block = av.AudioFrame(sample_format, layout, min(count, _BLOCK))
        for plane in block.planes:
            plane.update(bytes(plane.buffer_size))
        block.sample_rate = rate
        count -= block.samples
        yield block


def write_wav(out: Path, path: Path, index: int, start: Fraction, end: Fraction, time_reference: Fraction = Fraction(0)) -> None:
    """Write a stream of sound as Broadcast WAV (EBU Tech 3285).

    Parameters
    ----------
    out : Path
        Appears only when whole.
    path, index, start, end
        As for `trimmed`.
    time_reference : Fraction
        Seconds after midnight of the first sample; kept in samples.
    """
    with av.open(str(path), metadata_errors="replace") as source:
        stream = source.streams[index]
        assert isinstance(stream, av.AudioStream)
        rate, layout = stream.rate or 48000, stream.layout.name if stream.layout else "stereo"
        codec = "pcm_s16le" if stream.codec_context.name in ("pcm_s16le", "pcm_s16be", "pcm_u8") else "pcm_s24le"
    with atomic_write(out) as file, av.open(file, "w", format="wav", options={"write_bext": "1"}) as container:
        container.metadata["originator"] = "Nimbus Sweep"
        container.metadata["time_reference"] = str(round(time_reference * rate))
        made = container.add_stream(codec, rate=rate, layout=layout)
        assert isinstance(made, av.AudioStream)
        position = 0
        for frame in trimmed(path, index, start, end, made.codec_context.format.name):
            frame.pts, frame.time_base = position, Fraction(1, rate)
            position += frame.samples
            container.mux(made.encode(frame))
        container.mux(made.encode(None))
