"""Sessions and their revisions. An edit that returned is on disk.

library = Library(Path("data"))
session_id = library.create(Session(name="Lantern Parade"))
head = library.head(session_id)
library.edit(session_id, head.id, edits.set_part("tuba", "fader_db", -3))
library.undo(session_id)
"""

from __future__ import annotations

import json
import re
import secrets
from dataclasses import dataclass
from datetime import datetime
from functools import lru_cache
from pathlib import Path
from typing import Any

from pondel.core.document import Session, content_hash, parse_session, to_json
from pondel.core.edits import Edit
from pondel.core.engine.routing import check_cycles
from pondel.core.errors import NotFound, StaleEdit
from pondel.store.media import MediaFolder
from pondel.store.tables import now, open_database, tables_of


@dataclass(frozen=True)
class Revision:
    """One state of a session's document."""

    id: int
    session_id: str
    label: str
    document: Session
    created: datetime
    parent: int | None
    gesture: str | None


@dataclass(frozen=True)
class Neighbours:
    """What undo and redo would do now; None when there is nothing."""

    undo: str | None
    redo: str | None


@dataclass(frozen=True)
class SessionCard:
    """A session in the list of sessions."""

    id: str
    name: str
    opened: datetime
    parts: int


@lru_cache(maxsize=256)
def _parsed(text: str) -> Session:
    return parse_session(text)


def _revision(row: Any) -> Revision:
    document = _parsed(row.document)
    return Revision(row.id, row.session_id, row.label, document, row.created, row.parent, row.gesture)


