"""Work that had no room to write, kept until there is some again.

starved = Starved(folder)
starved.add("arrival 12ab", needed_bytes, again)     # `again` puts the work back on the queue
starved.look()                                        # once in a while
"""

from __future__ import annotations

import logging
import threading
import time
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

from pondel.store.room import LEAST_FREE_BYTES, has_room, is_full

FIRST_PAUSE_S, LONGEST_PAUSE_S = 1.0, 60.0
log = logging.getLogger("pondel.jobs")


@dataclass
class _Waiting:
    needed_bytes: int
    again: Callable[[], None]
    pause_s: float
    not_before: float


class Starved:
    """What waits for room on the disk, by name. Thread-safe.

    What fails again waits longer each time, so that it does not fill the disk over and over.
    """

    def __init__(self, folder: Path, now: Callable[[], float] = time.monotonic) -> None:
        self._folder = folder
        self._now = now
        self._waiting: dict[str, _Waiting] = {}
        self._pauses: dict[str, float] = {}
        self._lock = threading.Lock()

    def add(self, name: str, needed_bytes: int, again: Callable[[], None]) -> None:
        """Let work wait until so many bytes are free."""
        with self._lock:
            pause_s = min(LONGEST_PAUSE_S, self._pauses.get(name, FIRST_PAUSE_S / 2) * 2)
            self._pauses[name] = pause_s
            wanted = max(needed_bytes, LEAST_FREE_BYTES)
            self._waiting[name] = _Waiting(wanted, again, pause_s, self._now() + pause_s)

    def names(self) -> set[str]:
        """What waits now."""
        with self._lock:
            return set(self._waiting)

    def forget(self, name: str) -> None:
        """Work that is done, or not wanted any more."""
        with self._lock:
            self._waiting.pop(name, None)
            self._pauses.pop(name, None)

    def look(self) -> None:
        """Set to work again what has room now."""
        with self._lock:
            due = [
                name
                for name, one in self._waiting.items()
                if one.not_before <= self._now() and has_room(self._folder, one.needed_bytes)
            ]
            taken = {name: self._waiting.pop(name) for name in due}
        for name, one in taken.items():
            try:
                one.again()
            except Exception as error:
                if not is_full(error):
                    log.exception("%s cannot go on", name)
                    continue
                self.add(name, one.needed_bytes, one.again)
