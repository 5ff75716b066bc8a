"""Steps put on a shot, and the recipe: a treatment under a name."""

from __future__ import annotations

import json
from collections.abc import Iterable, Mapping
from pathlib import Path
from typing import Any, Literal

from pydantic import BaseModel, ConfigDict, Field, ModelWrapValidatorHandler, PrivateAttr, SerializeAsAny, ValidationError, model_validator

from ..base.errors import SweepError
from .findings import Finding
from .kept import Kept
from .kinds import StepKind
from .regions import Masked, Outside, Region
from .registry import STEPS
from .tracks import Riding, Track


class Step(Kept):
    """One step of a treatment.

    Attributes
    ----------
    kind : str
    on : bool
    settings : BaseModel
        Of the kind's own model; plain values are taken and checked by it.
    region, hold_out : Region or None
        Where it may act, and where it never does; None is the whole picture, and nowhere.
    """

    model_config = ConfigDict(frozen=True, extra="forbid")

    kind: str
    on: bool = True
    settings: SerializeAsAny[BaseModel] = Field(default_factory=BaseModel)
    region: Region | None = None
    hold_out: Region | None = None
    _tracks: tuple[Track, ...] = PrivateAttr(default=())

    @model_validator(mode="wrap")
    @classmethod
    def _typed(cls, sent: Any, build: ModelWrapValidatorHandler[Step]) -> Step:
        """The step with the settings of its kind, under the name that the kind has now."""
        if not isinstance(sent, Mapping) or not isinstance(sent.get("kind"), str):
            return build(sent)
        if sent["kind"] not in STEPS:
            raise ValueError(f"there is no step called {sent['kind']!r}; there are: {', '.join(STEPS)}")
        of = STEPS[sent["kind"]]
        return build({**sent, "kind": of.kind, "settings": of.settings.model_validate(sent.get("settings", {}))})

    @classmethod
    def new(cls, kind: str, *, region: Region | None = None, **settings: Any) -> Step:
        """A step of a kind, switched on, with settings other than the usual ones.

        Raises
        ------
        ValidationError
            If there is no such kind, or its settings cannot be so.
        """
        return cls.model_validate({"kind": kind, "region": region, "settings": settings})

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

    @property
    def tracks(self) -> tuple[Track, ...]:
        """Those of its recipe."""
        return self._tracks

    def with_settings(self, **changed: Any) -> Step:
        """The step with some settings changed.

        Raises
        ------
        ValidationError
            If they cannot be so.
        """
        fresh = self.of.settings.model_validate({**self.settings.model_dump(), **changed})
        return self.model_copy(update={"settings": fresh})

    @property
    def track(self) -> str:
        """The track its settings name; empty for none."""
        return str(getattr(self.settings, "track", ""))

    def with_track(self, name: str) -> Step:
        """The step with another track named in its settings, where these can name one."""
        if not hasattr(self.settings, "track"):
            return self
        return self.model_copy(update={"settings": self.settings.model_copy(update={"track": name})})

    def rides_on(self, name: str) -> bool:
        """Whether its regions, or what it puts on, ride on a track."""
        parts = [p.track for r in (self.region, self.hold_out) if r is not None for p in r.parts]
        return name in parts or self.track == name

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

    def resolved(self, findings: list[Finding]) -> Step:
        """The step with what was left to the survey named."""
        if not self.of.needs_findings:
            return self
        return self.model_copy(update={"settings": self.of.resolve(self.settings, findings)})


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
    steps: tuple[Step, ...] = Field(default=(), max_length=200)
    tracks: tuple[Track, ...] = Field(default=(), max_length=40)
    size: tuple[int, int] = (0, 0)
    enter: int = Field(default=0, ge=0)

    @model_validator(mode="after")
    def _last(self) -> Recipe:
        # Behind it nothing can be proven sample by sample, and repairs want the picture's own grain.
        if any(s.of.whole_picture for s in self.steps[:-1]):
            object.__setattr__(self, "steps", tuple(sorted(self.steps, key=lambda s: s.of.whole_picture)))
        return self

    @model_validator(mode="after")
    def _names(self) -> Recipe:
        names = [t.name for t in self.tracks]
        if len(set(names)) < len(names):
            raise ValueError("two tracks have the same name")
        return self

    def with_step(self, index: int, step: Step) -> Recipe:
        """The recipe with another step at a place."""
        return self.model_copy(update={"steps": (*self.steps[:index], step, *self.steps[index + 1 :])})

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
            made = one.with_track(new) if one.track == old else one
            return made.model_copy(update={"region": region(one.region), "hold_out": region(one.hold_out)})

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

    def resolved(self, findings: Iterable[Finding]) -> Recipe:
        """The recipe with everything named that was left to the survey."""
        known = list(findings)
        return self.model_copy(update={"steps": tuple(s.resolved(known) for s in self.steps)})

    @property
    def active(self) -> list[Step]:
        """The steps that are switched on, in order."""
        return [step.with_tracks(self.tracks) for step in self.steps if step.on]

    @property
    def needs_survey(self) -> bool:
        """Whether some step leaves to the survey what it is to act on."""
        return any(step.resolved([]).settings != step.settings for step in self.active)


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
        raise SweepError(f"This is not a usable recipe: {first_fault(error)}.") from error


# pydantic's types of fault that users meet most, in their words.
_FAULTS = {
    "int_type": "a whole number is needed",
    "int_parsing": "a whole number is needed",
    "int_from_float": "a whole number is needed",
    "float_type": "a number is needed",
    "float_parsing": "a number is needed",
    "string_type": "text is needed",
    "bool_type": "yes or no is needed",
    "missing": "it is missing",
}


def first_fault(error: ValidationError) -> str:
    """The first fault of a validation in words."""
    first = error.errors()[0]
    place = ".".join(str(part) for part in first["loc"]) or "the whole"
    return f"{place}: {_FAULTS.get(first['type']) or first['msg'].removeprefix('Value error, ')}"
