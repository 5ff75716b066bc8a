"""Cue marks, burns, things that cross, and grain: found or drawn, filled, and held against the truth and against in-painting given the mask."""

from __future__ import annotations

import time
from collections.abc import Iterator, Sequence

import cv2
import numpy as np
from numpy.typing import NDArray

from benchmarks.light import source_of
from benchmarks.material import MemorySource, Planes, clip, compressed, drifting, noisy, panned, still
from nimbus_sweep.core.defects.cue_marks import repair as cue_lift
from nimbus_sweep.core.defects.cue_marks.detect import CueWatch
from nimbus_sweep.core.defects.transients import repair as fleeting
from nimbus_sweep.core.defects.transients.detect import CrossingWatch
from nimbus_sweep.core.evidence.frames_at_hand import Span
from nimbus_sweep.core.evidence.moments import noise_at_hand, watched
from nimbus_sweep.core.imaging.grain import measure
from nimbus_sweep.core.imaging.patches import PatchPlan
from nimbus_sweep.core.model.regions import Key, Outside, Part, Region
from nimbus_sweep.core.model.shapes import Ellipse
from nimbus_sweep.core.tools import borrow_fill
from nimbus_sweep.core.tools.lend_grain import given
from nimbus_sweep.demo.birds import Crossing, crossed, flock
from nimbus_sweep.demo.burn import Burn, burnt
from nimbus_sweep.demo.cues import APART, STAYS, marked, pair

_LONG, _SHORT = 230, 40
_FIRST = 21


def _put(plan: PatchPlan, source: MemorySource) -> list[Planes]:
    return [tuple(f.planes) for f in plan.apply(source, 0, len(source)).frames(0, len(source))]


def _stokes(plane: NDArray[np.uint8], hole: NDArray[np.bool_]) -> NDArray[np.uint8]:
    mask = cv2.dilate(hole.astype(np.uint8), np.ones((3, 3), np.uint8))
    return np.asarray(cv2.inpaint(plane, mask, 4, cv2.INPAINT_NS))


class _Held:
    """Repairs held against the truth: errors where something was laid over it, sound samples altered, frames altered."""

    def __init__(self) -> None:
        self.errors = {"ours": np.zeros(2), "stokes": np.zeros(2), "source": np.zeros(2)}
        self.counts = np.zeros(2)
        self.sound = self.altered = 0
        self.frames: set[int] = set()

    def add(self, n: int, truth: Planes, spoiled: Planes, mended: Planes, put: Planes | None = None) -> None:
        """A frame; `put` is what was laid over it before it was compressed."""
        for plane, (a, b, c) in enumerate(zip(truth, spoiled, mended, strict=True)):
            damage = a != (b if put is None else put[plane])
            free = cv2.dilate(damage.astype(np.uint8), np.ones((3, 3), np.uint8)) == 0 if put is not None else ~damage
            self.sound += int(free.sum())
            changed = int((free & (b != c)).sum())
            self.altered += changed
            if (b != c).any():
                self.frames.add(n)
            if not damage.any():
                continue
            kind = int(plane > 0)
            self.counts[kind] += damage.sum()
            for name, made in (("ours", c), ("stokes", _stokes(b, damage)), ("source", b)):
                self.errors[name][kind] += float(((made.astype(np.float64) - a)[damage] ** 2).sum())

    def told(self, name: str, kind: int) -> str:
        """PSNR inside, luma or chroma."""
        if not self.counts[kind]:
            return "-"
        return f"{10 * np.log10(255**2 / max(self.errors[name][kind] / self.counts[kind], 1e-4)):.1f}"

    @property
    def share(self) -> float:
        """Sound samples altered, in percent."""
        return 100 * self.altered / max(1, self.sound)


def _clips() -> Iterator[tuple[str, MemorySource]]:
    """Clips of 230 frames: photographs under a moving camera, and one frame of an open clip under noise and in slow drift."""
    for name in ("coffee", "chelsea", "astronaut", "rocket"):
        yield f"pan {name}", panned(name, _LONG, seed=3)
    for name in ("bikes-1", "bunny-near"):
        stood = still(clip(name), _LONG)
        yield f"still {name}", stood.over(noisy(list(stood.pictures), 0.8, 4))
    yield "drift bunny", drifting(clip("bunny-near"), _LONG)


