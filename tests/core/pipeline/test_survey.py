"""A survey ends with an answer, whatever it is given: nothing to see, too little to tell, or a detector that fails."""

from __future__ import annotations

import logging
import shutil
import threading
import warnings
from collections.abc import Callable
from pathlib import Path

import cv2
import numpy as np
import pytest

from benchmarks.material import MemorySource, Planes
from nimbus_sweep import wording
from nimbus_sweep.core.base.errors import Cancelled, DiskFull
from nimbus_sweep.core.defects.static_shade import kind as static_shade
from nimbus_sweep.core.defects.static_shade.fit import fit_loss, fit_veil, prove
from nimbus_sweep.core.defects.static_shade.sights import PairViews
from nimbus_sweep.core.evidence import moments
from nimbus_sweep.core.evidence.frames_at_hand import Span
from nimbus_sweep.core.evidence.light_record import record
from nimbus_sweep.core.evidence.shot_evidence import ShotEvidence
from nimbus_sweep.core.evidence.time_volume import build_volume
from nimbus_sweep.core.imaging.stack_statistics import robust
from nimbus_sweep.core.media.layout import picture_format
from nimbus_sweep.core.model.registry import DEFECTS
from nimbus_sweep.core.pipeline.survey import Surveyed, survey
from tests.conftest import small

HEIGHT, WIDTH = 36, 64
RNG = np.random.default_rng(5)
TEXTURE = cv2.resize(RNG.integers(16, 235, (30, 60)).astype(np.uint8), None, fx=4, fy=4, interpolation=cv2.INTER_CUBIC)


def window(x: int, y: int = 10) -> np.ndarray:
    return np.ascontiguousarray(TEXTURE[y : y + HEIGHT, x : x + WIDTH])


