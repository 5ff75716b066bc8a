"""What the pages are shown is what is there: frames, parts, slices and differences against the reel itself."""

from __future__ import annotations

import contextlib
import shutil
import threading
from pathlib import Path

import numpy as np
import pytest

from nimbus_sweep.core.base.errors import Overtaken
from nimbus_sweep.core.media.reader import MovieReader
from nimbus_sweep.core.media.view import crop, to_bgr
from nimbus_sweep.core.pipeline.analyses import chain
from nimbus_sweep.core.pipeline.at_hand import light_path
from nimbus_sweep.jobs.reels import volume_path
from nimbus_sweep.store import edits
from nimbus_sweep.store.models import Reel, database
from nimbus_sweep.web.viewing import NotReady, Viewing
from tests.conftest import SITES, small, write_movie
from tests.web.conftest import Desk


@pytest.fixture
def taken(desk: Desk, reel: Path) -> int:
    """A reel with its sites placed and the step on, the analysis not made yet."""
    reel_id = desk.take_in(Path(shutil.copy(reel, desk.services.allowed[0] / "pan.mkv")))
    desk.post(
        f"/reels/{reel_id}/recipe",
        {
            "steps": [
                {"kind": "pixel-mend", "settings": {"sites": [{"x": s.x, "y": s.y, "width": s.size, "height": s.size} for s in SITES]}}
            ]
        },
    )
    database.connect(reuse_if_open=True)
    return reel_id


def test_waiting_for_the_analysis_is_said(desk: Desk, taken: int) -> None:
    viewing, reel = desk.services.viewing, desk.reel(taken)
    assert not viewing.ready(reel)
    with pytest.raises(NotReady, match="still being learned"):
        viewing.frame(reel, 3, "treated")
    answer = desk.client.get(f"/reels/{taken}/frame/3.jpg?view=treated")
    assert answer.status_code == 425
    assert "learned" in answer.get_json()["error"]
    desk.work()
    assert desk.client.get(f"/reels/{taken}/frame/3.jpg?view=treated").status_code == 200


def test_what_is_kept_of_a_shot_is_made_again_where_it_is_damaged(desk: Desk, taken: int) -> None:
    desk.work()
    address = f"/reels/{taken}/slice/row/{SITES[0].y}.jpg"
    whole = desk.client.get(address).data
    reel = desk.reel(taken)
    shot = edits.shot_of(reel)
    volume = volume_path(desk.services.data, reel, shot.first, shot.stop)
    for path in (volume, light_path(volume)):
        path.write_bytes(path.read_bytes()[:500])
    desk.services.viewing.forget(reel)
    assert desk.client.get(address).status_code == 425
    desk.post(f"/reels/{taken}/open")
    desk.post(f"/reels/{taken}/survey")
    desk.work()
    assert desk.task("survey").state == "done"
    assert desk.client.get(address).data == whole


def test_slices_are_the_frames_laid_along_time(desk: Desk, taken: int) -> None:
    desk.work()
    viewing, reel = desk.services.viewing, desk.reel(taken)
    shot = edits.shot_of(reel)
    reader = MovieReader(reel.path)
    y, x = SITES[0].y, SITES[0].x
    treated = chain(reader, viewing.analyses(reel, shot).load(edits.resolved(shot), reader.format), 0, len(reader))
    for view, source in (("source", reader), ("treated", treated)):
        row, column = viewing.row_slice(reel, shot, y, view), viewing.column_slice(reel, shot, x, view)
        assert row.shape == (30, 160, 3)
        assert column.shape == (96, 30, 3)
        for n in (0, 7, 29):
            whole = to_bgr(source.frame(n)).astype(int)
            # Chroma is interpolated over the edges of the part that is converted: at most a step or two there.
            assert np.abs(row[n] - whole[y]).max() <= 3
            assert np.abs(column[:, n] - whole[:, x]).max() <= 3
    gap = viewing.row_slice(reel, shot, y, "difference", 4)
    assert (gap[:, x] > 40).any(1).all(), "the mend shows in every frame"
    assert gap[:, :20].max() == 0


