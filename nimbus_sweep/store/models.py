"""The tables, and opening the database."""

from __future__ import annotations

import json
import re
from datetime import UTC, datetime
from pathlib import Path
from typing import TYPE_CHECKING, Any

import peewee as pw
from peewee_migrate import Router

from .facts import StoredFacts

database = pw.DatabaseProxy()


def writing() -> Any:
    """A change that is made whole or not at all; it waits its turn before it reads what it is to change.

    Begun as a mere reading, it would be refused at once when the worker has written in between.
    """
    return database.atomic("IMMEDIATE")


def now() -> str:
    """The time as it is stored."""
    return datetime.now(UTC).isoformat(timespec="milliseconds")


class JSONField(pw.TextField):
    """Plain values kept as JSON text."""

    def db_value(self, value: Any) -> str | None:
        """To the database."""
        return None if value is None else json.dumps(value)

    def python_value(self, value: str | None) -> Any:
        """From the database."""
        return None if value is None else json.loads(value)


class Model(pw.Model):
    """Base of all tables."""

    if TYPE_CHECKING:
        id: Any

        def __getattr__(self, name: str) -> Any: ...

    class Meta:
        """Bound when the database is opened."""

        database = database


class Job(Model):
    """One piece of work for one customer; `reference` is the customer's own name for it."""

    title = pw.CharField(max_length=200)
    reference = pw.CharField(max_length=120, default="")
    notes = pw.TextField(default="")
    archived = pw.BooleanField(default=False)
    created = pw.CharField(default=now)


class FactsField(pw.TextField):
    """What intake read of a reel, kept as JSON text."""

    def db_value(self, value: StoredFacts | None) -> str | None:
        """To the database."""
        return None if value is None else value.model_dump_json()

    def python_value(self, value: str | None) -> StoredFacts | None:
        """From the database."""
        return None if value is None else StoredFacts.model_validate_json(value)


class Reel(Model):
    """One source, never altered.

    `facts` is what intake read, `reading` what the user corrected of it, `look` the colours its small pictures were
    made with. A reel that is ``open`` can be looked at while it is still being read.
    """

    job = pw.ForeignKeyField(Job, backref="reels", on_delete="CASCADE")
    title = pw.CharField(max_length=200)
    path = pw.TextField()
    size = pw.BigIntegerField(default=0)
    modified = pw.BigIntegerField(default=0)
    fingerprint = pw.CharField(default="")
    accept_missing = pw.BooleanField(default=False)
    state = pw.CharField(default="new")  # new, reading, open, ready, refused
    refusal = pw.TextField(default="")
    missing = pw.IntegerField(default=0)
    frames = pw.IntegerField(default=0)
    facts = FactsField(null=True)
    reading = JSONField(null=True)
    look = pw.CharField(default="")
    created = pw.CharField(default=now)


class Edit(Model):
    """The state of a reel after one change by the user: the undo history.

    `shots` are the reel's shots with their findings and treatments. The current edit is the newest one with
    `undone` false.
    """

    reel = pw.ForeignKeyField(Reel, backref="edits", on_delete="CASCADE")
    what = pw.CharField()
    shots = JSONField(default=list)
    undone = pw.BooleanField(default=False)
    created = pw.CharField(default=now)

    @property
    def mark(self) -> str:
        """What no other edit has: numbers of edits that were taken back and dropped are given out again."""
        return f"{self.id}-{re.sub(r'[^0-9]', '', self.created)}"


class StrokeChange(Model):
    """A change to the brush strokes of a reel: some put on, or some taken off; with those before it, a book of them.

    `before` is the change before it, 0 for none, `mark` what no other change ever had. None is ever altered: what a treatment holds is the number of the last
    one, so that a stroke costs no more to be kept and undone than itself.
    """

    reel = pw.ForeignKeyField(Reel, backref="strokes", on_delete="CASCADE")
    mark = pw.CharField(index=True)
    before = pw.IntegerField(default=0)
    added = JSONField(default=list)
    gone = JSONField(default=list)

    class Meta:
        """The table has its name from earlier versions."""

        table_name = "stroke"


class Task(Model):
    """Work in the queue: intake, laying a shot open, survey, analysis, track, trial, check, render, inspection, papers."""

    reel = pw.ForeignKeyField(Reel, backref="tasks", on_delete="CASCADE")
    kind = pw.CharField()
    state = pw.CharField(default="waiting")  # waiting, running, done, failed, cancelled
    share = pw.FloatField(default=0)
    rate = pw.FloatField(default=0)
    what = pw.CharField(default="")
    error = pw.TextField(default="")
    cancel = pw.BooleanField(default=False)
    attempts = pw.IntegerField(default=0)
    settings = JSONField(null=True)
    result = JSONField(null=True)
    created = pw.CharField(default=now)
    started = pw.CharField(null=True)
    ended = pw.CharField(null=True)


class Trial(Model):
    """A few frames of a reel treated in two to four ways.

    `plan` is what is compared; `result` the recipes as they were computed and their figures, `task` the work that made or
    makes them.
    """

    reel = pw.ForeignKeyField(Reel, backref="trials", on_delete="CASCADE")
    plan = JSONField()
    result = JSONField(null=True)
    task = pw.IntegerField(null=True)
    created = pw.CharField(default=now)


class SavedRecipe(Model):
    """A treatment kept under a name, for other shots, reels and jobs."""

    name = pw.CharField(unique=True, max_length=120)
    recipe = JSONField()
    created = pw.CharField(default=now)


class Setting(Model):
    """What the application remembers of how the user likes it."""

    name = pw.CharField(unique=True)
    value = JSONField()


TABLES = (Job, Reel, Edit, StrokeChange, Task, Trial, SavedRecipe, Setting)


def open_database(path: Path) -> pw.SqliteDatabase:
    """Open the database and bring its tables up to date."""
    opened = pw.SqliteDatabase(
        str(path), pragmas={"journal_mode": "wal", "foreign_keys": 1, "busy_timeout": 10_000, "synchronous": "normal"}
    )
    database.initialize(opened)
    Router(opened, migrate_dir=str(Path(__file__).parent / "migrations"), ignore=["basemodel"]).run()
    return opened
