"""What a mark does to the light, as it is kept for other shots of the same camera."""

from __future__ import annotations

import base64
import zlib

import cv2
import numpy as np
from pydantic import BaseModel, ConfigDict, Field, model_validator

from ...imaging.motion import Plane
from .veils import Veil

# Steps of a stored share, and of its size for large soft marks.
_LEVELS = 2000
_SOFT = 120


class ShadeMap(BaseModel):
    """What a mark does to the light, as another shot measured it.

    Attributes
    ----------
    left, top, width, height : int
        Where, in pixels.
    step : int
        Pixels to a stored value.
    levels : str
        `a` in steps of 1/2000: uint16, little end first, in row order, deflated, in base 64.
    gain, blur, level : float
        Of its veil.
    tint : tuple of float
        Its light over each component of the picture, about its zero; empty for a grey veil.
    power : float
        By which codes become the light in which it is laid over.
    """

    model_config = ConfigDict(frozen=True, extra="forbid")

    left: int
    top: int
    width: int = Field(ge=1, le=16_384)
    height: int = Field(ge=1, le=16_384)
    step: int = Field(default=1, ge=1, le=16)
    levels: str
    gain: float = Field(default=0.0, ge=0, lt=1)
    blur: float = Field(default=0.0, ge=0)
    level: float = 0.0
    tint: tuple[float, ...] = ()
    power: float = Field(default=1.0, ge=1, le=4)

    @classmethod
    def of(cls, share: Plane, left: int, top: int, veil: Veil) -> ShadeMap:
        """Keep the share of light of a place."""
        height, width = share.shape
        step = 4 if min(share.shape) > _SOFT else 1
        small = cv2.resize(share, (-(-width // step), -(-height // step)), interpolation=cv2.INTER_AREA) if step > 1 else share
        packed = zlib.compress(np.rint(np.clip(small, 0, 1) * _LEVELS).astype("<u2").tobytes(), 9)
        encoded = base64.b64encode(packed).decode()
        level, tint = round(float(veil.level), 2), tuple(round(float(v), 2) for v in veil.tint)
        fields = {"left": left, "top": top, "width": width, "height": height, "step": step}
        return cls(**fields, levels=encoded, gain=veil.gain, blur=veil.blur, level=level, tint=tint, power=veil.power)

    @model_validator(mode="after")
    def _consistent(self) -> ShadeMap:
        try:
            count = len(zlib.decompress(base64.b64decode(self.levels, validate=True))) // 2
        except (ValueError, zlib.error) as error:
            raise ValueError("the map of the mark cannot be unpacked") from error
        if count != -(-self.width // self.step) * -(-self.height // self.step):
            raise ValueError("the map of the mark is not of the size it tells")
        return self

    @property
    def share(self) -> Plane:
        """`a`: float32, (height, width), 0 to 1."""
        stored = np.frombuffer(zlib.decompress(base64.b64decode(self.levels)), "<u2").astype(np.float32) / _LEVELS
        small = stored.reshape(-(-self.height // self.step), -(-self.width // self.step))
        return cv2.resize(small, (self.width, self.height), interpolation=cv2.INTER_CUBIC).clip(0, 1) if self.step > 1 else small

    @property
    def veil(self) -> Veil:
        """The light it lays over."""
        return Veil(self.gain, self.blur, self.level, self.tint, self.power)

    def on(self, shape: tuple[int, int]) -> Plane:
        """The share on a whole picture of that shape."""
        whole = np.zeros(shape, np.float32)
        top, left = max(0, self.top), max(0, self.left)
        part = self.share[top - self.top : shape[0] - self.top, left - self.left : shape[1] - self.left]
        whole[top : top + part.shape[0], left : left + part.shape[1]] = part
        return whole
