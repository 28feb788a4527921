"""Files that may go at any time, all within one bound: those used longest ago go first.

caches = Bounded(4 << 30)
caches.adopt(folder.iterdir())      # what an earlier run left
caches.wrote(path)                  # others make room for it
"""

from __future__ import annotations

import threading
from collections import OrderedDict
from collections.abc import Iterable
from pathlib import Path

USUAL_BYTES = 4 << 30


class Bounded:
    """Knows the size of each file and which was used last. Thread-safe."""

    def __init__(self, max_bytes: int = USUAL_BYTES) -> None:
        self._max_bytes = max_bytes
        self._sizes: OrderedDict[Path, int] = OrderedDict()
        self._bytes = 0
        self._lock = threading.Lock()

    @property
    def bytes_held(self) -> int:
        """What all of them take."""
        return self._bytes

    def adopt(self, paths: Iterable[Path]) -> None:
        """Count files that are there, as used when they were last changed or asked for."""
        found = []
        for path in paths:
            try:
                facts = path.stat()
            except OSError:
                continue
            found.append((max(facts.st_atime, facts.st_mtime), path, facts.st_size))
        with self._lock:
            for _, path, size in sorted(found):
                self._count(path, size)
            self._sweep()

    def wrote(self, path: Path) -> None:
        """Count a file that was written, and let others go until all fit."""
        size = path.stat().st_size
        with self._lock:
            self._count(path, size)
            self._sweep()

    def used(self, path: Path) -> None:
        """Count a file as used last, also one that another process wrote."""
        if not self.holds(path):
            self.adopt([path])

    def gone(self, path: Path) -> None:
        """Count a file no more that somebody else removed."""
        with self._lock:
            self._bytes -= self._sizes.pop(path, 0)

    def holds(self, path: Path) -> bool:
        """Whether a file is counted; being asked for makes it the one used last."""
        with self._lock:
            if path not in self._sizes:
                return False
            self._sizes.move_to_end(path)
            return True

    def _count(self, path: Path, size: int) -> None:
        self._bytes += size - self._sizes.pop(path, 0)
        self._sizes[path] = size

    def _sweep(self) -> None:
        while self._bytes > self._max_bytes and len(self._sizes) > 1:
            oldest, freed = self._sizes.popitem(last=False)
            self._bytes -= freed
            oldest.unlink(missing_ok=True)
