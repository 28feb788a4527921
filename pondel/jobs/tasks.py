"""What the queue does: take in files, and print."""

from __future__ import annotations

import time
from pathlib import Path

from pondel.core import edits
from pondel.core.advice.roles import guess_role
from pondel.core.audio import files
from pondel.core.document import Part
from pondel.core.errors import PondelError
from pondel.jobs.desk import Desk
from pondel.jobs.queue import Workers, guarded, open_queue
from pondel.jobs.turns import Turns
from pondel.store.arrivals import Arrivals
from pondel.store.library import Library
from pondel.store.prints import Prints

REPORT_EVERY_S = 0.15


class Cancelled(Exception):
    """Somebody stopped this work."""


class Jobs:
    """A library with its desk and its queue.

    jobs = Jobs(Library(Path("data")))
    jobs.start()
    arrival = jobs.arrivals.receive(session_id, "tuba.wav", stream)
    jobs.take_in(arrival.id)
    """

    def __init__(self, library: Library, *, immediate: bool = False) -> None:
        self.library = library
        self.desk = Desk(library)
        self.arrivals = Arrivals(library)
        self.prints = Prints(library)
        self.turns = Turns()
        self.queue = open_queue(library.data_dir, immediate=immediate)
        self._workers: Workers | None = None
        self._take_in = self.queue.task(name="take_in")(guarded(self._take_in_now, self.arrivals.fail))
        self._print = self.queue.task(name="print")(guarded(self._print_now, self.prints.fail))

    def start(self) -> None:
        """Go on with what an earlier run left, and start the workers."""
        for arrival in self.arrivals.recover():
            self._take_in(arrival.id)
        for order in self.prints.recover():
            self._print(order.id)
        self._workers = Workers(self.queue)
        self._workers.start()

    def stop(self) -> None:
        """Let the workers finish what they hold."""
        if self._workers is not None:
            self._workers.stop(graceful=True)
            self._workers = None

    def take_in(self, arrival_id: str) -> None:
        """Queue a file that was received."""
        self._take_in(arrival_id)

    def print(self, print_id: str) -> None:
        """Queue an order."""
        self._print(print_id)

    def _take_in_now(self, arrival_id: str) -> None:
        if not self.arrivals.claim(arrival_id):
            return
        try:
            self._read(arrival_id)
        except Cancelled:
            self.arrivals.dismiss(arrival_id)
        except PondelError as error:
            self.arrivals.fail(arrival_id, error.message)

    def _read(self, arrival_id: str) -> None:
        arrival = self.arrivals.get(arrival_id)
        upload = self.arrivals.upload(arrival_id)
        facts = files.probe(upload, arrival.name)
        rate = self.library.agree_on_rate(arrival.session_id, facts.rate)
        report = _Every(lambda share: self.arrivals.report(arrival_id, 0.8 * share))
        with self.library.media.scratch(".wav") as unfinished:
            files.convert(upload, unfinished, rate, name=arrival.name, progress=report)
            file = self.library.media.adopt(unfinished)
        self.desk.recording(file)
        name = part_name(arrival.name)

        def make(parts: list[Part]) -> tuple[Part, edits.Edit]:
            taken = {part.id for part in parts}
            part = Part(id=edits.fresh_id(name, taken), name=name, role=guess_role(name), file=file)
            return part, edits.add_part(part)

        self.arrivals.become_part(arrival_id, make)

    def _print_now(self, print_id: str) -> None:
        if not self.prints.claim(print_id):
            return
        order = self.prints.get(print_id)
        report = _Every(lambda share: self.prints.report(print_id, share))
        try:
            document = self.library.revision(order.session_id, order.revision).document
            with self.prints.folder(print_id) as folder:
                paths = self.desk.print_to(document, folder, order.order, progress=report)
            self.prints.finish(print_id, f"{len(paths)} file{'s' * (len(paths) > 1)}")
        except Cancelled:
            return
        except PondelError as error:
            self.prints.fail(print_id, error.message)


class _Every:
    """Passes progress on a few times a second; raises Cancelled when it is not wanted any more."""

    def __init__(self, report) -> None:
        self._report = report
        self._last = 0.0

    def __call__(self, share: float) -> None:
        if time.monotonic() - self._last < REPORT_EVERY_S:
            return
        self._last = time.monotonic()
        if not self._report(share):
            raise Cancelled


def part_name(file_name: str) -> str:
    """A part's name from its file's name: "02_bass-drum.wav" becomes "Bass drum"."""
    words = Path(file_name).stem.replace("_", " ").replace("-", " ").split()
    while len(words) > 1 and words[0].isdigit():
        words = words[1:]
    name = " ".join(words)[:80] or "Part"
    return name[0].upper() + name[1:]
