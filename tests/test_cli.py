"""The command line: in this process for speed, as a program, and on a terminal of its own."""

from __future__ import annotations

import json
import os
import select
import signal
import subprocess
import sys
import termios
import time
from pathlib import Path

import cv2
import numpy as np
import pytest
from click.testing import CliRunner

from benchmarks.material import MemorySource
from nimbus_sweep.cli import main
from nimbus_sweep.core.media.layout import picture_format
from nimbus_sweep.core.media.reader import MovieReader
from tests.conftest import SITES, decoded, interruptible, small, write_movie


def run(*words: object) -> subprocess.CompletedProcess[str]:
    """A command, without the seconds a program of its own takes to start."""
    told = CliRunner().invoke(main, list(map(str, words)))
    return subprocess.CompletedProcess(words, told.exit_code, told.stdout, told.stderr)


@pytest.fixture(autouse=True)
def _surveyed_once(surveyed_once: None) -> None:
    """Commands in this process share surveys."""


def program(*words: object) -> subprocess.CompletedProcess[str]:
    return subprocess.run([sys.executable, "-m", "nimbus_sweep", *map(str, words)], capture_output=True, text=True)


def test_survey_treat_verify(tmp_path: Path, reel: Path) -> None:
    told = program("survey", reel, "--json", "-")
    assert told.returncode == 0, told.stderr
    found = [f for f in json.loads(told.stdout)["findings"] if f["suggested"]]
    assert {(f["x"], f["y"]) for f in found} == {(s.x, s.y) for s in SITES}
    out = tmp_path / "out.mkv"
    done = run("treat", reel, out, "--suggested", "--report", tmp_path / "report.json")
    assert done.returncode == 0, done.stderr
    assert "Pixel mend" in done.stderr
    one, other = MovieReader(reel), MovieReader(out)
    assert (one.format, one.rate, len(one), len(one.facts.sounds)) == (other.format, other.rate, len(other), len(other.facts.sounds))
    proof = run("verify", reel, out, "--json")
    assert proof.returncode == 0, proof.stdout
    figures = json.loads(proof.stdout)
    assert figures["proven"]
    assert figures["outside"] == 0
    assert figures["differing"] > 0
    assert sorted(p.name for p in tmp_path.iterdir()) == ["out.mkv", "reel.mkv", "report.json"]
    recipe = tmp_path / "recipe.json"
    recipe.write_text(json.dumps(json.loads((tmp_path / "report.json").read_text())["shots"][0]["recipe"]))
    again = run("treat", reel, tmp_path / "again.mkv", "--recipe", recipe)
    assert again.returncode == 0, again.stderr
    assert all(np.array_equal(a, b) for a, b in zip(decoded(out), decoded(tmp_path / "again.mkv"), strict=True))


@pytest.mark.parametrize("quality", ["18", "23", "26"])
def test_a_sound_reel_comes_back_identical(tmp_path: Path, quality: str) -> None:
    path = write_movie(tmp_path / "sound.mp4", small(30), "libx264", options={"crf": quality, "bf": "2"}, sound=True)
    assert run("treat", path, tmp_path / "out.mkv", "--suggested").returncode == 0
    assert all(np.array_equal(a, b) for a, b in zip(decoded(path), decoded(tmp_path / "out.mkv"), strict=True))
    assert run("verify", path, tmp_path / "out.mkv").returncode == 0


def test_a_range(tmp_path: Path, reel: Path) -> None:
    assert run("treat", reel, tmp_path / "out.mkv", "--steps", "pixel-mend", "--range", "5:25").returncode == 0
    assert json.loads(run("verify", reel, tmp_path / "out.mkv", "--json").stdout)["changed_frames"] == [[5, 24]]


def test_verify_fails_when_something_else_changed(tmp_path: Path, reel: Path, clean) -> None:
    other = write_movie(tmp_path / "other.mkv", clean, sound=True)
    told = run("verify", reel, other)
    assert told.returncode == 1
    assert "carries no report" in told.stdout


