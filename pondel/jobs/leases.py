"""Long work behind the page that shows it, under a lease which that page renews.

plans = Leases("planning", most_kept=4)
plan = plans.take(key, lambda: Planned(key, document), planner.work)     # begun, or renewed
plan.finished.wait(); plan.trouble

Work whose lease ran out ends at its next `checkpoint()` as soon as other work is asked for.
"""

from __future__ import annotations

import logging
import threading
import time
from collections import OrderedDict
from collections.abc import Callable, Iterable
from contextvars import ContextVar
from dataclasses import dataclass, field
from functools import partial
from typing import Generic, TypeVar

from pondel.core.errors import Busy, PondelError
from pondel.jobs.niceness import be_nice

log = logging.getLogger("pondel.jobs")
BROKEN = "something went wrong inside Pondel; the log has the details"
LEASE_S = 3.0
"""Work that nobody asked for during this time may be given up for other work."""
AT_ONCE = 2
"""Works of one kind that run side by side; others wait in line."""
LOOK_EVERY_S = 0.1


class GivenUp(Exception):
    """Nobody wants this work any more."""


@dataclass(eq=False, kw_only=True)
class LeasedWork:
    """Work as far as it has come, and why it failed if it did."""

    finished: threading.Event = field(default_factory=threading.Event)
    """Whether its thread has ended, however it did."""
    stopped: threading.Event = field(default_factory=threading.Event)
    """Whether it is to end at its next checkpoint."""
    is_complete: bool = False
    """Whether it came to its end, rather than failed or was given up."""
    trouble: PondelError | None = None
    renewed_s: float = field(default_factory=time.monotonic)
    """When somebody last asked for it, on the monotonic clock."""

    def renew(self) -> None:
        """Say that somebody still waits for it."""
        self.renewed_s = time.monotonic()

    @property
    def is_left(self) -> bool:
        """Whether nobody has asked for it while its lease ran."""
        return time.monotonic() - self.renewed_s > LEASE_S

    @property
    def can_be_shown(self) -> bool:
        """Whether its result, its progress or its trouble is what to answer with.

        Trouble stays as long as its page asks; after that the same work may be tried again.
        """
        if self.trouble is not None:
            return not self.is_left
        return self.is_complete or not self.stopped.is_set()


Work = TypeVar("Work", bound=LeasedWork)
_WORK: ContextVar[LeasedWork | None] = ContextVar("leased_work", default=None)
"""The work that is being done, also in threads that are given its context."""


def checkpoint() -> None:
    """Raise GivenUp where the work that is being done is not wanted any more."""
    work = _WORK.get()
    if work is not None and work.stopped.is_set():
        raise GivenUp


class Leases(Generic[Work]):
    """The works of one kind, by key. Thread-safe.

    At most `most_kept` are held: finished ones go first, then those whose lease ran out.
    """

    def __init__(self, what: str, most_kept: int) -> None:
        self._what, self._most_kept = what, most_kept
        self._held: OrderedDict[str, Work] = OrderedDict()
        self._lock = threading.Lock()
        self._places = threading.Semaphore(AT_ONCE)

    def take(self, key: str, make: Callable[[], Work], do: Callable[[Work], None]) -> Work:
        """The work of this key, its lease renewed; begun where there is none that can be shown.

        Busy when as many as can be held are all waited for.
        """
        with self._lock:
            found = self._held.get(key)
            if found is not None and found.can_be_shown:
                self._held.move_to_end(key)
                found.renew()
                return found
            self._held.pop(key, None)
            for older in self._held.values():
                if older.is_left:
                    older.stopped.set()
            self._make_place()
            work = self._held[key] = make()
        run_behind(partial(do, work), work, self._what, self._places)
        return work

    def _make_place(self) -> None:
        while len(self._held) >= self._most_kept:
            gone = next((key for key, one in self._held.items() if one.finished.is_set()), None)
            gone = gone or next((key for key, one in self._held.items() if one.is_left), None)
            if gone is None:
                raise Busy(f"{self._what}: {self._most_kept} are under way, try again in a moment")
            self._held.pop(gone).stopped.set()

    def get(self, key: str) -> Work | None:
        """The work of this key if it is held; its lease is not renewed."""
        with self._lock:
            return self._held.get(key)

    def held(self) -> list[Work]:
        """All that is held, the one asked for last first."""
        with self._lock:
            return list(reversed(self._held.values()))

    def stop(self) -> None:
        """Give up what is under way, and wait until it has ended."""
        give_up(self.held())


def run_behind(
    do: Callable[[], None], work: LeasedWork, what: str, places: threading.Semaphore | None = None
) -> None:
    """Do it in a thread that gives way to sound, once one of the `places` is free."""
    threading.Thread(
        target=_run, args=(do, work, what, places), name=f"pondel {what}", daemon=True
    ).start()


def give_up(under_way: Iterable[LeasedWork]) -> None:
    """End several, and wait until they have ended."""
    every = list(under_way)
    for one in every:
        one.stopped.set()
    for one in every:
        one.finished.wait()


def _run(
    do: Callable[[], None], work: LeasedWork, what: str, places: threading.Semaphore | None
) -> None:
    be_nice()
    _WORK.set(work)
    try:
        while places is not None and not places.acquire(timeout=LOOK_EVERY_S):
            checkpoint()
        try:
            checkpoint()
            do()
            work.is_complete = True
        finally:
            if places is not None:
                places.release()
    except GivenUp:
        log.info("%s was given up for another", what)
    except PondelError as error:
        work.trouble = error
    except Exception:
        log.exception("%s broke off", what)
        work.trouble = PondelError(BROKEN)
    finally:
        work.finished.set()
