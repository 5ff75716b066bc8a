"""What a survey says: findings, each with where, when, how sure, and the evidence it rests on, as codes and numbers."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any, Literal, Self, overload

from pydantic import BaseModel, ConfigDict, Field, GetCoreSchemaHandler, SerializeAsAny, model_validator
from pydantic_core import CoreSchema, core_schema

from .kept import Kept
from .registry import DEFECTS

if TYPE_CHECKING:
    from ..evidence.shot_evidence import ShotEvidence

# Below this a finding is shown as doubtful and no step is suggested for it.
CONVINCES = 0.7
State = Literal["kept", "doubtful", "dismissed"]


class Evidence(BaseModel):
    """What a finding rests on; each kind of defect has a model of its own.

    Evidence that an earlier version stored lacks some of it: every field has a default that stands for not known.

    Attributes
    ----------
    places : tuple of (frame, x, y, confidence)
        Where the surest of a family lie, surest first; empty for a finding that is one defect.
    frames : tuple of int
        The frames it is in, where they are few.
    shared : str
        The shot that proved it, by name; empty when its own did.
    part : bool
        It lies in its box alone: the step that mends it acts there, not on the whole picture.
    """

    model_config = ConfigDict(frozen=True, extra="ignore")

    places: tuple[tuple[int, int, int, float], ...] = ()
    shared: str = ""
    part: bool = False


class Finding(BaseModel):
    """One defect.

    Attributes
    ----------
    kind : str
        The kind of defect, such as ``stuck-pixel``.
    step : str
        The kind of step that mends it.
    x, y, width, height : int
        Box in pixels of the picture.
    first, stop : int
        Frames it is in: `first` up to, not including, `stop`.
    confidence : float
        0 to 1; `CONVINCES` and above is suggested for mending.
    evidence : Evidence
        Of the kind's own model.
    by_hand : bool
        Placed by the user.
    title, sentence : str
        The words for it that an earlier version stored; empty for what is found today.
    """

    model_config = ConfigDict(frozen=True, extra="ignore")

    kind: str
    step: str
    x: int
    y: int
    width: int
    height: int
    first: int
    stop: int
    confidence: float
    evidence: SerializeAsAny[Evidence] = Field(default_factory=Evidence)
    by_hand: bool = False
    title: str = ""
    sentence: str = ""

    @model_validator(mode="before")
    @classmethod
    def _of_its_kind(cls, stored: Any) -> Any:
        """Read the evidence by the kind's own model, also as earlier versions stored it."""
        if not isinstance(stored, dict) or stored.get("kind") not in DEFECTS:
            return stored
        kind = DEFECTS[stored["kind"]]
        evidence = stored.get("evidence", stored.get("numbers") or {})
        if isinstance(evidence, dict):
            evidence = kind.evidence.model_validate(evidence)
        return {**stored, "kind": kind.kind, "evidence": evidence}

    @classmethod
    def of_picture(cls, kind: str, step: str, size: tuple[int, int], shot: tuple[int, int], confidence: float, evidence: Evidence) -> Self:
        """A finding of the whole picture, height and width, in all frames of a shot, first and stop."""
        return cls(
            kind=kind,
            step=step,
            x=0,
            y=0,
            width=size[1],
            height=size[0],
            first=shot[0],
            stop=shot[1],
            confidence=round(confidence, 2),
            evidence=evidence,
        )

    @property
    def convinces(self) -> bool:
        """Whether a step is suggested for it."""
        return self.by_hand or self.confidence >= CONVINCES

    def as_json(self) -> dict[str, Any]:
        """Plain values for a JSON file."""
        return {**self.model_dump(mode="json", exclude={"title", "sentence"}), "suggested": self.convinces}


class JudgedFinding(Finding, Kept):
    """A finding of a shot, with what the user made of it.

    Attributes
    ----------
    state : str
        ``kept``: it is to be mended; ``doubtful``; ``dismissed``.
    chosen : bool
        The user kept it himself: it is sure, whatever the figure says.
    """

    state: State
    chosen: bool = False

    @classmethod
    def of(cls, found: Finding) -> JudgedFinding:
        """A finding as a survey, or the user, tells it."""
        return cls(**dict(found), state="kept" if found.convinces else "doubtful")

    def with_(self, **values: Any) -> JudgedFinding:
        """The finding with other values."""
        return self.model_copy(update=values)

    @property
    def finding(self) -> Finding:
        """The finding alone."""
        values = {name: getattr(self, name) for name in Finding.model_fields}
        return Finding(**{**values, "confidence": 1.0 if self.chosen else self.confidence})


class Findings(Sequence[JudgedFinding]):
    """The findings of a shot, in order; of one with very many they are read when they are first asked for.

    Parameters
    ----------
    told : sequence of JudgedFinding
    read : callable or None
        Gives them instead.
    """

    def __init__(self, told: Sequence[JudgedFinding] = (), read: Callable[[], Sequence[JudgedFinding]] | None = None) -> None:
        self._told, self._read = tuple(told), read

    @property
    def at_hand(self) -> bool:
        """Whether they were read."""
        return self._read is None

    def _all(self) -> tuple[JudgedFinding, ...]:
        if self._read is not None:
            self._told = tuple(self._read())
            self._read = None
        return self._told

    @overload
    def __getitem__(self, at: int) -> JudgedFinding: ...

    @overload
    def __getitem__(self, at: slice) -> tuple[JudgedFinding, ...]: ...

    def __getitem__(self, at: int | slice) -> JudgedFinding | tuple[JudgedFinding, ...]:
        return self._all()[at]

    def __len__(self) -> int:
        return len(self._all())

    def __iter__(self) -> Iterator[JudgedFinding]:
        return iter(self._all())

    def __eq__(self, other: object) -> bool:
        return isinstance(other, Sequence) and self._all() == tuple(other)

    def __hash__(self) -> int:
        return hash(self._all())

    def __repr__(self) -> str:
        return f"Findings({self._all()!r})"

    @classmethod
    def __get_pydantic_core_schema__(cls, _source: Any, handler: GetCoreSchemaHandler) -> CoreSchema:
        listed = handler.generate_schema(tuple[JudgedFinding, ...])
        return core_schema.no_info_wrap_validator_function(
            lambda sent, check: sent if isinstance(sent, cls) else cls(check(sent)),
            listed,
            serialization=core_schema.wrap_serializer_function_ser_schema(lambda told, plain: plain(tuple(told)), schema=listed),
        )


class Note(BaseModel):
    """Something a survey could not tell, and why.

    Attributes
    ----------
    kind : str
        The kind of defect that was looked for.
    code : str
        What it is, of the codes that the kind's wording knows.
    values : dict
        The numbers and names that belong to it.
    said : str
        The words for it that an earlier version stored; empty for what is told today.
    """

    model_config = ConfigDict(frozen=True, extra="ignore")

    kind: str = ""
    code: str = ""
    values: dict[str, str | int | float] = Field(default_factory=dict)
    said: str = ""

    @model_validator(mode="before")
    @classmethod
    def _from_words(cls, stored: Any) -> Any:
        return {"said": stored} if isinstance(stored, str) else stored


@dataclass(frozen=True)
class Surveyed:
    """What a survey of a shot says.

    Attributes
    ----------
    findings : list of Finding
        Of each kind surest first.
    notes : tuple of Note
        What could not be told, and why.
    evidence : ShotEvidence or None
        What the detectors that follow are to look at instead.
    """

    findings: list[Finding]
    notes: tuple[Note, ...] = ()
    evidence: ShotEvidence | None = None
