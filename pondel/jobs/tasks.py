"""What the queue does: take in files, and print."""

from __future__ import annotations

import logging
import threading
import time
from collections import deque
from collections.abc import Callable, Iterator
from concurrent.futures import ThreadPoolExecutor, as_completed
from contextlib import ExitStack, contextmanager
from dataclasses import dataclass

from huey import Huey

from pondel.core.advice.names import part_name
from pondel.core.audio import files
from pondel.core.audio.broadcast import told_by
from pondel.core.document import Part, Session
from pondel.core.dsp.compiled import HEARING, RECORDINGS
from pondel.core.errors import BadDocument, NotFound, PondelError
from pondel.core.operations import BringIn, Done
from pondel.core.operations.song import FindTempo
from pondel.jobs.ahead import Ahead
from pondel.jobs.analysis import CORES
from pondel.jobs.compiling import until_compiled
from pondel.jobs.desk import Desk
from pondel.jobs.ear_first import EarFirst
from pondel.jobs.meanwhile import Meanwhile
from pondel.jobs.queue import WORKERS, Workers, guarded, open_queue, own_queue, redis_url
from pondel.jobs.recordings import Recording
from pondel.jobs.sessions import brought_in
from pondel.jobs.starved import Starved
from pondel.jobs.turns import Turns, be_nice
from pondel.store import arrivals, prints
from pondel.store.arrivals import UNFINISHED, WAITING, Arrival, Arrivals
from pondel.store.library import Library
from pondel.store.locks import Held, InUse, hold
from pondel.store.prints import Prints
from pondel.store.room import is_full, written_in
from pondel.store.variants import Variants

REPORT_EVERY_S = 0.15
LENGTH_HEARD_S = 0.005
TEND_EVERY_S = 1.0
COPY_EVERY_S = 600.0
SERVING_LOCK = "serving.lock"
FULL = "the disk is full: this goes on when there is room"
log = logging.getLogger("pondel.jobs")


@dataclass(frozen=True)
class Listening:
    """How far the analysis of a song is: parts done, parts to do, seconds left if known.

    `message` says why it does not get on.
    """

    done: int
    total: int
    seconds_left: float | None
    message: str = ""


@dataclass(frozen=True)
class Measuring:
    """How far the measuring of a session's recordings is, and what could not be measured."""

    done: int
    total: int
    message: str = ""


class Cancelled(Exception):
    """Somebody stopped this work."""


