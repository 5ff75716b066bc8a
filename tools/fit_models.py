"""Fits the logistic models that detectors decide by, on clips drawn by `benchmarks/proving`.

   python tools/fit_models.py sites 2001 2040
   python tools/fit_models.py alone 2001 2060
   python tools/fit_models.py shade 4001 4060
   python tools/fit_models.py hairs 38001 38201

   python tools/fit_models.py dirt 8201 8316 8330 8403
   python tools/fit_models.py families 17001 17301
   python tools/fit_models.py scratches 14001 14161

draws clips of these seeds (from the first to before the second, and so on with further pairs), gathers candidates, prints how each scene is judged by a model fitted without it, and writes the model fitted
on all of them. `sites` and `alone` are of bad sites of the sensor (`stuck_pixels/standing.py` and `alone.py`),
`shade` of dust, hairs and veils (`static_shade/promise.py`, `weighing.py` and `veil_search.py`), `hairs` of hairs as they look in the mean of all frames (`static_shade/hairs.py`; seven of ten clips have some), `dirt` of specks of film
(`film_dirt/shot_odds.py`; every third of its clips is sound), `families` of all specks of a shot together (`film_dirt/family.py`), `scratches` of lines that last (`scratches/telling.py`; every fourth is sound, every fifth shows uprights of a scene). JSON=FILE in the environment keeps what was gathered, and reads it back where it is there; EVERY=1 has `shade` measure
also what the present models say promises nothing, as is needed when what is told of candidates has changed.
"""

from __future__ import annotations

import json
import os
import sys
import tempfile
from collections.abc import Iterator
from dataclasses import asdict, dataclass, replace
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray
from scipy.optimize import minimize

from benchmarks.proving import defects, files, run
from benchmarks.proving.scenes import GAMMA
from benchmarks.proving.score import VISIBLE
from nimbus_sweep.core.base.logistic import Logistic, terms
from nimbus_sweep.core.defects.film_dirt import family, shot_odds
from nimbus_sweep.core.defects.film_dirt.look_over import LastingSpecks, look_over
from nimbus_sweep.core.defects.scratches import telling
from nimbus_sweep.core.defects.scratches.detect import ScratchWatch
from nimbus_sweep.core.defects.scratches.lines import Line
from nimbus_sweep.core.defects.scratches.threads import Thread
from nimbus_sweep.core.defects.static_shade import hairs, promise, veil_search, weighing
from nimbus_sweep.core.defects.static_shade.candidates import Candidate
from nimbus_sweep.core.defects.static_shade.detect import find
from nimbus_sweep.core.defects.static_shade.veil_search import VeilArea
from nimbus_sweep.core.defects.stuck_pixels import standing
from nimbus_sweep.core.defects.stuck_pixels.alone import FEATURES as ALONE_FEATURES
from nimbus_sweep.core.defects.stuck_pixels.alone import MODEL as ALONE
from nimbus_sweep.core.defects.stuck_pixels.departures import departure_maps
from nimbus_sweep.core.defects.stuck_pixels.detect import alone
from nimbus_sweep.core.evidence.frames_at_hand import Span
from nimbus_sweep.core.evidence.light_record import record
from nimbus_sweep.core.evidence.moments import each_moment
from nimbus_sweep.core.evidence.shot_evidence import ShotEvidence
from nimbus_sweep.core.evidence.shot_light import ShotLight
from nimbus_sweep.core.evidence.time_volume import build_volume
from nimbus_sweep.core.media.opening import open_reel

Array = NDArray[Any]
# A site is one for the fit from this error, root mean square in codes; nearer than this, in pixels, it is what was found.
_SHOWS, _NEAR = 3.0, 2
# A mark came of a candidate from this confidence.
_CAME = 0.3
# Candidates of a clip that count fully; more share that.
_OF_A_CLIP = 200


@dataclass(frozen=True)
class Model:
    """Which features a model has, where it is kept, and how it is fitted.

    Its weights are held towards nothing so far, products have weights or not, and defects are so many times rarer in footage than in what
    is drawn.
    """

    path: Path
    features: tuple[str, ...]
    held: float = 50.0
    products: bool = True
    rarer: float = 7.0


