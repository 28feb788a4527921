"""Work on what is listed on disk: done once each, taken up again after a crash and when there is room.

printing = Listed("print", prints, claim_of, print_it, bytes_needed, Place(folder, queue, starved))
printing("12ab")         # noted on disk, done by a worker
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import Protocol

from huey import Huey

from pondel.jobs.queue import Errand, alone, is_away
from pondel.jobs.starved import Starved
from pondel.store.folder import DataFolder


class Item(Protocol):
    """One of a list; its state is kept there."""

    @property
    def id(self) -> str: ...


class Items(Protocol):
    """What is to be done, kept on disk: arrivals, prints."""

    def recover(self) -> Sequence[Item]:
        """After a start: what waits, with all that nobody is at any more."""

    def waiting(self) -> Sequence[Item]:
        """What nobody has begun."""

    def lost(self) -> Sequence[Item]:
        """What a process that ended was at."""

    def claim(self, item_id: str, /) -> bool:
        """Whether the caller is the one that does it."""

    def wait(self, item_id: str, /) -> None:
        """Put it back among those that wait."""

    def fail(self, item_id: str, message: str, /) -> None:
        """Say why it was not done."""


@dataclass(frozen=True)
class Place:
    """Where listed work is queued, claimed, and kept for want of room."""

    folder: DataFolder
    queue: Huey
    starved: Starved


class Listed:
    """Work on the items of one list, each by its id; `word` names what they are."""

    def __init__(
        self,
        word: str,
        items: Items,
        claim_of: Callable[[str], str],
        work: Callable[[str], None],
        bytes_of: Callable[[str], int],
        place: Place,
    ) -> None:
        self._word, self._items, self._claim_of = word, items, claim_of
        self._work, self._bytes_of, self._place = work, bytes_of, place
        self._errand = Errand(place.queue, word, self.now, items.fail, self._hungry)

    def __call__(self, item_id: str) -> None:
        """Queue an item; it is done even if the queue has no room just now."""
        self._errand(item_id)

    def now(self, item_id: str) -> None:
        """Do an item here, unless somebody else is at it or it is done."""
        with alone(self._place.folder, self._claim_of(item_id)) as is_mine:
            if is_mine and self._items.claim(item_id):
                self._work(item_id)

    def has_ended(self, item_id: str) -> None:
        """An item is done: it waits for no room any more."""
        self._place.starved.forget(self._waits_as(item_id))

    def go_on(self) -> None:
        """Queue what an earlier run left."""
        for one in self._items.recover():
            self(one.id)

    def go_on_with_lost(self) -> None:
        """Let what was held by a process that ended wait for its turn, and for room, like the rest."""
        waiting = self._place.starved.names()
        for one in self._items.lost():
            if self._waits_as(one.id) not in waiting:
                self._hungry(one.id)

    def go_on_with_waiting(self) -> None:
        """Queue what waits on disk while the queue is empty: it was away, or lost what it held."""
        try:
            is_empty = len(self._place.queue) == 0
        except Exception as error:
            if not is_away(error):
                raise
            return
        if not is_empty:
            return
        starved = self._place.starved.names()
        for one in self._items.waiting():
            if self._waits_as(one.id) not in starved:
                self(one.id)

    def _waits_as(self, item_id: str) -> str:
        """The name under which an item waits for room."""
        return f"{self._word} {item_id}"

    def _hungry(self, item_id: str) -> None:
        def again() -> None:
            self._items.wait(item_id)
            self._errand.at_once(item_id)

        self._place.starved.add(self._waits_as(item_id), self._bytes_of(item_id), again)
