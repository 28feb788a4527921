"""The tables, bound to one database: two stores in one process do not meet."""

from __future__ import annotations

from datetime import UTC, datetime
from pathlib import Path
from types import SimpleNamespace

from peewee import (
    AutoField,
    CompositeKey,
    DateTimeField,
    FloatField,
    ForeignKeyField,
    IntegerField,
    SqliteDatabase,
    TextField,
)
from playhouse.migrations import Runner

MIGRATIONS = Path(__file__).parent / "migrations"


def now() -> datetime:
    return datetime.now(UTC).replace(tzinfo=None)


def open_database(path: Path) -> SqliteDatabase:
    """The database, migrated. A commit is on disk when it returns (WAL, full synchronisation)."""
    database = SqliteDatabase(
        str(path),
        pragmas={"journal_mode": "wal", "synchronous": 2, "foreign_keys": 1},
        timeout=20,
    )
    Runner(database, str(MIGRATIONS)).up()
    return database


def tables_of(database: SqliteDatabase) -> SimpleNamespace:
    """The models Session, Variant, Revision, Arrival, Print and Measure of one database."""
    base = database.Model

    class Session(base):
        id = TextField(primary_key=True)
        name = TextField()
        created = DateTimeField(default=now)
        opened = DateTimeField(default=now)
        head = IntegerField()
        rate_known = IntegerField(default=0)
        variant = TextField(default="A")

    class Variant(base):
        session = ForeignKeyField(Session, on_delete="CASCADE")
        name = TextField()
        head = IntegerField()

        class Meta:
            primary_key = CompositeKey("session", "name")

    class Revision(base):
        id = AutoField()
        session = ForeignKeyField(Session, on_delete="CASCADE")
        parent = IntegerField(null=True)
        label = TextField()
        gesture = TextField(null=True)
        document = TextField()
        hash = TextField()
        created = DateTimeField(default=now)

    class Arrival(base):
        id = TextField(primary_key=True)
        session = ForeignKeyField(Session, on_delete="CASCADE")
        name = TextField()
        state = TextField(index=True)
        progress = FloatField(default=0)
        message = TextField(default="")
        part = TextField(default="")
        created = DateTimeField(default=now)

    class Print(base):
        id = TextField(primary_key=True)
        session = ForeignKeyField(Session, on_delete="CASCADE")
        revision = IntegerField()
        order = TextField()
        state = TextField(index=True)
        progress = FloatField(default=0)
        message = TextField(default="")
        created = DateTimeField(default=now)

    class Measure(base):
        key = TextField(primary_key=True)
        body = TextField()
        created = DateTimeField(default=now)

    return SimpleNamespace(
        Session=Session,
        Variant=Variant,
        Revision=Revision,
        Arrival=Arrival,
        Print=Print,
        Measure=Measure,
    )