MODELS = {
    "site": Model(standing.MODEL, standing.FEATURES),
    "alone": Model(ALONE, ALONE_FEATURES, held=15.0, rarer=3.0),
    "loss": Model(promise.MODEL, promise.FEATURES),
    "veil": Model(veil_search.MODEL, veil_search.FEATURES, held=1.0, products=False),
    "hair": Model(hairs.MODEL, hairs.FEATURES, held=4.0, rarer=15.0),
    "scratch": Model(telling.MODEL, telling.FEATURES, held=20.0, rarer=1.0),
    "family": Model(family.MODEL, family.FEATURES, held=1.0, products=False, rarer=1.0),
    "speck": Model(shot_odds.MODEL, shot_odds.FEATURES, held=20.0, rarer=1.0),
    # Of few clips: one candidate takes seconds to measure.
    "weighed": Model(weighing.MODEL, weighing.FEATURES, held=3.0, products=False),
}


@dataclass(frozen=True)
class Seen:
    """One candidate: its scene, kind and features, how far it is right, whether it is left out of the fit, and the thing it lies on."""

    scene: str
    kind: str
    features: tuple[float, ...]
    right: bool
    error: float = 0.0
    unclear: bool = False
    weight: float = 1.0
    thing: str = ""


def fitted(seen: list[Seen], model: Model) -> Logistic:
    """A logistic model of those that are clear, its weights held towards nothing."""
    clear = [s for s in seen if not s.unclear]
    features, right, weight = np.array([s.features for s in clear]), np.array([s.right for s in clear]), np.array([s.weight for s in clear])
    mean, deviation = features.mean(0), features.std(0) + 1e-9
    all_of_it = terms((features - mean) / deviation)
    told = np.column_stack([np.ones(len(features)), all_of_it if model.products else all_of_it[:, : features.shape[1]]])
    sign = 2.0 * right - 1

    def cost(weights: Array) -> tuple[float, Array]:
        margin = sign * (told @ weights)
        slope = -(told.T @ (weight * sign / (1 + np.exp(np.clip(margin, -40, 40)))))
        return float((weight * np.logaddexp(0, -margin)).sum() + 0.5 * model.held * (weights[1:] ** 2).sum()), slope + model.held * np.r_[
            0, weights[1:]
        ]

    weights = minimize(cost, np.zeros(told.shape[1]), jac=True, method="L-BFGS-B", options={"maxiter": 3000}).x
    # Drawn clips have defects more often than footage has.
    return Logistic(model.features, float(weights[0] - np.log(model.rarer)), weights[1:], mean, deviation)


def judged(seen: list[Seen], model: Model) -> Array:
    """How sure each candidate is told by a model that was fitted without its scene."""
    features, scenes = np.array([s.features for s in seen]), np.array([s.scene for s in seen])
    told = np.zeros(len(seen))
    for scene in sorted(set(scenes.tolist())):
        told[scenes == scene] = fitted([s for s in seen if s.scene != scene], model).sure(features[scenes == scene])
    return told


def write(seen: list[Seen], model: Model, seeds: list[list[int]]) -> None:
    """The model fitted on all of them."""
    fitted(seen, model).write(model.path, seeds=seeds[0] if len(seeds) == 1 else seeds)


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
    """Candidates of static shade: what speaks for each of it once it is measured, and what was told of it before."""
    made: list[Seen] = []
    for case, evidence in drawn(first, stop, ["dust", "hairs", "veil"]):
        scene, things = str(case.facts["scene"]), _on_the_glass(case)
        heard: list[tuple[Candidate | VeilArea, tuple[float, ...]]] = []
        marks = find(evidence.volume, known=evidence, every=True, heard=lambda *told, heard=heard: heard.append(told)).marks
        for c, told in heard:
            error = max((e for e, mask in things if _covers(c, mask)), default=0.0)
            if isinstance(c, VeilArea):
                # Veils that overlap are one area.
                marked = _share_on(c, np.any([mask for _, mask in things], axis=0)) if things else 0.0
                made.append(Seen(scene, "veil", told, marked > 0.5, error, 0.15 < marked <= 0.5))
            else:
                made.append(Seen(scene, "weighed", told, error > 0, error, 0 < error <= _SHOWS))
        print(sum(e**2 > VISIBLE for e, _ in things), "visible,", len(heard), "measured,", len(marks), "marks:", end=" ")
    return made


