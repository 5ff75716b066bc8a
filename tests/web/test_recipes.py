"""The library of recipes, through the application."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from tests.conftest import small, write_movie
from tests.web.conftest import Desk

ELLIPSE = {"kind": "ellipse", "x": 40, "y": 40, "across": 20, "down": 12}


def two_reels(desk: Desk, tmp_path: Path) -> tuple[int, int]:
    folder = desk.services.allowed[0]
    one = write_movie(folder / "one.mkv", small(12))
    other = write_movie(folder / "other.mkv", small(12, 320, 192))
    return desk.take_in(one), desk.take_in(other)


def steps(desk: Desk, reel_id: int) -> list[dict[str, Any]]:
    return desk.client.get(f"/reels/{reel_id}/recipe.json").get_json()["steps"]


def test_a_treatment_is_kept_and_put_on_another_reel(desk: Desk, tmp_path: Path) -> None:
    one, other = two_reels(desk, tmp_path)
    assert "Give the recipe a name" in desk.post(f"/reels/{one}/library", {"name": " "}).get_json()["error"]
    assert "no step to keep" in desk.post(f"/reels/{one}/library", {"name": "Mast"}).get_json()["error"]
    desk.post(f"/reels/{one}/steps", {"kind": "region-median"})
    desk.post(f"/reels/{one}/steps/0/region/parts", {"shape": ELLIPSE})
    desk.post(f"/reels/{one}/steps/0/settings", {"radius": 5})
    assert desk.post(f"/reels/{one}/library", {"name": "Mast"}).get_json()["said"] == "Kept as Mast."
    page = desk.client.get(f"/reels/{other}/sheet/treatment").get_data(as_text=True)
    assert "Mast" in page and "drawn on 160 x 96" in page
    told = desk.client.get("/library/1.json").get_json()
    assert told["name"] == "Mast" and told["size"] == [160, 96]
    said = desk.post(f"/reels/{other}/library/1/put-on", {"take": "all", "scope": "shot"}).get_json()
    assert said["said"] == "Mast: applied to 1 shot."
    step = steps(desk, other)[0]
    assert step["settings"]["radius"] == 5
    assert step["region"]["parts"][0]["keys"][0]["shape"]["x"] == 80, "twice as large, as the pictures are"
    # One of the same name makes way; the treatment it was put on stays as it is.
    desk.post(f"/reels/{one}/steps/0/settings", {"radius": 7})
    desk.post(f"/reels/{one}/library", {"name": "Mast"})
    assert steps(desk, other)[0]["settings"]["radius"] == 5
    desk.post(f"/reels/{other}/library/1/put-on", {"take": "settings", "scope": "shot"})
    assert steps(desk, other)[0]["settings"]["radius"] == 7
    # It can be taken back, as any change.
    desk.post(f"/reels/{other}/undo")
    assert steps(desk, other)[0]["settings"]["radius"] == 5
    assert desk.post(f"/reels/{other}/library/1/put-on", {"take": "half"}).status_code == 400
    desk.post("/library/1/remove")
    assert desk.post(f"/reels/{other}/library/1/put-on", {}).status_code == 404


def test_a_recipe_goes_on_every_reel_of_the_job(desk: Desk, tmp_path: Path) -> None:
    one, other = two_reels(desk, tmp_path)
    desk.post(f"/reels/{one}/steps", {"kind": "speck-sweep"})
    desk.post(f"/reels/{one}/library", {"name": "Dirt"})
    said = desk.post(f"/reels/{one}/library/1/put-on", {"scope": "job"}).get_json()["said"]
    assert said == "Dirt: applied to 2 shots of 2 reels."
    assert [s["kind"] for s in steps(desk, other)] == ["speck-sweep"]
    desk.post(f"/reels/{other}/starting-point", {"point": "lamps", "scope": "job"})
    assert [s["kind"] for s in steps(desk, one)] == ["steady-bands", "speck-sweep"]


def test_a_recipe_of_a_newer_version_is_refused_and_nothing_changes(desk: Desk, tmp_path: Path) -> None:
    one, _ = two_reels(desk, tmp_path)
    desk.post(f"/reels/{one}/steps", {"kind": "speck-sweep"})
    told = desk.client.get(f"/reels/{one}/recipe.json").get_json()
    refused = desk.post(f"/reels/{one}/recipe", {**told, "version": 7, "steps": []})
    assert refused.status_code == 422 and "made by a newer one" in refused.get_json()["error"]
    assert [s["kind"] for s in steps(desk, one)] == ["speck-sweep"]
