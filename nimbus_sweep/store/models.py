"""The tables, and opening the database."""

from __future__ import annotations

import json
import sqlite3
from contextlib import closing
from datetime import UTC, datetime
from pathlib import Path
from typing import TYPE_CHECKING, Any

import peewee as pw
from peewee_migrate import Router

from ..core.base.errors import SweepError
from ..core.base.files import disk_full
from .contents import Contents
from .facts import StoredFacts

database = pw.DatabaseProxy()
contents = Contents(Path("contents"))


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


class PlaceField(pw.TextField):
    """Where a reel lies; told from the data folder if it lies in there, so that the folder can be moved."""

    def db_value(self, value: str | None) -> str | None:
        """To the database."""
        root = contents.folder.parent
        return str(Path(value).relative_to(root)) if value and Path(value).is_relative_to(root) else value

    def python_value(self, value: str | None) -> str | None:
        """From the database."""
        return value and str(contents.folder.parent / value)


class Reel(Model):
    """One source, never altered.

    `facts` is what intake read, `reading` what the user corrected of it, `look` the colours its small pictures were
    made with. A reel that is ``open`` can be looked at while it is still being read.
    """

    job = pw.ForeignKeyField(Job, backref="reels", on_delete="CASCADE")
    title = pw.CharField(max_length=200)
    path = PlaceField()
    size = pw.BigIntegerField(default=0)
    modified = pw.BigIntegerField(default=0)
    fingerprint = pw.CharField(default="")
    sample = pw.CharField(default="")
    accept_missing = pw.BooleanField(default=False)
    state = pw.CharField(default="new")  # new, reading, open, ready, refused
    refusal = pw.TextField(default="")
    missing = pw.IntegerField(default=0)
    frames = pw.IntegerField(default=0)
    facts = FactsField(null=True)
    reading = JSONField(null=True)
    look = pw.CharField(default="")
    created = pw.CharField(default=now)
    revision = pw.IntegerField(default=0)
    mark = pw.CharField(default="")

    @property
    def as_choice(self) -> tuple[int, str]:
        """Its number and title."""
        return self.id, self.title


class LeanField(JSONField):
    """Plain values kept as JSON text, what is long in them as files."""

    def db_value(self, value: Any) -> str | None:
        """To the database."""
        return super().db_value(contents.lean(value))

    def python_value(self, value: str | None) -> Any:
        """From the database."""
        return contents.whole(super().python_value(value))


class Edit(Model):
    """A change to the shots of a reel: the undo history.

    `changes` are the rows it changed, each before and behind (`rows.RowChange`); `number` is the revision that the reel got when it
    was last made, taken back or made again, `page` what the page that did it calls itself. What was taken back is `undone`, and `dropped` once something else was done instead.
    """

    reel = pw.ForeignKeyField(Reel, backref="edits", on_delete="CASCADE")
    what = pw.CharField()
    who = pw.CharField(default="")
    page = pw.CharField(default="")
    changes = JSONField(default=list)
    number = pw.IntegerField(default=0)
    undone = pw.BooleanField(default=False)
    dropped = pw.BooleanField(default=False)
    created = pw.CharField(default=now)

    class Meta:
        """Looked up by reel, newest first."""

        indexes = ((("reel", "undone", "dropped"), False), (("reel", "number"), False))


class ShotRow(Model):
    """A shot of a reel as it is now; `mark` is another one whenever anything of it changes. See `core.model.shots.Shot`.

    `learns` are the names of the analyses its treatment needs, as far as they were worked out, with what they were worked out for.
    """

    id = pw.IntegerField(primary_key=True)
    reel = pw.ForeignKeyField(Reel, backref="shot_rows", on_delete="CASCADE")
    first = pw.IntegerField()
    stop = pw.IntegerField()
    enter = pw.IntegerField()
    leave = pw.IntegerField()
    handles = pw.IntegerField()
    span = JSONField()
    name = pw.CharField(max_length=120)
    use = pw.CharField()
    cut = pw.CharField()
    confirmed = pw.BooleanField()
    change = pw.FloatField()
    surveyed = pw.FloatField(null=True)
    notes = JSONField()
    recipe = JSONField()
    verdict = pw.CharField()
    remark = pw.TextField()
    judged = pw.CharField()
    judged_by = pw.CharField(default="")
    mark = pw.CharField(default="")
    learns = JSONField(null=True)

    class Meta:
        """Looked up by reel, in order."""

        table_name = "shot"
        indexes = ((("reel", "first"), False),)


