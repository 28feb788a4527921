"""Sound that no longer fits into memory, kept in files within the bound of all caches."""

from __future__ import annotations

import hashlib
import threading
from pathlib import Path

import numpy as np

from pondel.core import sealed
from pondel.core.bounded import Bounded

SUFFIX = ".chunk"


class Spill:
    """A folder of chunks by name. What is in it may vanish, or be damaged, without harm."""

    def __init__(self, folder: Path, caches: Bounded | None = None) -> None:
        folder.mkdir(parents=True, exist_ok=True)
        self._folder = folder
        self._caches = caches or Bounded()
        for path in folder.iterdir():
            if path.suffix != SUFFIX:
                path.unlink(missing_ok=True)
        self._caches.adopt(folder.glob(f"*{SUFFIX}"))

    def _path(self, key: tuple) -> Path:
        return self._folder / f"{hashlib.sha256(repr(key).encode()).hexdigest()[:40]}{SUFFIX}"

    def get(self, key: tuple) -> np.ndarray | None:
        """The chunk kept under a key, or None."""
        path = self._path(key)
        found = sealed.read(path) if self._caches.holds(path) else None
        return None if found is None else found.get("chunk")

    def put(self, key: tuple, chunk: np.ndarray) -> None:
        """Keep a chunk; older ones make room."""
        path = self._path(key)
        unfinished = path.with_suffix(f"{SUFFIX}.{threading.get_ident()}.part")
        try:
            with unfinished.open("wb") as file:
                sealed.write(file, {"chunk": chunk})
            unfinished.replace(path)
            self._caches.wrote(path)
        except OSError:
            unfinished.unlink(missing_ok=True)
