"""Sound that no longer fits into memory, kept in files up to a bound; the oldest go first."""

from __future__ import annotations

import hashlib
import threading
from collections import OrderedDict
from pathlib import Path

import numpy as np

from pondel.core import sealed

MAX_BYTES = 2 << 30
SUFFIX = ".chunk"


class Spill:
    """A folder of chunks by name. What is in it may vanish, or be damaged, without harm."""

    def __init__(self, folder: Path, max_bytes: int = MAX_BYTES) -> None:
        folder.mkdir(parents=True, exist_ok=True)
        self._folder = folder
        self._max_bytes = max_bytes
        self._lock = threading.Lock()
        for path in folder.iterdir():
            if path.suffix != SUFFIX:
                path.unlink(missing_ok=True)
        found = sorted(folder.glob(f"*{SUFFIX}"), key=lambda path: path.stat().st_mtime)
        self._sizes = OrderedDict((path.name, path.stat().st_size) for path in found)
        self._bytes = sum(self._sizes.values())

    @staticmethod
    def _name(key: tuple) -> str:
        return f"{hashlib.sha256(repr(key).encode()).hexdigest()[:40]}{SUFFIX}"

    def get(self, key: tuple) -> np.ndarray | None:
        """The chunk kept under a key, or None."""
        name = self._name(key)
        with self._lock:
            if name not in self._sizes:
                return None
            self._sizes.move_to_end(name)
        found = sealed.read(self._folder / name)
        return None if found is None else found.get("chunk")

    def put(self, key: tuple, chunk: np.ndarray) -> None:
        """Keep a chunk; older ones make room."""
        name = self._name(key)
        unfinished = self._folder / f"{name}.{threading.get_ident()}.part"
        try:
            with unfinished.open("wb") as file:
                sealed.write(file, {"chunk": chunk})
            size = unfinished.stat().st_size
            unfinished.replace(self._folder / name)
        except OSError:
            unfinished.unlink(missing_ok=True)
            return
        with self._lock:
            self._bytes += size - self._sizes.pop(name, 0)
            self._sizes[name] = size
            while self._bytes > self._max_bytes and len(self._sizes) > 1:
                oldest, freed = self._sizes.popitem(last=False)
                self._bytes -= freed
                (self._folder / oldest).unlink(missing_ok=True)
