"""Edit decision lists: CMX 3600 and OpenTimelineIO files, read and written by the OpenTimelineIO library."""

from __future__ import annotations

from collections.abc import Sequence
from fractions import Fraction

import opentimelineio as otio
from opentimelineio.opentime import RationalTime, TimeRange

from ..base.errors import SweepError
from ..media.timecode import counting_rate, frame_of
from ..model.shots import Shot

KINDS = {"edl": "cmx_3600", "otio": "otio_json"}
# So many frames beyond a reel's end are taken for the list's own rounding.
_SLACK = 2


def read_cuts(text: str, kind: str, frames: int, rate: Fraction) -> list[tuple[int, str]]:
    """First frames and names of the shots a list describes.

    Parameters
    ----------
    text : str
        The file's contents.
    kind : str
        ``edl`` or ``otio``.
    frames : int
        Of the reel.
    rate : Fraction
        Of the reel.

    Raises
    ------
    SweepError
        If it cannot be understood, or is the list of another reel.
    """
    counted = counting_rate(rate)
    try:
        arguments = {"rate": counted, "ignore_timecode_mismatch": True} if kind == "edl" else {}
        read = otio.adapters.read_from_string(text, KINDS[kind], **arguments)
    except Exception as error:
        said = str(error).strip().splitlines()
        raise SweepError(
            f"The list cannot be read as {'CMX 3600' if kind == 'edl' else 'OpenTimelineIO'} ({said[0][:140] if said else type(error).__name__}). Export it again."
        ) from error
    tracks = [t for t in getattr(read, "tracks", []) if t.kind == otio.schema.TrackKind.Video]
    if not tracks:
        raise SweepError("The list has no track of pictures. Export the one with the picture cuts.")
    cuts: list[tuple[int, str]] = []
    end = 0
    for item in tracks[0]:
        if isinstance(item, otio.schema.Transition):
            continue
        placed: TimeRange = item.range_in_parent()
        start = round(placed.start_time.value_rescaled_to(counted))
        end = max(end, round(placed.end_time_exclusive().value_rescaled_to(counted)))
        cuts.append((start, "" if isinstance(item, otio.schema.Gap) else str(item.name or "")[:120]))
    if not cuts:
        raise SweepError("The list has no event. Export it again.")
    if end > frames + _SLACK:
        raise SweepError(
            f"The list runs to frame {end}, the reel has {frames}: it is the list of another reel, or of another rate than {float(rate):.3f}."
        )
    if end < frames // 2:
        raise SweepError(
            f"The list ends at frame {end} of {frames}: it is the list of another reel, or of another rate than {float(rate):.3f}."
        )
    return [(at, name) for at, name in cuts if at < frames]


def write_cuts(shots: Sequence[Shot], kind: str, title: str, reel: str, rate: Fraction, start: str = "") -> str:
    """The shots as a list: each an event whose source and place are the same frames of the reel.

    Parameters
    ----------
    kind : str
        ``edl`` or ``otio``.
    title, reel : str
        Of the list, and the name of the reel's file.
    start : str
        Time code of the reel's first frame.
    """
    counted = counting_rate(rate)
    try:
        offset = frame_of(start, rate) if start else 0
    except ValueError:
        offset = 0
    timeline = otio.schema.Timeline(name=title, global_start_time=RationalTime(offset, counted))
    track = otio.schema.Track(kind=otio.schema.TrackKind.Video)
    timeline.tracks.append(track)
    available = TimeRange(RationalTime(offset, counted), RationalTime(shots[-1].stop, counted))
    for n, shot in enumerate(shots):
        media = otio.schema.ExternalReference(target_url=reel, available_range=available)
        media.name = reel
        span = TimeRange(RationalTime(offset + shot.first, counted), RationalTime(shot.stop - shot.first, counted))
        track.append(otio.schema.Clip(name=shot.name or f"Shot {n + 1}", media_reference=media, source_range=span))
    arguments = {"rate": counted} if kind == "edl" else {}
    return str(otio.adapters.write_to_string(timeline, KINDS[kind], **arguments))
