"""A treatment: the ordered steps put on a shot, the keys of their analyses, and its JSON form, the recipe."""

from __future__ import annotations

import hashlib
import json
from collections.abc import Callable, Iterable, Sequence
from dataclasses import replace
from pathlib import Path
from typing import Any, Literal

import numpy as np
from numpy.typing import NDArray
from pydantic import BaseModel, ConfigDict, Field, PrivateAttr, ValidationError, model_validator

from .base.errors import SweepError
from .confined import Confined
from .evidence.frames_at_hand import Span
from .evidence.light_record import LightRecord, record
from .evidence.time_volume import TimeVolume, build_volume
from .media.frames import FrameSource, PictureFormat, Window
from .regions import Masked, Outside, Region, box_region
from .steps import STEPS, Knowledge, StepKind
from .survey.findings import Finding
from .tools.retouch import RetouchPlan
from .tracks import Riding, Track


class Step(BaseModel):
    """One step of a treatment.

    Attributes
    ----------
    kind : str
    on : bool
    settings : dict
        Of the kind's own model.
    region, hold_out : Region or None
        Where it may act, and where it never does; None is the whole picture, and nowhere.
    """

    model_config = ConfigDict(frozen=True, extra="forbid")

    kind: str
    on: bool = True
    settings: dict[str, Any] = Field(default_factory=dict)
    region: Region | None = None
    hold_out: Region | None = None
    _tracks: tuple[Track, ...] = PrivateAttr(default=())

    @model_validator(mode="after")
    def _known(self) -> Step:
        if self.kind not in STEPS:
            raise ValueError(f"there is no step called {self.kind!r}; there are: {', '.join(STEPS)}")
        checked = STEPS[self.kind].settings.model_validate(self.settings)
        object.__setattr__(self, "settings", checked.model_dump(mode="json"))
        return self

    @property
    def of(self) -> StepKind:
        """The kind of step."""
        return STEPS[self.kind]

    def with_tracks(self, tracks: tuple[Track, ...]) -> Step:
        """The step with the tracks of its recipe, which its regions may ride on."""
        step = self.model_copy()
        step._tracks = tracks
        return step

    @property
    def acts_in(self) -> Masked | None:
        """Its region, riding."""
        return None if self.region is None else Riding(self.region, self._tracks)

    @property
    def held_out(self) -> Masked | None:
        """Its hold-out, riding."""
        return None if self.hold_out is None else Riding(self.hold_out, self._tracks)

    def rides_on(self, name: str) -> bool:
        """Whether its regions, or what it puts on, ride on a track."""
        parts = [p.track for r in (self.region, self.hold_out) if r is not None for p in r.parts]
        return name in parts or self.settings.get("track") == name

    @property
    def ridden(self) -> list[Track]:
        """The tracks it depends on."""
        return [t for t in self._tracks if self.rides_on(t.name)]

    @property
    def unseen(self) -> Masked | None:
        """Where nothing is to be learned from."""
        if self.of.learns_within and self.region is not None and self.region.parts:
            return Outside(Riding(self.region, self._tracks), self.held_out)
        return self.held_out

    def load(self, path: Path, layout: PictureFormat) -> Knowledge:
        """What the step knows of a shot, kept to its region."""
        known = self.of.choose(self.of.load(path), self.parsed(), self._tracks)
        region = Region() if self.region is None and self.of.needs_region else self.acts_in
        return known if region is None and self.hold_out is None else Confined(known, layout, region, self.held_out)

    def settled(self, findings: list[Finding]) -> Step:
        """The step with what was left to the survey named."""
        if self.of.leaves_nothing:
            return self
        return self.model_copy(update={"settings": self.of.settle(self.parsed(), findings).model_dump(mode="json")})

    def parsed(self) -> BaseModel:
        """The settings as their own model."""
        return self.of.settings.model_validate(self.settings)


