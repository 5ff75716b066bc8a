"""Trials: a stretch of a shot treated in two to four ways, and what each of them does to light, detail and motion."""

from __future__ import annotations

import typing
from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any, Literal

import cv2
import numpy as np
from numpy.typing import NDArray
from pydantic import BaseModel, ConfigDict, Field, ValidationError, model_validator

from ..base.errors import SweepError
from ..defects.unsteady_light.pairs import Pairs, measure
from ..defects.unsteady_light.reading import look_for
from ..evidence.light_record import LightRecord, recorded
from ..imaging.light import light_of
from ..imaging.motion import Plane
from ..media.frames import Frame, FrameSource
from ..model.recipes import Recipe, Step, first_fault

LEAST_FRAMES, MOST_FRAMES = 10, 60
LEAST_VARIANTS, MOST_VARIANTS = 2, 4
# Blocks over the picture in which light is compared, and small pixels a frame from which a block moves.
_BLOCKS, _MOVES = (27, 16), 0.7
# Frames apart that are compared at most; ratios within a block this far apart are hardly gone by: something moves there. Light is
# broader than so many blocks: what fewer tell apart from their neighbours is motion.
_REACH, _APART, _BROAD = 8, 0.05, 5
# Frames whose fine structure is measured; of the height, the spread of what counts as level.
_LOOKED_AT, _LEVEL = 15, 1 / 40
# What departs by this many 8-bit codes from its level has structure to be held against the source's.
_STRUCTURE = 1.5


class Variant(BaseModel):
    """One of the ways a trial compares."""

    model_config = ConfigDict(frozen=True, extra="forbid")

    name: str = Field(min_length=1, max_length=120)
    recipe: Recipe


class Plan(BaseModel):
    """What a trial compares: frames `first` to `stop` - 1 of one shot, in two to four ways."""

    model_config = ConfigDict(frozen=True, extra="forbid")

    first: int = Field(ge=0)
    stop: int = Field(ge=1)
    variants: tuple[Variant, ...]

    @model_validator(mode="after")
    def _fits(self) -> Plan:
        if not LEAST_FRAMES <= self.stop - self.first <= MOST_FRAMES:
            raise ValueError(f"a trial takes {LEAST_FRAMES} to {MOST_FRAMES} frames; these are {self.stop - self.first}")
        if not LEAST_VARIANTS <= len(self.variants) <= MOST_VARIANTS:
            raise ValueError(f"a trial compares {LEAST_VARIANTS} to {MOST_VARIANTS} ways; these are {len(self.variants)}")
        recipes = [[s.model_dump_json() for s in v.recipe.active] for v in self.variants]
        if any(r in recipes[:n] for n, r in enumerate(recipes)):
            raise ValueError("two of the ways are the same")
        return self


@dataclass(frozen=True)
class Choice:
    """A setting that can be varied.

    Attributes
    ----------
    field : str
    said : str
        What it is, in words.
    values : tuple of str
        What it can be, where that is one of a few; else none.
    now : str
    tried : tuple of str
        What to try to begin with.
    """

    field: str
    said: str
    values: tuple[str, ...]
    now: str
    tried: tuple[str, ...]


def choices(step: Step) -> list[Choice]:
    """The settings of a step that can be varied: numbers, words and switches."""
    made = []
    for name, info in step.of.settings.model_fields.items():
        kind = info.annotation
        if typing.get_origin(kind) is Literal:
            values = tuple(str(v) for v in typing.get_args(kind))
        elif kind is bool:
            values = ("yes", "no")
        elif kind in (int, float):
            values = ()
        else:
            continue
        now = getattr(step.settings, name)
        made.append(Choice(name, info.description or name, values, _said(now), values[:MOST_VARIANTS] or _around(step, name, now)))
    return made


# What a trial of a reach begins with; other numbers are tried at these parts of what they are.
_REACHES, _PARTS = (3, 4, 5), (1.0, 0.75, 0.5)


def _around(step: Step, name: str, now: float) -> tuple[str, ...]:
    """Numbers to try about the one that is set, as far as they can be."""
    if name == "reach":
        wished: list[float] = [*_REACHES]
    else:
        wished = [round(now * part) if isinstance(now, int) else now * part for part in _PARTS] if now else [0, 1, 2]
    able = []
    for value in wished:
        try:
            step.with_settings(**{name: value})
        except ValidationError:
            continue
        able.append(_said(value))
    return tuple(dict.fromkeys(able))


