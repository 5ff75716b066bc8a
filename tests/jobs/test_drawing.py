"""The demo's reels: on the rack at once, drawn one after another in an order that can be changed, taken in when they are whole."""

from __future__ import annotations

import json
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path

import cv2
import numpy as np
import pytest

from nimbus_sweep.core.base.errors import Cancelled, DiskFull, SweepError
from nimbus_sweep.demo import catalogue
from nimbus_sweep.demo.catalogue import Listed
from nimbus_sweep.demo.reels import REELS
from nimbus_sweep.demo.station import Camera, draw
from nimbus_sweep.jobs import drawing, work
from nimbus_sweep.jobs.queue import Queue
from nimbus_sweep.store.data import DataFolder
from nimbus_sweep.store.models import Reel, Task, database
from tests.conftest import small, write_movie


@pytest.fixture
def drawn(monkeypatch: pytest.MonkeyPatch) -> list[str]:
    """Drawing that takes no time, and what was drawn."""
    order: list[str] = []

    def draw(self: Listed, folder: Path, told: Callable[[float], None]) -> Path:
        folder.mkdir(parents=True, exist_ok=True)
        told(0.5)
        order.append(self.file)
        path = write_movie(folder / self.file, small(4, 64, 48), codec="ffv1" if self.file.endswith("mkv") else "libx264")
        path.with_name(f"{path.stem}.truth.json").write_text("{}")
        return path

    monkeypatch.setattr(Listed, "draw", draw)
    return order


def draw_all(data: DataFolder, many: int = 99) -> None:
    for _ in range(many):
        task = drawing.next_one()
        if task is None:
            return
        database.close()
        work.perform(data, task)
        database.connect(reuse_if_open=True)


def test_the_list_is_what_is_drawn() -> None:
    """The list names each reel without bringing in what draws it; both have to say the same."""
    from nimbus_sweep.demo import carriers, reels, spring

    made = {**reels.DRAWN, **carriers.DRAWN, **spring.DRAWN}
    assert sorted(made) == sorted(one.file for one in catalogue.ALL)
    for one in catalogue.ALL:
        assert made[one.file].frames == one.frames
        assert getattr(made[one.file], "title", one.title) == one.title
    assert [one.title[:7] for one in catalogue.ALL] == [f"Reel {n:02d}" for n in range(1, 30)]


def test_reels_stand_on_the_rack_before_they_are_drawn(data: DataFolder, drawn: list[str]) -> None:
    drawing.put_demo(data, Queue(data), {1, 2, 4})
    assert [reel.state for reel in Reel.select()] == ["drawing"] * 3
    assert drawn == []
    draw_all(data)
    assert drawn == [catalogue.ALL[n].file for n in (0, 1, 3)]
    assert [reel.state for reel in Reel.select()] == ["new"] * 3
    assert [t.reel.title for t in Task.select().where(Task.kind == "intake")] == [catalogue.ALL[n].title for n in (0, 1, 3)]


def test_one_can_be_put_first(data: DataFolder, drawn: list[str]) -> None:
    drawing.put_demo(data, Queue(data), {1, 2, 4, 7})
    reels = list(Reel.select().order_by(Reel.id))
    draw_all(data, 1)
    assert drawing.put_first(reels[2])
    assert drawing.put_first(reels[3])
    assert not drawing.put_first(reels[0]), "it is drawn"
    assert [drawing.line()[r.id].ahead for r in (reels[3], reels[2], reels[1])] == [0, 1, 2]
    draw_all(data)
    assert drawn == [catalogue.ALL[n].file for n in (0, 6, 3, 1)]


def test_time_left_adds_up_along_the_line(data: DataFolder, drawn: list[str]) -> None:
    drawing.put_demo(data, Queue(data), {1, 2, 4})
    one, two, three = Reel.select().order_by(Reel.id)
    Task.update(state="running", share=0.5, rate=36.0).where(Task.reel == one).execute()
    line = drawing.line()
    assert line[one.id].left == pytest.approx(72 / 36)
    assert line[two.id].left == pytest.approx((72 + 120) / 36)
    assert line[three.id].left == pytest.approx((72 + 120 + 90) / 36)
    assert (line[one.id].share, line[two.id].ahead) == (0.5, 1)


