"""Hairs told by how they look where nothing moves, and what looks like them left alone.

The pictures are those that come with scikit-image, held still; the hairs are drawn.
"""

from __future__ import annotations

from functools import cache
from itertools import pairwise
from pathlib import Path

import cv2
import numpy as np
import pytest
import skimage.data

from benchmarks.material import MemorySource, Planes
from nimbus_sweep.core.defects.static_shade import hairs as looks
from nimbus_sweep.core.defects.static_shade.detect import find, surveyed
from nimbus_sweep.core.defects.static_shade.evidence import ShadeEvidence
from nimbus_sweep.core.defects.static_shade.hairs import Hair, MeanPicture, hairs, share_of, traced
from nimbus_sweep.core.defects.static_shade.marks import as_finding
from nimbus_sweep.core.defects.static_shade.repair import analyse, resolve
from nimbus_sweep.core.defects.static_shade.shade_plan import ShadeSeed, UnshadeSettings
from nimbus_sweep.core.evidence.shot_light import ShotLight
from nimbus_sweep.core.evidence.time_volume import build_volume
from nimbus_sweep.core.media.layout import picture_format
from nimbus_sweep.core.model.findings import CONVINCES
from nimbus_sweep.core.model.regions import Key, Part, Region
from nimbus_sweep.core.model.shapes import Ellipse
from nimbus_sweep.wording import sentence

SIZE = (400, 300)


@cache
def picture(name: str) -> np.ndarray:
    """Linear light of a photograph, 0 to 255."""
    photo = getattr(skimage.data, name)()
    gray = photo if photo.ndim == 2 else cv2.cvtColor(photo[..., :3], cv2.COLOR_RGB2GRAY)
    return 255 * (cv2.resize(gray, SIZE, interpolation=cv2.INTER_AREA) / np.float32(255)) ** np.float32(2.2)


def wall() -> np.ndarray:
    """Linear light of a plain wall, lit from one side."""
    return np.tile(np.linspace(60, 140, SIZE[0], dtype=np.float32), (SIZE[1], 1))


def laid(path: list[tuple[int, int]], wide: int = 3, deepest: float = 0.95, on: str = "immunohistochemistry") -> np.ndarray:
    """The share of the light that a hair takes which is drawn on a picture."""
    cover = np.zeros(SIZE[::-1], np.float32)
    cv2.polylines(cover, [np.array(path, np.int32) + np.array(ROOM[on])], False, 1.0, wide, cv2.LINE_AA)
    return np.clip(1.1 * cv2.GaussianBlur(cover, (0, 0), 1.0), 0, deepest)


CURL = [(120, 100), (135, 96), (150, 99), (163, 108), (172, 120), (176, 134), (174, 148), (166, 158), (154, 163)]
# Where it lies on something that is neither black nor as dark as itself: how far to move it.
ROOM = {"astronaut": (-70, -70), "chelsea": (-90, 100), "coffee": (-100, 0), "immunohistochemistry": (0, 0)}
WISP = [(250, 200), (258, 190), (270, 184), (283, 183), (296, 188), (306, 197)]


