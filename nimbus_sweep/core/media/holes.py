"""What is lost where a file was damaged and the reader went on behind: told from the bytes that no packet accounts for."""

from __future__ import annotations

import bisect
from collections.abc import Sequence
from pathlib import Path

import numpy as np

# Where a packet lies in its file, its bytes, and for pictures their time stamp.
Place = tuple[int, int, int | None]
# How far, as a share, a time between pictures may be from the usual one, and the share of times that have to be so.
_ALIKE, _MOST = 0.2, 0.8
# Pictures each side of a gap that may be coded out of order.
_REORDERED = 3
# Bytes between packets, beyond what is usual there, that are a hole.
_HOLE = 64
# Matroska (RFC 8794, 9559): how a file begins, the identifier of its segment, and bytes of the file that lies in.
EBML, SEGMENT, _HEAD = b"\x1a\x45\xdf\xa3", b"\x18\x53\x80\x67", 4096


def lost_stamps(stamps: Sequence[int], places: Sequence[Place]) -> list[int]:
    """Time stamps of the pictures that lay in a hole of the file.

    A stretch that cannot be read makes a gap in time; so does a camera that left out pictures, but then nothing lies between them in the
    file.

    Parameters
    ----------
    stamps : sequence of int
        Of the pictures, in order.
    places : sequence of (int, int, int or None)
        Byte, size and time stamp of each packet, of all streams; None for what is no picture.

    Returns
    -------
    lost : list of int
        Evenly in each gap.
    """
    if len(stamps) < 8 or len(places) < 8:
        return []
    steps = np.diff(np.asarray(stamps, np.float64))
    usual = float(np.median(steps))
    if usual <= 0 or np.mean(np.abs(steps / usual - 1) < _ALIKE) < _MOST:
        return []
    ordered = sorted(places)
    ends = np.maximum.accumulate([pos + size for pos, size, _ in ordered])
    between = np.array([pos for pos, *_ in ordered[1:]]) - ends[:-1]
    holes = np.flatnonzero(between > 4 * max(0.0, float(np.percentile(between, 90))) + _HOLE)
    begins = [int(ends[n]) for n in holes]
    at = {stamp: pos for pos, _, stamp in ordered if stamp is not None}
    lost: list[int] = []
    for n in np.flatnonzero(steps > 1.5 * usual).tolist():
        before, behind = stamps[n], stamps[n + 1]
        # Pictures may be coded out of order: those beside the gap tell where in the file it is.
        about = [at[stamp] for stamp in stamps[max(0, n - _REORDERED) : n + 2 + _REORDERED] if stamp in at]
        first, last = min(about, default=0), max(about, default=0)
        if bisect.bisect_right(begins, last) > bisect.bisect_left(begins, first):
            count = round((behind - before) / usual) - 1
            lost += [before + round(k * (behind - before) / (count + 1)) for k in range(1, count + 1)]
    return lost


def segment_is_cut_short(path: Path) -> bool:
    """Whether a Matroska file ends before its segment does, by the size that its head gives (RFC 8794, 9559)."""
    with path.open("rb") as stream:
        head = stream.read(_HEAD)
    at = head.find(SEGMENT)
    if not head.startswith(EBML) or at < 0 or (told := element_size(head, at + len(SEGMENT))) is None or told[0] is None:
        return False
    return at + len(SEGMENT) + told[1] + told[0] > path.stat().st_size


def element_size(data: bytes, at: int) -> tuple[int | None, int] | None:
    """Size of an element of Matroska (RFC 8794, 4.4) and the bytes it is told in.

    Parameters
    ----------
    data : bytes
    at : int
        Where the size begins.

    Returns
    -------
    told : (int or None, int), or None
        A size of None is not known, as of a recording that was not ended; None where nothing can be read.
    """
    length = 9 - data[at].bit_length() if at < len(data) else 9
    if length > 8 or at + length > len(data):
        return None
    size = int.from_bytes(data[at : at + length], "big") - (1 << (7 * length))
    return (None if size == (1 << (7 * length)) - 1 else size), length
