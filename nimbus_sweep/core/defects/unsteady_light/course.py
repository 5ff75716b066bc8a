"""What the light of whole frames does over time: its rhythm, and which of its changes are meant."""

from __future__ import annotations

from dataclasses import dataclass
from itertools import combinations
from typing import Any, Literal

import numpy as np
from numpy.typing import NDArray
from scipy.fft import dct, idct
from scipy.ndimage import gaussian_filter1d, median_filter

# Float64 throughout; arithmetic hides that from the type checker.
Course = NDArray[Any]
Rhythm = Literal["none", "uneven", "on-off", "jumps", "beat"]

# Longest period that is told as frames dimmed by turns, and shortest of key frames.
_TURNS, _KEYS = 6, 5
# Share of what changes that a rhythm has to explain.
_EXPLAINS = 0.75
# Deviations of what changes between key frames from which a jump stands out; the share of what changes that two of them hold.
_OUT, _KEYED = 5.0, 0.95
# How far a change that is meant stands out, in standard deviations of what flickers, and in log light.
_STANDS_OUT, _LEAST, _MOST = 4.0, 0.03, 10


def unsteadiness(course: Course) -> float:
    """Standard deviation of changes from frame to frame, from the middle of second differences: 0 for ramps and single steps."""
    if len(course) < 3:
        return 0.0
    second = course[:-2] - 2 * course[1:-1] + course[2:]
    return float(np.median(np.abs(second)) / (0.6745 * np.sqrt(6)))


# Frames in a period from which changes are slow, and those down to which others tell how large flicker is.
_SLOW, _TELLING = 20, 6
# Powers with which drift falls off with frequency: a random walk's, and a ramp's; by how much the log likelihood has to gain by it.
_FALLS, _GAINS = (2, 4), 3.0


