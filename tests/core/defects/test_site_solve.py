"""Solving for what a bad site adds: sites of a mosaic under OpenCV's demosaicing, on open photographs and clips."""

from __future__ import annotations

from pathlib import Path

import av
import cv2
import numpy as np
import pytest
import skimage.data
from numpy.typing import NDArray
from skimage.restoration import inpaint_biharmonic

from benchmarks.material import MemorySource, clip
from nimbus_sweep.core.defects.stuck_pixels.repair import MendPlan, PixelMendSettings, Site, analyse
from nimbus_sweep.core.defects.stuck_pixels.sensor_site import drawn_by
from nimbus_sweep.core.defects.stuck_pixels.site_solve import _HALVED, solve
from nimbus_sweep.core.defects.stuck_pixels.texture import texture_of
from nimbus_sweep.core.evidence.time_volume import build_volume
from nimbus_sweep.core.media.frames import Colour, PictureFormat
from nimbus_sweep.core.media.layout import picture_format

Picture = NDArray[np.uint8]
# Left upper pixel, whether a block of four, and the value each holds; on a red site, a green one, a blue one and a block.
_SITES = ((80, 60, False, 250), (141, 60, False, 250), (201, 61, False, 5), (120, 120, True, 250))


def developed(raw: NDArray[np.uint8]) -> Picture:
    """Outside reference: OpenCV's bilinear demosaicing; the mosaic has red at even rows and columns."""
    return np.asarray(cv2.cvtColor(raw, cv2.COLOR_BayerBG2RGB))


