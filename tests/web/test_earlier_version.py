"""What the version before made is opened: its database, a recipe and an archive, as that version itself wrote them (tests/fixtures)."""

from __future__ import annotations

import shutil
from pathlib import Path

from nimbus_sweep.core.interchange.archive import Archive
from nimbus_sweep.core.model.recipes import read_recipe
from nimbus_sweep.core.model.shots import Shot
from nimbus_sweep.store import edits
from nimbus_sweep.store.models import Reel, open_database
from nimbus_sweep.wording import sentence, title
from tests.web.conftest import Desk

MADE = Path(__file__).parent.parent / "fixtures" / "earlier_version"
STEPS = ["pixel-mend", "region-median", "retouch", "lend-grain"]


def is_as_it_was(shot: Shot) -> None:
    """A white stuck pixel was dismissed, a dead one kept, a mark drawn by hand; words that were stored are shown as they are."""
    states = {title(f): f.state for f in shot.findings}
    assert states == {
        "Stuck pixel, white": "dismissed",
        "Dead pixel, black": "kept",
        "Stuck pixel, red": "doubtful",
        "Specks and hairs": "doubtful",
        "Mark": "kept",
    }
    assert all(sentence(f).startswith(("Departs by", "7 in", "Drawn by hand")) or f.sentence for f in shot.findings)
    dead = next(f for f in shot.findings if title(f).startswith("Dead"))
    assert (dead.kind, dead.evidence.colour, dead.evidence.looked) == ("stuck-pixel", "black", 16)
    assert [s.kind for s in shot.recipe.steps] == STEPS


def test_its_database_is_opened(desk: Desk) -> None:
    file = desk.services.data.database
    for path in file.parent.glob(f"{file.name}*"):
        path.unlink()
    shutil.copy(MADE / "nimbus.db", file)
    database = open_database(file)
    reel = Reel.get()
    shot = edits.shot_of(reel)
    is_as_it_was(shot)
    assert [f.kind for f in edits.mended(shot)] == ["stuck-pixel"]
    database.close()
    for stage in ("condition", "treatment", "inspection"):
        page = desk.client.get(f"/reels/{reel.id}/sheet/{stage}")
        assert page.status_code == 200
    assert "Dead pixel, black" in desk.client.get(f"/reels/{reel.id}/sheet/inspection").get_data(as_text=True)


def test_its_recipe_is_opened() -> None:
    assert [s.kind for s in read_recipe(MADE / "recipe.json").steps] == STEPS


def test_its_archive_is_opened() -> None:
    archive = Archive(MADE / "archive.zip")
    (reel,) = archive.manifest.reels
    is_as_it_was(archive.shots(reel)[0])
    archive.close()
