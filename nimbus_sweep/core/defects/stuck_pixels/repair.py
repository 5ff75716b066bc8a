"""Mends stuck and dead pixels: what a site adds is taken off, what it only dims is undone, what it hides is made up from around it.

Where a site's profile is told, what it adds in each frame is solved for and taken off (`site_solve`). Elsewhere a site covers its own pixel and, through demosaicing and chroma subsampling, part of its neighbours:
``D = a S + b`` with `a` and `b` the same in every frame. Where the scene lives enough to tell them, or the site has
the plain profile of a pixel stuck at the darkest or lightest value, a partly covered sample is turned back,
``S = (D - b) / a``, and keeps its own grain. A sample that carries no picture is
made up by fixed weights from those around it: the biharmonic ones, drawn towards those that predict best in the
shot's own neighbourhood (least-squares prediction; ridge: Hoerl and Kennard 1970).
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass, replace
from functools import partial
from pathlib import Path
from typing import Any

import cv2
import numpy as np
from numpy.typing import NDArray
from pydantic import BaseModel, ConfigDict, Field

from ...base.files import atomic_write
from ...base.parallel import parallel_map
from ...evidence.time_volume import TimeVolume
from ...imaging.inpainting import biharmonic_weights
from ...media.frames import Component, Frame, FrameSource, PictureFormat, Samples, Window, as_numbers
from ...media.mark_ways import InEveryFrame, MarkWay
from ...media.per_frame import FrameByFrame
from ...model.findings import CONVINCES, Finding
from ...model.regions import Masked
from .departures import ring_mean
from .sensor_site import fit_site, held_profile
from .site_solve import Taken, solve

Grid = NDArray[np.float64]
Mask = NDArray[np.bool_]
_HALF = 8
# Pixels around a site that its repair looks at, at most, with room for coarser chroma.
_NEAR = 4 * _HALF
_TRAINING_FRAMES = 24


class Site(BaseModel):
    """The pixels of one stuck site."""

    model_config = ConfigDict(frozen=True, extra="forbid")

    x: int = Field(ge=0, description="left pixel, from 0")
    y: int = Field(ge=0, description="upper pixel, from 0")
    width: int = Field(default=1, ge=1, le=4, description="pixels across")
    height: int = Field(default=1, ge=1, le=4, description="pixels down")


class PixelMendSettings(BaseModel):
    """Which sites are mended; none named means those that the survey of the shot finds."""

    model_config = ConfigDict(frozen=True, extra="forbid")

    sites: tuple[Site, ...] | None = None
    sure: float = Field(default=CONVINCES, ge=0.3, le=1, description="least confidence of a found site")


@dataclass(frozen=True)
class ComponentPlan:
    """How the samples of one component are mended; all arrays index the component's samples in row order.

    Attributes
    ----------
    undone : ndarray, int64, (u,)
        Samples turned back by ``(value - offset) / gain``.
    gain, offset : ndarray, float64, (u,)
        `offset` in sample values.
    lost : ndarray, int64, (n,)
        Samples made up.
    starts : ndarray, int64, (n,)
        Where each lost sample's weights begin in `sources` and `weights`.
    sources : ndarray, int64, (k,)
        Samples they are made up from.
    weights : ndarray, float64, (k,)
    """

    undone: NDArray[np.int64]
    gain: Grid
    offset: Grid
    lost: NDArray[np.int64]
    starts: NDArray[np.int64]
    sources: NDArray[np.int64]
    weights: Grid

    def mend(self, samples: Samples, component: Component) -> None:
        """Mend `samples` (height, width) in place."""
        width = samples.shape[1]
        if len(self.undone):
            rows, cols = np.divmod(self.undone, width)
            undone = (samples[rows, cols] - self.offset) / self.gain
            samples[rows, cols] = component.samples(undone, samples.dtype)
        if len(self.lost):
            rows, cols = np.divmod(self.sources, width)
            sums = np.add.reduceat(samples[rows, cols] * self.weights, self.starts)
            rows, cols = np.divmod(self.lost, width)
            samples[rows, cols] = component.samples(sums, samples.dtype)

    @property
    def touched(self) -> NDArray[np.int64]:
        """All samples the plan rewrites, in order."""
        return np.union1d(self.undone, self.lost)


@dataclass(frozen=True)
class MendPlan(InEveryFrame):
    """What `analyse` learned of a shot.

    Attributes
    ----------
    components : tuple of ComponentPlan or None
        One for each component of the format, None where nothing is touched.
    solved : tuple of dict of int to Taken
        Of each site that is solved for in every frame, by component.
    """

    components: tuple[ComponentPlan | None, ...]
    solved: tuple[dict[int, Taken], ...] = ()

    def save(self, path: Path) -> None:
        """Write the plan to `path`, whole or not at all."""
        arrays = {f"{i}.{name}": value for i, plan in enumerate(self.components) if plan for name, value in vars(plan).items()}
        for n, parts in enumerate(self.solved):
            arrays |= {f"site.{n}.{i}.{name}": value for i, part in parts.items() for name, value in vars(part).items()}
        with atomic_write(path) as stream:
            np.savez(stream, count=len(self.components), sites=len(self.solved), **arrays)

    def touched(self) -> list[NDArray[np.int64]]:
        """For each component, the samples the plan rewrites, numbered in row order."""
        none = np.zeros(0, np.int64)
        return [
            np.unique(np.concatenate([plan.touched if plan else none, *(parts[i].touched for parts in self.solved if i in parts)]))
            for i, plan in enumerate(self.components)
        ]

    def ways(self, number: int) -> list[MarkWay]:
        """It is mended the same way everywhere."""
        return []

    def needs(self, window: Window) -> Window:
        """The part of the source's pictures that a part of the treated ones is made of: a site mends from close by."""
        return Window(window.left - _NEAR, window.top - _NEAR, window.right + _NEAR, window.bottom + _NEAR)

    def apply(self, source: FrameSource, first: int, stop: int, window: Window | None = None) -> FrameSource:
        """`source` with frames `first` to `stop` - 1 mended."""
        return FrameByFrame(source, self.mend, first, stop)

    def mend(self, frame: Frame) -> Frame:
        """A frame with its sites mended."""
        if not any(self.components) and not self.solved:
            return frame
        mended = frame.copy()
        for i, plan in enumerate(self.components):
            if plan:
                plan.mend(mended.component(i), frame.format.components[i])
        for parts in self.solved:
            # Told from the frame as it is: what lies under another site was left out when this was learned.
            numbers = np.sum([part.tells(frame.component(i)) for i, part in parts.items()], axis=0)
            for i, part in parts.items():
                part.take_off(mended.component(i), numbers, frame.format.components[i])
        return mended

    @classmethod
    def load(cls, path: Path) -> MendPlan:
        """Read a plan written by `save`."""
        with np.load(path) as stored:
            count = int(stored["count"])

            def arrays(name: str, kind: type) -> dict[str, NDArray[Any]]:
                return {f: stored[f"{name}.{f}"] for f in kind.__annotations__}

            components = tuple(ComponentPlan(**arrays(str(i), ComponentPlan)) if f"{i}.lost" in stored else None for i in range(count))
            solved = tuple(
                {i: Taken(**arrays(f"site.{n}.{i}", Taken)) for i in range(count) if f"site.{n}.{i}.cover" in stored}
                for n in range(int(stored["sites"]))
            )
            return cls(components, solved)