class FindingRow(Model):
    """A finding of a shot. See `core.model.findings.JudgedFinding`."""

    id = pw.IntegerField(primary_key=True)
    shot = pw.ForeignKeyField(ShotRow, backref="finding_rows", on_delete="CASCADE", index=False)
    place = pw.IntegerField()
    kind = pw.CharField()
    step = pw.CharField()
    x = pw.IntegerField()
    y = pw.IntegerField()
    width = pw.IntegerField()
    height = pw.IntegerField()
    first = pw.IntegerField()
    stop = pw.IntegerField()
    confidence = pw.FloatField()
    evidence = LeanField()
    by_hand = pw.BooleanField()
    title = pw.CharField()
    sentence = pw.TextField()
    state = pw.CharField()
    chosen = pw.BooleanField()

    class Meta:
        """Looked up by shot, in order, and counted by state."""

        table_name = "finding"
        indexes = ((("shot", "place"), False), (("shot", "state"), False))


class StepRow(Model):
    """A step of a shot's treatment. See `core.model.recipes.Step`."""

    id = pw.IntegerField(primary_key=True)
    shot = pw.ForeignKeyField(ShotRow, backref="step_rows", on_delete="CASCADE")
    place = pw.IntegerField()
    kind = pw.CharField()
    on = pw.BooleanField()
    settings = LeanField()
    region = LeanField(null=True)
    hold_out = LeanField(null=True)

    class Meta:
        """The table is named as the others are."""

        table_name = "step"


class TrackRow(Model):
    """A track of a shot's treatment. See `core.model.tracks.Track`."""

    id = pw.IntegerField(primary_key=True)
    shot = pw.ForeignKeyField(ShotRow, backref="track_rows", on_delete="CASCADE")
    place = pw.IntegerField()
    name = pw.CharField()
    told = LeanField()

    class Meta:
        """The table is named as the others are."""

        table_name = "track"


class Counter(Model):
    """The number that the next row gets: none is given out twice, though a row that was taken back may come again."""

    next = pw.BigIntegerField(default=1)


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
    """Work in the queue: intake, laying a shot open, survey, analysis, track, trial, check, render, inspection, papers.

    `attempts` are those since it last got further, `reached` the share it had got to when a worker was last lost, `parent` the number of
    the task it is a part of, 0 for none.
    """

    reel = pw.ForeignKeyField(Reel, backref="tasks", on_delete="CASCADE")
    kind = pw.CharField()
    state = pw.CharField(default="waiting")  # waiting, running, done, failed, cancelled
    share = pw.FloatField(default=0)
    rate = pw.FloatField(default=0)
    what = pw.CharField(default="")
    error = pw.TextField(default="")
    who = pw.CharField(default="")
    cancel = pw.BooleanField(default=False)
    attempts = pw.IntegerField(default=0)
    reached = pw.FloatField(default=0)
    parent = pw.IntegerField(default=0)
    settings = JSONField(null=True)
    result = JSONField(null=True)
    created = pw.CharField(default=now)
    started = pw.CharField(null=True)
    ended = pw.CharField(null=True)


class Run(Model):
    """An unattended run over reels of a job; `settings` say how they are treated and what is delivered, `said` why it is paused.

    Which reels, and in which order, their tasks say.
    """

    job = pw.ForeignKeyField(Job, backref="runs", on_delete="CASCADE")
    settings = JSONField()
    paused = pw.BooleanField(default=False)
    said = pw.TextField(default="")
    who = pw.CharField(default="")
    created = pw.CharField(default=now)


