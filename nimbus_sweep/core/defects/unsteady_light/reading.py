"""The light of a shot read whole: bands first, then whole frames, then patches, each from what those before it leave."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from typing import Literal

import numpy as np
from numpy.typing import NDArray

from ...evidence.light_record import LightRecord
from ...imaging.motion import Along, Plane
from .bands import SLOWEST, BandModel, fit_bands
from .channels import channel_courses, channel_pairs, courses_of, halves_agree
from .course import Change, RhythmFit, by_lamps, meant, rhythm, unsteadiness
from .pairs import LAGS, Pairs, close, measure
from .part import changing_part
from .solve import Knots, Whole, along, disagreement, explained, solve_field, solve_whole

Course = NDArray[np.float64]
Kind = Literal["bands", "on-off", "jumps", "whole", "patches"]
# Unsteadiness, as a standard deviation in log light, below which there is no trouble (measured on sound clips: at most 0.0024
# for whole frames and rows, 0.009 for patches).
LEAST, LEAST_PATCH = 0.006, 0.01
# The same for a colour by itself, which is told from fewer and coarser samples.
_LEAST_TINT = 0.012
# Of what changes, the share that bands explain at least; in a part of the picture, where there is less to go by.
_BANDS_EXPLAIN, _COARSEST, _ROWS = 0.7, 0.4, 54
# Times that bands are fitted to what is left of them, at most, and log light at which that is little; periods a frame below which they hardly climb. What those that creep explain at
# least and how strong they are, as a standard deviation in log light, and small pixels that a scene at rest travels at most.
_FITS, _FITTED, _HARDLY, _SLOWLY_EXPLAIN, _CREEPS, _AT_REST = 4, 0.002, 0.05, 0.8, 0.012, 4.0
_HARDLY_EXPLAIN = 0.95
_SURELY = 0.85
# Trust in a row, over that in the best one, from which it can be gone by.
_SEEN = 0.02
PATCH_ROWS, PATCH_COLS = 6, 8
# Standard deviation over time of patches, in log light, and how far it bends from place to place, as a share of that.
_PATCHES = (0.15, 0.15)
# Of what frames near one another tell beyond the light of whole frames, the share that patches explain at least.
_PATCHES_EXPLAIN = 0.45
# How far stripes of changing light have to stand out to be looked for as they lie, and for motion to be told without them; and
# how near to an axis, in periods over the picture, they are taken to lie along it.
_HINTED, _STRIPED, _SNAP = 4.0, 12.0, 0.5
# Of bands' swing, what patches beside them have to have: less is what is left of the bands.
_BESIDE = 0.6
# Bands wider than this share of the picture may be what patches look like.
_WIDE = 1.5
# Cells over the picture for the light of whole frames; places that patches take up at least.
_BLOCKS, _SPREAD_OVER = (18, 16), 5
# Small pixels the shorter side of the picture has to have for its light to be read.
_SMALLEST = 16
# By how much pairs of frames may contradict each other, as a log of light, and as a share of what they tell, before nothing is told by them.
_DISAGREES, _DISAGREES_SHARE = 0.025, 0.3
# What exponents have to be, of the log light of whole frames, both as standard deviations, to be believed.
_CONTRAST = 0.25
# Of what changes, the share that has to be uneven over the picture to be called patches.
_UNEVEN = 0.15


@dataclass(frozen=True)
class Bands:
    """Bands, and which way they lie.

    Attributes
    ----------
    model : BandModel
    lean : float
        0 for bands that lie along rows; a quarter turn for those along columns. In radians.
    """

    model: BandModel
    lean: float

    def places(self, y: Course, x: Course, shape: float) -> Course:
        """How far places of the picture (shares of it) lie along the way the bands follow one another, 0 to 1."""
        return np.asarray(along(y, x, self.lean, shape))


@dataclass(frozen=True)
class LightReading:
    """What was read of the light of a shot.

    Attributes
    ----------
    count : int
    bands : Bands or None
    whole : Whole
    course : ndarray, float64, (frames,)
        Log light of whole frames at the mean brightness of the picture.
    fit : RhythmFit
        Its rhythm.
    changes : list of Change
        Changes of it that are meant.
    patches : ndarray, float64, (frames, rows, cols), or None
    kinds : dict
        What is wrong, and how much: standard deviation of the log light, of bands half their swing; the strongest first.
    uneven : float
        Share of what changes that is not alike all over the picture.
    channels : ndarray, float64, (frames, 3), or None
        Log light of red, green and blue by themselves; None for a picture without colour.
    tinted : bool
        Whether colours flicker that hardly show in the brightness of the whole.
    pairs : Pairs or None
        What it was read from, the light of bands taken out; None for a shot that could not be read.
    part : tuple of float, or None
        Left, top, right, bottom, as shares of the picture, of the one part in which there are bands; None where they are
        all over it.
    contradicted : bool
        Whether pairs of frames contradict each other, so that nothing is told; in any stretch of a long shot.
    """

    count: int
    bands: Bands | None
    whole: Whole
    course: Course
    fit: RhythmFit
    changes: list[Change]
    patches: Course | None
    kinds: dict[Kind, float]
    uneven: float
    channels: Course | None = None
    tinted: bool = False
    pairs: Pairs | None = None
    part: tuple[float, float, float, float] | None = None
    contradicted: bool = False

    @property
    def has_contrast(self) -> bool:
        """Whether contrast changes with the light: smaller exponents are what motion and the camera's curve are out by."""
        return float(self.whole.power.std()) > _CONTRAST * float(self.course.std())

    @property
    def everywhere(self) -> Bands | None:
        """Bands that lie over the whole picture."""
        return self.bands if self.part is None else None


