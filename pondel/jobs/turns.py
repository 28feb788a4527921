"""Analysis takes turns behind the sound: one at a time, gently, and only the newest of its kind."""

from __future__ import annotations

import os
import threading
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from typing import TypeVar

from pondel.core.errors import PondelError
from pondel.jobs.ear_first import EarFirst

Result = TypeVar("Result")
NICENESS = 10
MOST_QUESTIONS = 1000


class Superseded(PondelError):
    """A newer question of the same kind came, or the session changed, before this one was answered."""


def be_nice() -> None:
    """Let this thread give way to those that render sound."""
    if hasattr(os, "setpriority"):
        os.setpriority(os.PRIO_PROCESS, threading.get_native_id(), NICENESS)


class Turns:
    """Runs work one after another in a thread that gives way to those that render sound.

    A page asks one question of a kind at a time; a newer one takes the place of the older, even
    when that is being worked at: it ends at its next `step`.
    """

    def __init__(self, ear: EarFirst) -> None:
        self._ear = ear
        self._pool = ThreadPoolExecutor(1, "pondel-analysis", initializer=be_nice)
        self._newest: dict[tuple[str, str | None], int] = {}
        self._lock = threading.Lock()
        self._count = 0
        self._mine = threading.local()

    def take(self, kind: str, page: str | None, work: Callable[[], Result]) -> Result:
        """The result of `work` when its turn comes; Superseded when a newer one asked meanwhile."""
        with self._lock:
            self._count += 1
            ticket = self._count
            self._newest.pop((kind, page), None)
            self._newest[kind, page] = ticket
            while len(self._newest) > MOST_QUESTIONS:
                self._newest.pop(next(iter(self._newest)))

        def run() -> Result:
            self._mine.question = kind, page, ticket
            try:
                self.step()
                return work()
            finally:
                self._mine.question = None

        return self._pool.submit(run).result()

    def drop(self, page: str) -> None:
        """What a page asked so far is not worth an answer any more: it changed the session."""
        with self._lock:
            self._count += 1
            for kind, asking in self._newest:
                if asking == page:
                    self._newest[kind, asking] = self._count

    def step(self) -> None:
        """Between two steps of any work that is not for the ear: let the sound go first.

        Superseded when the question this thread works at is not the newest of its kind any more.
        """
        self._give_up_the_old()
        self._ear.step()
        self._give_up_the_old()

    def _give_up_the_old(self) -> None:
        question = getattr(self._mine, "question", None)
        if question is None:
            return
        kind, page, ticket = question
        if self._newest.get((kind, page), ticket) != ticket:
            raise Superseded("a newer question came first")
