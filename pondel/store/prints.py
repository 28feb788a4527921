"""What was ordered to be printed, how far it is, and the finished files."""

from __future__ import annotations

import json
import logging
import uuid
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import asdict, dataclass
from pathlib import Path

from pondel.core.errors import NotFound
from pondel.store.arrivals import CANCELLED, DONE, FAILED, READING, UNFINISHED, WAITING
from pondel.store.folder import sync
from pondel.store.library import Library
from pondel.store.room import written_in

RUNNING = READING
GONE = "its files are no longer in the data folder: print it again"
log = logging.getLogger("pondel.store")


@dataclass(frozen=True)
class Order:
    """What to print: "mix", "parts", "both", or one part's id, and in which format.

    Between two places in seconds, or with what rings out after the end; `lower_db` softer, all files
    alike; at `split_hz` each as a low and a high side. `pattern` names the files.
    """

    what: str
    format: str
    bits: str
    start_s: float = 0.0
    end_s: float | None = None
    ring_out: bool = False
    lower_db: float = 0.0
    split_hz: float | None = None
    pattern: str = "{part}"
    variant: str = "A"


@dataclass(frozen=True)
class Print:
    """An order at work or done."""

    id: str
    session_id: str
    revision: int
    order: Order
    state: str
    progress: float
    message: str
    files: list[str]


def claim_of(print_id: str) -> str:
    """The name under which whoever prints an order claims it."""
    return f"print-{print_id}"


class Prints:
    """Orders of all sessions; a print's folder appears only when all its files are whole."""

    def __init__(self, library: Library) -> None:
        self._table = library.tables.Print
        self._data = library.folder
        self._folder = library.folder.place("prints")

    def order(self, session_id: str, revision: int, order: Order) -> Print:
        """Note an order; it is on disk when this returns."""
        print_id = uuid.uuid4().hex[:12]
        self._table.insert(
            id=print_id,
            session=session_id,
            revision=revision,
            order=json.dumps(asdict(order)),
            state=WAITING,
        ).execute()
        return self.get(print_id)

    def get(self, print_id: str, session_id: str | None = None) -> Print:
        """A print, of one session if it is named; NotFound when there is none."""
        row = self._table.get_or_none(id=print_id)
        if row is None or session_id not in (None, row.session_id):
            raise NotFound("there is no such print")
        return self._of(row)

    def of_session(self, session_id: str) -> list[Print]:
        """A session's prints, newest first."""
        rows = self._table.select().where(self._table.session == session_id)
        return [self._of(row) for row in rows.order_by(self._table.created.desc())]

    def recover(self) -> list[Print]:
        """After a start: orders that nobody is at any more wait again, half-made folders go."""
        for one in self.lost():
            self.wait(one.id)
        for folder in self._folder.glob("*.part"):
            if self._data.is_claimed(claim_of(folder.stem)):
                continue
            try:
                self._data.remove(folder)
            except OSError as error:
                log.warning("%s is left over and cannot be removed: %s", folder, error)
        return self.waiting()

    def waiting(self) -> list[Print]:
        """What nobody has begun to print."""
        return [self._of(row) for row in self._table.select().where(self._table.state == WAITING)]

    def lost(self) -> list[Print]:
        """What was being printed by a process that ended."""
        rows = self._table.select().where(self._table.state == RUNNING)
        return [self._of(row) for row in rows if not self._data.is_claimed(claim_of(row.id))]

    def claim(self, print_id: str) -> bool:
        table = self._table
        claimed = table.update(state=RUNNING).where((table.id == print_id) & (table.state == WAITING))
        return claimed.execute() == 1

    def report(self, print_id: str, progress: float, message: str = "") -> bool:
        """Note progress from 0 to 1, and what to say of it; False when it was cancelled meanwhile."""
        table = self._table
        changed = table.update(progress=progress, message=message).where(
            (table.id == print_id) & (table.state == RUNNING)
        )
        return changed.execute() == 1

    def finish(self, print_id: str, message: str) -> None:
        table = self._table
        table.update(state=DONE, progress=1, message=message).where(
            (table.id == print_id) & (table.state == RUNNING)
        ).execute()

    def fail(self, print_id: str, message: str) -> None:
        table = self._table
        table.update(state=FAILED, message=message).where(table.id == print_id).execute()

    def wait(self, print_id: str) -> None:
        """Put an order back among those that wait."""
        table = self._table
        table.update(state=WAITING, progress=0).where(
            (table.id == print_id) & (table.state == RUNNING)
        ).execute()

    def dismiss(self, print_id: str) -> None:
        """Stop an order, or forget a finished one with its files; NotFound when there is none."""
        self.get(print_id)
        table = self._table
        stopped = table.update(state=CANCELLED, message="cancelled").where(
            (table.id == print_id) & (table.state << UNFINISHED)
        )
        if not stopped.execute() and table.delete().where(table.id == print_id).execute():
            self._data.remove(self._folder / print_id)

    @contextmanager
    def folder(self, print_id: str) -> Iterator[Path]:
        """A folder to print into; it takes its place when the block ends without an error."""
        unfinished = self._folder / f"{print_id}.part"
        self._data.remove(unfinished)
        with written_in(self._folder):
            unfinished.mkdir()
            try:
                yield unfinished
                for path in unfinished.iterdir():
                    sync(path)
                self._data.remove(self._folder / print_id)
                unfinished.rename(self._folder / print_id)
                sync(self._folder)
            finally:
                self._data.remove(unfinished)

    def file(self, session_id: str, print_id: str, name: str) -> Path:
        """One finished file; NotFound when there is none of that name."""
        if name not in self.get(print_id, session_id).files:
            raise NotFound("that file was not printed")
        return self._folder / print_id / name

    def _of(self, row) -> Print:
        folder = self._folder / row.id
        files = sorted(path.name for path in folder.iterdir()) if folder.is_dir() else []
        is_gone = row.state == DONE and not files
        return Print(
            row.id,
            row.session_id,
            row.revision,
            Order(**json.loads(row.order)),
            row.state,
            row.progress,
            GONE if is_gone else row.message,
            files,
        )
