"""Whether a candidate is worth measuring on its own, told by what is already known of the whole picture.

Most candidates of a sound shot are none: motion that was missed at an edge, something that stands still, a face that a camera follows.
Held over all pairs of frames at once, a mark takes the same share of the light in each, both halves of the evidence show it, and the
scene shines through. How promising that makes it is told by a logistic model; its numbers are fitted by `tools/fit_models.py` on drawn
clips, each scene judged by a model fitted without it.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from functools import cache
from pathlib import Path

import cv2
import numpy as np
from numpy.typing import NDArray

from ...base.logistic import Logistic
from ...evidence.moved_pairs import MovedPairs
from ...imaging.motion import Plane, blur
from .candidates import Candidate
from .fit import correlation

FEATURES = (
    *("depth", "stands_out", "agree", "balance", "mass", "spread", "share", "lives", "follows", "together", "shines", "left"),
    *("lit", "across", "long", "clear", "fill", "score", "edge", "moving", "rim"),
)
# Below this a candidate is not measured. Chosen on drawn clips, scenes left out in turn; see docs/figures.md.
_HOPELESS = 0.02
# Samples of a candidate over all pairs that are looked at, about; and room around it, in samples of the map.
_SAMPLES, _ROOM = 600_000, 8
# Codes added to light before its logarithm is taken.
_FLOOR = 4.0
_NEAR, _RIM = np.ones((3, 3), np.uint8), np.ones((17, 17), np.uint8)


def promising(
    seen: MovedPairs,
    first: Plane,
    second: Plane,
    found: list[Candidate],
    size: tuple[int, int],
    still_asked: Callable[[], None],
    every: bool = False,
) -> list[Candidate]:
    """The candidates that are worth measuring.

    Parameters
    ----------
    seen : MovedPairs
    first, second : ndarray, float32, (rows, columns)
        Logarithm of the light lost at each place by each half of the pairs.
    found : list of Candidate
    size : tuple of int
        Height and width of the picture.
    still_asked : callable
        Called before each; may raise to stop.
    every : bool
        Leave out none but those too small to be told of.
    """
    made = []
    for c in found:
        still_asked()
        told = features(seen, first, second, c, size)
        if told is not None and (every or float(_model().sure(told)) >= _HOPELESS):
            made.append(replace(c, told=told))
    return made


def features(seen: MovedPairs, first: Plane, second: Plane, c: Candidate, size: tuple[int, int]) -> tuple[float, ...] | None:
    """What is told of a candidate, in the order of `FEATURES`; None of one too small to be told of."""
    factor, (height, width) = seen.factor, first.shape
    top, low = max(0, c.box.top // factor - _ROOM), min(height, (c.box.top + c.box.height) // factor + _ROOM)
    left, right = max(0, c.box.left // factor - _ROOM), min(width, (c.box.left + c.box.width) // factor + _ROOM)
    step = max(1, int(np.ceil(np.sqrt(len(seen.frame) * (low - top) * (right - left) / _SAMPLES))))
    cut = np.s_[top:low:step, left:right:step]
    whole = np.zeros(size, np.float32)
    c.mark(whole)
    shape = cv2.resize(whole, (size[1] // factor, size[0] // factor), interpolation=cv2.INTER_AREA)[cut]
    one, other = (np.ascontiguousarray(p[cut]) for p in (first, second))
    inside = shape > 0.5
    ring = (cv2.dilate(shape, _RIM) > 0.5) & ~(cv2.dilate(shape, _NEAR) > 0.5)
    if inside.sum() < 4 or ring.sum() < 8:
        return None
    smooth = blur((one + other) / 2, 0.9)
    ground = float(np.median((one + other)[ring] / 2))
    depth = max(ground - float(smooth[inside].min()), 1e-3)
    core = inside & (smooth < ground - 0.5 * depth)
    if not core.any():
        return None
    halves = [blur(p, 0.9) for p in (one, other)]
    lost = [ground - float(h[core].mean()) for h in halves]
    usual = float(np.sqrt(np.mean(((one + other)[ring] / 2 - ground) ** 2)))
    shown, scene, weight, around = _over_time(seen, cut, core, ring)
    mass = float(weight.sum(0).mean())
    ratio = shown - scene - around[:, None]
    each, heavy = (ratio * weight).sum(1) / np.maximum(weight.sum(1), 1e-6), weight.mean(1)
    usually = _mean(each, heavy)
    own, passes = (v - (weight * v).sum(0) / np.maximum(weight.sum(0), 1e-9) for v in (shown - around[:, None], scene))
    bears = max(float(weight.sum()), 1e-9)
    # Held from nothing: of a plain scene no ratio can be told.
    var_own, var_scene = float((weight * own * own).sum()) / bears + 1e-4, float((weight * passes * passes).sum()) / bears + 1e-4
    joint = float((weight * own * passes).sum()) / bears
    together, lives = joint / np.sqrt(var_own * var_scene), np.sqrt(var_scene - 1e-4)
    across, long = max(c.across, 1.0), max(c.box.width, c.box.height)
    lit = float(np.median(np.exp(shown))) - _FLOOR
    return tuple(
        float(v)
        for v in (
            np.log(depth),
            np.log(depth / (usual + 0.004)),
            correlation(halves[0][inside], halves[1][inside]),
            min(lost) / max(*lost, 1e-3),
            np.log(mass + 0.05),
            np.log((np.sqrt(_mean((each - usually) ** 2, heavy)) + 0.01) / depth),
            _mean((each < -0.4 * depth).astype(np.float64), heavy),
            np.log(lives + 0.01),
            0.5 * np.log(var_own / var_scene),
            together,
            together * min(1.0, lives / 0.08),
            np.log((np.sqrt(max(0.0, var_own - 2 * joint + var_scene - 2e-4)) + 0.01) / depth),
            np.log(max(lit, 0.0) + _FLOOR),
            np.log(across / factor),
            np.log(long / across),
            _mean(np.clip(seen.far / across, 0, 2), heavy),
            core.sum() / inside.sum(),
            np.log(c.score),
            c.at_edge(size),
            seen.moving,
            (float(np.percentile(smooth[ring], 90)) - ground) / depth,
        )
    )


def _over_time(
    seen: MovedPairs, cut: tuple[slice, slice], core: NDArray[np.bool_], ring: NDArray[np.bool_]
) -> tuple[NDArray[np.float32], NDArray[np.float32], NDArray[np.float32], NDArray[np.float32]]:
    """Logarithms of the light at the core, and of the scene there; the weights; and of each pair by how much the ring differs."""
    lights = {n: np.log(np.maximum(plane[cut], 0) + np.float32(_FLOOR)) for n, plane in seen.light.items()}
    shown, scene, weight = (np.empty((len(seen.frame), int(core.sum())), np.float32) for _ in range(3))
    around = np.zeros(len(seen.frame), np.float32)
    for k, n in enumerate(seen.frame):
        passes = np.log(np.maximum(seen.scene[k][cut].astype(np.float32), 0) + np.float32(_FLOOR))
        trust = seen.weight[k][cut].astype(np.float32)
        shown[k], scene[k], weight[k] = lights[int(n)][core], passes[core], trust[core]
        load = trust[ring]
        if load.sum() > 1e-3:
            around[k] = ((lights[int(n)] - passes)[ring] * load).sum() / load.sum()
    return shown, scene, weight, around


def _mean(values: NDArray[np.floating], weight: NDArray[np.floating]) -> float:
    return float((values * weight).sum() / max(float(weight.sum()), 1e-9))


@cache
def _model() -> Logistic:
    return Logistic.read(MODEL, FEATURES)


# Written by `tools/fit_models.py`.
MODEL = Path(__file__).with_name("loss_promise.json")
