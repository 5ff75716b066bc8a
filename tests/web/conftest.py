"""The application with its queue worked through on the spot."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from functools import cache
from pathlib import Path
from typing import Any

import pytest
from flask import Flask
from flask.testing import FlaskClient
from werkzeug.test import TestResponse

from nimbus_sweep.jobs.queue import Queue
from nimbus_sweep.jobs.work import perform
from nimbus_sweep.store.data import DataFolder
from nimbus_sweep.store.models import Job, Reel, Task, database, open_database
from nimbus_sweep.web.app import create_app
from nimbus_sweep.web.services import Services
from nimbus_sweep.web.viewing import Viewing

ASKED = {"X-Requested-By": "nimbus-sweep", "Accept": "application/json"}


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
    app = create_app(None)  # type: ignore[arg-type]
    app.testing = True
    return app


@pytest.fixture
def desk(tmp_path: Path, surveyed_once: None) -> Iterator[Desk]:
    data = DataFolder(tmp_path / "data")
    data.make()
    opened = open_database(data.database)
    allowed = tmp_path / "allowed"
    allowed.mkdir()
    services = Services(data, Queue(data), Viewing(data), [allowed.resolve()], 3_000_000, frozenset({"localhost", "127.0.0.1:8017"}))
    app = application()
    app.extensions["services"] = services
    job = Job.create(title="Skerrow Point")
    opened.close()
    yield Desk(services, app.test_client(), job)
    if not opened.is_closed():
        opened.close()