# What is laid into every tenth clip, so that some have what is no hair.
_BESIDES_HAIRS: dict[int, tuple[str, ...]] = {7: ("dust",), 8: ("scratches",), 9: ()}
# Pixels of width, and shares of the light, of hairs that are laid on mean pictures besides.
_THICKER, _DEEPER = (2, 7), (0.6, 1.0)


def gathered_hairs(first: int, stop: int) -> list[Seen]:
    """Dark lines of mean pictures, as they are and with hairs laid on besides: a mean is darkened by them as its frames are."""
    made: list[Seen] = []
    for seed in range(first, stop):
        with tempfile.TemporaryDirectory() as name:
            case = run.drawn(seed, Path(name), laid=_BESIDES_HAIRS.get(seed % 10, ("hairs",)))
            volume = build_volume(Path(name) / "volume.bin", open_reel(case.dirty))
            picture, scene = hairs.MeanPicture.of(ShotLight(volume)), str(case.facts["scene"])
            things = [(error, mask, "hairs" in case.kinds) for error, mask in _on_the_glass(case)]
        found = _lines_of(picture, things, scene)
        more, laid = _with_hairs(picture, np.random.default_rng(seed))
        made += found + _lines_of(more, things + laid, scene)
        print(sum(e**2 > VISIBLE for e, *_ in things), "visible,", len(found), "lines:", seed, scene, flush=True)
    return made


# Error in codes, where it lies, and whether it is a hair.
_Laid = tuple[float, Array, bool]


def _with_hairs(picture: hairs.MeanPicture, rng: np.random.Generator) -> tuple[hairs.MeanPicture, list[_Laid]]:
    """A mean picture with two more hairs on it, and where they lie."""
    light, spread, laid = picture.light, picture.spread, []
    for _ in range(2):
        lost = defects.hair((light.shape[1], light.shape[0]), rng, _THICKER, _DEEPER)
        before, mask = light, lost > 0.03
        light, spread = light * (1 - lost), spread * (1 - lost)
        codes = [255 * (np.maximum(one, 0) / 255) ** (1 / GAMMA) for one in (before, light)]
        laid.append((float(np.sqrt(((codes[1] - codes[0]) ** 2)[mask].mean())) if mask.any() else 0.0, mask, True))
    return replace(picture, light=light, spread=spread), laid


def _lines_of(picture: hairs.MeanPicture, things: list[_Laid], scene: str) -> list[Seen]:
    made: list[Seen] = []
    found = hairs.traced(picture)
    for one in found:
        share, error, hairy = max(((one.line.share_on(mask), error, hairy) for error, mask, hairy in things), default=(0.0, 0.0, False))
        right = hairy and share > 0.5
        # What lies on dust, or on a hair in part, is neither.
        unclear = 0.15 < share <= 0.5 or (share > 0.5 and (not hairy or error <= _SHOWS))
        made.append(Seen(scene, "hair", one.told, right, error if right else 0.0, unclear, min(1.0, 20 / len(found))))
    return made


# Scenes in which much comes and goes.
_LIVELY = ("photo hubble_deep_field", "drawn rain", "drawn night", "drawn wheel", "photo grass", "photo gravel", "stereo", "photo moon")


def gathered_families(first: int, stop: int) -> list[Seen]:
    """All that looks like specks in each shot: with dirt in every other clip, with something else or nothing, mostly in lively scenes."""
    made: list[Seen] = []
    for seed in range(first, stop):
        has_dirt, lively = seed % 2 == 0, seed % 6 in (3, 5)
        others = [k for k in defects.KINDS if k not in ("dirt", "birds", "cues")]
        with tempfile.TemporaryDirectory() as name:
            case = run.drawn(seed, Path(name), ["dirt"] if has_dirt else others, _LIVELY if lively else ())
            source = open_reel(case.dirty)
            lasting, told = LastingSpecks(), []
            for moment, looked in each_moment(Span.of(source, 0, len(source)), look_over):
                told += [one.candidate(at) for at, found in lasting.take(moment, looked) for one in found]
            told += [one.candidate(at) for at, found in lasting.finish() for one in found]
            size = source.format.height, source.format.width
            sure, _ = shot_odds.in_shot(told, len(source), size)
            one = family.family_of(told, sure, len(source), size)
        if one is not None:
            made.append(Seen(str(case.facts["scene"]), "family", tuple(one.features.tolist()), "dirt" in case.kinds))
        print(seed, case.facts["scene"], case.facts["defects"], one, flush=True)
    return made