def marked(frame: int) -> np.ndarray:
    luma = window(5 * frame % 100)
    cv2.circle(luma, (WIDTH // 2, HEIGHT // 2), 3, 16, -1)
    cv2.circle(luma, (WIDTH - 1, HEIGHT // 4), 3, 16, -1)
    return luma


ODD: dict[str, Callable[[int], np.ndarray]] = {
    "black": lambda n: np.full((HEIGHT, WIDTH), 16, np.uint8),
    "one grey": lambda n: np.full((HEIGHT, WIDTH), 90, np.uint8),
    "nothing but noise": lambda n: np.random.default_rng(n).integers(16, 235, (HEIGHT, WIDTH)).astype(np.uint8),
    "a still": lambda n: window(3),
    "half of it black": lambda n: np.where(np.arange(WIDTH) < WIDTH // 2, 16, window(3 * n % 100)).astype(np.uint8),
    "a cut every other frame": lambda n: window(31 * (n // 2) % 100, 17 * (n // 2) % 60),
    "a mark in the middle and one at the edge": marked,
    "every other frame dark": lambda n: (16 + (window(3) - 16.0) * (0.6 if n % 2 else 1)).astype(np.uint8),
}


def source_of(frames: list[np.ndarray]) -> MemorySource:
    grey = np.full((HEIGHT // 2, WIDTH // 2), 128, np.uint8)
    pictures: list[Planes] = [(luma, grey, grey) for luma in frames]
    return MemorySource(pictures, picture_format("yuv420p", WIDTH, HEIGHT))


def surveyed(source: MemorySource, folder: Path) -> Surveyed:
    volume, light = build_volume(folder / "volume.bin", source), record(folder / "light", source)
    return survey(
        ShotEvidence(volume, 0, len(source), light=light, frames=Span.of(source, 0, len(source)), scratch=folder / "steadied.bin")
    )


@pytest.mark.slow
@pytest.mark.parametrize("frames", [1, 2, 5, 13])
@pytest.mark.parametrize("name", list(ODD))
def test_odd_clips_leave_no_detector_without_an_answer(name: str, frames: int, tmp_path: Path) -> None:
    source = source_of([ODD[name](n) for n in range(frames)])
    with warnings.catch_warnings():
        # What NumPy only warns of, an empty mean or a division by nothing, is a fault here.
        warnings.simplefilter("error", RuntimeWarning)
        told = surveyed(source, tmp_path)
    assert not [note for note in told.notes if note.code == "failed"]


@pytest.mark.slow
def test_a_detector_that_fails_is_told_and_the_others_go_on(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch, caplog: pytest.LogCaptureFixture
) -> None:
    def fails(*_: object) -> Surveyed:
        raise IndexError("index 0 is out of bounds")

    asked = []
    monkeypatch.setattr(static_shade, "surveyed", fails)
    source = small(8)
    volume = build_volume(tmp_path / "volume.bin", source)
    with caplog.at_level(logging.ERROR):
        told = survey(ShotEvidence(volume, 0, 8, frames=Span.of(source, 0, 8)), asked.append)
    (note,) = [said for n in told.notes if "could not be looked for" in (said := wording.note(n))]
    assert note.startswith("Dust, hairs and lens dirt could not be looked for (IndexError)")
    (entry,) = [r for r in caplog.records if r.exc_info]
    assert entry.getMessage().split(":")[0] in note, "the note names the line of the log"
    assert asked[-1] > 0.9, "what comes after it was looked for"


@pytest.mark.slow
def test_a_failure_of_what_all_watches_share_is_told_for_each(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    def fails(*_: object, **__: object) -> None:
        raise IndexError("no such frame")

    monkeypatch.setattr(moments, "flow", fails)
    source = small(8)
    volume = build_volume(tmp_path / "volume.bin", source)
    told = survey(ShotEvidence(volume, 0, 8, frames=Span.of(source, 0, 8)))
    failed = [n for n in told.notes if n.code == "failed"]
    assert {n.kind for n in failed} == {k.kind for k in DEFECTS.values() if k.watch is not None}
    assert len({n.values["mark"] for n in failed}) == 1


@pytest.mark.slow
def test_progress_goes_up_to_the_end_and_what_goes_on_beside_is_stopped(tmp_path: Path) -> None:
    source = small(8)
    evidence = ShotEvidence(build_volume(tmp_path / "volume.bin", source), 0, 8, frames=Span.of(source, 0, 8))
    shares: list[float] = []
    survey(evidence, shares.append)
    assert shares == sorted(shares)
    assert shares[-1] == 1

    def stops(share: float) -> None:
        if share > 0.1:
            raise Cancelled

    before = threading.active_count()
    with pytest.raises(Cancelled):
        survey(evidence, stops)
    assert threading.active_count() == before


def test_no_room_for_what_is_measured_is_said_before_it_begins(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(shutil, "disk_usage", lambda _: shutil._ntuple_diskusage(10**9, 10**9 - 1000, 1000))  # type: ignore[attr-defined]
    with pytest.raises(DiskFull, match=r"takes 0 MB in .*, and 0 MB are free"):
        build_volume(tmp_path / "volume.bin", small(4))
    assert not list(tmp_path.iterdir())


def test_stopping_is_no_failure_of_a_detector(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    def stops(*_: object) -> Surveyed:
        raise Cancelled

    monkeypatch.setattr(static_shade, "surveyed", stops)
    with pytest.raises(Cancelled):
        survey(ShotEvidence(build_volume(tmp_path / "volume.bin", small(4)), 0, 4))


def half_seen(half: int) -> PairViews:
    """Pairs of one half of the evidence alone."""
    shape = (6, 24, 24)
    own = np.full(shape, 60, np.float32)
    at = np.zeros((*shape, 2), np.float32)
    return PairViews(own, own * 2, np.ones(shape, np.float32), at, np.zeros((6, 2), np.int64), np.full(6, half), 20.0, 2.0, 1.0)


@pytest.mark.parametrize("half", [0, 1])
def test_no_evidence_in_a_half_proves_nothing(half: int) -> None:
    inner = np.zeros((24, 24), np.float32)
    inner[8:16, 8:16] = 1
    seen = half_seen(half)
    fit = fit_loss(seen, inner)
    assert not fit.halves[1 - half].any()
    assert prove(seen, fit, inner).agree == 0
    veil = fit_veil(seen, inner)
    assert veil is None or not veil.halves[1 - half].any()


def test_nothing_is_proven_of_no_place_at_all() -> None:
    seen, nowhere = half_seen(0), np.zeros((24, 24), np.float32)
    assert prove(seen, fit_loss(seen, nowhere), nowhere).depth == 0
    assert fit_veil(seen, nowhere) is None
    mean, mass = robust(np.zeros((0, 4, 4), np.float32), np.zeros((0, 4, 4), np.float32))
    assert mean.shape == mass.shape == (4, 4)
    assert not mean.any()
