"""Where plates come from, and how they are fitted in."""

from __future__ import annotations

from typing import Literal

from pydantic import BaseModel, ConfigDict, Field, model_validator

from ..retouch import Touch


class PlateOf(BaseModel):
    """Where a plate comes from, and which frames it serves.

    Attributes
    ----------
    kind : str
        ``frame``: a frame of the shot; ``middle``, ``darker``, ``lighter``: what many frames laid on the plane have in
        common; ``picture``: a picture from outside, laid on the plane as it lies in the reference frame.
    frame : int or None
        For ``frame``; the one that is least disturbed when not named.
    first, stop : int or None
        The frames it is made of; all of the shot when not named.
    picture : str
        PNG, in base 64.
    serves_from, serves_to : int or None
        The frames it is put on; all when not named.
    """

    model_config = ConfigDict(frozen=True, extra="forbid")

    kind: Literal["frame", "middle", "darker", "lighter", "picture"] = "middle"
    frame: int | None = Field(default=None, ge=0)
    first: int | None = Field(default=None, ge=0)
    stop: int | None = Field(default=None, ge=1)
    picture: str = Field(default="", max_length=80_000_000)
    serves_from: int | None = Field(default=None, ge=0)
    serves_to: int | None = Field(default=None, ge=0)

    @model_validator(mode="after")
    def _consistent(self) -> PlateOf:
        if self.kind == "picture" and not self.picture:
            raise ValueError("a plate from a picture needs the picture")
        return self

    def serves(self, frame: int) -> bool:
        """Whether it is put on a frame."""
        return (self.serves_from is None or frame >= self.serves_from) and (self.serves_to is None or frame <= self.serves_to)


class SampleArea(BaseModel):
    """A rectangle that the light is measured in, in the pixels of the reference frame."""

    model_config = ConfigDict(frozen=True, extra="forbid")

    x: float
    y: float
    width: float = Field(gt=1)
    height: float = Field(gt=1)


class PlateTouch(BaseModel):
    """A brush stroke on a plate, in the pixels of the reference frame; what it lends is a frame laid on the plane, in the plate's light."""

    model_config = ConfigDict(frozen=True, extra="forbid")

    plate: int = Field(default=0, ge=0)
    touch: Touch


Front = Literal["nothing", "darker", "lighter"]


class PlatePatchSettings(BaseModel):
    """The plates, and how they are fitted in."""

    model_config = ConfigDict(frozen=True, extra="forbid")

    plates: tuple[PlateOf, ...] = Field(default=(PlateOf(),), min_length=1, max_length=20, description="where the plates come from")
    also: bool = Field(default=True, description="take what a plate lacks from other frames laid on the plane")
    light: Literal["auto", "gain", "offset", "both", "off"] = Field(
        default="auto", description="how the light beside it is given to the plate; auto: as gain, of log scans as offset"
    )
    areas: tuple[SampleArea, ...] = Field(default=(), max_length=24, description="where the light is measured; a ring when none are named")
    robust: bool = Field(default=True, description="samples that stray do not count")
    smooth: float = Field(default=0.0, ge=0, le=50, description="the light made even over so many frames")
    sharpness: bool = Field(default=True, description="blur the plate as the frame is")
    grain: bool = Field(default=True, description="give it fresh grain")
    front: Front = Field(default="nothing", description="what stays in front of the patch, by how it differs from it")
    touches: tuple[PlateTouch, ...] = Field(default=(), max_length=4000, description="brush strokes on the plates")


# Strokes are put on plates that are made, and what is in front is told from each frame: no part of what is learned.
CHOOSES = frozenset({"touches", "front"})
