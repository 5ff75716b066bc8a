"""Things that are kept under a number of their own, whatever place they have in a list."""

from __future__ import annotations

from typing import Self

from pydantic import BaseModel, PrivateAttr

_NONE = {"_id": 0}


class Kept(BaseModel):
    """A shot, a finding, a step or a track.

    The number is of the place it is kept in alone: no file carries it, and two that are alike are equal under whatever numbers.
    """

    _id: int = PrivateAttr(default=0)

    @property
    def id(self) -> int:
        """The number it is kept under, which no other ever has; 0 for one that is not kept yet."""
        # Asked for very often, and pydantic's own way to a private value is slow.
        return (self.__pydantic_private__ or _NONE)["_id"]

    def kept_as(self, number: int) -> Self:
        """The same under a number."""
        if self.id == number:
            return self
        made = self.model_copy()
        made._id = number
        return made

    def __eq__(self, other: object) -> bool:
        return type(self) is type(other) and self.__dict__ == other.__dict__