def resolve(settings: PixelMendSettings, findings: Iterable[Finding]) -> PixelMendSettings:
    """Name the sites: those of `settings`, or the findings that are sure enough."""
    if settings.sites is not None:
        return settings
    sure = [f for f in findings if f.step == "pixel-mend" and (f.by_hand or f.confidence >= settings.sure)]
    sites = (Site(x=f.x, y=f.y, width=f.width, height=f.height) for f in sorted(sure, key=lambda f: (f.y, f.x)))
    return settings.model_copy(update={"sites": tuple(sites)})


def acts_on(settings: PixelMendSettings, finding: Finding) -> bool:
    """Whether resolved settings name the site of a finding."""
    return any((site.x, site.y) == (finding.x, finding.y) for site in settings.sites or ())


def analyse(
    volume: TimeVolume,
    settings: PixelMendSettings,
    on_progress: Callable[[float], None] | None = None,
    hold_out: Masked | None = None,
) -> MendPlan:
    """Learn from the whole shot how each site's samples are to be mended.

    Parameters
    ----------
    volume : TimeVolume
    settings : PixelMendSettings
        With its sites named (see `resolve`); sites off the picture are left out.
    on_progress : callable
        Told the share done, 0 to 1; may raise to stop.
    hold_out : Region
        Sites that lie in it all the time are left out.

    Returns
    -------
    MendPlan
    """
    layout = volume.format
    inside = [s for s in settings.sites or () if s.x < layout.width and s.y < layout.height]
    if hold_out is not None and not hold_out.changes:
        held = hold_out.mask((layout.height, layout.width))
        inside = [s for s in inside if held[s.y, s.x] < 0.5]
    tell = on_progress or (lambda share: None)
    solved: list[dict[int, Taken]] = []
    for parts in parallel_map(partial(_solved_for, volume, inside), inside):
        solved.append(parts)
        tell(0.6 * len(solved) / len(inside))
    models = [None if parts else _model(volume, site) for site, parts in zip(inside, solved, strict=True)]
    plans: list[ComponentPlan | None] = []
    for i, component in enumerate(layout.components):
        if component.name == "A" or not inside:
            plans.append(None)
            continue
        stack = volume.component_stack(i)
        # Cores of all sites: one site's repair must not learn from, or be made up of, another's.
        cores = np.zeros(stack.shape[1:], bool)
        for site in inside:
            cores[_cells(site, layout, i)] = True
        blobs = []
        for n, (site, known) in enumerate(zip(inside, models, strict=True)):
            if i not in solved[n]:
                blobs.append(_learn(stack, cores, _cells(site, layout, i), component, known[i] if known else None))
            tell(0.6 + 0.4 * (i + (n + 1) / len(inside)) / len(layout.components))
        plans.append(_joined([b for b in blobs if b is not None], stack.shape[2]))
    return MendPlan(tuple(plans), tuple(_clear_of(parts, plans) for parts in solved if parts))


