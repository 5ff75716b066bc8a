"""Shots: where a reel is cut, and which of its frames are repeated.

Cuts are found by the PySceneDetect library's adaptive detector (its score is the mean change of hue, saturation
and brightness, held against that of the frames around); what it names is then checked for flashes, after which
the picture from before comes back.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from dataclasses import dataclass, replace
from fractions import Fraction
from itertools import pairwise
from pathlib import Path
from typing import Any

import cv2
import numpy as np
from numpy.typing import NDArray
from scenedetect import FrameTimecode
from scenedetect.detectors import AdaptiveDetector

from .frames import Frame, FrameSource
from .media.aside import written_aside

_WIDTH = 160
_THUMB = (32, 18)
# How much stronger than around it a change must be, and how large (0 to 255), for the library to name it.
_RATIO, _CHANGE = 2.5, 8.0
# A flash is over within so many frames.
_FLASH = 8
# Correlation of two pictures' structure from which they show the same scene, and that across a flash at least.
_SAME, _BACK = 0.75, 0.2
# The same where the picture between has no structure: the scene may have moved on behind it.
_SAME_MOVING, _FLAT, _BRIGHTER = 0.45, 6, 15
# Correlation across a change from which only the light has changed.
_LIGHT_ALONE = 0.96
# Fine structure of small pictures: the blur of the light it is told from, tiles down and across, what makes one structured, how
# many have to be, and their correlation where the scene is the same (measured: 0.97 across flashes, at most 0.1 across cuts).
_FINE, _TILES, _STRUCTURED, _LEAST_TILES, _SAME_TILE = 1.6, (3, 4), 0.15, 4, 0.7
# Mean brightness, 0 to 255, below which a picture is black to the eye.
_BLACK = 12


@dataclass(frozen=True)
class FoundCut:
    """A cut: `at` is the first frame behind it; `change` how much its brightness changes place by place, 0 to 255."""

    at: int
    change: float


class CutFinder:
    """Looks for cuts as frames go by, as small pictures."""

    def __init__(self) -> None:
        self._detector = AdaptiveDetector(adaptive_threshold=_RATIO, min_scene_len=2, min_content_val=_CHANGE)
        self._thumbs: list[NDArray[np.uint8]] = []
        self._named: list[int] = []
        self._frames = 0
        self._before: NDArray[np.uint8] | None = None

    def add(self, picture: NDArray[np.uint8], missing: bool = False) -> None:
        """Take in the next frame as a small picture (height, width, 3), blue, green, red."""
        if missing and self._before is not None:
            # A missing frame is no change of scene.
            picture = self._before
        tall = max(8, round(picture.shape[0] * _WIDTH / picture.shape[1]))
        # Smoothed, so that grain does not count as change.
        small = cv2.blur(cv2.resize(picture, (_WIDTH, tall), interpolation=cv2.INTER_AREA), (3, 3))
        self._before = picture
        grey = cv2.cvtColor(cv2.resize(small, _THUMB, interpolation=cv2.INTER_AREA), cv2.COLOR_BGR2GRAY)
        self._thumbs.append(grey)
        self._named += [found.frame_num for found in self._detector.process_frame(FrameTimecode(self._frames, 24.0), small)]
        self._frames += 1

    def finish(self) -> list[FoundCut]:
        """The cuts of all frames taken in."""
        kept: list[FoundCut] = []
        for at in self._named:
            if not (self._moves(at) or self._light_alone(at) or self._comes_back(at) or self._fades(at)):
                change = float(cv2.absdiff(self._thumbs[at - 1], self._thumbs[at]).mean())
                kept.append(FoundCut(at, round(change, 1)))
        return kept

    def _moves(self, at: int) -> bool:
        """Whether the picture changes no more there than from frame to frame around: a fast movement that begins or ends."""
        around = [n for n in range(at - 6, at + 7) if n != at and 0 < n < len(self._thumbs)]
        usual = float(np.median([self._unlike(n) for n in around])) if around else 0.0
        return self._unlike(at) < 1.5 * usual

    def _unlike(self, at: int) -> float:
        """How far the structure of a frame is from that of the one before; two without structure are alike."""
        before, behind = self._thumbs[at - 1], self._thumbs[at]
        if max(float(before.std()), float(behind.std())) < _FLAT:
            return 0.0
        return 1 - _alike(before, behind)

    def _light_alone(self, at: int) -> bool:
        """Whether the scene stays and only its light changes."""
        before, behind = self._thumbs[at - 1], self._thumbs[at]
        across = _alike(before, behind)
        if across > _LIGHT_ALONE or _same_all_over(before, behind):
            return True
        if abs(float(before.mean()) - float(behind.mean())) < _BRIGHTER:
            return False
        # A scene that moves is as like itself from frame to frame beside the change as across it.
        beside = [_alike(*self._thumbs[n - 1 : n + 1]) for n in (at - 2, at - 1, at + 1, at + 2) if 0 < n < len(self._thumbs)]
        return bool(beside) and 1 - across < 0.02 + 2.5 * (1 - max(_SAME, float(np.median(beside))))

    def _fades(self, at: int) -> bool:
        """Whether the picture goes into black or comes out of it little by little there."""
        around = [float(p.mean()) for p in self._thumbs[max(0, at - _FLASH) : at + _FLASH]]
        pair = (float(self._thumbs[at - 1].mean()), float(self._thumbs[at].mean()))
        return min(pair) < _BLACK and max(pair) < 0.5 * max(around)

    def _comes_back(self, at: int) -> bool:
        """Whether the change at `at` begins or ends something short, before and after which the scene is the same."""
        before, behind = self._thumbs[at - 1], self._thumbs[at]
        burst = max(before, behind, key=lambda p: float(p.mean()))
        flat = min(float(before.std()), float(behind.std())) < _FLAT
        # What flashes is brighter, or has no picture left in it; a short shot of something else is a shot.
        brighter = float(burst.mean()) - min(float(before.mean()), float(behind.mean())) > _BRIGHTER
        if not flat and not (brighter and _alike(before, behind) > _BACK):
            return False
        first = self._thumbs[max(0, at - _FLASH) : at]
        later = self._thumbs[at : at + _FLASH]
        best = max((_alike(one, other) for one in first for other in later), default=-1.0)
        return best > (_SAME_MOVING if flat else max(_SAME, 1 - 0.5 * (1 - _alike(before, behind))))


def _same_all_over(one: NDArray[np.uint8], other: NDArray[np.uint8]) -> bool:
    """Whether the fine structure of two small pictures is the same in every part: lamps may throw what light they will.

    Each row and each column of tiles has to agree, so that bars about a picture, or a line of text, do not speak for it.
    """
    flat = []
    for picture in (one, other):
        light = np.log(picture.astype(np.float32) + 8)
        flat.append(light - cv2.GaussianBlur(light, (0, 0), _FINE))
    down, across = one.shape[0] // _TILES[0], one.shape[1] // _TILES[1]
    told = np.full(_TILES, np.nan)
    for row, col in np.ndindex(_TILES):
        part = np.s_[row * down : (row + 1) * down, col * across : (col + 1) * across]
        a, b = (f[part] - f[part].mean() for f in flat)
        size = float(np.sqrt((a * a).sum() * (b * b).sum()))
        if size > _STRUCTURED:
            told[row, col] = float((a * b).sum()) / size
    lines = [line[~np.isnan(line)] for line in (*told, *told.T)]
    return int((~np.isnan(told)).sum()) >= _LEAST_TILES and all(float(np.median(line)) > _SAME_TILE for line in lines if len(line))


def _alike(one: NDArray[np.uint8], other: NDArray[np.uint8]) -> float:
    """Correlation of two pictures' structure, brightness and contrast left out; 0 where one has none."""
    a, b = (p.astype(np.float32) - p.mean() for p in (one, other))
    size = float(np.sqrt((a * a).sum() * (b * b).sum()))
    return float((a * b).sum() / size) if size > 50 else 0.0


