"""Dated copies of the database, and the way back to one.

copies = Copies(folder)
copies.keep()                # today's copy, as the database is now; seven days are kept
copies.put_back()            # the newest good one; what was there is set aside
"""

from __future__ import annotations

import logging
import sqlite3
import time
from contextlib import closing
from datetime import UTC, datetime
from pathlib import Path

from pondel.core.errors import PondelError
from pondel.store.folder import ASIDE, PRIVATE_FILE, DataFolder, sync
from pondel.store.locks import InUse, hold
from pondel.store.room import is_full

DATABASE, USE_LOCK = "pondel.db", "use.lock"
DAYS_KEPT, MIGRATIONS_KEPT = 7, 3
DAY, BEFORE = "day-", "before-"
HOUR_S = 3600.0
log = logging.getLogger("pondel.store")


class Copies:
    """The copies in one data folder."""

    def __init__(self, folder: DataFolder) -> None:
        self._folder = folder
        self._place = folder.place("copies")
        self._database = folder.root / DATABASE

    def all(self) -> list[Path]:
        """Every copy, the newest first."""
        return sorted(self._place.glob("*.db"), key=lambda path: -path.stat().st_mtime)

    def keep(self, older_than_s: float = HOUR_S) -> None:
        """Make today's copy the database as it is now, where that has changed since.

        One that is younger than so many seconds stays. A full disk is no reason to stop working.
        """
        today = self._place / f"{DAY}{datetime.now(UTC):%Y-%m-%d}.db"
        if not self._database.exists() or not self._is_newer_than(today):
            return
        if today.exists() and time.time() - today.stat().st_mtime < older_than_s:
            return
        try:
            self._keep(today)
        except (OSError, sqlite3.Error, PondelError) as error:
            log.warning("no copy of the database was kept today: %s", error)
            return
        self._thin(DAY, DAYS_KEPT)

    def _is_newer_than(self, copy: Path) -> bool:
        """Whether the database was written since a copy of it was kept."""
        if not copy.exists():
            return True
        wal = self._database.with_name(f"{DATABASE}-wal")
        written = [one.stat().st_mtime_ns for one in (self._database, wal) if one.exists()]
        return max(written) > copy.stat().st_mtime_ns

    def refuse_to_begin_beside(self) -> None:
        """PondelError where a new database would be made beside copies, or recordings, of an older one.

        It says how to put the newest copy back.
        """
        if self._database.exists() and self._database.stat().st_size:
            return
        media = self._folder.root / "media"
        kept = self.all()
        if not kept and not (media.is_dir() and any(media.iterdir())):
            return
        is_there = "is empty" if self._database.exists() else "is missing"
        way = (
            f"`pondel restore --data {self._folder.root}` puts the newest copy back"
            if kept
            else "put it back from your own backup"
        )
        what = "copies of it" if kept else "its recordings"
        raise PondelError(
            f"the database {is_there}, though {what} are here: {way}. "
            "To begin without it, move copies/ and media/ out of this folder first",
            where=str(self._database),
        )

    def databases(self) -> list[Path]:
        """Every copy, and every database that was set aside."""
        return [*self.all(), *sorted(self._folder.place(ASIDE).glob(f"*{DATABASE}"))]

    def keep_before(self, migration: str) -> None:
        """Keep the database as it is before a migration changes it; PondelError if that fails."""
        target = self._place / f"{BEFORE}{migration}-{datetime.now(UTC):%Y%m%d-%H%M%S}.db"
        try:
            self._keep(target)
        except (OSError, sqlite3.Error) as error:
            why = "the disk is full" if is_full(error) else str(error)
            raise PondelError(
                f"the database has to be copied before it is brought up to date, and {why}",
                where=str(target),
            ) from error
        self._thin(BEFORE, MIGRATIONS_KEPT)

    def _keep(self, target: Path) -> None:
        """Copy the database while others may write to it; PondelError when the copy is not sound."""
        unfinished = target.with_suffix(".part")
        try:
            unfinished.touch(PRIVATE_FILE)
            with (
                closing(sqlite3.connect(f"file:{self._database}?mode=ro", uri=True)) as source,
                closing(sqlite3.connect(unfinished)) as copy,
            ):
                source.backup(copy)
                copy.execute("pragma journal_mode = delete")
            fault = fault_of(unfinished)
            if fault:
                raise PondelError(f"the database is damaged ({fault})")
            sync(unfinished)
            unfinished.replace(target)
            sync(self._place)
        finally:
            unfinished.unlink(missing_ok=True)

    def _thin(self, prefix: str, kept: int) -> None:
        for path in sorted(self._place.glob(f"{prefix}*.db"), reverse=True)[kept:]:
            self._folder.remove(path)

    def put_back(self, name: str | None = None) -> Path:
        """Make a copy the database again: the one named, or the newest that is sound.

        The database that was there is set aside. PondelError when Pondel runs on this folder, or
        when there is no such copy.
        """
        try:
            alone = hold(self._folder.root / USE_LOCK, "this folder")
        except InUse as error:
            raise PondelError(
                "stop the Pondel that works with this folder first", where=str(self._folder.root)
            ) from error
        try:
            return self._put_back(name)
        finally:
            alone.release()

    def _put_back(self, name: str | None) -> Path:
        found = [path for path in self.all() if name in (None, path.name, path.stem)]
        sound = next((path for path in found if fault_of(path) is None), None)
        if sound is None:
            what = f"sound copy called {name!r}" if name else "sound copy"
            raise PondelError(f"there is no {what} in {self._place}")
        for suffix in ("-wal", "-shm", ""):
            old = self._database.with_name(DATABASE + suffix)
            if old.exists():
                self._folder.set_aside(old, "a copy was put back in its place")
        unfinished = self._database.with_suffix(".part")
        unfinished.write_bytes(sound.read_bytes())
        unfinished.chmod(PRIVATE_FILE)
        sync(unfinished)
        unfinished.replace(self._database)
        sync(self._database.parent)
        return sound


def fault_of(database: Path) -> str | None:
    """What SQLite finds wrong with a database, None when it is sound."""
    try:
        with closing(sqlite3.connect(f"file:{database}?mode=ro", uri=True)) as opened:
            row = opened.execute("pragma quick_check(1)").fetchone()
    except sqlite3.Error as error:
        return str(error)
    return None if row == ("ok",) else str(row[0])