def _solved_for(volume: TimeVolume, sites: Sequence[Site], site: Site) -> dict[int, Taken]:
    others = [(s.x, s.y, s.width, s.height) for s in sites if s != site]
    return solve(volume, site.x, site.y, site.width, site.height, others) or {}


def _clear_of(parts: dict[int, Taken], plans: Sequence[ComponentPlan | None]) -> dict[int, Taken]:
    """What is solved for but for the samples that another site's plan rewrites."""
    clear = {}
    for i, part in parts.items():
        plan = plans[i]
        kept = np.isin(part.touched, plan.touched, invert=True) if plan else np.ones(len(part.touched), bool)
        clear[i] = replace(part, touched=part.touched[kept], cover=part.cover[kept])
    return clear


@dataclass(frozen=True)
class _Model:
    """What a site of plain profile does to a component about (top, left): gain and offset of each sample, in its values.

    `doubt` is how far the change it makes may be wrong, as a share.
    """

    top: int
    left: int
    gain: Grid
    offset: Grid
    change: Grid
    doubt: float

    def over(self, box: tuple[int, int, int, int]) -> tuple[Grid, Grid, Grid]:
        """Gain, offset and expected change over a box (top, left, bottom, right) of samples."""
        top, left, bottom, right = box
        shape = (bottom - top, right - left)
        drawn = (np.ones(shape), np.zeros(shape), np.zeros(shape))
        y0, x0 = max(top, self.top), max(left, self.left)
        y1, x1 = min(bottom, self.top + self.gain.shape[0]), min(right, self.left + self.gain.shape[1])
        for target, mine in zip(drawn, (self.gain, self.offset, self.change), strict=True):
            target[y0 - top : y1 - top, x0 - left : x1 - left] = mine[y0 - self.top : y1 - self.top, x0 - self.left : x1 - self.left]
        return drawn