# -- repeated frames -------------------------------------------------------------------------------------


@dataclass(frozen=True)
class Repeats:
    """Which frames of a reel show the same moment as the one before.

    Attributes
    ----------
    repeated : ndarray, bool, (frames,)
        The frame repeats the one before it.
    cadence : str
        In words; empty when there is none.
    period : tuple of int
        So many distinct frames are carried as so many, such as (4, 5); (0, 0) without a cadence.
    fields : ndarray, int8, (frames,)
        1 where the frame's second field, 2 where its first field, repeats that of the frame before while the rest
        does not: pulled-down film. 0 elsewhere.
    """

    repeated: NDArray[np.bool_]
    cadence: str
    period: tuple[int, int]
    fields: NDArray[np.int8]

    @property
    def representative(self) -> NDArray[np.int64]:
        """For each frame, the number of the first that shows its moment."""
        numbers = np.arange(len(self.repeated))
        return np.maximum.accumulate(np.where(self.repeated, 0, numbers)).astype(np.int64)

    def within(self, ranges: Iterable[tuple[int, int]]) -> NDArray[np.int64]:
        """The same, but no frame of a range (first, stop) is represented by one outside it: what is treated there is."""
        first_of = self.representative
        for first, stop in ranges:
            first_of[first:stop] = np.maximum(first_of[first:stop], first)
        return first_of

    @property
    def distinct(self) -> NDArray[np.int64]:
        """Numbers of the frames that repeat none."""
        return np.flatnonzero(~self.repeated).astype(np.int64)

    @property
    def still_runs(self) -> list[tuple[int, int]]:
        """First and last frames of stretches of six and more that show one moment."""
        runs = []
        starts = [*self.distinct.tolist(), len(self.repeated)]
        for first, stop in pairwise(starts):
            if stop - first >= _STILL:
                runs.append((int(first), int(stop) - 1))
        return runs

    def save(self, path: Path) -> None:
        """Write it to `path`, whole or not at all."""
        with written_aside(path) as stream:
            np.savez(stream, repeated=self.repeated, fields=self.fields, period=np.array(self.period), cadence=np.array(self.cadence))

    @classmethod
    def load(cls, path: Path) -> Repeats:
        """Read one written by `save`."""
        with np.load(path) as told:
            distinct, carried = (int(v) for v in told["period"])
            return cls(told["repeated"], str(told["cadence"]), (distinct, carried), told["fields"])

    def true_rate(self, rate: Fraction) -> Fraction | None:
        """Frames a second without the repeated ones, where they come in a steady cadence."""
        return rate * self.period[0] / self.period[1] if self.period[1] else None