@pytest.mark.parametrize(
    ("words", "status", "said"),
    [
        (["treat", "REEL", "OUT.mkv", "--suggested", "--steps", "pixel-mend"], 2, "Name one of"),
        (["treat", "REEL", "OUT.mp4", "--suggested"], 2, "the ending .mkv"),
        (["treat", "REEL", "OUT.mkv", "--steps", "polish"], 2, "no step called polish"),
        (["treat", "REEL", "OUT.mkv", "--suggested", "--range", "9:5"], 2, "A:B"),
        (["treat", "REEL", "OUT.mkv", "--suggested", "--range", "0:999"], 2, "goes beyond"),
        (["treat", "REEL", "REEL", "--suggested"], 2, "never written to"),
        (["treat", "NONE", "OUT.mkv", "--suggested"], 1, "no such file"),
        (["treat", "REEL", "NOFOLDER/out.mkv", "--suggested"], 1, "There is no folder"),
        (["treat", "REEL", "OUT.mkv", "--recipe", "NONE"], 1, "cannot be read"),
        (["survey", "TEXT"], 1, "cannot be read as a movie"),
        (["survey"], 2, "Missing argument"),
        (["polish"], 2, "No such command"),
        (["verify", "REEL", "TEXT"], 1, "cannot be read as a movie"),
    ],
)
def test_mistakes_are_explained(tmp_path: Path, reel: Path, words: list[str], status: int, said: str) -> None:
    text = tmp_path / "notes.mp4"
    text.write_text("Fog signal log, not a movie\n" * 300)
    names = {
        "REEL": reel,
        "NONE": tmp_path / "none.mkv",
        "TEXT": text,
        "OUT.mkv": tmp_path / "OUT.mkv",
        "OUT.mp4": tmp_path / "OUT.mp4",
        "NOFOLDER/out.mkv": tmp_path / "nofolder" / "out.mkv",
    }
    done = run(*[names.get(w, w) for w in words])
    assert done.returncode == status, done.stderr
    assert said in done.stderr
    assert "Traceback" not in done.stderr
    assert not (tmp_path / "OUT.mkv").exists()
    assert not list(tmp_path.glob(".nimbus*"))