class Recipe(BaseModel):
    """A treatment under a name, as it is kept in a JSON file.

    Attributes
    ----------
    name : str
    steps : tuple of Step
    tracks : tuple of Track
    size : tuple of int
        Width and height of the pictures its regions were drawn on; zeros where that is not known.
    enter : int
        The frame that the keys of its regions count from, where the size is known.
    """

    model_config = ConfigDict(frozen=True, extra="forbid")

    format: Literal["nimbus-sweep recipe"] = "nimbus-sweep recipe"
    version: Literal[1] = 1
    name: str = Field(default="", max_length=200)
    steps: tuple[Step, ...] = ()
    tracks: tuple[Track, ...] = Field(default=(), max_length=40)
    size: tuple[int, int] = (0, 0)
    enter: int = Field(default=0, ge=0)

    @model_validator(mode="after")
    def _last(self) -> Recipe:
        # Behind it nothing can be proven sample by sample, and repairs want the picture's own grain.
        if any(s.of.whole for s in self.steps[:-1]):
            object.__setattr__(self, "steps", tuple(sorted(self.steps, key=lambda s: s.of.whole)))
        return self

    @model_validator(mode="after")
    def _names(self) -> Recipe:
        names = [t.name for t in self.tracks]
        if len(set(names)) < len(names):
            raise ValueError("two tracks have the same name")
        return self

    def with_tracks(self, tracks: tuple[Track, ...]) -> Recipe:
        """The recipe with other tracks."""
        return self.model_copy(update={"tracks": tracks})

    def fitting(self, first: int, stop: int) -> Recipe:
        """The recipe for some frames: a track that was followed through others has to be followed anew."""

        def known(track: Track) -> bool:
            followed = track.followed()
            return followed is None or (followed.numbers[0] < stop and followed.numbers[-1] >= first)

        return self.with_tracks(tuple(t if known(t) else t.unfollowed() for t in self.tracks))

    def renamed(self, old: str, new: str) -> Recipe:
        """The recipe with a track under another name, and whatever rides on it along."""

        def region(one: Region | None) -> Region | None:
            if one is None:
                return None
            return one.model_copy(update={"parts": tuple(p.model_copy(update={"track": new}) if p.track == old else p for p in one.parts)})

        def step(one: Step) -> Step:
            settings = one.settings | ({"track": new} if one.settings.get("track") == old else {})
            return one.model_copy(update={"region": region(one.region), "hold_out": region(one.hold_out), "settings": settings})

        tracks = tuple(t.model_copy(update={"name": new if t.name == old else t.name, "hold_out": region(t.hold_out)}) for t in self.tracks)
        return self.model_copy(update={"steps": tuple(step(s) for s in self.steps), "tracks": tracks})

    def above(self, track: Track) -> list[tuple[str, Masked]]:
        """What lies above a track, by what it is called: tracks higher in the list, and where steps put something else.

        What rides on the track itself, or on one below it, is no part of it.
        """
        higher = self.tracks[: [t.name for t in self.tracks].index(track.name)]
        found: list[tuple[str, Masked]] = [(t.name, Riding(t.ridden(), (t,))) for t in higher if t.path]
        usable = {"", *(t.name for t in higher if t.path)}
        for step in self.active:
            region = step.region
            if step.of.needs_region and region is not None and region.parts and {p.track for p in region.parts} <= usable:
                found.append((step.of.title, Riding(region, self.tracks)))
        return found

    def settled(self, findings: Iterable[Finding]) -> Recipe:
        """The recipe with everything named that was left to the survey."""
        known = list(findings)
        return self.model_copy(update={"steps": tuple(s.settled(known) for s in self.steps)})

    @property
    def active(self) -> list[Step]:
        """The steps that are switched on, in order."""
        return [step.with_tracks(self.tracks) for step in self.steps if step.on]

    @property
    def needs_survey(self) -> bool:
        """Whether some step leaves to the survey what it is to act on."""
        return any(step.settled([]).settings != step.settings for step in self.active)