def cues(seeds: Sequence[int] = (1, 2)) -> None:
    """Pairs of cue marks over clips of 230 frames, one mark over short open clips, and the same clips without any."""
    print(
        f"\nCue marks: {STAYS} frames, {APART} clear, {STAYS} again; frames that were marked and found, others altered; PSNR where they lie, luma and\n"
        "chroma, of in-painting given the mask (luma, chroma); sound samples altered"
    )
    print(f"{'clip':<18}{'kind':<16}{'found':>7}{'other':>7}{'luma':>7}{'chroma':>8}{'NS':>14}{'altered':>10}{'f/s':>6}")
    for name, source in _clips():
        _cue_row(name, "clean", source, "", 0)
        for seed, kind in ((seeds[0], "dark"), (seeds[0], "light"), (seeds[0], "green"), (seeds[0], "scratched"), (seeds[-1], "dark")):
            _cue_row(name, kind if seed == seeds[0] else f"{kind}, left", source, kind, seed, right=seed == seeds[0])
    for name in ("bikes-1", "bikes-2", "bikes-3", "bunny-near", "carphone"):
        source = clip(name)
        _cue_row(name, "clean", source, "", 0)
        for kind in ("dark", "green"):
            _cue_row(name, f"{kind}, one", source, kind, 1, first=len(source) // 2 - 2)
        _cue_row(name, "dark, H.264", source, "dark", 1, first=len(source) // 2 - 2, squeezed=True)


def _cue_row(
    name: str, label: str, source: MemorySource, kind: str, seed: int, first: int = _FIRST, right: bool = True, squeezed: bool = False
) -> None:
    truth = list(source.pictures)
    height, width = truth[0][0].shape
    marks = pair(first, (height, width), kind, right) if kind else []
    put = marked(truth, marks, seed) if marks else truth
    spoiled = source.over(compressed(source, put) if squeezed else put)
    span = Span.of(spoiled, 0, len(truth))
    start = time.perf_counter()
    found = [f for f in watched(span, CueWatch(span, noise_at_hand(span))).findings if f.convinces]
    plan = cue_lift.analyse(span, cue_lift.resolve(cue_lift.CueLiftSettings(), found))
    rate = len(truth) / (time.perf_counter() - start)
    wanted = {n for m in marks for n in range(m.first, min(m.stop, len(truth)))}
    held = _Held()
    for n, (a, b, c) in enumerate(zip(truth, spoiled.pictures, _put(plan, spoiled), strict=True)):
        held.add(n, a, b, c, put[n] if squeezed else None)
    hit = f"{len(held.frames & wanted)}/{len(wanted)}" if wanted else ""
    figures = (
        f"{held.told('ours', 0):>7}{held.told('ours', 1):>8}{held.told('stokes', 0) + ', ' + held.told('stokes', 1):>14}"
        if wanted
        else " " * 29
    )
    print(f"{name:<18}{label:<16}{hit:>7}{len(held.frames - wanted):>7}{figures}{held.share:>9.4f}%{rate:>6.0f}", flush=True)


def burns() -> None:
    """A burn that opens over 14 frames, drawn round at six of them."""
    print(
        "\nBurns of 14 frames, drawn at six: PSNR of luma and chroma inside, of in-painting given the mask; sound samples altered (drawn round)"
    )
    print(f"{'clip':<18}{'kind':<8}{'luma':>7}{'chroma':>8}{'NS':>14}{'altered':>10}{'f/s':>7}")
    for name in ("pan coffee", "pan astronaut", "bunny-near", "bikes-1", "bikes-3", "carphone"):
        whole = source_of(name, 1)
        source = whole.over(list(whole.pictures)[:_SHORT])
        for kind in ("plain", "noise"):
            truth = noisy(list(source.pictures), 2.5, 1) if kind == "noise" else list(source.pictures)
            height, width = truth[0][0].shape
            first = min(12, len(truth) - 18)
            burn = Burn(first, first + 14, 0.4 * width, 0.45 * height, 0.004 * width, 0.003 * height, 0.14 * height)
            keys = []
            for n in (0, 3, 6, 9, 11, 13):
                x, y, radius = burn.at(first + n)
                keys.append(Key(frame=first + n, shape=Ellipse(x=x, y=y, across=1.3 * radius + 3, down=1.13 * radius + 3)))
            drawn = Outside(Region(parts=(Part(keys=tuple(keys)),), grow=2, feather=2))
            spoiled = source.over(burnt(truth, burn))
            start = time.perf_counter()
            plan = borrow_fill.analyse(Span.of(spoiled, 0, len(truth)), borrow_fill.BorrowFillSettings(), None, drawn)
            rate = 14 / (time.perf_counter() - start)
            held = _Held()
            for n, (a, b, c) in enumerate(zip(truth, spoiled.pictures, _put(plan, spoiled), strict=True)):
                held.add(n, a, b, c)
            print(
                f"{name:<18}{kind:<8}{held.told('ours', 0):>7}{held.told('ours', 1):>8}{held.told('stokes', 0) + ', ' + held.told('stokes', 1):>14}"
                f"{held.share:>9.4f}%{rate:>7.1f}",
                flush=True,
            )


def birds(seeds: Sequence[int] = (1, 2)) -> None:
    """Gulls that cross clips whose camera stands and moves, with and without a figure that moves slowly."""
    print(
        "\nThings that cross, the lighter kept: places told of by the survey; PSNR of luma where they were, of the temporal median of three, of\n"
        "in-painting given the mask; sound samples altered, all planes; slow things told of (one was put in where the kind says so)"
    )
    print(f"{'clip':<20}{'kind':<9}{'named':>6}{'luma':>7}{'median':>8}{'NS':>7}{'altered':>10}{'slow':>6}{'f/s':>6}")
    for name in (
        "still bikes-1",
        "noisy bunny-near",
        "noisy bikes-2",
        "drift bunny-near",
        "pan coffee",
        "pan chelsea",
        "bunny-near",
        "bikes-3",
        "carphone",
    ):
        source = _scene(name)
        for seed in (0, *seeds, -1):
            _bird_row(name, source, seed)


def _scene(name: str) -> MemorySource:
    kind, _, rest = name.partition(" ")
    if kind == "still":
        return still(clip(rest), _SHORT)
    if kind == "noisy":
        stood = still(clip(rest), _SHORT)
        return stood.over(noisy(list(stood.pictures), 1.5, 5))
    whole = drifting(clip(rest), _SHORT) if kind == "drift" else source_of(name, 1)
    return whole.over(list(whole.pictures)[:_SHORT])


def _bird_row(name: str, source: MemorySource, seed: int) -> None:
    truth = list(source.pictures)
    height, width = truth[0][0].shape
    things = flock(len(truth), (height, width), abs(seed)) if seed else []
    figure = Crossing(0, len(truth), 0.2 * width, 0.6 * height, 0.008 * height, 0, 0.2 * height, 30, 0.0)
    walked = crossed(truth, [figure]) if seed < 0 else truth
    spoiled = source.over(crossed(walked, things))
    span = Span.of(spoiled, 0, len(truth))
    named = watched(span, CrossingWatch(span, 0, len(truth))).findings
    start = time.perf_counter()
    plan = fleeting.analyse(span, fleeting.FleetingSettings())
    rate = len(truth) / (time.perf_counter() - start)
    held, median, count = _Held(), 0.0, 0
    for n, (a, b, c) in enumerate(zip(walked, spoiled.pictures, _put(plan, spoiled), strict=True)):
        held.add(n, a, b, c)
        near = [spoiled.pictures[min(max(0, n + k), len(truth) - 1)][0] for k in (-1, 0, 1)]
        damage = a[0] != b[0]
        median += float(((np.median(np.stack(near), 0) - a[0])[damage] ** 2).sum())
        count += int(damage.sum())
    middle = f"{10 * np.log10(255**2 / max(median / count, 1e-4)):.1f}" if count else "-"
    kind = "clean" if not seed else f"{seed}" if seed > 0 else "figure"
    told = "yes" if any(f.convinces for f in named) else "no"
    print(
        f"{name:<20}{kind:<9}{told:>6}{held.told('ours', 0):>7}{middle:>8}{held.told('stokes', 0):>7}{held.share:>9.4f}%{len(plan.figures['slow']):>6}{rate:>6.1f}",
        flush=True,
    )


def grain() -> None:
    """Grain of one kind given to pictures of another: deviation, and how neighbours go together, wanted and got."""
    print("\nLend grain: deviation and correlation of neighbours, of what is there, wanted and got")
    ramp = np.broadcast_to(np.linspace(40, 210, 640, dtype=np.float32), (360, 640))

    def grained(sigma: float, width: float, seed: int) -> NDArray[np.float32]:
        noise = np.random.default_rng(seed).standard_normal(ramp.shape).astype(np.float32)
        if width:
            noise = cv2.GaussianBlur(noise, (0, 0), width)
        return np.asarray(ramp + sigma * noise / noise.std(), np.float32)

    def told(picture: NDArray[np.float32]) -> str:
        fine = picture - ramp
        both = ((fine[:, 1:] * fine[:, :-1]).mean() + (fine[1:] * fine[:-1]).mean()) / 2 / fine.var()
        return f"{fine.std():.2f} {both:+.2f}"

    for here, wanted in (
        ((0.5, 0.0), (3.0, 0.7)),
        ((1.0, 0.5), (4.0, 0.8)),
        ((0.3, 0.0), (2.0, 0.0)),
        ((4.0, 0.6), (1.5, 0.5)),
        ((3.0, 0.0), (1.0, 0.0)),
    ):
        own, like = (measure([grained(*kind, seed) for seed in range(k, k + 4)]) for k, kind in ((1, here), (11, wanted)))
        made = given(grained(*here, 99), own, like, like.even((360, 640), (1, 2)))
        assert made is not None
        print(f"{told(grained(*here, 99)):>14}{told(grained(*wanted, 50)):>14}{told(np.asarray(made, np.float32)):>14}", flush=True)
