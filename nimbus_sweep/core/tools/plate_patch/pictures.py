"""Plates made of what many frames have in common, and what stands in front of them."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Literal

import cv2
import numpy as np

from ...imaging.motion import Plane
from .canvas import Picture
from .light import WEIGHTS, Areas, LightMatch, measured

Take = Literal["middle", "darker", "lighter"]
# The share of the frames whose values lie closest together that make the plate.
_CLOSE = 0.45


def common(pictures: Sequence[tuple[Picture, Plane]], areas: Areas, take: Take) -> tuple[Picture, Plane]:
    """What pictures of the plane have in common, each brought into the light of the one that shows most.

    Parameters
    ----------
    pictures : sequence of (ndarray, ndarray)
        See `Canvas.taken`.
    areas : Areas
        Where their light is measured.
    take : str
        ``middle``: where values lie closest together, which holds while no more than half of the frames are disturbed
        (the shortest part: Rousseeuw 1984); ``darker`` and ``lighter``: what is darker or lighter than four of five, for
        what adds light, or takes it.

    Returns
    -------
    picture : ndarray, float32, (height, width, 3)
    known : ndarray, float32, (height, width)
        1 where any of them shows the plane.
    """
    base, there = max(pictures, key=lambda one: float(one[1].sum()))
    laid = []
    for picture, seen in pictures:
        light = measured(base, picture, seen * there, areas, "gain")
        whole = LightMatch(np.exp(np.log(np.maximum(light.gains, 1e-3)).mean(0))[None], np.zeros((1, 3))) if len(areas) else None
        even = picture * whole.gains[0].astype(np.float32) if whole is not None else picture
        laid.append(np.where(seen[..., None] > 0, even, np.nan))
    stack = np.stack(laid)
    known = np.isfinite(stack[..., 0]).any(0)
    found = np.zeros(base.shape, np.float32)
    rows = max(1, 2_000_000 // max(1, stack.shape[0] * stack.shape[2]))
    for top in range(0, stack.shape[1], rows):
        found[top : top + rows] = _taken(stack[:, top : top + rows], take)
    return found, known.astype(np.float32)


def _taken(stack: Picture, take: Take) -> Picture:
    """What pictures laid over one another have in common: (frames, rows, columns, 3), NaN where one does not show the plane."""
    light = cv2.transform(stack.reshape(-1, stack.shape[2], 3), WEIGHTS[None]).reshape(stack.shape[:3])
    count = np.isfinite(light).sum(0)
    # What is not seen goes behind all that is.
    order = np.argsort(np.where(np.isfinite(light), light, np.inf), axis=0, kind="stable")
    ranked = np.take_along_axis(stack, order[..., None], 0)
    span = np.maximum(1, np.ceil(_CLOSE * count)).astype(np.int64)
    if take == "middle":
        levels = np.take_along_axis(light, order, 0)
        least, start = np.full(count.shape, np.inf), np.zeros(count.shape, np.int64)
        for first in range(len(stack)):
            last = np.minimum(first + span - 1, len(stack) - 1)
            wide = np.take_along_axis(levels, last[None], 0)[0] - levels[first]
            better = (first + span <= count) & (wide < least)
            least, start = np.where(better, wide, least), np.where(better, first, start)
    else:
        share = 0.2 if take == "darker" else 0.8
        start = np.clip(np.rint(share * (count - 1) - (span - 1) / 2), 0, np.maximum(0, count - span)).astype(np.int64)
    place = np.arange(len(stack))[:, None, None]
    use = (place >= start) & (place < start + span)
    total = np.where(use[..., None], np.nan_to_num(ranked), 0).sum(0)
    return (total / np.maximum(use.sum(0), 1)[..., None]).astype(np.float32)


def disturbance(picture: Picture, seen: Plane, like: Picture, known: Plane, region: Plane, areas: Areas) -> float:
    """How far a frame's picture of the plane departs from what all have in common, inside a region: mean codes; unseen parts count full."""
    light = measured(picture, like, seen * known, areas, "gain")
    gap = np.abs(picture - light.on(areas, like)) @ WEIGHTS
    inside = region > 0.5
    both = inside & (seen > 0) & (known > 0)
    if not both.any():
        return 255.0
    hidden = 1 - float(both.sum()) / max(1, int(inside.sum()))
    return float(np.minimum(gap[both], 80).mean()) * (1 - hidden) + 80 * hidden


# What is in front of a patch departs from it by so many deviations of the grain and codes: surely, and where it joins such a place.
_SURELY, _JOINING = (7.0, 16.0), (3.0, 6.0)
# Pixels that are thinner than an edge misplaced; that gaps in it are closed over; that its soft edge takes.
_THIN, _GAPS, _EDGE = 5, 9, 3


def in_front(frame: Picture, patch: Picture, known: Plane, which: Literal["darker", "lighter"], noise: float) -> Plane:
    """What passes before a patch, by its being darker, or lighter, than the patch as it is fitted in.

    Parameters
    ----------
    frame, patch : ndarray, float32, (height, width, 3)
        In 8-bit codes, on the same place.
    known : ndarray, float32, (height, width)
        Above 0 where there is a patch.
    which : str
    noise : float
        Standard deviation of the grain, in codes.

    Returns
    -------
    ndarray, float32, (height, width)
        1 in front, 0 behind, between at its edges. Places are told by two thresholds (hysteresis, Canny 1986).
    """
    gap = cv2.GaussianBlur((patch - frame) @ WEIGHTS, (0, 0), 1.2) * np.float32(1 if which == "darker" else -1)
    surely, joining = (np.uint8((gap > max(d * noise, c)) & (known > 0)) for d, c in (_SURELY, _JOINING))
    surely = cv2.morphologyEx(surely, cv2.MORPH_OPEN, np.ones((_THIN, _THIN), np.uint8))
    if not surely.any():
        return np.zeros(known.shape, np.float32)
    joining = cv2.morphologyEx(joining, cv2.MORPH_OPEN, np.ones((3, 3), np.uint8))
    _, labels = cv2.connectedComponents(joining | surely, connectivity=8)
    there = np.uint8(np.isin(labels, np.unique(labels[surely > 0])) & (labels > 0))
    round_ = cv2.getStructuringElement(cv2.MORPH_ELLIPSE, (_GAPS, _GAPS))
    there = cv2.morphologyEx(there, cv2.MORPH_CLOSE, round_)
    grown = cv2.dilate(there, cv2.getStructuringElement(cv2.MORPH_ELLIPSE, (2 * _EDGE + 1, 2 * _EDGE + 1)))
    return np.asarray(cv2.GaussianBlur(grown.astype(np.float32), (0, 0), _EDGE / 2))