class Eye(Model):
    """Something of a reel that needs eyes.

    `key` says what it is about, so that it is known again, `family` what it is like; `score` how likely it is trouble, 0 to 1. `values` belong
    to its sentence. `state` is ``open``, ``accepted``, ``left`` alone or ``waved`` through; those decided at once share a `batch`, `edit` is
    the change to the reel that the decision made. Those that are not `shown` are decided on with their like, if at all.
    """

    reel = pw.ForeignKeyField(Reel, backref="eyes", on_delete="CASCADE")
    shot = pw.IntegerField(default=0)
    key = pw.CharField()
    kind = pw.CharField()
    family = pw.CharField(default="")
    score = pw.FloatField()
    frame = pw.IntegerField(default=0)
    x = pw.IntegerField(default=0)
    y = pw.IntegerField(default=0)
    width = pw.IntegerField(default=0)
    height = pw.IntegerField(default=0)
    values = JSONField(default=dict)
    state = pw.CharField(default="open")
    remark = pw.TextField(default="")
    who = pw.CharField(default="")
    decided = pw.CharField(default="")
    batch = pw.IntegerField(default=0)
    edit = pw.IntegerField(null=True)
    shown = pw.BooleanField(default=True)

    class Meta:
        """Looked up by reel, and listed by state, worst first."""

        indexes = ((("reel", "key"), True), (("state", "score"), False), (("family", "state"), False), (("batch",), False))


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


class Account(Model):
    """A user who may sign in from other machines; `secret` is the hash of the password."""

    name = pw.CharField(unique=True, max_length=60)
    secret = pw.CharField()
    created = pw.CharField(default=now)


class SignedIn(Model):
    """A browser that a user is signed in with; `token` is the SHA-256 of what it is known by."""

    account = pw.ForeignKeyField(Account, backref="browsers", on_delete="CASCADE")
    token = pw.CharField(unique=True)
    seen = pw.CharField()
    ends = pw.CharField()


class Setting(Model):
    """What the application remembers of how the user likes it."""

    name = pw.CharField(unique=True)
    value = JSONField()


TABLES = (
    Job,
    Reel,
    Edit,
    ShotRow,
    FindingRow,
    StepRow,
    TrackRow,
    Counter,
    StrokeChange,
    Task,
    Trial,
    SavedRecipe,
    Setting,
    Account,
    SignedIn,
    Run,
    Eye,
)


def open_database(path: Path) -> pw.SqliteDatabase:
    """Open the database and bring its tables up to date; what was there before is copied first.

    Raises
    ------
    SweepError
        If it was made by a newer version, or is no database.
    """
    # Longer than what came from outside may take to be read in a request (`core.base.apart.SECONDS`).
    opened = pw.SqliteDatabase(
        str(path), pragmas={"journal_mode": "wal", "foreign_keys": 1, "busy_timeout": 30_000, "synchronous": "normal"}
    )
    database.initialize(opened)
    contents.folder = path.absolute().parent / "contents"
    router = Router(opened, migrate_dir=str(Path(__file__).parent / "migrations"), ignore=["basemodel"])
    try:
        known, done = set(router.todo), router.done
        if newer := [name for name in done if name not in known]:
            raise SweepError(
                f"The data folder {path.parent} was used by a newer version of Nimbus Sweep ({newer[-1]}), which keeps its data in another "
                "way. Bring Nimbus Sweep up to date, or name another folder with --data."
            )
        if done and router.diff:
            _copied(opened, path.with_name(f"{path.stem}-before-{router.diff[-1]}.db"))
        router.run()
    except pw.DatabaseError as error:
        if is_full(error):
            raise disk_full(path) from error
        raise SweepError(
            f"The database {path} cannot be read ({error}). Put a backup back in its place, or name another folder with --data."
        ) from error
    return opened


def is_full(error: BaseException | None) -> bool:
    """Whether the database found no room on its disk, here or in what led here: it takes back by itself what it could not store."""
    while error is not None:
        if any(word in str(error) for word in ("disk is full", "disk I/O error")):
            return True
        error = error.__cause__ or error.__context__
    return False


_held: list[sqlite3.Connection] = []


def hold_open(path: Path) -> None:
    """Keep one connection that does nothing: the last one that closes takes SQLite's files beside the database with it, and a full disk
    has no room to make them again, not even to read."""
    while _held:
        _held.pop().close()
    _held.append(sqlite3.connect(path, check_same_thread=False))
    _held[0].execute("SELECT count(*) FROM sqlite_master").fetchone()


def _copied(opened: pw.SqliteDatabase, path: Path) -> None:
    """Copy the database as it is, by SQLite's own backup."""
    with closing(sqlite3.connect(path)) as other:
        opened.connection().backup(other)  # type: ignore[no-untyped-call]
