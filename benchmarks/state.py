"""What it costs to keep the state of a very large reel: opening it, changing one thing, asking for news, undoing."""

from __future__ import annotations

import os
import time
from collections.abc import Callable
from pathlib import Path

from flask.testing import FlaskClient

from nimbus_sweep.core.defects.stuck_pixels.evidence import StuckPixelEvidence
from nimbus_sweep.core.model.findings import Finding, JudgedFinding
from nimbus_sweep.core.model.recipes import Recipe, Step
from nimbus_sweep.core.model.shots import Shot
from nimbus_sweep.jobs.queue import Queue
from nimbus_sweep.store import edits
from nimbus_sweep.store.data import DataFolder
from nimbus_sweep.store.facts import StoredFacts
from nimbus_sweep.store.models import Edit, Eye, Job, Reel, database, open_database
from nimbus_sweep.web.app import create_app
from nimbus_sweep.web.services import Services
from nimbus_sweep.web.viewing import Viewing

SHOTS, FINDINGS, LONG, DEEP = 1500, 200, 60, int(os.environ.get("DEEP", "10000"))
ASKED = {"X-Requested-By": "nimbus-sweep", "Accept": "application/json"}


def run(folder: Path) -> None:
    """Print the table."""
    data = DataFolder(folder / "data")
    data.make()
    open_database(data.database)
    facts = StoredFacts(frames=SHOTS * LONG, width=1920, height=1080)
    reel = Reel.create(
        job=Job.create(title="Skerrow Point"), title="Reel 01", path="/none", frames=facts.frames, state="ready", facts=facts
    )
    recipe = Recipe(steps=(Step(kind="pixel-mend"),))
    edits.begin_with(reel, "Survey", tuple(_shot(n, recipe) for n in range(SHOTS)))
    database.close()
    client = create_app(Services(data, Queue(data), Viewing(data))).test_client()
    print(f"\nState of a reel of {SHOTS} shots and {SHOTS * FINDINGS} findings")
    first = edits.shots_of(reel)[SHOTS // 2]
    number = first.findings[0].id
    edits.forget_held()
    page = f"/reels/{reel.id}"

    def opened() -> None:
        for url in (f"{page}/condition", f"{page}/state", f"{page}/sheet/condition", f"{page}/pulse"):
            assert client.get(url).status_code == 200

    print(f"  opened, its treatments not looked up yet: {_took(opened):.2f} s")
    edits.forget_held()
    print(f"  opened again, nothing at hand:            {_took(opened):.2f} s (aim 2)")
    times = [
        _took(lambda state=state: _post(client, f"{page}/findings/{number}/{state}?shot={first.id}")) for state in ("dismissed", "kept") * 5
    ]
    database.connect(reuse_if_open=True)
    newest = Edit.select().order_by(Edit.id.desc()).first()
    print(f"  one finding dismissed:  {1000 * sorted(times)[5]:.0f} ms (aim 50), {len(str(newest.changes))} bytes of history (aim 1000)")
    polls = [_took(lambda: client.get(f"{page}/pulse")) for _ in range(20)]
    print(f"  asked for news:         {1000 * sorted(polls)[10]:.1f} ms, {len(client.get(f'{page}/pulse').data)} bytes")
    print(f"  the whole state:        {len(client.get(f'{page}/state?shot={first.id}').data) / 1e3:.0f} kB")
    _listed(reel, client)
    _deep(reel, first)


def _listed(reel: Reel, client: FlaskClient) -> None:
    """A key on the list of what needs eyes, with something doubtful in every shot."""
    database.connect(reuse_if_open=True)
    for shot in edits.shots_of(reel):
        one = shot.findings[0]
        box = {"x": one.x, "y": one.y, "width": 1, "height": 1}
        values = {"finding": one.id, "about": one.finding.as_json()}
        Eye.create(
            reel=reel,
            shot=shot.id,
            key=f"finding {one.id}",
            kind="doubtful",
            family=f"some {shot.id % 30}",
            score=0.5,
            **box,
            values=values,
        )
    listing = [_took(lambda: client.get(f"/jobs/{reel.job_id}/eyes/list")) for _ in range(5)]
    keys = [_took(lambda eye=eye: _post(client, f"/eyes/{eye}/left")) for eye in [e.id for e in Eye.select(Eye.id).limit(11)]]
    alike = _took(lambda: _post(client, f"/eyes/{Eye.get(Eye.state == 'open').id}/left", {"like": True}))
    print(f"  the list of what needs eyes: {1000 * sorted(listing)[2]:.0f} ms, a key on it {1000 * sorted(keys)[5]:.0f} ms (aim 100)")
    print(f"  a key for an entry and the 49 like it: {1000 * alike:.0f} ms")


def _deep(reel: Reel, shot: Shot) -> None:
    database.connect(reuse_if_open=True)
    place = edits.place_of_shot(reel, shot.id) or 0
    start = time.perf_counter()
    for n in range(DEEP):
        edits.change_shot(reel, f"Named {n}", place, lambda s, n=n: s.with_(name=f"The mast {n}"))
    made = time.perf_counter() - start
    size = Path(str(database.obj.database)).stat().st_size
    start, count = time.perf_counter(), 0
    while count < DEEP and edits.undo(reel) is not None:
        count += 1
    print(
        f"  {DEEP} changes made in {1000 * made / DEEP:.1f} ms each; {count} undone in {1000 * (time.perf_counter() - start) / DEEP:.1f} ms each"
    )
    gone = edits.forget(reel, 100)
    print(f"  {gone} changes let go of; the database had {size / 1e6:.0f} MB")


def _shot(n: int, recipe: Recipe) -> Shot:
    first = n * LONG
    told = StuckPixelEvidence(seen=LONG)
    found = tuple(
        JudgedFinding.of(
            Finding(
                kind="stuck-pixel",
                step="pixel-mend",
                x=9 * k,
                y=5 * k,
                width=1,
                height=1,
                first=first,
                stop=first + LONG,
                confidence=0.9,
                evidence=told,
            )
        )
        for k in range(FINDINGS)
    )
    return Shot(first=first, stop=first + LONG, cut="found" if n else "start", surveyed=1.0, findings=found, recipe=recipe)


def _took(do: Callable[[], object]) -> float:
    start = time.perf_counter()
    do()
    return time.perf_counter() - start


def _post(client: FlaskClient, url: str, body: dict[str, object] | None = None) -> None:
    answer = client.post(url, json=body or {}, headers=ASKED)
    assert answer.status_code == 200, answer.text
