"""One pass over a shot: every frame once and in order, laid on its neighbours along a known motion, whatever the cores."""

from __future__ import annotations

import threading
from collections.abc import Iterator
from dataclasses import dataclass, field

import cv2
import numpy as np
import pytest

from benchmarks.material import MemorySource
from nimbus_sweep.core.base.parallel import CORES
from nimbus_sweep.core.evidence.frames_at_hand import Span
from nimbus_sweep.core.evidence.moments import Moment, each_moment, looked_at_size
from nimbus_sweep.core.media.frames import Frame, blank
from nimbus_sweep.core.media.layout import picture_format

HEIGHT, WIDTH, STEP = 120, 180, 3
TEXTURE = cv2.GaussianBlur(np.random.default_rng(4).uniform(0, 255, (HEIGHT, WIDTH + 90)).astype(np.float32), (0, 0), 2.0)
TEXTURE = ((TEXTURE - TEXTURE.min()) / np.ptp(TEXTURE) * 200 + 20).astype(np.uint8)


@dataclass
class Counted(MemorySource):
    """Frames that say how many of them were asked for; some are missing."""

    asked: list[int] = field(default_factory=list)
    gone: frozenset[int] = frozenset()

    def frames(self, first: int, stop: int) -> Iterator[Frame]:
        """Frames `first` to `stop` - 1."""
        for number in range(first, stop):
            self.asked.append(number)
            yield blank(number, self.format, self.colour) if number in self.gone else self.frame(number)


def panning(count: int, gone: frozenset[int] = frozenset()) -> Counted:
    """A scene that goes to the left by three pixels a frame."""
    grey = np.full((HEIGHT // 2, WIDTH // 2), 128, np.uint8)
    pictures = [(np.ascontiguousarray(TEXTURE[:, STEP * n : STEP * n + WIDTH]), grey, grey) for n in range(count)]
    return Counted(pictures, picture_format("yuv420p", WIDTH, HEIGHT), gone=gone)


def span(source: Counted) -> Span:
    return Span.of(source, 0, len(source))


@pytest.fixture(params=[1, 2, 5])
def cores(request: pytest.FixtureRequest, monkeypatch: pytest.MonkeyPatch) -> int:
    monkeypatch.setenv(CORES, str(request.param))
    return int(request.param)


@pytest.mark.parametrize("count", [1, 2, 3, 4, 9])
def test_every_frame_is_looked_at_once_and_given_in_order(count: int, cores: int) -> None:
    told = [(at.place, at.frame.number, seen) for at, seen in each_moment(span(panning(count)), lambda m: (m.offsets, m.beside), noise=0.5)]
    assert [(place, number) for place, number, _ in told] == [(n, n) for n in range(count)]
    for n, _, (offsets, beside) in told:
        assert offsets == [k for k in (-2, -1, 1, 2) if 0 <= n + k < count]
        if 0 < n < count - 1:
            assert beside == (-1, 1)
        elif count > 2:
            assert beside == ((1, 2) if n == 0 else (-1, -2))


def test_neighbours_lie_where_the_scene_has_gone(cores: int) -> None:
    def error(at: Moment) -> dict[int, tuple[float, float]]:
        inner = np.s_[30:-30, 30:-30]
        laid = {k: at.neighbour(k) for k in at.offsets}
        away = {k: float(np.abs(n.light - at.light)[inner].mean()) for k, n in laid.items()}
        return {k: (away[k], float(np.median(laid[k].motion(inner)[..., 0]))) for k in laid}

    for at, found in each_moment(span(panning(7)), error, noise=0.5):
        for k, (left_over, went) in found.items():
            assert went == pytest.approx(-STEP * k, rel=0.1), at.place
            unmoved = float(np.abs(TEXTURE[:, STEP * abs(k) :][:, :WIDTH].astype(float) - TEXTURE[:, :WIDTH]).mean())
            assert left_over < 0.3 * unmoved


@pytest.mark.parametrize("times", [1, 4])
def test_a_part_of_a_neighbour_is_that_part_of_the_whole(times: int) -> None:
    source = panning(6)
    large = [tuple(cv2.resize(p, None, fx=times, fy=times, interpolation=cv2.INTER_CUBIC) for p in planes) for planes in source.pictures]
    wide = Counted(large, picture_format("yuv420p", times * WIDTH, times * HEIGHT))
    box = np.s_[20:70, 30:110]

    def apart(at: Moment) -> list[float]:
        parts = {k: at.neighbour(k, box) for k in at.offsets}
        found = []
        for k, part in parts.items():
            whole = at.neighbour(k)
            found += [float(np.abs(getattr(part, name) - getattr(whole, name)[box]).max()) for name in ("light", "x", "y")]
            assert np.array_equal(part.seen, whole.seen[box])
            assert np.array_equal(at.neighbour(k, box).light, whole.light[box])
        return found

    for _, found in each_moment(span(wide), apart, noise=0.5):
        assert max(found) < 0.05


def test_what_is_found_does_not_depend_on_the_cores(monkeypatch: pytest.MonkeyPatch) -> None:
    def seen(many: str) -> list[float]:
        monkeypatch.setenv(CORES, many)
        return [light for _, light in each_moment(span(panning(8)), lambda m: float(m.neighbour(m.beside[0]).light.sum()), noise=0.5)]

    assert seen("1") == seen("2") == seen("4")


def test_frames_that_cannot_be_read_leave_no_gap() -> None:
    source = panning(9, gone=frozenset({3, 7}))
    told = [(at.place, at.frame.number) for at, _ in each_moment(span(source), lambda m: None, noise=0.5)]
    assert told == list(enumerate([0, 1, 2, 4, 5, 6, 8]))


def test_only_a_few_frames_are_held(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setenv(CORES, "2")
    source = panning(30)
    for at, _ in each_moment(span(source), lambda m: None, noise=0.5):
        assert len(source.asked) - at.place <= 9


def test_it_stops_when_nobody_asks_on(cores: int) -> None:
    source, before = panning(30), threading.active_count()
    asked = each_moment(span(source), lambda m: None, noise=0.5)
    next(asked)
    asked.close()  # type: ignore[attr-defined]
    assert len(source.asked) < 15
    assert threading.active_count() == before


def test_a_failure_to_look_is_the_callers(cores: int) -> None:
    def fails(at: Moment) -> None:
        if at.place == 4:
            raise ZeroDivisionError

    given = []
    with pytest.raises(ZeroDivisionError):
        for at, _ in each_moment(span(panning(9)), fails, noise=0.5):
            given.append(at.place)
    assert given == [0, 1, 2, 3]


@pytest.mark.parametrize(("size", "times"), [((144, 176), 1), ((480, 720), 1), ((720, 1280), 2), ((1080, 1920), 3), ((2160, 3840), 6)])
def test_large_pictures_are_looked_at_smaller(size: tuple[int, int], times: int) -> None:
    assert looked_at_size(*size) == times
    assert min(size) / times >= 144
