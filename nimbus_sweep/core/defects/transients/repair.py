"""Takes off what crosses a shot: of a few neighbouring frames the lighter, the darker or the middle is kept, where something passed."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, replace
from itertools import product
from typing import Any

import cv2
import numpy as np
from numpy.typing import NDArray
from pydantic import BaseModel, ConfigDict, Field

from ...base.parallel import buffered_map
from ...evidence.frames_at_hand import Span, frames_of
from ...imaging.grain import Grain
from ...imaging.levels import grain_of, luma, noise_of
from ...imaging.patches import Patch, PatchPlan
from ...model.regions import Masked
from .passing import Keeps, Passed, Ready, filled, motion_between, passing, ready, slow
from .paths import at_the_edge, steady

# Shorter side from which motion is told at half the size.
_HALVED = 300
# Share of the picture above which so much passes in a frame that it is left alone.
_MOST = 0.03
# Share of a thing that has to lie where something moves too slowly for it to be left whole.
_SLOW = 0.3
# Places of slow things that are kept to be told of.
_TOLD = 200


class FleetingSettings(BaseModel):
    """What is kept, of how many frames, and where in time."""

    model_config = ConfigDict(frozen=True, extra="forbid")

    keeps: Keeps = Field(default="middle", description="the lighter takes dark things off, the darker light ones, the middle both")
    steady: bool = Field(default=True, description="only what goes on at a steady pace through three frames")
    reach: int = Field(default=2, ge=1, le=6, description="neighbouring frames each side")
    first: int | None = Field(default=None, ge=0, description="first frame; that of the shot when not named")
    stop: int | None = Field(default=None, ge=1, description="the frame behind the last; that of the shot when not named")
    grain: bool = Field(default=True, description="match the grain")


@dataclass(frozen=True)
class _Job:
    own: Ready
    others: list[Ready]
    far: list[Ready]


def analyse(
    span: Span, settings: FleetingSettings, on_progress: Callable[[float], None] | None = None, outside: Masked | None = None
) -> PatchPlan:
    """Find what crosses, and fill it from the neighbours that are clear of it.

    Parameters
    ----------
    span : Span
        Of the shot.
    settings : FleetingSettings
    on_progress : callable
        Told the share done, 0 to 1; may raise to stop.
    outside : Masked
        Where nothing is looked for.
    """
    layout = span.source.format
    first = 0 if settings.first is None else int(np.searchsorted(span.numbers, settings.first))
    stop = len(span) if settings.stop is None else int(np.searchsorted(span.numbers, settings.stop))
    if len(span) < 3 or stop <= first:
        return PatchPlan.of(layout, [], {"few": len(span) < 3, "slow": [], "much": []})
    sampled = frames_of(span)
    noise = noise_of([luma(f) for f in sampled])
    grain = grain_of(sampled) if settings.grain else None
    factor = 2 if min(layout.height, layout.width) > _HALVED else 1
    found: list[tuple[int, list[tuple[Passed, Patch]]]] = []
    slow_places: list[tuple[int, int, int, int, int]] = []
    much: list[int] = []
    size = (layout.height, layout.width)

    def looked(job: _Job) -> tuple[list[tuple[Passed, Patch]], list[tuple[int, int, int, int, int]], bool]:
        held = None if outside is None else outside.mask(size, job.own.frame.number) > 0.5
        return _mended(job, settings.keeps, noise, grain, held)

    for done, (job, (here, slow_found, full)) in enumerate(
        buffered_map(looked, _jobs(span, first, stop, settings.reach, noise, factor), most=3)
    ):
        found.append((job.own.frame.number, here))
        slow_places += slow_found
        much += [job.own.frame.number] if full else []
        if on_progress:
            on_progress((done + 1) / (stop - first))
    patches = _on_paths(found, size) if settings.steady else [patch for _, here in found for _, patch in here]
    figures = {"slow": _gathered(slow_places), "much": much, "frames": len({p.frame for p in patches})}
    return PatchPlan.of(layout, patches, figures)


def _on_paths(found: Sequence[tuple[int, list[tuple[Passed, Patch]]]], size: tuple[int, int]) -> list[Patch]:
    """The patches of what goes on steadily; all of them where there are fewer than three frames to tell it from."""
    if len(found) < 3:
        return [patch for _, own in found for _, patch in own]
    passed = [[one for one, _ in here] for _, here in found]
    going: set[int] = set()
    for n, here in enumerate(passed):
        # One that could not be told in a frame goes on in the next.
        for back, ahead in product((1, 2), repeat=2):
            if n >= back and n + ahead < len(passed):
                for *all_three, _ in steady(passed[n - back], here, passed[n + ahead], size[1], (back, ahead)):
                    going |= {id(one) for one in all_three}
        if n + 1 < len(passed):
            for pair in at_the_edge(here, passed[n + 1], size):
                going |= {id(one) for one in pair}
    return [patch for _, own in found for one, patch in own if id(one) in going]


def _jobs(span: Span, first: int, stop: int, reach: int, noise: float, factor: int) -> Iterator[_Job]:
    """Each frame with its neighbours and with some far off; only as many frames are held as lie about one."""
    wide = 3 * reach + 3
    count = len(span)
    held: dict[int, Ready] = {}
    begin = max(0, min(first, stop - 1) - 2 * wide)
    source = span.frames(begin)
    at = begin
    for place in range(first, stop):
        near = _nearest(place, count, 2 * reach)
        far = _nearest(place, count, 6, apart=2 * reach + 2)
        last = max([place, *near, *far])
        while at <= last:
            frame = next(source, None)
            if frame is None:
                break
            # One that cannot be read is left out, and its place stays empty.
            at = int(np.searchsorted(span.numbers, frame.number))
            held[at] = ready(frame, noise, factor)
            at += 1
        for old in [k for k in held if k < place - 2 * wide]:
            del held[old]
        for old in [k for k in held if k < place - 2 * reach and held[k].light is not held[k].small]:
            # From far off only the small picture is looked at again.
            held[old] = replace(held[old], light=held[old].small)
        if place in held:
            yield _Job(held[place], [held[k] for k in near if k in held], [held[k] for k in far if k in held])


def _nearest(place: int, count: int, many: int, apart: int = 1) -> list[int]:
    """The nearest places to one, on both sides where there are any; at least so far apart from it."""
    step = 1 if apart == 1 else max(1, apart // 2)
    sides = [k for n in range(many) for k in (place - apart - n * step, place + apart + n * step)]
    return sorted([k for k in sides if 0 <= k < count][:many])


def _mended(
    job: _Job, keeps: Keeps, noise: float, grain: Sequence[Grain] | None, held: NDArray[np.bool_] | None
) -> tuple[list[tuple[Passed, Patch]], list[tuple[int, int, int, int, int]], bool]:
    if len(job.others) < 2:
        return [], [], False
    motions = [motion_between(job.own, other, noise) for other in job.others]
    found, ways = passing(job.own, job.others, motions, keeps, noise, held)
    number = job.own.frame.number
    shape = job.own.light.shape
    # Without frames far off nothing can be told of what moves slowly.
    lasting = slow(job.own, job.far, job.others, motions, keeps, noise) if len(job.far) >= 3 else np.zeros(job.own.small.shape, bool)
    scale = shape[1] / lasting.shape[1]
    if held is not None and lasting.any():
        lasting &= cv2.resize(held.astype(np.uint8), lasting.shape[::-1], interpolation=cv2.INTER_NEAREST) == 0
    count, _, stats, _ = cv2.connectedComponentsWithStats(lasting.astype(np.uint8), connectivity=8)
    boxes = ([int(v * scale) for v in stats[k][:4]] for k in range(1, count))
    places = [(number, x, y, w, h) for x, y, w, h in boxes]
    if sum(int(p.mask.sum()) for p in found) > _MOST * job.own.light.size:
        return [], places, True
    wide = cv2.resize(cv2.dilate(lasting.astype(np.uint8), np.ones((5, 5), np.uint8)), shape[::-1], interpolation=cv2.INTER_NEAREST) > 0
    others = [o.frame for o in job.others]
    patches = []
    for one in found:
        if (wide[one.box] & one.mask).sum() > _SLOW * one.mask.sum():
            continue
        samples = filled(job.own.frame, others, ways, one, grain)
        patches.append((one, _patch(number, one, tuple(others[k].number for k in one.clear), samples)))
    return patches, places, False


def _patch(number: int, one: Passed, lends: tuple[int, ...], samples: tuple[tuple[NDArray[np.int64], NDArray[Any]], ...]) -> Patch:
    rows, cols = one.box
    box = (cols.start, rows.start, cols.stop - cols.start, rows.stop - rows.start)
    return Patch(number, box, 1.0, one.contrast, int(one.mask.sum()), lends, samples)


def _gathered(found: list[tuple[int, int, int, int, int]]) -> list[list[int]]:
    """Slow things, each once for the frames it is seen in: first frame, last frame, and its box in the first."""
    runs: list[list[int]] = []
    last: list[tuple[int, int, int, int, int]] = []
    for number, x, y, w, h in found:
        middle = (x + w / 2, y + h / 2)
        at = next(
            (
                n
                for n, (seen, ox, oy, ow, oh) in enumerate(last)
                if 0 <= number - seen <= 6 and abs(middle[0] - ox - ow / 2) < max(w, ow) and abs(middle[1] - oy - oh / 2) < max(h, oh)
            ),
            None,
        )
        if at is None:
            runs.append([number, number, x, y, w, h])
            last.append((number, x, y, w, h))
        else:
            runs[at][1] = number
            last[at] = (number, x, y, w, h)
    # What shows for a frame or two is no thing.
    return [r for r in runs if r[1] - r[0] >= 2][:_TOLD]
