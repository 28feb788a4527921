"""What the queue does: take in files, and print."""

from __future__ import annotations

import threading
import time
from collections import deque
from concurrent.futures import ThreadPoolExecutor, as_completed
from dataclasses import dataclass
from pathlib import Path

from pondel.core import edits
from pondel.core.advice.roles import guess_role
from pondel.core.audio import files
from pondel.core.document import Part, Session
from pondel.core.errors import PondelError
from pondel.jobs.ahead import Ahead
from pondel.jobs.analysis import CORES
from pondel.jobs.desk import Desk
from pondel.jobs.ear_first import EarFirst
from pondel.jobs.queue import WORKERS, Workers, guarded, open_queue
from pondel.jobs.turns import Turns, be_nice
from pondel.store.arrivals import UNFINISHED, Arrivals
from pondel.store.library import Library
from pondel.store.prints import Prints
from pondel.store.variants import Variants

REPORT_EVERY_S = 0.15


@dataclass(frozen=True)
class Listening:
    """How far the analysis of a song is: parts done, parts to do, seconds left if known."""

    done: int
    total: int
    seconds_left: float | None


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
        self.ear = EarFirst()
        self.turns = Turns(self.ear)
        self.desk = Desk(library, self.turns.step)
        self.ahead = Ahead(self.desk, self.ear)
        self.arrivals = Arrivals(library)
        self.prints = Prints(library)
        self.variants = Variants(library)
        self.queue = open_queue(library.data_dir, immediate=immediate)
        self._workers: Workers | None = None
        self._take_in = self.queue.task(name="take_in")(guarded(self._take_in_now, self.arrivals.fail))
        self._print = self.queue.task(name="print")(guarded(self._print_now, self.prints.fail))
        self._analyse = self.queue.task(name="analyse")(guarded(self._analyse_now, self._gave_up))
        self._listening: dict[str, Listening] = {}
        self._failures: dict[str, str] = {}
        self._lock = threading.Lock()
        self._pace_s: deque[float] = deque(maxlen=8)

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

    def arrivals_left_s(self, session_id: str) -> float | None:
        """Seconds until a session's files are all read, as far as the last ones tell."""
        waiting = [a for a in self.arrivals.of_session(session_id) if a.state in UNFINISHED]
        if not waiting or not self._pace_s:
            return None
        share = sum(1.0 - arrival.progress for arrival in waiting)
        return share * sum(self._pace_s) / len(self._pace_s) / min(WORKERS, len(waiting))

    def take_in(self, arrival_id: str) -> None:
        """Queue a file that was received."""
        self._take_in(arrival_id)

    def print(self, print_id: str) -> None:
        """Queue an order."""
        self._print(print_id)

    def listen(self, session_id: str, document: Session) -> Listening | None:
        """None when the song's table is there; else how far its analysis is, begun if need be."""
        if self.desk.analysis.is_ready(document):
            return None
        with self._lock:
            found = self._listening.get(session_id)
            if found is not None:
                return found
            if session_id in self._failures:
                raise PondelError(self._failures.pop(session_id))
            found = self._listening[session_id] = Listening(0, len(document.parts), None)
        self._analyse(session_id)
        return None if self.desk.analysis.is_ready(document) else found

    def _analyse_now(self, session_id: str) -> None:
        analysis = self.desk.analysis
        document = self.library.head(session_id).document
        missing = analysis.missing(document)
        begun = time.monotonic()

        def note(done: int) -> None:
            spent = time.monotonic() - begun
            left = spent / done * (len(missing) - done) if done else None
            self._listening[session_id] = Listening(done, len(missing), left)

        note(0)
        with ThreadPoolExecutor(CORES, initializer=be_nice) as pool:
            work = [pool.submit(analysis.part, document, part) for part in missing]
            for done, finished in enumerate(as_completed(work), 1):
                finished.result()
                note(done)
        analysis.table(document)
        with self._lock:
            self._listening.pop(session_id, None)

    def _gave_up(self, session_id: str, message: str) -> None:
        with self._lock:
            self._listening.pop(session_id, None)
            self._failures[session_id] = message

    def _take_in_now(self, arrival_id: str) -> None:
        if not self.arrivals.claim(arrival_id):
            return
        begun = time.monotonic()
        try:
            self._read(arrival_id)
            self._pace_s.append(time.monotonic() - begun)
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
