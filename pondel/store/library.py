"""Sessions and their revisions. An edit that returned is on disk.

library = Library(Path("data"))
session_id = library.create(Session(name="Lantern Parade"))
head = library.head(session_id)
library.edit(session_id, head.id, SetPart(part="tuba", field="fader_db", value=-3).apply)
library.history.undo(session_id)
"""

from __future__ import annotations

import json
import re
import secrets
import threading
from collections.abc import Callable, Iterator, Sequence
from dataclasses import replace
from operator import itemgetter
from pathlib import Path
from typing import Any

from cachetools import LRUCache
from peewee import OperationalError

from pondel.core.bounded import Bounded
from pondel.core.document import Session, text_hash
from pondel.core.engine.routing import check_cycles
from pondel.core.errors import NotFound, StaleEdit
from pondel.core.operations.base import Done
from pondel.core.reading import parse_session, to_json, to_text, was_looked_through
from pondel.core.shared_references import references_in, with_changed_references
from pondel.store.analyses import Analyses
from pondel.store.copies import DATABASE, USE_LOCK, Copies
from pondel.store.folder import DataFolder
from pondel.store.history import History
from pondel.store.ledger import Ledger
from pondel.store.locks import hold
from pondel.store.measures import Measures
from pondel.store.media import MediaFolder
from pondel.store.newest_form import brought_to_newest, told_once
from pondel.store.revisions import Revision, SessionCard
from pondel.store.room import is_full
from pondel.store.seals import Seals
from pondel.store.shelf import Shelf
from pondel.store.tables import now, open_database, tables_of

PARSED_BYTES = 64 << 20
WORKED_OUT_ANEW = 3
MIGRATION_LOCK = "migration.lock"
HEAD = (
    "select revision.* from revision join session on session.head = revision.id "
    "where session.id = ? and session.removed is null"
)
STATE = "select * from revision where id = ? and session_id = ?"
HEAD_ID = "select head from session where id = ? and removed is null"
MOVE_HEAD = "update session set head = ?, name = ? where id = ?"
FORGET = "delete from revision where id = ?"
IS_NAMED = (
    "select exists (select 1 from revision where parent = ?1) "
    "or exists (select 1 from variant where head = ?1) "
    "or exists (select 1 from print where revision = ?1)"
)


def _checked(done: Done) -> Done:
    """The change, its document looked through once more; BadDocument when it cannot stand."""
    document = done.document
    if not was_looked_through(document):
        document = parse_session(to_json(document))
    check_cycles(document)
    return replace(done, document=document)


def nobody_waits(revision: Revision, done: Done) -> None:
    """Nothing has to be made of a new state before it is kept."""


def nothing_begins(document: Session) -> None:
    """Nothing is begun of a new state before it is kept."""


