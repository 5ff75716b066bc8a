"""One map for one camera set-up: what one shot proved of a mark is looked for in the others.

A shot that never moves proves nothing by itself, but dirt proven elsewhere in the reel leaves its own shape in the
mean of its frames. How much of that shape is there is a regression of gradients, held against what the same shape
finds by chance at other places of the picture.
"""

from __future__ import annotations

import base64
import zlib
from collections.abc import Sequence
from typing import Any

import cv2
import numpy as np
from numpy.typing import NDArray
from pydantic import BaseModel, ConfigDict, Field, model_validator

from ...evidence.time_volume import TimeVolume
from ...imaging.light import light_of
from ...imaging.motion import Plane
from ...survey.findings import Finding
from .veils import Veil, undone

# Steps of a stored share, and of its size for large soft marks.
_LEVELS = 2000
_SOFT = 120
_FRAMES = 24
_CHANCES = 48
# Share of a mark's depth that has to be there, and standing out from chance, in its standard deviations.
_LEAST, _MOST = 0.6, 1.5
_RISE = (3.5, 7.0)


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

    @classmethod
    def of(cls, share: Plane, left: int, top: int, veil: Veil) -> ShadeMap:
        """Keep the share of light of a place."""
        height, width = share.shape
        step = 4 if min(share.shape) > _SOFT else 1
        small = cv2.resize(share, (-(-width // step), -(-height // step)), interpolation=cv2.INTER_AREA) if step > 1 else share
        packed = zlib.compress(np.rint(np.clip(small, 0, 1) * _LEVELS).astype("<u2").tobytes(), 9)
        told = base64.b64encode(packed).decode()
        level, tint = round(float(veil.level), 2), tuple(round(float(v), 2) for v in veil.tint)
        whole = {"left": left, "top": top, "width": width, "height": height, "step": step}
        return cls(**whole, levels=told, gain=veil.gain, blur=veil.blur, level=level, tint=tint)

    @model_validator(mode="after")
    def _whole(self) -> ShadeMap:
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
        return Veil(self.gain, self.blur, self.level, self.tint)

    def on(self, shape: tuple[int, int]) -> Plane:
        """The share on a whole picture of that shape."""
        whole = np.zeros(shape, np.float32)
        top, left = max(0, self.top), max(0, self.left)
        part = self.share[top - self.top : shape[0] - self.top, left - self.left : shape[1] - self.left]
        whole[top : top + part.shape[0], left : left + part.shape[1]] = part
        return whole


def mean_light(volume: TimeVolume) -> Plane:
    """The mean light of a shot's held frames: (height, width), float32, in 8-bit codes above black."""
    names = [c.name for c in volume.format.components]
    index = names.index("G") if "G" in names else 0
    stack = volume.component_stack(index)
    numbers = np.unique(np.linspace(0, len(stack) - 1, min(len(stack), _FRAMES)).round().astype(int))
    lights = [light_of(stack[n], volume.format.components[index], volume.colour) for n in numbers]
    return np.asarray(np.mean(lights, axis=0), np.float32)


def presence(mean: Plane, mark: ShadeMap) -> tuple[float, float]:
    """How much of a mark is in a mean picture.

    Parameters
    ----------
    mean : ndarray, float32, (height, width)
        See `mean_light`.
    mark : ShadeMap

    Returns
    -------
    depth : float
        1 where it is there as deep as it was measured, about 0 where it is not.
    stands_out : float
        That, over the standard deviation of what its shape finds by chance around.
    """
    share = np.pad(mark.share, 4)
    # Of a picture that is plain and as bright as this one: what the mark would make of it.
    place = _cut(mean, mark.left - 4, mark.top - 4, share.shape)
    if place is None:
        return 0.0, 0.0
    sigma = max(0.8, 0.02 * max(share.shape))

    def depth(at: Plane) -> float:
        level = float(np.median(undone(at, share, mark.veil)))
        veil = mark.veil
        spoiled = level * (1 - share) + share * (veil.gain * level + veil.level)
        shape, found = (_gradients(np.log(np.maximum(p, 1) + 4), sigma) for p in (spoiled, at))
        own = float(np.median(np.abs(shape)[shape != 0])) if shape.any() else 0.0
        share_there = 0.5
        # The scene's own edges are few and large: M-estimator with a redescending weight (Geman and McClure 1987).
        for _ in range(8):
            miss = found - share_there * shape
            scale = 1.4826 * float(np.median(np.abs(miss))) + 0.1 * own + 1e-6
            weight = 1 / (1 + (miss / (2 * scale)) ** 2) ** 2
            share_there = float((weight * shape * found).sum() / max(float((weight * shape * shape).sum()), 1e-12))
        return share_there

    chances = []
    height, width = share.shape
    for n in range(_CHANCES):
        ring, turn = 1 + n // 16, 2 * np.pi * (n % 16) / 16
        across, down = (round(ring * size * f) for size, f in ((width, np.cos(turn)), (height, np.sin(turn))))
        other = _cut(mean, mark.left - 4 + across, mark.top - 4 + down, share.shape)
        if other is not None:
            chances.append(depth(other))
    if len(chances) < 6:
        return depth(place), 0.0
    usual = float(np.sqrt(np.mean(np.square(chances))))
    own = depth(place)
    return own, own / max(usual, 0.02)


def _cut(plane: Plane, left: int, top: int, shape: tuple[int, ...]) -> Plane | None:
    """A part of a picture; None where it does not lie on it."""
    height, width = shape
    if left < 0 or top < 0 or left + width > plane.shape[1] or top + height > plane.shape[0]:
        return None
    return plane[top : top + height, left : left + width]


def _gradients(plane: Plane, sigma: float) -> NDArray[np.float32]:
    smooth = cv2.GaussianBlur(plane, (0, 0), sigma)
    return np.stack([np.diff(smooth, axis=1)[:-1], np.diff(smooth, axis=0)[:, :-1]])


def shared(mean: Plane, marks: Sequence[tuple[str, Finding]], known: Sequence[Finding], first: int, stop: int) -> list[Finding]:
    """Marks of other shots that are in this one, too.

    Parameters
    ----------
    mean : ndarray, float32, (height, width)
        See `mean_light`.
    marks : sequence of (str, Finding)
        What other shots proved, each with the shot's name; those without a map are left out.
    known : sequence of Finding
        Of this shot; what lies there is not named again.
    first, stop : int
        This shot.
    """
    found: list[Finding] = []
    for name, mark in marks:
        kept: dict[str, Any] | None = mark.numbers.get("map")
        if kept is None or any(_meets(mark, other) for other in (*known, *found)):
            continue
        depth, stands_out = presence(mean, ShadeMap.model_validate(kept))
        if not _LEAST <= depth <= _MOST:
            continue
        sure = float(np.clip((stands_out - _RISE[0]) / (_RISE[1] - _RISE[0]), 0, 1))
        if sure < 0.3:
            continue
        found.append(
            Finding(
                kind=mark.kind,
                step=mark.step,
                x=mark.x,
                y=mark.y,
                width=mark.width,
                height=mark.height,
                first=first,
                stop=stop,
                confidence=round(sure, 3),
                title=mark.title,
                sentence=(
                    f"The same mark as in {name}, where the scene moved {mark.numbers.get('travel', 0):.0f} px behind it. The mean of "
                    f"this shot shows it at {100 * depth:.0f} % of its depth, {stands_out:.0f} times what chance would: undone as it was measured there."
                ),
                numbers={**mark.numbers, "shared": name},
            )
        )
    return found


def _meets(one: Finding, other: Finding) -> bool:
    if other.kind != one.kind:
        return False
    across = min(one.x + one.width, other.x + other.width) - max(one.x, other.x)
    down = min(one.y + one.height, other.y + other.height) - max(one.y, other.y)
    return across > 0 and down > 0 and across * down > 0.3 * min(one.width * one.height, other.width * other.height)