# So many frames of one moment are a still run, not a cadence.
_STILL = 6


class RepeatFinder:
    """Looks for repeated frames as frames go by.

    Each frame is held against the one before in blocks: of a repeated frame even the block that changes most changes
    no more than coding makes it, whether the scene moves in a corner only or its grain alone is alive.
    """

    def __init__(self) -> None:
        self._before: NDArray[Any] | None = None
        self._whole: list[float] = []
        self._same: list[bool] = []
        self._first: list[float] = []
        self._second: list[float] = []

    def add(self, frame: Frame) -> None:
        """Take in the next frame."""
        component = frame.format.components[0]
        now = frame.component(0)
        if now.dtype == np.float16:
            now = now.astype(np.float32)
        if frame.missing or self._before is None or self._before.shape != now.shape:
            self._nothing()
        else:
            # Half of the rows tell as much; both fields are among them.
            change = cv2.absdiff(_rows(now), _rows(self._before))
            # Blocks 16 samples wide first; then rows of all, of the first and of the second field.
            lines = cv2.resize(change.astype(np.float32), (max(1, now.shape[1] // 16), change.shape[0]), interpolation=cv2.INTER_AREA)
            lines /= np.float32(component.code)
            self._same.append(bool(not change.any() and np.array_equal(now, self._before)))
            self._whole.append(_liveliest(lines))
            self._first.append(_liveliest(lines[0::2]))
            self._second.append(_liveliest(lines[1::2]))
        if not frame.missing:
            self._before = now

    def _nothing(self) -> None:
        self._same.append(False)
        for values in (self._whole, self._first, self._second):
            values.append(np.nan)

    def finish(self) -> Repeats:
        """The map of all frames taken in."""
        change = np.array(self._whole)
        repeated = _repeated(change, np.array(self._same))
        fields = _fields(np.array(self._first), np.array(self._second), repeated)
        period = _period(repeated)
        cadence = ""
        if period[1]:
            cadence = f"{period[0]} frames carried as {period[1]}"
        elif len(fields) and (share := float((fields > 0).mean())) > 0.25:
            cadence = f"pulled-down fields, in {100 * share:.0f} % of the frames"
        return Repeats(repeated, cadence, period, fields)


def _rows(samples: NDArray[Any]) -> NDArray[Any]:
    """Two rows of every four."""
    tall = samples.shape[0] // 4 * 4
    if not tall:
        return samples
    return np.ascontiguousarray(samples[:tall].reshape(tall // 4, 4, -1)[:, :2].reshape(tall // 2, -1))


def _liveliest(lines: NDArray[np.float32]) -> float:
    """How much the blocks of 16 samples square that change most change, in 8-bit display steps."""
    if not lines.size:
        return 0.0
    blocks = cv2.resize(np.ascontiguousarray(lines), (lines.shape[1], max(1, lines.shape[0] // 8)), interpolation=cv2.INTER_AREA)
    return float(np.percentile(blocks, 98))


# A dip this deep beside the frames around it and those next to it is a repeat on its own; in a cadence less will do.
_ALONE, _DIP = 0.17, 0.4
_IN_STEP, _AT_MOST = 0.45, 0.8
_PERIODS = (5, 2, 3, 4, 6, 10)
# Where less than this goes on, in 8-bit display steps, only frames that are the very same are told to be repeats.
_ALIVE = 1.2


def _against_usual(change: NDArray[np.float64]) -> NDArray[np.float64]:
    """Each frame's change beside the livelier of those within five frames; 1 where nothing can be told."""
    count = len(change)
    padded = np.pad(change, 5, constant_values=np.nan)
    around = np.stack([padded[5 + d : 5 + d + count] for d in range(-5, 6) if d])
    told = (~np.isnan(around)).sum(0) >= 2
    usual = np.full(count, np.nan)
    if told.any():
        usual[told] = np.nanpercentile(around[:, told], 70, axis=0)
    alive = usual > _ALIVE
    return np.where(np.isnan(change) | ~alive, 1.0, change / np.where(alive, usual, 1.0))


def _repeated(change: NDArray[np.float64], same: NDArray[np.bool_]) -> NDArray[np.bool_]:
    """Repeated frames, by how much each changes from the one before and whether it is the very same."""
    if len(change) < 2:
        return np.zeros(len(change), bool)
    ratio = _against_usual(change)
    beside = np.fmin(np.append(change[1:], np.nan), np.insert(change[:-1], 0, np.nan))
    dip = change < _DIP * np.where(np.isnan(beside), np.inf, beside)
    repeated = same | ((ratio < _ALONE) & dip)
    for period in _PERIODS:
        repeated |= _in_step(ratio, change, period)
    return (repeated | _expected(repeated, change, beside)) & ~np.isnan(change)


def _expected(repeated: NDArray[np.bool_], change: NDArray[np.float64], beside: NDArray[np.float64]) -> NDArray[np.bool_]:
    """Frames at the places where a cadence found elsewhere asks for a repeat, that change less than those next to them."""
    found = np.zeros(len(repeated), bool)
    period = _step(np.flatnonzero(repeated))
    if not period:
        return found
    at = np.flatnonzero(repeated)
    for one, other in pairwise(at):
        if (other - one) % period == 0:
            found[one:other:period] = True
    found[at[0] % period : at[0] : period] = found[at[-1] :: period] = True
    return found & (change < _AT_MOST * np.where(np.isnan(beside), 0, beside))


def _step(at: NDArray[np.int64]) -> int:
    """The distance of repeats that nearly all others are a multiple of; 0 if there is none."""
    if len(at) < 4:
        return 0
    steps = np.diff(at)
    usual = int(np.median(steps))
    return usual if usual >= 2 and (steps % usual != 0).mean() <= 0.1 else 0


def _in_step(ratio: NDArray[np.float64], change: NDArray[np.float64], period: int, spans: int = 6) -> NDArray[np.bool_]:
    """Frames whose change is small at the same places of every period, for `spans` periods or more on end."""
    found = np.zeros(len(ratio), bool)
    for start in range(0, len(ratio) - spans * period + 1):
        window = ratio[start : start + spans * period].reshape(spans, period)
        usual = np.median(window, axis=0)
        low = usual < _IN_STEP * usual.max()
        if not low.any() or usual[~low].min() < 0.6 * usual.max() or usual[low].max() > _IN_STEP:
            continue
        # In every period the frames named lie below all others.
        below = window[:, low].max(1) < _AT_MOST * window[:, ~low].min(1)
        if below.mean() < 0.8:
            continue
        places = np.arange(start, start + spans * period).reshape(spans, period)
        found[places[:, low].ravel()] = True
    return found


def _period(repeated: NDArray[np.bool_]) -> tuple[int, int]:
    """(distinct, carried) where repeats come at the same place of nearly every period."""
    at = np.flatnonzero(repeated)
    step = _step(at)
    if not step or len(at) * step < 0.8 * len(repeated):
        return 0, 0
    return step - 1, step


def _fields(first: NDArray[np.float64], second: NDArray[np.float64], repeated: NDArray[np.bool_]) -> NDArray[np.int8]:
    """Where one field repeats that of the frame before and the other does not."""
    fields = np.zeros(len(first), np.int8)
    if len(first) < 10:
        return fields
    mine, other = (np.where(np.isnan(f), 1.0, f) for f in (first, second))
    usual = np.maximum(mine, other)
    fields[(other < _ALONE * usual) & ~repeated] = 1
    fields[(mine < _ALONE * usual) & ~repeated] = 2
    # One frame alone may be still by chance; film comes in a rhythm.
    return fields if (fields > 0).mean() > 0.15 else np.zeros_like(fields)


class Passing:
    """A source whose frames can be had again as they pass, so that what is made of them can be held against them.

    Only frames behind the last one taken are kept; none is decoded twice.
    """

    def __init__(self, source: FrameSource) -> None:
        self.format, self.colour, self.rate = source.format, source.colour, source.rate
        self._source = source
        self._passed: dict[int, Frame] = {}

    def __len__(self) -> int:
        return len(self._source)

    def frame(self, number: int) -> Frame:
        """Frame `number`."""
        return self._source.frame(number)

    def frames(self, first: int, stop: int) -> Iterator[Frame]:
        """Frames `first` to `stop` - 1."""
        self._passed.clear()
        for frame in self._source.frames(first, stop):
            self._passed[frame.number] = frame
            yield frame

    def taken(self, number: int) -> Frame:
        """Frame `number`, which has passed; those before it are let go."""
        for passed in [n for n in self._passed if n < number]:
            del self._passed[passed]
        return self._passed.pop(number)


class RepairedOnce:
    """A treated source in which each distinct frame is treated once and its repair appears in every copy.

    Where the first copy was repaired, its samples go into the others; where it was not, each keeps its own.

    Parameters
    ----------
    treated : FrameSource
        With the steps on, over `source`.
    source : Passing
        As it came.
    representative : ndarray, int64, (frames,)
        For each frame, the first that shows its moment.
    """

    def __init__(self, treated: FrameSource, source: Passing, representative: NDArray[np.int64]) -> None:
        self.format, self.colour, self.rate = source.format, source.colour, source.rate
        self._treated, self._source, self._first = treated, source, representative
        self._kept: tuple[int, Frame, Frame] | None = None

    def __len__(self) -> int:
        return len(self._source)

    def frame(self, number: int) -> Frame:
        """Frame `number`, treated."""
        first = int(self._first[number])
        if first == number:
            return self._treated.frame(number)
        return self._copied(self._source.frame(number), self._source.frame(first), self._treated.frame(first))

    def frames(self, first: int, stop: int) -> Iterator[Frame]:
        """Frames `first` to `stop` - 1, treated."""
        for treated in self._treated.frames(first, stop):
            number = treated.number
            own = self._source.taken(number)
            at = int(self._first[number])
            if at == number:
                self._kept = (at, own, treated)
                yield treated
            elif self._kept is not None and self._kept[0] == at:
                yield self._copied(own, self._kept[1], self._kept[2])
            else:
                yield self.frame(number)

    def _copied(self, own: Frame, source: Frame, treated: Frame) -> Frame:
        planes = tuple(
            np.where(after != before, after, mine) for mine, before, after in zip(own.planes, source.planes, treated.planes, strict=True)
        )
        return replace(own, planes=planes)