class Library:
    """All sessions in one data folder. Several processes may share it.

    `caches` is the one bound of all that it keeps on disk and could work out again.
    """

    def __init__(self, data_dir: Path) -> None:
        self.folder = DataFolder(data_dir)
        self.data_dir = self.folder.root
        self._use = hold(self.data_dir / USE_LOCK, str(data_dir), shared=True)
        self.copies = Copies(self.folder)
        self.copies.refuse_to_begin_beside()
        migrating = hold(self.data_dir / MIGRATION_LOCK, str(data_dir), wait=True)
        try:
            self.database = open_database(self.data_dir / DATABASE, self.copies.keep_before)
        finally:
            migrating.release()
        self.tables = tables_of(self.database)
        self.measures = Measures(self.tables.Measure)
        self.shelf = Shelf(self.tables.Kept)
        self.ledger = Ledger(self.tables.Entry)
        self.media = MediaFolder(self.folder, Seals(self.tables.Seal))
        self.history = History(self)
        self.caches = Bounded()
        self.analyses = Analyses(self.folder, self.caches)
        self._parsed: LRUCache[str, tuple[Session, int]] = LRUCache(PARSED_BYTES, itemgetter(1))
        self._lock = threading.Lock()

    def _revision(self, row: Any) -> Revision:
        with self._lock:
            document, _ = self._parsed.get(row.hash, (None, 0))
        if document is None:
            document = parse_session(row.document)
            self._know(row, document)
        created, parent = row.created, row.parent
        return Revision(row.id, row.session_id, row.label, document, created, parent, row.gesture)

    def _know(self, row: Any, document: Session) -> None:
        """Keep the document of a row, for those that ask for it next."""
        with self._lock:
            if was_looked_through(document) and len(row.document) <= PARSED_BYTES:
                self._parsed[row.hash] = document, len(row.document)

    def sessions(self) -> list[SessionCard]:
        """All sessions but those set aside, the one opened last first."""
        return self._cards(self.tables.Session.removed.is_null())

    def removed(self) -> list[SessionCard]:
        """The sessions that were set aside."""
        return self._cards(self.tables.Session.removed.is_null(False))

    def _cards(self, which: Any) -> list[SessionCard]:
        table, revisions = self.tables.Session, self.tables.Revision
        rows = (
            table.select(table, revisions)
            .join(revisions, on=(table.head == revisions.id), attr="now")
            .where(which)
            .order_by(table.opened.desc())
        )
        return [
            SessionCard(row.id, row.name, row.opened, len(self._revision(row.now).document.parts))
            for row in rows
        ]

    def create(
        self, document: Session, *, rate_known: bool = False, to_tell: Sequence[str] = ()
    ) -> str:
        """Add a session; returns its id. `to_tell` is said once, when it is first opened."""
        slug = re.sub(r"[^a-z0-9]+", "-", document.name.lower()).strip("-")[:40] or "session"
        check_cycles(document)
        with self.database.atomic("immediate"):
            session_id = slug
            while self.tables.Session.get_or_none(id=session_id):
                session_id = f"{slug}-{secrets.token_hex(2)}"
            self.tables.Session.insert(
                id=session_id,
                name=document.name,
                head=0,
                rate_known=int(rate_known),
                to_tell=json.dumps(to_tell) if to_tell else "",
            ).execute()
            self._set_head(session_id, None, "Created", document, None)
        return session_id

    def find(self, name: str) -> str:
        """The id of a session given its id or its name; NotFound when there is none."""
        name = name.encode(errors="replace").decode()
        table = self.tables.Session
        found = table.select().where(table.removed.is_null())
        row = found.where(table.id == name).first()
        if row is None:
            row = found.where(table.name == name).order_by(table.opened.desc()).first()
        if row is None:
            raise NotFound(f"there is no session called {name!r:.90}")
        return row.id

    def bring_up(self, session_id: str) -> list[str]:
        """Store a session's present state in the newest form; what a listener may notice, in words."""
        return [
            *told_once(self.tables, session_id),
            *brought_to_newest(self.tables, self.head(session_id)),
        ]

    def touch(self, session_id: str) -> None:
        """Remember that a session was opened, if there is room to; no page fails for want of it."""
        table = self.tables.Session
        try:
            table.update(opened=now()).where(table.id == session_id).execute()
        except OperationalError as error:
            if not is_full(error):
                raise

    def remove(self, session_id: str) -> None:
        """Set a session aside; it can be brought back until the folder is tidied."""
        self.head(session_id)
        table = self.tables.Session
        table.update(removed=now()).where(table.id == session_id).execute()

    def bring_back(self, session_id: str) -> None:
        """A session that was set aside is among the others again; NotFound when there is none."""
        table = self.tables.Session
        found = table.update(removed=None).where(
            (table.id == session_id) & table.removed.is_null(False)
        )
        if not found.execute():
            raise NotFound(f"no session {session_id!r} was set aside")

    def head(self, session_id: str) -> Revision:
        """The session's present state; NotFound when there is no such session."""
        # What every edit asks is in SQL: to put it together took longer than to answer it.
        row = next(iter(self.tables.Revision.raw(HEAD, session_id)), None)
        if row is None:
            raise NotFound(f"there is no session {session_id!r:.60}")
        return self._revision(row)

    def head_id(self, session_id: str) -> int | None:
        """The number of the present state, without its document; None where there is none."""
        row = self.database.execute_sql(HEAD_ID, (session_id,)).fetchone()
        return row and row[0]

    def revision(self, session_id: str, revision_id: int) -> Revision:
        """Any state a session has been in."""
        # Every question names its state: in SQL as well.
        row = next(iter(self.tables.Revision.raw(STATE, revision_id, session_id)), None)
        if row is None:
            raise NotFound(f"revision {revision_id} of this session is gone")
        return self._revision(row)

    def edit(
        self,
        session_id: str,
        base: int | None,
        change: Callable[[Session], Done],
        *,
        gesture: str | None = None,
        arrival: bool = False,
        worked_out: Callable[[Session], None] = nothing_begins,
        prepare: Callable[[Revision, Done], None] = nobody_waits,
    ) -> Revision:
        """Apply a change and move the head; the new state is on disk when this returns.

        `base` is the revision the editor saw: StaleEdit when it is not the head any more, unless
        nothing but arrivals came since; None to apply to whatever is. Edits with the same `gesture`
        as the head replace it, so that a drag is one step of undo; a head that a variant, a print
        or another revision stands on is kept beside the new one. `worked_out` is told the new state
        before it is put on disk, to begin on what needs no more of it; `prepare` makes what the
        answer needs of it as it is kept. When one of them fails, so does the edit, and nothing has
        changed.

        The change is worked out before anything is locked, and anew when the head moved meanwhile.
        """
        for _ in range(WORKED_OUT_ANEW):
            head = self.based_on(session_id, base)
            done = _checked(change(head.document))
            worked_out(done.document)
            with self.database.atomic("immediate"):
                if self.head_id(session_id) == head.id:
                    return self._put(head, done, gesture, arrival, prepare)
        with self.database.atomic("immediate"):
            head = self.based_on(session_id, base)
            done = _checked(change(head.document))
            worked_out(done.document)
            return self._put(head, done, gesture, arrival, prepare)

    def based_on(self, session_id: str, base: int | None) -> Revision:
        """The head, as long as nothing but arrivals came since `base`; else StaleEdit."""
        head = self.head(session_id)
        if base is not None and not self._only_arrivals_since(base, head.id):
            raise StaleEdit(
                "this session was changed in another window; "
                "the newest state is shown now, and your last change was not applied"
            )
        return head

    def _put(
        self,
        head: Revision,
        done: Done,
        gesture: str | None,
        arrival: bool,
        prepare: Callable[[Revision, Done], None],
    ) -> Revision:
        replaced = bool(gesture) and head.gesture == gesture
        if done.document == head.document and not replaced:
            prepare(head, done)
            return head
        parent = head.parent if replaced else head.id
        revision = self._set_head(
            head.session_id, parent, done.title, done.document, gesture, arrival=arrival
        )
        if replaced and not self._is_named(head.id):
            # Only now: a number that is free would be given to the new revision.
            self.database.execute_sql(FORGET, (head.id,))
        self.share_references(head.session_id, head.document, done.document)
        prepare(revision, done)
        return revision

    def share_references(self, session_id: str, before: Session, after: Session) -> None:
        """Let the other variants of a session have the references that came or went in the open one."""
        if references_in(before).keys() == references_in(after).keys():
            return
        table, opened = self.tables.Variant, self.tables.Session.get_by_id(session_id).variant
        for row in table.select().where((table.session == session_id) & (table.name != opened)):
            document = self.revision(session_id, row.head).document
            shared = with_changed_references(document, before, after)
            if shared == document:
                continue
            kept = self.beside(session_id, "References of the session", shared, parent=row.head)
            update = table.update(head=kept)
            update.where((table.session == session_id) & (table.name == row.name)).execute()

    def _only_arrivals_since(self, base: int, head_id: int) -> bool:
        """Whether the head is a revision, or came of it by arrivals alone."""
        table = self.tables.Revision
        at: int | None = head_id
        while at is not None and at != base:
            row = table.select(table.parent, table.arrival).where(table.id == at).first()
            at = row.parent if row is not None and row.arrival else None
        return at == base

    def _is_named(self, revision_id: int) -> bool:
        """Whether a variant, a print or a child stands on a revision."""
        return bool(self.database.execute_sql(IS_NAMED, (revision_id,)).fetchone()[0])

    def beside(self, session_id: str, label: str, document: Session, parent: int | None = None) -> int:
        """A state of a session that is nobody's present one; the number of its revision."""
        check_cycles(document)
        with self.database.atomic("immediate"):
            head = self.head(session_id).id
            kept = self._set_head(session_id, parent, label, document, None).id
            self.move_head(session_id, head)
        return kept

    def _set_head(
        self,
        session_id: str,
        parent: int | None,
        label: str,
        document: Session,
        gesture: str | None,
        *,
        arrival: bool = False,
    ) -> Revision:
        text = to_text(document)
        row = self.tables.Revision.create(
            session=session_id,
            parent=parent,
            label=label,
            gesture=gesture,
            arrival=int(arrival),
            document=text,
            hash=text_hash(text),
        )
        self._know(row, document)
        self._point(session_id, row.id, document)
        return Revision(row.id, session_id, label, document, row.created, parent, gesture)

    def move_head(self, session_id: str, revision_id: int) -> Revision:
        """Make a state of a session its present one."""
        revision = self.revision(session_id, revision_id)
        self._point(session_id, revision_id, revision.document)
        return revision

    def _point(self, session_id: str, revision_id: int, document: Session) -> None:
        self.database.execute_sql(MOVE_HEAD, (revision_id, document.name, session_id))

    def agree_on_rate(self, session_id: str, file_rate: int) -> int:
        """The session's rate; the first recording decides it when nothing else has."""
        with self.database.atomic("immediate"):
            row = self.tables.Session.get_by_id(session_id)
            document = self.head(session_id).document
            if row.rate_known:
                return document.rate
            rate = min(max(file_rate, 44100), 192000)
            table = self.tables.Session
            table.update(rate_known=1).where(table.id == session_id).execute()
            if rate != document.rate:
                revised = document.model_copy(update={"rate": rate})
                label = f"Session rate {rate / 1000:g} kHz"
                head = self.head(session_id).id
                self._set_head(session_id, head, label, revised, None, arrival=True)
            return rate

    def empty_removed(self) -> list[str]:
        """Forget the sessions that were set aside, with their revisions and prints; their names."""
        table = self.tables.Session
        names = [row.name for row in table.select().where(table.removed.is_null(False))]
        table.delete().where(table.removed.is_null(False)).execute()
        return names

    def all_documents(self) -> Iterator[str]:
        """The text of every state of every session."""
        table = self.tables.Revision
        return (row.document for row in table.select(table.document).iterator())

    def all_prints(self) -> set[str]:
        """The ids of all prints."""
        return {row.id for row in self.tables.Print.select(self.tables.Print.id)}

    def compact(self) -> None:
        """Give the room of what was deleted back to the disk."""
        self.database.execute_sql("pragma wal_checkpoint(truncate)")
        self.database.execute_sql("vacuum")

    def close(self) -> None:
        self.database.close()
        self.folder.close()
        self._use.release()
