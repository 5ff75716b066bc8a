"""Following a plane through the frames of a shot."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence

import numpy as np

from ..imaging.levels import luma
from ..imaging.motion import Plane
from ..imaging.planar_tracking import PlanarTracker
from ..media.frames import Frame, FrameSource
from ..model.planes import Followed
from ..model.regions import Masked
from ..model.tracks import Riding, Track

# Frames read at once when a shot is gone through backwards.
_BLOCK = 24


def lights_along(source: FrameSource, numbers: Sequence[int]) -> Callable[[int], Plane | None]:
    """Luma of frames that are asked for in order, forwards or backwards; only some are held at a time."""
    held: dict[int, Plane | None] = {}
    backwards = len(numbers) > 1 and numbers[1] < numbers[0]
    places = {n: k for k, n in enumerate(numbers)}
    ahead: list[Iterator[Frame]] = []

    def of(frame: Frame) -> Plane | None:
        return None if frame.missing else luma(frame)

    def light(number: int) -> Plane | None:
        if number not in held:
            at = places[number]
            if backwards:
                held.clear()
                block = sorted(numbers[at : at + _BLOCK])
                held.update({f.number: of(f) for f in source.frames(block[0], block[-1] + 1)})
            else:
                if not ahead:
                    ahead.append(source.frames(number, max(numbers) + 1))
                frame = next(ahead[0])
                while frame.number < number:
                    frame = next(ahead[0])
                held.clear()
                held[number] = of(frame)
        return held[number]

    return light


# Share of a plane that has to be left for what lies above it to be kept out of it by itself.
_LEFT = 0.4


def _leaves_enough(track: Track, above: Masked, size: tuple[int, int]) -> bool:
    plane = track.region.mask(size, track.reference) > 0.5
    covered = above.mask(size, track.reference) > 0.02
    return bool((plane & ~covered).sum() >= _LEFT * plane.sum())


def follow(
    source: FrameSource,
    track: Track,
    at: int,
    towards: Sequence[int],
    above: Sequence[Masked] = (),
    tracks: Sequence[Track] = (),
    on_progress: Callable[[float], None] | None = None,
) -> Followed:
    """Follow a track's plane from a frame.

    Parameters
    ----------
    source : FrameSource
    track : Track
    at : int
        The frame it begins at; where the plane is known, or the reference.
    towards : sequence of int
        The frames it is followed through, in that order, beginning with `at`.
    above : sequence of Masked
        What lies above: what it covers is kept out, unless hardly anything of the plane would be left.
    tracks : sequence of Track
        All that its hold-out may ride on.
    on_progress : callable
        Told the share done, 0 to 1; may raise to stop.
    """
    size = (source.format.height, source.format.width)
    kept_out = [one for one in above if _leaves_enough(track, one, size)]
    if track.hold_out is not None and track.hold_out.parts:
        kept_out.append(Riding(track.hold_out, tuple(tracks)))

    def held_out(number: int) -> Plane:
        return np.max([one.mask(size, number) for one in kept_out], 0)

    numbers = [int(n) for n in towards]
    start = np.eye(3) if at == track.reference and not track.path else track.way(at)
    follower = PlanarTracker(lights_along(source, numbers), track.region, track.model, held_out if kept_out else None)
    return follower.follow(numbers, start, on_progress, corners=track.corners())
