"""Whether a recording on disk is still what was brought in.

Its name is the hash of its bytes. A seal remembers the size and time of a file that was found to
fit its name, so that it is read again only when one of them has changed.
"""

from __future__ import annotations

import hashlib
import threading
from pathlib import Path
from typing import Any

import peewee

from pondel.core.errors import BadRecording
from pondel.store.room import is_full

Stamp = tuple[int, int]


def file_hash(path: Path) -> str:
    """SHA-256 of a file, shortened."""
    with path.open("rb") as file:
        return hashlib.file_digest(file, "sha256").hexdigest()[:32]


class Seals:
    """The seals of one library. Thread-safe.

    The lock is not held while the database is asked: who writes to it may look at seals meanwhile.
    """

    def __init__(self, table: Any) -> None:
        self._table = table
        self._known: dict[str, tuple[Stamp, bool]] = {}
        self._lock = threading.Lock()

    def check(self, path: Path, *, read_again: bool = False) -> None:
        """BadRecording when a file is missing or does not fit its name any more."""
        try:
            facts = path.stat()
        except OSError as error:
            raise BadRecording("the recording is missing on disk") from error
        stamp = facts.st_size, facts.st_mtime_ns
        with self._lock:
            known, is_whole = self._known.get(path.name, (None, False))
        if read_again or known != stamp:
            is_whole = self._look(path, stamp, read_again)
        if not is_whole:
            raise BadRecording("the recording on disk was cut or changed since it was brought in")

    def _look(self, path: Path, stamp: Stamp, read_again: bool) -> bool:
        row = None if read_again else self._table.get_or_none(file=path.name)
        if row is not None and (row.bytes, row.mtime_ns) == stamp:
            self._remember(path, stamp, True)
            return True
        is_whole = file_hash(path) == path.stem
        self._remember(path, stamp, is_whole)
        if is_whole:
            self._keep(path, stamp)
        return is_whole

    def _remember(self, path: Path, stamp: Stamp, is_whole: bool) -> None:
        with self._lock:
            self._known[path.name] = stamp, is_whole

    def put(self, path: Path) -> None:
        """Seal a file that was just named after its bytes."""
        facts = path.stat()
        stamp = facts.st_size, facts.st_mtime_ns
        self._remember(path, stamp, True)
        self._keep(path, stamp)

    def _keep(self, path: Path, stamp: Stamp) -> None:
        row = self._table.insert(file=path.name, bytes=stamp[0], mtime_ns=stamp[1])
        try:
            row.on_conflict_replace().execute()
        except peewee.OperationalError as error:
            if not is_full(error):
                raise
