"""Files that are taken in: read, measured, and made into parts of their session."""

from __future__ import annotations

import logging
import time
from collections import deque

from pondel.core.advice.names import part_name
from pondel.core.audio import files
from pondel.core.audio.broadcast import told_by
from pondel.core.document import Part, Session
from pondel.core.errors import BadDocument, NotFound, PondelError
from pondel.core.operations import BringIn, Done
from pondel.core.operations.song import FindTempo
from pondel.jobs.desk import Desk
from pondel.jobs.listed import Listed, Place
from pondel.jobs.progress import Cancelled, Every
from pondel.jobs.queue import WORKERS
from pondel.jobs.recordings import Recording
from pondel.jobs.sessions import brought_in
from pondel.store.arrivals import UNFINISHED, WAITING, Arrival, Arrivals, claim_of
from pondel.store.room import written_in

LENGTH_HEARD_S = 0.005
log = logging.getLogger("pondel.jobs")


class Intake:
    """What becomes of the files of a desk's library that arrive.

    intake.take_in(arrivals.receive(session_id, "tuba.wav", stream).id)
    """

    def __init__(self, desk: Desk, arrivals: Arrivals, place: Place) -> None:
        self.library, self.desk = desk.library, desk
        self.arrivals = arrivals
        self.take_in = Listed("arrival", arrivals, claim_of, self._take_in, self._bytes, place)
        """Queue a file that was received, by its id."""
        self._pace_s: deque[float] = deque(maxlen=8)

    def left_s(self, session_id: str) -> float | None:
        """Seconds until a session's files are all read, as far as the last ones tell."""
        waiting = [a for a in self.arrivals.of_session(session_id) if a.state in UNFINISHED]
        if not waiting or not self._pace_s:
            return None
        share = sum(1.0 - arrival.progress for arrival in waiting)
        return share * sum(self._pace_s) / len(self._pace_s) / min(WORKERS, len(waiting))

    def bring_back(self, session_id: str) -> None:
        """Take a session that was set aside back, and go on with the files that waited for it."""
        self.library.bring_back(session_id)
        for arrival in self.arrivals.of_session(session_id):
            if arrival.state == WAITING:
                self.take_in(arrival.id)

    def _bytes(self, arrival_id: str) -> int:
        """What a file takes when it is decoded, as far as it tells."""
        try:
            facts = files.probe(self.arrivals.upload(arrival_id))
        except (OSError, PondelError):
            return 0
        return 2 * files.wav_bytes(facts.frames, facts.channels)

    def _take_in(self, arrival_id: str) -> None:
        begun = time.monotonic()
        try:
            self._read(arrival_id)
        except Cancelled:
            return
        except NotFound:
            self._is_not_wanted(arrival_id)
            return
        self._pace_s.append(time.monotonic() - begun)
        self.take_in.has_ended(arrival_id)

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
        report = Every(lambda share: self.arrivals.report(arrival_id, 0.8 * share))
        media = self.library.media
        with written_in(media.folder), media.scratch(".wav") as unfinished:
            files.convert(upload, unfinished, rate, name=arrival.name, progress=report)
            file = media.adopt(unfinished)
        taken = self.desk.recordings.take(file)
        if arrival.replaces:
            self._replace(arrival, file, taken, facts.rate, told.start_s)
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

    def _replace(
        self, arrival: Arrival, file: str, new: Recording, file_rate: int, stamp_s: float | None
    ) -> None:
        """Put a recording in the place of a part's, and say how they differ."""
        part = self.library.head(arrival.session_id).document.part(arrival.replaces)
        old = self.desk.recordings.readable(part.file) if part.file else None
        differs = difference(old, new, file_rate)
        self.arrivals.become_recording(arrival.id, file, differs, stamp_s)


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
