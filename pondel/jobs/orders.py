"""Prints that were ordered: rendered by the queue into files that wait to be fetched."""

from __future__ import annotations

import time

from huey import Huey

from pondel.core.errors import PondelError
from pondel.jobs.desk import Desk
from pondel.jobs.progress import Cancelled, Every
from pondel.jobs.queue import Errand, alone
from pondel.jobs.starved import Starved
from pondel.store import prints
from pondel.store.prints import Prints


class Orders:
    """What becomes of the prints that are ordered of a desk's library.

    orders.print(prints.order(session_id, revision, order).id)
    """

    def __init__(self, desk: Desk, prints: Prints, starved: Starved, queue: Huey) -> None:
        self.library, self.desk = desk.library, desk
        self.prints, self.starved = prints, starved
        self._print = Errand(queue, "print", self._print_now, prints.fail, self._hungry)

    def go_on(self) -> None:
        """Queue what an earlier run left."""
        for order in self.prints.recover():
            self.print(order.id)

    def go_on_with_lost(self) -> None:
        """Let what was held by a process that ended wait for its turn, and for room, like the rest."""
        waiting = self.starved.names()
        for order in self.prints.lost():
            if _waits_as(order.id) not in waiting:
                self._hungry(order.id)

    def print(self, print_id: str) -> None:
        """Queue an order."""
        self._print(print_id)

    def _hungry(self, print_id: str) -> None:
        def again() -> None:
            self.prints.wait(print_id)
            self._print.at_once(print_id)

        self.starved.add(_waits_as(print_id), self._bytes(print_id), again)

    def _bytes(self, print_id: str) -> int:
        """What a print takes, at most."""
        try:
            order = self.prints.get(print_id)
            document = self.library.revision(order.session_id, order.revision).document
            return self.desk.printing.print_bytes(document, order.order)
        except PondelError:
            return 0

    def _print_now(self, print_id: str) -> None:
        with alone(self.library.folder, prints.claim_of(print_id)) as is_mine:
            if is_mine and self.prints.claim(print_id):
                self._print_alone(print_id)

    def _print_alone(self, print_id: str) -> None:
        order = self.prints.get(print_id)
        begun = time.monotonic()

        def note(share: float) -> bool:
            left_s = (time.monotonic() - begun) * (1.0 / max(share, 1e-3) - 1.0)
            return self.prints.report(print_id, share, f"{left_s:.0f} s left" if left_s >= 1.0 else "")

        report = Every(note)
        document = self.library.revision(order.session_id, order.revision).document
        try:
            with self.prints.folder(print_id) as folder:
                paths = self.desk.printing.print_to(document, folder, order.order, progress=report)
        except Cancelled:
            return
        lower_db = order.order.lower_db
        lowered = f", {lower_db:g} dB lower" if lower_db else ""
        self.prints.finish(print_id, f"{len(paths)} file{'s' * (len(paths) > 1)}{lowered}")
        self.starved.forget(_waits_as(print_id))


def _waits_as(print_id: str) -> str:
    return f"print {print_id}"
