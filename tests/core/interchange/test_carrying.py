"""Recipes on other shots: what is carried, what stays, what is refused."""

from __future__ import annotations

import json
from pathlib import Path

import pytest

from nimbus_sweep.core.base.errors import SweepError
from nimbus_sweep.core.interchange.carrying import carried, fitted, portable
from nimbus_sweep.core.model.recipes import Recipe, Step, read_recipe, recipe_of
from nimbus_sweep.core.model.regions import Key, Part, Region, box_region
from nimbus_sweep.core.model.shapes import Ellipse
from nimbus_sweep.core.model.tracks import Track

REGION = Region(
    parts=(
        Part(
            keys=(
                Key(frame=100, shape=Ellipse(x=80, y=40, across=20, down=10)),
                Key(frame=110, shape=Ellipse(x=90, y=40, across=20, down=10)),
            )
        ),
    ),
    feather=4,
)
TREATMENT = Recipe(
    steps=(
        Step(kind="pixel-mend", settings={"sites": [{"x": 3, "y": 4}], "sure": 0.7}),
        Step(kind="borrow-fill", settings={"first": 101, "stop": 108, "reach": 9}, region=REGION),
        Step(kind="plate-patch", settings={"plates": [{"kind": "frame", "frame": 104}], "smooth": 2}, region=box_region(10, 10, 50, 30)),
        Step(
            kind="retouch",
            settings={"strokes": [{"frame": 102, "points": [[5, 5]], "size": 8}]},
        ),
    ),
    tracks=(Track(name="plane 1", reference=100, region=box_region(0, 0, 60, 40), size=(96, 160)),),
)


def test_what_is_of_the_shots_own_frames_is_not_carried() -> None:
    kept = portable(TREATMENT, "Mast", (160, 96), 100)
    assert [s.kind for s in kept.steps] == ["pixel-mend", "borrow-fill", "plate-patch"], "no brush strokes"
    pixels, fill, patch = kept.steps
    assert pixels.settings.sites is None and pixels.settings.sure == 0.7
    assert (fill.settings.first, fill.settings.stop, fill.settings.reach) == (None, None, 9)
    assert patch.settings.plates[0].frame is None and patch.settings.smooth == 2
    assert recipe_of(json.loads(kept.model_dump_json())) == kept
    assert fill.region == REGION


def test_regions_fit_a_picture_of_another_size_and_another_beginning() -> None:
    kept = portable(TREATMENT, "Mast", (160, 96), 100)
    there = fitted(kept, (320, 192), 40)
    keys = there.steps[1].region.parts[0].keys  # type: ignore[union-attr]
    assert [k.frame for k in keys] == [40, 50]
    assert (keys[0].shape.x, keys[0].shape.y, keys[0].shape.across) == (160, 80, 40)  # type: ignore[union-attr]
    assert there.steps[1].region.feather == 8  # type: ignore[union-attr]
    assert (there.tracks[0].reference, there.tracks[0].size) == (40, (192, 320))
    with pytest.raises(SweepError, match="another shape than 320 x 320"):
        fitted(kept, (320, 320), 40)
    bare = kept.model_copy(update={"steps": kept.steps[:1]})
    assert fitted(bare, (320, 320), 40).steps == bare.steps, "without regions the shape is no matter"


def test_geometry_and_settings_are_carried_apart() -> None:
    kept = portable(TREATMENT, "Mast", (160, 96), 100)
    mine = box_region(1, 1, 5, 5)
    stroke = TREATMENT.steps[3]
    own = Recipe(steps=(Step(kind="borrow-fill", settings={"reach": 30}, region=mine), Step(kind="unshade"), stroke))
    whole = carried(kept, own, "all")
    assert [s.kind for s in whole.steps] == ["pixel-mend", "borrow-fill", "plate-patch", "retouch"]
    assert whole.steps[1].region == REGION and whole.steps[3] == stroke
    assert [t.name for t in whole.tracks] == ["plane 1"]
    settings = carried(kept, own, "settings")
    assert settings.steps[1].region == mine and settings.steps[1].settings.reach == 9
    assert settings.steps[2].region is None and not settings.tracks
    regions = carried(kept, own, "regions")
    assert [s.kind for s in regions.steps] == ["unshade", "borrow-fill", "retouch"]
    assert regions.steps[1].region == REGION and regions.steps[1].settings.reach == 30
    with pytest.raises(SweepError, match="nothing was changed"):
        carried(kept, Recipe(steps=(Step(kind="unshade"),)), "regions")


@pytest.mark.parametrize(
    ("change", "said"),
    [
        ({"version": 2}, "is of version 2, and this application reads version 1"),
        ({"format": "a shopping list"}, "not a usable recipe: format"),
    ],
)
def test_a_newer_or_foreign_recipe_is_refused_in_words(tmp_path: Path, change: dict[str, object], said: str) -> None:
    path = tmp_path / "recipe.json"
    path.write_text(json.dumps({**json.loads(TREATMENT.model_dump_json()), **change}))
    with pytest.raises(SweepError, match=said):
        read_recipe(path)