def seen(light: np.ndarray, frames: int = 12, noise: float = 1.0) -> list[Planes]:
    """Frames of a standing camera."""
    rng = np.random.default_rng(7)
    luma = 16 + 219 * (np.clip(light, 0, 255) / 255) ** (1 / 2.2)
    flat = np.full((SIZE[1] // 2, SIZE[0] // 2), 128, np.uint8)
    return [((luma + rng.normal(0, noise, luma.shape)).round().clip(0, 255).astype(np.uint8), flat, flat) for _ in range(frames)]


def source(pictures: list[Planes]) -> MemorySource:
    height, width = pictures[0][0].shape
    return MemorySource(pictures, picture_format("yuv420p", width, height))


def mean_of(light: np.ndarray, noise: float = 1.0) -> MeanPicture:
    """The mean of a standing shot with so many codes of noise, which are the less light the darker it is."""
    spread = noise / 219 * 255 * 2.2 * (np.clip(light, 0, 255) / 255) ** (1.2 / 2.2)
    return MeanPicture(light.astype(np.float32), spread.astype(np.float32), max(noise, 0.1))


def likely(light: np.ndarray) -> list[Hair]:
    """What is told as sure of a shot in which nothing moves."""
    return [h for h in hairs(mean_of(light)) if h.sure_in(standing=True) >= CONVINCES]


@pytest.mark.parametrize("name", ["astronaut", "chelsea", "coffee", "immunohistochemistry"])
def test_a_hair_is_told_where_nothing_moves(name: str) -> None:
    cover = laid(CURL, on=name)
    light = picture(name) * (1 - cover)
    found = [h for h in hairs(mean_of(light)) if h.sure >= CONVINCES and h.line.share_on(cover > 0.1) > 0.5]
    assert len(found) == 1
    assert found[0].line.share_on(cover > 0.1) > 0.9
    assert len(found[0].line) > 0.8 * sum(float(np.hypot(*np.subtract(a, b))) for a, b in pairwise(CURL))


@pytest.mark.parametrize(
    "name", ["astronaut", "chelsea", "coffee", "brick", "gravel", "grass", "retina", "camera", "page", "rocket", "clock"]
)
def test_a_sound_picture_has_none(name: str) -> None:
    # Vessels of an eye, joints of bricks, blades of grass, letters, the legs of a tripod. The bounds were chosen on these pictures, among others.
    assert not likely(picture(name))


def test_two_that_lie_apart_are_told_apart() -> None:
    covers = [laid(CURL), laid(WISP)]
    found = likely(wall() * (1 - covers[0]) * (1 - covers[1]))
    assert sorted(int(np.argmax([h.line.share_on(c > 0.1) for c in covers])) for h in found) == [0, 1]


def test_a_place_is_told_once_though_it_is_cut_out_at_several_depths() -> None:
    on = laid(CURL, on="coffee") > 0.1
    light = mean_of(picture("coffee") * (1 - laid(CURL, on="coffee")))
    assert len([h for h in traced(light) if h.line.share_on(on) > 0.5]) > 1
    assert len([h for h in hairs(light) if h.line.share_on(on) > 0.5]) == 1


@pytest.mark.parametrize("deepest", [0.5, 0.7, 0.95])
def test_what_it_takes_of_the_light_is_measured(deepest: float) -> None:
    cover, behind = laid(CURL, deepest=deepest, on="astronaut"), picture("astronaut")
    light = mean_of(behind * (1 - cover))
    cut = max(looks._Looked(light).lines(0.8), key=lambda one: one[0].share_on(cover > 0.1) * len(one[0]))
    hair = Hair(*cut, (), 1.0)
    share = share_of(hair, light)
    on = cover > 0.05
    assert np.abs(share - cover)[on].mean() < 0.12
    assert share[cv2.dilate(on.astype(np.uint8), np.ones((9, 9))) == 0].max() == 0
    # What lies behind comes back: three quarters of the error are gone.
    back = light.light / np.maximum(1 - share, 0.05)
    assert ((back - behind)[on] ** 2).mean() < 0.25 * ((light.light - behind)[on] ** 2).mean()


def test_what_is_asked_of_a_line_does_not_fail_at_the_edge() -> None:
    cover = laid([(0, 150), (20, 140), (40, 138), (60, 145)]) + laid([(395, 10), (399, 40), (398, 60)])
    for hair in traced(mean_of(picture("coffee") * (1 - np.clip(cover, 0, 0.95)))):
        assert np.isfinite(hair.told).all()
        assert np.isfinite(share_of(hair, mean_of(picture("coffee")))).all()


@pytest.mark.parametrize("light", [0.0, 120.0, 255.0])
def test_a_flat_picture_has_no_lines(light: float) -> None:
    assert hairs(mean_of(np.full((120, 160), light, np.float32), 0.0)) == []


def test_a_large_picture_is_looked_at_smaller(tmp_path: Path) -> None:
    large = [tuple(np.kron(p, np.ones((4, 4), p.dtype)) for p in one) for one in seen(picture("coffee"), 3)]
    mean = MeanPicture.of(ShotLight(build_volume(tmp_path / "volume.bin", source(large))))  # type: ignore[arg-type]
    assert mean.factor == 2
    assert mean.light.shape == (600, 800)


@pytest.mark.slow
def test_it_is_taken_off_a_standing_shot_and_nothing_else_is_touched(tmp_path: Path) -> None:
    cover = laid(CURL)
    truth, spoiled = seen(wall()), seen(wall() * (1 - cover))
    reel = source(spoiled)
    volume = build_volume(tmp_path / "volume.bin", reel)
    told = surveyed(volume, 0, len(reel))
    sure = [f for f in told.findings if f.convinces]
    assert [f.evidence.shade for f in sure] == ["hair"]  # type: ignore[union-attr]
    assert "told by how it looks" in sentence(sure[0])
    plan = analyse(volume, resolve(UnshadeSettings(), told.findings))
    mended = [f.planes[0] for f in plan.apply(reel, 0, len(reel)).frames(0, len(reel))]
    on = cover > 0.03
    before, after = (
        np.mean([((p.astype(float) - t[0]) ** 2)[on].mean() for p, t in zip(ps, truth, strict=True)])
        for ps in ([s[0] for s in spoiled], mended)
    )
    assert after < 0.25 * before
    far = cv2.dilate(on.astype(np.uint8), np.ones((13, 13))) == 0
    assert all((m[far] == s[0][far]).all() for m, s in zip(mended, spoiled, strict=True))


@pytest.mark.slow
def test_a_shot_that_repeats_one_frame_has_its_hair_told(tmp_path: Path) -> None:
    volume = build_volume(tmp_path / "volume.bin", source(seen(wall() * (1 - laid(CURL)), 1)))
    assert [m.kind for m in find(volume).marks if m.confidence >= CONVINCES] == ["hair"]


@pytest.mark.slow
def test_on_something_rough_that_stands_it_is_listed_and_not_mended(tmp_path: Path) -> None:
    volume = build_volume(tmp_path / "volume.bin", source(seen(picture("chelsea") * (1 - laid(CURL, on="chelsea")))))
    told = [m for m in find(volume).marks if m.kind == "hair"]
    assert told
    assert all(0.3 <= m.confidence < CONVINCES for m in told)
    # Kept all the same, it is taken off by the map that was measured, not filled.
    kept = as_finding(told[0], 0, 12).evidence
    assert isinstance(kept, ShadeEvidence)
    assert kept.by_looks
    plan = analyse(volume, UnshadeSettings(marks=(ShadeSeed(outline=kept.outline, kind="hair", known=kept.map, by_looks=True),)))
    assert plan.marks[0].share.max() == pytest.approx(kept.map.share.max(), abs=0.05)  # type: ignore[union-attr]


@pytest.mark.slow
def test_what_is_held_out_is_not_told(tmp_path: Path) -> None:
    volume = build_volume(tmp_path / "volume.bin", source(seen(wall() * (1 - laid(CURL)))))
    x, y = np.mean(CURL, axis=0).tolist()
    about = Region(parts=(Part(keys=(Key(frame=0, shape=Ellipse(x=x, y=y, across=120, down=120)),)),))
    assert not [m for m in find(volume, hold_out=about).marks if m.kind == "hair" and m.confidence >= CONVINCES]


def test_the_model_is_of_what_is_measured() -> None:
    assert looks.MODEL.exists()
    assert len(traced(mean_of(picture("immunohistochemistry") * (1 - laid(CURL))))[0].told) == len(looks.FEATURES)
