"""Fits the logistic models that detectors decide by, on clips drawn by `benchmarks/proving`.

   python tools/fit_models.py sites 2001 2040
   python tools/fit_models.py alone 2001 2060
   python tools/fit_models.py shade 4001 4060

draws clips of these seeds, gathers candidates, prints how each scene is judged by a model fitted without it, and writes the model fitted
on all of them. `sites` and `alone` are of bad sites of the sensor (`stuck_pixels/standing.py` and `alone.py`),
`shade` of dust, hairs and veils (`static_shade/promise.py`). JSON=FILE in the environment keeps what was gathered, and reads it back where it is there.
"""

from __future__ import annotations

import json
import os
import sys
import tempfile
from collections.abc import Iterator
from dataclasses import asdict, dataclass
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray
from scipy.optimize import minimize

from benchmarks.proving import files, run
from benchmarks.proving.score import VISIBLE
from nimbus_sweep.core.base.logistic import Logistic, terms
from nimbus_sweep.core.defects.static_shade import promise
from nimbus_sweep.core.defects.static_shade.candidates import Candidate, candidates, contrast_map, loss_map
from nimbus_sweep.core.defects.static_shade.detect import find
from nimbus_sweep.core.defects.stuck_pixels import standing
from nimbus_sweep.core.defects.stuck_pixels.alone import FEATURES as ALONE_FEATURES
from nimbus_sweep.core.defects.stuck_pixels.alone import MODEL as ALONE
from nimbus_sweep.core.defects.stuck_pixels.departures import departure_maps
from nimbus_sweep.core.defects.stuck_pixels.detect import alone
from nimbus_sweep.core.evidence.light_record import record
from nimbus_sweep.core.evidence.shot_evidence import ShotEvidence
from nimbus_sweep.core.evidence.time_volume import build_volume
from nimbus_sweep.core.media.opening import open_reel

Array = NDArray[Any]
# A site is one for the fit from this error, root mean square in codes; nearer than this, in pixels, it is what was found.
_SHOWS, _NEAR = 3.0, 2
# How far weights are held towards nothing, and how many times rarer defects are in footage than in what is drawn.
_HELD, _RARER = 50.0, 7.0


@dataclass(frozen=True)
class Seen:
    """One candidate: its scene, what kind of candidate, its features, how far it is right, and whether it is left out of the fit."""

    scene: str
    kind: str
    features: tuple[float, ...]
    right: bool
    error: float = 0.0
    unclear: bool = False


def fitted(features: Array, right: Array, names: tuple[str, ...]) -> Logistic:
    """A logistic model of features and their products, its weights held towards nothing."""
    mean, deviation = features.mean(0), features.std(0) + 1e-9
    told = np.column_stack([np.ones(len(features)), terms((features - mean) / deviation)])
    sign = 2.0 * right - 1

    def cost(weights: Array) -> tuple[float, Array]:
        margin = sign * (told @ weights)
        slope = -(told.T @ (sign / (1 + np.exp(np.clip(margin, -40, 40)))))
        return float(np.logaddexp(0, -margin).sum() + 0.5 * _HELD * (weights[1:] ** 2).sum()), slope + _HELD * np.r_[0, weights[1:]]

    weights = minimize(cost, np.zeros(told.shape[1]), jac=True, method="L-BFGS-B", options={"maxiter": 3000}).x
    # Drawn clips have defects more often than footage has.
    return Logistic(names, float(weights[0] - np.log(_RARER)), weights[1:], mean, deviation)


def judged(seen: list[Seen], names: tuple[str, ...]) -> Array:
    """How sure each candidate is told by a model that was fitted without its scene."""
    features, right = np.array([s.features for s in seen]), np.array([s.right for s in seen])
    used, scenes = np.array([not s.unclear for s in seen]), np.array([s.scene for s in seen])
    told = np.zeros(len(seen))
    for scene in sorted(set(scenes.tolist())):
        others = used & (scenes != scene)
        told[scenes == scene] = fitted(features[others], right[others], names).sure(features[scenes == scene])
    return told


def write(seen: list[Seen], names: tuple[str, ...], path: Path, first: int, stop: int) -> None:
    """The model fitted on all of them."""
    clear = [s for s in seen if not s.unclear]
    fitted(np.array([s.features for s in clear]), np.array([s.right for s in clear]), names).write(path, seeds=[first, stop])


def drawn(first: int, stop: int, kinds: list[str]) -> Iterator[tuple[run.Case, ShotEvidence]]:
    """Clips of the seeds `first` to `stop` - 1, and their evidence."""
    for seed in range(first, stop):
        with tempfile.TemporaryDirectory() as name:
            case = run.drawn(seed, Path(name), kinds)
            source = open_reel(case.dirty)
            volume = build_volume(Path(name) / "volume.bin", source)
            yield case, ShotEvidence(volume, 0, len(source), light=record(Path(name) / "light.bin", source, 0, len(source)))
        print(seed, case.facts["scene"], case.facts["camera"], flush=True)


def gathered_sites(first: int, stop: int) -> list[Seen]:
    """What stands while the scene moves on."""
    made: list[Seen] = []
    for case, evidence in drawn(first, stop, ["pixels"]):
        pairs = evidence.moved_pairs(lambda share: None)
        if pairs is None:
            continue
        sites = _laid_in(case)
        print(sum(e**2 > VISIBLE for e, *_ in sites), "visible sites:", end=" ")
        for one in standing.standing_sites(pairs, Logistic.blank(standing.FEATURES)):
            made.append(Seen(str(case.facts["scene"]), "site", one.features, **_told_of(sites, one.x, one.y)))
    return made


