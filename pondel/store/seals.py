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
    """The seals of one library. Thread-safe."""

    def __init__(self, table: Any) -> None:
        self._table = table
        self._whole: dict[str, Stamp] = {}
        self._broken: dict[str, Stamp] = {}
        self._lock = threading.Lock()

    def check(self, path: Path, *, read_again: bool = False) -> None:
        """BadRecording when a file is missing or does not fit its name any more."""
        with self._lock:
            try:
                facts = path.stat()
            except OSError as error:
                raise BadRecording("the recording is missing on disk") from error
            stamp = facts.st_size, facts.st_mtime_ns
            if read_again or self._whole.get(path.name) != stamp:
                self._look_again(path, stamp, read_again)

    def _look_again(self, path: Path, stamp: Stamp, read_again: bool) -> None:
        broken = self._broken.get(path.name) == stamp and not read_again
        if not broken and not read_again:
            row = self._table.get_or_none(file=path.name)
            if row is not None and (row.bytes, row.mtime_ns) == stamp:
                self._whole[path.name] = stamp
                return
        if broken or file_hash(path) != path.stem:
            self._whole.pop(path.name, None)
            self._broken[path.name] = stamp
            raise BadRecording("the recording on disk was cut or changed since it was brought in")
        self._keep(path, stamp)

    def put(self, path: Path) -> None:
        """Seal a file that was just named after its bytes."""
        facts = path.stat()
        with self._lock:
            self._keep(path, (facts.st_size, facts.st_mtime_ns))

    def _keep(self, path: Path, stamp: Stamp) -> None:
        self._broken.pop(path.name, None)
        self._whole[path.name] = stamp
        row = self._table.insert(file=path.name, bytes=stamp[0], mtime_ns=stamp[1])
        try:
            row.on_conflict_replace().execute()
        except peewee.OperationalError as error:
            if not is_full(error):
                raise
