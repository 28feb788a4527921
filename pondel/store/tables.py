"""The tables, bound to one database: two stores in one process do not meet."""

from __future__ import annotations

import sqlite3
import threading
from collections.abc import Callable
from contextlib import suppress
from datetime import UTC, datetime
from pathlib import Path
from types import SimpleNamespace
from typing import Any

from peewee import (
    AutoField,
    BigIntegerField,
    CompositeKey,
    DatabaseError,
    DateTimeField,
    FloatField,
    ForeignKeyField,
    IntegerField,
    OperationalError,
    SqliteDatabase,
    TextField,
)
from playhouse.migrations import Runner

from pondel.core.errors import DiskFull, PondelError
from pondel.store.folder import PRIVATE_FILE
from pondel.store.locks import unwritable
from pondel.store.room import is_full

MIGRATIONS = Path(__file__).parent / "migrations"


def now() -> datetime:
    return datetime.now(UTC).replace(tzinfo=None)


class _ClosedWithThread:
    """Closes a connection when its thread ends and drops what was local to it."""

    def __init__(self, connection: sqlite3.Connection) -> None:
        self._connection = connection

    def __del__(self) -> None:
        with suppress(sqlite3.Error):
            self._connection.close()


class ThreadedDatabase(SqliteDatabase):
    """One connection per thread, closed when the thread ends.

    The connection alone is part of a reference cycle: its files would stay open until the garbage
    collector comes by.
    """

    def __init__(self, *args: Any, **kwargs: Any) -> None:
        self._of_thread = threading.local()
        super().__init__(*args, **kwargs)

    def _connect(self) -> sqlite3.Connection:
        connection = super()._connect()  # type: ignore[misc]
        self._of_thread.closed_with_thread = _ClosedWithThread(connection)
        return connection


def open_database(
    path: Path, before_migrating: Callable[[str], None] = lambda migration: None
) -> SqliteDatabase:
    """The database, migrated. A commit is on disk when it returns (WAL, full synchronisation).

    `before_migrating` is called with a migration's name before an older database is changed.
    PondelError, with the way out, when the file is damaged, newer than this Pondel, or cannot be
    written.
    """
    is_new = not path.exists()
    try:
        path.touch(PRIVATE_FILE)
        if path.stat().st_mode & 0o777 != PRIVATE_FILE:
            path.chmod(PRIVATE_FILE)
    except OSError as error:
        raise unwritable(path) from error
    database = ThreadedDatabase(
        str(path),
        pragmas={"journal_mode": "wal", "synchronous": 2, "foreign_keys": 1},
        timeout=20,
    )
    try:
        _bring_up_to_date(database, path, is_new, before_migrating)
    except OperationalError as error:
        database.close()
        if is_full(error):
            raise DiskFull("the disk is full: make room, then start again") from error
        if "readonly" in str(error) or "unable to open" in str(error):
            raise unwritable(path) from error
        raise damaged(path, error) from error
    except DatabaseError as error:
        database.close()
        raise damaged(path, error) from error
    return database


def _bring_up_to_date(
    database: SqliteDatabase, path: Path, is_new: bool, before: Callable[[str], None]
) -> None:
    runner = Runner(database, str(MIGRATIONS))
    known = runner.status()
    if any(one.path is None for one in known):
        raise PondelError("was written by a newer Pondel: bring this one up to date", where=str(path))
    pending = [one.name for one in known if one.applied is None]
    if not pending:
        database.execute_sql("pragma user_version").fetchone()
        return
    if not is_new and len(pending) < len(known):
        before(pending[0])
    runner.up()


def damaged(path: Path, error: Exception) -> PondelError:
    """What to say of a database that SQLite cannot read."""
    return PondelError(
        f"the database is damaged ({error}); `pondel restore --data {path.parent}` puts the newest "
        "copy back",
        where=path.name,
    )


def tables_of(database: SqliteDatabase) -> SimpleNamespace:
    """The models of one database, by name."""
    base: Any = database.Model

    class Session(base):
        id = TextField(primary_key=True)
        name = TextField()
        created = DateTimeField(default=now)
        opened = DateTimeField(default=now)
        head = IntegerField()
        to_tell = TextField(default="")
        rate_known = IntegerField(default=0)
        variant = TextField(default="A")
        removed = DateTimeField(null=True)

    class Variant(base):
        session = ForeignKeyField(Session, on_delete="CASCADE")
        name = TextField()
        head = IntegerField()

        class Meta:
            primary_key = CompositeKey("session", "name")

    class Revision(base):
        id = AutoField()
        session = ForeignKeyField(Session, on_delete="CASCADE")
        parent = IntegerField(null=True, index=True)
        label = TextField()
        gesture = TextField(null=True)
        arrival = IntegerField(default=0)
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
        replaces = TextField(default="")
        title = TextField(default="")
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

    class Kept(base):
        what = TextField()
        name = TextField()
        body = TextField()
        created = DateTimeField(default=now)

        class Meta:
            primary_key = CompositeKey("what", "name")

    class Entry(base):
        session = ForeignKeyField(Session, on_delete="CASCADE")
        what = TextField()
        name = TextField()
        body = TextField()
        created = DateTimeField(default=now)

        class Meta:
            primary_key = CompositeKey("session", "what", "name")

    class Login(base):
        token = TextField(primary_key=True)
        password = TextField()
        address = TextField(index=True)
        created = DateTimeField(default=now)

    class Seal(base):
        file = TextField(primary_key=True)
        bytes = BigIntegerField()
        mtime_ns = BigIntegerField()

    return SimpleNamespace(
        Session=Session,
        Variant=Variant,
        Revision=Revision,
        Arrival=Arrival,
        Print=Print,
        Measure=Measure,
        Kept=Kept,
        Entry=Entry,
        Login=Login,
        Seal=Seal,
    )
