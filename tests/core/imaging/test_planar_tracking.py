"""Planes that are followed: against known moves of photographs in scikit-image, there and back on a real clip, and where it cannot hold."""

from __future__ import annotations

import cv2
import numpy as np
import pytest
import skimage.transform

from benchmarks.material import clip
from benchmarks.planes import corner_errors, filmed
from nimbus_sweep.core.base.errors import SweepError
from nimbus_sweep.core.imaging.planar_tracking import PlanarTracker
from nimbus_sweep.core.model.planes import State, box_corners, from_corners, moved, nudged, smoothed
from nimbus_sweep.core.model.regions import box_region
from tests.conftest import with_sweep

BOX = (220.0, 140.0, 200.0, 200.0)
CORNERS = np.array([[10.0, 20.0], [110.0, 20.0], [110.0, 80.0], [10.0, 80.0]])


@pytest.mark.slow
@pytest.mark.parametrize(
    ("name", "seed", "covered"), with_sweep([("brick", 3, 0.2)], [("coffee", 1, 0.0), ("astronaut", 2, 0.2), ("camera", 4, 0.0)])
)
def test_a_moving_photograph_is_followed_to_a_fraction_of_a_pixel(name: str, seed: int, covered: float) -> None:
    pictures, ways, held = (whole[:40] for whole in filmed(name, 120, seed, covered=covered))
    followed = PlanarTracker(pictures.__getitem__, box_region(*BOX), "perspective", held.__getitem__).follow(range(40))
    off = corner_errors(followed.matrices, ways, BOX)
    assert np.median(off) < 0.3
    assert np.percentile(off, 95) < 1.0
    assert (followed.states == State.HELD).mean() > 0.9


@pytest.mark.slow
def test_there_and_back_on_a_real_clip() -> None:
    lights = [np.asarray(p[0], np.float32) for p in clip("bunny-near").pictures[:24]]
    region = box_region(200, 100, 160, 140)
    there = PlanarTracker(lights.__getitem__, region, "affine").follow(range(24))
    back = PlanarTracker(lights.__getitem__, region, "affine").follow(range(23, -1, -1), there.matrices[-1])
    corners = box_corners(region.mask(lights[0].shape))
    assert np.hypot(*(moved(corners, back.matrices[0]) - corners).T).max() < 1.0
    assert list(back.numbers) == list(range(24))


@pytest.mark.slow
def test_a_plane_that_is_covered_for_some_frames_is_bridged_and_told_of() -> None:
    pictures, ways, _ = (whole[:30] for whole in filmed("coffee", 120, 5, noise=0.5))
    wall = np.random.default_rng(3).integers(20, 230, (480, 640)).astype(np.float32)
    for n in range(12, 17):
        pictures[n] = cv2.GaussianBlur(wall, (0, 0), 3) + n
    followed = PlanarTracker(pictures.__getitem__, box_region(*BOX), "perspective").follow(range(30))
    assert (followed.states[12:17] == State.BRIDGED).all()
    assert (followed.states[20:] == State.HELD).all()
    off = corner_errors(followed.matrices, ways, BOX)
    assert off[20:].max() < 1.0
    assert off[12:17].max() < 12, "between, it goes evenly from where it was held to where it is again"


def test_a_plane_that_leaves_the_picture_is_off_it() -> None:
    wide = cv2.resize(filmed("brick", 1, 1, noise=0)[0][0], (1600, 600))
    pictures = [wide[60:360, 14 * n : 14 * n + 400].copy() for n in range(40)]
    followed = PlanarTracker(pictures.__getitem__, box_region(60, 60, 120, 120), "translation").follow(range(40))
    assert (followed.states[:8] == State.HELD).all()
    assert (followed.states[-10:] == State.OUT).all()


def test_a_region_without_texture_says_what_would_hold() -> None:
    flat = np.full((300, 400), 120, np.float32) + np.random.default_rng(1).normal(0, 1, (300, 400)).astype(np.float32)
    with pytest.raises(SweepError, match="even there"):
        PlanarTracker(lambda _: flat, box_region(100, 100, 60, 60), "perspective").follow(range(3))
    framed = flat.copy()
    cv2.circle(framed, (130, 130), 90, 30, 5)
    cv2.line(framed, (20, 240), (260, 20), 200, 5)
    with pytest.raises(SweepError, match="grow the region by"):
        PlanarTracker(lambda _: framed, box_region(105, 105, 50, 20), "perspective").follow(range(3))
    with pytest.raises(SweepError, match="empty"):
        PlanarTracker(lambda _: flat, box_region(600, 600, 60, 60), "perspective").follow(range(3))


def test_changing_light_moves_nothing() -> None:
    pictures, _, _ = filmed("camera", 1, 1, blur=False, light=False, noise=0)
    lit = [pictures[0] * gain for gain in (1.0, 0.6, 1.3, 0.8)]
    followed = PlanarTracker(lit.__getitem__, box_region(*BOX), "perspective").follow(range(4))
    corners = box_corners(box_region(*BOX).mask((480, 640)))
    for way in followed.matrices:
        assert np.abs(moved(corners, way) - corners).max() < 0.05


@pytest.mark.parametrize("model", ["similarity", "affine", "perspective"])
def test_transforms_from_corners_agree_with_scikit_image(model: str) -> None:
    rng = np.random.default_rng(7)
    after = CORNERS + rng.uniform(-6, 6, CORNERS.shape)
    kinds = {
        "similarity": skimage.transform.SimilarityTransform,
        "affine": skimage.transform.AffineTransform,
        "perspective": skimage.transform.ProjectiveTransform,
    }
    fitted = kinds[model].from_estimate(CORNERS, after)
    ours = moved(CORNERS, from_corners(CORNERS, after, model))  # type: ignore[arg-type]
    # Umeyama's similarity, and the direct linear transformation, weigh otherwise than plain least squares.
    assert np.abs(ours - fitted(CORNERS)).max() < (1e-3 if model == "perspective" else 0.6)


def test_smoothing_keeps_a_speeding_move_and_calms_a_trembling_one() -> None:
    t = np.arange(40.0)
    speeding = np.stack([from_corners(CORNERS, CORNERS + np.array([0.05 * k * k, 2 * k]), "translation") for k in t])
    assert np.allclose(smoothed(speeding, CORNERS, 3, "translation"), speeding, atol=1e-6)
    rng = np.random.default_rng(2)
    shaken = np.stack([from_corners(CORNERS, CORNERS + rng.normal(0, 1, 2), "translation") for _ in t])
    assert smoothed(shaken, CORNERS, 3, "translation")[5:-5, :2, 2].std() < 0.5


def test_nudges_change_gradually_between_frames() -> None:
    ways = np.stack([np.eye(3)] * 11)
    by = np.zeros((4, 2))
    by[0] = [10, 0]
    put = nudged(ways, range(11), CORNERS, {0: np.zeros((4, 2)), 10: by}, "perspective")
    assert moved(CORNERS, put[5])[0] == pytest.approx([15, 20], abs=1e-6)
    assert moved(CORNERS, put[5])[2] == pytest.approx(CORNERS[2], abs=1e-6)
