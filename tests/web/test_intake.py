"""Intake, shots, deliveries and the rack as the pages ask for them; bad input is explained and nothing is lost."""

from __future__ import annotations

import io
import json
import tarfile
from concurrent.futures import ThreadPoolExecutor
from fractions import Fraction
from pathlib import Path

import av
import numpy as np
import pytest

from nimbus_sweep.core.media.layout import to_picture
from nimbus_sweep.core.media.opening import open_reel
from nimbus_sweep.jobs.reels import reading_of
from nimbus_sweep.store import edits
from nimbus_sweep.store.models import Job, Reel, Task, database
from nimbus_sweep.wording.reels import remark
from tests.conftest import SITES, small, write_movie
from tests.core.media.test_sequence import put, samples, sequence
from tests.web.conftest import ASKED, Desk
from tests.web.test_app import picture, state


@pytest.fixture
def edited(desk: Desk) -> int:
    """A reel of three real shots."""
    shots = [small(20), small(16, name="bunny"), small(24, name="bikes-2")]
    source = shots[0].over([p for s in shots for p in s.pictures])
    return desk.take_in(write_movie(desk.services.allowed[0] / "edit.mkv", source, sound=True))


@pytest.fixture
def scanned(desk: Desk) -> int:
    return desk.take_in(sequence(desk.services.allowed[0] / "scan", ".dpx", (11, 12, 13, 15, 16, 17, 18, 19, 20), "uint16", 3, 10))


def shots_of(desk: Desk, reel_id: int) -> list[tuple[int, int]]:
    return [(s["first"], s["stop"]) for s in state(desk, reel_id)["shots"]]


def test_cuts_found_moved_taken_out_and_undone(desk: Desk, edited: int) -> None:
    assert shots_of(desk, edited) == [(0, 20), (20, 36), (36, 60)]
    sheet = desk.client.get(f"/reels/{edited}/sheet/intake").get_data(as_text=True)
    assert "2 cuts found" in sheet
    desk.post(f"/reels/{edited}/cuts/confirm")
    assert "cuts found" not in desk.client.get(f"/reels/{edited}/sheet/intake").get_data(as_text=True)
    desk.post(f"/reels/{edited}/cuts", {"at": 45})
    assert desk.post(f"/reels/{edited}/cuts/20/move", {"to": 18}).status_code == 200
    assert shots_of(desk, edited) == [(0, 18), (18, 36), (36, 45), (45, 60)]
    desk.post(f"/reels/{edited}/cuts/36/remove")
    assert shots_of(desk, edited) == [(0, 18), (18, 45), (45, 60)]
    for _ in range(3):
        desk.post(f"/reels/{edited}/undo")
    assert shots_of(desk, edited) == [(0, 20), (20, 36), (36, 60)]
    for url, body, said in (
        ("cuts", {"at": 20}, "already"),
        ("cuts", {"at": 900}, "outside"),
        ("cuts/21/remove", {}, "no cut"),
        ("cuts/20/move", {"to": 50}, "next cut"),
    ):
        answer = desk.post(f"/reels/{edited}/{url}", body)
        assert answer.status_code == 422
        assert said in answer.get_json()["error"]
    assert desk.post(f"/reels/{edited}/cuts", {"at": "x"}).status_code == 400


def test_shots_are_named_excluded_and_given_points(desk: Desk, edited: int) -> None:
    describe = f"/reels/{edited}/shot?shot=1"
    for body in ({"name": "Sea"}, {"use": "leave"}, {"enter": 24}, {"leave": 30}, {"handles": 2}):
        assert desk.post(describe, body).status_code == 200
    shot = edits.shot_of(desk.reel(edited), 1)
    assert (shot.name, shot.use, shot.enter, shot.leave, shot.span) == ("Sea", "leave", 24, 30, (22, 32))
    assert desk.post(describe, {"enter": 10}).status_code == 422
    assert desk.post(describe, {"use": "burn"}).status_code == 400
    assert desk.post(f"/reels/{edited}/shot?shot=9", {"name": "x"}).status_code == 409


