"""Bands that roll through the picture: their spacing, how they climb, and their profile, from the light of rows over time."""

from __future__ import annotations

from dataclasses import dataclass, field, replace

import numpy as np
from numpy.typing import NDArray
from scipy.ndimage import gaussian_filter1d

Course = NDArray[np.float64]

HARMONICS = 6
# Frames over which what keeps its place is nobody's band: for finding them, and for their profile. The finest and coarsest spacing looked for.
_SLOW, SLOWEST = 6.0, 30.0
_LEAST, _MOST = 0.3, 0.22
_ROUNDS = 12
# Samples of the light of rows that err together.
_ALIKE = 10.0


@dataclass(frozen=True)
class BandModel:
    """Log light ``sum_h a_h cos 2 pi h (spacing y + phase) + b_h sin 2 pi h (spacing y + phase)``, y from 0 to 1 over the picture.

    Attributes
    ----------
    spacing : float
        Bands over the picture.
    phase : ndarray, float64, (frames,)
        In periods, followed from frame to frame; no number where there are no bands.
    profile : ndarray, float64, (harmonics, 2)
        `a` and `b`.
    explained : float
        Share of the fast changes of rows that it explains, 0 to 1.
    rest : ndarray, float64, (frames, places)
        Log light evenly over the picture that was measured beside it; (frames, 0) for none.
    """

    spacing: float
    phase: Course
    profile: NDArray[np.float64]
    explained: float
    rest: Course = field(default_factory=lambda: np.zeros((0, 0)))

    @property
    def step(self) -> float:
        """By how much of a period they climb from frame to frame: -0.5 to 0.5, positive towards the top of the picture."""
        turns = np.exp(2j * np.pi * np.diff(self.phase))
        turns = turns[np.isfinite(turns)]
        return float(np.angle(turns.mean()) / (2 * np.pi)) if len(turns) else 0.0

    @property
    def swing(self) -> float:
        """Half the distance from the darkest to the brightest, in log light."""
        wave = _wave(np.linspace(0, 1, 200, endpoint=False), self.profile)
        return float(wave.max() - wave.min()) / 2

    def at(self, places: Course) -> Course:
        """Log light at places of the picture, 0 to 1: (frames, places)."""
        at = np.asarray(places)
        light: Course = np.nan_to_num(_wave(self.spacing * at[None] + self.phase[:, None], self.profile))
        if not self.rest.size:
            return light
        known = (np.arange(self.rest.shape[1]) + 0.5) / self.rest.shape[1]
        return np.asarray(light + np.stack([np.interp(at, known, frame) for frame in self.rest]))

    def in_frame(self, at: int) -> BandModel:
        """Those of one frame."""
        return replace(self, phase=self.phase[at : at + 1], rest=self.rest[at : at + 1])


def _wave(turns: Course, profile: Course) -> Course:
    total = np.zeros(turns.shape)
    for h, (a, b) in enumerate(profile, start=1):
        total += a * np.cos(2 * np.pi * h * turns) + b * np.sin(2 * np.pi * h * turns)
    return total


def _slope(turns: Course, profile: Course) -> Course:
    total = np.zeros(turns.shape)
    for h, (a, b) in enumerate(profile, start=1):
        total += 2 * np.pi * h * (b * np.cos(2 * np.pi * h * turns) - a * np.sin(2 * np.pi * h * turns))
    return total


def fast(rows: Course, slow: float = _SLOW) -> Course:
    """What of the light of rows (frames, rows) changes within so many frames."""
    return np.asarray(rows - gaussian_filter1d(rows, slow, axis=0, mode="nearest"))


