"""Checking, judging and writing the papers, through the application."""

from __future__ import annotations

import hashlib
import json
import re
import shutil
from pathlib import Path

import pytest

from nimbus_sweep.core.base.errors import SweepError
from nimbus_sweep.core.media.opening import open_reel
from nimbus_sweep.core.model.recipes import Step
from nimbus_sweep.core.model.regions import Key, Part, Region
from nimbus_sweep.core.model.shapes import Ellipse
from nimbus_sweep.core.pipeline.comparison import compare
from nimbus_sweep.core.pipeline.report import read_report
from nimbus_sweep.wording.checks import why_not
from nimbus_sweep.wording.papers import could_not, region_in_words, setting_lines
from tests.conftest import small, write_movie
from tests.web.conftest import Desk


@pytest.fixture
def spoiled_reel(desk: Desk, spoiled: tuple[object, object]) -> int:
    """A reel with stuck pixels that are found and mended."""
    reel_id = desk.take_in(write_movie(desk.services.allowed[0] / "mast.mkv", spoiled[0]))  # type: ignore[arg-type]
    desk.post(f"/reels/{reel_id}/survey")
    desk.work()
    desk.post(f"/reels/{reel_id}/steps", {"kind": "pixel-mend"})
    desk.work()
    return reel_id


def sheet(desk: Desk, reel_id: int, stage: str) -> str:
    page = desk.client.get(f"/reels/{reel_id}/sheet/{stage}?shot=0").get_data(as_text=True)
    return re.sub(r"\s+", " ", page)


def test_a_treated_shot_is_checked_and_judged(desk: Desk, spoiled_reel: int) -> None:
    reel = spoiled_reel
    assert "measures what was changed" in sheet(desk, reel, "inspection")
    assert desk.post(f"/reels/{reel}/check").status_code == 200
    desk.work()
    task = desk.task("check")
    assert task.state == "done", task.error
    told = task.result["shots"][0]
    assert told["outside"] == 0 < told["changed"] < 0.05 * told["samples"]
    assert told["left"] and {left["outcome"] for left in told["left"]} <= {"gone", "trace"}
    page = sheet(desk, reel, "inspection")
    assert "What the treatment did" in page and f"{len(told['left'])} gone" in page
    # Judged; sending back wants a remark; a change makes both old news, undo makes them new again.
    assert desk.post(f"/reels/{reel}/verdict", {"verdict": "fine"}).status_code == 400
    assert "Say in the box" in desk.post(f"/reels/{reel}/verdict", {"verdict": "back"}).get_json()["error"]
    desk.post(f"/reels/{reel}/verdict", {"verdict": "accepted"})
    assert "accepted" in sheet(desk, reel, "inspection")
    desk.post(f"/reels/{reel}/steps/0/settings", {"sure": 0.9})
    page = sheet(desk, reel, "inspection")
    assert "was changed since this was measured" in page and "was changed since it was judged" in page
    desk.post(f"/reels/{reel}/undo")
    assert "changed since" not in sheet(desk, reel, "inspection")
    desk.post(f"/reels/{reel}/verdict", {"verdict": "back", "remark": "The upper left one is soft."})
    assert "The upper left one is soft." in sheet(desk, reel, "inspection")
    # Without a treatment there is nothing to check or to judge.
    desk.post(f"/reels/{reel}/steps/0/remove")
    assert "nothing to check" in desk.post(f"/reels/{reel}/check").get_json()["error"]
    assert "nothing to judge" in desk.post(f"/reels/{reel}/verdict", {"verdict": "accepted"}).get_json()["error"]