def test_a_truncated_reel_only_if_the_user_says_so(tmp_path: Path, reel: Path) -> None:
    data = reel.read_bytes()
    reel.write_bytes(data[: len(data) * 2 // 3])
    refused = run("treat", reel, tmp_path / "out.mkv", "--suggested")
    assert refused.returncode == 1
    assert "frames are missing" in refused.stderr
    assert "--accept-missing" in refused.stderr
    done = run("treat", reel, tmp_path / "out.mkv", "--suggested", "--accept-missing")
    assert done.returncode == 0, done.stderr
    assert json.loads(run("verify", reel, tmp_path / "out.mkv", "--json").stdout)["outside"] == 0


def test_an_existing_file_is_not_replaced_unasked(tmp_path: Path, reel: Path) -> None:
    out = tmp_path / "out.mkv"
    out.write_bytes(b"mine")
    assert run("treat", reel, out, "--suggested").returncode == 1
    assert out.read_bytes() == b"mine"
    assert run("treat", reel, out, "--suggested", "--overwrite").returncode == 0
    assert len(MovieReader(out)) == 30


@pytest.mark.parametrize(("width", "height", "frames"), [(161, 73, 12), (1, 1, 12), (7, 3, 9), (64, 48, 1)])
def test_odd_sizes_and_single_frames_come_back_untouched(tmp_path: Path, width: int, height: int, frames: int) -> None:
    layout = picture_format("yuv444p", width, height)
    rng = np.random.default_rng(width)
    base = [rng.integers(60, 180, shape, np.uint8) for shape in layout.plane_shapes]
    pictures = [tuple(cv2.blur(np.roll(p, 2 * n, 1), (5, 5)).reshape(p.shape) for p in base) for n in range(frames)]
    path = write_movie(tmp_path / "odd.mkv", MemorySource(pictures, layout))
    for way in ("--suggested", "--steps=pixel-mend"):
        out = tmp_path / f"out{way[2:5]}.mkv"
        done = run("treat", path, out, way)
        assert done.returncode == 0, done.stderr
        assert all(np.array_equal(a, b) for a, b in zip(decoded(path), decoded(out), strict=True))


def on_a_terminal(*words: object, stop_after: float | None = None) -> tuple[int, str]:
    """Run on a terminal of its own; press Ctrl+C after some seconds if asked."""
    ours, theirs = os.openpty()
    termios.tcsetwinsize(theirs, (24, 100))
    process = subprocess.Popen(
        [sys.executable, "-m", "nimbus_sweep", *map(str, words)],
        stdout=theirs,
        stderr=theirs,
        stdin=theirs,
        start_new_session=True,
        preexec_fn=interruptible,
    )
    os.close(theirs)
    said = b""
    began = time.monotonic()
    while True:
        ready, _, _ = select.select([ours], [], [], 0.2)
        if ready:
            try:
                said += os.read(ours, 4096)
            except OSError:
                break
        if stop_after is not None and time.monotonic() - began > stop_after and b"Rendering" in said:
            process.send_signal(signal.SIGINT)
            stop_after = None
    os.close(ours)
    return process.wait(30), said.decode(errors="replace")


def test_progress_on_a_terminal(tmp_path: Path, reel: Path) -> None:
    status, said = on_a_terminal("treat", reel, tmp_path / "out.mkv", "--suggested")
    assert status == 0
    for stage in ("Reading", "Surveying", "Analysing", "Rendering"):
        assert stage in said
    assert "%|" in said


def test_stopping_by_hand_leaves_nothing(tmp_path: Path) -> None:
    path = write_movie(tmp_path / "long.mkv", large(90))
    status, said = on_a_terminal("treat", path, tmp_path / "out.mkv", "--steps", "pixel-mend", stop_after=0.1)
    assert status == 1
    assert "Stopped" in said
    assert "Traceback" not in said
    assert [p.name for p in tmp_path.iterdir()] == ["long.mkv"]


def large(frames: int) -> MemorySource:
    """Frames that take a while to encode."""
    layout = picture_format("yuv444p", 640, 480)
    rng = np.random.default_rng(0)
    noise = [rng.integers(16, 235, (480, 640), np.uint8) for _ in range(3)]
    return MemorySource([tuple(np.roll(p, n, 0) for p in noise) for n in range(frames)], layout)


@pytest.mark.parametrize(("reels", "said"), [("one", "by their numbers"), ("99", "There is no demo reel 99")])
def test_demo_reels_are_named_by_numbers(reels: str, said: str, tmp_path: Path) -> None:
    told = program("demo", "--data", tmp_path, "--reels", reels)
    assert told.returncode and said in told.stderr


def test_a_sequence_with_pictures_that_cannot_be_read_is_treated_when_that_is_accepted(tmp_path: Path) -> None:
    folder = tmp_path / "fog"
    folder.mkdir()
    rng = np.random.default_rng(4)
    for n in range(12):
        cv2.imwrite(str(folder / f"fog.{n:04d}.png"), rng.integers(0, 255, (48, 64, 3), np.uint8))
    whole = (folder / "fog.0003.png").read_bytes()
    (folder / "fog.0003.png").write_bytes(whole[: len(whole) // 2])
    (folder / "fog.0007.png").write_bytes(b"not a picture at all")
    refused = run("treat", folder, tmp_path / "out", "--steps", "pixel-mend")
    assert refused.returncode == 1
    assert "pictures cannot be read, the first fog.0003.png" in refused.stderr
    assert "--accept-missing" in refused.stderr
    assert not (tmp_path / "out").exists()
    accepted = run("treat", folder, tmp_path / "out", "--steps", "pixel-mend", "--accept-missing", "--report", tmp_path / "report.json")
    assert accepted.returncode == 0, accepted.stderr
    assert json.loads((tmp_path / "report.json").read_text())["missing"] == 2


def test_a_folder_is_done_unattended_stopped_and_gone_on_with(tmp_path: Path, reel: Path) -> None:
    folder, out = tmp_path / "reels", tmp_path / "out"
    folder.mkdir()
    (folder / "mast.mkv").write_bytes(reel.read_bytes())
    (folder / "notes.txt").write_text("no reel")
    write_movie(folder / "path.mkv", small(24, name="bikes-1"))
    (folder / "broken.mov").write_bytes(b"nothing of use" * 99)
    done = run("run", folder, "--out", out)
    assert done.returncode == 1
    assert "1 reel was not done; the others were" in done.stderr
    assert "path: sound" in done.stdout
    assert {p.name for p in out.iterdir()} >= {"job", "report.json", "mast-treated.mkv", "path-treated.mkv", "mast-treatment.html"}
    told = json.loads((out / "report.json").read_text())["reels"]
    assert [t["state"] for t in told] == ["failed", "done", "done"]
    assert told[1]["found"] == len(SITES) and told[2]["treated"] == 0
    assert "broken" in told[0]["reel"] and told[0]["error"]
    again = run("run", folder, "--out", out)
    assert again.returncode == 1 and "holds a run already" in again.stderr
    resumed = run("run", folder, "--out", out, "--resume")
    assert "mast: 3 mended" in resumed.stdout, "what was done is told again and not done again"
    assert "There is nothing to go on with" in run("run", folder, "--out", tmp_path / "none", "--resume").stderr
    assert "No reel was found" in run("run", out / "job", "--out", tmp_path / "b").stderr
    assert run("run", folder, "--out", tmp_path / "c", "--deliver", "vhs").returncode == 2