def read_recipe(path: Path) -> Recipe:
    """Read a recipe file.

    Raises
    ------
    SweepError
        If it cannot be read or is no recipe; the text says what is wrong where.
    """
    try:
        text = path.read_text(encoding="utf-8")
    except (OSError, UnicodeDecodeError) as error:
        raise SweepError(f"The recipe {path} cannot be read ({error}). Name a recipe file.") from error
    try:
        return recipe_of(json.loads(text))
    except json.JSONDecodeError as error:
        raise SweepError(f"{path} is not a usable recipe: it is no JSON ({error}).") from error
    except SweepError as error:
        raise SweepError(f"{path}: {error}") from error


def refuse_newer(what: str, kind: type[BaseModel], sent: Any) -> None:
    """Raise SweepError for the plain values of a format's newer version: they may mean what this version does not know."""
    form, known = (kind.model_fields[name].default for name in ("format", "version"))
    made = sent.get("version") if isinstance(sent, dict) and sent.get("format") == form else None
    if isinstance(made, int) and made > known:
        raise SweepError(
            f"{what} is of version {made}, and this application reads version {known}: it was made by a newer one. Bring Nimbus Sweep "
            "up to date."
        )


def recipe_of(sent: Any) -> Recipe:
    """A recipe from the plain values of its JSON.

    Raises
    ------
    SweepError
        If it is none, or was made by a newer version; the text says what is wrong where.
    """
    refuse_newer("This recipe", Recipe, sent)
    try:
        return Recipe.model_validate(sent)
    except ValidationError as error:
        raise SweepError(f"This is not a usable recipe: {told(error)}.") from error


def told(error: ValidationError) -> str:
    """The first fault of a validation in words."""
    first = error.errors()[0]
    place = ".".join(str(part) for part in first["loc"]) or "the whole"
    return f"{place}: {first['msg'].removeprefix('Value error, ')}"


def suggested(findings: Iterable[Finding]) -> Recipe:
    """The steps that a survey suggests, in the order that works; none that has to be asked for."""
    known = [f for f in findings if f.convinces]
    kinds = {f.step for f in known}
    return Recipe(
        name="As surveyed",
        steps=tuple(Step(kind=kind, region=region_for(kind, known)) for kind in STEPS if kind in kinds and not STEPS[kind].asked_for),
    )


def region_for(kind: str, findings: Iterable[Finding]) -> Region | None:
    """Where a step is to act for what was found: the part of the picture that a finding is told of alone, or all of it."""
    part = next((f for f in findings if f.step == kind and f.numbers.get("part")), None)
    return None if part is None else box_region(part.x, part.y, part.width, part.height)


def analysis_key(fingerprint: str, first: int, stop: int, steps: Sequence[Step]) -> str:
    """The name under which the analysis of the last of `steps` is kept.

    Made of the reel's fingerprint, the shot, the steps before, with their regions, and the step's own settings, so
    that it is found again until something it depends on changes.
    """
    active = [s for s in steps if s.on]
    chain = [(s.kind, s.of.version, _learned(s, last=s is active[-1]), *_regions(s, last=s is active[-1])) for s in active]
    text = json.dumps([fingerprint, first, stop, chain], sort_keys=True)
    return hashlib.sha256(text.encode()).hexdigest()[:32]


def _learned(step: Step, last: bool) -> dict[str, Any]:
    """A step's settings as far as the analysis depends on them: what only chooses among what it knows is no part of it."""
    return {k: v for k, v in step.settings.items() if not ((last or step.of.slight) and k in step.of.chooses)}


def _regions(step: Step, last: bool) -> list[Any]:
    """A step's regions as far as the analysis depends on them: where most steps act is no part of what they know."""
    used = [step.hold_out] if last and not step.of.learns_within else [step.region, step.hold_out]
    if not any(r is not None for r in used):
        return []
    named = {p.track for r in used if r is not None for p in r.parts}
    ridden = [t.digest for t in step.ridden if t.name in named]
    return [*(r.model_dump(mode="json") if r is not None else None for r in used), *ridden]