def test_lists_place_cuts_and_go_out(desk: Desk, edited: int) -> None:
    text = desk.client.get(f"/reels/{edited}/cuts.edl").get_data(as_text=True)
    assert text.count("\n00") == 3
    otio = desk.client.get(f"/reels/{edited}/cuts.otio").get_data(as_text=True)
    desk.post(f"/reels/{edited}/cuts/20/remove")
    for name, body in (("a.edl", text), ("b.otio", otio)):
        assert desk.post(f"/reels/{edited}/cut-list", {"name": name, "text": body}).status_code == 200
        assert shots_of(desk, edited) == [(0, 20), (20, 36), (36, 60)]
    for name, body, said in (
        ("c.edl", "fog", "cannot be read"),
        ("c.txt", text, "neither"),
        ("c.edl", text.replace("00:00:02:10", "00:01:02:10"), "another reel"),
    ):
        answer = desk.post(f"/reels/{edited}/cut-list", {"name": name, "text": body})
        assert answer.status_code == 422
        assert said in answer.get_json()["error"]
    assert shots_of(desk, edited) == [(0, 20), (20, 36), (36, 60)], "nothing is lost"


def test_each_shot_is_surveyed_treated_and_delivered_for_itself(desk: Desk, spoiled, tmp_path: Path) -> None:
    source = spoiled[0].over([*spoiled[0].pictures[:24], *small(16, name="bunny").pictures])
    reel_id = desk.take_in(write_movie(desk.services.allowed[0] / "two.mkv", source, sound=True))
    assert shots_of(desk, reel_id) == [(0, 24), (24, 40)]
    desk.post(f"/reels/{reel_id}/survey?shots=all")
    desk.work()
    told = [desk.client.get(f"/reels/{reel_id}/state?shot={n}").get_json()["sites"] for n in (0, 1)]
    assert {(s["x"], s["y"]) for s in told[0] if s["state"] == "kept"} == {(s.x, s.y) for s in SITES}
    assert not [s for s in told[1] if s["state"] == "kept"]
    desk.post(f"/reels/{reel_id}/steps?shot=0", {"kind": "pixel-mend"})
    desk.work()
    assert state(desk, reel_id)["treated"]
    assert desk.post(f"/reels/{reel_id}/delivery", {"part": "shots"}).status_code == 200
    desk.post(f"/reels/{reel_id}/shot?shot=0", {"leave": 20})
    desk.work()
    desk.post(f"/reels/{reel_id}/render")
    desk.work()
    task = desk.task("render")
    assert task.state == "done", task.error
    assert [f["frames"] for f in task.result["files"]] == [20, 16]
    first = tmp_path / "first.mkv"
    first.write_bytes(desk.client.get(f"/deliveries/{task.id}/file/0").data)
    made, reader = open_reel(first), open_reel(desk.reel(reel_id).path)
    differ = [not np.array_equal(a.planes[0], b.planes[0]) for a, b in zip(made.frames(0, 20), reader.frames(0, 20), strict=True)]
    assert all(differ)
    desk.post(f"/reels/{reel_id}/compare")
    desk.work()
    compared = desk.task("inspection")
    assert compared.state == "done", compared.error
    assert compared.result["proven"]
    assert compared.result["frames"] == 36
    # The whole reel: the shot without a step comes out untouched.
    desk.post(f"/reels/{reel_id}/delivery", {"part": "reel"})
    desk.post(f"/reels/{reel_id}/recipe/everywhere?shot=0")
    desk.work()
    desk.post(f"/reels/{reel_id}/render")
    desk.work()
    desk.post(f"/reels/{reel_id}/compare")
    desk.work()
    assert desk.task("inspection").result["changed_frames"] == [[0, 19]]


