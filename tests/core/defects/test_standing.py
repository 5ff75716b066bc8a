"""Stuck pixels where the scene moves on: told by what is left of every part of the scene that passes."""

from __future__ import annotations

from functools import lru_cache
from pathlib import Path

import numpy as np
import pytest

from benchmarks.material import MemorySource, panned
from nimbus_sweep.core.defects.stuck_pixels.detect import find
from nimbus_sweep.core.defects.stuck_pixels.standing import Standing, standing_sites
from nimbus_sweep.core.evidence.moved_pairs import MovedPairs, PairBlocks
from nimbus_sweep.core.evidence.shot_evidence import ShotEvidence
from nimbus_sweep.core.evidence.time_volume import TimeVolume, build_volume
from nimbus_sweep.core.model.findings import CONVINCES
from nimbus_sweep.demo.defects import scatter, stick


@lru_cache(maxsize=2)
def scene(name: str) -> MemorySource:
    return panned(name, 40, seed=5, size=(320, 180))


def measured(tmp_path: Path, source: MemorySource) -> tuple[TimeVolume, MovedPairs | None]:
    volume = build_volume(tmp_path / "volume.bin", source)
    return volume, ShotEvidence(volume, 0, len(source)).moved_pairs(lambda share: None)


@pytest.mark.parametrize("name", ["coffee", "astronaut"])
def test_sites_are_found_and_nothing_else(tmp_path: Path, name: str) -> None:
    source = scene(name)
    sites = scatter(list(source.pictures), 9, 4, margin=8)
    spoiled, _ = stick(list(source.pictures), sites)
    volume, pairs = measured(tmp_path, source.over(spoiled))
    sure = [s for s in find(volume, pairs=pairs).found if s.confidence >= CONVINCES]
    assert sum(any(abs(f.x - s.x) <= 2 and abs(f.y - s.y) <= 2 for f in sure) for s in sites) >= 8
    assert all(any(abs(f.x - s.x) <= 3 and abs(f.y - s.y) <= 3 for s in sites) for f in sure)


@pytest.mark.parametrize("name", ["coffee", "astronaut"])
def test_a_sound_scene_leaves_nothing(tmp_path: Path, name: str) -> None:
    _, pairs = measured(tmp_path, scene(name))
    assert pairs is not None
    assert [s for s in standing_sites(pairs) if s.sure >= CONVINCES] == []


def test_a_camera_that_stands_tells_nothing(tmp_path: Path) -> None:
    source = scene("coffee")
    _, pairs = measured(tmp_path, source.over([source.pictures[0]] * 20))
    assert pairs is None or standing_sites(pairs) == []


def test_what_is_left_is_what_a_site_adds() -> None:
    """Views of a scene that passes, with one place that reads 20 codes too much, and one that is never borne."""
    rng = np.random.default_rng(3)
    shape = (24, 30)
    light = {n: rng.uniform(40, 90, shape).astype(np.float32) for n in range(6)}
    scene_light = np.stack([light[n // 2] + rng.normal(0, 0.5, shape) for n in range(12)]).astype(np.float16)
    for plane in light.values():
        plane[10, 12] += 20
    weight = np.ones((12, *shape), np.float16)
    weight[:, 3, 4] = 0
    none = np.zeros((12, 1, 1), np.float32)
    no_blocks = PairBlocks(1, none, none, none.astype(np.float16), np.zeros((12, 1, 1, 2), np.float16))
    seen = MovedPairs(1, light, np.repeat(np.arange(6), 2), scene_light, weight, np.repeat(np.arange(6.0), 2), 1.0, no_blocks)
    stands = Standing.of(seen)
    assert stands.depart[10, 12] == pytest.approx(20, abs=1)
    assert stands.score[3, 4] == 0
    (site,) = (s for s in standing_sites(seen) if s.sure >= CONVINCES)
    assert (site.x, site.y) == (12, 10)
