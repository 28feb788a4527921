"""Work for the ear goes first: all other work stands still between its steps meanwhile.

ear = EarFirst()
with ear.hurry():       # in the thread that makes sound or takes an edit
    ...
ear.step()              # in every other thread, between two chunks of its work
"""

from __future__ import annotations

import threading
import time
from collections import Counter
from collections.abc import Iterator
from contextlib import contextmanager
from contextvars import ContextVar
from dataclasses import dataclass

from pondel.core.waiting import gives_way

LINGER_S = 0.05
"""The page asks for the sound of an edit this soon after the edit was answered."""
LONGEST_STOP_S = 0.5
"""A step is taken at least this often, so that a long drag does not starve the pictures."""


@dataclass(eq=False)
class _Hurry:
    """Work for the ear, and how many of its threads wait for what is not urgent by itself."""

    waiting: int = 0


_HURRY: ContextVar[_Hurry | None] = ContextVar("hurry", default=None)
"""The work for the ear that this is part of, also in threads that are given its context."""


class EarFirst:
    """Knows the work for the ear that is under way. Thread-safe."""

    def __init__(self) -> None:
        self._changed = threading.Condition()
        self._under_way: Counter[_Hurry] = Counter()
        self._until = 0.0

    @contextmanager
    def hurry(self, linger_s: float = LINGER_S) -> Iterator[None]:
        """What is done inside is for the ear; more for it is expected within `linger_s` of it.

        While it waits for what another thread makes in steps, that thread, and all others, go on.
        """
        hurry = _HURRY.get() or _Hurry()
        with self._changed:
            self._under_way[hurry] += 1
        outer = _HURRY.set(hurry)
        try:
            with gives_way(lambda: self._lent(hurry)):
                yield
        finally:
            _HURRY.reset(outer)
            with self._changed:
                self._under_way -= Counter([hurry])
                self._until = max(self._until, time.monotonic() + linger_s)
                self._changed.notify_all()

    @contextmanager
    def _lent(self, hurry: _Hurry) -> Iterator[None]:
        with self._changed:
            hurry.waiting += 1
            self._changed.notify_all()
        try:
            yield
        finally:
            with self._changed:
                hurry.waiting -= 1

    def _is_hurried(self) -> bool:
        return any(not one.waiting for one in self._under_way)

    def step(self) -> None:
        """Stand still while something is made for the ear, unless this is done for it."""
        if _HURRY.get() is not None:
            return
        ends = time.monotonic() + LONGEST_STOP_S
        with self._changed:
            while (now := time.monotonic()) < ends:
                is_hurried = self._is_hurried()
                if not is_hurried and now >= self._until:
                    return
                wait = ends - now if is_hurried else min(ends, self._until) - now
                self._changed.wait(wait)