def test_the_papers_tell_all_of_it(desk: Desk, spoiled_reel: int) -> None:
    reel = spoiled_reel
    source = desk.services.allowed[0] / "mast.mkv"
    desk.post(f"/reels/{reel}/check")
    desk.post(f"/reels/{reel}/render")
    desk.work()
    assert "not been compared with the source yet" in sheet(desk, reel, "delivery")
    desk.post(f"/reels/{reel}/compare")
    desk.post(f"/reels/{reel}/verdict", {"verdict": "accepted"})
    desk.work()
    desk.post(f"/reels/{reel}/papers")
    desk.work()
    task = desk.task("papers")
    assert task.state == "done", task.error
    condition, treatment = (json.loads(desk.client.get(f"/papers/{task.id}/{n}.json").data) for n in ("condition", "treatment"))
    delivered = next(desk.services.data.deliveries.rglob("*-treated.mkv"))
    for paper in (condition, treatment):
        assert paper["head"]["sha256"] == hashlib.sha256(source.read_bytes()).hexdigest()
        assert paper["head"]["frames"] == 30 and paper["head"]["versions"]["nimbus-sweep"]
    assert treatment["files"][0]["sha256"] == hashlib.sha256(delivered.read_bytes()).hexdigest()
    kept = [f for f in condition["shots"][0]["findings"] if f["state"] == "kept"]
    shot = treatment["shots"][0]
    assert kept and all(f["sentence"] for f in kept)
    assert shot["steps"][0]["title"] == "Pixel mend" and shot["steps"][0]["acts_on"] == len(kept)
    assert (shot["verdict"], treatment["proof"]["proven"], treatment["proof"]["outside"]) == ("accepted", True, 0)
    assert len(treatment["recipes"]) == 1
    for name, words in (("condition", "Condition report"), ("treatment", "nothing else changed")):
        answer = desk.client.get(f"/papers/{task.id}/{name}.html")
        page = answer.get_data(as_text=True)
        assert words in page
        assert "default-src 'none'" in answer.headers["Content-Security-Policy"]
        # Nothing is fetched: every picture and letter is in the page.
        assert not re.findall(r"""(?:src|href)=["'](?!data:)""", page)
        assert page.count("data:image/") >= 2
    assert all(f["sentence"].split(",")[0] in desk.client.get(f"/papers/{task.id}/condition.html").get_data(as_text=True) for f in kept)
    assert desk.client.get(f"/papers/{task.id}/treatment.pdf").status_code == 404
    shutil.rmtree(desk.services.data.papers(task.id))
    assert desk.client.get(f"/papers/{task.id}/treatment.html").status_code == 404


def test_papers_of_a_reel_nothing_was_done_to_say_so(desk: Desk) -> None:
    reel = desk.take_in(write_movie(desk.services.allowed[0] / "mast.mkv", small(12)))
    desk.post(f"/reels/{reel}/papers")
    desk.work()
    task = desk.task("papers")
    assert task.state == "done", task.error
    pages = [desk.client.get(f"/papers/{task.id}/{n}.html").get_data(as_text=True) for n in ("condition", "treatment")]
    assert "Nothing has been surveyed yet" in pages[0]
    assert "Nothing has been delivered yet" in pages[1] and "No step was applied" in pages[1]


def test_a_file_altered_behind_the_back_is_told_where_and_why(desk: Desk, spoiled_reel: int, tmp_path: Path) -> None:
    """A delivery, coded anew without loss, with one square altered in two frames: named to the frame and the place."""
    desk.post(f"/reels/{spoiled_reel}/render")
    desk.work()
    delivered = next(desk.services.data.deliveries.rglob("*-treated.mkv"))
    report = read_report((delivered.parent / f"{delivered.stem}-report.json").read_text())
    treated = open_reel(delivered)
    pictures = [tuple(p.copy() for p in f.planes) for f in treated.frames(0, len(treated))]
    for n in (7, 8):
        pictures[n][0][20:24, 40:48] ^= 3
    altered = open_reel(write_movie(tmp_path / "altered.mkv", small(30).over(pictures)))
    source = open_reel(desk.services.allowed[0] / "mast.mkv")
    told = compare(source, altered, report)
    assert [(s.frame, s.samples, s.x, s.y, s.width, s.height) for s in told.strays] == [(7, 32, 40, 20, 8, 4), (8, 32, 40, 20, 8, 4)]
    assert not told.proven and "altered at these places" in why_not(told)
    for luma, *_ in pictures:
        luma[0, 0] ^= 1
    every = compare(source, open_reel(write_movie(tmp_path / "graded.mkv", small(30).over(pictures))), report)
    assert len(every.strays) == 10 and "coded anew" in why_not(every)
    other = compare(open_reel(write_movie(tmp_path / "other.mkv", small(30, name="bikes-2"))), treated, report)
    assert "another reel" in why_not(other)
    assert why_not(compare(source, treated, report)) == ""
    with pytest.raises(SweepError, match="cannot be read"):
        read_report("{")


def test_settings_and_regions_are_told_in_words() -> None:
    region = Region(parts=(Part(keys=(Key(frame=0, shape=Ellipse(x=5, y=5, across=3, down=3)),), track="plane 1"),), feather=6, grow=-2)
    assert region_in_words(region) == "1 ellipse; shrunk by 2 px; soft edge 6 px; riding on plane 1"
    assert region_in_words(None) == ""
    step = Step(kind="unshade", settings={"sure": 0.75, "grain": False})
    assert list(setting_lines(step).values()) == ["0.75", "auto", "0", "no"]
    said = could_not(Step(kind="plate-patch"), {"unknown": [0.1, 0.0], "unserved": [3]})
    assert said[0].startswith("10.0 % of the region of plate 1") and said[1].startswith("1 frame got no plate")
    assert "2 things moved too slowly" in could_not(Step(kind="fleeting"), {"slow": [[4, 9, 1, 1, 5, 5], [6, 8, 1, 1, 5, 5]]})[0]
    assert could_not(Step(kind="borrow-fill"), {"unlent": [12]})[0].startswith("In 1 frame no other frame")
