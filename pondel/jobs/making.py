"""A session that is made behind the pages while a server runs: the demo, while it is played.

maker.begin("Lantern Parade", 11, work, say)    # work(step) returns the session's id
maker.told()                                    # Making("Lantern Parade", 2, 11, "playing Tuba")
"""

from __future__ import annotations

import logging
import threading
from collections.abc import Callable
from dataclasses import dataclass, replace

from pondel.core.errors import PondelError
from pondel.jobs.behind import BROKEN
from pondel.jobs.turns import Superseded, be_nice
from pondel.store.library import Library
from pondel.store.room import written_in

log = logging.getLogger("pondel.jobs")
Work = Callable[[Callable[[str], None]], str]


@dataclass(frozen=True)
class Making:
    """How far a session is: steps done and to do, what is being done, or why it does not get on."""

    name: str
    done: int
    total: int
    what: str = ""
    message: str = ""


class Maker:
    """Makes one session; `ended` is set when the server stops. Thread-safe."""

    def __init__(self, library: Library, ended: threading.Event) -> None:
        self._library, self._ended = library, ended
        self._told: Making | None = None
        self._say: Callable[[str], None] = lambda what: None
        self._thread: threading.Thread | None = None

    def begin(self, name: str, steps: int, work: Work, say: Callable[[str], None]) -> None:
        """Make a session in so many steps, each of which is said; once there, it opens first."""
        self._told, self._say = Making(name, 0, steps), say
        self._thread = threading.Thread(
            target=self._make, args=(work,), name="pondel-making", daemon=True
        )
        self._thread.start()

    def told(self) -> Making | None:
        """How far it is; None when it is made, or when none is."""
        return self._told

    def stop(self) -> None:
        """Wait until it has ended, which it does at its next step."""
        if self._thread is not None:
            self._thread.join()

    def _step(self, what: str) -> None:
        if self._ended.is_set():
            raise Superseded("the server stops")
        told = self._told
        assert told is not None
        done = told.done + 1 if told.what else 0
        self._told = replace(told, done=done, what=what)
        self._say(what)

    def _make(self, work: Work) -> None:
        be_nice()
        try:
            with written_in(self._library.data_dir):
                self._library.touch(work(self._step))
            self._told = None
        except Superseded:
            self._told = None
        except PondelError as error:
            self._gave_up(error.line())
        except Exception:
            log.exception("a session could not be made")
            self._gave_up(BROKEN)

    def _gave_up(self, message: str) -> None:
        assert self._told is not None
        self._told = replace(self._told, message=message)
