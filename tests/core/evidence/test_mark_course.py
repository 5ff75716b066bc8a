"""The light of a place over time against that around it."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest

from benchmarks.material import MemorySource
from nimbus_sweep.core.evidence.mark_course import mark_course
from nimbus_sweep.core.evidence.time_volume import TimeVolume, build_volume
from nimbus_sweep.core.media.layout import picture_format

X, Y = 40, 30


def volume(tmp_path: Path, mark: str) -> TimeVolume:
    """Twelve frames whose light goes up and down evenly, with something at one place."""
    pictures = []
    for n in range(12):
        luma = np.full((60, 80), 90 + 40 * (n % 3), np.uint8)
        if mark == "stuck":
            luma[Y, X] = 200
        elif mark == "dust":
            luma[Y - 5 : Y + 6, X - 5 : X + 6] = np.uint8(16 + (luma[0, 0] - 16) * 0.5)
        pictures.append((luma, np.full((30, 40), 128, np.uint8), np.full((30, 40), 128, np.uint8)))
    return build_volume(tmp_path / "volume.bin", MemorySource(pictures, picture_format("yuv420p", 80, 60)))


def test_a_stuck_site_does_not_follow_its_ring(tmp_path: Path) -> None:
    made = mark_course(volume(tmp_path, "stuck"), (X, Y, 1, 1))
    assert made is not None
    assert len(made.frames) == 12
    assert made.spread[0] == 0
    assert made.spread[1] > 20
    assert made.follows == 0
    assert made.here[0] == pytest.approx(200 - 16, abs=1)


def test_dust_passes_a_share_of_the_light_around_it(tmp_path: Path) -> None:
    outline = [(X - 5, Y - 5), (X + 5, Y - 5), (X + 5, Y + 5), (X - 5, Y + 5)]
    made = mark_course(volume(tmp_path, "dust"), (X - 5, Y - 5, 11, 11), outline)
    assert made is not None
    middle, off = made.share
    assert middle == pytest.approx(0.5, abs=0.02)
    assert off < 0.01
    assert made.follows > 0.99


def test_off_the_picture_there_is_nothing_to_tell(tmp_path: Path) -> None:
    told = volume(tmp_path, "stuck")
    assert mark_course(told, (200, 200, 3, 3)) is None
    assert mark_course(told, (-10, -10, 200, 200)) is None
    at_the_corner = mark_course(told, (0, 0, 2, 2))
    assert at_the_corner is not None
    assert at_the_corner.share[0] == pytest.approx(1)
