"""The light of a shot's held frames, and the camera's way through them."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from functools import cached_property, lru_cache, partial

import cv2
import numpy as np

from ..base.parallel import parallel_map
from ..imaging.box import Box
from ..imaging.grain import flattest
from ..imaging.light import is_logarithmic, light_of
from ..imaging.motion import Field, Plane, carried
from ..media.frames import Samples
from ..model.regions import Masked
from .light_record import LightRecord
from .time_volume import TimeVolume
from .travel import Travel, travel

_TRAVEL_WIDTH = 200


class ShotLight:
    """The light of a shot's held frames, read as it is asked for.

    Parameters
    ----------
    volume : TimeVolume
    hold_out : Region
        Part of the picture that is not to be looked at.
    """

    def __init__(self, volume: TimeVolume, hold_out: Masked | None = None) -> None:
        self.volume = volume
        self._hold_out = hold_out if hold_out is not None and hold_out.parts else None
        layout = volume.format
        self.shape = (layout.height, layout.width)
        names = [c.name for c in layout.components]
        self._mixed = [(names.index(n), w) for n, w in (("R", 0.2126), ("G", 0.7152), ("B", 0.0722))] if "G" in names else [(0, 1.0)]
        self._logarithmic = is_logarithmic(volume.colour)
        # What is kept does not know of this object: otherwise it would outlive it, until cycles are looked for.
        self._cached = lru_cache(maxsize=max(8, (200 << 20) // (4 * layout.width * layout.height)))(partial(_light, volume, self._mixed))
        self._usable = lru_cache(maxsize=8)(partial(_unheld, self._hold_out, self.shape))

    def __len__(self) -> int:
        return len(self.volume.numbers)

    def __call__(self, at: int) -> Plane:
        """Light of held frame `at`: (height, width), float32, in 8-bit codes above black."""
        return self._cached(at)

    def part(self, at: int, box: Box) -> Plane:
        """The same within a box, at the size the box is looked at."""
        return box.reduced(_light(self.volume, self._mixed, at, box.samples))

    def small(self, at: int, factor: int) -> Plane:
        """The same, `factor` times smaller."""
        if factor == 1:
            return self(at)
        size = (self.shape[1] // factor, self.shape[0] // factor)

        def smaller(samples: Samples) -> Samples:
            return np.asarray(cv2.resize(samples.astype(np.float32), size, interpolation=cv2.INTER_AREA))

        # Means of samples are means of light unless the samples are logarithms.
        return smaller(self(at)) if self._logarithmic else _light(self.volume, self._mixed, at, smaller)

    @property
    def is_whole(self) -> bool:
        """Whether nothing is held out."""
        return self._hold_out is None

    def usable(self, at: int) -> Plane | None:
        """1 where held frame `at` may be looked at, 0 where it is held out: (height, width); None for everywhere."""
        if self._hold_out is None:
            return None
        return self._usable(int(self.volume.numbers[at]) if self._hold_out.changes else 0)

    def usable_both(self, one: int, other: int, motion: Field, places: Field, factor: int) -> Plane:
        """The same, `factor` times smaller, of two frames at once along the motion between them."""
        mine, theirs = self.usable(one), self.usable(other)
        size = (places.shape[1], places.shape[0])
        if mine is None or theirs is None:
            return np.ones(size[::-1], np.float32)
        near, away = (cv2.resize(m, size, interpolation=cv2.INTER_AREA) if factor > 1 else m for m in (mine, theirs))
        return np.asarray((near > 0.99) * (carried(away, motion, places, smooth=False) > 0.99), np.float32)

    @cached_property
    def noise(self) -> float:
        """Standard deviation of the noise, on the flattest parts (Immerkaer 1996), in codes."""
        return float(np.median([flattest(self(at), 15) for at in range(0, len(self), max(1, len(self) // 6))]))


def _light(volume: TimeVolume, mixed: Sequence[tuple[int, float]], at: int, taken: Callable[[Samples], Samples] | None = None) -> Plane:
    """Light of a held frame, or of what is taken of its samples: of components by their numbers, each with its weight."""
    lights = []
    for index, weight in mixed:
        samples = volume.component_stack(index)[at]
        component = volume.format.components[index]
        lights.append(np.float32(weight) * light_of(taken(samples) if taken else samples, component, volume.colour))
    return lights[0] if len(lights) == 1 else np.sum(lights, axis=0)


def _unheld(hold_out: Masked | None, shape: tuple[int, int], frame: int) -> Plane:
    assert hold_out is not None
    return np.asarray((hold_out.mask(shape, frame) == 0).astype(np.float32))


def way_of(light: ShotLight, noise: float, record: LightRecord | None = None, on_progress: Callable[[float], None] | None = None) -> Travel:
    """The camera's way through the shot, by its small pictures: those of `record`, where there is one."""
    height, width = light.shape
    if record is not None:
        small = [record.light(int(n) - record.first) for n in light.volume.numbers]
    else:
        factor = max(1, min(width // _TRAVEL_WIDTH, height // 32))
        small = list(parallel_map(lambda n: light.small(n, factor), range(len(light))))
    usable = [light.usable(n) for n in range(len(light))]
    masks = [None if m is None else cv2.resize(m, small[0].shape[::-1], interpolation=cv2.INTER_AREA) for m in usable]
    return travel(small, noise / 2, (width, height), masks, on_progress)