def gathered_dirt(first: int, stop: int) -> list[Seen]:
    """Candidates for specks, with what the whole shot says of them."""
    made: list[Seen] = []
    for seed in range(first, stop):
        with tempfile.TemporaryDirectory() as name:
            case = run.drawn(seed, Path(name), laid=() if seed % 3 == 0 else ("dirt",))
            source = open_reel(case.dirty)
            lasting, told = LastingSpecks(), []
            for moment, looked in each_moment(Span.of(source, 0, len(source)), look_over):
                told += [(one.candidate(at), one.speck) for at, found in lasting.take(moment, looked) for one in found]
            told += [(one.candidate(at), one.speck) for at, found in lasting.finish() for one in found]
            laid_in = _dirt_of(case)
        size = source.format.height, source.format.width
        rows = shot_odds.features([candidate for candidate, _ in told], len(source), size) if told else []
        weight = min(1.0, _OF_A_CLIP / max(1, len(told)))
        for (candidate, speck), features in zip(told, rows, strict=True):
            share, error = _share_of_dirt(laid_in.get(candidate.frame, []), speck.box, speck.mask)
            right = share > 0.3
            unclear = 0.02 < share <= 0.3 or (right and error <= _SHOWS)
            made.append(Seen(str(case.facts["scene"]), "speck", tuple(features.tolist()), right, error if right else 0.0, unclear, weight))
        print(
            sum(e**2 > VISIBLE for part in laid_in.values() for e, _ in part),
            "visible,",
            len(told),
            "candidates:",
            seed,
            case.facts["scene"],
        )
    return made


def gathered_scratches(first: int, stop: int) -> list[Seen]:
    """Lines that last."""
    made: list[Seen] = []
    for seed in range(first, stop):
        with tempfile.TemporaryDirectory() as name:
            names = ("drawn front",) if seed % 5 == 0 else ()
            case = run.drawn(seed, Path(name), names=names, laid=() if seed % 4 == 0 else ("scratches",))
            source = open_reel(case.dirty)
            watch = ScratchWatch(Span.of(source, 0, len(source)))
            for moment, seen in each_moment(Span.of(source, 0, len(source)), watch.look):
                watch.take(moment, seen)
            clean, dirty = files.brightness(case.clean), files.brightness(case.dirty)
        laid_in = [((dirty - clean)[t.mask], t.mask) for t in case.taken.things]
        for thread in watch.threads():
            told = telling.features(thread, len(source), (source.format.height, source.format.width))
            share, laid = max(((_share_along(thread, mask), n) for n, (_, mask) in enumerate(laid_in)), default=(0.0, -1))
            error = float(np.sqrt((laid_in[laid][0] ** 2).mean())) if share else 0.0
            # Beside what is light the picture looks dark: a line, but not the scratch.
            shoulder = share > 0 and thread.bright != bool(laid_in[laid][0].mean() > 0)
            right = share >= 0.5 and not shoulder
            unclear = 0.2 <= share < 0.5 or (share >= 0.2 and shoulder) or (right and error <= _SHOWS)
            made.append(
                Seen(
                    str(case.facts["scene"]),
                    "scratch",
                    tuple(told.tolist()),
                    right,
                    error if right else 0.0,
                    unclear,
                    thing=f"{seed}.{laid}",
                )
            )
        print(
            sum((d**2).mean() > VISIBLE for d, _ in laid_in),
            "visible,",
            len(watch.threads()),
            "lines:",
            seed,
            case.facts["scene"],
            flush=True,
        )
    return made


def _share_along(thread: Thread, mask: Array) -> float:
    """The share of its frames in which a thread lies on a scratch."""

    def lies_on(n: int, line: Line) -> bool:
        rows = np.arange(line.first, min(line.stop, mask.shape[1]))
        columns = np.clip(np.rint(line.at(rows)).astype(int), 0, mask.shape[2] - 1)
        near = np.any([mask[n, rows, np.clip(columns + k, 0, mask.shape[2] - 1)] for k in (-1, 0, 1)], axis=0)
        return bool(near.mean() > 0.5)

    return float(np.mean([lies_on(n, s.line) for n, s in zip(thread.frames, thread.seen, strict=True)]))


