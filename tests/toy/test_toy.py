"""A kind of defect that is added is found everywhere, with nothing else touched; and no kind is named where it has no business."""

from __future__ import annotations

import json
import re
import shutil
import sys
from collections.abc import Iterator
from pathlib import Path

import numpy as np
import pytest
from click.testing import CliRunner

import nimbus_sweep
from benchmarks.material import MemorySource
from nimbus_sweep import wording
from nimbus_sweep.cli import main
from nimbus_sweep.core.media.reader import MovieReader
from nimbus_sweep.core.model.recipes import Recipe, Step
from nimbus_sweep.core.model.registry import DEFECTS, STEPS, including
from nimbus_sweep.core.pipeline.report import read_report
from tests.conftest import small, write_movie
from tests.web.conftest import Desk, desk

__all__ = ["desk"]

HERE = Path(__file__).parent
BOX = (40, 30, 8, 6)


@pytest.fixture
def toy(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Iterator[None]:
    """The toy's package and its template, in a folder of their own, added to the application."""
    folder = tmp_path / "added"
    shutil.copytree(HERE / "white_square", folder / "white_square")
    shutil.copytree(HERE / "templates", folder / "templates")
    monkeypatch.syspath_prepend(str(folder))
    with including("white_square.kind"), wording.including(folder / "templates"):
        yield
    for name in [n for n in sys.modules if n.split(".")[0] == "white_square"]:
        del sys.modules[name]


def white() -> MemorySource:
    """A clip with a white square in all its frames."""
    source = small(12)
    x, y, width, height = BOX
    pictures = []
    for planes in source.pictures:
        luma = planes[0].copy()
        luma[y : y + height, x : x + width] = 240
        pictures.append((luma, *planes[1:]))
    return source.over(pictures)


def test_a_kind_that_is_added_is_found_everywhere(toy: None, desk: Desk) -> None:
    reel = desk.take_in(write_movie(desk.services.allowed[0] / "white.mkv", white()))
    # The survey, the sheet and the picture.
    desk.post(f"/reels/{reel}/survey")
    desk.work()
    sheet = desk.client.get(f"/reels/{reel}/sheet/condition").get_data(as_text=True)
    assert (
        "White squares" in sheet and "White in all frames, 8 x 6 px, at 240 of 255." in sheet and "Each is white in every frame." in sheet
    )
    (site,) = [s for s in desk.client.get(f"/reels/{reel}/state").get_json()["sites"] if s["title"] == "White square"]
    assert (site["x"], site["y"], site["width"], site["height"], site["drawn"]) == (*BOX, "box")
    # The treatment, a saved recipe, the check and the papers.
    desk.post(f"/reels/{reel}/steps", {"kind": "square-fill"})
    desk.work()
    assert "Square fill" in desk.client.get(f"/reels/{reel}/sheet/treatment").get_data(as_text=True)
    recipe = Recipe.model_validate_json(desk.client.get(f"/reels/{reel}/recipe.json").data)
    assert [s.kind for s in recipe.steps] == ["square-fill"] and recipe.steps[0].settings.boxes == (BOX,)
    desk.post(f"/reels/{reel}/check", {})
    desk.post(f"/reels/{reel}/render", {})
    desk.work()
    (left,) = [f for f in desk.task("check").result["shots"][0]["left"] if f["finding"]["kind"] == "white-square"]
    assert left["outcome"] == "gone"
    assert "White square" in desk.client.get(f"/reels/{reel}/sheet/inspection").get_data(as_text=True)
    desk.post(f"/reels/{reel}/papers", {})
    desk.work()
    papers = Path(desk.services.data.papers(desk.task("papers").id))
    assert "White in all frames" in next(papers.glob("condition.html")).read_text()


def test_the_command_line_knows_it_too(toy: None, tmp_path: Path) -> None:
    reel, out, told = (tmp_path / name for name in ("white.mkv", "out.mkv", "report.json"))
    write_movie(reel, white())
    said = CliRunner().invoke(main, ["survey", str(reel)])
    assert "White square. White in all frames, 8 x 6 px" in " ".join(said.stdout.split())
    done = CliRunner().invoke(main, ["treat", str(reel), str(out), "--suggested", "--report", str(told)])
    assert done.exit_code == 0, done.stderr
    x, y, width, height = BOX
    assert np.all(MovieReader(out).frame(5).planes[0][y : y + height, x : x + width] < 235)
    (shot,) = read_report(told.read_text()).shots
    assert "square-fill" in [s.kind for s in shot.recipe.steps]
    assert "white-square" in json.dumps(list(shot.findings))


def test_without_it_its_names_are_not_known() -> None:
    assert "white-square" not in DEFECTS and "square-fill" not in STEPS
    with pytest.raises(ValueError, match="there is no step called"):
        Step(kind="square-fill")


def test_no_kind_of_defect_is_named_outside_its_package_and_its_template() -> None:
    root = Path(nimbus_sweep.__file__).parent
    named = []
    for name, kind in DEFECTS.items():
        (package,) = {Path(sys.modules[kind.evidence.__module__].__file__ or "").parent}
        quoted = re.compile("[\"']" + re.escape(name) + "[\"']")
        for path in (p for ending in ("py", "js", "html") for p in root.rglob(f"*.{ending}")):
            if path.is_relative_to(package) or path.is_relative_to(root / "demo") or path == root / "wording" / "defects" / f"{name}.html":
                continue
            named += [
                f"{path.relative_to(root)}:{n}: {name}" for n, line in enumerate(path.read_text().splitlines(), 1) if quoted.search(line)
            ]
    assert named == []