def test_parts_stay_inside_the_picture(desk: Desk, taken: int) -> None:
    frame = desk.services.viewing.frame(desk.reel(taken), 0)
    assert crop(frame, 150, 90, 50, 50).shape == (6, 10, 3)
    assert crop(frame, -5, -5, 8, 8).shape == (8, 8, 3)
    assert crop(frame, 9000, 9000, 8, 8).shape == (1, 1, 3)
    assert np.array_equal(crop(frame, 0, 0, 160, 96), to_bgr(frame))


def test_what_is_kept_open_is_bounded(desk: Desk, taken: int) -> None:
    viewing = Viewing(desk.services.data, most=1)
    made = []
    for n in range(20):
        viewing._keep(("thing", n), lambda n=n: made.append(n) or n)
    assert len(viewing._held) <= 5
    viewing._keep(("thing", 19), lambda: made.append(99))
    assert 99 not in made, "what is held is not made again"


def test_a_file_that_changed_is_not_shown_from_what_is_held(desk: Desk, taken: int) -> None:
    reel = desk.reel(taken)
    desk.services.viewing.frame(reel, 2)
    with open(reel.path, "ab") as stream:
        stream.write(b"more")
    answer = desk.client.get(f"/reels/{taken}/value/2?x=4&y=4")
    assert answer.status_code == 409
    again = desk.post(f"/reels/{taken}/intake")
    assert again.status_code == 200
    desk.work()
    assert desk.reel(taken).state == "ready"
    assert desk.client.get(f"/reels/{taken}/value/2?x=4&y=4").status_code == 200


def test_the_light_is_drawn_from_a_summary(desk: Desk, taken: int) -> None:
    reel = desk.reel(taken)
    reader = MovieReader(reel.path)
    told = desk.client.get(f"/reels/{taken}/light?points=30").get_json()
    for n in (0, 11, 29):
        mean = reader.frame(n).planes[0].mean() / 255
        assert told["low"][n] == pytest.approx(mean, abs=2e-3)
    part = desk.client.get(f"/reels/{taken}/light?first=10&stop=20&points=5").get_json()
    assert (part["first"], part["stop"], len(part["low"])) == (10, 20, 5)
    assert all(low <= high for low, high in zip(part["low"], part["high"], strict=True))


def test_a_frame_that_is_not_wanted_any_more_is_given_up(desk: Desk, tmp_path: Path) -> None:
    """In a file of one key frame a distant picture takes long; the reader gives it up and goes on from where it was."""
    path = write_movie(desk.services.allowed[0] / "one-key.mp4", small(38), "libx264", options={"g": "9999", "sc_threshold": "0"})
    reader = MovieReader(path, cache_bytes=0)
    asked: list[int] = []

    def overtaken() -> bool:
        asked.append(1)
        return len(asked) > 5

    reader.overtaken = overtaken
    with pytest.raises(Overtaken):
        reader.frame(35)
    assert len(asked) == 6
    reader.overtaken = None
    assert np.array_equal(reader.frame(35).planes[0], next(iter(MovieReader(path).frames(35, 36))).planes[0])
    reel_id = desk.take_in(path)
    viewing, reel = desk.services.viewing, desk.reel(reel_id)
    wanted = [threading.Thread(target=lambda n=n: _asked(viewing, reel, n, asked)) for n in range(30, 37)]
    for thread in wanted:
        thread.start()
    for thread in wanted:
        thread.join(20)
    assert not any(t.is_alive() for t in wanted)
    assert viewing.frame(reel, 12).number == 12, "the last wish is always granted"


def _asked(viewing: Viewing, reel: Reel, number: int, asked: list[int]) -> None:
    with contextlib.suppress(NotReady):
        asked.append(viewing.frame(reel, number, passing=True).number)