class Library:
    """All sessions in one data folder."""

    def __init__(self, data_dir: Path) -> None:
        data_dir.mkdir(parents=True, exist_ok=True)
        self.data_dir = data_dir
        self.database = open_database(data_dir / "pondel.db")
        self.tables = tables_of(self.database)
        self.media = MediaFolder(data_dir)

    def sessions(self) -> list[SessionCard]:
        """All sessions, the one opened last first."""
        rows = self.tables.Session.select().order_by(self.tables.Session.opened.desc())
        return [
            SessionCard(row.id, row.name, row.opened, len(self.head(row.id).document.parts))
            for row in rows
        ]

    def create(self, document: Session, *, rate_known: bool = False) -> str:
        """Add a session; returns its id."""
        slug = re.sub(r"[^a-z0-9]+", "-", document.name.lower()).strip("-")[:40] or "session"
        check_cycles(document)
        with self.database.atomic("immediate"):
            session_id = slug
            while self.tables.Session.get_or_none(id=session_id):
                session_id = f"{slug}-{secrets.token_hex(2)}"
            self.tables.Session.insert(
                id=session_id, name=document.name, head=0, rate_known=int(rate_known)
            ).execute()
            self._set_head(session_id, None, "Created", document, None)
        return session_id

    def find(self, name: str) -> str:
        """The id of a session given its id or its name; NotFound when there is none."""
        row = self.tables.Session.get_or_none(id=name)
        if row is None:
            named = self.tables.Session.select().where(self.tables.Session.name == name)
            row = named.order_by(self.tables.Session.opened.desc()).first()
        if row is None:
            raise NotFound(f"there is no session called {name!r}")
        return row.id

    def touch(self, session_id: str) -> None:
        """Remember that a session was opened."""
        table = self.tables.Session
        table.update(opened=now()).where(table.id == session_id).execute()

    def remove(self, session_id: str) -> None:
        """Forget a session; its recordings stay for others that use them."""
        self.tables.Session.delete().where(self.tables.Session.id == session_id).execute()

    def head(self, session_id: str) -> Revision:
        """The session's present state; NotFound when there is no such session."""
        table, sessions = self.tables.Revision, self.tables.Session
        found = table.select().join(sessions, on=(sessions.head == table.id))
        row = found.where(sessions.id == session_id).first()
        if row is None:
            raise NotFound(f"there is no session {session_id!r}")
        return _revision(row)

    def revision(self, session_id: str, revision_id: int) -> Revision:
        """Any state a session has been in."""
        row = self.tables.Revision.get_or_none(id=revision_id, session=session_id)
        if row is None:
            raise NotFound(f"revision {revision_id} of this session is gone")
        return _revision(row)

    def edit(
        self, session_id: str, base: int | None, edit: Edit, *, gesture: str | None = None
    ) -> Revision:
        """Apply an edit and move the head; the new state is on disk when this returns.

        `base` is the revision the editor saw: StaleEdit when it is not the head any more, None
        to apply to whatever is. Edits with the same `gesture` as the head replace it, so that a
        drag is one step of undo.
        """
        label, change = edit
        with self.database.atomic("immediate"):
            head = self.head(session_id)
            if base is not None and base != head.id:
                raise StaleEdit(
                    "this session was changed in another window; "
                    "the newest state is shown now, and your last change was not applied"
                )
            document = parse_session(to_json(change(head.document)))
            check_cycles(document)
            replaced = bool(gesture) and head.gesture == gesture
            if document == head.document and not replaced:
                return head
            parent = head.parent if replaced else head.id
            revision = self._set_head(session_id, parent, label, document, gesture)
            if replaced:
                # Only now: a number that is free would be given to the new revision.
                self.tables.Revision.delete_by_id(head.id)
            return revision

    def _set_head(
        self,
        session_id: str,
        parent: int | None,
        label: str,
        document: Session,
        gesture: str | None,
    ) -> Revision:
        data = to_json(document)
        text = json.dumps(data, ensure_ascii=False)
        row = self.tables.Revision.create(
            session=session_id,
            parent=parent,
            label=label,
            gesture=gesture,
            document=text,
            hash=content_hash(data),
        )
        table = self.tables.Session
        table.update(head=row.id, name=document.name).where(table.id == session_id).execute()
        return Revision(row.id, session_id, label, document, row.created, parent, gesture)

    def undo(self, session_id: str) -> Revision:
        """Step back; NotFound at the beginning."""
        with self.database.atomic("immediate"):
            parent = self.head(session_id).parent
            if parent is None:
                raise NotFound("there is nothing to undo")
            return self._move_head(session_id, parent)

    def redo(self, session_id: str) -> Revision:
        """Step forward along the newest branch; NotFound at its end."""
        with self.database.atomic("immediate"):
            child = self._newest_child(self.head(session_id).id)
            if child is None:
                raise NotFound("there is nothing to redo")
            return self._move_head(session_id, child.id)

    def neighbours(self, revision: Revision) -> Neighbours:
        """The names of the edits that undo and redo would step over from a revision."""
        child = self._newest_child(revision.id)
        undo = revision.label if revision.parent is not None else None
        return Neighbours(undo, child.label if child else None)

    def history(self, session_id: str, most: int = 200) -> list[Revision]:
        """The states that led to the present one, newest first."""
        found: list[Revision] = []
        revision: int | None = self.head(session_id).id
        while revision is not None and len(found) < most:
            found.append(self.revision(session_id, revision))
            revision = found[-1].parent
        return found

    def go_to(self, session_id: str, revision_id: int) -> Revision:
        """Make any state of a session its head."""
        with self.database.atomic("immediate"):
            return self._move_head(session_id, revision_id)

    def _newest_child(self, revision_id: int) -> Any:
        table = self.tables.Revision
        return table.select().where(table.parent == revision_id).order_by(table.id.desc()).first()

    def _move_head(self, session_id: str, revision_id: int) -> Revision:
        revision = self.revision(session_id, revision_id)
        table = self.tables.Session
        table.update(head=revision_id, name=revision.document.name).where(
            table.id == session_id
        ).execute()
        return revision

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
                self._set_head(session_id, self.head(session_id).id, label, revised, None)
            return rate

    def measure(self, key: str) -> Any | None:
        """A stored measure, or None."""
        row = self.tables.Measure.get_or_none(key=key)
        return json.loads(row.body) if row else None

    def keep_measure(self, key: str, value: Any) -> None:
        """Store a measure under the hash of what it was measured from."""
        body = json.dumps(value)
        self.tables.Measure.insert(key=key, body=body, created=now()).on_conflict_replace().execute()

    def close(self) -> None:
        self.database.close()