def _said(value: Any) -> str:
    return ("yes" if value else "no") if isinstance(value, bool) else f"{value:g}" if isinstance(value, float) else str(value)


def varied(recipe: Recipe, at: int, field: str, values: Sequence[str]) -> list[Variant]:
    """The recipe once with each value of one setting of its step `at`.

    Raises
    ------
    SweepError
        If there is no such step or setting, or it cannot be so.
    """
    if not 0 <= at < len(recipe.steps):
        raise SweepError("The step that is to be varied is not on the shot any more. Choose another.")
    step = recipe.steps[at]
    choice = next((c for c in choices(step) if c.field == field), None)
    if choice is None:
        raise SweepError(f"{step.of.title} has no setting called {field}.")
    made = []
    for value in values:
        try:
            changed = step.with_settings(**{field: _meant(choice, value)}).model_copy(update={"on": True})
        except (ValidationError, ValueError) as error:
            why = first_fault(error) if isinstance(error, ValidationError) else str(error)
            raise SweepError(f"{step.of.title}, {choice.said}: {value} cannot be ({why}).") from error
        said = _said(getattr(changed.settings, field))
        made.append(Variant(name=f"{step.of.title}, {field} {said}", recipe=recipe.with_step(at, changed)))
    return made


def _meant(choice: Choice, value: str) -> Any:
    if choice.values == ("yes", "no"):
        if value not in choice.values:
            raise ValueError("it is yes or no")
        return value == "yes"
    return value if choice.values else float(value)


class Figures(BaseModel):
    """What one way does to the frames of a trial.

    Attributes
    ----------
    source, light : float
        Change of the light between frames 1 to 8 apart along the motion, over blocks: rms of its log, in the source and treated.
    left : float or None
        The second over the first; None where the source's light does not change.
    detail : float
        Fine structure kept: 1 is all.
    ghosting : float or None
        PSNR in dB of what moves against the source fitted in level; None where nothing moves, or all of it is the source's.
    seconds : float
        For each frame, learning included.
    same : bool
        Something moves, and all of it is the source's.
    """

    model_config = ConfigDict(frozen=True, extra="ignore")

    source: float
    light: float
    left: float | None
    detail: float
    ghosting: float | None
    seconds: float
    same: bool = False


class Computed(BaseModel):
    """One way of a trial as it was computed: its recipe, with everything named, and its figures."""

    model_config = ConfigDict(frozen=True, extra="ignore")

    recipe: Recipe
    figures: Figures


# Below this the light of a source is steady: what changes is motion and grain.
_STEADY = 0.004


class Judge:
    """Measures treated frames of a stretch against the source's.

    Parameters
    ----------
    scratch : Path
        A folder for the light of the frames while it is read.
    source : FrameSource
    first, stop : int
        The stretch.
    """

    def __init__(self, scratch: Path, source: FrameSource, first: int, stop: int) -> None:
        self._scratch, self._source, self.first, self.stop = scratch, source, first, stop
        with recorded(scratch / "source.light", source, first) as writer:
            for frame in source.frames(first, stop):
                writer.add(frame)
        self.light = LightRecord(scratch / "source.light")
        self._along = look_for(self.light)
        self._pairs = measure(self.light, _REACH, self._along).grouped(*_BLOCKS)

    @property
    def moving(self) -> NDArray[np.bool_]:
        """Where the scene moves from each frame to the next: (frames - 1, rows, cols) of blocks."""
        height, width = self.light.shape
        scale = np.array([width / _BLOCKS[1], height / _BLOCKS[0]])
        return np.linalg.norm(self._pairs.away[self._pairs.other - self._pairs.one == 1] * scale, axis=-1) > _MOVES

    def figures(self, treated: Iterable[Frame], seconds: Callable[[], float], each: Callable[[Frame], None] | None = None) -> Figures:
        """Measure the treated frames, given in order; `each` is told of every one, `seconds` asked once all are made."""
        count = self.stop - self.first
        chosen = set(np.linspace(0, count - 1, min(count, _LOOKED_AT)).round().astype(int).tolist())
        moving = self.moving
        details, error, samples = [], 0.0, 0
        path = self._scratch / "treated.light"
        with recorded(path, self._source, self.first) as writer:
            for at, (frame, original) in enumerate(zip(treated, self._source.frames(self.first, self.stop), strict=True)):
                writer.add(frame)
                if each:
                    each(frame)
                if at in chosen and not original.missing:
                    one, other = _luma(original), _luma(frame)
                    details.append(detail(one, other))
                    where = moving[min(at, len(moving) - 1)].astype(np.uint8)
                    mask = cv2.resize(where, one.shape[::-1], interpolation=cv2.INTER_NEAREST).astype(bool)
                    if mask.any():
                        error += float((departure(one, other)[mask] ** 2).sum())
                        samples += int(mask.sum())
        took = seconds() / count
        after = measure(LightRecord(path), _REACH, self._along).grouped(*_BLOCKS)
        before, now = unsteady(self._pairs, after)
        return Figures(
            source=before,
            light=now,
            left=now / before if before > _STEADY else None,
            detail=float(np.mean(details or [1.0])),
            ghosting=float(10 * np.log10(255**2 * samples / error)) if error else None,
            seconds=took,
            same=bool(samples) and not error,
        )