def _model(volume: TimeVolume, site: Site) -> list[_Model] | None:
    """What the site does to every component, if it has the plain profile of a pixel stuck at an end of the range."""
    layout = volume.format
    colours = [i for i, c in enumerate(layout.components) if c.name != "A"]
    cells = [layout.subsampling(i) for i in colours]
    wide, tall = max(c[0] for c in cells), max(c[1] for c in cells)
    left, top = max(0, site.x - 16) // wide * wide, max(0, site.y - 16) // tall * tall
    values, scales = [], []
    for i, (across, down) in zip(colours, cells, strict=True):
        part = volume.component_stack(i)[:, top // down : (site.y + 20) // down, left // across : (site.x + 20) // across]
        value = as_numbers(part).mean(0, dtype=np.float64).astype(np.float32) / np.float32(layout.components[i].code)
        values.append(value)
        scales.append(1.4826 * float(np.median(np.abs(value - ring_mean(value)))))
    fit = fit_site(values, cells, scales, site.x - left, site.y - top)
    held = held_profile(values, cells, scales, fit, layout, volume.colour)
    if held is None or held.misfit > 0.1 or abs(held.site.x + left - site.x) > 1 or abs(held.site.y + top - site.y) > 1:
        return None
    models = []
    for n, (i, (across, down)) in enumerate(zip(colours, cells, strict=True)):
        cover = held.site.drawn((across, down), *values[n].shape[::-1])
        code = layout.components[i].code
        models.append(
            _Model(
                top=top // down,
                left=left // across,
                gain=1 - held.shares[n] * cover,
                offset=cover * (held.amplitudes[n] + held.shares[n] * held.site.ground[n]) * code,
                change=cover * held.amplitudes[n] * code,
                doubt=0.06 + 0.5 * held.misfit**0.5,
            )
        )
    return models


def _cells(site: Site, layout: PictureFormat, index: int) -> tuple[slice, slice]:
    """The samples of a component that the site's pixels fall into."""
    across, down = layout.subsampling(index)
    return (
        slice(site.y // down, (site.y + site.height - 1) // down + 1),
        slice(site.x // across, (site.x + site.width - 1) // across + 1),
    )


@dataclass(frozen=True)
class _Blob:
    undone: NDArray[np.int64]
    gain: Grid
    offset: Grid
    lost: NDArray[np.int64]
    sources: NDArray[np.int64]
    weights: Grid


def _joined(blobs: Sequence[_Blob], width: int) -> ComponentPlan | None:
    if not blobs:
        return None
    counts = [len(b.sources) for b in blobs for _ in b.lost]
    # Two sites side by side may claim the same sample: the first to come keeps it.
    lost = np.concatenate([b.lost for b in blobs])
    undone = np.concatenate([b.undone for b in blobs])
    kept = np.isin(undone, lost, invert=True)
    kept[np.setdiff1d(np.arange(len(undone)), np.unique(undone, return_index=True)[1])] = False
    return ComponentPlan(
        undone=undone[kept],
        gain=np.concatenate([b.gain for b in blobs])[kept],
        offset=np.concatenate([b.offset for b in blobs])[kept],
        lost=lost,
        starts=np.concatenate([[0], np.cumsum(counts)[:-1]]).astype(np.int64) if counts else np.zeros(0, np.int64),
        sources=np.concatenate([np.tile(b.sources, len(b.lost)) for b in blobs]),
        weights=np.concatenate([b.weights.ravel() for b in blobs]),
    )


def _learn(stack: Samples, cores: Mask, core: tuple[slice, slice], component: Component, model: _Model | None) -> _Blob | None:
    """Tell what the site does to the samples about its `core`, and how to turn it back."""
    height, width = stack.shape[1:]
    code, peak = component.code, component.peak
    rows, cols = core
    top, left = max(0, rows.start - _HALF), max(0, cols.start - _HALF)
    bottom, right = min(height, rows.stop + _HALF), min(width, cols.stop + _HALF)
    values = stack[:, top:bottom, left:right].astype(np.float64)
    others = cores[top:bottom, left:right].copy()
    untouched = np.zeros(others.shape, bool)
    untouched[rows.start - top : rows.stop - top, cols.start - left : cols.stop - left] = True
    others &= ~untouched
    others = cv2.dilate(others.astype(np.uint8), np.ones((3, 3), np.uint8)).astype(bool) & ~untouched
    hole = cv2.dilate(untouched.astype(np.uint8), np.ones((5, 5), np.uint8)).astype(bool) & ~others
    departs = _departures(values, hole, others)
    usual, usual_size = _usual_departures(values, hole, others)
    near = cv2.dilate(untouched.astype(np.uint8), np.ones((3, 3), np.uint8)).astype(bool)[hole]
    bias = np.median(departs, axis=0)
    gain, offset, carries, covers = _coverage(values[:, hole], values[:, hole] - departs, code)
    if model:
        expected_gain, expected_offset, change = (a[hole] for a in model.over((top, left, bottom, right)))
        covered = np.abs(change) > 0.7 * code
        affected = covered | (np.abs(bias) > 5 * usual + code)
        turned_back = (values[:, hole] - expected_offset) / np.maximum(expected_gain, 0.1)
        off = np.abs(np.median(turned_back - (values[:, hole] - departs), axis=0))
        # The profile is known to a few parts in a hundred, worse the farther its value lies from the end it is taken
        # to hold: where the surroundings tell the sample better, they are asked.
        better = 1.4826 * usual_size > model.doubt * np.abs(change) / np.maximum(expected_gain, 0.1) + 0.5 * code
        plain = covered & ~carries & better & (expected_gain > 0.3) & (off < 4 * usual + 2 * code) & (not component.is_chroma)
        gain, offset = np.where(plain, expected_gain, gain), np.where(plain, expected_offset, offset)
        carries |= plain
    else:
        # The site's own spread reaches the samples beside it; farther out only what is plainly off belongs to it.
        affected = np.abs(bias) > np.where(near, 1.5, 4) * usual + 0.6 * code
        # One that holds a value from the middle of the scene's range departs both ways, but too far.
        affected |= np.median(np.abs(departs), axis=0) > np.where(near, 2, 5) * usual_size + 0.6 * code
    affected |= covers & near
    if not affected.any():
        return None
    if model is None and not affected[untouched[hole]].any():
        affected |= untouched[hole]
    lost = np.zeros(untouched.shape, bool)
    lost[hole] = affected & ~carries
    flat = np.arange(height * width).reshape(height, width)[top:bottom, left:right]
    turned = affected & carries
    plan_values = values.copy()
    inside = plan_values[:, hole]
    inside[:, turned] = np.clip((inside[:, turned] - offset[turned]) / gain[turned], 0, peak)
    plan_values[:, hole] = inside
    known, weights = _weights(plan_values, lost, others | lost) if lost.any() else (np.zeros(untouched.shape, bool), np.zeros((0, 0)))
    return _Blob(flat[hole][turned], gain[turned], offset[turned], flat[lost], flat[known], weights)


def _departures(values: Grid, hole: Mask, others: Mask) -> Grid:
    """What each sample of the hole departs by, over time, from the smoothest surface through those around: (frames, hole)."""
    gap = hole | others
    predicted = values[:, ~gap] @ biharmonic_weights(gap).T
    return values[:, hole] - predicted[:, hole[gap]]


def _usual_departures(values: Grid, hole: Mask, others: Mask) -> tuple[Grid, Grid]:
    """What sound samples beside the hole depart by through such a hole.

    Returns
    -------
    steady, size : ndarray, float64, (hole,)
        Median over places: of the size of the median over time, as a standard deviation; and of the usual size.
    """
    ys, xs = np.nonzero(hole)
    height, width = hole.shape
    steady, sizes = [], []
    for dy in range(-6, 7, 3):
        for dx in range(-6, 7, 3):
            if ys.min() + dy < 0 or xs.min() + dx < 0 or ys.max() + dy >= height or xs.max() + dx >= width or (dy == dx == 0):
                continue
            moved = np.zeros(hole.shape, bool)
            moved[ys + dy, xs + dx] = True
            if (moved & hole).sum() > 0.4 * hole.sum() or (moved & others).any():
                continue
            gap = moved | hole | others
            predicted = values[:, ~gap] @ biharmonic_weights(gap).T
            departs = values[:, moved] - predicted[:, moved[gap]]
            steady.append(np.where(hole[moved], np.nan, np.abs(np.median(departs, axis=0))))
            sizes.append(np.where(hole[moved], np.nan, np.median(np.abs(departs), axis=0)))
    if not steady:
        return np.zeros(len(ys)), np.zeros(len(ys))
    return 1.4826 * _by_place(np.stack(steady)), _by_place(np.stack(sizes))


def _by_place(grid: Grid) -> Grid:
    """Median over the first axis; a place seen fewer than three times takes the middle of all."""
    middle = np.nanmedian(grid)
    return np.where((~np.isnan(grid)).sum(0) >= 3, np.nanmedian(np.where(np.isnan(grid), middle, grid), axis=0), middle)


def _coverage(seen: Grid, predicted: Grid, code: float) -> tuple[Grid, Grid, Mask, Mask]:
    """Gain and offset with which each sample carries the picture; whether that is told well enough; and whether it
    tells that something lies over the sample.

    Parameters
    ----------
    seen, predicted : ndarray, float64, (frames, samples)
        The sample, and the smoothest surface at its place.
    code : float
        One 8-bit display step.
    """
    count = len(seen)
    gains, offsets, sure = [], [], np.ones(seen.shape[1], bool)
    halves = [slice(None), slice(0, count // 2), slice(count // 2, None), slice(0, None, 2), slice(1, None, 2)]
    for part in halves:
        x, y = predicted[part], seen[part]
        weights = np.ones_like(x)
        for _ in range(4):
            total = weights.sum(0) + 1e-9
            mx, my = (weights * x).sum(0) / total, (weights * y).sum(0) / total
            spread = (weights * (x - mx) ** 2).sum(0) / total
            # Where nothing lives the sample is taken to carry the picture whole: the slope is drawn to 1.
            slope = ((weights * (x - mx) * (y - my)).sum(0) / total + 0.25 * code**2) / (spread + 0.25 * code**2)
            rest = y - my - slope * (x - mx)
            size = 1.4826 * np.median(np.abs(rest), axis=0) + 0.3 * code
            weights = 1 / (1 + (rest / (2 * size)) ** 2)
        gains.append(slope)
        offsets.append(my - slope * mx)
        sure &= spread > (3 * code) ** 2
    gain = np.stack(gains)
    carries = sure & (gain.min(0) > 0.3) & (gain.max(0) < 1.25) & (gain.max(0) - gain.min(0) < 0.25)
    return gain[0], offsets[0], carries, sure & (gain.max(0) < 0.93)


def _weights(values: Grid, lost: Mask, unusable: Mask) -> tuple[Mask, Grid]:
    """Known samples around the lost ones and the weights that make these up: the mask, and (lost, known)."""
    reach = cv2.dilate(lost.astype(np.uint8), np.ones((7, 7), np.uint8)).astype(bool)
    ys, xs = np.nonzero(reach)
    box = np.s_[max(0, ys.min()) : ys.max() + 1, max(0, xs.min()) : xs.max() + 1]
    gap = unusable[box]
    smooth = biharmonic_weights(gap)[lost[box][gap]]
    known = np.zeros(lost.shape, bool)
    known[box] = ~gap
    trained = _trained(values, lost, known, unusable, smooth)
    return known, trained


def _trained(values: Grid, lost: Mask, known: Mask, unusable: Mask, smooth: Grid) -> Grid:
    """Weights drawn from `smooth` towards those that predict best at other places of the window, never past them."""
    height, width = lost.shape
    frames = np.unique(np.linspace(0, len(values) - 1, min(len(values), _TRAINING_FRAMES)).round().astype(int))
    ly, lx = np.nonzero(lost)
    ky, kx = np.nonzero(known)
    top, left = min(ly.min(), ky.min()), min(lx.min(), kx.min())
    bottom, right = max(ly.max(), ky.max()), max(lx.max(), kx.max())
    inputs, targets = [], []
    for dy in range(-top, height - bottom):
        for dx in range(-left, width - right):
            if (dy == 0 and dx == 0) or unusable[ly + dy, lx + dx].any() or unusable[ky + dy, kx + dx].any():
                continue
            inputs.append(values[frames][:, ky + dy, kx + dx])
            targets.append(values[frames][:, ly + dy, lx + dx])
    if len(inputs) < 8:
        return smooth
    x, y = np.stack(inputs), np.stack(targets)
    level = x.mean(2, keepdims=True)
    x, y = x - level, y - level
    count = len(ky)

    def fitted(part: NDArray[np.bool_]) -> Grid:
        a, b = x[part].reshape(-1, count), y[part].reshape(-1, len(ly))
        power = a.T @ a
        rest = a.T @ (b - a @ smooth.T)
        draw = 0.02 * np.trace(power) / count + 1e-3
        return smooth + np.linalg.solve(power + draw * np.eye(count), rest).T

    # Kept only if each half of the places is predicted better by what the other half taught.
    half = np.arange(len(x)) < len(x) // 2
    gains = []
    for part in (half, ~half):
        weights = fitted(~part)
        a, b = x[part].reshape(-1, count), y[part].reshape(-1, len(ly))
        gains.append(((b - a @ weights.T) ** 2).mean() < 0.97 * ((b - a @ smooth.T) ** 2).mean())
    weights = fitted(np.ones(len(x), bool)) if all(gains) else smooth
    return np.asarray(weights / weights.sum(1, keepdims=True))
