"""A repair held against the truth that a spoiled reel comes with."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest
from skimage.metrics import peak_signal_noise_ratio

from benchmarks.material import clip
from nimbus_sweep.core.pipeline.known_truth import held_against, truth_file


def test_it_is_the_reference_librarys_figure(tmp_path: Path) -> None:
    truth = clip("bikes-1")
    random = np.random.default_rng(3)
    worse, better = (
        [tuple(np.clip(p + random.normal(0, s, p.shape), 0, 255).astype(np.uint8) for p in f) for f in truth.pictures] for s in (9, 2)
    )
    places = [np.sort(random.choice(p.size, 500, replace=False)) for p in truth.pictures[0]]
    numbers = np.array([1, 4, 7])
    arrays = {f"0.{i}.places": at for i, at in enumerate(places)}
    arrays |= {f"0.{i}.samples": np.stack([truth.pictures[n][i].ravel()[at] for n in numbers]) for i, at in enumerate(places)}
    np.savez(tmp_path / "reel.truth.npz", numbers=numbers, count=np.array(1), **arrays)  # type: ignore[arg-type]
    path = truth_file(tmp_path / "reel.mkv")
    assert path is not None
    assert truth_file(tmp_path / "other.mkv") is None
    told = held_against(path, truth.over(worse), truth.over(better), lambda n: n)
    for figure, pictures in ((told[0].before, worse), (told[0].after, better)):
        one, two = (
            np.concatenate([p[n][i].ravel()[at] for n in numbers for i, at in enumerate(places)]) for p in (truth.pictures, pictures)
        )
        assert figure == pytest.approx(peak_signal_noise_ratio(one, two, data_range=255), abs=0.06)
    assert held_against(path, truth.over(worse), truth.over(better), lambda n: None) == []
    only = held_against(path, truth.over(worse), truth.over(better), {4: 4}.get)
    assert only[0].after > only[0].before
