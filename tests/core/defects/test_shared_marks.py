"""What one shot proved of a mark is found in others of the same camera, and nowhere else."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest
from pydantic import ValidationError

from benchmarks.material import MemorySource, noisy, panned, still
from nimbus_sweep.core.defects.static_shade.detect import surveyed
from nimbus_sweep.core.defects.static_shade.evidence import ShadeEvidence
from nimbus_sweep.core.defects.static_shade.repair import analyse, resolve
from nimbus_sweep.core.defects.static_shade.shade_map import ShadeMap
from nimbus_sweep.core.defects.static_shade.shade_plan import UnshadeSettings
from nimbus_sweep.core.defects.static_shade.shared_marks import mean_light, presence, shared
from nimbus_sweep.core.defects.static_shade.veils import Veil
from nimbus_sweep.core.evidence.time_volume import TimeVolume, build_volume
from nimbus_sweep.core.model.findings import Finding
from nimbus_sweep.demo.shade import DrawnMark, shade, sprinkle
from nimbus_sweep.wording import sentence
from tests.conftest import with_sweep

SIZE = (400, 226)


def held_shot(name: str, marks: list[DrawnMark], folder: Path) -> tuple[MemorySource, list, TimeVolume]:
    """A shot that never moves, with grain of its own, dirty and clean."""
    scene = still(panned(name, 12, 3, 0.3, SIZE), 16, 5)
    clean = noisy(list(scene.pictures), 1.0, 7)
    dirty = shade(clean, marks)[0] if marks else clean
    source = scene.over(dirty)
    return source, clean, build_volume(folder / f"{name}-{len(marks)}.bin", source)


def as_known(mark: DrawnMark) -> Finding:
    share = mark.share(SIZE[::-1])
    rows, cols = np.flatnonzero(share.any(1)), np.flatnonzero(share.any(0))
    left, top = int(cols[0]), int(rows[0])
    part = share[top : rows[-1] + 1, left : cols[-1] + 1]
    height, width = part.shape
    kept = ShadeMap.of(part, left, top, Veil(mark.gain, mark.blur, mark.level))
    outline = ((left, top), (left + width, top), (left + width, top + height), (left, top + height))
    place = {"x": left, "y": top, "width": width, "height": height, "first": 0, "stop": 36}
    told = ShadeEvidence(shade="dust", map=kept, outline=outline, travel=200.0)
    return Finding(kind="static-shade", step="unshade", **place, confidence=0.9, evidence=told)


def test_a_map_is_kept_as_it_is() -> None:
    share = sprinkle(SIZE[::-1], 1, 4)[0].share(SIZE[::-1])[40:200, 30:300]
    veil = Veil(0.3, 4.0, 51.25, (51.25, -3.5, 7.0))
    kept = ShadeMap.of(share, 30, 40, veil)
    again = ShadeMap.model_validate_json(kept.model_dump_json())
    assert np.abs(again.share - share).max() < 0.02
    assert again.veil == veil
    assert again.on(SIZE[::-1])[40:200, 30:300] == pytest.approx(again.share)
    small = ShadeMap.of(share[:30, :30], -5, -5, Veil())
    assert np.abs(small.share - share[:30, :30]).max() < 1e-3
    assert small.on((20, 20)).shape == (20, 20), "off the picture nothing of it is left"
    with pytest.raises(ValidationError, match="size"):
        ShadeMap.model_validate(kept.model_dump() | {"width": 99})
    with pytest.raises(ValidationError, match="unpacked"):
        ShadeMap.model_validate(kept.model_dump() | {"levels": "rubbish"})


@pytest.mark.slow
@pytest.mark.parametrize("name", with_sweep(["chelsea"], ["coffee", "rocket"]))
def test_marks_are_found_where_they_are_and_only_there(name: str, tmp_path: Path) -> None:
    marks = [m for seed in (1, 2, 3) for m in sprinkle(SIZE[::-1], 4, seed, largest=11, depth=(0.35, 0.7))]
    known = [("shot 1", as_known(m)) for m in marks[:4]]
    _, _, dirty = held_shot(name, marks[:4], tmp_path)
    found = [f for f in shared(mean_light(dirty), known, [], 50, 66) if f.convinces]
    assert len(found) >= 2
    assert all((f.first, f.stop) == (50, 66) and "shot 1" in sentence(f) for f in found)
    _, _, sound = held_shot(name, [], tmp_path)
    everything = [("shot 1", as_known(m)) for m in marks]
    assert not [f for f in shared(mean_light(sound), everything, [], 50, 66) if f.convinces], "a sound shot gains nothing"
    # What lies there already is not named again.
    assert not shared(mean_light(dirty), known, [f for _, f in known], 50, 66)


@pytest.mark.slow
def test_what_one_shot_measured_takes_the_mark_off_another(tmp_path: Path) -> None:
    source = panned("coffee", 36, 5, 0.3, SIZE)
    marks = sprinkle(SIZE[::-1], 4, 5, largest=11, depth=(0.35, 0.7))
    told = surveyed(build_volume(tmp_path / "a.bin", source.over(shade(list(source.pictures), marks)[0])), 0, 36)
    proven = [("shot 1", f) for f in told.findings if f.convinces]
    assert len(proven) == 4
    assert [n.code for n in told.notes] in ([], ["wide-marks-missed"])
    dirty, clean, volume = held_shot("rocket", marks, tmp_path)
    assert [n.code for n in surveyed(volume, 0, 16).notes] == ["too-little-motion"]
    found = [f for f in shared(mean_light(volume), proven, [], 0, 16) if f.convinces]
    assert len(found) >= 2
    plan = analyse(volume, resolve(UnshadeSettings(), found))
    mended = plan.apply(dirty, 0, 16).frame(4).planes[0].astype(float)
    for f in found:
        box = np.s_[f.y : f.y + f.height, f.x : f.x + f.width]
        before, after = (np.sqrt(np.mean((p[box] - clean[4][0][box].astype(float)) ** 2)) for p in (dirty.frame(4).planes[0], mended))
        assert after < 0.35 * before


def test_presence_says_how_deep() -> None:
    mark = sprinkle(SIZE[::-1], 1, 9, largest=11)[0]
    plain = np.full(SIZE[::-1], 150, np.float32) + np.random.default_rng(1).normal(0, 0.5, SIZE[::-1]).astype(np.float32)
    kept = as_known(mark).evidence.map
    for part in (0.0, 0.5, 1.0):
        depth, stands_out = presence(plain * (1 - mark.share(SIZE[::-1])) ** part, kept)
        assert depth == pytest.approx(part, abs=0.12)
        assert (stands_out > 7) == (part > 0)
