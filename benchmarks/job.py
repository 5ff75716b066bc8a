"""A whole job of drawn clips: run unattended, its list decided by who knows the truth, and delivered.

SEED and COUNT say which clips; sound ones are among them.
"""

from __future__ import annotations

import os
import shutil
import subprocess
import sys
import time
from collections.abc import Sequence
from pathlib import Path
from typing import Any

import numpy as np

from benchmarks.proving import defects, files
from benchmarks.proving.run import Case, drawn
from benchmarks.proving.score import Row, found_as, score, table
from nimbus_sweep.core.media.opening import open_reel
from nimbus_sweep.jobs import eyes, runs, work
from nimbus_sweep.jobs.queue import Queue
from nimbus_sweep.jobs.tasks import FinishSettings, RenderDone, result_of
from nimbus_sweep.store.data import DataFolder
from nimbus_sweep.store.models import Eye, Job, Reel, Task, open_database

# Mean square error, in codes, from which a place is trouble.
_TROUBLE = 16.0
_NOT_ASKED_FOR = [k for k in defects.KINDS if k != "birds"]


def run(folder: Path) -> None:
    """Print what a run reached, what the list was worth, and what was reached after it."""
    seed, count = int(os.environ.get("SEED", "1")), int(os.environ.get("COUNT", "20"))
    reels, out = folder / "reels", folder / "out"
    reels.mkdir()
    cases: dict[str, Case] = {}
    for n in range(seed, seed + count):
        case = drawn(n, folder / str(n), _NOT_ASKED_FOR)
        name = f"{n}{case.dirty.suffix}"
        shutil.copy2(case.dirty, reels / name)
        cases[name] = case
    print(
        f"\nA job of {count} drawn clips, seeds {seed} to {seed + count - 1}: {sum(not c.kinds for c in cases.values())} sound", flush=True
    )
    began = time.perf_counter()
    done = subprocess.run([sys.executable, "-m", "nimbus_sweep", "run", str(reels), "--out", str(out)], capture_output=True, text=True)
    print(f"  run in {time.perf_counter() - began:.0f} s\n{done.stdout}{done.stderr}", flush=True)
    data = DataFolder((out / "job").resolve())
    opened = open_database(data.database)
    job = Job.get()
    print(f"\nAs it was run\n{table(_scored(data, cases))}", flush=True)
    _exact(data, cases)
    queue = Queue(data)
    troubles, decisions, entries = [], 0, eyes.open_of(job).count()
    per_reel = [Eye.select().where(Eye.reel == reel, Eye.shown).count() for reel in job.reels]
    every = list(eyes.open_of(job))
    troubles = [_is_trouble(eye, cases[Path(eye.reel.path).name]) for eye in every]
    while (eye := eyes.open_of(job).first()) is not None:
        case = cases[Path(eye.reel.path).name]
        fits = _is_trouble(eye, case)
        state = "accepted" if eye.kind != "doubtful" or fits else "left"
        if eye.kind == "meant":
            state = "left" if fits else "accepted"
        alike = [e for e in eyes.like(eye) if _is_trouble(e, cases[Path(e.reel.path).name]) == fits]
        eyes.decide(queue, [eye, *alike], state, "who knows the truth")
        decisions += 1
    print(f"\nThe list: {entries} entries, {max(per_reel, default=0)} a reel at most, decided on in {decisions} times")
    tenth = max(1, len(troubles) // 10)
    if troubles:
        print(
            f"  trouble in its first tenth {np.mean(troubles[:tenth]):.0%}, in its last {np.mean(troubles[-tenth:]):.0%}, in all {np.mean(troubles):.0%}"
        )
    runs.finish(queue, job, FinishSettings())
    for task in list(Task.select().where(Task.state == "waiting").order_by(Task.id)):
        opened.close()
        work.perform(data, task.id)
        opened.connect(reuse_if_open=True)
    print(f"\nAfter the list\n{table(_scored(data, cases))}")
    opened.close()


def _delivered(data: DataFolder, reel: Reel) -> Path | None:
    task = Task.select().where(Task.reel == reel, Task.kind == "render", Task.state == "done").order_by(Task.id.desc()).first()
    return None if task is None else data.delivery(task.id, result_of(task, RenderDone).file)


def _scored(data: DataFolder, cases: dict[str, Case]) -> list[Row]:
    from nimbus_sweep.store import edits

    rows: list[Row] = []
    for reel in Reel.select():
        case, made = cases[Path(reel.path).name], _delivered(data, reel)
        if made is None:
            rows.append(Row(case.facts, "failed", visible=1))
            continue
        told = [(f.kind, f.confidence if not f.chosen else 1.0) for s in edits.shots_of(reel) for f in s.findings if f.state == "kept"]
        clean, dirty, back = (files.brightness(p) for p in (case.clean, case.dirty, made))
        np.save(case.dirty.parent / "brightness.npy", back)
        rows += score(clean, dirty, back, case.taken.things, case.kinds, told, case.facts)
    return rows


def _exact(data: DataFolder, cases: dict[str, Case]) -> None:
    """How many of the sound reels came back bit for bit."""
    same, sound = 0, 0
    for reel in Reel.select():
        made = _delivered(data, reel)
        if cases[Path(reel.path).name].kinds or made is None:
            continue
        sound += 1
        one, other = open_reel(Path(reel.path)), open_reel(made)
        pairs = zip(one.frames(0, len(one)), other.frames(0, len(other)), strict=True)
        same += all((a == b).all() for f, g in pairs for a, b in zip(f.planes, g.planes, strict=True))
    print(f"\n{same} of {sound} sound clips came back bit for bit")


def _is_trouble(eye: Eye, case: Case) -> bool:
    """Whether what an entry is about is really wrong."""
    about: dict[str, Any] = eye.values.get("about", {})
    kinds: Sequence[str] = case.kinds
    if eye.kind in ("doubtful", "meant", "left"):
        return any(found_as(k) == about.get("kind") for k in kinds) and _overlaps(eye, case, about.get("kind", ""))
    if eye.kind == "note":
        return any(found_as(k) == eye.values["note"]["kind"] for k in kinds)
    if eye.kind in ("place", "brought"):
        made = case.dirty.parent / "brightness.npy"
        if not made.exists():
            return False
        at = np.s_[eye.y : eye.y + eye.height, eye.x : eye.x + eye.width]
        back, clean = np.load(made)[eye.frame][at], files.brightness(case.clean)[eye.frame][at]
        return bool(((back - clean) ** 2).mean() > _TROUBLE)
    return True


def _overlaps(eye: Eye, case: Case, kind: str) -> bool:
    """Whether a defect of the kind lies in an entry's box; one of the whole picture lies everywhere."""
    things = [t for t in case.taken.things if found_as(t.kind) == kind]
    if not things or not eye.width:
        return bool(things) or any(k.startswith("light") for k in case.kinds)
    at = np.s_[max(0, eye.y - 2) : eye.y + eye.height + 2, max(0, eye.x - 2) : eye.x + eye.width + 2]
    return any((t.mask if t.mask.ndim == 2 else t.mask.any(0))[at].any() for t in things)