def unsteady(source: Pairs, treated: Pairs) -> tuple[float, float]:
    """How much the light of blocks changes between frames 1 to 8 apart, along the motion, in both: rms of its log.

    Both are looked at where both can be trusted; what changes alike all the time is no flicker.
    """
    trust = [p.weight / (1 + (p.spread / _APART) ** 2) for p in (source, treated)]
    weight = np.minimum(*trust)
    weight = np.minimum(weight / max(float(np.median(weight)), 1e-9), 2.0)
    apart = source.other - source.one
    squares = np.zeros(2)
    lags = np.unique(apart)
    for lag in lags:
        here = apart == lag
        mass = np.maximum(weight[here].sum(0), 1e-6)
        for n, pairs in enumerate((source, treated)):
            ratio = np.stack([cv2.medianBlur(np.ascontiguousarray(r, np.float32), _BROAD) for r in pairs.ratio[here]])
            lively = ratio - (weight[here] * ratio).sum(0) / mass
            squares[n] += (weight[here] * lively**2).sum() / max(float(weight[here].sum()), 1e-6)
    before, now = np.sqrt(squares / max(1, len(lags)))
    return float(before), float(now)


def _luma(frame: Frame) -> Plane:
    """Light of a frame at full size, in 8-bit codes above black."""
    layout = frame.format
    index = next((i for i, c in enumerate(layout.components) if c.name == "G"), 0)
    return light_of(frame.component(index), layout.components[index], frame.colour).astype(np.float32)


def detail(source: Plane, treated: Plane) -> float:
    """Fine structure of a treated picture over that of the source, each over its own light; planes of light above black."""
    strength = [float(np.abs(p - cv2.GaussianBlur(p, (0, 0), 1.5)).mean()) / max(float(p.mean()), 1.0) for p in (source, treated)]
    return strength[1] / strength[0] if strength[0] > 1e-6 else 1.0


def departure(source: Plane, treated: Plane) -> Plane:
    """What of a treated picture is not the source in another level: (height, width), 8-bit codes.

    Level and contrast are fitted around each place (the guided filter of He, Sun and Tang 2013 with the source as guide).
    """
    if np.array_equal(source, treated):
        return np.zeros_like(source)
    size = 2 * max(2, round(_LEVEL * source.shape[0])) + 1

    def mean(plane: Plane) -> Plane:
        return cv2.blur(plane, (size, size), borderType=cv2.BORDER_REFLECT)

    one, other = mean(source), mean(treated)
    spread = mean(source * source) - one * one
    slope = (mean(source * treated) - one * other) / (spread + _STRUCTURE**2)
    # Flat places have no slope of their own: there light is a factor.
    flat = _STRUCTURE**2 / (spread + _STRUCTURE**2)
    slope = slope + flat * other / np.maximum(one, 1.0)
    return treated - (other + slope * (source - one))
