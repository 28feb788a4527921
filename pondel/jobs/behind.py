"""Work behind the page that shows it: a thread of its own, a mark when it is done, and what went wrong.

run_behind(partial(self._fill, compared), compared, "comparing sides")
compared.finished.wait(); compared.trouble
"""

from __future__ import annotations

import logging
import threading
from collections.abc import Callable, Iterable
from typing import Protocol

from pondel.core.errors import PondelError
from pondel.jobs.turns import be_nice

log = logging.getLogger("pondel.jobs")
BROKEN = "something went wrong inside Pondel; the log has the details"


class GivenUp(Exception):
    """Something else is wanted."""


class Behind(Protocol):
    """Work as far as it has come."""

    finished: threading.Event
    stopped: threading.Event
    trouble: PondelError | None


def run_behind(work: Callable[[], None], told: Behind, what: str) -> None:
    """Begin `work` in a thread that gives way to sound; `GivenUp` ends it quietly."""
    threading.Thread(target=_run, args=(work, told, what), name=f"pondel {what}", daemon=True).start()


def give_up(under_way: Iterable[Behind]) -> None:
    """End several, and wait until they have ended."""
    every = list(under_way)
    for one in every:
        one.stopped.set()
    for one in every:
        one.finished.wait()


def _run(work: Callable[[], None], told: Behind, what: str) -> None:
    be_nice()
    try:
        work()
    except GivenUp:
        log.info("%s was given up for another", what)
    except PondelError as error:
        told.trouble = error
    except Exception:
        log.exception("%s broke off", what)
        told.trouble = PondelError(BROKEN)
    finally:
        told.finished.set()
