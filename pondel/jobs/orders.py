"""Prints that were ordered: rendered by the queue into files that wait to be fetched."""

from __future__ import annotations

import time

from pondel.core.errors import PondelError
from pondel.jobs.desk import Desk
from pondel.jobs.listed import Listed, Place
from pondel.jobs.progress import Cancelled, Every
from pondel.store.prints import Prints, claim_of


class Orders:
    """What becomes of the prints that are ordered of a desk's library.

    orders.print(prints.order(session_id, revision, order).id)
    """

    def __init__(self, desk: Desk, prints: Prints, place: Place) -> None:
        self.library, self.desk = desk.library, desk
        self.prints = prints
        self.print = Listed("print", prints, claim_of, self._print, self._bytes, place)
        """Queue an order, by its id."""

    def _bytes(self, print_id: str) -> int:
        """What a print takes, at most."""
        try:
            order = self.prints.get(print_id)
            document = self.library.revision(order.session_id, order.revision).document
            return self.desk.printing.print_bytes(document, order.order)
        except PondelError:
            return 0

    def _print(self, print_id: str) -> None:
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
        self.print.has_ended(print_id)
