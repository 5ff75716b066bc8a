"""Pairs of frames that contradict each other tell nothing of the light."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest

from benchmarks.material import MemorySource
from nimbus_sweep.core.defects.unsteady_light.channels import halves_agree
from nimbus_sweep.core.defects.unsteady_light.detect import surveyed
from nimbus_sweep.core.defects.unsteady_light.pairs import Pairs
from nimbus_sweep.core.defects.unsteady_light.solve import disagreement
from nimbus_sweep.core.defects.unsteady_light.stretches import read
from nimbus_sweep.core.evidence.light_record import record
from nimbus_sweep.core.media.layout import picture_format
from nimbus_sweep.wording import note

COUNT = 60


def pairs_of(ratio: np.ndarray, couples: list[tuple[int, int]]) -> Pairs:
    cells = np.broadcast_to(ratio[:, None, None], (len(couples), 4, 5)).astype(np.float32)
    one, other = np.array(couples).T
    return Pairs(COUNT, one, other, cells, cells, np.ones_like(cells), np.zeros((*cells.shape, 2), np.float32), np.zeros_like(cells))


def test_light_that_changes_adds_up_and_what_was_missed_does_not() -> None:
    rng = np.random.default_rng(5)
    light = np.cumsum(rng.normal(0, 0.2, COUNT))
    couples = [(n, n + lag) for lag in (1, 2) for n in range(COUNT - lag)]
    ratio = np.array([light[i] - light[j] for i, j in couples])
    assert disagreement(pairs_of(ratio, couples)) < 1e-6
    missed = ratio + rng.normal(0, 0.05, len(couples))
    assert disagreement(pairs_of(missed, couples)) == pytest.approx(0.05, rel=0.35)
    assert disagreement(pairs_of(missed[:2], couples[:2])) == 0


def test_a_colour_counts_only_where_both_halves_of_the_picture_tell_it() -> None:
    rng = np.random.default_rng(6)
    couples = [(n, n + lag) for lag in (1, 2) for n in range(COUNT - lag)]
    shared, own = rng.normal(0, 0.05, (COUNT, 1, 1)), rng.normal(0, 0.05, (COUNT, 4, 5))

    def colour(course: np.ndarray) -> Pairs:
        made = pairs_of(np.zeros(len(couples)), couples)
        return replace(made, ratio=np.stack([course[i] - course[j] for i, j in couples]).astype(np.float32))

    assert halves_agree(colour(shared + 0.2 * own))
    assert not halves_agree(colour(own)), "each place tells something else"
    assert not halves_agree(colour(0 * own))


def stars(gains: np.ndarray) -> MemorySource:
    """A dark sky whose stars are points, under a camera that pans on by more than they are apart."""
    rng = np.random.default_rng(8)
    sky = np.full((180, 320 + 12 * len(gains)), 8.0)
    sky[rng.integers(0, 180, 2500), rng.integers(0, sky.shape[1], 2500)] = rng.uniform(30, 250, 2500)
    shown = [np.clip(gain * sky[:, 12 * n : 12 * n + 320], 16, 235).astype(np.uint8) for n, gain in enumerate(gains)]
    grey = np.full((90, 160), 128, np.uint8)
    return MemorySource([(y, grey, grey) for y in shown], picture_format("yuv420p", 320, 180))


def test_nothing_is_told_of_a_sky_of_points_that_motion_is_missed_in(tmp_path: Path) -> None:
    told = record(tmp_path / "light", stars(np.ones(24)))
    found, reading = surveyed(told, 0, 24)
    assert found.findings == []
    assert reading is not None
    assert reading.contradicted
    (unclear,) = found.notes
    assert "cannot be told" in note(unclear)
    assert read(told, stretch=12).contradicted
