"""Analyses too large for the database: arrays in files, named by what they were made of."""

from __future__ import annotations

import hashlib
import os
import threading
import time
from collections.abc import Callable, Iterable
from pathlib import Path
from typing import BinaryIO

import numpy as np

from pondel.core import sealed
from pondel.core.bounded import Bounded
from pondel.store.folder import DataFolder, sync
from pondel.store.room import written_in

SUFFIX = ".arrays"


class Analyses:
    """A folder of arrays that may be thrown away at any time, within the bound of all caches.

    A file that is not as it was written is thrown away and counts as not there.
    """

    def __init__(self, folder: DataFolder, caches: Bounded | None = None) -> None:
        self._data = folder
        self._folder = folder.place("analyses")
        self._caches = caches or Bounded()
        self._caches.adopt(self._folder.glob(f"*{SUFFIX}"))
        self._lock = threading.Lock()
        self._whole: dict[Path, tuple[int, int]] = {}

    def _path(self, name: str) -> Path:
        return self._folder / f"{hashlib.sha256(name.encode()).hexdigest()[:32]}{SUFFIX}"

    def rows(self, name: str, width: int) -> np.ndarray | None:
        """Rows of float16 kept under a name, (rows, width), read from disk as they are used."""
        path = self._path(name)
        stamp = self._stamp(path)
        if stamp is None:
            return None
        with self._lock:
            is_known = self._whole.get(path) == stamp
        if not is_known and not self._is_whole(path):
            return None
        with self._lock:
            self._whole[path] = stamp
        rows = sealed.mapped(path)["rows"]
        return rows if rows.shape[1:] == (width,) else None

    def keep_rows(self, name: str, pieces: Iterable[np.ndarray], width: int) -> None:
        """Write rows as they come; they appear under their name when all are there."""
        self._keep(self._path(name), lambda file: sealed.write_rows(file, pieces, width, "<f2"))

    def arrays(self, name: str) -> dict[str, np.ndarray] | None:
        """Named arrays kept together, or None."""
        path = self._path(name)
        if self._stamp(path) is None:
            return None
        found = sealed.read(path)
        if found is None:
            self._remove(path)
        return found

    def keep_arrays(self, name: str, arrays: dict[str, np.ndarray]) -> None:
        """Keep named arrays together."""
        self._keep(self._path(name), lambda file: sealed.write(file, arrays))

    def _remove(self, path: Path) -> None:
        self._data.remove(path)
        self._caches.gone(path)

    def _is_whole(self, path: Path) -> bool:
        """Whether a file is as it was written; if not, it is thrown away."""
        if sealed.is_whole(path):
            return True
        self._remove(path)
        return False

    def _keep(self, path: Path, write: Callable[[BinaryIO], None]) -> None:
        with written_in(self._folder), self._data.scratch() as unfinished:
            with unfinished.open("wb") as file:
                write(file)
            sync(unfinished)
            unfinished.replace(path)
        self._caches.wrote(path)

    def sweep(self) -> None:
        """After a start: what an earlier run left unfinished goes."""
        for path in self._folder.iterdir():
            if path.suffix != SUFFIX:
                self._data.remove(path)

    def _stamp(self, path: Path) -> tuple[int, int] | None:
        """A file's size and time, None when it is not there; being asked for makes it the last used."""
        self._caches.used(path)
        try:
            facts = path.stat()
            os.utime(path, ns=(time.time_ns(), facts.st_mtime_ns))
        except OSError:
            return None
        return facts.st_size, facts.st_mtime_ns
