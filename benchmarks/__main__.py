"""Prints quality on real clips and on the demo's truth, and speed as ratios within this run: ``make bench [ONLY=quality|shade|light|specks|scratches|cues|burns|birds|grain|tracks|plates|demo|speed|survey|survey-memory|shade-speed|light-speed|long|browser|first-minutes|state|cluster|attack|sweeps|job|proving]``."""

from __future__ import annotations

import subprocess
import sys
import tempfile
from pathlib import Path

from benchmarks import (
    attack,
    borrowed,
    browser,
    cluster,
    first_minutes,
    job,
    light,
    planes,
    plates,
    quality,
    shade,
    speed,
    state,
    survey_speed,
    wear,
)
from benchmarks.proving import run as proving


def main() -> None:
    """Run what is asked for, or everything."""
    only = sys.argv[1] if len(sys.argv) > 1 else ""
    with tempfile.TemporaryDirectory(prefix="nimbus-bench-") as folder:
        if only in ("", "quality"):
            quality.clips(Path(folder))
        if only in ("", "shade"):
            shade.clean(Path(folder))
            shade.marks(Path(folder))
        if only in ("", "light"):
            light.run(Path(folder))
        if only in ("", "specks"):
            wear.run()
        if only in ("", "scratches"):
            wear.scratches()
        for name in ("cues", "burns", "birds", "grain"):
            if only in ("", name):
                getattr(borrowed, name)()
        if only in ("", "tracks"):
            planes.run()
        if only in ("", "plates"):
            plates.run()
        if only in ("", "demo"):
            quality.demo(Path(folder))
        if only in ("", "speed"):
            speed.run(Path(folder))
        if only in ("", "survey"):
            survey_speed.run(Path(folder))
        if only in ("", "survey-memory"):
            survey_speed.memory(Path(folder))
        if only in ("", "speed", "shade-speed"):
            speed.shade(Path(folder))
        if only in ("", "speed", "light-speed"):
            speed.light(Path(folder))
        if only in ("", "long"):
            browser.long_log(speed.long_reel(Path(folder)), Path(folder))
        if only in ("", "browser"):
            browser.run(Path(folder))
        if only in ("", "first-minutes"):
            first_minutes.run(Path(folder))
        if only in ("", "state"):
            state.run(Path(folder))
        if only in ("", "cluster"):
            cluster.run(Path(folder))
        if only in ("", "attack"):
            attack.run(Path(folder))
        if only == "job":
            # By itself alone, as the next: SEED and COUNT say which clips.
            job.run(Path(folder))
        if only == "proving":
            # By itself alone: it takes hours. SEED and COUNT say which cases.
            proving.run(Path(folder))
        if only in ("", "sweeps"):
            # The tests again, on the clips and seeds that are too many for each run.
            subprocess.run([sys.executable, "-m", "pytest", "-q", "-n", "2", "--dist", "worksteal", "-m", "sweep", "tests"])


if __name__ == "__main__":
    main()
