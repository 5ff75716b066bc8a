"""Pictures of a stream as they are decoded, and whether each is what was written."""

from __future__ import annotations

from collections.abc import Iterator

import av

from .damage import PacketCheck


def pictures(container: av.container.InputContainer, check: PacketCheck | None = None) -> Iterator[tuple[av.VideoFrame, bool]]:
    """Every picture that comes out of the decoder, and whether it is sound.

    One is not where the decoder made up a part of it, where its packet is not what was written, and where it is coded on others since
    the last key frame of which one was lost or is not sound. Packets that give no picture are passed over.

    Parameters
    ----------
    container : av.container.InputContainer
    check : callable or None
        Whether the bytes of a packet are what was written.

    Yields
    ------
    picture : av.VideoFrame
    is_sound : bool
    """
    altered: set[int | None] = set()
    # Some decoders do not say which pictures are coded on their own; the file does.
    keys: set[int | None] = set()
    hurt = False
    try:
        for packet in container.demux(container.streams.video[0]):
            if packet.is_keyframe and packet.pts is not None:
                keys.add(packet.pts)
            if check is not None and packet.size and not check(bytes(packet)):
                altered.add(packet.pts)
            try:
                came = packet.decode()
            except av.FFmpegError:
                # Decoders refuse what is damaged in many ways.
                hurt = True
                continue
            for picture in came:
                if picture.key_frame or picture.pts in keys:
                    hurt = False
                    keys.discard(picture.pts)
                if picture.is_corrupt or (picture.pts is not None and picture.pts in altered):
                    hurt = True
                yield picture, not hurt
    except av.error.InvalidDataError:
        return
