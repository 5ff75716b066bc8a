"""What a treatment did to a shot: how much was touched, whether repairs live like their surroundings, what is left."""

from __future__ import annotations

import shutil
from collections.abc import Callable, Iterable, Iterator, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import cv2
import numpy as np
from numpy.typing import NDArray
from pydantic import BaseModel, ConfigDict, model_validator

from ..evidence.frames_at_hand import Span
from ..evidence.light_record import LightRecord, recorded
from ..evidence.shot_evidence import ShotEvidence
from ..evidence.time_volume import VolumeWriter, sample_numbers
from ..imaging.levels import luma
from ..imaging.motion import Plane, carried, flow
from ..media.frames import Frame, FrameSource, PictureFormat
from ..model.kinds import Knowledge
from ..model.recipes import Step
from ..model.registry import DEFECTS
from .analyses import chain
from .comparison import unlike
from .survey import CONVINCES, Finding, survey

Mask = NDArray[np.bool_]

# Pixels across of the pictures that are looked at: finer structure than this is grain.
_WIDE = 960
# A step that may touch more of the picture than this has no surroundings to be held against.
_LOCAL = 0.5
# Pixels between a repair and its surroundings, and how broad those are: of the repair's size, at least.
_GAP, _RING, _LEAST_RING = 2, 0.5, 6
# Codes under which neither change nor structure is told apart from grain and rounding.
_FLOOR = 0.7
# Repairs of fewer pixels are summed up, but too few to be called good or bad on their own.
_JUDGED = 9
# Bytes of treated frames that are kept aside at most.
_MOST_ASIDE = 4 << 30
# How many places are named; frames between two that name the same place, of the shot at least.
WORST, _APART = 10, 1 / 8
# Per cent of the windows around a repair that count as its surroundings' range, and codes that range spans at least.
_OUTERMOST, _LEAST_SPREAD = (5, 95), 8.0
# Codes that a level lies beyond its surroundings' at least to be told of, and the score from which a place departs from them.
_LEVEL, _DEPARTS = 2.0, 0.08


class Place(BaseModel):
    """A repaired place in a frame that departs most from its surroundings.

    Attributes
    ----------
    frame : int
    x, y, width, height : int
        In pixels of the picture.
    code : str
        In what it departs: fine ``structure-above`` or ``structure-below`` all around it, ``change-above`` that from the frame before,
        ``level-above`` or ``level-below``; ``changed`` where it is like its surroundings.
    value : float
        Times the most or the least around it; codes for a level and for ``changed``.
    score : float
        How far: 0 is as its surroundings.
    why : str
        The words for it that an earlier version stored; empty for what is told today.
    """

    model_config = ConfigDict(frozen=True, extra="ignore")

    frame: int
    x: int
    y: int
    width: int
    height: int
    code: str = ""
    value: float = 0.0
    score: float = 0.0
    why: str = ""


class Left(BaseModel):
    """What became of a finding.

    Attributes
    ----------
    outcome : str
        ``gone``; ``trace``, too doubtful to be called there; ``left``; ``untreated``: no step acts on it; ``brought``: it was not there.
    finding : Finding or None
        As the survey told it of the source.
    now : Finding or None
        As the survey tells it of the treated shot.
    """

    model_config = ConfigDict(frozen=True, extra="ignore")

    outcome: str
    finding: Finding | None
    now: Finding | None

    @model_validator(mode="before")
    @classmethod
    def _of_words(cls, stored: Any) -> Any:
        """Earlier versions stored words and a box in place of the findings."""
        if not isinstance(stored, dict) or "title" not in stored:
            return stored
        box = {name: stored[name] for name in ("title", "x", "y", "width", "height")}
        bare = {**box, "kind": "", "step": "", "first": 0, "stop": 0, "confidence": 0.0}
        before, now = ({**bare, "sentence": stored[name]} if stored[name] else None for name in ("before", "now"))
        return {"outcome": stored["outcome"], "finding": before if before or now else bare, "now": now}


