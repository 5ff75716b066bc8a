"""Files with holes in them: what lay there is counted and keeps its numbers, and none is taken as whole."""

from __future__ import annotations

import random
from itertools import pairwise
from pathlib import Path

import numpy as np
import pytest

from nimbus_sweep.core.base.errors import DamagedReel, SweepError
from nimbus_sweep.core.media.holes import lost_stamps, segment_is_cut_short
from nimbus_sweep.core.media.reader import MovieReader
from tests.conftest import small, write_movie

FRAMES = 40
CODECS = {"ffv1": {}, "libx264": {"crf": "18", "bf": "2", "g": "12"}, "mpeg2video": {"b": "4M", "g": "8"}}


@pytest.fixture(scope="module")
def whole(tmp_path_factory: pytest.TempPathFactory) -> dict[str, Path]:
    folder = tmp_path_factory.mktemp("whole")
    return {name: write_movie(folder / f"{name}.mkv", small(FRAMES), name, options=options, sound=True) for name, options in CODECS.items()}


def wholly_read(path: Path) -> bool:
    """Whether a file is taken as whole by whoever reads all of it."""
    try:
        reader = MovieReader(path)
        reader.require_whole()
        return sum(not f.missing for f in reader.frames(0, len(reader))) == len(reader)
    except SweepError:
        return False


def test_whole_files_are_whole(whole: dict[str, Path]) -> None:
    for path in whole.values():
        assert wholly_read(path)
        assert MovieReader(path).facts.absent == ()
        assert not segment_is_cut_short(path)


@pytest.mark.parametrize("codec", CODECS)
def test_a_zeroed_stretch_loses_no_number(whole: dict[str, Path], tmp_path: Path, codec: str) -> None:
    sound, rng = whole[codec].read_bytes(), random.Random(5)
    for n in range(6):
        begin, size = rng.randrange(len(sound) // 4, len(sound) * 3 // 4), len(sound) // rng.choice([6, 10, 20])
        path = tmp_path / f"{n}.mkv"
        path.write_bytes(sound[:begin] + bytes(size) + sound[begin + size :])
        if path.read_bytes() == sound:
            continue
        assert not wholly_read(path)
        accepted = MovieReader(path, accept_missing=True)
        assert accepted.facts.absent or len(accepted) < FRAMES
        times = [accepted.time_of(k) for k in range(len(accepted))]
        assert max(b - a for a, b in pairwise(times)) < 1.5 / accepted.rate, "no gap is closed up, none is left"
        assert [f.missing for f in accepted.frames(0, len(accepted))] == [k in accepted.facts.absent for k in range(len(accepted))]


@pytest.mark.parametrize("codec", CODECS)
def test_a_file_that_is_cut_short_is_never_whole(whole: dict[str, Path], tmp_path: Path, codec: str) -> None:
    sound, rng = whole[codec].read_bytes(), random.Random(7)
    at = max(sound.rfind(b"\xa3"), sound.rfind(b"\xa1"))
    for n in range(8):
        path = tmp_path / f"{n}.mkv"
        path.write_bytes(sound[: rng.randrange(at // 2, at)])
        assert segment_is_cut_short(path)
        assert not wholly_read(path)


def test_frames_that_were_never_taken_are_not_lost() -> None:
    """A camera that leaves out pictures leaves nothing in the file, either."""
    stamps = [40 * k for k in range(60) if k not in (20, 21, 22)]
    packed = [(1000 * n, 1000, stamp) for n, stamp in enumerate(stamps)]
    assert lost_stamps(stamps, packed) == []
    holed = [(pos + 5000 * (stamp > 800), size, stamp) for pos, size, stamp in packed]
    assert lost_stamps(stamps, holed) == [800, 840, 880]
    assert lost_stamps(np.cumsum([40, 55, 33, 80] * 20).tolist(), holed) == [], "nothing can be told where times vary"


def test_what_is_missing_is_said_with_what_to_do(whole: dict[str, Path], tmp_path: Path) -> None:
    sound = whole["ffv1"].read_bytes()
    path = tmp_path / "holed.mkv"
    middle = len(sound) // 2
    path.write_bytes(sound[:middle] + bytes(len(sound) // 8) + sound[middle + len(sound) // 8 :])
    with pytest.raises(DamagedReel, match=r"frames are missing.*accept the missing frames"):
        MovieReader(path).require_whole()
