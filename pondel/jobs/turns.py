"""Analysis takes turns behind the sound: one at a time, gently, and only the newest of its kind."""

from __future__ import annotations

import os
import threading
from collections.abc import Callable, Hashable
from concurrent.futures import ThreadPoolExecutor
from typing import TypeVar

from pondel.core.errors import PondelError

Result = TypeVar("Result")
NICENESS = 10
MOST_KEYS = 1000


class Superseded(PondelError):
    """A newer question of the same kind came before this one had its turn."""


def be_nice() -> None:
    """Let this thread give way to those that render sound."""
    if hasattr(os, "setpriority"):
        os.setpriority(os.PRIO_PROCESS, threading.get_native_id(), NICENESS)


class Turns:
    """Runs work one after another in a thread that gives way to those that render sound."""

    def __init__(self) -> None:
        self._pool = ThreadPoolExecutor(1, "pondel-analysis", initializer=be_nice)
        self._newest: dict[Hashable, int] = {}
        self._lock = threading.Lock()
        self._count = 0

    def take(self, key: Hashable, work: Callable[[], Result]) -> Result:
        """The result of `work` when its turn comes; Superseded when a newer one asked meanwhile."""
        with self._lock:
            self._count += 1
            ticket = self._count
            self._newest.pop(key, None)
            self._newest[key] = ticket
            while len(self._newest) > MOST_KEYS:
                self._newest.pop(next(iter(self._newest)))

        def run() -> Result:
            if self._newest.get(key, ticket) != ticket:
                raise Superseded("a newer question came first")
            return work()

        return self._pool.submit(run).result()