class Jobs:
    """A library with its desk and its queue; `workers` threads take files in and print.

    jobs = Jobs(Library(Path("data")))
    jobs.start()
    arrival = jobs.arrivals.receive(session_id, "tuba.wav", stream)
    jobs.take_in(arrival.id)
    """

    def __init__(self, library: Library, *, immediate: bool = False, workers: int = WORKERS) -> None:
        self.library = library
        self.ear = EarFirst()
        self.turns = Turns(self.ear)
        self.desk = Desk(library, self.turns.step, eager=False)
        self.meanwhile = Meanwhile(self.desk, self.turns)
        self.ahead = Ahead(self.desk, self.ear)
        self.arrivals = Arrivals(library)
        self.prints = Prints(library)
        self.variants = Variants(library)
        self.starved = Starved(library.data_dir)
        self.queue = open_queue(library.folder, immediate=immediate)
        self._own = own_queue(self.queue)
        self._count = workers
        self._workers: list[Workers] = []
        self._serving: Held | None = None
        self._ended = threading.Event()
        self._take_in = self._task(
            self.queue, "take_in", self._take_in_now, self.arrivals.fail, self._hungry_arrival
        )
        self._print = self._task(
            self.queue, "print", self._print_now, self.prints.fail, self._hungry_print
        )
        self._analyse = self._task(
            self._own, "analyse", self._analyse_now, self._gave_up, self._hungry_song
        )
        self._measure = self._task(
            self._own, "measure", self._measure_now, self._not_measured, self._hungry_measure
        )
        self._listening: dict[str, Listening] = {}
        self._asked: dict[str, Session] = {}
        self._measuring: dict[str, Measuring] = {}
        self._failures: dict[str, str] = {}
        self._lock = threading.Lock()
        self._pace_s: deque[float] = deque(maxlen=8)

    def _task(
        self,
        queue: Huey,
        name: str,
        work: Callable[[str], None],
        failed: Callable[[str, str], None],
        hungry: Callable[[str], None],
    ) -> Callable[[str], None]:
        return queue.task(name=name)(guarded(work, failed, hungry))

    def start(self) -> None:
        """Go on with what an earlier run left, and start the workers.

        PondelError when another Pondel serves this folder.
        """
        where = self.library.data_dir
        try:
            self._serving = hold(where / SERVING_LOCK, str(where))
        except InUse as error:
            raise PondelError(
                "another Pondel serves this folder: use that one, or stop it first", where=str(where)
            ) from error
        self.queue.flush()
        self._listening.clear()
        self._measuring.clear()
        self.desk.analysis.sweep()
        self.library.folder.sweep_claims()
        for arrival in self.arrivals.recover():
            self.take_in(arrival.id)
        for order in self.prints.recover():
            self.print(order.id)
        self._ended.clear()
        self._begin_work(self.queue, self._count)
        if self._own is not self.queue:
            self._begin_work(self._own, WORKERS)
        threading.Thread(target=self._tend, name="pondel-tend", daemon=True).start()

    def work(self) -> None:
        """Take files in and print for a server that runs elsewhere, until `stop`.

        PondelError where no Redis server is named: then the server does it all itself.
        """
        if redis_url() is None:
            raise PondelError(
                "no Redis server is named: without one the server takes files in and prints itself",
                where="PONDEL_REDIS_URL",
            )
        self._begin_work(self.queue, self._count)

    def _begin_work(self, queue: Huey, count: int) -> None:
        if count:
            self._workers.append(Workers(queue, count))
            self._workers[-1].start()

    def stop(self) -> None:
        """Let the workers finish what they hold."""
        self._ended.set()
        self.desk.tryouts.stop()
        self.desk.plans.stop()
        self.desk.sides.stop()
        for workers in self._workers:
            workers.stop(graceful=True)
        self._workers.clear()
        if self._serving is not None:
            self._serving.release()
            self._serving = None

    def _tend(self) -> None:
        """Once in a while: what waited for room, what a worker that ended held, the day's copy."""
        copied = -COPY_EVERY_S
        while not self._ended.wait(TEND_EVERY_S):
            self.starved.look()
            self._go_on_with_lost()
            if time.monotonic() - copied >= COPY_EVERY_S:
                copied = time.monotonic()
                self.library.copies.keep_daily()

    def _go_on_with_lost(self) -> None:
        """Let what was held by a process that ended wait for its turn, and for room, like the rest."""
        waiting = self.starved.names()
        for arrival in self.arrivals.lost():
            if f"arrival {arrival.id}" not in waiting:
                self._hungry_arrival(arrival.id)
        for order in self.prints.lost():
            if f"print {order.id}" not in waiting:
                self._hungry_print(order.id)

    def arrivals_left_s(self, session_id: str) -> float | None:
        """Seconds until a session's files are all read, as far as the last ones tell."""
        waiting = [a for a in self.arrivals.of_session(session_id) if a.state in UNFINISHED]
        if not waiting or not self._pace_s:
            return None
        share = sum(1.0 - arrival.progress for arrival in waiting)
        return share * sum(self._pace_s) / len(self._pace_s) / min(WORKERS, len(waiting))

    def take_in(self, arrival_id: str) -> None:
        """Queue a file that was received; it is read even if the queue has no room just now."""
        self._enqueue(self._take_in, arrival_id, self._hungry_arrival)

    def bring_back(self, session_id: str) -> None:
        """Take a session that was set aside back, and go on with the files that waited for it."""
        self.library.bring_back(session_id)
        for arrival in self.arrivals.of_session(session_id):
            if arrival.state == WAITING:
                self.take_in(arrival.id)

    def print(self, print_id: str) -> None:
        """Queue an order."""
        self._enqueue(self._print, print_id, self._hungry_print)

    def _enqueue(
        self, task: Callable[[str], None], item_id: str, hungry: Callable[[str], None]
    ) -> None:
        try:
            task(item_id)
        except Exception as error:
            if not is_full(error):
                raise
            hungry(item_id)

    def _hungry_arrival(self, arrival_id: str) -> None:
        def again() -> None:
            self.arrivals.wait(arrival_id)
            self._take_in(arrival_id)

        self.starved.add(f"arrival {arrival_id}", self._arrival_bytes(arrival_id), again)

    def _arrival_bytes(self, arrival_id: str) -> int:
        """What a file takes when it is decoded, as far as it tells."""
        try:
            facts = files.probe(self.arrivals.upload(arrival_id))
        except (OSError, PondelError):
            return 0
        return 2 * files.wav_bytes(facts.frames, facts.channels)

    def _hungry_print(self, print_id: str) -> None:
        def again() -> None:
            self.prints.wait(print_id)
            self._print(print_id)

        self.starved.add(f"print {print_id}", self._print_bytes(print_id), again)

    def _print_bytes(self, print_id: str) -> int:
        """What a print takes, at most."""
        try:
            order = self.prints.get(print_id)
            document = self.library.revision(order.session_id, order.revision).document
            return self.desk.printing.print_bytes(document, order.order)
        except PondelError:
            return 0

    def _hungry_song(self, session_id: str) -> None:
        self._listening[session_id] = Listening(0, 1, None, FULL)
        self.starved.add(f"song {session_id}", 0, lambda: self._analyse(session_id))

    def _hungry_measure(self, session_id: str) -> None:
        self._measuring[session_id] = Measuring(0, 1, FULL)
        self.starved.add(f"measures {session_id}", 0, lambda: self._measure(session_id))

    def measure(self, session_id: str) -> Measuring | None:
        """None when a session's recordings are measured; else how far it is, begun if need be."""
        missing = self.desk.recordings.missing(self.library.head(session_id).document)
        with self._lock:
            found = self._measuring.get(session_id)
            if not missing:
                self._measuring.pop(session_id, None)
                return None
            if found is not None:
                if found.message and found.message != FULL:
                    self._measuring.pop(session_id)
                return found
            found = self._measuring[session_id] = Measuring(0, len(missing))
        self._enqueue(self._measure, session_id, self._hungry_measure)
        return found

    def _measure_now(self, session_id: str) -> None:
        until_compiled(RECORDINGS, self._ended)
        missing = self.desk.recordings.missing(self.library.head(session_id).document)
        with ThreadPoolExecutor(CORES, initializer=be_nice) as pool:
            work = [pool.submit(self.desk.recordings.take, file) for file in missing]
            for done, finished in enumerate(as_completed(work), 1):
                finished.result()
                self._measuring[session_id] = Measuring(done, len(missing))
        self.starved.forget(f"measures {session_id}")
        with self._lock:
            self._measuring.pop(session_id, None)

    def _not_measured(self, session_id: str, message: str) -> None:
        self._measuring[session_id] = Measuring(0, 1, message)

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
            self._asked[session_id] = document
        self._enqueue(self._analyse, session_id, self._hungry_song)
        return None if self.desk.analysis.is_ready(document) else found

    def _analyse_now(self, session_id: str) -> None:
        until_compiled(HEARING, self._ended)
        analysis = self.desk.analysis
        document = self._asked.pop(session_id, None) or self.library.head(session_id).document
        missing = analysis.missing(document)
        begun = time.monotonic()

        def note(done: int) -> None:
            spent = time.monotonic() - begun
            left = spent / done * (len(missing) - done) if done else None
            self._listening[session_id] = Listening(done, len(missing), left)

        def analysed(part: str) -> None:
            with self.turns.behind():
                analysis.part(document, part)

        note(0)
        with ThreadPoolExecutor(CORES, initializer=be_nice) as pool:
            work = [pool.submit(analysed, part) for part in missing]
            for done, finished in enumerate(as_completed(work), 1):
                finished.result()
                note(done)
        with self.turns.behind():
            analysis.table(document)
        self.starved.forget(f"song {session_id}")
        with self._lock:
            self._listening.pop(session_id, None)

    def _gave_up(self, session_id: str, message: str) -> None:
        with self._lock:
            self._listening.pop(session_id, None)
            self._failures[session_id] = message

    def _take_in_now(self, arrival_id: str) -> None:
        with self._alone(arrivals.claim_of(arrival_id)) as is_mine:
            if is_mine and self.arrivals.claim(arrival_id):
                self._take_in_alone(arrival_id)

    @contextmanager
    def _alone(self, claim: str) -> Iterator[bool]:
        """Whether nobody else is at some work; nobody comes to be meanwhile."""
        with ExitStack() as held:
            try:
                held.enter_context(self.library.folder.claimed(claim))
            except InUse:
                yield False
                return
            yield True

    def _take_in_alone(self, arrival_id: str) -> None:
        begun = time.monotonic()
        try:
            self._read(arrival_id)
        except Cancelled:
            return
        except NotFound:
            self._is_not_wanted(arrival_id)
            return
        self._pace_s.append(time.monotonic() - begun)
        self.starved.forget(f"arrival {arrival_id}")

    def _is_not_wanted(self, arrival_id: str) -> None:
        """Dismissed, or for a part that is gone; or its session was set aside: then it waits."""
        try:
            arrival = self.arrivals.get(arrival_id)
            document = self.library.head(arrival.session_id).document
        except NotFound:
            self.arrivals.wait(arrival_id)
            return
        if arrival.replaces and not document.has_part(arrival.replaces):
            self.arrivals.fail(arrival_id, "the part it was for was taken out meanwhile")
        else:
            self.arrivals.wait(arrival_id)

    def _read(self, arrival_id: str) -> None:
        arrival = self.arrivals.get(arrival_id)
        upload = self.arrivals.upload(arrival_id)
        facts, told = files.probe(upload, arrival.name), told_by(upload)
        rate = self.library.agree_on_rate(arrival.session_id, facts.rate)
        report = _Every(lambda share: self.arrivals.report(arrival_id, 0.8 * share))
        media = self.library.media
        with written_in(media.folder), media.scratch(".wav") as unfinished:
            files.convert(upload, unfinished, rate, name=arrival.name, progress=report)
            file = media.adopt(unfinished)
        taken = self.desk.recordings.take(file)
        if arrival.replaces:
            self._replace(arrival, file, taken, facts.rate)
            return
        name = arrival.title or part_name(arrival.name)

        def make(parts: list[Part]) -> BringIn:
            return brought_in(self.desk.recordings, parts, name, file, told)

        self.arrivals.become_part(arrival_id, make)
        self._find_tempo(arrival.session_id)

    def _find_tempo(self, session_id: str) -> None:
        """Once all files are in, the tempo is estimated if nobody told it."""
        waiting = [a for a in self.arrivals.of_session(session_id) if a.state in UNFINISHED]
        document = self.library.head(session_id).document
        if waiting or document.tempo_from != "nobody" or self.desk.recordings.missing(document):
            return
        try:
            self.library.edit(session_id, None, self._estimated, arrival=True)
        except BadDocument:
            log.info("the hits of %s tell no tempo", session_id)

    def _estimated(self, document: Session) -> Done:
        if document.tempo_from != "nobody":
            return Done(document, "Tempo")
        return FindTempo().apply(document, self.desk)

    def _replace(self, arrival: Arrival, file: str, new: Recording, file_rate: int) -> None:
        """Put a recording in the place of a part's, and say how they differ."""
        part = self.library.head(arrival.session_id).document.part(arrival.replaces)
        old = self.desk.recordings.readable(part.file) if part.file else None
        self.arrivals.become_recording(arrival.id, file, difference(old, new, file_rate))

    def _print_now(self, print_id: str) -> None:
        with self._alone(prints.claim_of(print_id)) as is_mine:
            if is_mine and self.prints.claim(print_id):
                self._print_alone(print_id)

    def _print_alone(self, print_id: str) -> None:
        order = self.prints.get(print_id)
        begun = time.monotonic()

        def note(share: float) -> bool:
            left_s = (time.monotonic() - begun) * (1.0 / max(share, 1e-3) - 1.0)
            return self.prints.report(print_id, share, f"{left_s:.0f} s left" if left_s >= 1.0 else "")

        report = _Every(note)
        document = self.library.revision(order.session_id, order.revision).document
        try:
            with self.prints.folder(print_id) as folder:
                paths = self.desk.printing.print_to(document, folder, order.order, progress=report)
        except Cancelled:
            return
        lower_db = order.order.lower_db
        lowered = f", {lower_db:g} dB lower" if lower_db else ""
        self.prints.finish(print_id, f"{len(paths)} file{'s' * (len(paths) > 1)}{lowered}")
        self.starved.forget(f"print {print_id}")


def difference(old: Recording | None, new: Recording, file_rate: int) -> str:
    """How a recording differs from the one it takes the place of, in a few words; empty when alike."""
    words = []
    if old is not None:
        seconds = new.frames / new.rate - old.frames / old.rate
        if abs(seconds) >= LENGTH_HEARD_S:
            words.append(f"{abs(seconds):.2f} s {'longer' if seconds > 0 else 'shorter'}")
        if new.channels != old.channels:
            words.append("mono now" if new.channels == 1 else "stereo now")
    if file_rate != new.rate:
        words.append(f"brought from {file_rate / 1000:g} to {new.rate / 1000:g} kHz")
    return ", ".join(words)


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
