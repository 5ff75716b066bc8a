"""The light of red, green and blue each by itself: for lamps and film whose colours flicker apart."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from typing import Any

import cv2
import numpy as np
from numpy.typing import NDArray

from ...evidence.light_record import LightRecord
from ...media.colour import to_rgb
from ...media.frames import Colour, PictureFormat
from .pairs import Pairs
from .solve import solve_whole

Course = NDArray[Any]
# Light of a colour, in 8-bit codes, that is too near to black or to white to be gone by.
_DARK, _BRIGHT = 16.0, 240.0
_BLOCKS = (18, 16)
# Correlation of what two halves of the picture tell of a colour, from which they agree.
_AGREES = 0.9


def mixing(layout: PictureFormat, colour: Colour) -> Course | None:
    """The matrix from components about their zeros to R'G'B', both in 8-bit codes; None for a picture without colour."""
    names = [c.name for c in layout.components if c.name != "A"]
    if len(names) < 3:
        return None
    return np.stack([to_rgb(tuple(float(k == n) for k in range(3)), layout, colour, difference=True) for n in range(3)], 1)


def channel_courses(record: LightRecord, pairs: Pairs) -> Course | None:
    """Log light of red, green and blue over time: (frames, 3), each of mean 0; None for a picture without colour.

    The places that are held against one another are those of the pairs, and so is how far each is trusted.
    """
    apart = channel_pairs(record, pairs)
    return None if apart is None else courses_of(apart)


def courses_of(channels: Sequence[Pairs]) -> Course:
    """Log light of colours over time, from the pairs of each: (frames, colours), each of mean 0."""
    return np.stack([solve_whole(channel, contrast=False).offset for channel in channels], 1)


def halves_agree(channel: Pairs) -> bool:
    """Whether every second place of the picture tells the same course of a colour as the others.

    In a picture with hardly any of that colour (stars on black) few places tell of it, and each something else.
    """
    odd = np.indices(channel.weight.shape[1:]).sum(0) % 2 == 1
    one, other = courses_of([replace(channel, weight=channel.weight * part) for part in (odd, ~odd)]).T
    return float(one.std() * other.std()) > 0 and float(np.corrcoef(one, other)[0, 1]) >= _AGREES


def channel_pairs(record: LightRecord, pairs: Pairs) -> list[Pairs] | None:
    """The pairs of red, green and blue by themselves; None for a picture without colour, or where there are no pairs."""
    matrix = mixing(record.format, record.colour)
    if matrix is None or not len(pairs.one):
        return None
    joined = pairs.grouped(*_BLOCKS)
    rows, cols = joined.ratio.shape[1:]
    height, width = record.colours(0).shape[1:]
    ys, xs = np.mgrid[0:rows, 0:cols].astype(np.float32)
    order = [k for k, c in enumerate(record.format.components) if c.name != "A"]
    pictures = [np.einsum("ck,kyx->yxc", matrix, record.colours(n)[order]).astype(np.float32) for n in range(len(record))]

    def seen(picture: Course, y: Course, x: Course) -> Course:
        at_x, at_y = ((v * size - 0.5).astype(np.float32) for v, size in (((x + 0.5) / cols, width), ((y + 0.5) / rows, height)))
        return np.asarray(cv2.remap(picture, at_x, at_y, cv2.INTER_LINEAR, borderMode=cv2.BORDER_REPLICATE))

    here = [seen(picture, ys, xs) for picture in pictures]
    ratios, sounds = [], []
    for i, j, away in zip(joined.one, joined.other, joined.away, strict=True):
        one, other = here[i], seen(pictures[j], ys + away[..., 1], xs + away[..., 0])
        ratios.append(np.log(np.maximum(one, 1) / np.maximum(other, 1)))
        sounds.append((np.minimum(one, other) > _DARK) & (np.maximum(one, other) < _BRIGHT))
    ratio, sound = np.stack(ratios), np.stack(sounds)
    return [replace(joined, ratio=ratio[..., c], weight=joined.weight * sound[..., c]) for c in range(3)]
