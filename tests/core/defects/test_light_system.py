"""The light lost at each place of the glass, from all pairs of frames at once."""

from __future__ import annotations

import numpy as np
import pytest
from numpy.typing import NDArray
from scipy.sparse import csr_matrix, diags, identity, kron
from scipy.sparse.linalg import spsolve

from nimbus_sweep.core.defects.static_shade import light_system
from nimbus_sweep.core.defects.static_shade.light_system import POWER, WHITE, Equations, equations, left_over, solve
from nimbus_sweep.core.defects.static_shade.veils import Veil, laid_over, raised_by, undone
from nimbus_sweep.core.evidence.moved_pairs import PairBlocks

SHAPE = (40, 60)


def disc(x: float, y: float, radius: float, depth: float, soft: float = 3.0) -> NDArray[np.float32]:
    """Share of light lost."""
    down, across = np.mgrid[: SHAPE[0], : SHAPE[1]]
    return (depth * np.clip((radius + soft - np.hypot(across - x, down - y)) / (2 * soft), 0, 1)).astype(np.float32)


def pairs(share: NDArray[np.float32], laid: float, motions: list[tuple[float, float]], seed: int = 1, noise: float = 0.0) -> PairBlocks:
    """A scene that moves by so many blocks between two frames, seen through glass that takes a share and lays linear light over it."""
    rng = np.random.default_rng(seed)
    rows, columns = SHAPE
    down, across = np.mgrid[:rows, :columns].astype(np.float64)
    waves = rng.uniform(0.05, 0.5, (12, 2)), rng.uniform(0, 6, 12)

    def scene(x: NDArray[np.float64], y: NDArray[np.float64]) -> NDArray[np.float64]:
        total = sum(np.sin(k[0] * x + k[1] * y + p) for k, p in zip(*waves, strict=True))
        return 110 + 22 * total

    def seen(light: NDArray[np.float64], lost: NDArray[np.float64]) -> NDArray[np.float32]:
        linear = (np.clip(light, 30, WHITE) / WHITE) ** POWER * (1 - lost) + lost * laid
        return (WHITE * linear ** (1 / POWER) + noise * rng.standard_normal(light.shape)).astype(np.float32)

    own, other, weight, motion = [], [], [], []
    for n, (dx, dy) in enumerate(motions):
        at_x, at_y = across + dx, down + dy
        on = (at_x >= 0) & (at_y >= 0) & (at_x < columns - 1) & (at_y < rows - 1)
        x, y = np.clip(at_x, 0, columns - 1.001), np.clip(at_y, 0, rows - 1.001)
        i, j = x.astype(int), y.astype(int)
        a, b = x - i, y - j
        there = (1 - b) * ((1 - a) * share[j, i] + a * share[j, i + 1]) + b * ((1 - a) * share[j + 1, i] + a * share[j + 1, i + 1])
        light = scene(across + 40 * n, down)
        own.append(seen(light, share))
        other.append(seen(light, there))
        weight.append(on.astype(np.float16))
        motion.append(np.stack([np.full(SHAPE, dx), np.full(SHAPE, dy)], -1))
    own, other = ([np.maximum(v, 0) for v in seen_by] for seen_by in (own, other))
    return PairBlocks(4, np.stack(own), np.stack(other), np.stack(weight), np.stack(motion).astype(np.float16))


MOVES = [(dx * s, dy * s) for s in (1, -1) for dx, dy in ((3, 0), (6, 1), (9, -1), (12, 2), (4, 4), (8, -3), (2, -2), (14, 0))]


@pytest.mark.parametrize("laid", [0.0, 0.08])
def test_a_veil_wider_than_any_motion_is_solved_for(laid: float) -> None:
    share = np.maximum(disc(20, 18, 9, 0.35, 4), disc(48, 28, 7, 0.2))
    blocks = pairs(share, laid, MOVES, noise=0.3)
    told = equations(blocks, np.arange(len(MOVES)))
    found = min((solve(told, k * told.mean_light) for k in (0, 0.3, 0.6)), key=lambda one: one.cost)
    assert np.sqrt(np.mean((1 - np.exp(found.map) - share) ** 2)) < 0.02
    assert found.laid == pytest.approx(laid, abs=0.02)


def test_of_clean_glass_nothing_is_lost() -> None:
    blocks = pairs(np.zeros(SHAPE, np.float32), 0.0, MOVES, noise=1.0)
    told = equations(blocks, np.arange(len(MOVES)))
    found = solve(told, 0.0)
    assert np.abs(found.map).max() < 0.03
    assert found.laid < 0.2


def test_whole_frames_that_differ_in_their_light_are_no_veil() -> None:
    share = disc(30, 20, 8, 0.3)
    blocks = pairs(share, 0.0, MOVES)
    dimmed = PairBlocks(
        4, blocks.own * np.linspace(0.8, 1.2, len(MOVES), dtype=np.float32)[:, None, None], *list(vars(blocks).values())[2:]
    )
    told = equations(dimmed, np.arange(len(MOVES)))
    found = solve(told, 0.0, free=False)
    assert np.sqrt(np.mean((1 - np.exp(found.map) - share) ** 2)) < 0.02


