"""Damage that a decoder passes over or hides: told by the checks that formats carry, and by what their coding rules out."""

from __future__ import annotations

import re
import zlib
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import BinaryIO

import av
import cv2
import numpy as np

from .holes import EBML, SEGMENT, element_size

# FFV1 (RFC 9043, 4.9): each slice ends in its size (3 bytes), a state (1) and a parity (4) where the stream carries them.
_FOOTER, _SIZE = 8, 3
_TURNED = np.array([int(f"{n:08b}"[::-1], 2) for n in range(256)], np.uint8)
_ONES = 0xFFFFFFFF
# Never inside a unit of H.264 (ITU-T H.264, 7.4.1.1) or H.265 (ITU-T H.265, 7.4.2.1).
_FORBIDDEN = re.compile(rb"\0\0[\0\x02]")
# The same in a byte stream (annex B of both): zeros may stand before the next start code, and at the end.
_FORBIDDEN_BETWEEN = re.compile(rb"\0\0(?:\x02|\0+[^\0\x01])")
# Matroska (RFC 9559): elements of the first level, and the check they may begin with (RFC 8794, 11.3.1).
_CLUSTER, _TRACKS = 0x1F43B675, 0x1654AE6B
_CHECK = b"\xbf\x84"
_BLOCK = 1 << 20
# In the pictures of MJPEG, within coded data (ITU-T T.81, B.1.1.5): marks that cannot stand there, and where that data begins.
_NO_MARKS, _SCAN = re.compile(rb"\xff[\x01-\xbf]"), b"\xff\xda"
# Transport streams (ITU-T H.222.0, 2.4.3.2): how long packets can be and where they begin in them, how each begins, and those without content.
_PACKETS, _SYNC, _NULL = ((188, 0), (192, 4), (204, 0)), 0x47, 0x1FFF
_STREAM_BLOCK = 1 << 15

# Whether a packet holds what was written.
PacketCheck = Callable[[bytes], bool]


def packet_check(stream: av.VideoStream, has_parity: bool) -> PacketCheck | None:
    """How packets of a stream can be checked without decoding them; None where their coding offers nothing.

    Parameters
    ----------
    stream : av.VideoStream
    has_parity : bool
        FFV1: slices carry a parity.

    Returns
    -------
    check : callable or None
        Called with the bytes of a packet, False where they are not what was written.
    """
    name, head = stream.codec_context.name, stream.codec_context.extradata or b""
    if name == "ffv1" and has_parity:
        return lambda data: all(_slices(data))
    if name in ("h264", "hevc"):
        at = 4 if name == "h264" else 21
        if len(head) > at and head[0] == 1:
            length = (head[at] & 3) + 1
            return lambda data: _units_are_whole(data, length)
        return lambda data: _FORBIDDEN_BETWEEN.search(data) is None
    if name == "mjpeg":
        return lambda data: _NO_MARKS.search(data, max(0, data.find(_SCAN))) is None
    return None


def has_parity(data: bytes) -> bool:
    """Whether a packet of FFV1 holds a slice whose parity is right; one that is by chance comes once in 2**32."""
    return any(_slices(data))


def _slices(data: bytes) -> Iterator[bool]:
    """Whether each slice of a packet of FFV1 is what was written, from the last to the first (RFC 9043, 4.9.3)."""
    turned = memoryview(cv2.LUT(np.frombuffer(data, np.uint8), _TURNED).ravel()) if data else memoryview(b"")
    end = len(data)
    while end > 0:
        size = int.from_bytes(data[end - _FOOTER : end - _FOOTER + _SIZE], "big")
        begin = end - _FOOTER - size
        if begin < 0:
            yield False
            return
        # The parity makes the remainder of the whole slice nothing, its bits taken from the highest on.
        yield zlib.crc32(turned[begin:end], _ONES) == _ONES
        end = begin