class Inspected(BaseModel):
    """A treated shot held against its source.

    Attributes
    ----------
    frames, changed_frames : int
    samples, changed, outside : int
        Over all frames and components; `outside` counts what changed where no step may act.
    detail : float or None
        Fine structure inside the repairs over that of their surroundings: 1 is alike. None without repairs of parts.
    steadiness : float or None
        Change along the motion from frame to frame inside the repairs over that of their surroundings: 1 is alike,
        more flickers, less stands dead.
    kept : float
        Fine structure of the whole picture over the source's.
    worst : tuple of Place
        Worst first.
    left : tuple of Left
        For each finding that was kept.
    brought : tuple of Left
        What the survey finds in the treated shot alone.
    without : tuple of str
        Steps left out, as they make every sample anew.
    """

    model_config = ConfigDict(frozen=True, extra="ignore")

    frames: int
    changed_frames: int
    samples: int
    changed: int
    outside: int
    detail: float | None
    steadiness: float | None
    kept: float
    worst: tuple[Place, ...] = ()
    left: tuple[Left, ...] = ()
    brought: tuple[Left, ...] = ()
    without: tuple[str, ...] = ()


class Allowed:
    """Where the steps of a shot may act, frame by frame.

    Parameters
    ----------
    layout : PictureFormat
    knowledge : sequence of Knowledge
    """

    def __init__(self, layout: PictureFormat, knowledge: Sequence[Knowledge]) -> None:
        self._layout = layout
        touched = [(known.touched(), known.touched_in()) for known in knowledge]
        self._always = [self._mask(i, [t[i] for t, _ in touched]) for i in range(len(layout.components))]
        size = layout.components[0].width * layout.components[0].height
        # Steps on parts of the picture: their repairs have surroundings.
        self._parts = [(t[0], single) for t, single in touched if len(t[0]) <= _LOCAL * size]
        self._single = [single for _, single in touched]

    def _mask(self, index: int, places: Iterable[NDArray[np.int64]]) -> Mask:
        component = self._layout.components[index]
        mask = np.zeros(component.height * component.width, bool)
        for some in places:
            mask[some] = True
        return mask.reshape(component.height, component.width)

    def at(self, number: int, index: int) -> Mask:
        """Where component `index` of a frame may differ."""
        single = [places[number][index] for places in self._single if number in places]
        return self._always[index] | self._mask(index, single) if single else self._always[index]

    def repairs(self, number: int) -> Mask:
        """Where steps on parts of the picture may act on its first component in a frame."""
        size = self._layout.components[0].width * self._layout.components[0].height
        single = [places[number][0] for _, places in self._parts if number in places and len(places[number][0]) <= _LOCAL * size]
        return self._mask(0, [*(always for always, _ in self._parts), *single])


@dataclass
class _Sums:
    """Sums over all repairs: change and structure, inside and around."""

    change: NDArray[np.float64] = field(default_factory=lambda: np.zeros(2))
    structure: NDArray[np.float64] = field(default_factory=lambda: np.zeros(2))
    moved: float = 0.0
    still: float = 0.0

    def ratio(self, what: str) -> float | None:
        pair = getattr(self, what)
        weight = self.moved if what == "change" else self.still
        if not weight:
            return None
        inside, around = pair / weight
        return float((inside + _FLOOR) / (around + _FLOOR))


