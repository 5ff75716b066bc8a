"""Draws cases, has the command treat them, and prints what became of them."""

from __future__ import annotations

import json
import os
import subprocess
import sys
import time
from collections.abc import Sequence
from dataclasses import asdict, dataclass
from pathlib import Path
from typing import Any

import numpy as np

from . import defects, files, scenes
from .score import Row, calibration, score, table, weakest, worst

# Apart from any other draw that takes the same seeds.
_STREAM = 0x5C0AE
# How often a second thing is wrong, and nothing is.
_TWO, _SOUND = 0.25, 0.1
# A bird is a defect only if somebody says so: it is asked for by name.
_BY_NAME = {"birds": "fleeting"}
_LONGEST = 1800


@dataclass(frozen=True)
class Case:
    """A clip that was drawn, as files in a folder.

    Attributes
    ----------
    facts : dict
        Seed, scene, camera, coding, noise and defects.
    kinds : tuple of str
        What was laid in.
    taken : Taken
    clean, dirty : Path
    """

    facts: dict[str, Any]
    kinds: tuple[str, ...]
    taken: defects.Taken
    clean: Path
    dirty: Path


def drawn(seed: int, folder: Path, kinds: Sequence[str] = (), names: Sequence[str] = (), laid: Sequence[str] | None = None) -> Case:
    """Draw a case; the same seed, kinds and scenes draw the same.

    Parameters
    ----------
    seed : int
    folder : Path
        Where its files go.
    kinds : sequence of str
        Of `defects.KINDS`; all when empty.
    names : sequence of str
        Of `scenes.names`; all when empty.
    laid : sequence of str, or None
        What is laid in, nothing where empty; drawn when None.
    """
    rng = np.random.default_rng([seed, _STREAM])
    scene = scenes.draw(str(rng.choice(list(names) or scenes.names())), rng)
    wanted = _wanted(list(kinds) or list(defects.KINDS), rng) if laid is None else list(laid)
    taken = defects.taken(scene.frames, wanted, rng)
    name = files.drawn(rng)
    coding = files.CODINGS[name]
    folder.mkdir(parents=True, exist_ok=True)
    truth = files.exact(coding)
    clean, dirty = folder / f"clean{truth.suffix}", folder / f"dirty{coding.suffix}"
    files.write(clean, taken.clean, truth, rng)
    files.write(dirty, taken.dirty, coding, rng)
    facts = {
        "seed": seed,
        "scene": scene.name,
        "camera": scene.camera,
        "coding": name,
        "noise": taken.noise,
        "defects": "+".join(wanted) or "sound",
    }
    return Case(facts, tuple(wanted), taken, clean, dirty)


def _wanted(kinds: list[str], rng: np.random.Generator) -> list[str]:
    first = str(rng.choice(kinds))
    wanted = [first]
    others = [k for k in kinds if k.partition("-")[0] != first.partition("-")[0] and k not in _BY_NAME]
    if rng.random() < _TWO and others and first not in _BY_NAME:
        wanted.append(str(rng.choice(others)))
    return [] if rng.random() < _SOUND else wanted


def treated(case: Case, folder: Path) -> list[Row]:
    """Have the product treat a case, and score what comes back."""
    made, report = folder / "treated.mkv", folder / "report.json"
    asked = [_BY_NAME[k] for k in case.kinds if k in _BY_NAME]
    how = ["--steps", ",".join(asked)] if asked else ["--suggested"]
    command = [sys.executable, "-m", "nimbus_sweep", "treat", str(case.dirty), str(made), *how, "--report", str(report), "--overwrite"]
    done = subprocess.run(command, capture_output=True, text=True, timeout=_LONGEST)
    if done.returncode or not made.exists():
        print(f"  seed {case.facts['seed']} failed: {done.stderr.strip()[-300:]}", flush=True)
        return [Row(case.facts, "failed", visible=1)]
    told = [(f["kind"], float(f["confidence"])) for shot in json.loads(report.read_text())["shots"] for f in shot.get("findings", [])]
    clean, dirty, back = (files.brightness(p) for p in (case.clean, case.dirty, made))
    return score(clean, dirty, back, case.taken.things, case.kinds, told, case.facts)


def run(folder: Path) -> None:
    """Run it as the environment says: SEED and COUNT, KINDS and SCENES as lists with commas, JSON for the rows, KEEP for the clips."""
    seed, count = int(os.environ.get("SEED", "1")), int(os.environ.get("COUNT", "12"))
    kinds, names = _listed("KINDS", list(defects.KINDS)), _listed("SCENES", scenes.names())
    kept = os.environ.get("KEEP")
    print(
        f"\nThe proving ground, seeds {seed} to {seed + count - 1}: drawn clips through `nimbus-sweep treat --suggested`, against the truth"
    )
    rows: list[Row] = []
    spent = 0.0
    for n in range(seed, seed + count):
        place = (Path(kept) if kept else folder) / str(n)
        case = drawn(n, place, kinds, names)
        began = time.perf_counter()
        rows += (new := treated(case, place))
        took = time.perf_counter() - began
        spent += took
        print(
            f"  {n} {case.facts['scene']}, {case.facts['camera']}, {case.facts['coding']}, {case.facts['defects']}: {_brief(new)} ({took:.0f} s)",
            flush=True,
        )
        if not kept:
            for path in place.iterdir():
                path.unlink()
    for title, text in (
        ("", table(rows)),
        ("Told, and there", calibration(rows)),
        ("Missed most", weakest(rows)),
        ("Went worst", worst(rows)),
    ):
        print(f"\n{title}\n{text}" if title else f"\n{text}")
    print(f"\n{spent:.0f} s in the command for {count} cases")
    if os.environ.get("JSON"):
        Path(os.environ["JSON"]).write_text(json.dumps([asdict(r) for r in rows]))


def _listed(name: str, known: list[str]) -> list[str]:
    asked = [k.strip() for k in os.environ.get(name, "").split(",") if k.strip()]
    strange = [k for k in asked if k not in known]
    if strange:
        raise SystemExit(f"{name} names {', '.join(strange)}; there are {', '.join(known)}.")
    return asked


def _brief(rows: Sequence[Row]) -> str:
    told = []
    for r in rows:
        if r.visible:
            told.append(f"{r.kind} {r.found} of {r.visible}, {r.before:.1f} to {r.after:.1f} dB")
        elif r.left is not None:
            told.append(f"{r.kind} left {100 * r.left:.0f} %")
        else:
            told.append(r.kind)
        if r.worse:
            told.append(f"{r.worse} worse")
    if rows and rows[-1].outside:
        told.append(f"outside {100 * rows[-1].outside:.4f} %")
    return ", ".join(told) or "nothing to see"
