"""How a flat part of the scene moves: its place in each frame of a shot, told from one frame that serves as reference.

Corners carried by sparse flow (Lucas and Kanade 1981, pyramids: Bouguet 2000) and a robust model of them (MAGSAC++:
Barath et al. 2020, in OpenCV) tell roughly where the plane has gone; the picture of the plane in the reference is then
laid on the frame by inverse compositional Gauss-Newton steps (Baker and Matthews 2004) with Tukey's weights, on
pictures whose light is taken out (see `motion.look`), so that lamps do not move it. As it is always the reference that
is laid on the frame, errors do not add up; where the plane has changed its looks too far another frame is made a
reference, laid on the first.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import Any

import cv2
import numpy as np
from numpy.typing import NDArray

from ..base.errors import SweepError
from ..model.planes import LOST, WEAK, Followed, Matrix, Model, Points, State, box_corners, from_corners, moved
from ..model.regions import Masked
from .grain import flattest
from .motion import Plane
from .plane_fit import PARAMETERS, TOGETHER, USUAL, Crop, Laid, Reference, loosest

# Pixels about the plane that are looked at, besides how far it may have moved.
_ROOM = 48
# A new reference is made below this, or when the plane has become so many times larger or smaller.
_STALE, _RESIZED = 0.88, 1.45
# Share of the plane that must fit, and that times the correlation.
_FITS, _BOTH = 0.3, 0.4
# Share of it that must be on the picture.
_SEEN = 0.12
# Standard deviation of a corner, in pixels, above which a region is said not to hold.
_LOOSE = 0.5
# Size of the plane, in pixels, from which corners are carried on pictures of half the size.
_HALVED = 160
# Longest side of the picture a lost plane is looked for on.
_SEARCH = 320
Lights = Callable[[int], Plane | None]
HeldOut = Callable[[int], Plane | None]


@dataclass(frozen=True)
class _Path:
    """A path while it is followed; a list for each thing `Followed` has an array of."""

    ways: list[Matrix]
    misfit: list[float]
    loose: list[float]
    states: list[State]

    def add(self, way: Matrix, laid: Laid, state: State) -> None:
        self.ways.append(way)
        self.misfit.append(1 - laid.alike)
        self.loose.append(min(laid.loose, 1e3))
        self.states.append(state)

    def of(self, numbers: Sequence[int]) -> Followed:
        """The path in the order of its frames."""
        order = np.argsort(np.asarray(numbers), kind="stable")
        return Followed(
            np.asarray(numbers, np.int64)[order],
            np.asarray(self.ways)[order],
            np.asarray(self.misfit)[order],
            np.asarray(self.loose)[order],
            np.asarray(self.states, np.uint8)[order],
        )


class PlanarTracker:
    """Follows a plane from frame to frame.

    Parameters
    ----------
    lights : callable
        Gives the luma of a frame by its number, (height, width), float32, in 8-bit codes; None for one without a picture.
    region : Masked
        The plane, drawn as it lies in the reference frame.
    model : str
    hold_out : callable
        Gives what is kept out of a frame, 0 to 1, (height, width); None for nothing.

    Raises
    ------
    SweepError
        If the region is empty, or its picture cannot hold a track; the text says which larger one could.
    """

    def __init__(self, lights: Lights, region: Masked, model: Model, hold_out: HeldOut | None = None) -> None:
        self.lights, self.region, self.model = lights, region, model
        self.hold_out = hold_out or (lambda _: None)

    def follow(
        self,
        numbers: Sequence[int],
        matrix: Matrix | None = None,
        on_progress: Callable[[float], None] | None = None,
        corners: Points | None = None,
    ) -> Followed:
        """Follow the plane through frames.

        Parameters
        ----------
        numbers : sequence of int
            The frames, in the order they are gone through; the first is where the plane is known.
        matrix : ndarray
            From the plane to the first frame; identity when None.
        on_progress : callable
            Told the share done, 0 to 1; may raise to stop.
        corners : ndarray, float64, (4, 2)
            Of the plane's rectangle, by which it is judged; those of the region in the first frame when None.
        """
        first = numbers[0]
        start = np.eye(3) if matrix is None else matrix
        light = self.lights(first)
        if light is None:
            raise SweepError(f"Frame {first} has no picture; begin the track at another one.")
        self.noise = flattest(light, 9)
        self._drawn = self.region.mask(light.shape, first)
        self._corners = box_corners(self._drawn) if corners is None else corners
        references = [self._reference(first, light, start)]
        self._ensure_holds(references[0], light)
        path = _Path([start], [0.0], [self._sureness], [State.HELD])
        way, before = start, start
        last, lost, held = (references[0].crop, start), 0, 0
        for at in range(1, len(numbers)):
            number = numbers[at]
            light = self.lights(number)
            guess = way @ np.linalg.inv(before) @ way if lost == 0 else way
            if not _sane(guess, self._corners):
                guess = way
            laid, state, crop = self._at(number, light, guess, last if lost == 0 else None, references, lost)
            if state in (State.HELD, State.WEAK):
                if lost:
                    self._bridge(path.ways, held, laid.way)
                lost = 0
                before, way = (way, laid.way) if held == at - 1 else (laid.way, laid.way)
                if crop is not None:
                    last = (crop, way)
                self._renew(references, number, light, way, laid, state)
                held = at
            else:
                # What is not seen goes on as it went, ever more slowly.
                lost += 1
                drift = way @ np.linalg.inv(before)
                before, way = way, _partly(drift, 0.8, self._corners, way) if lost < 12 else way
            path.add(way, laid, state)
            if on_progress:
                on_progress(at / max(1, len(numbers) - 1))
        return path.of(numbers)

    def _reference(self, number: int, light: Plane, matrix: Matrix) -> Reference:
        mask = self.region.mask(light.shape, number)
        if not np.allclose(matrix, np.eye(3)):
            mask = cv2.warpPerspective(mask, matrix, light.shape[::-1], flags=cv2.INTER_LINEAR)
        held = self.hold_out(number)
        if held is not None:
            mask = mask * (held < 0.05)
        corners = moved(self._corners, matrix)
        crop = Crop.of(light, corners, _ROOM, self.noise)
        if crop is None:
            raise SweepError("The region of the track lies off the picture. Draw it on a part that is seen.")
        return Reference(crop, matrix, mask, corners, self.model)

    def _ensure_holds(self, reference: Reference, light: Plane) -> None:
        self._sureness = self._loose_on_itself(reference)
        if self._sureness <= _LOOSE:
            return
        size = np.ptp(self._corners, axis=0).max()
        for grown in (0.25, 0.5, 1.0, 2.0):
            room = int(np.ceil(grown * size))
            mask = cv2.dilate(reference.mask, np.ones((2 * room + 1, 2 * room + 1), np.uint8))
            crop = Crop.of(light, box_corners(mask), _ROOM, self.noise)
            if crop is not None and self._loose_on_itself(Reference(crop, np.eye(3), mask, self._corners, self.model)) <= _LOOSE:
                raise SweepError(
                    "There is too little to hold on to in this region: its picture is almost even. "
                    f"With its surroundings it would hold: grow the region by {room} pixels, or draw it larger."
                )
        simpler = [m for m in PARAMETERS if PARAMETERS[m] < PARAMETERS[self.model]]
        for model in reversed(simpler):
            if self._loose_on_itself(Reference(reference.crop, reference.matrix, reference.mask, self._corners, model)) <= _LOOSE:
                raise SweepError(
                    f"There is too little in this region to hold a {self.model} track; it would hold one of {model}. Choose that."
                )
        raise SweepError(
            "There is nothing to hold on to in this region, nor around it: the picture is even there. Choose another part of the same plane."
        )

    def _loose_on_itself(self, reference: Reference) -> float:
        level = reference.levels[-1]
        if len(level.values) < 4 * level.count:
            return np.inf
        weighed = level.slopes * level.weight[:, None]
        variance = np.asarray(np.linalg.pinv(level.slopes.T @ weighed + 1e-9 * np.eye(level.count)), np.float64) * (USUAL**2 * TOGETHER)
        return loosest(variance, reference.reach, level.count) / float(reference.norm[0, 0])

    def _at(
        self,
        number: int,
        light: Plane | None,
        guess: Matrix,
        last: tuple[Crop, Matrix] | None,
        references: list[Reference],
        lost: int,
    ) -> tuple[Laid, State, Crop | None]:
        nothing = Laid(guess, 0.0, np.inf, 0.0, 0.0)
        if light is None:
            return nothing, State.BRIDGED, None
        corners = moved(self._corners, guess)
        size = float(np.ptp(corners, axis=0).max())
        room = _ROOM + min(120.0, 0.1 * size + 12 * lost)
        crop = Crop.of(light, corners, room, self.noise)
        if crop is None or _on_picture(self._corners, guess, light.shape) < _SEEN:
            return nothing, State.OUT, None
        held = self.hold_out(number)
        starts = []
        if last is not None:
            led = self._led(*last, guess, crop, held)
            if led is not None:
                starts.append((led, False))
        starts.append((guess, True))
        best: Laid = nothing
        nearest = sorted(references, key=lambda r: abs(np.log(_scale(r.matrix, self._corners) / max(_scale(guess, self._corners), 1e-6))))
        for start, far in starts:
            for reference in nearest[:2]:
                laid = reference.laid_on(crop, held, start @ np.linalg.inv(reference.matrix), far)
                laid = Laid(laid.way @ reference.matrix / (laid.way @ reference.matrix)[2, 2], laid.alike, laid.loose, laid.fits, laid.seen)
                if _sane(laid.way, self._corners) and laid.alike * laid.fits > best.alike * best.fits:
                    best = laid
                if best.alike > WEAK and best.fits > 0.5:
                    break
            if best.alike > WEAK and best.fits > 0.5:
                break
        if best.alike < LOST or best.alike * best.fits < _BOTH:
            again = self._sought(light, nearest[0], guess, held, lost)
            if again is not None and again.alike * again.fits > best.alike * best.fits:
                best = again
        # Held by a part of it alone, that must be the more like.
        known = best.alike * best.fits >= _BOTH or (best.alike > 0.85 and best.fits >= _FITS)
        if best.alike < LOST or not known or best.seen < 0.05:
            return best, State.OUT if _on_picture(self._corners, guess, light.shape) < 0.3 else State.BRIDGED, None
        sure = best.alike >= WEAK and best.loose <= 2 * _LOOSE and best.fits >= 0.5
        return best, State.HELD if sure else State.WEAK, crop

    def _led(self, before: Crop, last_way: Matrix, guess: Matrix, crop: Crop, held: Plane | None) -> Matrix | None:
        """Where sparse flow from the frame before leads the plane."""
        factor = 2 if np.ptp(self._corners, axis=0).max() >= _HALVED else 1
        # Both on one picture: places differ by where the parts lie.
        left, top = min(before.left, crop.left), min(before.top, crop.top)
        one, other = (_placed(c, left, top, before, crop) for c in (before, crop))
        if factor > 1:
            small = (one.shape[1] // factor, one.shape[0] // factor)
            one, other = (cv2.resize(p, small, interpolation=cv2.INTER_AREA) for p in (one, other))
        to_small = np.array([[1 / factor, 0, (0.5 - left) / factor - 0.5], [0, 1 / factor, (0.5 - top) / factor - 0.5], [0, 0, 1]])
        region = cv2.warpPerspective(self._drawn, to_small @ last_way, one.shape[::-1], flags=cv2.INTER_NEAREST)
        points = cv2.goodFeaturesToTrack(one, 120, 0.02, 5, mask=(region > 0.5).astype(np.uint8))
        if points is None or len(points) < 6:
            return None
        # Broad light is taken out of these pictures: on much smaller ones there is nothing to go by.
        how: dict[str, Any] = {"winSize": (21, 21), "maxLevel": 2, "flags": cv2.OPTFLOW_USE_INITIAL_FLOW}
        led = to_small @ guess @ np.linalg.inv(to_small @ last_way)
        hope = moved(points.reshape(-1, 2).astype(np.float64), led).astype(np.float32).reshape(-1, 1, 2)
        moved_points, found, _ = cv2.calcOpticalFlowPyrLK(one, other, points, hope, **how)
        back, again, _ = cv2.calcOpticalFlowPyrLK(other, one, moved_points, points.copy(), **how)
        good = (found.ravel() > 0) & (again.ravel() > 0) & (np.abs(back - points).max(-1).ravel() < 1.0)
        from_small = np.linalg.inv(to_small)
        a, b = (moved(p.reshape(-1, 2).astype(np.float64), from_small) for p in (points, moved_points))
        if held is not None:
            rows, cols = (np.clip(np.rint(b[:, k]), 0, held.shape[1 - k] - 1).astype(np.intp) for k in (1, 0))
            good &= held[rows, cols] < 0.05
        a, b = a[good], b[good]
        if len(a) < 6:
            return None
        model: Any
        if self.model == "perspective" and len(a) >= 12:
            model, _ = cv2.findHomography(a, b, cv2.USAC_MAGSAC, 1.5)
        else:
            model, _ = cv2.estimateAffinePartial2D(a, b, ransacReprojThreshold=1.5)
            model = None if model is None else np.vstack([model, [0, 0, 1]])
        if model is None:
            return None
        way = np.asarray(model, np.float64) @ last_way
        way = way / way[2, 2]
        if not _sane(way, self._corners):
            return None
        return way if self.model == "perspective" else from_corners(self._corners, moved(self._corners, way), self.model)

    def _sought(self, light: Plane, reference: Reference, guess: Matrix, held: Plane | None, lost: int) -> Laid | None:
        """Look for a lost plane about where it should be, by its picture on a small one."""
        corners = moved(self._corners, guess)
        size = np.ptp(corners, axis=0)
        reach = max(40.0, 0.5 * float(size.max())) + 16 * lost
        wide = Crop.of(light, corners, reach, self.noise)
        if wide is None:
            return None
        factor = max(1.0, float(max(wide.look.gray.shape)) / _SEARCH)
        # The plane's own picture as it would lie there.
        to_place = np.array([[1, 0, -np.floor(corners[:, 0].min())], [0, 1, -np.floor(corners[:, 1].min())], [0, 0, 1.0]])
        way = guess @ np.linalg.inv(reference.matrix)
        from_crop = np.array([[1, 0, reference.crop.left], [0, 1, reference.crop.top], [0, 0, 1.0]])
        shape = (int(max(16, np.ceil(size[0]))), int(max(16, np.ceil(size[1]))))
        template = cv2.warpPerspective(reference.crop.look.gray, to_place @ way @ from_crop, shape, borderMode=cv2.BORDER_REPLICATE)
        small = tuple(max(8, round(v / factor)) for v in shape)
        template = cv2.resize(template, small, interpolation=cv2.INTER_AREA)
        where = cv2.resize(
            wide.look.gray,
            (round(wide.look.gray.shape[1] / factor), round(wide.look.gray.shape[0] / factor)),
            interpolation=cv2.INTER_AREA,
        )
        if template.shape[0] >= where.shape[0] or template.shape[1] >= where.shape[1]:
            return None
        score = cv2.matchTemplate(where, template, cv2.TM_CCOEFF_NORMED)
        _, best, _, (x, y) = cv2.minMaxLoc(score)
        if best < 0.3:
            return None
        shift = np.array([x * factor + wide.left, y * factor + wide.top]) - np.floor(corners.min(0))
        start = np.array([[1, 0, shift[0]], [0, 1, shift[1]], [0, 0, 1.0]]) @ guess
        crop = Crop.of(light, moved(self._corners, start), _ROOM + 16, self.noise)
        if crop is None:
            return None
        laid = reference.laid_on(crop, held, start @ np.linalg.inv(reference.matrix))
        way_found = laid.way @ reference.matrix
        way_found = way_found / way_found[2, 2]
        return Laid(way_found, laid.alike, laid.loose, laid.fits, laid.seen) if _sane(way_found, self._corners) else None

    def _renew(self, references: list[Reference], number: int, light: Plane | None, way: Matrix, laid: Laid, state: State) -> None:
        """Make the frame a reference where the plane has come to look unlike those there are, yet is held well."""
        if light is None or state is not State.HELD or laid.fits < 0.8 or laid.seen < 0.6:
            return
        scale = _scale(way, self._corners)
        near = min(abs(np.log(scale / _scale(r.matrix, self._corners))) for r in references)
        if (laid.alike < _STALE or near > np.log(_RESIZED)) and len(references) < 12:
            references.append(self._reference(number, light, way))

    def _bridge(self, ways: list[Matrix], last: int, way: Matrix) -> None:
        """Lay what was not seen evenly between where the plane was last held and where it is again."""
        one, other = moved(self._corners, ways[last]), moved(self._corners, way)
        span = len(ways) - last
        for k in range(last + 1, len(ways)):
            share = (k - last) / span
            ways[k] = from_corners(self._corners, one + share * (other - one), self.model)


def _placed(crop: Crop, left: int, top: int, one: Crop, other: Crop) -> NDArray[np.uint8]:
    """A part of a picture on the least one that holds both."""
    right = max(c.left + c.look.gray.shape[1] for c in (one, other))
    bottom = max(c.top + c.look.gray.shape[0] for c in (one, other))
    gray = crop.look.gray
    x, y = crop.left - left, crop.top - top
    return cv2.copyMakeBorder(gray, y, bottom - top - y - gray.shape[0], x, right - left - x - gray.shape[1], cv2.BORDER_REPLICATE)


def _partly(drift: Matrix, share: float, corners: Points, way: Matrix) -> Matrix:
    """A part of a move, from where the plane is."""
    here = moved(corners, way)
    carried_corners = moved(here, drift / drift[2, 2])
    if not np.isfinite(carried_corners).all() or np.abs(carried_corners - here).max() > 2 * np.ptp(here, axis=0).max():
        return way
    return from_corners(corners, here + share * (carried_corners - here))


def _scale(way: Matrix, corners: Points) -> float:
    """How many times larger than in the reference the plane is."""
    return float(np.sqrt(_area(moved(corners, way)) / max(_area(corners), 1e-6)))


def _area(corners: Points) -> float:
    x, y = corners.T
    return abs(float(x @ np.roll(y, -1) - y @ np.roll(x, -1))) / 2


def _sane(way: Matrix, corners: Points) -> bool:
    """Whether a way leaves the plane a plane: not turned inside out, not collapsed, not blown up."""
    depth = corners @ way[2, :2] + way[2, 2]
    if not np.isfinite(way).all() or (depth < 0.05).any():
        return False
    carried_corners = moved(corners, way)
    sides = np.roll(carried_corners, -1, 0) - carried_corners
    turns = sides[:, 0] * np.roll(sides, -1, 0)[:, 1] - sides[:, 1] * np.roll(sides, -1, 0)[:, 0]
    grown = _area(carried_corners) / max(_area(corners), 1e-6)
    return bool(np.isfinite(carried_corners).all() and (turns > 0).all() and 0.02 < grown < 50)


def _on_picture(corners: Points, way: Matrix, shape: tuple[int, int]) -> float:
    """The share of the plane's rectangle that is on the picture."""
    carried_corners = moved(corners, way).astype(np.float32)
    area = _area(carried_corners.astype(np.float64))
    picture = np.array([[0, 0], [shape[1] - 1, 0], [shape[1] - 1, shape[0] - 1], [0, shape[0] - 1]], np.float32)
    share, _ = cv2.intersectConvexConvex(carried_corners, picture)
    return float(share) / max(area, 1e-6)