def _dirt_of(case: run.Case) -> dict[int, list[tuple[float, Array]]]:
    """The dirt of each frame: its error there, and where it lies."""
    clean, dirty = files.brightness(case.clean), files.brightness(case.dirty)
    found: dict[int, list[tuple[float, Array]]] = {}
    for thing in (t for t in case.taken.things if t.mask.any()):
        for n in range(thing.first, min(thing.stop, len(dirty))):
            mask = thing.mask if thing.mask.ndim == 2 else thing.mask[n]
            if mask.any():
                found.setdefault(n, []).append((float(np.sqrt(((dirty[n] - clean[n])[mask] ** 2).mean())), mask))
    return found


def _share_of_dirt(laid_in: list[tuple[float, Array]], box: tuple[slice, slice], mask: Array) -> tuple[float, float]:
    """The largest share of a piece of dirt that a speck covers, and the error of that piece."""
    shares = [(float((m[box] & mask).sum()) / float(m.sum()), error) for error, m in laid_in]
    return max(shares, default=(0.0, 0.0))


def _on_the_glass(case: run.Case) -> list[tuple[float, Array]]:
    """What lies on the glass in a case: error, and where."""
    clean, dirty = files.brightness(case.clean), files.brightness(case.dirty)
    things = [t for t in case.taken.things if t.kind in ("dust", "hairs", "veil") and t.mask.any()]
    return [(float(np.sqrt(((dirty - clean) ** 2)[:, t.mask].mean())), t.mask) for t in things]


def _covers(c: Candidate | VeilArea, mask: Array) -> bool:
    """Whether a candidate is of what lies there."""
    whole = np.zeros(mask.shape, np.float32)
    c.mark(whole)
    both = ((whole > 0) & mask).sum()
    return bool(both > 0.3 * mask.sum() and both > 0.1 * (whole > 0).sum())


def _share_on(area: VeilArea, marked: Array) -> float:
    """Share of an area that lies on a mark."""
    whole = np.zeros(marked.shape, np.float32)
    area.mark(whole)
    return float(marked[whole > 0].mean()) if whole.any() else 0.0


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
    what, numbers = sys.argv[1], [int(n) for n in sys.argv[2:]]
    seeds = [numbers[n : n + 2] for n in range(0, len(numbers), 2)]
    kept = Path(os.environ["JSON"]) if os.environ.get("JSON") else None
    if kept is not None and kept.exists():
        seen = [Seen(**s) for s in json.loads(kept.read_text())]
    else:
        gathered = {
            "sites": gathered_sites,
            "alone": gathered_alone,
            "shade": gathered_shade,
            "hairs": gathered_hairs,
            "dirt": gathered_dirt,
            "families": gathered_families,
            "scratches": gathered_scratches,
        }[what]
        seen = [one for first, stop in seeds for one in gathered(first, stop)]
        if kept is not None:
            kept.write_text(json.dumps([asdict(s) for s in seen]))
    for kind in sorted({s.kind for s in seen}):
        own = [s for s in seen if s.kind == kind]
        sure = fitted_and_told(own, (0.3, 0.5, 0.7, 0.9), seeds)
        if kind == "weighed":
            fitted_and_told(worth_measuring(own, sure), (0.002, 0.004, 0.006, 0.01, 0.02, 0.05), seeds)


def fitted_and_told(seen: list[Seen], levels: tuple[float, ...], seeds: list[list[int]]) -> Array:
    """Write the model of candidates of one kind; tell, and give, how each was judged by one fitted without its scene."""
    model = MODELS[seen[0].kind]
    print(f"\n{seen[0].kind}: {len(seen)} candidates of {len({s.scene for s in seen})} scenes")
    sure = judged(seen, model)
    tell(seen, sure, levels)
    write(seen, model, seeds)
    return sure


def worth_measuring(weighed: list[Seen], sure: Array) -> list[Seen]:
    """What was told of candidates before they were measured; right where a mark came of them, as scenes left out tell it."""
    came: dict[tuple[str, tuple[float, ...]], float] = {}
    for one, how_sure in zip(weighed, sure, strict=True):
        key = one.scene, one.features[-len(promise.FEATURES) :]
        came[key] = max(came.get(key, 0.0), float(how_sure))
    return [Seen(scene, "loss", told, how_sure >= _CAME) for (scene, told), how_sure in came.items()]


if __name__ == "__main__":
    main()
