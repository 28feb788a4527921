"""A session that is made behind the pages while a server runs: the demo, while it is played.

maker.begin("Lantern Parade", 11, work, say)    # work(step) returns the session's id
maker.told()                                    # 2 of 11, "playing Tuba"; None once it is made
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from functools import partial

from pondel.jobs.leases import GivenUp, LeasedWork, give_up, run_behind
from pondel.store.library import Library
from pondel.store.room import written_in

Step = Callable[[str], None]


@dataclass(eq=False)
class Making(LeasedWork):
    """How far a session is: steps done and to do, what is being done, and why it does not get on."""

    name: str
    total: int
    done: int = 0
    what: str = ""

    @property
    def message(self) -> str:
        return self.trouble.line() if self.trouble else ""


class Maker:
    """Makes one session."""

    def __init__(self, library: Library) -> None:
        self._library = library
        self._making: Making | None = None

    def begin(self, name: str, steps: int, work: Callable[[Step], str], say: Step) -> None:
        """Make a session in so many steps, each of which is said; once there, it opens first."""
        self._making = making = Making(name, steps)

        def step(what: str) -> None:
            if making.stopped.is_set():
                raise GivenUp
            making.done += bool(making.what)
            making.what = what
            say(what)

        run_behind(partial(self._make, work, step), making, "making a session")

    def told(self) -> Making | None:
        """How far it is, or why it could not be made; None when it is made, or when none is."""
        making = self._making
        if making is None or (making.finished.is_set() and making.trouble is None):
            return None
        return making

    def stop(self) -> None:
        """Wait until it has ended, which it does at its next step."""
        if self._making is not None:
            give_up([self._making])

    def _make(self, work: Callable[[Step], str], step: Step) -> None:
        with written_in(self._library.data_dir):
            self._library.touch(work(step))