def fit_bands(rows: Course, start: float | None = None, seen: NDArray[np.bool_] | None = None, slow: float = _SLOW) -> BandModel | None:
    """Fit bands to the log light of rows.

    Parameters
    ----------
    rows : ndarray, float64, (frames, rows)
        Its slow changes are not gone by.
    start : float
        Bands over the picture where they are known; found when None.
    seen : ndarray, bool, (rows,)
        The rows that can be gone by; all when None.
    slow : float
        Frames over which what keeps its place is not gone by.

    Returns
    -------
    BandModel or None
        None for fewer than five frames, or rows that do not change.
    """
    count, n = rows.shape
    y = (np.arange(n) + 0.5) / n
    if seen is not None:
        rows, y = rows[:, seen], y[seen]
    lively = fast(rows, slow)
    power = float((lively * lively).sum())
    if count < 5 or len(y) < 8 or power <= 1e-12:
        return None
    if start is None:
        tried = np.arange(_LEAST, _MOST * n, 0.05)
        start = float(tried[int(np.argmax([_held(lively, y, s) for s in tried]))])
    basis = np.stack([np.ones(len(y)), np.cos(2 * np.pi * start * y), np.sin(2 * np.pi * start * y)], 1)
    _, cosine, sine = np.linalg.lstsq(basis, lively.T, rcond=None)[0]
    phase = np.arctan2(-sine, cosine) / (2 * np.pi)
    spacing, profile = start, np.zeros((HARMONICS, 2))
    for turn in range(_ROUNDS):
        turns = spacing * y[None] + phase[:, None]
        # The finer parts of the profile come in once the phases hold.
        used = min(HARMONICS, 1 + turn // 2)
        profile = _profile(lively, turns, used, slow)
        miss = lively - fast(_wave(turns, profile), slow)
        slope = _slope(turns, profile)
        # The mean over the picture is not the bands' alone: phases go by their shape.
        flat = slope - slope.mean(1, keepdims=True)
        moved = (miss * flat).sum(1) / ((flat * flat).sum(1) + 0.05 * (flat * flat).sum() / count + 1e-12)
        phase = phase + np.clip(moved, -0.1, 0.1)
        lever = slope * (y - y.mean())[None]
        spacing += float(np.clip(0.7 * (miss * lever).sum() / max(float((lever * lever).sum()), 1e-12), -0.1, 0.1))
    turns = spacing * y[None] + phase[:, None]
    profile = _profile(fast(rows, SLOWEST), turns, HARMONICS, SLOWEST)
    miss = lively - fast(_wave(turns, profile), slow)
    return BandModel(spacing, phase, profile, max(0.0, 1 - float((miss * miss).sum()) / power))


def _profile(lively: Course, turns: Course, used: int, slow: float) -> Course:
    """The profile that fits best at given phases, its finest parts left at nothing."""
    columns = [fast(f(2 * np.pi * h * turns), slow).ravel() for h in range(1, used + 1) for f in (np.cos, np.sin)]
    matrix = np.stack(columns, 1)
    normal, right = matrix.T @ matrix, matrix.T @ lively.ravel()
    found = np.linalg.solve(normal[:2, :2] + 1e-9 * np.eye(2), right[:2])
    if used > 1:
        # Harmonics that hardly climb are hardly seen, and what drifts stands in for them: they are thought to fall off as a lamp's do.
        miss = lively.ravel() - matrix[:, :2] @ found
        size = 0.3 * float(np.hypot(*found)) / np.arange(2, used + 1) ** 2 + 1e-6
        ridge = np.concatenate([np.zeros(2), np.repeat(_ALIKE * float(np.mean(miss * miss)) / size**2, 2)])
        found = np.linalg.solve(normal + np.diag(ridge + 1e-9), right)
    profile = np.zeros((HARMONICS, 2))
    profile[:used] = found.reshape(used, 2)
    return profile


def _held(lively: Course, y: Course, spacing: float) -> float:
    """How much of the changes bands of a spacing hold beyond what the mean over the picture does."""
    basis, _ = np.linalg.qr(np.stack([np.ones(len(y)), np.cos(2 * np.pi * spacing * y), np.sin(2 * np.pi * spacing * y)], 1))
    return float(((lively @ basis[:, 1:]) ** 2).sum())