class Inspector:
    """Looks at the treated frames of a shot beside the source's, in order.

    Parameters
    ----------
    layout : PictureFormat
    knowledge : sequence of Knowledge
        Of the steps that were put on.
    frames : int
        Of the shot.
    """

    def __init__(self, layout: PictureFormat, knowledge: Sequence[Knowledge], frames: int) -> None:
        self._layout, self._frames = layout, frames
        self._allowed = Allowed(layout, knowledge)
        self._scale = min(1.0, _WIDE / layout.width)
        self._size = (max(8, round(layout.width * self._scale)), max(8, round(layout.height * self._scale)))
        self._before: Plane | None = None
        self._sums = _Sums()
        self._places: list[Place] = []
        self._kept: list[float] = []
        self._counts = {"frames": 0, "changed_frames": 0, "samples": 0, "changed": 0, "outside": 0}

    def add(self, source: Frame, treated: Frame) -> None:
        """Take in a frame as it was and as it is."""
        counts, changed = self._counts, 0
        counts["frames"] += 1
        if source.missing:
            self._before = None
            return
        first: Mask | None = None
        for i, component in enumerate(self._layout.components):
            differs = unlike(source.component(i), treated.component(i))
            count = int(differs.sum())
            counts["samples"] += component.width * component.height
            if count:
                changed += count
                counts["outside"] += int((differs & ~self._allowed.at(source.number, i)).sum())
            if i == 0:
                first = differs
        counts["changed"] += changed
        counts["changed_frames"] += bool(changed)
        light = self._small(luma(treated))
        assert first is not None
        if changed:
            own = self._small(luma(source))
            before = _strength(own)
            self._kept.append(_strength(light) / before if before > 0.05 else 1.0)
            repairs = self._small((first & self._allowed.repairs(source.number)).astype(np.float32)) > 0.2
            if repairs.any():
                self._judge(source.number, light, own, repairs)
        else:
            self._kept.append(1.0)
        self._before = light

    def _small(self, plane: Plane) -> Plane:
        if plane.shape == self._size[::-1]:
            return plane
        return cv2.resize(plane, self._size, interpolation=cv2.INTER_AREA)

    def _judge(self, number: int, light: Plane, source_light: Plane, repairs: Mask) -> None:
        """Hold the repairs of a frame against what lies around each of them."""
        moved = None
        if self._before is not None:
            there = flow(_gray(light), _gray(self._before))
            moved = cv2.GaussianBlur(np.abs(light - carried(self._before, there)), (0, 0), 0.8)
        fine = np.abs(light - cv2.GaussianBlur(light, (0, 0), 1.5))
        level = cv2.GaussianBlur(light, (0, 0), 2)
        joined = cv2.dilate(repairs.astype(np.uint8), np.ones((3, 3), np.uint8))
        count, labels, stats, _ = cv2.connectedComponentsWithStats(joined, connectivity=8)
        for k in range(1, count):
            x, y, width, height, _ = (int(v) for v in stats[k])
            reach = _GAP + max(_LEAST_RING, round(_RING * max(width, height)))
            box = (slice(max(0, y - reach), y + height + reach), slice(max(0, x - reach), x + width + reach))
            mine = labels[box] == k
            inside = mine & repairs[box]
            area = int(inside.sum())
            near = cv2.getStructuringElement(cv2.MORPH_ELLIPSE, (2 * _GAP + 1, 2 * _GAP + 1))
            # Other repairs are no surroundings.
            away = cv2.distanceTransform((~mine).astype(np.uint8), cv2.DIST_L2, cv2.DIST_MASK_PRECISE)
            ring = (away <= reach) & ~cv2.dilate(joined[box], near).astype(bool)
            if not area or ring.sum() < max(_JUDGED, area // 8):
                continue
            self._sums.structure += area * np.array([float(fine[box][m].mean()) for m in (inside, ring)])
            self._sums.still += area
            if moved is not None:
                self._sums.change += area * np.array([float(moved[box][m].mean()) for m in (inside, ring)])
                self._sums.moved += area
            if area < _JUDGED * self._scale**2:
                continue
            sound = ~joined[box].astype(bool)
            departures = [_beyond("structure", fine[box], inside, ring, sound)]
            if moved is not None:
                departures.append(_beyond("change", moved[box], inside, ring, sound, more_only=True))
            departures.append(_apart(level[box], inside, ring, sound))
            # Where next to nothing was changed, a departure is the scene's own.
            change = float(np.abs(light - source_light)[box][inside].mean())
            score, code, value = max(departures)
            score *= min(1.0, change / 3) * (1 - float(np.exp(-area / 40)))
            if score < _DEPARTS:
                # What was changed most is shown after those that depart.
                score, code, value = _DEPARTS * min(1.0, change / 50), "changed", change
            at = 1 / self._scale
            self._places.append(
                Place(
                    frame=number,
                    x=round(x * at),
                    y=round(y * at),
                    width=max(1, round(width * at)),
                    height=max(1, round(height * at)),
                    code=code,
                    value=round(value, 2),
                    score=round(score, 4),
                )
            )
        # No more are kept than can be named in the end.
        self._places.sort(key=lambda p: -p.score)
        del self._places[40 * WORST :]

    def finish(self, left: Sequence[Left] = (), brought: Sequence[Left] = (), without: Sequence[str] = ()) -> Inspected:
        """The figures of all frames taken in."""
        detail, steadiness = self._sums.ratio("structure"), self._sums.ratio("change")
        return Inspected(
            **self._counts,
            detail=None if detail is None else round(detail, 3),
            steadiness=None if steadiness is None else round(steadiness, 3),
            kept=round(float(np.mean(self._kept or [1.0])), 3),
            worst=tuple(self._chosen()),
            left=tuple(left),
            brought=tuple(brought),
            without=tuple(without),
        )

    def _chosen(self) -> list[Place]:
        chosen: list[Place] = []
        apart = max(3, round(_APART * self._frames))
        for place in self._places:
            if len(chosen) == WORST:
                break
            if place.score > 0 and not any(_same(place, other) and abs(place.frame - other.frame) < apart for other in chosen):
                chosen.append(place)
        return chosen


def _gray(plane: Plane) -> NDArray[np.uint8]:
    return np.clip(plane, 0, 255).astype(np.uint8)


def _strength(plane: Plane) -> float:
    return float(np.abs(plane - cv2.GaussianBlur(plane, (0, 0), 1.5)).mean())


def _range_of(plane: Plane, inside: Mask, ring: Mask, sound: Mask) -> tuple[float, float, float]:
    """The mean inside a repair, and between what such means lie in as large windows around it, the outermost left out."""
    size = max(3, round(float(np.sqrt(inside.sum()))) | 1)
    weight = cv2.blur(sound.astype(np.float32), (size, size), borderType=cv2.BORDER_CONSTANT)
    means = cv2.blur(np.where(sound, plane, 0).astype(np.float32), (size, size), borderType=cv2.BORDER_CONSTANT) / np.maximum(weight, 1e-3)
    usual = means[ring & (weight > 0.3 * float(weight.max()))]
    low, high = (float(v) for v in np.percentile(usual, _OUTERMOST)) if len(usual) else (0.0, float("inf"))
    return float(plane[inside].mean()), low, high


def _beyond(what: str, plane: Plane, inside: Mask, ring: Mask, sound: Mask, more_only: bool = False) -> tuple[float, str, float]:
    """How far a repair lies beyond anything around it, as the log of a ratio; what that is, and the ratio."""
    value, low, high = _range_of(plane, inside, ring, sound)
    more, less = (value + _FLOOR) / (high + _FLOOR), (low + _FLOOR) / (value + _FLOOR)
    if more_only or more >= less:
        return max(0.0, float(np.log(more))), f"{what}-above", more
    return max(0.0, float(np.log(less))), f"{what}-below", 1 / less


def _apart(level: Plane, inside: Mask, ring: Mask, sound: Mask) -> tuple[float, str, float]:
    """How far a repair's level lies beyond any around it, in parts of how much those vary; which way, and by how many codes."""
    value, low, high = _range_of(level, inside, ring, sound)
    above = value - high if value > high else low - value if value < low else 0.0
    above = above if above > _LEVEL else 0.0
    return above / max(_LEAST_SPREAD, high - low), f"level-{'above' if value > high else 'below'}", above


def _same(one: Place, other: Place) -> bool:
    across = min(one.x + one.width, other.x + other.width) - max(one.x, other.x)
    down = min(one.y + one.height, other.y + other.height) - max(one.y, other.y)
    return across > 0 and down > 0


@dataclass(frozen=True)
class Known:
    """What is known of a shot's findings before the check.

    Attributes
    ----------
    kept, mended : sequence of Finding
        What was to be mended, and those of them a step acts on.
    every : sequence of Finding
        All the survey found in the source, whatever became of it.
    """

    kept: Sequence[Finding] = ()
    mended: Sequence[Finding] = ()
    every: Sequence[Finding] = ()


@dataclass(frozen=True)
class TreatedSpan:
    """Frames of a reel with the steps that were put on them.

    Attributes
    ----------
    source : FrameSource
        The reel.
    steps, knowledge : sequences
        The active steps of the shot, and what they know.
    first, stop : int
        Frames that are treated.
    usable : ndarray, int64, or None
        Frames of the reel that are there and repeat no other; all when None.
    """

    source: FrameSource
    steps: Sequence[Step]
    knowledge: Sequence[Knowledge]
    first: int
    stop: int
    usable: NDArray[np.int64] | None = None

    @property
    def local(self) -> list[Knowledge]:
        """What the steps know that leave a sample where it is: behind one that resamples nothing can be held against the source."""
        return [k for s, k in zip(self.steps, self.knowledge, strict=True) if not s.of.whole_picture]

    @property
    def numbers(self) -> NDArray[np.int64]:
        """The frames that show a moment of their own."""
        if self.usable is None:
            return np.arange(self.first, self.stop, dtype=np.int64)
        return self.usable[(self.usable >= self.first) & (self.usable < self.stop)]


def inspect(span: TreatedSpan, scratch: Path, known: Known | None = None, on_progress: Callable[[float], None] | None = None) -> Inspected:
    """Hold a treated shot against its source, and survey it once more.

    Parameters
    ----------
    span : TreatedSpan
    scratch : Path
        A folder for working files.
    known : Known
    on_progress : callable
        Told the share done, 0 to 1; may raise to stop.
    """
    known = known or Known()
    inspector = Inspector(span.source.format, span.local, span.stop - span.first)
    seen = _gone_through(span, scratch, inspector, (lambda share: on_progress(0.4 * share)) if on_progress else None)
    found = survey(seen, (lambda share: on_progress(0.4 + 0.6 * share)) if on_progress else None).findings
    left = [became(f, found, any(f is m or f == m for m in known.mended)) for f in known.kept]
    brought = [
        Left(outcome="brought", finding=None, now=f) for f in found if f.convinces and not any(_known_as(f, other) for other in known.every)
    ]
    return inspector.finish(left, brought, tuple(s.of.title for s in span.steps if s.of.whole_picture))


def _known_as(found: Finding, other: Finding) -> bool:
    return alike(found, other) or (found.kind == other.kind and DEFECTS[found.kind].drawn == "frame")


def _gone_through(span: TreatedSpan, scratch: Path, inspector: Inspector, on_progress: Callable[[float], None] | None) -> ShotEvidence:
    """Go through the treated frames once: the inspector sees each, and what a survey needs of them is kept in working files."""
    source, first, stop, numbers = span.source, span.first, span.stop, span.numbers
    treated = chain(source, span.local, first, stop)
    held = numbers[sample_numbers(0, len(numbers), source.format.frame_bytes)] if len(numbers) else numbers
    volume = VolumeWriter(scratch / "treated.bin", treated, held)
    single = set(numbers.tolist())
    # What is looked at several times is made once, as long as there is room for it.
    room = min(_MOST_ASIDE, shutil.disk_usage(scratch).free // 4)
    held_whole = len(held) == len(numbers) or len(numbers) * source.format.frame_bytes > room
    aside = None if held_whole else VolumeWriter(scratch / "every.bin", treated, numbers)
    try:
        with recorded(scratch / "treated.light", treated, first) as writer:
            for original, frame in _both(source, treated, first, stop):
                volume.add(frame)
                writer.add(frame)
                if aside is not None:
                    aside.add(frame)
                # A repeated frame is treated as the one it repeats.
                if original.number in single or original.missing:
                    inspector.add(original, frame)
                if on_progress:
                    on_progress((original.number - first + 1) / (stop - first))
    except BaseException as error:
        for begun in (volume, aside):
            if begun is not None:
                begun.drop(error)
        raise
    opened, light = volume.finish(), LightRecord(scratch / "treated.light")
    light.rate = source.rate
    every: FrameSource = aside.finish() if aside is not None else treated
    frames = Span.of(every, first, stop, span.usable, opened)
    return ShotEvidence(opened, first, stop, light=light, frames=frames, scratch=scratch / "steadied.bin")


def _both(source: FrameSource, treated: FrameSource, first: int, stop: int) -> Iterator[tuple[Frame, Frame]]:
    return zip(source.frames(first, stop), treated.frames(first, stop), strict=True)


def became(finding: Finding, found: Sequence[Finding], mended: bool) -> Left:
    """What became of a finding, by what the survey finds in the treated shot."""
    if not mended:
        return Left(outcome="untreated", finding=finding, now=None)
    still = max((f for f in found if alike(f, finding)), key=lambda f: f.confidence, default=None)
    outcome = "gone" if still is None else "left" if still.confidence >= CONVINCES else "trace"
    return Left(outcome=outcome, finding=finding, now=still)


def alike(one: Finding, other: Finding) -> bool:
    """Whether two findings may be of the same defect: of one kind, at one place, at one time."""
    if one.kind != other.kind or min(one.stop, other.stop) <= max(one.first, other.first):
        return False
    return DEFECTS[one.kind].same(one, other)
