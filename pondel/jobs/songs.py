"""Whole songs, measured and analysed by the queue while their pages ask how far it is."""

from __future__ import annotations

import threading
import time
from concurrent.futures import ThreadPoolExecutor, as_completed
from dataclasses import dataclass
from typing import Any

from huey import Huey

from pondel.core.document import Session
from pondel.core.dsp.compiled import HEARING, RECORDINGS
from pondel.core.errors import PondelError
from pondel.core.side_by_side import CORES
from pondel.jobs.compiling import until_compiled
from pondel.jobs.desk import Desk
from pondel.jobs.niceness import be_nice
from pondel.jobs.queue import Errand
from pondel.jobs.starved import Starved
from pondel.jobs.turns import Turns

FULL = "the disk is full: this goes on when there is room"


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


class Songs:
    """The songs of a desk's library; `ended` is set when the server stops. Thread-safe.

    songs.measure(session_id)              # None when all its recordings are measured
    songs.listen(session_id, document)     # None when the song's table is there
    """

    def __init__(
        self, desk: Desk, turns: Turns, starved: Starved, queue: Huey, ended: threading.Event
    ) -> None:
        self.library, self.desk, self.turns, self.starved = desk.library, desk, turns, starved
        self._ended = ended
        self._analyse = Errand(queue, "analyse", self._analyse_now, self._gave_up, self._hungry_song)
        self._measure = Errand(
            queue, "measure", self._measure_now, self._not_measured, self._hungry_measure
        )
        self._listening: dict[str, Listening] = {}
        self._asked: dict[str, Session] = {}
        self._measuring: dict[str, Measuring] = {}
        self._failures: dict[str, str] = {}
        self._lock = threading.Lock()

    def begin_anew(self) -> None:
        """Nothing is under way; what no session needs any more is swept."""
        self._listening.clear()
        self._measuring.clear()
        self._failures.clear()
        self.desk.analysis.sweep()

    def _hungry_song(self, session_id: str) -> None:
        self._listening[session_id] = Listening(0, 1, None, FULL)
        self.starved.add(f"song {session_id}", 0, lambda: self._analyse.at_once(session_id))

    def _hungry_measure(self, session_id: str) -> None:
        self._measuring[session_id] = Measuring(0, 1, FULL)
        self.starved.add(f"measures {session_id}", 0, lambda: self._measure.at_once(session_id))

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
        self._begin(self._measure, self._measuring, session_id)
        return found

    def _begin(self, errand: Errand, under_way: dict[str, Any], session_id: str) -> None:
        """Queue an errand; what the queue did not take is not under way."""
        try:
            errand(session_id)
        except Exception:
            with self._lock:
                under_way.pop(session_id, None)
            raise

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
        self._begin(self._analyse, self._listening, session_id)
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

        note(0)
        analysed = self.turns.behind(analysis.part)
        with ThreadPoolExecutor(CORES, initializer=be_nice) as pool:
            work = [pool.submit(analysed, document, part) for part in missing]
            for done, finished in enumerate(as_completed(work), 1):
                finished.result()
                note(done)
        self.turns.behind(analysis.table)(document)
        self.starved.forget(f"song {session_id}")
        with self._lock:
            self._listening.pop(session_id, None)

    def _gave_up(self, session_id: str, message: str) -> None:
        with self._lock:
            self._listening.pop(session_id, None)
            self._failures[session_id] = message
