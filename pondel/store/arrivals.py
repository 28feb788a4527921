"""Files on their way in: from the upload to the part, with what is said about each."""

from __future__ import annotations

import uuid
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path, PurePosixPath, PureWindowsPath
from typing import IO

from pondel.core.document import Part
from pondel.core.errors import BadAudio, NotFound
from pondel.core.operations import BringIn, ReplaceRecording
from pondel.store.folder import sync
from pondel.store.library import Library
from pondel.store.room import written_in

WAITING, READING, DONE, FAILED, CANCELLED = "waiting", "reading", "done", "failed", "cancelled"
UNFINISHED = (WAITING, READING)
COPY_BYTES = 1 << 20


@dataclass(frozen=True)
class Arrival:
    """One file that was handed in."""

    id: str
    session_id: str
    name: str
    state: str
    progress: float
    message: str
    part_id: str
    replaces: str = ""
    """The part whose recording it takes the place of, empty when it becomes a new part."""
    title: str = ""
    """The name its part is to have; empty: that of the file."""


def claim_of(arrival_id: str) -> str:
    """The name under which whoever reads an arrival claims it."""
    return f"arrival-{arrival_id}"


def plain_name(name: str) -> str:
    """The last step of a file name, whatever system it came from; never empty."""
    last = PureWindowsPath(PurePosixPath(name).name).name
    last = "".join(c for c in last if c.isprintable()).strip()
    return last[-120:] or "unnamed"


def same_recording(twin: Part) -> str:
    """What is said of a file whose recording a part has already."""
    return f"the same recording as {twin.name}, which is here already: kept once"


