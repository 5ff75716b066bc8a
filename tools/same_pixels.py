"""Records SHA-256 of treated frames and the findings of fixed shots, one for each kind of step; tells whether they are still the same.

``python tools/same_pixels.py record`` before a change of structure, ``check`` after it, on the same machine with the same libraries.
It uses the command line alone, so that it does not have to be changed with what it watches over.
"""

from __future__ import annotations

import base64
import hashlib
import json
import subprocess
import sys
import tempfile
import zlib
from dataclasses import replace
from pathlib import Path
from typing import Any

import av
import numpy as np

from nimbus_sweep.demo.carriers import GULLS, Carrier, Worn
from nimbus_sweep.demo.reels import REELS, SHADED, UNSTEADY

KEPT = Path(__file__).with_suffix(".json")
WORN = Worn(film=48, burn=(20, 28), cue=7, size=(360, 480))
DRAWN: dict[str, Any] = {
    "pan": replace(REELS[0], frames=72, halved=True),
    "dusty": replace(SHADED[0], frames=60),
    "lamps": replace(UNSTEADY[0], frames=40),
    "clouds": replace(UNSTEADY[1], frames=48, halved=True),
    "worn": Carrier("worn.mov", WORN.film * 5 // 4, WORN.make),
    "gulls": GULLS,
}


def _path(frames: int) -> str:
    """A track that drifts: corners, misfit, looseness and state of each frame, as a recipe holds them."""
    corners = np.array([[100, 80], [220, 80], [220, 170], [100, 170]], float)
    rows = [np.append((corners + np.array([0.4 * n, 0.2 * n])).ravel(), [0.5, 0.1]) for n in range(frames)]
    return base64.b64encode(zlib.compress(np.array(rows, "<f4").tobytes() + np.zeros(frames, np.uint8).tobytes(), 9)).decode()


def _ellipse(frame: int = 0, track: str = "", **at: float) -> dict[str, Any]:
    shape = {"kind": "ellipse", "x": 160, "y": 120, "across": 40, "down": 30} | at
    return {"parts": [{"keys": [{"frame": frame, "shape": shape}], "track": track}]}


_STROKE = {"frame": 10, "points": [[150, 100], [180, 120]], "size": 24, "lends": 12}
_TRACK = {
    "name": "Door",
    "model": "translation",
    "reference": 0,
    "region": _ellipse(),
    "size": [360, 480],
    "box": [100, 80, 220, 170],
    "path": _path(50),
}
_GRAIN = {"name": "Y", "levels": [40.0, 128.0, 200.0], "sigma": [3.0, 4.0, 3.5], "width": 0.6}

# Reel, and the steps with what differs from their usual settings.
CASES: dict[str, tuple[str, list[dict[str, Any]]]] = {
    "pixel-mend": ("pan", [{"kind": "pixel-mend"}]),
    "unshade": ("dusty", [{"kind": "unshade"}]),
    "steady-bands": ("lamps", [{"kind": "steady-bands"}]),
    "steady-frame": ("clouds", [{"kind": "steady-frame", "settings": {"takes": "all"}}]),
    "steady-patches": ("clouds", [{"kind": "steady-patches"}]),
    "speck-sweep": ("worn", [{"kind": "speck-sweep"}]),
    "line-lift": ("worn", [{"kind": "line-lift"}]),
    "cue-lift": ("worn", [{"kind": "cue-lift"}]),
    "borrow-fill": ("worn", [{"kind": "borrow-fill", "settings": {"first": 10, "stop": 14}, "region": _ellipse(10)}]),
    "region-median": ("worn", [{"kind": "region-median", "region": _ellipse() | {"feather": 4}}]),
    "retouch": (
        "worn",
        [{"kind": "retouch", "settings": {"strokes": [_STROKE, _STROKE | {"mode": "blend", "lends": None, "across": 60}]}}],
    ),
    "frame-blend": ("worn", [{"kind": "frame-blend", "settings": {"aligned": True, "amount": 0.7}}]),
    "lend-grain": ("worn", [{"kind": "match-grain", "settings": {"like": [_GRAIN]}}]),
    "plate-patch": ("worn", [{"kind": "plate-patch", "region": _ellipse(track="Door")}]),
    "reframe": ("worn", [{"kind": "reframe", "settings": {"left": 12, "top": 8, "right": 10, "bottom": 6, "track": "Door"}}]),
    "fleeting": ("gulls", [{"kind": "fleeting", "settings": {"stop": 24}}]),
    "several": (
        "worn",
        [
            {"kind": "steady-frame", "hold_out": _ellipse(x=60, y=60)},
            {"kind": "speck-sweep", "settings": {"sure": 0.7}, "hold_out": _ellipse(x=300)},
            {"kind": "line-lift"},
            {"kind": "match-grain", "settings": {"like": [_GRAIN], "amount": 0.5}, "region": _ellipse(track="Door")},
        ],
    ),
}


def _told(*words: str) -> str:
    done = subprocess.run([sys.executable, "-m", "nimbus_sweep", *words], capture_output=True, text=True)
    if done.returncode:
        sys.exit(f"nimbus-sweep {' '.join(words)} ended with {done.returncode}: {done.stderr[-2000:]}")
    return done.stdout


def _findings(reel: Path) -> list[list[Any]]:
    """What the survey says, as far as it is no wording."""
    names = ("step", "x", "y", "width", "height", "first", "stop", "confidence")
    return [[f[name] for name in names] for f in json.loads(_told("survey", str(reel), "--json", "-"))["findings"]]


def _pixels(path: Path) -> str:
    """SHA-256 of all samples of a file."""
    told = hashlib.sha256()
    with av.open(path) as container:
        for frame in container.decode(video=0):
            told.update(frame.to_ndarray().tobytes())
    return told.hexdigest()


def measured() -> dict[str, Any]:
    """Findings of each reel, and SHA-256 of what each recipe makes of it."""
    found: dict[str, Any] = {}
    pixels: dict[str, str] = {}
    with tempfile.TemporaryDirectory(prefix="same-pixels-") as name:
        folder = Path(name)
        reels = {key: reel.draw(folder, lambda share: None) or folder / reel.file for key, reel in DRAWN.items()}
        for key, reel in reels.items():
            found[key] = _findings(reel)
            print(f"{key}: {len(found[key])} findings", flush=True)
        for case, (key, steps) in CASES.items():
            recipe = folder / f"{case}.json"
            tracks = [_TRACK] if key == "worn" else []
            recipe.write_text(json.dumps({"format": "nimbus-sweep recipe", "version": 1, "steps": steps, "tracks": tracks}))
            out = folder / f"{case}.mkv"
            _told("treat", str(reels[key]), str(out), "--recipe", str(recipe))
            pixels[case] = _pixels(out)
            print(f"{case}: {pixels[case][:16]}{' (nothing changed)' if pixels[case] == _pixels(reels[key]) else ''}", flush=True)
            out.unlink()
    return {"findings": found, "pixels": pixels}


def main() -> None:
    """Record, or check against what was recorded."""
    way = sys.argv[1] if len(sys.argv) == 2 else ""
    if way not in ("record", "check"):
        sys.exit("Say record or check.")
    now = measured()
    if way == "record":
        KEPT.write_text(json.dumps(now, indent=1) + "\n")
        return
    before = json.loads(KEPT.read_text())
    unlike = [f"{part} of {key}" for part in before for key in before[part] if before[part][key] != now[part].get(key)]
    if unlike:
        KEPT.with_suffix(".now.json").write_text(json.dumps(now, indent=1) + "\n")
        sys.exit(f"Not as before: {', '.join(unlike)}.")
    print("All as before.")


if __name__ == "__main__":
    main()
