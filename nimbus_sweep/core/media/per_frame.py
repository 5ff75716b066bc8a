"""A step that works on each frame by itself, as a frame source over a frame source."""

from __future__ import annotations

from collections.abc import Callable, Iterator

from .frames import Frame, FrameSource


class FrameByFrame:
    """A source with `mend` put on frames `first` to `stop` - 1; missing frames, and all others, are the source's own."""

    def __init__(self, source: FrameSource, mend: Callable[[Frame], Frame], first: int, stop: int) -> None:
        self.format, self.colour, self.rate = source.format, source.colour, source.rate
        self._source, self._mend, self._range = source, mend, range(first, stop)

    def __len__(self) -> int:
        return len(self._source)

    def frame(self, number: int) -> Frame:
        """Frame `number`, mended."""
        return self._mended(self._source.frame(number))

    def frames(self, first: int, stop: int) -> Iterator[Frame]:
        """Frames `first` to `stop` - 1, mended."""
        return map(self._mended, self._source.frames(first, stop))

    def _mended(self, frame: Frame) -> Frame:
        return frame if frame.missing or frame.number not in self._range else self._mend(frame)