def lie_of(record: LightRecord) -> tuple[float, float]:
    """Which way stripes of changing light lie, as `Knots.lean`, and how far they stand out from all else that changes (1: not at all).

    From the spectrum over the picture of second differences over time.
    """
    height, width = record.shape
    count = len(record)
    if count < 3:
        return 0.0, 0.0
    # Twice the size, so that the peak can be placed between whole periods.
    total = np.zeros((2 * height, width + 1))
    window = np.outer(np.hanning(height + 2)[1:-1], np.hanning(width + 2)[1:-1])
    numbers = np.arange(1, count - 1)
    for n in numbers[:: max(1, len(numbers) // 60)]:
        before, here, behind = (np.log(np.maximum(record.light(int(k)), 1) + 4) for k in (n - 1, n, n + 1))
        second = before - 2 * here + behind
        total += np.abs(np.fft.rfft2((second - second.mean()) * window, (2 * height, 2 * width))) ** 2
    down, across = np.fft.fftfreq(2 * height, 1 / height), np.fft.rfftfreq(2 * width, 1 / width)
    length = np.hypot(down[:, None], across[None] * height / width)
    usable = (length >= 0.5) & (length < height / 4)
    at = np.unravel_index(int(np.where(usable, total, 0).argmax()), total.shape)
    peak = float(length[at])
    ring = usable & (np.abs(length - peak) < max(1.5, 0.25 * peak))
    if not ring.any() or not total.any():
        return 0.0, 0.0
    stands_out = float(total[at] / max(float(np.median(total[ring])), 1e-12))
    near = np.array([(i, j) for i in range(-2, 3) for j in range(-2, 3)]) + at
    mass = np.array([total[i % (2 * height), abs(j)] if j >= 0 else total[-i % (2 * height), -j] for i, j in near if j <= width])
    places = np.array([(((i + height) % (2 * height) - height) / 2, j / 2 * height / width) for i, j in near if j <= width])
    fy, fx = (places * mass[:, None]).sum(0) / mass.sum()
    lean = float(np.arctan2(fx, fy)) if fy >= 0 else float(np.arctan2(-fx, -fy))
    # Nearer to an axis than can be told is on it.
    if abs(lean) < _SNAP / peak:
        lean = 0.0
    elif abs(abs(lean) - np.pi / 2) < _SNAP / peak:
        lean = np.pi / 2
    return lean, stands_out


def look_along(lean: float) -> Along:
    """How pictures are to be looked at for motion under bands that lie so."""
    if abs(lean) < 0.2:
        return "x"
    return "y" if abs(abs(lean) - np.pi / 2) < 0.2 else "both"


def look_for(record: LightRecord) -> Along:
    """How the pictures of a shot are to be looked at for motion."""
    return _through(*lie_of(record))


def _through(lean: float, stands_out: float) -> Along:
    return look_along(lean) if stands_out > _STRIPED else "both"


def read_at_once(
    record: LightRecord,
    reach: int = LAGS[-1],
    keep: int | None = None,
    usable: Callable[[int], Plane | None] | None = None,
    on_progress: Callable[[float], None] | None = None,
    apart: bool = False,
    least: float = 0.0,
) -> LightReading:
    """Read the light of a shot, or of a stretch of it, all its pairs of frames at once.

    Parameters
    ----------
    record : LightRecord
    reach : int
        Frames apart that are held against one another at most.
    keep : int
        Frames for which a change has to stay to be meant; two seconds' when None.
    usable, on_progress
        As `measure` takes them.
    apart : bool
        Read red, green and blue by themselves in any case, not only where brightness is steady.
    least : float
        Log light below which what changes is grain, where that is more than what is held to be grain in any case.
    """
    least = max(least, LEAST)
    progress = on_progress or (lambda share: None)
    if too_little(record):
        return _nothing(len(record))
    lean, stands_out = lie_of(record)
    pairs = measure(record, reach, _through(lean, stands_out), usable, lambda share: progress(0.7 * share))
    bands = _best_bands(pairs, record, ([lean] if stands_out > _HINTED else []) + [0.0, np.pi / 2], least)
    progress(0.85)
    rest = without(pairs, bands, record) if bands is not None else pairs
    whole = solve_whole(rest.grouped(*_BLOCKS))
    course = at_mean(whole, rest)
    if disagreement(rest) > max(_DISAGREES, _DISAGREES_SHARE * unsteadiness(course)):
        return _nothing(len(record), contradicted=True)
    keeps = keep or max(8, round(2 * float(record.rate)))
    kinds: dict[Kind, float] = {} if bands is None else {"bands": bands.model.swing}
    patches, uneven = _patches(rest, whole, course, least)
    progress(0.97)
    named = rhythm(course, least, record.first)
    patched = float(np.sqrt(np.mean(_fast(patches) ** 2, axis=0)).max()) if patches is not None else 0.0
    if patches is not None and uneven > _UNEVEN and (bands is None or patched > _BESIDE * bands.model.swing):
        kinds["patches"] = patched
        if bands is not None and (patched > bands.model.swing or bands.model.spacing < _WIDE):
            # What looked like bands is part of them.
            return _only_patches(record, pairs, keeps, kinds, least)
    elif named.rhythm != "none" and (bands is None or unsteadiness(course) > 0.1 * bands.model.swing or named.rhythm == "jumps"):
        kinds[_kind_of(named)] = float(np.std(course - _meant_course(course, keeps))) if len(course) else 0.0
    box = None
    if bands is None and (screened := _banded_screen(pairs, record, least)) is not None:
        # What looked like patches is a screen with bands.
        bands, box = screened
        kinds.pop("patches", None)
        kinds["bands"] = bands.model.swing
    channels, tinted = None, False
    if apart or not kinds:
        channels = channel_courses(record, rest if apart else close(rest))
    if not kinds and channels is not None and (tints := _tints(channels)):
        colours = channel_pairs(record, rest)
        assert colours is not None
        agreed = [halves_agree(colour) for colour in colours]
        worst = next((tint for tint in tints if agreed[tint[0]]), None)
        if worst is not None:
            # A colour that the halves do not agree about is left as it is.
            named, channels, tinted = worst[1], courses_of(colours) * agreed, True
            kinds[_kind_of(named)] = float(np.std(channels[:, worst[0]]))
    changes = meant(course - (named.pattern if named.rhythm in ("on-off", "jumps") else 0), keeps)
    ordered = dict(sorted(kinds.items(), key=lambda k: -k[1]))
    shown = patches if "patches" in kinds else None
    return LightReading(len(record), bands, whole, course, named, changes, shown, ordered, uneven, channels, tinted, rest, box)


def _best_bands(pairs: Pairs, record: LightRecord, leans: Sequence[float], least: float) -> Bands | None:
    """The bands that explain most, of those that lie in one of some directions; the first that explain nearly all will do."""
    best: Bands | None = None
    for lean in dict.fromkeys(leans):
        found = find_bands(pairs, lean, record, least)
        if found is not None and (best is None or found.model.explained > best.model.explained):
            best = found
        if best is not None and best.model.explained > 0.9:
            break
    return best


def _banded_screen(pairs: Pairs, record: LightRecord, least: float) -> tuple[Bands, tuple[float, float, float, float]] | None:
    """The one part of the picture whose light changes, such as a screen, with its bands; None without such."""
    screen = changing_part(pairs)
    banded = find_bands(screen.of(pairs), 0.0, record, least) if screen is not None else None
    if screen is None or banded is None or banded.model.explained <= _SURELY:
        return None
    return banded, screen.box


def _tints(channels: NDArray[np.float64]) -> list[tuple[int, RhythmFit]]:
    """The channels that are unsteady in a rhythm, the most unsteady first, and their rhythms."""
    told = [(n, rhythm(course, _LEAST_TINT)) for n, course in enumerate(channels.T)]
    return sorted((t for t in told if t[1].rhythm != "none"), key=lambda t: -unsteadiness(channels[:, t[0]]))


def _kind_of(fit: RhythmFit) -> Kind:
    """The kind of trouble with whole frames that a rhythm is."""
    return "on-off" if fit.rhythm == "on-off" else "jumps" if fit.rhythm == "jumps" else "whole"


def too_little(record: LightRecord) -> bool:
    """Whether there are too few frames, or too few pixels, to read any light from."""
    return len(record) < 3 or min(record.shape) < _SMALLEST


def _nothing(count: int, contradicted: bool = False) -> LightReading:
    flat = np.zeros(count)
    return LightReading(count, None, Whole(flat, np.ones(count)), flat, rhythm(flat), [], None, {}, 0.0, contradicted=contradicted)


def _only_patches(record: LightRecord, pairs: Pairs, keep: int, kinds: dict[Kind, float], least: float) -> LightReading:
    whole = solve_whole(pairs.grouped(*_BLOCKS))
    course = at_mean(whole, pairs)
    patches, uneven = _patches(pairs, whole, course, least)
    size: dict[Kind, float] = {"patches": kinds["patches"]}
    fit = rhythm(course, least, record.first)
    return LightReading(len(record), None, whole, course, fit, meant(course, keep), patches, size, uneven, pairs=pairs)


def at_mean(whole: Whole, pairs: Pairs) -> Course:
    """Log light of whole frames at the mean brightness of the picture."""
    mass = float(pairs.weight.sum())
    middle = float((pairs.weight * pairs.level).sum() / mass) if mass > 0 else 0.0
    course = whole.offset + (whole.power - 1) * middle
    return np.asarray(course - course.mean())


def _meant_course(course: Course, keep: int) -> Course:
    return np.sum([c.course(len(course)) for c in meant(course, keep)], axis=0) if len(course) >= 8 else np.zeros(len(course))


def _fast(field: Course) -> Course:
    return np.asarray(field - field.mean(0))


def grouped_for(pairs: Pairs, lean: float) -> Pairs:
    """Cells joined along bands that lie so."""
    kind = look_along(lean)
    return pairs.grouped(_ROWS, 3) if kind == "x" else pairs.grouped(3, _ROWS) if kind == "y" else pairs.grouped(27, 24)


def find_bands(pairs: Pairs, lean: float, record: LightRecord, least: float = LEAST) -> Bands | None:
    """Bands that lie as told; nothing if there are none above `least`.

    A model is fitted to the light of rows, and again to what pairs leave of it. Of bands that hardly climb, the light of rows
    that the model leaves is taken as it was measured.
    """
    shape = record.format.width / record.format.height
    joined = grouped_for(pairs, lean)
    knots = Knots(_knots(lean, joined), 1, lean, shape)
    rows = solve_field(joined, joined.ratio, knots, 0.15, 0.12)[:, :, 0]
    lively = rows - rows.mean(1, keepdims=True)
    second = lively[:-2] - 2 * lively[1:-1] + lively[2:]
    if len(second) < 3:
        return None
    slowly = float(np.median(np.sqrt((second * second).mean(1)))) / np.sqrt(6) < least
    if slowly and (_travelled(pairs, record) > _AT_REST or float((lively - lively.mean(0)).std()) < _CREEPS):
        return None
    seen = _rows_seen(joined, lean)
    slow = {"slow": SLOWEST} if slowly else {}
    model = fit_bands(rows, seen=seen, **slow)
    places = (np.arange(knots.rows) + 0.5) / knots.rows
    for _ in range(_FITS):
        if model is None or model.explained < 0.4:
            return None
        field = solve_field(joined, without(joined, Bands(model, lean), record).ratio, knots, 0.06, 0.12)[:, :, 0]
        model = fit_bands(field + model.at(places), model.spacing, seen, **slow)
    if (
        model is None
        or model.explained < (_SLOWLY_EXPLAIN if slowly else _BANDS_EXPLAIN)
        or model.swing < least
        or model.spacing < _COARSEST
    ):
        return None
    if abs(model.step) < _HARDLY:
        # What keeps its place while the scene goes by may be haze, or the camera's own light, and what never gets a period on may be something that
        # passes: a lamp's bands explain nearly all.
        unproven = abs(model.step) * len(record) < 1 or _travelled(pairs, record) > _AT_REST
        if model.explained < _HARDLY_EXPLAIN and unproven:
            return None
        rest = solve_field(joined, without(joined, Bands(model, lean), record).ratio, knots, 0.06, 0.12)[:, :, 0]
        model = replace(model, rest=rest)
    return Bands(model, lean)


def _travelled(pairs: Pairs, record: LightRecord) -> float:
    """How far the scene lies from its place in the frames furthest apart: middle, in small pixels."""
    apart = np.abs(pairs.other - pairs.one)
    if not len(apart):
        return 0.0
    size = np.array([record.shape[1] / pairs.ratio.shape[2], record.shape[0] / pairs.ratio.shape[1]])
    return float(np.median(np.linalg.norm(pairs.away[apart == apart.max()] * size, axis=-1)))


def _rows_seen(pairs: Pairs, lean: float) -> NDArray[np.bool_] | None:
    """Which of the rows, or columns, that bands lie along can be gone by; None for slanted ones."""
    kind = look_along(lean)
    if kind == "both":
        return None
    mass = pairs.weight.sum((0, 2) if kind == "x" else (0, 1))
    return np.asarray(mass > _SEEN * float(mass.max()))


def _knots(lean: float, pairs: Pairs) -> int:
    return int(pairs.ratio.shape[2] if look_along(lean) == "y" else pairs.ratio.shape[1])


def without(pairs: Pairs, bands: Bands, record: LightRecord) -> Pairs:
    """Pairs with the light of bands taken out of what they tell."""
    height, width = pairs.ratio.shape[1:]
    shape = record.format.width / record.format.height
    ys, xs = np.mgrid[0:height, 0:width]
    y, x = (ys + 0.5) / height, (xs + 0.5) / width
    fine = np.linspace(0, 1, 2 * max(height, width) * 2)
    table = bands.model.at(fine)
    here = bands.places(y, x, shape)
    there = bands.places((ys + 0.5 + pairs.away[..., 1]) / height, (xs + 0.5 + pairs.away[..., 0]) / width, shape)
    mine = np.stack([np.interp(here, fine, t) for t in table])[pairs.one]
    theirs = np.stack([np.interp(places, fine, table[j]) for places, j in zip(there, pairs.other, strict=True)])
    ratio = (pairs.ratio - (mine - theirs)).astype(np.float32)
    level = (pairs.level - mine).astype(np.float32)
    return replace(pairs, ratio=ratio, level=level)


def solve_patches(pairs: Pairs, rows: int, cols: int) -> Course:
    """A coarse field of log light over the picture for every frame: (frames, rows, cols)."""
    joined = pairs.grouped(max(18, 2 * rows), max(12, 2 * rows))
    return by_lamps(solve_field(joined, joined.ratio, Knots(rows, cols), *_PATCHES))


def _patches(pairs: Pairs, whole: Whole, course: Course, least: float) -> tuple[Course | None, float]:
    """The light over the picture; nothing if it is nowhere uneven enough to see."""
    if pairs.count < 5 or not len(pairs.one):
        return None, 0.0
    # An exponent for whole frames would stand in for what is uneven.
    field = solve_patches(pairs, PATCH_ROWS, PATCH_COLS)
    if explained(pairs.grouped(18, 12), field, whole) < _PATCHES_EXPLAIN:
        return None, 0.0
    apart = field - course[:, None, None]
    second = apart[:-2] - 2 * apart[1:-1] + apart[2:]
    unsteady = np.median(np.abs(second), axis=0) / (0.6745 * np.sqrt(6))
    # Where something moves a place or two may be unsteady without any lamp; light takes up more of the picture.
    if float(np.sort(unsteady, axis=None)[-_SPREAD_OVER]) < max(least, LEAST_PATCH):
        return None, 0.0
    lively = field - field.mean((1, 2), keepdims=True)
    left = np.sqrt(np.mean(np.diff(lively, axis=0) ** 2, axis=(0, 1, 2)))
    all_ = np.sqrt(np.mean(np.diff(course) ** 2)) + left
    return field, float(left / max(all_, 1e-9))