def test_repeats_are_told_treated_once_and_left_out_on_request(desk: Desk, spoiled, tmp_path: Path) -> None:
    carried = spoiled[0].over([spoiled[0].pictures[n * 4 // 5] for n in range(35)])
    reel_id = desk.take_in(write_movie(desk.services.allowed[0] / "carried.mkv", carried, rate=Fraction(30)))
    assert "4 frames carried as 5" in desk.client.get(f"/reels/{reel_id}/sheet/intake").get_data(as_text=True)
    lanes = desk.client.get(f"/reels/{reel_id}/lanes").get_json()
    assert [n for n, v in enumerate(lanes["repeated"]) if v] == [n for n in range(35) if n % 5 == 1]
    assert "at 24 fr/s" in desk.client.get(f"/reels/{reel_id}/sheet/delivery").get_data(as_text=True)
    desk.post(f"/reels/{reel_id}/survey")
    desk.post(f"/reels/{reel_id}/steps", {"kind": "pixel-mend"})
    desk.work()
    desk.work()
    desk.post(f"/reels/{reel_id}/delivery", {"distinct": True})
    desk.post(f"/reels/{reel_id}/render")
    desk.work()
    task = desk.task("render")
    assert task.state == "done", task.error
    path = tmp_path / "film.mkv"
    path.write_bytes(desk.client.get(f"/deliveries/{task.id}/file/0").data)
    film = open_reel(path)
    assert (len(film), film.rate) == (28, 24)
    desk.post(f"/reels/{reel_id}/compare")
    desk.work()
    assert desk.task("inspection").result["proven"], desk.task("inspection").error


def test_a_correction_shows_at_once_and_keeps_the_work(desk: Desk, scanned: int) -> None:
    before = picture(desk.client.get(f"/reels/{scanned}/frame/2.jpg"))
    assert desk.post(f"/reels/{scanned}/reading", {"transfer": "linear"}).status_code == 200
    assert state(desk, scanned)["reel"] == "ready", "it stays open meanwhile"
    at_once = picture(desk.client.get(f"/reels/{scanned}/frame/2.jpg"))
    assert np.abs(before.astype(int) - at_once).mean() > 10
    desk.work()
    later = picture(desk.client.get(f"/reels/{scanned}/frame/2.jpg"))
    assert np.abs(later.astype(int) - at_once).mean() < 0.5 * np.abs(before.astype(int) - at_once).mean(), "the small copies were made anew"
    for body, said in (
        ({"rate": "fog"}, "24000/1001"),
        ({"aspect": "9"}, "between 1:4"),
        ({"matrix": "709x"}, "709"),
        ({"colour": "red"}, "not permitted"),
    ):
        answer = desk.post(f"/reels/{scanned}/reading", body)
        assert answer.status_code == 400
        assert said in answer.get_json()["error"]
    desk.post(f"/reels/{scanned}/reading", {"rate": "18"})
    assert desk.reel(scanned).facts.rate == "18"
    desk.post(f"/reels/{scanned}/reading", {"rate": ""})
    assert desk.reel(scanned).facts.rate == "24"


def test_corrections_that_come_at_once_all_hold(desk: Desk, scanned: int) -> None:
    wanted = [{"rate": "18"}, {"transfer": "linear"}, {"aspect": "4:3"}, {"levels": "limited"}]
    app = desk.client.application

    def correct(one: dict[str, str]) -> int:
        return app.test_client().post(f"/reels/{scanned}/reading", json=one, headers=ASKED).status_code

    with ThreadPoolExecutor(4) as pool:
        assert list(pool.map(correct, wanted)) == [200] * 4
    held = reading_of(desk.reel(scanned))
    assert (held.rate, held.transfer, held.aspect, held.levels) == ("18", "linear", "4:3", "limited")


def test_a_gap_stays_a_gap_in_the_delivery(desk: Desk, scanned: int) -> None:
    assert state(desk, scanned)["shots"][0]["stop"] == 10
    assert desk.client.get(f"/reels/{scanned}/value/3?x=1&y=1").get_json()["missing"]
    desk.post(f"/reels/{scanned}/render")
    desk.work()
    assert "1 frame is missing" in desk.task("render").error, "nothing is delivered until that is accepted"
    assert "Accept 1 missing frame" in desk.client.get(f"/reels/{scanned}/sheet/intake").text
    assert "Accepted" in desk.post(f"/reels/{scanned}/accept-missing").get_json()["said"]
    desk.post(f"/reels/{scanned}/render")
    desk.work()
    task = desk.task("render")
    assert task.state == "done", task.error
    answer = desk.client.get(f"/deliveries/{task.id}/file/0")
    names = sorted(Path(m.name).name for m in tarfile.open(fileobj=io.BytesIO(answer.data)).getmembers())
    assert names == [*(f"fog.{n:04d}.dpx" for n in (11, 12, 13, 15, 16, 17, 18, 19, 20)), "report.json"]
    desk.post(f"/reels/{scanned}/compare")
    desk.work()
    assert desk.task("inspection").result["proven"], desk.task("inspection").error
    assert desk.post(f"/deliveries/{task.id}/remove").status_code == 200
    assert not desk.services.data.delivery(task.id, "x").parent.exists()


def test_unreadable_pictures_are_named_and_the_rest_usable(desk: Desk) -> None:
    folder = sequence(desk.services.allowed[0] / "fog", numbers=tuple(range(1, 13)))
    (folder / "fog.0005.png").write_bytes(b"not a picture")
    reel_id = desk.take_in(folder)
    reel = desk.reel(reel_id)
    assert reel.state == "ready"
    assert reel.facts.absent == (4,)
    assert "1 frame cannot be read: 4" in " ".join(map(remark, reel.facts.notes))


def test_mixed_sizes_are_refused_until_they_are_accepted(desk: Desk) -> None:
    folder = sequence(desk.services.allowed[0] / "fog", numbers=tuple(range(1, 9)))
    put(folder / "fog.0004.png", samples("uint8", 3, 8, 4, (12, 14)))
    reel_id = desk.take_in(folder)
    assert desk.reel(reel_id).state == "refused"
    assert "fog.0004.png is 14 x 12" in desk.reel(reel_id).refusal
    assert "Accept it as it is" in desk.client.get(f"/reels/{reel_id}/sheet/intake").get_data(as_text=True)
    desk.post(f"/reels/{reel_id}/accept-missing")
    desk.work()
    assert desk.reel(reel_id).facts.absent == (3,)


@pytest.mark.parametrize("what", ["one", "none", "mixed", "link"])
def test_what_is_no_sequence_is_explained_before_it_is_taken_in(desk: Desk, tmp_path: Path, what: str) -> None:
    folder = desk.services.allowed[0] / "in"
    if what == "one":
        sequence(folder, numbers=(4,))
    elif what == "none":
        folder.mkdir()
        (folder / "notes.txt").write_text("fog")
    elif what == "mixed":
        sequence(folder)
        put(folder / "sea1.png", samples("uint8", 3, 8, 1))
        put(folder / "sea2.png", samples("uint8", 3, 8, 1))
    else:
        outside = sequence(tmp_path / "outside")
        folder.symlink_to(outside)
    answer = desk.post("/reels/open", {"path": str(folder)})
    assert answer.status_code == 422
    said = {"one": "sequence of one", "none": "no numbered pictures", "mixed": "several sequences", "link": "folders allowed"}[what]
    assert said in answer.get_json()["error"]
    database.connect(reuse_if_open=True)
    assert Reel.select().count() == 0


def test_a_sequence_is_sent_picture_by_picture(desk: Desk, tmp_path: Path) -> None:
    folder = sequence(tmp_path / "mine", numbers=tuple(range(1, 10)))
    token = desk.post("/reels/sequence", {"name": "../mine"}).get_json()["token"]
    for path in folder.iterdir():
        sent = desk.client.post(f"/reels/sequence/{token}/picture?name={path.name}", data=path.read_bytes(), headers=ASKED)
        assert sent.status_code == 200
    assert desk.client.post(f"/reels/sequence/{token}/picture?name=x.exe", data=b"x", headers=ASKED).status_code == 400
    assert desk.client.post("/reels/sequence/../../x/picture?name=a.png", data=b"x", headers=ASKED).status_code == 404
    reel_id = desk.post(f"/reels/sequence/{token}/finish", {"job": "Fog"}).get_json()["id"]
    desk.work()
    assert desk.reel(reel_id).facts.frames == 9
    assert desk.reel(reel_id).job.title == "Fog"


def _two_sounds(path: Path) -> Path:
    """Sound that goes on after the pictures end, and starts before them."""
    with av.open(str(path), "w") as out:
        video = out.add_stream("libx264", rate=25)
        assert isinstance(video, av.VideoStream)
        video.width, video.height, video.pix_fmt = 160, 96, "yuv420p"
        audio = out.add_stream("pcm_s16le", rate=48000, layout="mono")
        assert isinstance(audio, av.AudioStream)
        for n, frame in enumerate(small(20).frames(0, 20)):
            shot = to_picture(frame)
            shot.pts = n
            out.mux(video.encode(shot))
        out.mux(video.encode())
        block = av.AudioFrame.from_ndarray(np.arange(96000, dtype=np.int16)[None], format="s16", layout="mono")
        block.sample_rate, block.pts = 48000, 0
        out.mux(audio.encode(block))
        out.mux(audio.encode())
    return path


def test_sound_longer_than_the_picture_is_kept(desk: Desk, tmp_path: Path) -> None:
    reel_id = desk.take_in(_two_sounds(desk.services.allowed[0] / "long.mov"))
    reel = desk.reel(reel_id)
    assert reel.state == "ready", reel.refusal
    assert reel.facts.sounds[0].seconds == 2.0
    for kind in ("ffv1", "v210", "tiff"):
        desk.post(f"/reels/{reel_id}/delivery", {"kind": kind})
        desk.post(f"/reels/{reel_id}/render")
        desk.work()
        task = desk.task("render")
        assert task.state == "done", task.error
        out = desk.services.data.delivery(task.id, task.result["file"])
        sound = next(out.glob("*.wav")) if out.is_dir() else out
        with av.open(str(sound)) as container:
            assert sum(f.samples for f in container.decode(audio=0)) == 96000


@pytest.mark.parametrize(
    "stamps", [[n - 40 for n in range(12)], [n * 3 + (n % 3) for n in range(12)], [0, 0, 0, 1, 1, 2, 3, 4, 5, 6, 7, 8]]
)
def test_strange_time_stamps_do_not_stop_intake(desk: Desk, stamps: list[int]) -> None:
    path = desk.services.allowed[0] / "stamps.nut"
    try:
        write_movie(path, small(12), "ffv1", stamps=stamps)
    except (av.error.FFmpegError, ValueError):
        write_movie(path, small(12), "ffv1", stamps=sorted(set(stamps)) + [90 + n for n in range(12 - len(set(stamps)))])
    reel_id = desk.take_in(path)
    reel = desk.reel(reel_id)
    assert reel.state == "ready", reel.refusal
    assert reel.frames == 12
    assert float(Fraction(reel.facts.rate)) > 0


def test_the_rack_notes_renames_and_puts_away(desk: Desk, edited: int) -> None:
    database.connect(reuse_if_open=True)
    job = Job.get(Job.title == "Skerrow Point")
    assert desk.post(f"/jobs/{job.id}", {"reference": "SKP 4", "notes": "Fog <signal>"}).status_code == 200
    page = desk.client.get("/").get_data(as_text=True)
    assert "SKP 4" in page
    assert "Fog &lt;signal&gt;" in page
    assert desk.post(f"/jobs/{job.id}", {"title": " "}).status_code == 400
    assert desk.post(f"/reels/{edited}/rename", {"title": "The edit"}).status_code == 200
    assert desk.reel(edited).title == "The edit"
    assert desk.post(f"/reels/{edited}/rename", {"title": ""}).status_code == 400
    desk.post(f"/jobs/{job.id}", {"archived": True})
    assert "Put away" in desk.client.get("/rack/list").get_data(as_text=True)
    source = Path(desk.reel(edited).path)
    assert desk.post(f"/jobs/{job.id}/remove").status_code == 200
    assert source.exists(), "a source opened by path is never removed"
    database.connect(reuse_if_open=True)
    assert Reel.select().count() == Task.select().count() == 0
    assert not desk.services.data.of_reel(edited).exists()


def test_storage_tells_and_frees_what_can_be_made_again(desk: Desk, edited: int) -> None:
    desk.post(f"/reels/{edited}/open?shot=1")
    desk.work()
    assert list(desk.services.data.volumes(edited).glob("*.bin"))
    assert "edit" in desk.client.get("/storage").get_data(as_text=True)
    waiting = desk.post(f"/reels/{edited}/open?shot=2")
    assert waiting.status_code == 200
    assert "under way" in desk.post("/storage/free").get_json()["error"]
    desk.work()
    assert "freed" in desk.post("/storage/free").get_json()["said"]
    assert not list(desk.services.data.volumes(edited).glob("*.bin"))
    answer = desk.client.get(f"/reels/{edited}/slice/row/3.jpg?shot=1")
    assert answer.status_code == 425, "it is laid open again when it is looked at"
    desk.post(f"/reels/{edited}/open?shot=1")
    desk.work()
    assert desk.client.get(f"/reels/{edited}/slice/row/3.jpg?shot=1").status_code == 200


def test_an_open_reel_can_be_looked_at_while_it_is_read(desk: Desk) -> None:
    path = write_movie(desk.services.allowed[0] / "new.mkv", small(12))
    reel_id = desk.post("/reels/open", {"path": str(path)}).get_json()["id"]
    database.connect(reuse_if_open=True)
    reader = open_reel(path)
    from nimbus_sweep.jobs.reels import facts_of

    stat = path.stat()
    Reel.update(state="open", frames=12, facts=facts_of(reader), size=stat.st_size, modified=stat.st_mtime_ns).where(
        Reel.id == reel_id
    ).execute()
    assert picture(desk.client.get(f"/reels/{reel_id}/frame/3.jpg?w=160")).shape == (96, 160, 3)
    assert desk.client.get(f"/reels/{reel_id}/crop/3.png?x=0&y=0&w=9&h=9").status_code == 200
    assert "being read once" in desk.client.get(f"/reels/{reel_id}/sheet/intake").get_data(as_text=True)
    assert desk.post(f"/reels/{reel_id}/cuts", {"at": 3}).status_code == 409
    assert json.loads(desk.client.get(f"/reels/{reel_id}/state").data)["reel"] == "open"


def test_a_file_that_was_altered_is_refused_until_it_is_accepted(desk: Desk) -> None:
    """Its pictures can all be decoded; only the file's own checks tell."""
    options = {"crf": "20", "b": "0", "cpu-used": "8"}
    path = write_movie(desk.services.allowed[0] / "buoy.mkv", small(20, 96, 64), "libvpx-vp9", options=options)
    data = bytearray(path.read_bytes())
    data[data.index(b"\xbf\x84", data.index(b"\x1f\x43\xb6\x75")) + 400] ^= 1
    path.write_bytes(bytes(data))
    reel_id = desk.take_in(path)
    assert desk.reel(reel_id).state == "refused"
    sheet = desk.client.get(f"/reels/{reel_id}/sheet/intake").text
    assert "not what was written where frames 0 to 19 lie" in sheet
    assert "Accept it as it is" in sheet
    desk.post(f"/reels/{reel_id}/accept-missing")
    desk.work()
    reel = desk.reel(reel_id)
    assert (reel.state, reel.missing) == ("ready", 0)
    assert "not what was written where frames 0 to 19 lie" in desk.client.get(f"/reels/{reel_id}/sheet/intake").text


def test_all_that_is_damaged_is_counted_with_its_numbers(desk: Desk) -> None:
    options = {"level": "3", "slicecrc": "1", "g": "1"}
    path = write_movie(desk.services.allowed[0] / "buoy.mkv", small(20), "ffv1", options=options)
    with av.open(str(path)) as container:
        places = [(p.pos, p.size) for p in container.demux(video=0) if p.size]
    data = bytearray(path.read_bytes())
    for number in (4, 5, 11):
        begin, size = places[number]
        data[begin + size // 2] ^= 1
    path.write_bytes(bytes(data))
    reel_id = desk.take_in(path)
    assert "3 frames are missing (4-5, 11); 17 can be read" in desk.reel(reel_id).refusal
    desk.post(f"/reels/{reel_id}/accept-missing")
    desk.work()
    assert (desk.reel(reel_id).missing, desk.reel(reel_id).facts.absent) == (3, (4, 5, 11))
    desk.post(f"/reels/{reel_id}/render")
    desk.work()
    report = json.loads(next(desk.services.data.delivery(desk.task("render").id, "x").parent.glob("*-report.json")).read_text())
    assert report["missing"] == 3
