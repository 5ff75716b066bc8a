"""How sure a line that lasts is a scratch.

A scratch lies over the picture: it stands still or wanders while the scene goes its own way, looks the same wherever it lies, and the
detail under it goes on on both sides. A mast, a joint or a blade of grass goes with the scene, ends where the scene has it end, and has
its own detail. A logistic model weighs all that; its numbers are fitted by `tools/fit_models.py` on drawn clips, each scene judged by a
model fitted without it.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from functools import cache
from pathlib import Path

import numpy as np

from ...base.logistic import Logistic
from .lines import Array
from .sightings import Sighting
from .threads import Thread

FEATURES = (
    *("life", "ends", "seen", "score", "steady", "stands_out", "highest", "uneven", "misfit", "step", "agrees", "usual", "busy"),
    *("rough", "lean", "with_scene", "in_place", "strays", "travel", "own", "wander", "unsteady", "before", "after", "part", "width"),
    *("cover", "height", "alike", "follows", "keeps"),
)
# Variance of light that tells what a line hides, in codes squared.
_FLAT = 100.0
# Log of power, of the detail under a line over that beside, from which it tells no more.
_BUSY = 1.0
# Steps from frame to frame that tell whether a line goes along with the scene, those that tell it fully, and pixels that a scene moves less when
# it stands.
_STEPS, _MANY, _STANDS = 5, 30, 0.05
# Pixels of which a picture so wide or narrower is told.
WIDE = 960


def features(thread: Thread, frames: int, size: tuple[int, int]) -> Array:
    """What is told of a thread, in the order of `FEATURES`.

    Parameters
    ----------
    thread : Thread
    frames : int
        Of the shot.
    size : tuple of int
        Height and width of the picture.

    Returns
    -------
    ndarray, float64, (features,)
    """
    seen, scale = thread.seen, max(1.0, size[1] / WIDE)
    first, last = seen[0], seen[-1]
    begins, ends = thread.frames[0] > 0, thread.frames[-1] < frames - 1
    heights = np.array([s.height for s in seen])
    middles = np.array([s.line.middle for s in seen])

    def usual(told: Callable[[Sighting], float]) -> float:
        return float(np.median([told(s) for s in seen]))

    def log(value: float, least: float) -> float:
        return float(np.log(max(value, 0.0) + least))

    def root(steps: Array) -> float:
        return float(np.sqrt(np.mean(np.clip(steps, -6 * scale, 6 * scale) ** 2))) / scale if len(steps) else 0.0

    def share(told: Mapping[int, float], offset: int) -> float:
        return float(np.clip(1 - told.get(offset, 1.0), -0.5, 1.2))

    with_scene = [np.median(found) for k in (-2, -1, 1, 2) if (found := [s.with_scene[k] for s in seen if k in s.with_scene])]
    in_place = [np.median(found) for k in (-1, 1) if (found := [s.in_place[k] for s in seen if k in s.in_place])]
    top, stop = thread.rows
    return np.array(
        [
            np.log(thread.life),
            float(begins) + float(ends),
            len(seen) / thread.life,
            log(usual(lambda s: s.line.score), 0.1),
            float(np.clip(usual(lambda s: s.steady), 0, 6)),
            log(usual(lambda s: s.stands_out), 0.1),
            log(usual(lambda s: s.highest), 0.05),
            usual(lambda s: s.uneven),
            log(usual(lambda s: s.misfit), 0.01),
            log(usual(lambda s: s.step), 0.02),
            usual(lambda s: s.agrees),
            usual(lambda s: s.usual),
            # What hides all of the picture is no unlikelier for hiding it well.
            float(np.clip(usual(lambda s: s.busy), -_BUSY, _BUSY)),
            log(usual(lambda s: s.line.rough) / scale, 0.05),
            abs(usual(lambda s: s.line.lean)),
            float(np.clip(min(with_scene, default=1.0), -0.3, 1.3)),
            float(np.clip(np.mean(in_place) if in_place else 0.0, -0.3, 1.3)),
            log(root(thread.own - thread.scene), 0.05),
            log(thread.travel / scale, 0.3),
            log(root(thread.own), 0.05),
            log(float(np.ptp(middles)) / scale / np.sqrt(len(seen)), 0.05),
            log(float(heights.std() / heights.mean()), 0.03),
            share(first.with_scene, -1) if begins else 0.0,
            share(last.with_scene, 1) if ends else 0.0,
            (stop - top) / size[0],
            np.log(usual(lambda s: s.width) / scale),
            _cover(seen),
            np.log(usual(lambda s: s.height)),
            np.log1p(usual(lambda s: s.alike)),
            *_goes_along(thread.own, thread.scene, scale),
        ]
    )


def _goes_along(own: Array, scene: Array, scale: float) -> tuple[float, float]:
    """How far a line's way follows the scene's from frame to frame (their correlation, less where there are few), and how much of it it keeps."""
    if len(own) < _STEPS or scene.std() < _STANDS * scale:
        return 0.0, 0.0
    keeps = float((own * scene).sum() / (scene * scene).sum())
    spread = float(own.std() * scene.std())
    together = float(((own - own.mean()) * (scene - scene.mean())).mean()) / spread if spread else 0.0
    return together * min(1.0, np.sqrt(len(own) / _MANY)), float(np.clip(keeps, -1.0, 2.0))


def _cover(seen: Sequence[Sighting]) -> float:
    """How much lower a line is the lighter what it lies over: 0 for what adds to the picture, 1 for what hides it."""
    count, light, height, squares, both = np.sum([s.cover for s in seen], axis=0)
    spread = squares - light * light / count
    # Where the light does not live, nothing is told of it: it is drawn to none.
    return float(np.clip((light * height / count - both) / (spread + _FLAT * count), -0.5, 1.2))


def sure(thread: Thread, frames: int, size: tuple[int, int]) -> float:
    """How sure a thread is a scratch, 0 to 1; see `features`."""
    return float(_model().sure(features(thread, frames, size)))


@cache
def _model() -> Logistic:
    return Logistic.read(MODEL, FEATURES)


# Written by `tools/fit_models.py`.
MODEL = Path(__file__).with_name("line_model.json")