def test_a_second_start_goes_on(data: DataFolder, drawn: list[str]) -> None:
    queue = Queue(data)
    drawing.put_demo(data, queue, {1, 2, 4})
    draw_all(data, 1)
    # Killed while the second was being drawn: of it there is nothing yet.
    Task.update(state="running", attempts=1).where(Task.id == drawing.next_one()).execute()
    queue.resume()
    drawing.put_demo(data, queue, {1, 2, 4})
    assert Reel.select().count() == 3
    assert Task.select().where(Task.kind == "draw", Task.state == "waiting").count() == 2
    draw_all(data)
    assert drawn == [catalogue.ALL[n].file for n in (0, 1, 3)]
    assert Task.select().where(Task.kind == "intake").count() == 3


@pytest.mark.parametrize(
    ("failure", "state", "said"),
    [(DiskFull("No room is left."), "failed", "No room"), (Cancelled(), "cancelled", "stopped"), (ValueError("x"), "failed", "worker.log")],
)
def test_a_reel_that_cannot_be_drawn_says_why_and_the_next_start_tries_again(
    data: DataFolder, monkeypatch: pytest.MonkeyPatch, failure: Exception, state: str, said: str
) -> None:
    def fails(*_: object) -> Path:
        raise failure

    monkeypatch.setattr(Listed, "draw", fails)
    queue = Queue(data)
    drawing.put_demo(data, queue, {1})
    draw_all(data)
    reel = Reel.get()
    assert (reel.state, Task.get(Task.kind == "draw").state) == ("refused", state)
    assert said in reel.refusal
    drawing.put_demo(data, queue, {1})
    assert (Reel.get().state, Reel.get().refusal) == ("drawing", "")
    assert drawing.next_one() is not None


def test_reels_that_are_not_there_are_refused(data: DataFolder) -> None:
    with pytest.raises(SweepError, match="no demo reel 0, 99; there are 1 to 29"):
        drawing.put_demo(data, Queue(data), {0, 1, 99})
    assert not Reel.select().exists()


def test_a_reel_is_drawn_the_same_each_time(tmp_path: Path) -> None:
    """Bit for bit: the file with its sound, and its truth."""
    made = []
    for name in ("one", "other"):
        (tmp_path / name).mkdir()
        shares: list[float] = []
        path = replace(REELS[1], frames=6, stuck=1, halved=True).draw(tmp_path / name, shares.append)
        assert shares == pytest.approx([n / 6 for n in range(1, 7)])
        made.append((path.read_bytes(), path.with_suffix(".truth.json").read_bytes()))
    assert made[0] == made[1]
    assert json.loads(made[0][1])["frames"] == 6


def test_a_halved_frame_is_the_whole_one_made_smaller() -> None:
    camera = Camera(300.3, 60.2, 1.1)
    whole, half = draw(camera, 8.0, 3, 0.0), draw(camera, 8.0, 3, 0.0, halved=True)
    for plane, small_ in zip(whole, half, strict=True):
        made = cv2.resize(plane, small_.shape[::-1], interpolation=cv2.INTER_AREA).astype(float)
        assert np.abs(made - small_).mean() < 0.5
    noisy = draw(camera, 8.0, 3, halved=True)[0].astype(float) - half[0]
    made = cv2.resize(draw(camera, 8.0, 3)[0], half[0].shape[::-1], interpolation=cv2.INTER_AREA)
    own = made.astype(float) - cv2.resize(whole[0], half[0].shape[::-1], interpolation=cv2.INTER_AREA)
    assert noisy.std() == pytest.approx(own.std(), rel=0.05), "and so is its grain"