def gathered_alone(first: int, stop: int) -> list[Seen]:
    """What stands alone in the mean over time."""
    made: list[Seen] = []
    for case, evidence in drawn(first, stop, ["pixels"]):
        sites, maps = _laid_in(case), departure_maps(evidence.volume)
        if len(evidence.volume.numbers) < 8:
            continue
        for one, told in alone(evidence.volume, maps, (), lambda share: None):
            made.append(Seen(str(case.facts["scene"]), "alone", told, **_told_of(sites, one.x, one.y)))
        print(sum(e**2 > VISIBLE for e, *_ in sites), "visible sites:", end=" ")
    return made


Sites = list[tuple[float, int, int, int, int]]


def _laid_in(case: run.Case) -> Sites:
    """The bad sites of a case: error, and the rows and columns they are found in."""
    clean, dirty = files.brightness(case.clean), files.brightness(case.dirty)
    sites = []
    for thing in (t for t in case.taken.things if t.kind == "pixels"):
        error = float(np.sqrt(((dirty - clean) ** 2)[:, thing.mask].mean()))
        rows, cols = np.nonzero(thing.mask)
        sites.append((error, rows.min() - _NEAR, rows.max() + _NEAR, cols.min() - _NEAR, cols.max() + _NEAR))
    return sites


def _told_of(sites: Sites, x: int, y: int) -> dict[str, Any]:
    """Whether there is a site, its error, and whether that is too small to learn from: a colour may leave brightness as it is."""
    errors = [e for e, top, low, left, right in sites if top <= y <= low and left <= x <= right]
    error = max(errors, default=0.0)
    return {"right": bool(errors), "error": error, "unclear": bool(errors) and error <= _SHOWS}


def gathered_shade(first: int, stop: int) -> list[Seen]:
    """Candidates of static shade, right where a mark came of them once they were measured."""
    made: list[Seen] = []
    for case, evidence in drawn(first, stop, ["dust", "hairs", "veil"]):
        size = evidence.shot_light.shape
        pairs = evidence.moved_pairs(lambda share: None)
        if pairs is None:
            continue
        maps = loss_map(pairs, 0), loss_map(pairs, 1)
        found = candidates(*maps, pairs.factor, False, size)
        large = candidates(contrast_map(pairs, 0), contrast_map(pairs, 1), pairs.factor, True, size)
        told = [(c, promise.features(pairs, maps[0][0], maps[1][0], c, size)) for c in (*found, *large)]
        marks = find(evidence.volume, known=evidence, every=True).marks
        for c, features in told:
            if features is not None:
                came = any(_came_of(c, m.x + m.width // 2, m.y + m.height // 2) and c.veil <= (m.kind == "veil") for m in marks)
                made.append(Seen(str(case.facts["scene"]), "veil" if c.veil else "loss", features, came))
        print(len(told), "candidates,", len(marks), "marks:", end=" ")
    return made


def _came_of(c: Candidate, x: int, y: int) -> bool:
    """Whether the middle of a mark lies on a candidate."""
    row, col = y - c.box.top, x - c.box.left
    return 0 <= row < c.box.height and 0 <= col < c.box.width and bool(c.shape[row, col] > 0)


def tell(seen: list[Seen], told: Array, levels: tuple[float, ...]) -> None:
    """How the scenes left out were judged."""
    right, shown = np.array([s.right for s in seen]), np.array([s.error**2 > VISIBLE for s in seen])
    for least in levels:
        said = told >= least
        print(
            f"told from {least}: {int((said & right).sum())} of {int(right.sum())}"
            + (f" ({int((said & shown).sum())} of {int(shown.sum())} visible)" if shown.any() else "")
            + f", and {int((said & ~right).sum())} of {int((~right).sum())} that are none"
        )
    for low, high in ((0.1, 0.3), (0.3, 0.5), (0.5, 0.7), (0.7, 0.9), (0.9, 1.01)):
        part = (told >= low) & (told < high)
        if part.any():
            print(f"told {low} to {min(high, 1)}: {int(part.sum())}, of which {100 * right[part].mean():.0f} % are right")


def main() -> None:
    """Gather, judge scene by scene, and write the models."""
    what, first, stop = sys.argv[1], int(sys.argv[2]), int(sys.argv[3])
    kept = Path(os.environ["JSON"]) if os.environ.get("JSON") else None
    if kept is not None and kept.exists():
        seen = [Seen(**s) for s in json.loads(kept.read_text())]
    else:
        seen = {"sites": gathered_sites, "alone": gathered_alone, "shade": gathered_shade}[what](first, stop)
        if kept is not None:
            kept.write_text(json.dumps([asdict(s) for s in seen]))
    models = {"site": (standing.MODEL, standing.FEATURES), "loss": (promise.MODELS[False], promise.FEATURES)}
    models |= {"veil": (promise.MODELS[True], promise.FEATURES), "alone": (ALONE, ALONE_FEATURES)}
    for kind in sorted({s.kind for s in seen}):
        own, (path, names) = [s for s in seen if s.kind == kind], models[kind]
        print(f"\n{kind}: {len(own)} candidates of {len({s.scene for s in own})} scenes")
        tell(own, judged(own, names), (0.3, 0.5, 0.7, 0.9) if kind in ("site", "alone") else (0.005, 0.01, 0.02, 0.05, 0.1))
        write(own, names, path, first, stop)


if __name__ == "__main__":
    main()
