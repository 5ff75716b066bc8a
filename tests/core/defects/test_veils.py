"""The model of static shade: what it lays on it takes off again, in every kind of sample; and grain."""

from __future__ import annotations

from dataclasses import replace

import cv2
import numpy as np
import pytest
import skimage.data

from nimbus_sweep.core.defects.static_shade.veils import Veil, undone
from nimbus_sweep.core.imaging import grain
from nimbus_sweep.core.imaging.light import light_of, samples_of, zero_of
from nimbus_sweep.core.media.frames import Colour
from nimbus_sweep.core.media.layout import picture_format
from nimbus_sweep.demo.shade import DrawnMark, hair, shade, sprinkle


def photo() -> np.ndarray:
    return cv2.cvtColor(skimage.data.chelsea(), cv2.COLOR_RGB2GRAY)[60:220, 80:280].astype(np.float32)


def test_zeros_are_those_of_the_standards() -> None:
    # ITU-R BT.709 and BT.2020: black at 16 in 8 bits, 64 in 10; colour zero at 128 and 512.
    eight, ten = picture_format("yuv420p", 16, 16), picture_format("yuv420p10le", 16, 16)
    assert [zero_of(c, Colour()) for c in eight.components] == [16, 128, 128]
    assert [zero_of(c, Colour()) for c in ten.components] == [64, 512, 512]
    assert [zero_of(c, Colour(full_range=True)) for c in eight.components] == [0, 128, 128]
    assert [zero_of(c, Colour(matrix=0)) for c in picture_format("gbrp", 16, 16).components] == [0, 0, 0]


@pytest.mark.parametrize(("name", "transfer"), [("yuv420p", 1), ("yuv422p10le", 1), ("gbrp10le", 9), ("gbrp16le", 8)])
def test_light_there_and_back(name: str, transfer: int) -> None:
    layout, colour = picture_format(name, 32, 32), Colour(matrix=1, transfer=transfer)
    rng = np.random.default_rng(1)
    for component in layout.components:
        top = component.peak
        samples = rng.uniform(0.1 * top, 0.9 * top, (32, 32))
        samples = component.samples(samples, layout.dtype)
        back = samples_of(light_of(samples, component, colour), component, colour, layout.dtype)
        assert np.allclose(back.astype(float), samples.astype(float), atol=0 if samples.dtype.kind == "u" else 1e-4 * top)


def test_in_a_logarithmic_scan_loss_of_light_is_an_offset() -> None:
    layout, colour = picture_format("gbrp10le", 16, 16), Colour(matrix=0, transfer=9)
    component = layout.components[0]
    samples = np.full((16, 16), 600, np.uint16)
    dark = samples_of(light_of(samples, component, colour) * 0.5, component, colour, samples.dtype)
    # Half the light is 0.301 of a density range of 2 over 1020 codes.
    assert int(samples[0, 0]) - int(dark[0, 0]) == pytest.approx(0.30103 / 2 * 1020, abs=1)


@pytest.mark.parametrize("veil", [Veil(), Veil(0, 0, 60), Veil(0.4, 4.0, 35)])
def test_what_was_laid_on_is_taken_off(veil: Veil) -> None:
    picture = photo()
    share = DrawnMark(100, 80, 40, 0.6, 40).share(picture.shape)
    laid = cv2.GaussianBlur(picture, (0, 0), veil.blur, borderType=cv2.BORDER_REPLICATE) if veil.blur else picture
    spoiled = picture * (1 - share) + share * (veil.gain * laid + veil.level)
    assert np.abs(undone(spoiled, share, veil, top=400) - picture).max() < 0.6
    assert np.array_equal(undone(picture, np.zeros_like(share), Veil()), picture)


def test_marks_touch_what_they_say_and_nothing_else() -> None:
    rng = np.random.default_rng(3)
    frames = [tuple(rng.integers(40, 200, s, dtype=np.uint8) for s in ((120, 160), (60, 80), (60, 80))) for _ in range(3)]
    marks = sprinkle((120, 160), 2, 4, largest=8)
    assert len(marks) == 2
    spoiled, masks = shade(frames, marks)
    for before, after in zip(frames, spoiled, strict=True):
        for a, b, mask in zip(before, after, masks, strict=True):
            assert np.array_equal(a[~mask], b[~mask])
    assert 0.001 < masks[0].mean() < 0.2
    assert spoiled[0][0][masks[0]].mean() < frames[0][0][masks[0]].mean()
    path = hair(rng, 40)
    fibre = DrawnMark(80, 60, 1.5, 0.95, 2, path=path).share((120, 160))
    assert fibre.max() > 0.9
    assert (fibre > 0.5).sum() < 400
    with_veil = replace(marks[0], gain=0.3, level=40, blur=2)
    assert with_veil.veils
    assert not marks[0].veils


def test_grain_is_measured_at_each_brightness() -> None:
    rng = np.random.default_rng(5)
    ramp = np.repeat(np.linspace(20, 230, 400, dtype=np.float32)[None], 300, 0)
    sigma = np.where(ramp < 120, 1.5, 4.0)
    found = grain.measure([ramp + sigma * rng.standard_normal(ramp.shape).astype(np.float32) for _ in range(4)])
    assert found.at(np.full((1, 1), 48.0, np.float32))[0, 0] == pytest.approx(1.5, rel=0.2)
    assert found.at(np.full((1, 1), 208.0, np.float32))[0, 0] == pytest.approx(4.0, rel=0.2)
    assert found.width < 0.35
    soft = [ramp + 3 * cv2.GaussianBlur(rng.standard_normal(ramp.shape).astype(np.float32), (0, 0), 1.0) * 3.545 for _ in range(4)]
    wide = grain.measure(soft)
    assert wide.width == pytest.approx(1.0, abs=0.35)
    assert wide.sigma.mean() == pytest.approx(3, rel=0.2)
    assert grain.measure([np.zeros((8, 8), np.float32)]).sigma.max() == 0


def test_fresh_grain_is_as_strong_as_asked_and_never_the_same_twice() -> None:
    made = grain.Grain(np.array([0.0, 255.0]), np.array([2.0, 2.0]), 0.7)
    flat = np.full((90, 90), 100, np.float32)
    one, again, other = (made.fresh(flat, seed) for seed in ((1, 2, 3), (1, 2, 3), (2, 2, 3)))
    assert one.std() == pytest.approx(2, rel=0.05)
    assert np.array_equal(one, again)
    assert abs(np.corrcoef(one.ravel(), other.ravel())[0, 1]) < 0.1


def test_raised_grain_is_calmed_and_detail_stays() -> None:
    rng = np.random.default_rng(6)
    noise = rng.standard_normal((120, 120)).astype(np.float32)
    raised, strength = np.full((120, 120), 2.5, np.float32), np.full((120, 120), 2.0, np.float32)
    calm = grain.calmed(100 + 5 * noise, raised, strength)
    assert 1.7 < calm.std() < 2.9
    edge = np.where(np.arange(120) < 60, 60, 160).astype(np.float32)[None].repeat(120, 0)
    kept = grain.calmed(edge + 5 * noise, raised, strength)
    assert abs(float(kept[:, 61:63].mean() - kept[:, 57:59].mean())) > 92
    # Without grain nothing is taken for it.
    assert np.abs(grain.calmed(edge, raised, np.zeros_like(raised)) - edge).max() < 0.01
