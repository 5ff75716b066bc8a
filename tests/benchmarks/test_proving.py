"""The proving ground: cases come again from their seed, differ from the truth by their defects alone, and are scored as they are."""

from __future__ import annotations

from pathlib import Path

import cv2
import numpy as np
import pytest

from benchmarks.proving import defects, files, run, scenes
from benchmarks.proving.score import calibration, score, table, unsteadiness, weakest, worst

# Luma of ITU-R BT.709, in codes of limited range.
WEIGHTS = np.array([0.2126, 0.7152, 0.0722], np.float32)


def scene(seed: int = 3) -> np.ndarray:
    return scenes.draw("photo coffee", np.random.default_rng(seed)).frames[:12, :120, :160]


def luma(pictures: np.ndarray) -> np.ndarray:
    return np.asarray(16 + 219 / 255 * (pictures @ WEIGHTS), np.float32)


def test_a_seed_draws_the_same_case_again_and_another_draws_another(tmp_path: Path) -> None:
    one, again, other = (run.drawn(s, tmp_path / f"{n}", ["dust"], ["clip carphone_pristine"]) for n, s in enumerate((4, 4, 5)))
    assert one.facts == again.facts != other.facts
    for which in ("clean", "dirty"):
        assert np.array_equal(files.brightness(getattr(one, which)), files.brightness(getattr(again, which)))
    assert not np.array_equal(one.taken.dirty, other.taken.dirty[: len(one.taken.dirty)])


@pytest.mark.parametrize(
    "name", [n for n in scenes.names() if n.split()[0] in ("stereo", "drawn")] + ["photo moon", "clip carphone_pristine"]
)
def test_a_scene_is_light_that_goes_on_and_is_not_still(name: str) -> None:
    # One of them stands before a tripod now and then.
    drawn = scenes.draw(name, np.random.default_rng(4 if name == "drawn front" else 1))
    assert drawn.frames.dtype == np.float32
    assert drawn.frames.min() >= 0
    assert drawn.frames.max() <= 1.001
    assert 24 <= len(drawn.frames) < 60
    change = np.abs(np.diff(scenes.shown(drawn.frames), axis=0)).mean((1, 2, 3))
    # No cut: no frame changes much more than the others do.
    assert 0 < np.median(change) <= change.max() < 12 * np.median(change) + 3


@pytest.mark.parametrize("kind", [k for k in defects.KINDS if not k.startswith("light")])
def test_only_things_that_are_told_of_differ_from_the_truth(kind: str) -> None:
    for seed in range(3):
        taken = defects.taken(scene(), [kind], np.random.default_rng(seed))
        inside = np.zeros(taken.clean.shape[:3], bool)
        for thing in taken.things:
            inside[thing.first : thing.stop] |= thing.mask if thing.mask.ndim == 2 else thing.mask[thing.first : thing.stop]
        # Between sites of the sensor colour is told by those beside, at its edge by those within.
        inside = np.stack([cv2.dilate(m.astype(np.uint8), np.ones((5, 5), np.uint8)) > 0 for m in inside])
        away = np.abs(taken.dirty - taken.clean).max(-1)
        # What fades out beyond a thing's mask is below anything visible.
        assert away[~inside].max() < 8
        assert taken.things
        assert away[inside].max() > 8


@pytest.mark.parametrize("kind", [k for k in defects.KINDS if k.startswith("light")])
def test_light_changes_over_time_and_nothing_else(kind: str) -> None:
    frames = np.repeat(scene()[:1], 24, 0)
    taken = defects.taken(frames, [kind], np.random.default_rng(2))
    assert taken.flickers
    assert not taken.things
    assert unsteadiness(luma(taken.dirty), luma(taken.clean)) > 0.004
    assert unsteadiness(luma(taken.clean), luma(taken.clean)) == 0


