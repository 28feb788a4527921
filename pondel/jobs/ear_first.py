"""Work for the ear goes first: all other work stands still between its steps meanwhile.

ear = EarFirst()
with ear.hurry():       # in the thread that makes sound or takes an edit
    ...
ear.step()              # in every other thread, between two chunks of its work
"""

from __future__ import annotations

import threading
import time
from collections.abc import Iterator
from contextlib import contextmanager
from contextvars import ContextVar

LINGER_S = 0.05
"""The page asks for the sound of an edit this soon after the edit was answered."""
LONGEST_STOP_S = 0.5
"""A step is taken at least this often, so that a long drag does not starve the pictures."""
_HURRIES: ContextVar[bool] = ContextVar("hurries", default=False)
"""Whether what is done is for the ear: in threads of its own too, if they are given the context."""


class EarFirst:
    """Counts the work for the ear that is under way. Thread-safe."""

    def __init__(self) -> None:
        self._changed = threading.Condition()
        self._under_way = 0
        self._until = 0.0

    @contextmanager
    def hurry(self, linger_s: float = LINGER_S) -> Iterator[None]:
        """What is done inside is for the ear; more for it is expected within `linger_s` of it."""
        with self._changed:
            self._under_way += 1
        outer = _HURRIES.set(True)
        try:
            yield
        finally:
            _HURRIES.reset(outer)
            with self._changed:
                self._under_way -= 1
                self._until = max(self._until, time.monotonic() + linger_s)
                self._changed.notify_all()

    def step(self) -> None:
        """Stand still while something is made for the ear, unless this is done for it."""
        if _HURRIES.get():
            return
        ends = time.monotonic() + LONGEST_STOP_S
        with self._changed:
            while (now := time.monotonic()) < ends:
                if not self._under_way and now >= self._until:
                    return
                wait = ends - now if self._under_way else min(ends, self._until) - now
                self._changed.wait(wait)