def _units_are_whole(data: bytes, length: int) -> bool:
    at = 0
    while at + length <= len(data):
        begin = at + length
        at = begin + int.from_bytes(data[at:begin], "big")
        # Zeros may follow a picture, to fill it up to a rate.
        if at > len(data) or _FORBIDDEN.search(data[begin:at].rstrip(b"\0")) is not None:
            return False
    return at == len(data)


def altered_stretches(path: Path) -> list[tuple[int, int]]:
    """Bytes of a file that are not what was written, by the checks that Matroska and transport streams carry.

    Parameters
    ----------
    path : Path

    Returns
    -------
    stretches : list of (int, int)
        First byte, and the one behind the last; none for other files, and for those that carry no checks.
    """
    altered = []
    with path.open("rb") as stream:
        head = stream.read(5 * 204)
        for length, at in _PACKETS:
            if len(head) == 5 * 204 and all(head[n * length + at] == _SYNC for n in range(5)):
                return _altered_packets(stream, path.stat().st_size, length, at)
        if not head.startswith(EBML):
            return []
        for name, begin, end in _first_level(stream, path.stat().st_size):
            if name in (_CLUSTER, _TRACKS) and not _agrees(stream, begin, end):
                altered.append((begin, end))
    return altered


def _first_level(stream: BinaryIO, size: int) -> Iterator[tuple[int, int, int]]:
    """Name, first byte and the one behind the last of each element in the segment, as far as they follow each other."""
    stream.seek(0)
    head = stream.read(4096)
    at = head.find(SEGMENT)
    if at < 0 or (told := element_size(head, at + len(SEGMENT))) is None:
        return
    at += len(SEGMENT) + told[1]
    while at + 12 < size:
        stream.seek(at)
        head = stream.read(12)
        length = 9 - head[0].bit_length()
        told = element_size(head, length) if length <= 4 else None
        if told is None or told[0] is None:
            return
        begin = at + length + told[1]
        at = begin + told[0]
        if at <= size:
            yield int.from_bytes(head[:length], "big"), begin, at


def _agrees(stream: BinaryIO, begin: int, end: int) -> bool:
    stream.seek(begin)
    head = stream.read(6)
    if not head.startswith(_CHECK):
        return True
    found, left = 0, end - begin - len(head)
    while left > 0 and (block := stream.read(min(left, _BLOCK))):
        found = zlib.crc32(block, found)
        left -= len(block)
    return found == int.from_bytes(head[2:], "little")


def _altered_packets(stream: BinaryIO, size: int, length: int, at: int) -> list[tuple[int, int]]:
    """Packets of a transport stream that do not begin as they have to or do not count on from the one before them (H.222.0, 2.4.3.3)."""
    altered = [(size - size % length, size)] if size % length else []
    counts: dict[int, int] = {}
    stream.seek(0)
    for begin in range(0, size - size % length, length * _STREAM_BLOCK):
        data = np.frombuffer(stream.read(length * _STREAM_BLOCK), np.uint8)
        head = data[: data.size // length * length].reshape(-1, length)[:, at : at + 6].astype(np.int64)
        name, content, count = (head[:, 1] & 0x1F) << 8 | head[:, 2], head[:, 3] >> 4 & 1, head[:, 3] & 15
        broken = (head[:, 0] != _SYNC) | (head[:, 1] >> 7 == 1)
        leaps = (head[:, 3] >> 5 & 1 == 1) & (head[:, 4] > 0) & (head[:, 5] >> 7 == 1)
        for one in np.unique(name[~broken & (name != _NULL)]).tolist():
            its = np.flatnonzero((name == one) & ~broken)
            before = np.concatenate([[counts.get(one, -1)], count[its][:-1]])
            # A packet may come twice, and one without content does not count on.
            goes_on = (count[its] == (before + content[its]) % 16) | (count[its] == before) | leaps[its] | (before < 0)
            broken[its[~goes_on]] = True
            counts[one] = int(count[its][-1])
        altered += [(begin + n * length, begin + (n + 1) * length) for n in np.flatnonzero(broken).tolist()]
    return altered