@pytest.mark.parametrize("name", files.CODINGS)
def test_brightness_is_read_as_it_was_written(tmp_path: Path, name: str) -> None:
    coding = files.CODINGS[name]
    grey = np.broadcast_to(np.linspace(8, 248, 64, dtype=np.float32)[None, None, :, None], (3, 48, 64, 3))
    path = tmp_path / f"clip{coding.suffix}"
    files.write(path, grey, coding, np.random.default_rng(0))
    told = files.brightness(path)
    wanted = luma(255 * np.log1p(60 * (grey / 255) ** 2.2) / np.log1p(60)) if coding.log else luma(grey)
    assert told.shape == (3, 48, 64)
    # The library scales white of 16 bits to 943 of 10 bits instead of 940.
    assert np.abs(told - wanted).mean() < (1.0 if coding.lossy else 0.6 if coding.is_deep else 0.35)


def scored(made: np.ndarray, taken: defects.Taken, kinds: list[str], told: list[tuple[str, float]] | None = None) -> list:
    return score(
        luma(taken.clean), luma(taken.dirty), made, taken.things, kinds, told or [], {"seed": 1, "scene": "photo coffee", "noise": 0.0}
    )


def test_what_was_left_is_missed_what_was_mended_is_found_and_harm_is_told() -> None:
    taken = defects.taken(scene(), ["dirt"], np.random.default_rng(1))
    clean, dirty = luma(taken.clean), luma(taken.dirty)
    (left,) = scored(dirty, taken, ["dirt"])
    assert left.visible > 3
    assert (left.found, left.worse, left.outside, left.named) == (0, 0, 0.0, False)
    assert left.after == left.before
    (mended,) = scored(clean, taken, ["dirt"], [("film-dirt", 0.9), ("scratch", 0.6)])
    assert (mended.found, mended.after, mended.named) == (mended.visible, 99.0, True)
    assert mended.told == [("film-dirt", 0.9, True), ("scratch", 0.6, False)]
    (worse,) = scored(2 * dirty - clean, taken, ["dirt"])
    assert worse.worse == len(taken.things)
    (changed,) = scored(clean + 1, taken, ["dirt"])
    assert changed.outside is not None
    assert changed.outside > 0.99
    text = "\n".join((table([left, mended, worse]), calibration([mended]), weakest([left, mended, worse]), worst([left, worse])))
    assert "| dirt | 3 |" in text
    assert "seed 1" in text
    assert "nan" not in text


def test_light_that_is_steady_again_leaves_nothing_and_sound_clips_are_told_of() -> None:
    taken = defects.taken(scene(), ["light-whole"], np.random.default_rng(1))
    (row,) = scored(luma(taken.clean), taken, ["light-whole"])
    assert row.left == 0
    (row,) = scored(luma(taken.dirty), taken, ["light-whole"])
    assert row.left == pytest.approx(1)
    taken = defects.taken(scene(), [], np.random.default_rng(1))
    (row,) = scored(luma(taken.dirty), taken, [], [("film-dirt", 0.8)])
    assert (row.kind, row.named, row.outside) == ("sound", True, 0.0)


def test_kinds_nobody_knows_are_named(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setenv("KINDS", "dust, rust")
    with pytest.raises(SystemExit, match="KINDS names rust; there are light-whole"):
        run.run(tmp_path)


def test_a_folder_of_clips_of_ones_own_gives_scenes(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    files.write(tmp_path / "pier.mkv", scenes.shown(scene()), files.CODINGS["8-bit 4:2:0"], np.random.default_rng(0))
    monkeypatch.setenv(scenes.FOLDER, str(tmp_path))
    assert "clip pier" in scenes.names()
    drawn = scenes.draw("clip pier", np.random.default_rng(0))
    assert drawn.frames.shape == (12, 120, 160, 3)


@pytest.mark.sweep
def test_a_case_goes_through_the_command_and_comes_back_scored(tmp_path: Path) -> None:
    case = run.drawn(1, tmp_path, ["dirt"], ["clip carphone_pristine"])
    rows = run.treated(case, tmp_path)
    assert [r.kind for r in rows] == sorted({t.kind for t in case.taken.things}) or [r.kind for r in rows] == ["sound"]
    assert all(r.case["seed"] == 1 for r in rows)