def shot(name: str, frames: int = 24, works: float = 1.0) -> tuple[list[Picture], list[Picture]]:
    """A photograph under a camera that drifts: as developed, and with bad sites on the sensor that work in a share of the frames."""
    photo = getattr(skimage.data, name)()
    rng, clean, dirty = np.random.default_rng(4), [], []
    for n in range(frames):
        seen = photo[20 + n // 3 : 220 + n // 3, 30 + n // 2 : 310 + n // 2]
        raw = np.where(np.add.outer(np.arange(200) % 2, np.arange(280) % 2) == 1, seen[..., 1], 0)
        raw[0::2, 0::2], raw[1::2, 1::2] = seen[0::2, 0::2, 0], seen[1::2, 1::2, 2]
        clean.append(developed(raw.astype(np.uint8)))
        for x, y, block, value in _SITES:
            if rng.random() < works:
                raw[y : y + 1 + block, x : x + 1 + block] = value
        dirty.append(developed(raw.astype(np.uint8)))
    return clean, dirty


def source_of(pictures: list[Picture], layout: PictureFormat) -> MemorySource:
    planes = [tuple(np.ascontiguousarray(p[..., k]) for k in (1, 2, 0)) for p in pictures]
    return MemorySource(planes, layout)


@pytest.fixture(scope="module")
def rgb() -> PictureFormat:
    return picture_format("gbrp", 280, 200)


@pytest.mark.parametrize("works", [1.0, 0.6])
@pytest.mark.parametrize("name", ["astronaut", "coffee"])
def test_sites_of_a_mosaic_are_taken_off_whatever_they_do(tmp_path: Path, rgb: PictureFormat, name: str, works: float) -> None:
    clean, dirty = shot(name, works=works)
    source = source_of(dirty, rgb)
    sites = tuple(Site(x=x, y=y, width=1 + block, height=1 + block) for x, y, block, _ in _SITES)
    plan = analyse(build_volume(tmp_path / "volume.bin", source), PixelMendSettings(sites=sites))
    assert len(plan.solved) == len(sites)
    mended = [np.stack([f.planes[k] for k in (2, 0, 1)], -1) for f in plan.apply(source, 0, len(source)).frames(0, len(source))]
    truth, before, after = (np.array(v, np.float64) for v in (clean, dirty, mended))
    for x, y, block, _ in _SITES:
        near = np.s_[:, y - 1 : y + 2 + block, x - 1 : x + 2 + block]
        spoilt = ((before[near] - truth[near]) ** 2).mean()
        ours = ((after[near] - truth[near]) ** 2).mean()
        # Outside reference: scikit-image's biharmonic in-painting, given the true mask, on every fourth frame.
        hole = np.zeros((32, 32), bool)
        hole[15 : 18 + block, 15 : 18 + block] = True
        theirs = np.mean(
            [
                (
                    (
                        255 * inpaint_biharmonic(b[y - 16 : y + 16, x - 16 : x + 16] / 255, hole, channel_axis=-1)[hole]
                        - t[y - 16 : y + 16, x - 16 : x + 16][hole]
                    )
                    ** 2
                ).mean()
                for b, t in zip(before[::4], truth[::4], strict=True)
            ]
        )
        assert ours < 0.05 * spoilt
        assert ours < 0.7 * theirs
    far = np.ones(truth.shape[1:3], bool)
    for x, y, block, _ in _SITES:
        far[y - 2 : y + 3 + block, x - 2 : x + 3 + block] = False
    assert np.array_equal(after[:, far], before[:, far])
    plan.save(tmp_path / "plan.npz")
    again = MendPlan.load(tmp_path / "plan.npz").apply(source, 0, len(source)).frame(3)
    assert all(np.array_equal(a, mended[3][..., k]) for a, k in zip(again.planes, (1, 2, 0), strict=True))


def test_little_is_done_to_a_sound_place(tmp_path: Path) -> None:
    """A place named by mistake explains nothing more than others do: nothing is solved for there."""
    source = clip("bikes-3")
    volume = build_volume(tmp_path / "volume.bin", source)
    solved = [solve(volume, x, y, 1, 1, ()) for x, y in ((100, 80), (240, 130), (400, 200), (520, 90))]
    assert sum(one is not None for one in solved) <= 1


@pytest.mark.parametrize("name", ["chelsea", "coffee", "rocket"])
def test_a_block_of_a_mosaic_is_told_from_one_site(rgb: PictureFormat, name: str) -> None:
    """Under noise, as sensors have it; without any, a texture tells little of what four sites may be."""
    _, dirty = shot(name, frames=1)
    noise = np.random.default_rng(1).normal(0, 3, dirty[0].shape)
    textures = [texture_of((dirty[0] + noise)[..., k].astype(np.float32)) for k in range(3)]
    one, _, _, four = (drawn_by(textures, [(1, 1)] * 3, x, y, rgb, Colour(matrix=0)) for x, y, *_ in _SITES)
    assert one.block < 1.2 * one.one_colour
    assert four.block > 1.4 * four.one_colour
    assert four.block > 0.45 * four.departs


@pytest.mark.parametrize(("x", "y"), [(2, 50), (50, 3), (278, 50), (50, 198)])
def test_at_the_edge_too_little_lies_about_a_site(tmp_path: Path, rgb: PictureFormat, x: int, y: int) -> None:
    _, dirty = shot("coffee", frames=9)
    assert solve(build_volume(tmp_path / "volume.bin", source_of(dirty, rgb)), x, y, 1, 1, ()) is None


@pytest.mark.parametrize(("name", "way"), [("linear", "BILINEAR"), ("cubic", "BICUBIC")])
def test_rows_of_chroma_are_halved_as_libswscale_does(name: str, way: str) -> None:
    # Outside reference: libswscale, as PyAV calls it, on a red row of a grey picture.
    rows = []
    for row in (15, 16):
        picture = np.full((32, 32, 3), 60, np.uint8)
        picture[row] = (255, 60, 60)
        made = av.VideoFrame.from_ndarray(picture, format="rgb24").reformat(format="yuv420p", interpolation=way)
        red = np.frombuffer(made.planes[2], np.uint8).reshape(16, -1)[:, 8].astype(float) - 128
        rows.append(red)
    weights, half = _HALVED[name], len(_HALVED[name]) // 2
    ours = np.zeros((2, 16))
    for n, row in enumerate((15, 16)):
        for r in range(16):
            at = row - (2 * r - (half - 1))
            ours[n, r] = weights[at] if 0 <= at < len(weights) else 0
    seen = np.stack(rows)
    assert ours / ours.sum(1, keepdims=True) == pytest.approx(seen / seen.sum(1, keepdims=True), abs=0.03)
