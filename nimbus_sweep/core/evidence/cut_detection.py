"""Where a reel is cut.

Cuts are found by the PySceneDetect library's adaptive detector (its score is the mean change of hue, saturation
and brightness, held against that of the frames around); what it names is then checked for flashes, after which
the picture from before comes back.
"""

from __future__ import annotations

import cv2
import numpy as np
from numpy.typing import NDArray
from scenedetect import FrameTimecode
from scenedetect.detectors import AdaptiveDetector

from ..model.shots import FoundCut

_WIDTH = 160
_THUMB = (32, 18)
# How much stronger than around it a change must be, and how large (0 to 255), for the library to name it.
_RATIO, _CHANGE = 2.5, 8.0
# A flash is over within so many frames.
_FLASH = 8
# Correlation of two pictures' structure from which they show the same scene, and that across a flash at least.
_SAME, _BACK = 0.75, 0.2
# The same where the picture between has no structure: the scene may have moved on behind it.
_SAME_MOVING, _FLAT, _BRIGHTER = 0.45, 6, 15
# Correlation across a change from which only the light has changed.
_LIGHT_ALONE = 0.96
# Fine structure of small pictures: the blur of the light it is told from, tiles down and across, what makes one structured, how
# many have to be, and their correlation where the scene is the same (measured: 0.97 across flashes, at most 0.1 across cuts).
_FINE, _TILES, _STRUCTURED, _LEAST_TILES, _SAME_TILE = 1.6, (3, 4), 0.15, 4, 0.7
# Mean brightness, 0 to 255, below which a picture is black to the eye.
_BLACK = 12


class CutFinder:
    """Looks for cuts as frames go by, as small pictures."""

    def __init__(self) -> None:
        self._detector = AdaptiveDetector(adaptive_threshold=_RATIO, min_scene_len=2, min_content_val=_CHANGE)
        self._thumbs: list[NDArray[np.uint8]] = []
        self._named: list[int] = []
        self._frames = 0
        self._before: NDArray[np.uint8] | None = None

    def add(self, picture: NDArray[np.uint8], missing: bool = False) -> None:
        """Take in the next frame as a small picture (height, width, 3), blue, green, red."""
        if missing and self._before is not None:
            # A missing frame is no change of scene.
            picture = self._before
        tall = max(8, round(picture.shape[0] * _WIDTH / picture.shape[1]))
        # Smoothed, so that grain does not count as change.
        small = cv2.blur(cv2.resize(picture, (_WIDTH, tall), interpolation=cv2.INTER_AREA), (3, 3))
        self._before = picture
        grey = cv2.cvtColor(cv2.resize(small, _THUMB, interpolation=cv2.INTER_AREA), cv2.COLOR_BGR2GRAY)
        self._thumbs.append(grey)
        self._named += [found.frame_num for found in self._detector.process_frame(FrameTimecode(self._frames, 24.0), small)]
        self._frames += 1

    def finish(self) -> list[FoundCut]:
        """The cuts of all frames taken in."""
        kept: list[FoundCut] = []
        for at in self._named:
            if not (self._moves(at) or self._light_alone(at) or self._comes_back(at) or self._fades(at)):
                change = float(cv2.absdiff(self._thumbs[at - 1], self._thumbs[at]).mean())
                kept.append(FoundCut(at, round(change, 1)))
        return kept

    def _moves(self, at: int) -> bool:
        """Whether the picture changes no more there than from frame to frame around: a fast movement that begins or ends."""
        around = [n for n in range(at - 6, at + 7) if n != at and 0 < n < len(self._thumbs)]
        usual = float(np.median([self._unlike(n) for n in around])) if around else 0.0
        return self._unlike(at) < 1.5 * usual

    def _unlike(self, at: int) -> float:
        """How far the structure of a frame is from that of the one before; two without structure are alike."""
        before, behind = self._thumbs[at - 1], self._thumbs[at]
        if max(float(before.std()), float(behind.std())) < _FLAT:
            return 0.0
        return 1 - _alike(before, behind)

    def _light_alone(self, at: int) -> bool:
        """Whether the scene stays and only its light changes."""
        before, behind = self._thumbs[at - 1], self._thumbs[at]
        across = _alike(before, behind)
        if across > _LIGHT_ALONE or _same_all_over(before, behind):
            return True
        if abs(float(before.mean()) - float(behind.mean())) < _BRIGHTER:
            return False
        # A scene that moves is as like itself from frame to frame beside the change as across it.
        beside = [_alike(*self._thumbs[n - 1 : n + 1]) for n in (at - 2, at - 1, at + 1, at + 2) if 0 < n < len(self._thumbs)]
        return bool(beside) and 1 - across < 0.02 + 2.5 * (1 - max(_SAME, float(np.median(beside))))

    def _fades(self, at: int) -> bool:
        """Whether the picture goes into black or comes out of it little by little there."""
        around = [float(p.mean()) for p in self._thumbs[max(0, at - _FLASH) : at + _FLASH]]
        pair = (float(self._thumbs[at - 1].mean()), float(self._thumbs[at].mean()))
        return min(pair) < _BLACK and max(pair) < 0.5 * max(around)

    def _comes_back(self, at: int) -> bool:
        """Whether the change at `at` begins or ends something short, before and after which the scene is the same."""
        before, behind = self._thumbs[at - 1], self._thumbs[at]
        burst = max(before, behind, key=lambda p: float(p.mean()))
        flat = min(float(before.std()), float(behind.std())) < _FLAT
        # What flashes is brighter, or has no picture left in it; a short shot of something else is a shot.
        brighter = float(burst.mean()) - min(float(before.mean()), float(behind.mean())) > _BRIGHTER
        if not flat and not (brighter and _alike(before, behind) > _BACK):
            return False
        first = self._thumbs[max(0, at - _FLASH) : at]
        later = self._thumbs[at : at + _FLASH]
        best = max((_alike(one, other) for one in first for other in later), default=-1.0)
        return best > (_SAME_MOVING if flat else max(_SAME, 1 - 0.5 * (1 - _alike(before, behind))))


def _same_all_over(one: NDArray[np.uint8], other: NDArray[np.uint8]) -> bool:
    """Whether the fine structure of two small pictures is the same in every part: lamps may throw what light they will.

    Each row and each column of tiles has to agree, so that bars about a picture, or a line of text, do not speak for it.
    """
    flat = []
    for picture in (one, other):
        light = np.log(picture.astype(np.float32) + 8)
        flat.append(light - cv2.GaussianBlur(light, (0, 0), _FINE))
    down, across = one.shape[0] // _TILES[0], one.shape[1] // _TILES[1]
    differences = np.full(_TILES, np.nan)
    for row, col in np.ndindex(_TILES):
        part = np.s_[row * down : (row + 1) * down, col * across : (col + 1) * across]
        a, b = (f[part] - f[part].mean() for f in flat)
        size = float(np.sqrt((a * a).sum() * (b * b).sum()))
        if size > _STRUCTURED:
            differences[row, col] = float((a * b).sum()) / size
    lines = [line[~np.isnan(line)] for line in (*differences, *differences.T)]
    return int((~np.isnan(differences)).sum()) >= _LEAST_TILES and all(float(np.median(line)) > _SAME_TILE for line in lines if len(line))


def _alike(one: NDArray[np.uint8], other: NDArray[np.uint8]) -> float:
    """Correlation of two pictures' structure, brightness and contrast left out; 0 where one has none."""
    a, b = (p.astype(np.float32) - p.mean() for p in (one, other))
    size = float(np.sqrt((a * a).sum() * (b * b).sum()))
    return float((a * b).sum() / size) if size > 50 else 0.0
