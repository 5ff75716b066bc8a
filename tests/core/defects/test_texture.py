"""What the texture about a sample tells of it: against plain least squares, a dense Gaussian, and sites laid into photographs."""

from __future__ import annotations

import cv2
import numpy as np
import pytest
import skimage.data

from nimbus_sweep.core.defects.stuck_pixels.sensor_site import KERNELS
from nimbus_sweep.core.defects.stuck_pixels.texture import Texture, explained, texture_of


def soft(seed: int, shape: tuple[int, int], sigma: float) -> np.ndarray:
    noise = np.random.default_rng(seed).normal(0, 1, shape)
    return (100 + 60 * cv2.GaussianBlur(noise, (0, 0), sigma) * sigma).astype(np.float32)


def test_weights_are_those_of_least_squares() -> None:
    # Outside reference: NumPy's least squares over the same samples; weights alike on opposite sides that sum to one (Besag 1974).
    plane = soft(1, (48, 48), 1.2) + np.random.default_rng(2).normal(0, 3, (48, 48)).astype(np.float32)
    ours = texture_of(plane).weights[0, 0]
    assert ours.sum() == pytest.approx(0, abs=1e-9)
    assert np.allclose(ours, ours[::-1, ::-1])
    pairs = [(y, x) for y in range(-2, 3) for x in range(-2, 3) if (y, x) > (0, 0)]
    inner = np.s_[2:-2, 2:-2]
    both = np.stack([(np.roll(plane, (y, x), (0, 1)) + np.roll(plane, (-y, -x), (0, 1)))[inner].ravel() for y, x in pairs], 1).astype(float)
    found = np.linalg.lstsq(both[:, 1:] - both[:, :1], plane[inner].ravel() - both[:, 0] / 2, rcond=None)[0]
    theirs = dict(zip(pairs, [0.5 - found.sum(), *found], strict=True))
    told = sum(w * both[:, n] for n, w in enumerate(theirs.values()))
    left = texture_of(plane).left[inner].ravel()
    # Held a little and robust, so not the same numbers; but nothing to choose between what they leave.
    assert left.std() < 1.02 * (plane[inner].ravel() - told).std()
    assert left.std() < 0.9 * (plane - cv2.blur(plane, (3, 3)))[inner].std()


def test_a_plane_leaves_nothing() -> None:
    ramp = np.add.outer(0.5 * np.arange(80), 1.5 * np.arange(96)).astype(np.float32)
    assert np.abs(texture_of(ramp).left[2:-2, 2:-2]).max() < 1e-3


def test_what_departs_is_the_likelihood_ratio_of_a_gaussian() -> None:
    """A dense precision matrix, solved outright: of nine samples being free, against the rest telling them."""
    weights = texture_of(np.random.default_rng(3).normal(100, 9, (40, 40)).astype(np.float32)).weights
    stencil = weights[0, 0]
    plane = np.random.default_rng(4).normal(0, 1, (40, 40))
    told = Texture(cv2.filter2D(plane, -1, stencil, borderType=cv2.BORDER_CONSTANT).astype(np.float32), weights)
    size = 13
    corner = 20 - size // 2
    precision = np.zeros((size * size, size * size))
    for n in range(size * size):
        for m in range(size * size):
            dy, dx = m // size - n // size, m % size - n % size
            if max(abs(dy), abs(dx)) <= 2:
                precision[n, m] = stencil[2 + dy, 2 + dx]
    free = np.array([(r - corner) * size + c - corner for r in (19, 20, 21) for c in (19, 20, 21)])
    own = plane[corner : corner + size, corner : corner + size].ravel()
    # The least of x' Q x over the free samples against its value as it is.
    gradient = (precision @ own)[free]
    assert told.departs(20, 20, 1) == pytest.approx(gradient @ np.linalg.solve(precision[np.ix_(free, free)], gradient), rel=1e-4)


def test_a_profile_explains_what_it_drew() -> None:
    told = texture_of(soft(5, (64, 64), 1.5))
    weights, kernel = told.weights[0, 0], KERNELS["mosaic"]
    drawn = np.zeros((64, 64), np.float32)
    drawn[31:34, 31:34] = kernel
    left = cv2.filter2D(drawn, -1, weights, borderType=cv2.BORDER_CONSTANT)
    assert (left[31:34, 31:34] * kernel).sum() == pytest.approx(explained(weights, kernel), rel=1e-5)


@pytest.mark.parametrize("name", ["astronaut", "chelsea", "coffee"])
def test_sites_stand_out_of_still_photographs(name: str) -> None:
    """Photographs of scikit-image, a little enlarged; samples 40 codes off among thousands that differ by as much from their neighbours."""
    picture = cv2.cvtColor(getattr(skimage.data, name)(), cv2.COLOR_RGB2GRAY).astype(np.float32)
    picture = cv2.resize(picture, (768, 480), interpolation=cv2.INTER_CUBIC)
    rng = np.random.default_rng(6)
    rows, cols = rng.integers(10, 470, 12), rng.integers(10, 758, 12)
    spoiled = picture.copy()
    spoiled[rows, cols] += 40 * rng.choice([-1, 1], 12).astype(np.float32)
    stands = texture_of(spoiled).stands_out({"sharp": KERNELS["sharp"]})
    peaks = np.where(stands >= cv2.dilate(stands, np.ones((5, 5))), stands, 0)
    strongest = np.argsort(-peaks.ravel())[:24]
    hit = sum(np.abs(np.array(divmod(int(n), 768)) - (r, c)).max() <= 1 for r, c in zip(rows, cols, strict=True) for n in strongest)
    assert hit >= 9