def test_what_passes_in_a_few_pairs_is_no_veil() -> None:
    share = disc(30, 20, 8, 0.3)
    blocks = pairs(share, 0.0, MOVES)
    blocks.own[:3, 5:20, 40:55] *= 0.5
    told = equations(blocks, np.arange(len(MOVES)))
    lost = 1 - np.exp(solve(told, 0.0, free=False).map)
    assert np.abs(lost[5:20, 42:55]).max() < 0.05


def test_a_round_solves_the_normal_equations() -> None:
    """Against SciPy's direct solver of sparse systems."""
    rng = np.random.default_rng(4)
    blocks = pairs(disc(30, 20, 8, 0.3), 0.05, MOVES[:6], noise=0.5)
    told = equations(blocks, np.arange(6))
    count, places = len(told), SHAPE[0] * SHAPE[1]
    lost, held = rng.normal(0, 0.05, SHAPE), rng.uniform(0.01, 1, SHAPE)
    slopes, weight, miss = rng.normal(0, 1, (count, 3)), rng.uniform(0, 1, count), rng.normal(0, 0.1, count)
    step = light_system._descent(lost, held, 0.1, told.place, told.corner, told.part, slopes, weight, miss, 4000, 1e-14)
    a, b = told.part.T.astype(float)
    rows = np.arange(count)
    columns = SHAPE[1]
    parts = (((1 - a) * (1 - b), 0), (a * (1 - b), 1), ((1 - a) * b, columns), (a * b, columns + 1))
    matrix = csr_matrix((slopes[:, 0], (rows, told.place)), shape=(count, places + 1))
    for share, beyond in parts:
        matrix += csr_matrix((slopes[:, 1] * share, (rows, told.corner + beyond)), shape=(count, places + 1))
    matrix += csr_matrix((slopes[:, 2], (rows, np.full(count, places))), shape=(count, places + 1))

    def differences(n: int) -> csr_matrix:
        return diags([np.ones(n - 1), -np.ones(n - 1)], [0, 1], shape=(n - 1, n)).tocsr()

    down, across = kron(differences(SHAPE[0]), identity(columns)), kron(identity(SHAPE[0]), differences(columns))
    laplace = down.T @ down + across.T @ across
    bent = (0.1 * laplace @ laplace).tocoo()
    smooth = csr_matrix((bent.data, (bent.row, bent.col)), shape=(places + 1, places + 1))
    firm = diags(np.append(held.ravel() + 1e-3, 1e-3))
    asked = -(matrix.T @ (weight * miss))
    asked[:places] -= (held * lost).ravel() + (0.1 * laplace @ laplace) @ lost.ravel()
    exact = spsolve((matrix.T @ diags(weight) @ matrix + smooth + firm).tocsc(), asked)
    assert np.abs(step - exact).max() < 1e-4 * np.abs(exact).max()


def test_the_slopes_are_those_of_the_misses() -> None:
    share = disc(30, 20, 8, 0.3)
    told = equations(pairs(share, 0.05, MOVES[:4]), np.arange(4))
    lost, none = np.log(1 - share.astype(float)), np.zeros(4)
    change = np.random.default_rng(2).normal(0, 1e-6, SHAPE)
    miss, own, scene, laid = light_system._misses(told, lost, 0.05, none)
    along = light_system._carried_along(
        np.append(change.ravel(), 1e-6), np.stack([own, scene, laid], 1), told.place, told.corner, told.part, SHAPE[1]
    )
    moved = light_system._misses(told, lost + change, 0.05 + 1e-6, none)[0] - miss
    assert np.corrcoef(moved, along)[0, 1] > 0.99
    assert np.abs(miss).max() < 0.03, "the map that was laid in explains the pairs"


def test_what_is_left_falls_with_the_right_map() -> None:
    share = disc(30, 20, 8, 0.3)
    told: Equations = equations(pairs(share, 0.0, MOVES), np.arange(len(MOVES)))
    everywhere = np.ones(len(told), bool)
    nothing, right = (left_over(told, m, 0.0, everywhere) for m in (np.zeros(SHAPE), np.log(1 - share.astype(float))))
    assert right < 0.05 * nothing
    assert left_over(told, np.zeros(SHAPE), 0.0, ~everywhere) == 0


def test_a_veil_of_linear_light_is_laid_on_and_taken_off() -> None:
    light = np.linspace(5, 210, 300, dtype=np.float32)[None].repeat(3, 0)
    share = np.linspace(0, 0.5, 300, dtype=np.float32)[None].repeat(3, 0)
    veil = Veil(level=80.0, power=2.2)
    spoiled = laid_over(light, share, veil)
    assert spoiled[0, 200] == pytest.approx(
        219 * ((light[0, 200] / 219) ** 2.2 * (1 - share[0, 200]) + share[0, 200] * (80 / 219) ** 2.2) ** (1 / 2.2), rel=1e-4
    )
    given = undone(spoiled.astype(np.float32), share, veil)
    assert np.abs(given - light).max() < 0.05
    raised = raised_by(spoiled, given, share, veil)
    # A small difference grows as told.
    grown = (undone((spoiled + 0.01).astype(np.float32), share, veil) - given) / 0.01
    assert np.allclose(raised[:, 20:], grown[:, 20:], rtol=0.1)
    assert np.allclose(raised_by(spoiled, given, share, Veil()), 1 / (1 - share))
