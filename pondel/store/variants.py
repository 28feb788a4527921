"""Variants: complete sets of settings of one session, A, B, C ..., each a head of its own.

variants = Variants(library)
variants.keep(session_id)            # B begins as a copy of A, and is open
variants.open(session_id, "A")       # A as it was left
"""

from __future__ import annotations

from dataclasses import dataclass

from pondel.core.document import Session
from pondel.core.errors import BadDocument, NotFound
from pondel.store.library import Library
from pondel.store.revisions import Revision

LETTERS = "ABCDEFGH"
KEPT = (
    "select session.variant, session.head, variant.name, variant.head from session "
    "left join variant on variant.session_id = session.id where session.id = ?"
)
"""In SQL, since it is asked with every change: which variant is open, and those beside it."""


@dataclass(frozen=True)
class Variant:
    """A named head; the open one moves with every edit."""

    name: str
    head: int
    is_open: bool


class Variants:
    """The variants of all sessions of a library."""

    def __init__(self, library: Library) -> None:
        self._library = library
        self._table = library.tables.Variant
        self._sessions = library.tables.Session

    def of(self, session_id: str) -> list[Variant]:
        """A session's variants in order of their letters; there is always A or another open one."""
        rows = self._library.database.execute_sql(KEPT, (session_id,)).fetchall()
        if not rows:
            raise NotFound(f"there is no session {session_id!r}")
        heads = {name: head for _, _, name, head in rows if name is not None}
        opened, head = rows[0][:2]
        heads[opened] = head
        return [Variant(name, heads[name], name == opened) for name in sorted(heads)]

    def keep(self, session_id: str, base: int | None = None) -> Revision:
        """Keep the open variant as it is and go on with a copy of it under the next letter.

        StaleEdit when `base`, the revision that was seen, is not the head any more.
        """
        with self._library.database.atomic("immediate"):
            self._library.based_on(session_id, base)
            known = self.of(session_id)
            free = [letter for letter in LETTERS if letter not in {v.name for v in known}]
            if not free:
                raise BadDocument("eight variants are as many as can be kept")
            now = next(variant for variant in known if variant.is_open)
            self._put(session_id, now)
            self._sessions.update(variant=free[0]).where(self._sessions.id == session_id).execute()
            return self._library.head(session_id)

    def room(self, session_id: str) -> int:
        """How many more can be kept."""
        return len(LETTERS) - len(self.of(session_id))

    def open(self, session_id: str, name: str) -> Revision:
        """Keep the open variant as it is, and open another where it was left."""
        with self._library.database.atomic("immediate"):
            known = {variant.name: variant for variant in self.of(session_id)}
            if name not in known:
                raise NotFound(f"there is no variant {name!r}")
            self._library.revision(session_id, known[name].head)
            self._put(session_id, next(v for v in known.values() if v.is_open))
            self._sessions.update(variant=name, head=known[name].head).where(
                self._sessions.id == session_id
            ).execute()
            return self._library.head(session_id)

    def put_back(self, session_id: str, open_name: str, others: dict[str, Session]) -> None:
        """Give a new session its variants: how the open one is called, and the others' documents."""
        with self._library.database.atomic("immediate"):
            for name, document in others.items():
                kept = self._library.beside(session_id, f"Variant {name}", document)
                self._put(session_id, Variant(name, kept, False))
            update = self._sessions.update(variant=open_name)
            update.where(self._sessions.id == session_id).execute()

    def remove(self, session_id: str, name: str) -> None:
        """Forget a variant that is not open; its revisions stay in the history."""
        known = {variant.name: variant for variant in self.of(session_id)}
        if name not in known:
            raise NotFound(f"there is no variant {name!r}")
        if known[name].is_open:
            raise BadDocument("open another variant first")
        table = self._table
        table.delete().where((table.session == session_id) & (table.name == name)).execute()

    def _put(self, session_id: str, variant: Variant) -> None:
        self._table.insert(
            session=session_id, name=variant.name, head=variant.head
        ).on_conflict_replace().execute()
