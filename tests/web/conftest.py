"""The application with its queue worked through on the spot."""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from functools import cache
from pathlib import Path
from types import SimpleNamespace
from typing import Any

import pytest
from flask import Flask
from flask.testing import FlaskClient
from werkzeug.test import TestResponse

from nimbus_sweep.jobs.queue import Queue
from nimbus_sweep.jobs.work import perform
from nimbus_sweep.store import edits
from nimbus_sweep.store.data import DataFolder
from nimbus_sweep.store.models import Job, Reel, Task, database, open_database
from nimbus_sweep.web.app import create_app
from nimbus_sweep.web.services import Services
from nimbus_sweep.web.viewing import Viewing

ASKED = {"X-Requested-By": "nimbus-sweep", "Accept": "application/json"}


_LISTS = {"findings": lambda shot: shot.findings, "steps": lambda shot: shot.recipe.steps, "tracks": lambda shot: shot.recipe.tracks}


class ByPlace(FlaskClient):
    """A client that names shots, findings, steps and tracks by their places, as a test counts them: the pages know their numbers."""

    def open(self, *args: Any, **kwargs: Any) -> TestResponse:
        url = args[0] if args else None
        if isinstance(url, str) and (at := re.match(r"/reels/(\d{1,15})/", url)) is not None:
            args = (self._numbered(url, int(at[1]), kwargs), *args[1:])
        return super().open(*args, **kwargs)

    def _numbered(self, url: str, reel_id: int, kwargs: dict[str, Any]) -> str:
        database.connect(reuse_if_open=True)
        reel = Reel.get_or_none(Reel.id == reel_id)
        if reel is None or not edits.begun(reel):
            return url
        shots = edits.shots_of(reel)

        def number(listed: Sequence[Any], place: str) -> str:
            return str(listed[int(place)].id) if int(place) < len(listed) else "999999999"

        def of_reel(named: str) -> str:
            other, _, place = named.partition(".")
            return f"{other}.{number(edits.shots_of(Reel.get_by_id(int(other))), place)}"

        body = dict(kwargs.get("json") or {})
        recipe = shots[0].recipe
        if isinstance(body.get("vary"), str) and body["vary"][:1].isdigit():
            place, _, field = body["vary"].partition(".")
            body["vary"] = f"{number(recipe.steps, place)}.{field}"
        if isinstance(body.get("still"), int):
            body["still"] = int(number(recipe.tracks, str(body["still"])))
        if str(body.get("of", "")).isdigit():
            body["of"] = number(shots, str(body["of"]))
        if isinstance(body.get("on"), list):
            body["on"] = [of_reel(one) for one in body["on"]]
        if body:
            kwargs["json"] = body
        named = re.search(r"shot=(\d+)", url)
        shot = shots[min(int(named[1]) if named else 0, len(shots) - 1)]
        url = re.sub(r"(?<=shot=)\d+", lambda m: number(shots, m[0]), url)
        url = re.sub(r"/(findings|steps|tracks)/(\d+)", lambda m: f"/{m[1]}/{number(_LISTS[m[1]](shot), m[2])}", url)
        url = re.sub(r"(?<=step=)\d+", lambda m: number(shot.recipe.steps, m[0]), url)
        url = re.sub(r"(?<=still-)\d+", lambda m: number(shot.recipe.tracks, m[0]), url)
        return re.sub(r"(?<=plate-)\d+(?=-)", lambda m: number(shot.recipe.steps, m[0]), url)


@dataclass
class Desk:
    """The application as a test holds it."""

    services: Services
    client: FlaskClient
    job: Job

    def post(self, url: str, body: Any = None, **more: Any) -> TestResponse:
        return self.client.post(url, json=body or {}, headers=ASKED, **more)

    def work(self) -> None:
        """Do what waits in the queue, as the worker would."""
        database.connect(reuse_if_open=True)
        waiting = [t.id for t in Task.select().where(Task.state == "waiting").order_by(Task.id)]
        database.close()
        for task_id in waiting:
            perform(self.services.data, task_id)
        self.services.queue.huey.flush()

    def take_in(self, path: Path) -> int:
        reel = self.post("/reels/open", {"path": str(path)}).get_json()
        self.work()
        return reel["id"]

    def reel(self, reel_id: int) -> Reel:
        database.connect(reuse_if_open=True)
        return Reel.get_by_id(reel_id)

    def task(self, kind: str) -> Task:
        database.connect(reuse_if_open=True)
        return Task.select().where(Task.kind == kind).order_by(Task.id.desc()).first()


@cache
def application() -> Flask:
    """The application, put together once: what it serves is each test's own."""
    app = create_app(SimpleNamespace(shared=False))  # type: ignore[arg-type]
    app.testing = True
    app.test_client_class = ByPlace
    return app


@pytest.fixture
def desk(tmp_path: Path, surveyed_once: None) -> Iterator[Desk]:
    data = DataFolder(tmp_path / "data")
    data.make()
    opened = open_database(data.database)
    allowed = tmp_path / "allowed"
    allowed.mkdir()
    queue = Queue(data)
    services = Services(data, queue, Viewing(data, queue=queue), [allowed.resolve()], 3_000_000, frozenset({"localhost", "127.0.0.1:8017"}))
    app = application()
    app.extensions["services"] = services
    job = Job.create(title="Skerrow Point")
    opened.close()
    yield Desk(services, app.test_client(), job)
    if not opened.is_closed():
        opened.close()
