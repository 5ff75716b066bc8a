"""Things that cross a shot: what is in a frame and not in the neighbouring ones laid on it.

Each neighbour is laid on the frame along the motion of the scene, which small things that cross do not tell. Where the
frame departs from what most neighbours agree on, something passed; it gives way to the neighbours that are clear of it
there. What is still, or nearly, in the neighbours as well moves too slowly: it would leave parts behind, so it is left
whole, and told of.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any, Literal

import cv2
import numpy as np
from numpy.typing import NDArray

from ...evidence.moments import Moment
from ...imaging.aligned_fill import codes
from ...imaging.grain import Grain
from ...imaging.levels import luma
from ...imaging.motion import Field, Look, Plane, carried, flow, grid, inside, look, smooth_way
from ...imaging.neighbours import Neighbour
from ...imaging.stack_statistics import median, ranked
from ...media.frames import Frame

Keeps = Literal["lighter", "darker", "middle"]
Places = NDArray[np.bool_]
# Codes, and times the noise, by which a sample has to depart; for all of it, and for the heart of what passed.
_DEPARTS, _TIMES, _HEART = 3.0, 3.5, 1.7
# Times the noise, and codes, from which a sample beside the heart is a part of it.
_EDGE, _FAINT = 2.2, 1.5
# Pixels about what passed in which the frame and the clear neighbours have to agree, and how well: in codes, times the
# noise, and as a share of what it is out by.
_RING, _AGREE, _RIM = (2, 6), (2.0, 2.5), 0.22
# How far from its heart what is faint is a part of it.
_REACHED = cv2.getStructuringElement(cv2.MORPH_ELLIPSE, (9, 9))
# Times the neighbours' own disagreement that is no departure.
_DISAGREE = 1.2
# Widths that motion is smoothed by, in pixels of the small picture, so that what crosses does not tell it.
_SCALES = (10.0, 24.0, 60.0, 160.0)
# Of a pixel, below which nothing has moved.
_STILL = 0.12
# One row and column in so many tell the usual of a picture.
_SPARSE = 4
# Smallest heart in pixels, and the largest share of the picture that is a thing that crosses.
_SMALL, _LARGE = 5, 0.06
# Smallest thing that is told of as too slow, as a share of the picture.
_NOTED = 0.0004


@dataclass(frozen=True)
class Ready:
    """A frame made ready to be laid on others.

    Attributes
    ----------
    frame : Frame
    light : ndarray, float32, (height, width)
        Its luma, in codes.
    look : Look
        Of a smaller picture of it.
    small : ndarray, float32
        That picture.
    """

    frame: Frame
    light: Plane
    look: Look
    small: Plane


def ready(frame: Frame, noise: float, factor: int) -> Ready:
    """Make a frame ready; motion is told on a picture `factor` times smaller."""
    light = luma(frame)
    size = (max(8, light.shape[1] // factor), max(8, light.shape[0] // factor))
    small = cv2.resize(light, size, interpolation=cv2.INTER_AREA) if factor > 1 else light
    return Ready(frame, light, look(small, noise / factor), small)


def motion_between(one: Ready, other: Ready, noise: float) -> Field | None:
    """The way from a frame to another, without what crosses, on their small pictures, in their pixels; None for no motion at all."""
    change = np.abs(cv2.blur(one.small - other.small, (3, 3)))
    change = np.abs(change - np.median(change[::_SPARSE, ::_SPARSE]))
    if float((change > 2.0 + noise).mean()) < 0.03:
        return None
    forward, backward = flow(one.look.gray, other.look.gray), flow(other.look.gray, one.look.gray)
    smooth = smooth_way(forward, backward, one.look, _SCALES)
    if smooth is None:
        return None
    still = _STILL * one.small.shape[1] / one.light.shape[1]
    return None if float(np.percentile(np.hypot(*np.moveaxis(smooth[::_SPARSE, ::_SPARSE], -1, 0)), 95)) < still else smooth


def _full(way: Field | None, shape: tuple[int, ...]) -> Field | None:
    """The same at the size of the frame, in its pixels."""
    if way is None:
        return None
    scale = np.array([shape[1] / way.shape[1], shape[0] / way.shape[0]], np.float32)
    return np.asarray(cv2.resize(way, (shape[1], shape[0]), interpolation=cv2.INTER_LINEAR) * scale)


def passed_in(at: Moment) -> list[Passed]:
    """What passed in a frame, whether lighter or darker, held against two frames each side of it, on the picture motion is told on."""
    here = at.small()
    laid_on = [_laid(at.small(k), at.scene_way(k)) for k in at.offsets]
    noise = at.noise * here.shape[1] / at.light.shape[1]
    return _passed(here, [light for light, _ in laid_on], [gone for _, gone in laid_on], "middle", noise, None)


def _laid(other: Plane, way: Field | None) -> tuple[Plane, Places | None]:
    """A frame laid on another, and where it does not show its scene; None for nowhere."""
    if way is None:
        return other, None
    laid = Neighbour.along(way, other)
    return laid.light, None if laid.seen.all() else ~laid.seen


def _fetched(plane: Plane, way: Field | None) -> Plane:
    return plane if way is None else carried(plane, way)


@dataclass(frozen=True)
class Passed:
    """Something that passed in a frame.

    Attributes
    ----------
    box : tuple of slice
        Rows and columns.
    mask : ndarray, bool
        Its samples, in the box.
    contrast : float
        What it is out by, in codes: below 0 for dark.
    clear : tuple of int
        Neighbours that are clear of it there, as places in the list given.
    """

    box: tuple[slice, slice]
    mask: Places
    contrast: float
    clear: tuple[int, ...]

    @property
    def middle(self) -> tuple[float, float]:
        """x and y, in pixels."""
        rows, cols = np.nonzero(self.mask)
        return self.box[1].start + float(cols.mean()), self.box[0].start + float(rows.mean())

    @property
    def size(self) -> float:
        """Longer side, in pixels."""
        return float(max(self.mask.shape))


def passing(
    here: Ready, others: Sequence[Ready], motions: Sequence[Field | None], keeps: Keeps, noise: float, held: Places | None = None
) -> tuple[list[Passed], list[Field | None]]:
    """What passed in a frame.

    Parameters
    ----------
    own : Ready
    others : sequence of Ready
        Neighbours, two or more.
    told : sequence of ndarray or None
        The way to each of them, see `laid`.
    keeps : str
        ``lighter`` looks for what is darker than they are, ``darker`` for what is lighter, ``middle`` for both.
    noise : float
        Standard deviation of luma, in codes.
    held : ndarray, bool, (height, width)
        Where nothing is looked for.

    Returns
    -------
    passed : list of Passed
    ways : list of ndarray or None
        The way to each neighbour, in pixels of the frame; None where nothing moves.
    """
    ways = [_full(way, here.light.shape) for way in motions]
    shown = [_fetched(other.light, way) for other, way in zip(others, ways, strict=True)]
    off = [_outside(way, here.light.shape) for way in ways]
    return _passed(here.light, shown, off, keeps, noise, held), ways


def _passed(
    light: Plane, shown: Sequence[Plane], off: Sequence[Places | None], keeps: Keeps, noise: float, held: Places | None
) -> list[Passed]:
    """What passed in a frame held against those laid on it; `off` says where each does not show the scene."""
    shown = [_levelled(other, light) for other in shown]
    for k, gone in enumerate(off):
        # What has left the picture on one side is still on it on the other.
        if gone is not None:
            shown[k] = np.where(gone, shown[-1 - k], shown[k])
    low, high, middle, wide = ranked(np.stack(shown))
    doubt = cv2.blur(cv2.dilate(wide, np.ones((3, 3), np.uint8)), (3, 3))
    level = np.float32(max(_DEPARTS, _TIMES * noise)) + np.float32(_DISAGREE) * np.maximum(0, doubt - np.float32(2 * noise))
    found: list[Passed] = []
    for sign in {"lighter": (-1,), "darker": (1,), "middle": (-1, 1)}[keeps]:
        # What is dark gives way to the lighter ones, though it may still lie in some of them.
        against = middle if keeps == "middle" else high if sign < 0 else low
        out = light - against if sign > 0 else against - light
        if keeps != "middle":
            # Of few neighbours the lighter ones are lighter than the scene by their noise.
            out = out - np.float32(0.4 * noise)
        calm = cv2.GaussianBlur(out, (0, 0), 0.8)
        heart = calm > np.float32(_HEART) * level
        if held is not None:
            heart &= ~held
        if cv2.countNonZero(heart.view(np.uint8)) < _SMALL:
            continue
        faint = (out > max(_FAINT, _EDGE * noise)) & (calm > np.float32(0.4) * level)
        if held is not None:
            faint &= ~held
        found += _parts(heart, faint, out, sign, shown, off, light, noise)
    return found


def _outside(way: Field | None, shape: tuple[int, ...]) -> Places | None:
    """Where a way leads off the picture; None for nowhere."""
    if way is None:
        return None
    gone = ~inside(way, grid(shape), 0.0)
    return gone if gone.any() else None


def _levelled(shown: Plane, here_light: Plane) -> Plane:
    """A neighbour at the level of the frame: all of it may be lighter or darker."""
    ratio = float(np.median((here_light[::_SPARSE, ::_SPARSE] + 8) / (shown[::_SPARSE, ::_SPARSE] + 8)))
    return shown if abs(ratio - 1) < 0.004 else (shown + 8) * np.float32(ratio) - 8


def _parts(
    heart: Places,
    faint: Places,
    out: Plane,
    sign: int,
    shown: Sequence[Plane],
    off: Sequence[Places | None],
    light: Plane,
    noise: float,
) -> list[Passed]:
    # What is faint belongs to it within its reach: an edge of the scene that it passes is no part of it.
    reached = cv2.dilate(heart.astype(np.uint8), _REACHED) > 0
    count, labels, stats, _ = cv2.connectedComponentsWithStats(((heart | faint) & reached).astype(np.uint8), connectivity=8)
    hearts = np.bincount(labels[heart], minlength=count)
    parts = []
    for k in np.flatnonzero(hearts >= _SMALL):
        left, top, width, height, area = stats[k]
        if not k or area > _LARGE * light.size:
            continue
        box = np.s_[top : top + height, left : left + width]
        mask = labels[box] == k
        core = mask & heart[box]
        # Those that show the least of it there are clear of it; they agree with one another.
        means = np.array([float(s[box][core].mean()) for s in shown])
        best = means.max() if sign < 0 else means.min()
        apart = float(np.abs(out[box][core]).mean())
        there = np.array([gone is None or not gone[box][mask].any() for gone in off])
        clear = [int(c) for c in np.flatnonzero(there & (np.abs(means - best) <= max(1.5, 2 * noise, 0.15 * apart)))]
        if not clear:
            continue
        if _rim(light, [shown[c] for c in clear], box, mask, labels) <= _AGREE[0] + _AGREE[1] * noise + _RIM * apart:
            parts.append(Passed(box, mask, sign * apart, tuple(clear)))
    return parts


def _rim(light: Plane, clear: Sequence[Plane], box: tuple[slice, slice], mask: Places, labels: NDArray[Any]) -> float:
    """How far the frame and what takes its place disagree about the samples that are filled, in codes."""
    room = _RING[1] + 1
    rows, cols = (slice(max(0, s.start - room), min(size, s.stop + room)) for s, size in zip(box, light.shape, strict=True))
    part = np.zeros((rows.stop - rows.start, cols.stop - cols.start), np.uint8)
    part[box[0].start - rows.start :, box[1].start - cols.start :][: mask.shape[0], : mask.shape[1]] = mask
    near, wide = (cv2.dilate(part, cv2.getStructuringElement(cv2.MORPH_ELLIPSE, (2 * r + 1, 2 * r + 1))) for r in _RING)
    # Another thing beside it is no disagreement.
    ring = (wide > 0) & (near == 0) & (labels[rows, cols] == 0)
    if not ring.any():
        return 0.0
    made = np.mean([c[rows, cols] for c in clear], 0)
    return float(np.percentile(np.abs(cv2.blur(light[rows, cols] - made, (3, 3)))[ring], 75))


def slow(own: Ready, far: Sequence[Ready], others: Sequence[Ready], motions: Sequence[Field | None], keeps: Keeps, noise: float) -> Places:
    """Where something stands out of frames far off and lies in the near ones as well: it moves too slowly. Small, as `Ready.small`."""
    here = own.small
    ways = [*zip(others, motions, strict=True), *((o, motion_between(own, o, noise)) for o in far)]
    laid_on = [_levelled(_fetched(o.small, way), here) for o, way in ways]
    near, wide = laid_on[: len(others)], laid_on[len(others) :]
    seen = np.ones(here.shape, bool)
    for _, way in ways:
        gone = _outside(way, here.shape)
        seen &= True if gone is None else ~gone
    ground = median(np.stack(wide))
    doubt = cv2.blur((np.max(wide, 0) - np.min(wide, 0)).astype(np.float32), (5, 5))
    level = max(_DEPARTS, _TIMES * noise) * 1.5 + np.minimum(doubt, 40)
    found = np.zeros(here.shape, bool)
    for sign in {"lighter": (-1,), "darker": (1,), "middle": (-1, 1)}[keeps]:
        out = cv2.blur(np.float32(sign) * (here - ground), (3, 3))
        stands = out > level
        # It is there in the nearest frames, too, so that those cannot show what is behind it.
        alongside = [cv2.blur(np.float32(sign) * (n - ground), (3, 3)) > 0.5 * out for n in near]
        covered = np.sum(alongside, 0) >= max(1, (len(near) + 1) // 2 + (len(near) > 2))
        found |= stands & covered & seen
    count, labels, stats, _ = cv2.connectedComponentsWithStats(found.astype(np.uint8), connectivity=8)
    kept = [k for k in range(1, count) if max(8, _NOTED * here.size) <= stats[k, cv2.CC_STAT_AREA] <= _LARGE * here.size]
    return np.isin(labels, kept)


def filled(
    frame: Frame, others: Sequence[Frame], ways: Sequence[Field | None], one: Passed, grain: Sequence[Grain] | None
) -> tuple[tuple[NDArray[np.int64], NDArray[Any]], ...]:
    """What takes the place of something that passed, for each component: sample numbers, and values.

    Parameters
    ----------
    own : Frame
    others : sequence of Frame
        The neighbours.
    ways : sequence of ndarray or None
        To each of them, see `passing`.
    one : Passed
    grain : sequence of Grain
        Of each component; none is added when None.
    """
    layout = frame.format
    samples: list[tuple[NDArray[np.int64], NDArray[Any]]] = []
    kept = 1 / np.sqrt(len(one.clear))
    for i, component in enumerate(layout.components):
        if component.name == "A":
            samples.append((np.zeros(0, np.int64), np.zeros(0, layout.dtype)))
            continue
        across, down = layout.subsampling(i)
        room = 8
        top, left = max(0, one.box[0].start // down - room), max(0, one.box[1].start // across - room)
        bottom = min(component.height, -(-one.box[0].stop // down) + room)
        right = min(component.width, -(-one.box[1].stop // across) + room)
        hole = _cells(one, (top, left, bottom, right), across, down)
        plane = frame.component(i)
        here = codes(plane[top:bottom, left:right], component)
        made = np.zeros(here.shape, np.float32)
        for k in one.clear:
            made += _warped_part(codes(others[k].component(i), component), ways[k], (top, left, bottom, right), (across, down)) / len(
                one.clear
            )
        ring = (cv2.dilate(hole.astype(np.uint8), np.ones((11, 11), np.uint8)) > 0) & (
            cv2.dilate(hole.astype(np.uint8), np.ones((5, 5), np.uint8)) == 0
        )
        if ring.sum() >= 8:
            made += np.float32(np.median((here - made)[ring]))
        if component.is_chroma:
            # What crosses may be of the scene's own colour.
            hole &= np.abs(cv2.blur(here - made, (3, 3))) > 1.0
        if grain is not None:
            made = made + np.sqrt(1 - kept * kept) * grain[i].fresh(made, (frame.number, top, left, i))
        rows, cols = np.nonzero(hole)
        zero = 128 if component.is_chroma else 0
        put = component.samples((made[rows, cols].astype(np.float64) + zero) * component.code, plane.dtype)
        samples.append(((rows + top).astype(np.int64) * component.width + cols + left, put))
    return tuple(samples)


def _cells(one: Passed, cut: tuple[int, int, int, int], across: int, down: int) -> Places:
    """Its samples of a component, within a part of it."""
    top, left, bottom, right = cut
    full = np.zeros(((bottom - top) * down, (right - left) * across), np.float32)
    y, x = one.box[0].start - top * down, one.box[1].start - left * across
    held = one.mask[: full.shape[0] - y, : full.shape[1] - x]
    full[y : y + held.shape[0], x : x + held.shape[1]] = held
    if (across, down) == (1, 1):
        return full > 0
    return np.asarray(cv2.resize(full, (right - left, bottom - top), interpolation=cv2.INTER_AREA) > 0.2)


def _warped_part(plane: Plane, way: Field | None, cut: tuple[int, int, int, int], cells: tuple[int, int]) -> Plane:
    """A part of a component as it is found along the motion."""
    top, left, bottom, right = cut
    if way is None:
        return plane[top:bottom, left:right]
    rows, cols = np.mgrid[top:bottom, left:right].astype(np.float32)
    y = np.minimum((rows * cells[1]).astype(int), way.shape[0] - 1)
    x = np.minimum((cols * cells[0]).astype(int), way.shape[1] - 1)
    at = way[y, x]
    return np.asarray(
        cv2.remap(
            plane,
            cols + at[..., 0] / np.float32(cells[0]),
            rows + at[..., 1] / np.float32(cells[1]),
            cv2.INTER_CUBIC,
            borderMode=cv2.BORDER_REPLICATE,
        )
    )