class Arrivals:
    """Receives files, and turns each into a part exactly once."""

    def __init__(self, library: Library) -> None:
        self._library = library
        self._table = library.tables.Arrival

    def receive(
        self, session_id: str, name: str, stream: IO[bytes], *, replaces: str = "", title: str = ""
    ) -> Arrival:
        """Write an upload to disk and note it; what was answered survives a crash."""
        if name != plain_name(name) and (".." in name or "\0" in name):
            raise BadAudio("the name leads out of its folder; rename the file", where=plain_name(name))
        arrival_id = uuid.uuid4().hex
        path = self.upload(arrival_id)
        try:
            with written_in(path.parent):
                with path.open("wb") as file:
                    while block := stream.read(COPY_BYTES):
                        file.write(block)
                sync(path)
                sync(path.parent)
                self._table.insert(
                    id=arrival_id,
                    session=session_id,
                    name=plain_name(name),
                    state=WAITING,
                    replaces=replaces,
                    title=title,
                ).execute()
        except BaseException:
            self._drop(arrival_id)
            raise
        return self.get(arrival_id)

    def _drop(self, arrival_id: str) -> None:
        self._library.folder.remove(self.upload(arrival_id))

    def upload(self, arrival_id: str) -> Path:
        """Where an arrival's bytes lie until it is done."""
        return self._library.media.incoming / f"{arrival_id}.upload"

    def get(self, arrival_id: str, session_id: str | None = None) -> Arrival:
        """An arrival, of one session if it is named; NotFound when there is none."""
        row = self._table.get_or_none(id=arrival_id)
        if row is None or session_id not in (None, row.session_id):
            raise NotFound("that file is not known here")
        return _of(row)

    def of_session(self, session_id: str) -> list[Arrival]:
        """Arrivals that are not parts yet, oldest first."""
        rows = self._table.select().where(
            (self._table.session == session_id) & (self._table.state != DONE)
        )
        return [_of(row) for row in rows.order_by(self._table.created)]

    def unfinished(self) -> list[Arrival]:
        """Arrivals of all sessions that still have to be read."""
        return [_of(row) for row in self._table.select().where(self._table.state << UNFINISHED)]

    def recover(self) -> list[Arrival]:
        """After a start: put back what nobody reads any more, clear away half-written files."""
        for one in self.lost():
            self.wait(one.id)
        left = self.unfinished()
        self._library.folder.sweep({self.upload(arrival.id).name for arrival in left})
        return [arrival for arrival in left if arrival.state == WAITING]

    def waiting(self) -> list[Arrival]:
        """What nobody has begun to read."""
        return [one for one in self.unfinished() if one.state == WAITING]

    def lost(self) -> list[Arrival]:
        """What was being read by a process that ended."""
        folder = self._library.folder
        found = [one for one in self.unfinished() if one.state == READING]
        return [one for one in found if not folder.is_claimed(claim_of(one.id))]

    def claim(self, arrival_id: str) -> bool:
        """Whether the caller is the one that reads this arrival."""
        table = self._table
        claimed = table.update(state=READING).where((table.id == arrival_id) & (table.state == WAITING))
        return claimed.execute() == 1

    def report(self, arrival_id: str, progress: float) -> bool:
        """Note progress from 0 to 1; False when the arrival was cancelled meanwhile."""
        table = self._table
        changed = table.update(progress=progress).where(
            (table.id == arrival_id) & (table.state == READING)
        )
        return changed.execute() == 1

    def fail(self, arrival_id: str, message: str) -> None:
        """Say why a file did not become a part."""
        table = self._table
        table.update(state=FAILED, message=message).where(table.id == arrival_id).execute()
        self._drop(arrival_id)

    def wait(self, arrival_id: str) -> None:
        """Put an arrival back among those that wait; its upload stays."""
        table = self._table
        table.update(state=WAITING, progress=0).where(
            (table.id == arrival_id) & (table.state == READING)
        ).execute()

    def dismiss(self, arrival_id: str) -> None:
        """Forget an arrival, or stop one that is on its way."""
        self.get(arrival_id)
        table = self._table
        table.update(state=CANCELLED).where(
            (table.id == arrival_id) & (table.state << UNFINISHED)
        ).execute()
        table.delete().where((table.id == arrival_id) & (table.state << (FAILED, CANCELLED))).execute()
        self._drop(arrival_id)

    def become_part(self, arrival_id: str, make: Callable[[list[Part]], BringIn]) -> None:
        """Add the part to the session and end the arrival in one transaction.

        A recording that a part of the session has already is not brought in again.
        """
        with self._library.database.atomic("immediate"):
            arrival = self.get(arrival_id)
            if arrival.state != READING:
                return
            parts = self._library.head(arrival.session_id).document.parts
            operation = make(parts)
            twin = next((part for part in parts if part.file == operation.part.file), None)
            if twin is None:
                before = self._first_handed_in_later(arrival, parts)
                operation = operation.model_copy(update={"before": before})
                self._library.edit(arrival.session_id, None, operation.apply, arrival=True)
                self._finish(arrival_id, operation.part.id)
            else:
                self.fail(arrival_id, same_recording(twin))
        self._drop(arrival_id)

    def _first_handed_in_later(self, arrival: Arrival, parts: list[Part]) -> str | None:
        """The first part whose file was handed in after this one, though it was read sooner."""
        table = self._table
        own = table.select(table.created).where(table.id == arrival.id)
        later = table.select(table.part).where(
            (table.session == arrival.session_id)
            & (table.state == DONE)
            & (table.replaces == "")
            & (table.created > own)
        )
        ids = {row.part for row in later}
        return next((part.id for part in parts if part.id in ids), None)

    def become_recording(self, arrival_id: str, file: str, differs: str, stamp_s: float | None) -> None:
        """Put the file in the place of a part's recording and end the arrival in one transaction.

        `differs` is in words how it differs from what was there, `stamp_s` where its file says that it
        begins; NotFound when the part is gone.
        """
        with self._library.database.atomic("immediate"):
            arrival = self.get(arrival_id)
            if arrival.state != READING:
                return
            operation = ReplaceRecording(
                part=arrival.replaces, file=file, differs=differs, stamp_s=stamp_s
            )
            self._library.edit(arrival.session_id, None, operation.apply, arrival=True)
            self._finish(arrival_id, arrival.replaces)
        self._drop(arrival_id)

    def _finish(self, arrival_id: str, part_id: str) -> None:
        table = self._table
        table.update(state=DONE, progress=1, part=part_id).where(table.id == arrival_id).execute()


def _of(row) -> Arrival:
    about = row.id, row.session_id, row.name, row.state, row.progress, row.message, row.part
    return Arrival(*about, row.replaces, row.title)