def drift(course: Course, gains: float = _GAINS) -> Course:
    """What of courses is slower than their flicker makes likely: the scene's own, or what measurements were out by.

    Parameters
    ----------
    course : ndarray, float64, (frames, ...)
        Log light.
    gains : float
        By how much the log likelihood has to gain.

    Returns
    -------
    ndarray, float64, of the same shape
        0 throughout where nothing speaks for any.

    Notes
    -----
    Flicker is alike at all frequencies, as far down as those that tell; drift is strongest at the lowest. Both together
    are fitted to the cosine transform by maximum likelihood, and told apart by the filter of Wiener (1949).
    """
    count = len(course)
    first, second = max(1, 2 * count // _SLOW), 2 * count // _TELLING
    slow = np.zeros(course.shape)
    if second - first < 3:
        return slow
    parts = dct(course, axis=0, norm="ortho")
    flat = np.mean(parts[first + 1 : second + 1] ** 2, axis=0) + 1e-12
    told = parts[1 : second + 1] ** 2 / flat
    number = np.arange(1.0, second + 1).reshape(-1, *[1] * (course.ndim - 1))
    best, share = np.full(flat.shape, gains), np.zeros(told.shape)
    for fall in _FALLS:
        for strength in 2.0 ** np.arange(26):
            red = strength / number**fall
            gain = 0.5 * np.sum(told * red / (1 + red) - np.log1p(red), axis=0)
            share = np.where(gain > best, red / (1 + red), share)
            best = np.maximum(gain, best)
    slow[1 : second + 1] = parts[1 : second + 1] * share
    return np.asarray(idct(slow, axis=0, norm="ortho"))


# Frames over which what changes is slow, for telling lamps apart; the most lamps there are; by how much one stands out of the rest.
_LAMP_SLOW, _LAMPS, _LAMP_OUT = 2.0, 4, 2.0


def by_lamps(field: Course) -> Course:
    """A field of log light over the picture as a few lamps would light it: (frames, ...), what drifts left out.

    Each lamp has one shape over the picture and one course over time. The shapes are the first singular vectors of the fast
    changes (Eckart and Young 1936), as many as stand out of the rest; slow changes of other shapes are none of the lamps'.
    """
    flat = field.reshape(len(field), -1)
    fast = flat - gaussian_filter1d(flat, _LAMP_SLOW, axis=0, mode="nearest")
    _, sizes, shapes = np.linalg.svd(fast, full_matrices=False)
    if len(sizes) <= _LAMPS or not sizes[0]:
        return field
    lamps = max(1, int((sizes[:_LAMPS] > _LAMP_OUT * sizes[_LAMPS]).sum()))
    courses = flat @ shapes[:lamps].T
    return np.asarray(((courses - drift(courses)) @ shapes[:lamps]).reshape(field.shape))


@dataclass(frozen=True)
class RhythmFit:
    """The rhythm of a course.

    Attributes
    ----------
    rhythm : str
    period : float
        In frames; 0 without one.
    pattern : ndarray, float64, (frames,)
        What the rhythm alone makes of the course; zeros without one.
    explained : float
        Share of the fast changes that it explains.
    """

    rhythm: Rhythm
    period: float
    pattern: Course
    explained: float


def rhythm(course: Course, least: float = 0.006, first: int = 0) -> RhythmFit:
    """Name the rhythm of a course of log light; changes below `least` rms are none. `first` is the frame of the reel it begins with."""
    count = len(course)
    nothing = RhythmFit("none", 0.0, np.zeros(count), 0.0)
    if count < 3:
        return nothing
    turns = max(
        (_turns(course, p) for p in range(2, _TURNS + 1) if count >= 3 * p), key=lambda t: t.explained - 0.01 * t.period, default=nothing
    )
    if turns.explained > _EXPLAINS and float(turns.pattern.std()) > least:
        return turns
    keyed = _jumps(course, least, first)
    if keyed is not None:
        return keyed
    if unsteadiness(course) <= least:
        return nothing
    beat = _beat(course)
    return beat if beat is not None else RhythmFit("uneven", 0.0, np.zeros(count), 0.0)


def by_turns(course: Course, period: int) -> Course:
    """What of a course repeats every `period` frames: (frames,), mean 0."""
    return _turns(course, period).pattern


def _turns(course: Course, period: int) -> RhythmFit:
    """Frames dimmed by turns: each phase against the mean of a whole period about it."""
    count = len(course)
    kernel = np.ones(period) / period if period % 2 else np.concatenate([[0.5], np.ones(period - 1), [0.5]]) / period
    half = len(kernel) // 2
    even = np.convolve(np.pad(course, half, mode="reflect", reflect_type="odd"), kernel, "valid")
    away = course - even
    levels = np.array([np.median(away[k::period]) for k in range(period)])
    pattern = (levels - levels.mean())[np.arange(count) % period]
    power = float((away * away).sum())
    return RhythmFit("on-off", float(period), pattern, max(0.0, 1 - float(((away - pattern) ** 2).sum()) / power) if power > 1e-12 else 0.0)


def _jumps(course: Course, least: float, first: int = 0) -> RhythmFit | None:
    """Steps at regular frames with hardly any change between: three at least, or two where key frames counted from the reel's first lie."""
    steps = np.diff(course)
    count = len(steps)
    # Creep between key frames is part of it, but small from frame to frame.
    away = steps - median_filter(steps, min(5, count), mode="nearest")
    power = float((away * away).sum())
    # The smallest that counts has to stand out of what changes between key frames.
    stands_out = max(least, _OUT * float(np.median(np.abs(away))) / 0.6745)
    best: tuple[float, int, int] | None = None
    for period in range(_KEYS, count // 2 + 1):
        combed = np.array([float((away[k::period] ** 2).sum()) for k in range(period)])
        at = int(combed.argmax())
        # Longer periods have fewer places to be right by chance, but need three jumps of some size.
        held = float(combed[at]) / max(power, 1e-12)
        sizes = np.sort(np.abs(away[at::period]))[::-1]
        keyed = (first + at + 1) % period == 0 and held > _KEYED
        wanted = 2 if keyed else 3
        if len(sizes) < wanted or sizes[wanted - 1] <= stands_out:
            continue
        # Of two that hold as much the longer: every other jump of the shorter one is none.
        if best is None or held > best[0] + (0.02 if period % best[1] else -0.005):
            best = (held, period, at)
    if best is None or best[0] < 0.8:
        return None
    _, period, at = best
    pattern = np.concatenate([[0.0], np.cumsum(np.where(np.arange(count) % period == at, away, 0.0))])
    return RhythmFit("jumps", float(period), pattern - pattern.mean(), best[0])


def _beat(course: Course) -> RhythmFit | None:
    """One frequency that holds most of what changes."""
    count = len(course)
    slope = np.polyval(np.polyfit(np.arange(count), course, 1), np.arange(count))
    windowed = (course - slope) * np.hanning(count + 2)[1:-1]
    size = 4 * count
    power = np.abs(np.fft.rfft(windowed, size)) ** 2
    power[: size // count * 2] = 0
    at = int(power.argmax())
    near = power[max(0, at - 8) : at + 9].sum()
    if not power.sum() or near / power.sum() < _EXPLAINS:
        return None
    turns = 2 * np.pi * at / size * np.arange(count)
    basis = np.stack([np.cos(turns), np.sin(turns)], 1)
    pattern = basis @ np.linalg.lstsq(basis, course - slope, rcond=None)[0]
    return RhythmFit("beat", size / at, pattern, float(near / power.sum()))


def power_of(course: Course) -> tuple[Course, Course]:
    """The spectrum of a course: frequencies in periods a frame, and amplitudes in log light."""
    count = len(course)
    if count < 4:
        return np.zeros(0), np.zeros(0)
    flat = course - np.polyval(np.polyfit(np.arange(count), course, 1), np.arange(count))
    window = np.hanning(count + 2)[1:-1]
    return np.fft.rfftfreq(count), 2 * np.abs(np.fft.rfft(flat * window)) / window.sum()


@dataclass(frozen=True)
class Change:
    """A change of the light that is meant: a fade, a lamp switched on.

    Attributes
    ----------
    first, last : int
        Frames between which the light changes; one apart for a switch.
    size : float
        In log light.
    """

    first: int
    last: int
    size: float

    @property
    def is_switch(self) -> bool:
        """Whether it is over within a few frames."""
        return self.last - self.first <= 3

    def course(self, count: int) -> Course:
        """Log light from 0 before it to `size` behind it."""
        return self.size * _ramp(count, self.first, self.last)


def _ramp(count: int, first: int, last: int) -> Course:
    return np.clip((np.arange(count) - first) / max(1, last - first), 0, 1)


def meant(course: Course, keep: int) -> list[Change]:
    """Changes of a course that stay, and stand out from what flickers.

    Parameters
    ----------
    course : ndarray, float64, (frames,)
        Log light.
    keep : int
        Frames for which the light has to stay on either side, unless the shot ends there.

    Notes
    -----
    Steps and ramps are taken up one after the other, each time the one that explains most (matching pursuit: Mallat
    and Zhang 1993), and fitted together.
    """
    count = len(course)
    if count < 8:
        return []
    window = min(keep | 1, count)
    away = course - median_filter(course, window, mode="nearest")
    size = 1.4826 * float(np.median(np.abs(away - np.median(away)))) + 1e-4
    grid = np.unique(np.linspace(0, count - 1, min(count, 90)).round().astype(int))
    switches = [(n, n + 1) for n in range(count - 1)]
    spans = switches + [(int(a), int(b)) for a, b in combinations(grid, 2) if b - a > 1]
    shapes = np.stack([_ramp(count, a, b) for a, b in spans])
    centred = shapes - shapes.mean(1, keepdims=True)
    norms = (centred * centred).sum(1)
    found: list[tuple[int, int]] = []
    sizes: Course = np.zeros(0)
    rest = course - course.mean()
    for _ in range(_MOST):
        gains = (centred @ rest) ** 2 / np.maximum(norms, 1e-12)
        for k in np.argsort(gains)[::-1][:40]:
            if spans[k] not in found and _stays(rest, spans[k][0], spans[k][1], keep, size):
                break
        else:
            break
        found.append(spans[k])
        basis = np.stack([np.ones(count), *(_ramp(count, a, b) for a, b in found)], 1)
        # What flickers must not pull at the fit.
        weight: Course = np.ones(count)
        for _ in range(5):
            fit = np.linalg.lstsq(basis * weight[:, None], course * weight, rcond=None)[0]
            rest = course - basis @ fit
            weight = 1 / (1 + (rest / (3 * size)) ** 2)
        sizes = fit[1:]
    changes = [Change(a, b, float(s)) for (a, b), s in zip(found, sizes, strict=True) if abs(s) > _STANDS_OUT * size and abs(s) > _LEAST]
    return sorted(changes, key=lambda c: c.first)


def _stays(rest: Course, first: int, last: int, keep: int, size: float) -> bool:
    before, behind = rest[max(0, first - keep) : first + 1], rest[last : last + keep]
    change = float(rest[last] - rest[first]) if last - first > 6 else float(np.median(behind) - np.median(before))
    level = float(np.median(behind) - np.median(before))
    # At the ends of the shot there is nothing to see of what comes: only a long and strong change will do.
    short = min(len(before), len(behind)) < max(4, keep // 3)
    if short and (last - first < 6 or abs(level) < 2 * _STANDS_OUT * size):
        return False
    return abs(level) > max(_STANDS_OUT * size, _LEAST) and abs(level) > 0.6 * abs(change)
