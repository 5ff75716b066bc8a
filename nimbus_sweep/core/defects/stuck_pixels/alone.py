"""How sure it is that what stands alone in the mean of a shot is a bad site of the sensor, and not a small thing of the scene.

Where the scene keeps its place nothing passes behind a site, and it has to be told by what it is: its profile is that of a site and not of
a point drawn by a lens, it holds an end of the range, it does not live as its surroundings do, nothing like it is about. A logistic model
weighs these; its numbers are fitted by `tools/fit_models.py` on drawn clips, each scene judged by a model fitted without it.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from functools import cache
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from ...base.logistic import Logistic
from ...evidence.time_volume import TimeVolume
from ...media.colour import luma_weights, possible, to_rgb
from ...media.frames import PictureFormat, as_numbers
from .departures import DepartureMap
from .sensor_site import SiteFit, drawn_by, held_profile, held_value
from .texture import Texture

FEATURES = (
    *("stands_out", "crowd", "tail", "further", "told", "one_colour", "drawn", "unexplained", "block"),
    *("held", "life", "seen", "departure", "changes", "contrast"),
    *("misfit", "lens", "held_misfit", "at_end", "coloured", "mosaic", "pair", "still", "noise"),
)
# What keeps logarithms from zero: shares, codes, counts.
_SHARE, _CODES = 0.01, 0.3
# Energy of a departure, in units of what the texture about it allows for, below which any profile explains it; and the share that one is
# then taken to leave.
_LEAST_CONTRAST, _UNTOLD = 9.0, 0.3
# Places that are certain, in a shot, with which one is as sure as its evidence says; what is added to both; and what is certain.
_USUAL, _FEW, _CERTAIN = 2.0, 0.3, 0.9
# Samples about a site whose life is measured, and that belong to it.
_AROUND, _OWN = 4, 2
# What four sites of a mosaic have to explain beyond one, as a likelihood ratio, doubled.
_DEARER = 20.0
# What a lens explains better by so much, as a logarithm, while hardly a colour departs, is a spot of light: it is told at most as sure as this.
_BY_LENS, _COLOURLESS, _DOUBTED = 0.08, -2.5, 0.45


@dataclass(frozen=True)
class Place:
    """What stands alone at a place.

    Attributes
    ----------
    stands_out : float
        How far it stands out of the texture about it, in deviations.
    crowd : int
        How many like it are about.
    tail : tuple of float
        How far the 30th and the 120th strongest place of the picture stand out.
    seen : float
        Share of the frames in which it departs, 0 to 1.
    departure, changes : float
        How far it departs, and the light about it changes over time, in 8-bit display steps.
    still : bool
        Whether some of the scene keeps its place.
    """

    stands_out: float
    crowd: int
    tail: tuple[float, float]
    seen: float
    departure: float
    changes: float
    still: bool


def features(
    volume: TimeVolume, maps: tuple[DepartureMap, ...], textures: Sequence[Texture], scales: list[float], place: Place, fit: SiteFit
) -> tuple[float, ...]:
    """What is told of a site, in the order of `FEATURES`."""
    layout = volume.format
    cells = [layout.subsampling(i) for i in range(len(maps))]
    held = held_profile([m.value for m in maps], cells, scales, fit, layout, volume.colour)
    drawn = drawn_by(textures, cells, fit.x, fit.y, layout, volume.colour)
    at_end = min(held_value(fit, layout, c)[2] for c in possible(volume.colour))
    lives = [_life(volume, i, fit.x, fit.y) for i in range(len(maps))]
    stiffest = min(lives, key=lambda own: own[0] / (own[1] + _CODES))
    left = fit.misfit, fit.lens_misfit, held.misfit if held else 1.0
    if fit.contrast < _LEAST_CONTRAST:
        left = (_UNTOLD,) * 3
    # Four sites have three numbers more to explain with.
    by_mosaic = max(drawn.one_colour, drawn.block - _DEARER)
    best = max(drawn.site, by_mosaic)
    told = (
        np.log(place.stands_out + 0.1),
        np.log1p(place.crowd),
        np.log(place.tail[0] + 0.1),
        np.log(place.tail[1] + 0.1),
        np.log(best + 1) / 2,
        np.log(by_mosaic / (best + _CODES) + _SHARE),
        np.log(drawn.lens / (best + _CODES) + _SHARE),
        np.log(max(0.0, 1 - best / (drawn.departs + _CODES)) + _SHARE),
        float(drawn.block - _DEARER > drawn.one_colour),
        np.log((stiffest[0] + _CODES) / (stiffest[1] + _CODES)),
        np.log(stiffest[1] + _CODES),
        place.seen,
        np.log(place.departure + 1),
        np.log(place.changes + _CODES),
        np.log(min(fit.contrast, 1e4) + 0.1),
        *np.log(np.array(left) + _SHARE),
        np.log1p(at_end),
        _coloured(fit, layout, volume),
        float(fit.spread.startswith("mosaic")),
        float(fit.width * fit.height > 1),
        float(place.still),
        np.log(maps[0].noise + _CODES),
    )
    return tuple(float(v) for v in told)


def sureness(told: tuple[float, ...]) -> float:
    """How sure it is a site, 0 to 1."""
    sure = float(_model().sure(told))
    by_lens = told[FEATURES.index("drawn")] > _BY_LENS and told[FEATURES.index("coloured")] < _COLOURLESS
    return min(sure, _DOUBTED) if by_lens else sure


def _coloured(fit: SiteFit, layout: PictureFormat, volume: TimeVolume) -> float:
    """Logarithm of how far it departs in colour against in brightness: real things are seldom a colour without a change of brightness."""
    rgb = to_rgb(fit.amplitudes, layout, volume.colour, difference=True)
    luma = abs(float(np.dot(luma_weights(possible(volume.colour)[0], layout.height), rgb)))
    return float(np.log((np.ptp(rgb) + 1) / (luma + 1)))


def _life(volume: TimeVolume, index: int, x: int, y: int) -> tuple[float, float]:
    """Deviation over time of a sample of a component, and the usual one about it, in 8-bit display steps."""
    across, down = volume.format.subsampling(index)
    component = volume.format.components[index]
    row, col = min(y // down, component.height - 1), min(x // across, component.width - 1)
    top, left = max(0, row - _AROUND), max(0, col - _AROUND)
    part = as_numbers(volume.component_stack(index)[:, top : row + _AROUND + 1, left : col + _AROUND + 1])
    life: NDArray[np.float32] = part.std(axis=0) / np.float32(component.code)
    own = float(life[row - top, col - left])
    life[max(0, row - _OWN - top) : row + _OWN + 1 - top, max(0, col - _OWN - left) : col + _OWN + 1 - left] = np.nan
    return own, float(np.nanpercentile(life, 20)) if not np.isnan(life).all() else own


def is_certain(sure: float) -> bool:
    """Whether a place tells of others in the shot."""
    return sure > _CERTAIN


def among(sure: float, certain: int) -> float:
    """How sure a place is that has so many others beside it in the shot that are certain: a sensor with one bad site has more of them.

    Parameters
    ----------
    sure : float
        By itself, 0 to 1.
    certain : int
        Others of more than 0.9.
    """
    odds = np.log(max(sure, 1e-9) / max(1 - sure, 1e-9)) + min(0.0, float(np.log((certain + _FEW) / (_USUAL + _FEW))))
    return float(1 / (1 + np.exp(-odds)))


@cache
def _model() -> Logistic:
    return Logistic.read(MODEL, FEATURES)


# Written by `tools/fit_models.py`.
MODEL = Path(__file__).with_name("alone_model.json")