class Analyses:
    """Analyses of shots, kept as files in a folder under their keys.

    Parameters
    ----------
    folder : Path
    fingerprint : str
        Of the reel and of how it is read.
    first, stop : int
        The shot.
    """

    def __init__(self, folder: Path, fingerprint: str, first: int, stop: int) -> None:
        self.folder, self.fingerprint, self.first, self.stop = folder, fingerprint, first, stop

    def path(self, steps: Sequence[Step]) -> Path:
        """Where the analysis of the last of `steps` is kept."""
        return self.folder / f"{analysis_key(self.fingerprint, self.first, self.stop, steps)}.npz"

    def ready(self, recipe: Recipe) -> bool:
        """Whether every analysis the recipe needs is there."""
        return all(self.path(recipe.active[: n + 1]).exists() for n in range(len(recipe.active)))

    def load(self, recipe: Recipe, layout: PictureFormat) -> list[Knowledge]:
        """The knowledge of every active step, for frames of that layout; raises FileNotFoundError for one not made yet."""
        return [step.load(self.path(recipe.active[: n + 1]), layout) for n, step in enumerate(recipe.active)]

    def make(
        self,
        recipe: Recipe,
        source: FrameSource,
        volume: Callable[[], TimeVolume],
        on_progress: Callable[[float], None] | None = None,
        light: Callable[[], LightRecord] | None = None,
        usable: NDArray[np.int64] | None = None,
    ) -> list[Knowledge]:
        """Make what is missing, and give the knowledge of every active step.

        Parameters
        ----------
        recipe : Recipe
            Settled.
        source : FrameSource
            The reel.
        volume : callable
            Gives the time volume of the untreated shot; asked only when an analysis has to be made.
        on_progress : callable
            Told the share done, 0 to 1; may raise to stop.
        light : callable
            Gives the light record of the untreated shot, where there is one.
        usable : ndarray, int64
            Frames of the reel that are there and repeat no other; all when None.
        """
        made: list[Knowledge] = []
        active = recipe.active
        self.folder.mkdir(parents=True, exist_ok=True)
        for n, step in enumerate(active):
            path = self.path(active[: n + 1])
            if not path.exists():
                scratch = path.with_suffix(".scratch")
                share = (lambda part, n=n: on_progress((n + part) / len(active))) if on_progress else None
                treated = chain(source, made, self.first, self.stop)
                before: TimeVolume | LightRecord | FrameSource | Span
                if step.of.learns_from == "nothing":
                    before = treated
                elif step.of.learns_from == "frames":
                    before = Span.of(treated, self.first, self.stop, usable)
                elif step.of.learns_from == "light":
                    before = light() if light and not made else record(scratch, treated, self.first, self.stop)
                else:
                    before = build_volume(scratch, treated, first=self.first, stop=self.stop) if made else volume()
                step.of.analyse(before, step.parsed(), share, step.unseen).save(path)
                scratch.unlink(missing_ok=True)
                for described in (scratch.with_suffix(".json"), scratch.with_name(scratch.name + ".json")):
                    described.unlink(missing_ok=True)
            made.append(step.load(path, source.format))
        return made


def chain(source: FrameSource, knowledge: Sequence[Knowledge], first: int, stop: int, window: Window | None = None) -> FrameSource:
    """`source` with the steps put on, one over the other, on frames `first` to `stop` - 1; outside `window` they need not be."""
    windows: list[Window | None] = []
    for known in reversed(knowledge):
        windows.append(window)
        window = known.needs(window) if window is not None else None
    original = source
    for known, wanted in zip(knowledge, reversed(windows), strict=True):
        source = (replace(known, original=original) if isinstance(known, RetouchPlan) else known).apply(source, first, stop, wanted)
    return source
